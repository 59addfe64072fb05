// Package demo is Fellgate Mill, a made-up woollen mill: its plan, and simulated
// clients behind simulated relays that speak real DHCPv4 to a real service over
// loopback.
package demo

import (
	"fmt"
	"net/netip"

	"yarnpost/api"
	"yarnpost/core/dhcp4"
	"yarnpost/service/trial"
)

// The mill's relays and clients are those of package trial.
type (
	Relay   = trial.Relay
	Client  = trial.Client
	Refusal = trial.Refusal
)

// NewRelay opens a relay; see package trial.
func NewRelay(at, link netip.Addr, server netip.AddrPort) (*Relay, error) {
	return trial.NewRelay(at, link, server)
}

// AddrOption is an option with one address.
func AddrOption(code uint8, a netip.Addr) dhcp4.Option { return trial.AddrOption(code, a) }

// place is one scope of the mill with the clients that live in it.
type place struct {
	scope   string
	subnet  string
	pools   []string
	exclude []api.Exclusion
	options map[string]string
	lease   string
	mode    string
	note    string
	clients int    // that come at the start
	name    string // host names, with %d
	vendor  string // vendor class
	prefix  byte   // third octet of their hardware addresses
	wants   []byte // parameter request list
	reserve int    // of the clients, how many have a reservation
	turn    bool   // they come and go
}

func ptr[T any](v T) *T { return &v }

// usual is what most clients ask for: mask, router, DNS, host and domain name,
// NTP, vendor options.
var usual = []byte{1, 3, 6, 12, 15, 28, 42, 43, 119, 121}

// places is Fellgate Mill.
func places() []place {
	const lower = "10.40."
	return []place{
		{scope: "offices", subnet: lower + "0.0/24", pools: []string{lower + "0.50-" + lower + "0.239"}, lease: "8h", mode: "serving", note: "Offices and the counting house",
			options: map[string]string{"router": lower + "0.1"}, exclude: []api.Exclusion{{Range: lower + "0.60-" + lower + "0.63", User: "plotters"}},
			clients: 118, name: "office-%03d", vendor: "desk-os 11", prefix: 0x10, wants: usual, reserve: 4},
		{scope: "stores", subnet: lower + "2.0/26", lease: "8h", mode: "serving", note: "Reserved clients only: the insurers want to know every device",
			options: map[string]string{"router": lower + "2.1"}, clients: 9, name: "stores-%02d", vendor: "scan-os 4", prefix: 0x12, wants: usual, reserve: 9},
		{scope: "looms", subnet: lower + "8.0/22", pools: []string{lower + "8.100-" + lower + "11.200"}, lease: "12h", mode: "serving", note: "Loom controllers; the firmware renews badly, so leases are long",
			options: map[string]string{"router": lower + "8.1", "tftp-server-address": lower + "0.21"}, exclude: []api.Exclusion{{Range: lower + "8.120-" + lower + "8.139", User: "old Jacquard controllers, fixed"}},
			clients: 412, name: "loom-%03d", vendor: "loomctl/2.7", prefix: 0x18, wants: []byte{1, 3, 6, 66, 67, 150}, reserve: 12},
		{scope: "dye-house", subnet: lower + "16.0/24", pools: []string{lower + "16.20-" + lower + "16.250"}, lease: "4m", mode: "serving", note: "Vat sensors: many, with short leases",
			options: map[string]string{"router": lower + "16.1"}, clients: 196, name: "vat-%03d", vendor: "sensor-1", prefix: 0x20, wants: []byte{1, 3, 6}},
		{scope: "scanners", subnet: lower + "20.0/23", pools: []string{lower + "20.20-" + lower + "21.250"}, lease: "2h", mode: "serving", note: "Hand-held scanners of the warehouse",
			options: map[string]string{"router": lower + "20.1"}, clients: 141, name: "scan-%03d", vendor: "scan-os 4", prefix: 0x24, wants: usual},
		{scope: "phones", subnet: lower + "32.0/24", pools: []string{lower + "32.20-" + lower + "32.250"}, lease: "1d", mode: "serving", note: "Desk phones; they load from option 150 or 66",
			options: map[string]string{"router": lower + "32.1", "tftp-server-address": lower + "0.21", "server-name": "phones.fellgate.example"},
			clients: 87, name: "phone-%03d", vendor: "deskphone", prefix: 0x32, wants: []byte{1, 3, 6, 42, 66, 150}},
		{scope: "access-points", subnet: lower + "33.0/26", pools: []string{lower + "33.10-" + lower + "33.41"}, lease: "1d", mode: "serving", note: "Wireless access points find their controller by 138",
			options: map[string]string{"router": lower + "33.1", "option-capwap-ac-v4": lower + "0.31"}, clients: 35, name: "ap-%02d", vendor: "accesspoint", prefix: 0x33, wants: []byte{1, 3, 6, 43, 138}},
		{scope: "cameras", subnet: lower + "36.0/25", pools: []string{lower + "36.20-" + lower + "36.120"}, lease: "1d", mode: "serving", note: "Yard and gate cameras",
			options: map[string]string{"router": lower + "36.1"}, clients: 44, name: "cam-%02d", vendor: "camera", prefix: 0x36, wants: usual},
		{scope: "carding-shed", subnet: lower + "48.0/24", pools: []string{lower + "48.20-" + lower + "48.200"}, lease: "8h", mode: "serving", note: "Retired; drains until everything has moved",
			options: map[string]string{"router": lower + "48.1"}, clients: 17, name: "card-%02d", vendor: "loomctl/1.9", prefix: 0x48, wants: []byte{1, 3, 6}},
		{scope: "finishing", subnet: lower + "52.0/24", pools: []string{lower + "52.20-" + lower + "52.220"}, lease: "8h", mode: "held", note: "New; goes live when the cabling is signed off",
			options: map[string]string{"router": lower + "52.1"}, clients: 3, name: "finish-%02d", vendor: "loomctl/2.7", prefix: 0x52, wants: []byte{1, 3, 6}},
		{scope: "visitors", subnet: lower + "64.0/20", pools: []string{lower + "64.10-" + lower + "79.250"}, lease: "10m", mode: "serving", note: "Visitors' wireless; nearly full on open days",
			options: map[string]string{"router": lower + "64.1", "ntp-servers": "none", "dhcp-captive-portal": "https://welcome.fellgate.example/api"},
			clients: 3690, name: "", vendor: "", prefix: 0x64, wants: []byte{1, 3, 6, 15, 26, 114}, turn: true},
	}
}

// step is one change that the mill's people made, in order.
type step struct {
	reason string
	edits  []api.Edit
}

// plan is how the mill's plan came about.
func plan(clients map[string][]*Client) []step {
	steps := []step{{"what holds everywhere", []api.Edit{{Op: "edit", Kind: "defaults", Defaults: &api.DefaultsEdit{Lease: ptr("8h"), Note: ptr("Fellgate Mill"),
		Options: map[string]string{"domain-server": "10.40.0.5,10.40.0.6", "domain-name": "fellgate.example", "ntp-servers": "10.40.0.42"}}}}}}
	for _, p := range places() {
		e := &api.ScopeEdit{Subnet: &p.subnet, Pools: &p.pools, AddExclusions: p.exclude, Options: p.options, Lease: &p.lease, Mode: &p.mode, Note: &p.note}
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
	return append(steps, step{"a printer that was never bought", []api.Edit{{Op: "add", Kind: "reservation", Name: "label-printer",
		Reservation: &api.ReservationEdit{Scope: ptr("offices"), Hardware: ptr("02:40:10:00:99:01"), Address: ptr("10.40.0.45")}}}})
}

// reservedAddress is the address of a place's reservation number i.
func reservedAddress(p place, i int) string {
	var a, b, c int
	fmt.Sscanf(p.subnet, "%d.%d.%d", &a, &b, &c)
	return fmt.Sprintf("%d.%d.%d.%d", a, b, c, 10+i)
}
