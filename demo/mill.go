// Package demo is Fellgate Mill, a made-up woollen mill: its plan, and simulated
// clients behind simulated relays that speak real DHCPv4 to a real service over
// loopback.
package demo

import (
	"fmt"
	"net/netip"
	"time"

	"yarnpost/api"
	"yarnpost/core/dhcp4"
	"yarnpost/service/trial"
)

// The mill's relays and clients are those of package trial.
type (
	Relay   = trial.Relay
	Client  = trial.Client
	Client6 = trial.Client6
	Refusal = trial.Refusal
)

// NewRelay opens a relay; see package trial.
func NewRelay(at, link netip.Addr, servers ...netip.AddrPort) (*Relay, error) {
	return trial.NewRelay(at, link, servers...)
}

// AddrOption is an option with one address.
func AddrOption(code uint8, a netip.Addr) dhcp4.Option { return trial.AddrOption(code, a) }

// place is one scope of the mill with the clients that live in it.
type place struct {
	scope    string
	subnet   string
	pools    []string
	exclude  []api.Exclusion
	options  map[string]string
	lease    string
	inherits bool // that lease time, from its supernet
	mode     string
	note     string
	clients  int    // that come at the start
	name     string // host names, with %d
	vendor   string // vendor class
	prefix   byte   // third octet of their hardware addresses
	wants    []byte // parameter request list
	reserve  int    // of the clients, how many have a reservation
	turn     bool   // they come and go
	nudge    bool   // they can be nudged (RFC 6704)
}

func ptr[T any](v T) *T { return &v }

// usual is what most clients ask for: mask, router, DNS, host and domain name,
// NTP, vendor options.
var usual = []byte{1, 3, 6, 12, 15, 28, 42, 43, 119, 121}

// places is Fellgate Mill.
func places() []place {
	const lower = "10.40."
	return []place{
		{scope: "offices", subnet: lower + "0.0/24", pools: []string{lower + "0.50-" + lower + "0.239"}, lease: "8h", mode: "serving",
			note:    "Offices and the counting house",
			options: map[string]string{"router": lower + "0.1"},
			exclude: []api.Exclusion{{Range: lower + "0.60-" + lower + "0.63", User: "plotters"},
				{Range: lower + "0.200-" + lower + "0.205"}},
			clients: 118, name: "office-%03d", vendor: "desk-os 11", prefix: 0x10, wants: usual, reserve: 4},
		{scope: "stores", subnet: lower + "2.0/26", lease: "8h", mode: "serving",
			note:    "Reserved clients only: the insurers want to know every device",
			options: map[string]string{"router": lower + "2.1"}, clients: 9, name: "stores-%02d", vendor: "scan-os 4", prefix: 0x12,
			wants:   usual,
			reserve: 9},
		{scope: "looms", subnet: lower + "8.0/22", pools: []string{lower + "8.100-" + lower + "11.200"}, lease: "12h", mode: "serving",
			note:    "Loom controllers; the firmware renews badly, so leases are long",
			options: map[string]string{"router": lower + "8.1", "tftp-server-address": lower + "0.21"},
			exclude: []api.Exclusion{{Range: lower + "8.120-" + lower + "8.139", User: "old Jacquard controllers, fixed"}},
			clients: 412, name: "loom-%03d", vendor: "loomctl/2.7", prefix: 0x18, wants: []byte{1, 3, 6, 66, 67, 150, 224}, reserve: 12},
		{scope: "dye-house", subnet: lower + "16.0/24", pools: []string{lower + "16.20-" + lower + "16.250"}, lease: "4m", mode: "serving",
			note:    "Vat sensors: many, with short leases",
			options: map[string]string{"router": lower + "16.1"}, clients: 196, name: "vat-%03d", vendor: "sensor-1", prefix: 0x20,
			wants: []byte{1, 3, 6}},
		{scope: "scanners", subnet: lower + "20.0/23", pools: []string{lower + "20.20-" + lower + "21.250"}, lease: "2h", mode: "serving",
			note:    "Hand-held scanners of the warehouse",
			exclude: []api.Exclusion{{Range: lower + "20.5-" + lower + "20.9", User: "label printers, long gone"}},
			options: map[string]string{"router": lower + "20.1"}, clients: 141, name: "scan-%03d", vendor: "scan-os 4", prefix: 0x24,
			wants: usual},
		{scope: "phones", subnet: lower + "32.0/24", pools: []string{lower + "32.20-" + lower + "32.250"}, lease: "1d", inherits: true,
			mode: "serving",
			note: "Desk phones; they load from option 150 or 66",
			options: map[string]string{"router": lower + "32.1", "tftp-server-address": lower + "0.21",
				"server-name": "phones.fellgate.example"},
			clients: 87, name: "phone-%03d", vendor: "deskphone 7", prefix: 0x32, nudge: true, wants: []byte{1, 3, 6, 42, 66, 150}},
		{scope: "access-points", subnet: lower + "33.0/26", pools: []string{lower + "33.10-" + lower + "33.41"}, lease: "1d",
			inherits: true, mode: "serving",
			note: "Wireless access points find their controller by 138, old ones by 43",
			options: map[string]string{"router": lower + "33.1", "option-capwap-ac-v4": lower + "0.31",
				"accesspoint/controller": lower + "0.31"},
			clients: 35, name: "ap-%02d", vendor: "accesspoint 2", prefix: 0x33, wants: []byte{1, 3, 6, 43, 138}},
		{scope: "cameras", subnet: lower + "36.0/25", pools: []string{lower + "36.20-" + lower + "36.120"}, lease: "1d", inherits: true,
			mode:    "serving",
			note:    "Yard and gate cameras",
			options: map[string]string{"router": lower + "36.1"}, clients: 44, name: "cam-%02d", vendor: "camera", prefix: 0x36,
			wants: usual},
		{scope: "carding-shed", subnet: lower + "48.0/24", pools: []string{lower + "48.20-" + lower + "48.200"}, lease: "8h",
			mode:    "serving",
			note:    "Retired; drains until everything has moved",
			options: map[string]string{"router": lower + "48.1"}, clients: 17, name: "card-%02d", vendor: "loomctl/1.9", prefix: 0x48,
			wants: []byte{1, 3, 6}},
		{scope: "finishing", subnet: lower + "52.0/24", pools: []string{lower + "52.20-" + lower + "52.220"}, lease: "8h", mode: "held",
			note:    "New; goes live when the cabling is signed off",
			options: map[string]string{"router": lower + "52.1"}, clients: 3, name: "finish-%02d", vendor: "loomctl/2.7", prefix: 0x52,
			wants: []byte{1, 3, 6}},
		{scope: "visitors", subnet: lower + "64.0/20", pools: []string{lower + "64.10-" + lower + "79.199",
			lower + "79.200-" + lower + "79.250"},
			lease: "10m", inherits: true, mode: "serving", note: "Visitors' wireless; nearly full on open days",
			options: map[string]string{"router": lower + "64.1",
				"dhcp-captive-portal": "https://welcome.fellgate.example/api"},
			clients: 3640, name: "", vendor: "", prefix: 0x64, wants: []byte{1, 3, 6, 15, 26, 114}, turn: true},
		{scope: "gatehouse", subnet: lower + "56.0/24", pools: []string{lower + "56.50-" + lower + "56.200"}, lease: "4h", mode: "serving",
			note:    "Still served by the old server, 10.40.56.2; Yarn Post listens beside it",
			options: map[string]string{"router": lower + "56.1"},
			exclude: []api.Exclusion{{Range: lower + "56.120-" + lower + "56.129", User: "barriers"}},
			clients: 14, name: "gate-%02d", vendor: "desk-os 11", prefix: 0x56, wants: usual},
	}
}

// ofPlace are the fields of their own that the mill's people filled in.
var ofPlace = map[string]map[string]string{
	"offices": {"hall": "Counting house", "owner": "counting house"}, "looms": {"hall": "Hall 3", "owner": "weaving"},
	"dye-house": {"hall": "Dye house", "owner": "dyeing"}, "scanners": {"hall": "Warehouse", "owner": "weaving"},
	"cameras": {"hall": "Yard", "owner": "estates"}, "gatehouse": {"hall": "Gate", "owner": "estates"},
	"finishing": {"hall": "Hall 5", "owner": "weaving", "ticket": "https://tickets.fellgate.example/402"},
}

// step is one change that the mill's people made, in order.
type step struct {
	reason string
	edits  []api.Edit
}

// plan4 is how the mill's plan came about.
func plan4(clients map[string][]*Client) []step {
	steps := []step{{"what holds everywhere",
		[]api.Edit{{Op: "edit", Kind: "defaults", Defaults: &api.DefaultsEdit{Lease: ptr("8h"), Note: ptr("Fellgate Mill"),
			Options: map[string]string{"domain-server": "10.40.0.5,10.40.0.6", "domain-name": "fellgate.example",
				"ntp-servers": "10.40.0.42"}}}}},
		{"what lies where", []api.Edit{
			{Op: "add", Kind: "supernet", Name: "mill", Supernet: &api.SupernetEdit{Prefix: ptr("10.40.0.0/16"),
				Note: ptr("All of Fellgate Mill")}},
			{Op: "add", Kind: "supernet", Name: "works", Supernet: &api.SupernetEdit{Prefix: ptr("10.40.0.0/18"), WarnUsed: ptr(85),
				Note: ptr("Offices, stores and workshops")}},
			{Op: "add", Kind: "supernet", Name: "devices", Supernet: &api.SupernetEdit{Prefix: ptr("10.40.32.0/21"), Lease: ptr("1d"),
				Note: ptr("What hangs on walls and stands on desks")}},
			{Op: "add", Kind: "supernet", Name: "public", Supernet: &api.SupernetEdit{Prefix: ptr("10.40.64.0/18"), Lease: ptr("10m"),
				Options: map[string]string{"ntp-servers": "none"}, Note: ptr("Whoever comes from outside")}}}},
		{"where things are, and whose", []api.Edit{
			{Op: "add", Kind: "field", Name: "hall", Field: &api.FieldEdit{Note: ptr("where the cabinet stands"), On: &[]string{"scope", "link"}}},
			{Op: "add", Kind: "field", Name: "owner", Field: &api.FieldEdit{Type: ptr("choice"),
				Choices: &[]string{"counting house", "weaving", "dyeing", "estates"}, On: &[]string{"scope", "reservation"}}},
			{Op: "add", Kind: "field", Name: "ticket", Field: &api.FieldEdit{Type: ptr("link")}}}},
		{"the old access points ask in their own way",
			[]api.Edit{{Op: "add", Kind: "codebook", Name: "accesspoint",
				Codebook: &api.CodebookEdit{Place: ptr("43"), Classes: &[]string{"accesspoint*"},
					Put: []api.OwnOption{{Code: 241, Name: "controller", Type: "address list", Meaning: "wireless controllers, best first"},
						{Code: 242, Name: "site", Type: "text", Meaning: "name of the site"}}}},
				{Op: "add", Kind: "codebook", Name: "mill", Codebook: &api.CodebookEdit{Place: ptr("message"), Note: ptr("Our own"),
					Put: []api.OwnOption{{Code: 224, Name: "shift-plan", Type: "text",
						Meaning: "where loom controllers load the shift plan from"}}}}}}}
	for _, p := range places() {
		e := &api.ScopeEdit{Fields: ofPlace[p.scope], Subnet: &p.subnet, Pools: &p.pools, AddExclusions: p.exclude, Options: p.options,
			Lease: &p.lease,
			Mode:  &p.mode,
			Note:  &p.note, NewPerMinute: ptr(-1)}
		if p.inherits {
			e.Lease = nil
		}
		steps = append(steps, step{p.note, []api.Edit{{Op: "add", Kind: "scope", Name: p.scope, Scope: e}}})
	}
	for _, p := range places() {
		var edits []api.Edit
		for i := range p.reserve {
			c := clients[p.scope][i]
			edits = append(edits, api.Edit{Op: "add", Kind: "reservation", Name: c.Hostname, Reservation: &api.ReservationEdit{
				Scope: ptr(p.scope), Hardware: ptr(c.Hardware.String()), Address: ptr(reservedAddress(p, i)), Hostname: ptr(c.Hostname)}})
		}
		if edits != nil {
			steps = append(steps, step{"fixed addresses of " + p.scope, edits})
		}
	}
	rule := func(name, scope, when, note string, set func(*api.RuleEdit)) api.Edit {
		r := &api.RuleEdit{When: &when, Note: &note}
		if scope != "" {
			r.Scope = &scope
		}
		set(r)
		return api.Edit{Op: "add", Kind: "rule", Name: name, Rule: r}
	}
	return append(steps,
		step{"devices that are not a person's and not a circuit's", []api.Edit{
			{Op: "add", Kind: "reservation", Name: "label-printer",
				Reservation: &api.ReservationEdit{Scope: ptr("offices"), Hardware: ptr("02:40:10:00:99:01"), Address: ptr("10.40.0.45"),
					Fields: map[string]string{"owner": "counting house", "ticket": "https://tickets.fellgate.example/318"},
					Note:   ptr("never bought")}},
			{Op: "add", Kind: "reservation", Name: "weighbridge",
				Reservation: &api.ReservationEdit{Scope: ptr("cameras"), Circuit: ptr("sw9/0/12"), Address: ptr("10.40.36.10"),
					Note: ptr("whatever is plugged in at the weighbridge")}},
			{Op: "add", Kind: "reservation", Name: "dobby-1",
				Reservation: &api.ReservationEdit{Scope: ptr("looms"), Hardware: ptr("02:40:18:00:bb:01"), Address: ptr("10.40.8.60"),
					Note:    ptr("BOOTP, from before most of us"),
					Options: map[string]string{"header/next-server": "10.40.0.21", "header/boot-file": "dobby.bin"}}},
			{Op: "edit", Kind: "link", Name: "gatehouse", Link: &api.LinkEdit{Listening: ptr(true)}}}},
		step{"the loom workshop", []api.Edit{
			{Op: "add", Kind: "scope", Name: "loom-lab", Scope: &api.ScopeEdit{Subnet: ptr("10.40.12.0/26"),
				Pools: &[]string{"10.40.12.10-10.40.12.60"},
				Link:  ptr("looms"), Mode: ptr("serving"), Note: ptr("A second scope on the looms' link"),
				Options: map[string]string{"router": "10.40.12.1", "domain-server": "10.40.0.5"}}},
			{Op: "add", Kind: "reservation", Name: "dobby-1-lab", Reservation: &api.ReservationEdit{Scope: ptr("loom-lab"),
				Hardware: ptr("02:40:18:00:bb:01"), Address: ptr("10.40.12.5"), Hostname: ptr("dobby")}},
			{Op: "add", Kind: "reservation", Name: "dobby-2", Reservation: &api.ReservationEdit{Scope: ptr("looms"),
				Hardware: ptr("02:40:18:00:bb:02"),
				Address:  ptr("10.40.8.61"), Hostname: ptr("dobby"), Note: ptr("copied from its brother")}},
			{Op: "add", Kind: "list", Name: "museum-loan", List: &api.ListEdit{Put: []string{"02:40:18:00:cc:01"},
				Note: ptr("nobody knows any more")}}}},
		step{"who gets what else, and who gets nothing", []api.Edit{
			{Op: "add", Kind: "list", Name: "lent-out",
				List: &api.ListEdit{Put: []string{"02:40:10:00:00:07", "02:40:10:00:00:08", "02:40:10:00:00:09"},
					Note: ptr("laptops that we lend")}},
			rule("toys", "", `hw.startsWith("02:4c:00:")`, "the toy robots of the open day",
				func(r *api.RuleEdit) { r.Action = ptr("ignore") }),
			rule("lent-laptops", "offices", `hw in lists["lent-out"]`, "back on the shelf soon",
				func(r *api.RuleEdit) { r.Lease = ptr("30m") }),
			rule("boot-64-bit", "looms", `options[?93].orValue("") == "7"`, "network boot, x86-64 with UEFI", func(r *api.RuleEdit) {
				r.Options = map[string]string{"header/next-server": "10.40.0.21", "header/boot-file": "loom-x64.efi"}
			}),
			rule("boot-arm", "looms", `options[?93].orValue("") == "11"`, "network boot, 64-bit ARM with UEFI", func(r *api.RuleEdit) {
				r.Options = map[string]string{"header/next-server": "10.40.0.21", "header/boot-file": "loom-arm.efi"}
			}),
			rule("shift-plan", "looms", `vendor.startsWith("loomctl/2")`, "old firmware chokes on it", func(r *api.RuleEdit) {
				r.Options = map[string]string{"shift-plan": "http://plan.fellgate.example/looms"}
			}),
			rule("exhibitors", "visitors", `"exhibitor" in userClass`, "stands in the show room",
				func(r *api.RuleEdit) { r.Pool, r.Lease = ptr("10.40.79.200-10.40.79.250"), ptr("8h") }),
			rule("old-readers", "scanners", `vendor == "scan-os 2"`, "none is left, we think",
				func(r *api.RuleEdit) { r.Action = ptr("refuse") }),
			rule("reader-leases", "scanners", `vendor == "scan-os 2"`, "from before they were refused",
				func(r *api.RuleEdit) { r.Lease = ptr("1h") })}},
		step{"proof that they are served", []api.Edit{
			{Op: "add", Kind: "trial", Name: "looms-served",
				Trial: &api.TrialEdit{Scope: ptr("looms"), Vendor: ptr("loomctl/2.7"), Every: ptr("5m")}},
			{Op: "add", Kind: "trial", Name: "phones-served",
				Trial: &api.TrialEdit{Scope: ptr("phones"), Vendor: ptr("deskphone 7"), Every: ptr("10m")}},
			{Op: "add", Kind: "trial", Name: "finishing-served",
				Trial: &api.TrialEdit{Scope: ptr("finishing"), Every: ptr("10m"), Note: ptr("fails until the scope serves")}}}})
}

// silentRelay falls silent after a while; it carries a link beside the link's own.
var silentRelay = netip.MustParseAddr("127.40.17.1")

const silentOn = "dye-house"

// relayOf is the relay of the place with that index.
func relayOf(i int) netip.Addr { return netip.AddrFrom4([4]byte{127, 40, byte(i + 1), 1}) }

// settled is what is changed once everybody is in.
func (m *mill) settled() []step {
	var limits []api.Edit
	var named []api.Edit
	for i, p := range places() {
		relays := []string{relayOf(i).String()}
		if p.scope == silentOn {
			relays = append(relays, silentRelay.String())
		}
		if m.DHCP6 != nil {
			for _, six := range places6() {
				if six.link == p.scope {
					relays = append(relays, relay6Of(six).String())
				}
			}
		}
		named = append(named, api.Edit{Op: "edit", Kind: "link", Name: p.scope, Link: &api.LinkEdit{Relays: &relays}})
		limits = append(limits, api.Edit{Op: "edit", Kind: "scope", Name: p.scope, Scope: &api.ScopeEdit{NewPerMinute: ptr(0)}})
	}
	until := time.Now().Add(9 * 24 * time.Hour).Truncate(time.Hour)
	moved := []api.Edit{
		{Op: "add", Kind: "scope", Name: "carding-floor", Scope: &api.ScopeEdit{Subnet: ptr("10.40.49.0/27"), Link: ptr(shed),
			Pools: &[]string{"10.40.49.5-10.40.49.30"}, Options: map[string]string{"router": "10.40.49.1"}, Mode: ptr("serving"),
			Note: ptr("What was in the carding shed")}},
		{Op: "edit", Kind: "scope", Name: shed, Scope: &api.ScopeEdit{Mode: ptr("draining"), DrainUntil: &until}}}
	if m.DHCP6 != nil {
		moved = append(moved, moved6(until)...)
	}
	return []step{{"everybody is in: the usual limits for newcomers", limits},
		{"the relays that were heard are ours", named},
		{"phones load from the new server",
			[]api.Edit{{Op: "edit", Kind: "scope", Name: "phones",
				Scope: &api.ScopeEdit{Options: map[string]string{"tftp-server-address": "10.40.0.22"}}}}},
		{"the shed is sold in spring: its machines move to numbers of the works", moved}}
}

// The shed is renumbered: its machines move as they renew, the first of them soon, one after
// the other.
const (
	shed     = "carding-shed"
	shed6    = "carding-shed6"
	moveSoon = 9
	moveEach = 15 * time.Second
)

// reservedAddress is the address of a place's reservation number i.
func reservedAddress(p place, i int) string {
	var a, b, c int
	fmt.Sscanf(p.subnet, "%d.%d.%d", &a, &b, &c)
	return fmt.Sprintf("%d.%d.%d.%d", a, b, c, 10+i)
}
