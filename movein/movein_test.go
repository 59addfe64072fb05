package movein

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp4"
	"yarnpost/core/dhcp6"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/edit"
	"yarnpost/planfile"
	"yarnpost/sheet"
)

// moved is the plan that a proposal makes, which has to be a plan file that fits.
func moved(t testing.TB, p *Proposal) *plan.Plan {
	t.Helper()
	f, faults := planfile.Read(p.File)
	if len(faults) > 0 {
		t.Fatalf("%v\n%s", faults, p.File)
	}
	d := plan.New().Draft()
	if faults := edit.Together(edit.Nowhere, d, f.Edits, false); len(faults) > 0 {
		t.Fatalf("%v\n%s", faults[0].Err, p.File)
	}
	out, _ := d.Finish()
	return out
}

func made(t *testing.T, o Options, sources ...Source) (*Proposal, *plan.Plan) {
	t.Helper()
	p, err := Propose(sources, o)
	if err != nil {
		t.Fatal(err)
	}
	return p, moved(t, p)
}

func has(t *testing.T, text string, parts ...string) {
	t.Helper()
	for _, part := range parts {
		if !strings.Contains(text, part) {
			t.Errorf("it does not say %q:\n%s", part, text)
		}
	}
}

func leftOut(p *Proposal) string {
	var out []string
	for _, l := range p.Left {
		out = append(out, l.String())
	}
	return strings.Join(out, "\n")
}

const (
	ethers = "# looms\n02:00:00:00:00:11 loom-11\n0200.0000.0012\tloom-12.mill.example # east\n02:00:00:00:00:13 10.40.8.13\n\n" +
		"nonsense here\n02:00:00:00:00:14\n02:00:00:00:00:15 loom-15\n"
	hosts = "127.0.0.1 localhost\n::1 localhost\n2001:db8::5 six\n10.40.8.11 loom-11\n10.40.8.12 loom-12 l12\n10.40.8.9 plotter\n" +
		"10.41.0.7 far\nten.forty here\n10.40.8.30\n"
	table = "Device;IP Address;MAC of port;Remark\nloom-11;10.40.8.99;02-00-00-00-00-11;east wall\ncrane;10.40.9.5;020000000021;=1+1\n" +
		";;;\nbad;10.40.9.6;02:00;\n"
)

// Files that name hosts become reservations, where a hardware address and an address are known, and
// exclusions where only an address is; whatever cannot be moved in is named with its line.
func TestFilesOfHosts(t *testing.T) {
	p, became := made(t, Options{Scopes: map[string]netip.Prefix{"looms": netip.MustParsePrefix("10.40.8.0/22")},
		Columns: map[string]string{"hardware": "mac of port"}},
		Source{Name: "/etc/ethers", Data: []byte(ethers)}, Source{Name: "/etc/hosts", Data: []byte(hosts)},
		Source{Name: "devices.csv", Data: []byte(table)})
	for name, want := range map[string]string{"loom-11": "10.40.8.11", "loom-12": "10.40.8.12", "host-020000000013": "10.40.8.13",
		"crane": "10.40.9.5"} {
		if r := became.ReservationNamed(name); r == nil || r.Address.String() != want {
			t.Errorf("%s has %v", name, r)
		}
	}
	if r := became.ReservationNamed("crane"); r.Note != "=1+1" || r.Hardware.String() != "02:00:00:00:00:21" {
		t.Errorf("%+v", r)
	}
	v := became.ScopeNamed("looms")
	if v == nil || len(v.Exclusions) != 1 || v.Exclusions[0].User != "plotter" || v.Mode != plan.Held || len(v.Pools) != 0 {
		t.Errorf("%+v", v)
	}
	if v := became.ScopeNamed("net-10.41.0.0"); v == nil || v.Subnet.Bits() != 24 || len(v.Exclusions) != 1 {
		t.Errorf("%+v", v)
	}
	has(t, string(p.File), "# /etc/ethers, line 2; devices.csv, line 2; /etc/hosts, line 4", "# guessed: a /24 around 10.41.0.7")
	has(t, leftOut(p), "/etc/ethers, line 6: \"nonsense\" is no hardware address", "line 7: 02:00:00:00:00:14 has no host name",
		"no address is known for 02:00:00:00:00:15 (loom-15)", "line 8: \"ten.forty\" is no address",
		"line 9: 10.40.8.30 has no host name",
		"/etc/hosts, line 4: loom-11 has 10.40.8.11 here, and 10.40.8.99 in devices.csv, line 2; what was said first is proposed",
		"devices.csv, line 4: it has neither",
		"line 5: \"02:00\" is no hardware address")
	if p.Reservations != 4 || p.Exclusions != 3 || p.Scopes != 3 {
		t.Errorf("%d scopes, %d reservations, %d exclusions", p.Scopes, p.Reservations, p.Exclusions)
	}
}

// What cannot be read at all is said, and so is what cannot be put together.
func TestOddSources(t *testing.T) {
	for name, c := range map[string]struct {
		source Source
		says   string
	}{
		"a table of something else": {Source{Name: "x.csv", Data: []byte("colour,size\nred,5\n")}, "no column is known"},
		"no text":                   {Source{Name: "ethers", Data: []byte{0xff, 0xfe, 0x00}}, "no text in UTF-8"},
		"nothing":                   {Source{Name: "x", Data: nil}, ""},
		"two for one address": {Source{Name: "ethers", Data: []byte("02:00:00:00:00:11 10.40.8.1\n02:00:00:00:00:12 10.40.8.1\n")},
			"10.40.8.1 is reserved for another client already"},
		"an address that nobody can have": {Source{Name: "ethers", Data: []byte("02:00:00:00:00:11 10.40.8.0\n")}, "10.40.8.0"},
	} {
		p, err := Propose([]Source{c.source}, Options{})
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		moved(t, p)
		has(t, leftOut(p), c.says)
	}
	if _, err := Propose([]Source{{Name: "x", Kind: "tea"}}, Options{}); err == nil {
		t.Error("tea is a kind of source")
	}
	if _, err := Propose([]Source{{Name: "x", Kind: Capture, Data: []byte("no capture")}}, Options{}); err == nil {
		t.Error("a text is a capture")
	}
}

// film is a capture that is being written.
type film struct {
	t   testing.TB
	b   bytes.Buffer
	to  *pcapgo.Writer
	now time.Time
}

func newFilm(t testing.TB) *film {
	f := &film{t: t, now: time.Date(2026, 12, 1, 3, 10, 0, 0, time.UTC)}
	f.to = pcapgo.NewWriter(&f.b)
	if err := f.to.WriteFileHeader(65536, layers.LinkTypeEthernet); err != nil {
		t.Fatal(err)
	}
	return f
}

// packet captures a message of DHCPv4 between two addresses.
func (f *film) packet(m *dhcp4.Message, src, dst string) {
	f.t.Helper()
	payload, _, err := dhcp4.Append(nil, m, 1400)
	if err != nil {
		f.t.Fatal(err)
	}
	ip := &layers.IPv4{Version: 4, TTL: 64, Protocol: layers.IPProtocolUDP, SrcIP: netip.MustParseAddr(src).AsSlice(),
		DstIP: netip.MustParseAddr(dst).AsSlice()}
	f.frame(layers.EthernetTypeIPv4, ip, ip, &layers.UDP{SrcPort: 67, DstPort: 67}, payload)
}

// packet6 captures a message of DHCPv6 between two addresses.
func (f *film) packet6(m *dhcp6.Message, src, dst string) {
	f.t.Helper()
	payload, _, err := m.AppendTo(nil, 1400)
	if err != nil {
		f.t.Fatal(err)
	}
	ip := &layers.IPv6{Version: 6, HopLimit: 64, NextHeader: layers.IPProtocolUDP, SrcIP: netip.MustParseAddr(src).AsSlice(),
		DstIP: netip.MustParseAddr(dst).AsSlice()}
	f.frame(layers.EthernetTypeIPv6, ip, ip, &layers.UDP{SrcPort: 547, DstPort: 547}, payload)
}

func (f *film) frame(kind layers.EthernetType, ip gopacket.SerializableLayer, of gopacket.NetworkLayer, udp *layers.UDP, payload []byte) {
	f.t.Helper()
	eth := &layers.Ethernet{SrcMAC: make([]byte, 6), DstMAC: make([]byte, 6), EthernetType: kind}
	if err := udp.SetNetworkLayerForChecksum(of); err != nil {
		f.t.Fatal(err)
	}
	buf := gopacket.NewSerializeBuffer()
	if err := gopacket.SerializeLayers(buf, gopacket.SerializeOptions{FixLengths: true, ComputeChecksums: true}, eth, ip, udp,
		gopacket.Payload(payload)); err != nil {
		f.t.Fatal(err)
	}
	frame := buf.Bytes()
	if err := f.to.WritePacket(gopacket.CaptureInfo{Timestamp: f.now, CaptureLength: len(frame), Length: len(frame)}, frame); err != nil {
		f.t.Fatal(err)
	}
}

// given captures that a client behind a relay asked and was given an address, twice over as it passes
// the relay.
func (f *film) given(n int, relay, a string, lease uint32, vendor, file string) {
	f.t.Helper()
	zero := netip.IPv4Unspecified()
	hw := addr.Hardware([]byte{2, 0, 0, 0, 0, byte(n)})
	ask := &dhcp4.Message{Op: dhcp4.BootRequest, HType: 1, XID: uint32(f.now.Unix()), CIAddr: zero, YIAddr: zero, SIAddr: zero,
		GIAddr: netip.MustParseAddr(relay), CHAddr: hw, Type: dhcp4.Request, Options: dhcp4.Options{{Code: 53, Data: []byte{3}}}}
	if vendor != "" {
		ask.Options = append(ask.Options, dhcp4.Option{Code: 60, Data: []byte(vendor)})
	}
	gives := &dhcp4.Message{Op: dhcp4.BootReply, HType: 1, XID: ask.XID, CIAddr: zero, YIAddr: netip.MustParseAddr(a), SIAddr: zero,
		GIAddr: ask.GIAddr, CHAddr: hw, Type: dhcp4.Ack, File: []byte(file),
		Options: dhcp4.Options{{Code: 53, Data: []byte{5}}, {Code: 54, Data: []byte{10, 40, 0, 5}}, {Code: 1, Data: []byte{255, 255,
			252, 0}},
			{Code: 51, Data: binary.BigEndian.AppendUint32(nil, lease)}, {Code: 3, Data: ask.GIAddr.AsSlice()},
			{Code: 6, Data: []byte{10, 40, 0, 5, 10, 40, 0, 6}},
			{Code: 58, Data: binary.BigEndian.AppendUint32(nil, lease/2)},
			{Code: 59, Data: binary.BigEndian.AppendUint32(nil, uint32(uint64(lease)*7/8))}}}
	for range 2 {
		f.packet(ask, relay, "10.40.0.5")
	}
	for range 2 {
		f.packet(gives, "10.40.0.5", relay)
	}
	f.now = f.now.Add(time.Minute)
}

// A capture becomes links, scopes, pools, options, lease times, rules for boot clients, and reservations
// for those whose address never ends.
func TestCapture(t *testing.T) {
	f := newFilm(t)
	for n := range 20 {
		f.given(10+n, "10.40.8.1", netip.AddrFrom4([4]byte{10, 40, 9, byte(10 + n)}).String(), 28800, "loomctl-2", "loom.bin")
	}
	f.given(10, "10.40.8.1", "10.40.9.10", 28800, "loomctl-2", "loom.bin")
	f.given(60, "10.40.8.1", "10.40.8.60", 0xffffffff, "", "")
	for n := range 5 {
		f.given(100+n, "10.40.16.1", netip.AddrFrom4([4]byte{10, 40, 17, byte(n)}).String(), 3600, "deskphone", "")
	}
	whole := f.b.Bytes()
	p, became := made(t, Options{Scopes: map[string]netip.Prefix{"looms": netip.MustParsePrefix("10.40.8.0/22")}},
		Source{Name: "day.pcap", Data: whole}, Source{Name: "ethers",
			Data: []byte("02:00:00:00:00:0a loom-a\n02:00:00:00:00:f0 10.40.8.200\n")})
	looms, other := became.ScopeNamed("looms"), became.ScopeNamed("net-10.40.16.0")
	if looms == nil || other == nil || len(became.Scopes()) != 2 {
		t.Fatalf("%s", p.File)
	}
	has(t, string(p.File), "# 22 answers to 21 clients were seen, 2026-12-01, 03:10 to 03:31, from 10.40.0.5", "relays: 10.40.8.1",
		"# 2 networks of IPv4 were given these alike", "domain-server: 10.40.0.5,10.40.0.6", "header/boot-file: loom.bin",
		"# 20 clients of these vendor classes", "# seen 1 times, 2026-12-01, 03:31 to 03:31; its lease never ends",
		"# ethers, line 1; seen 2 times with 10.40.9.10, 2026-12-01, 03:10 to 03:30",
		"# ethers, line 2; no client of the capture claimed it")
	for _, own := range []string{"renewal-time", "rebinding-time", "subnet-mask"} { // which every server works out by itself
		if strings.Contains(string(p.File), own) {
			t.Errorf("%s is proposed:\n%s", own, p.File)
		}
	}
	held, faults := sheet.ReadLeases(p.Leases, time.Now(), time.UTC)
	if len(faults) > 0 || len(held) != 26 || held[25].Key.Addr().String() != "10.40.17.4" || held[25].Expires.IsZero() {
		t.Errorf("%d leases, %v:\n%s", len(held), faults, p.Leases)
	}
	if i := slices.IndexFunc(held, func(l sheet.Lease) bool { return l.Endless }); i < 0 || held[i].Key.Addr().String() != "10.40.8.60" {
		t.Errorf("which never ends is %d:\n%s", i, p.Leases)
	}
	if looms.Lease != 8*time.Hour || other.Lease != time.Hour || len(looms.Pools) != 1 ||
		looms.Pools[0].String() != "10.40.9.11-10.40.9.29" {
		t.Errorf("%v %v %v", looms.Lease, other.Lease, looms.Pools)
	}
	if became.ReservationNamed("loom-a").Address.String() != "10.40.9.10" || became.ReservationNamed("host-02000000003c") == nil ||
		p.Reservations != 3 {
		t.Errorf("%s", p.File)
	}
	if r := became.RuleNamed("boot-1"); r == nil || r.When != `vendor == "loomctl-2"` {
		t.Errorf("%+v", r)
	}
	// One that ends within a packet is read as far as it goes.
	p, _ = made(t, Options{Everybody: true}, Source{Name: "day.pcap", Data: whole[:len(whole)/2]})
	has(t, leftOut(p), "it ends within a packet")
	if p.Reservations < 5 {
		t.Errorf("%d reservations", p.Reservations)
	}
}

// six captures that a client of IPv6 asked and was given something, behind a relay or on the link.
type six struct {
	n         int
	relay     string // "": on the link
	leases    []string
	valid     uint32
	vendor    string
	boot, dns string
	iaid      uint32
}

func (f *film) six(c six) {
	f.t.Helper()
	duid := []byte(addr.NewDUID(addr.Hardware([]byte{2, 0, 0, 0, 0, byte(c.n)}), f.now))
	duid = append([]byte{0, 3, 0, 1}, duid[8:]...)
	ask := &dhcp6.Message{Type: dhcp6.Request, Transaction: uint32(f.now.Unix()) & 0xffffff,
		Options: dhcp6.Options{{Code: option.ClientID6, Data: duid}, {Code: option.FQDN6,
			Data: dhcp6.FQDN(fmt.Sprintf("carder-%d.mill.example", c.n))}}}
	if c.vendor != "" {
		ask.Options = append(ask.Options, dhcp6.Option{Code: option.VendorClass6, Data: dhcp6.VendorClass(c.vendor)})
	}
	gives := &dhcp6.Message{Type: dhcp6.Reply, Transaction: ask.Transaction, Options: dhcp6.Options{{Code: option.ClientID6, Data: duid},
		{Code: option.ServerID6, Data: []byte{0, 3, 0, 1, 2, 0, 0, 0, 0, 1}},
		{Code: option.DNSServers6, Data: netip.MustParseAddr(cmp.Or(c.dns, "2001:db8:40::53")).AsSlice()}}}
	if c.boot != "" {
		gives.Options = append(gives.Options, dhcp6.Option{Code: bootFileURL, Data: []byte(c.boot)})
	}
	for _, text := range c.leases {
		key, _ := addr.ParseKey(text)
		ia := dhcp6.IA{Code: option.IANA, ID: c.iaid}
		if kindOf(key) == delegated {
			ia.Code = option.IAPD
		}
		ia.Leases = []dhcp6.Lease{{Prefix: key, Preferred: c.valid / 2, Valid: c.valid}}
		if c.valid == forever {
			ia.Leases[0].Preferred = forever
		}
		gives.IAs = append(gives.IAs, ia)
	}
	const client, server = "fe80::2", "2001:db8:40::5"
	if c.relay == "" {
		f.packet6(ask, client, "ff02::1:2")
		f.packet6(gives, server, client)
	} else {
		hop := []dhcp6.Relay{{Link: netip.MustParseAddr(c.relay), Peer: netip.MustParseAddr(client)}}
		relayed, back := *ask, *gives
		relayed.Relays, back.Relays = hop, hop
		f.packet6(ask, client, "ff02::1:2")
		f.packet6(&relayed, c.relay, server)
		f.packet6(&back, server, c.relay)
		f.packet6(gives, "fe80::1", client)
	}
	f.now = f.now.Add(time.Minute)
}

// A capture of both families becomes scopes of both: those whose clients are the same are on one link,
// with a prefix pool around what was delegated, and with what a machine holds in both families under one
// name.
func TestCaptureOfBothFamilies(t *testing.T) {
	f := newFilm(t)
	for n := range 8 {
		f.given(10+n, "10.40.8.1", netip.AddrFrom4([4]byte{10, 40, 8, byte(10 + n)}).String(), 28800, "", "")
		f.six(six{n: 10 + n, relay: "2001:db8:40:8::1", leases: []string{fmt.Sprintf("2001:db8:40:8:%x::%x", 0x1000*n+7, n+1)},
			valid: 43200})
	}
	for n := range 4 {
		f.six(six{n: 40 + n, relay: "2001:db8:40:9::1", valid: 7200, iaid: 5, vendor: "loomctl-6", boot: "tftp://[2001:db8:40::6]/loom",
			leases: []string{fmt.Sprintf("2001:db8:40:9::%x", n+0x100), fmt.Sprintf("2001:db8:40:8%x00::/56", n)}})
	}
	f.six(six{n: 41, relay: "2001:db8:40:9::1", valid: 7200, iaid: 6, boot: "tftp://[2001:db8:40::6]/loom",
		leases: []string{"2001:db8:40:9::777"}})
	f.six(six{n: 60, valid: 7200, leases: []string{"2001:db8:40:f00::/56"}}) // of no link
	f.six(six{n: 40, valid: forever, iaid: 9, dns: "2001:db8:40::54", boot: "tftp://[2001:db8:40::6]/loom",
		leases: []string{"2001:db8:40:9::900"}}) // for good, on the link
	p, became := made(t, Options{Scopes: map[string]netip.Prefix{"looms": netip.MustParsePrefix("10.40.8.0/22"),
		"workshops": netip.MustParsePrefix("2001:db8:40:9::/64")}},
		Source{Name: "day.pcap", Data: f.b.Bytes()}, Source{Name: "ethers", Data: []byte("02:00:00:00:00:0a loom-a\n")},
		Source{Name: "/etc/hosts", Data: []byte("2001:db8:40:9::5 plotter\n2001:db8:40:8::a loom-a.mill.example\nfe80::1 me\n")},
		Source{Name: "more.csv", Data: []byte("Name;Client DUID;IAID;IPv6 address;Delegated prefix\n" +
			"show-room;00-04-00-00-00-00-00-00-00-00-00-00-00-00-00-00-00-99;7;2001:db8:40:9::99;2001:db8:40:8f00::/56\nodd;00;;;\nnone;;3;;\n")})
	text := string(p.File)
	looms, six, shops := became.ScopeNamed("looms"), became.ScopeNamed("net-2001-db8-40-8"), became.ScopeNamed("workshops")
	if looms == nil || six == nil || shops == nil || len(became.Scopes()) != 3 {
		t.Fatalf("%s", text)
	}
	if looms.Link != six.Link || shops.Link == six.Link || six.Lease != 6*time.Hour || six.Valid != 12*time.Hour ||
		six.Pools[0] != addr.OfPrefix(six.Subnet) || shops.Pools[0].String() != "2001:db8:40:9::100-2001:db8:40:9::777" {
		t.Errorf("%s", text)
	}
	if len(shops.PrefixPools) != 1 || shops.PrefixPools[0].String() != "2001:db8:40:8000::/52 in /56" {
		t.Errorf("%v\n%s", shops.PrefixPools, text)
	}
	has(t, text, "on the link of looms: 8 of its 8 clients are seen there as well", "relays: [10.40.8.1, '2001:db8:40:8::1']",
		"# 6 answers to 4 clients",
		"# 2 networks of IPv6 were given these alike", "v6/dns-servers: 2001:db8:40::53",
		"option v6/dns-servers: 5 of 6 answers had this value", "v6/bootfile-url: tftp://[2001:db8:40::6]/loom",
		"2001:db8:40:8000::/52 holds prefixes of /56 that are delegated",
		"the 8 addresses that were given are spread over the subnet",
		"a /64 is the usual one", "seen 1 times with 2001:db8:40:8:7::1")
	for name, want := range map[string]string{"loom-a": "10.40.8.10/32", "loom-a-v6": "2001:db8:40:8::a/128",
		"show-room-v6":  "2001:db8:40:9::99/128",
		"show-room-net": "2001:db8:40:8f00::/56", "carder-40-v6": "2001:db8:40:9::900/128"} {
		if r := became.ReservationNamed(name); r == nil || r.Key().String() != want {
			t.Errorf("%s has %v\n%s", name, r, text)
		}
	}
	if r := became.ReservationNamed("carder-40-v6"); r != nil && r.IAID != addr.IAIDOf(9) {
		t.Errorf("which of its addresses lasts for good is %v", r)
	}
	if len(shops.Exclusions) != 1 || shops.Exclusions[0].User != "plotter" {
		t.Errorf("%v", shops.Exclusions)
	}
	has(t, leftOut(p), "1 times a prefix was delegated, and no message says on which link",
		"fe80::1 is an address that a host gives itself",
		"line 3: \"00\" is no DUID", "line 4: it has neither")
	held, faults := sheet.ReadLeases(p.Leases, time.Now(), time.UTC)
	i := slices.IndexFunc(held, func(l sheet.Lease) bool { return l.Key.String() == "2001:db8:40:8300::/56" })
	if len(faults) > 0 || len(held) != 8+8+4+4+1+1 || i < 0 || held[i].IAID != addr.IAIDOf(5) || held[i].Hostname != "carder-43" {
		t.Errorf("%d leases, %v, %v:\n%s", len(held), i, faults, p.Leases)
	}
}

// Links whose prefixes come out of one block are given pools that do not overlap; where they are mixed
// too finely, or one holds another, that is said, and the rest is proposed.
func TestPrefixesOfSeveralLinks(t *testing.T) {
	f := newFilm(t)
	give := func(n, link int, prefix string) {
		f.six(six{n: n, relay: fmt.Sprintf("2001:db8:40:%d::1", link), valid: 7200,
			leases: []string{fmt.Sprintf("2001:db8:40:%d::%x", link, n), prefix}})
	}
	for n, link := range []int{1, 1, 2, 1, 2, 2} {
		give(n+1, link, fmt.Sprintf("2001:db8:8000:%d00::/56", n))
	}
	give(20, 3, "2001:db8:9000::/56")
	give(21, 4, "2001:db8:9000:80::/60")
	for n := range 80 {
		give(40+n, 5+n%2, fmt.Sprintf("2001:db8:a000:%x00::/56", n))
	}
	p, became := made(t, Options{Everybody: true}, Source{Name: "day.pcap", Data: f.b.Bytes()})
	for name, want := range map[string]string{"net-2001-db8-40-1": "[2001:db8:8000::/55 in /56 2001:db8:8000:300::/56 in /56]",
		"net-2001-db8-40-2": "[2001:db8:8000:200::/56 in /56 2001:db8:8000:400::/55 in /56]", "net-2001-db8-40-3": "[2001:db8:9000::/56 in /56]",
		"net-2001-db8-40-4": "[]", "net-2001-db8-40-5": "[]", "net-2001-db8-40-6": "[]"} {
		v := became.ScopeNamed(name)
		if v == nil {
			t.Fatalf("there is no %s:\n%s", name, p.File)
		}
		if got := fmt.Sprint(v.PrefixPools); got != want {
			t.Errorf("%s has %s, not %s", name, got, want)
		}
	}
	has(t, leftOut(p), "2001:db8:9000:80::/60 lies in 2001:db8:9000::/56", "in 40 places")
}

// Whatever files say, what comes of them is a plan file that fits, or an error.
func FuzzPropose(f *testing.F) {
	film := newFilm(f)
	film.given(10, "10.40.8.1", "10.40.9.10", 28800, "loomctl-2", "loom.bin")
	film.six(six{n: 10, relay: "2001:db8:40:9::1", valid: 7200, leases: []string{"2001:db8:40:9::1", "2001:db8:40:8000::/56"}})
	f.Add(film.b.Bytes(), Capture)
	f.Add([]byte(ethers), Ethers)
	f.Add([]byte(hosts), Hosts)
	f.Add([]byte(table), CSV)
	f.Fuzz(func(t *testing.T, data []byte, kind string) {
		begun := time.Now()
		defer func() {
			if d := time.Since(begun); d > 10*time.Second {
				t.Errorf("%d octets took %s", len(data), d)
			}
		}()
		if p, err := Propose([]Source{{Name: "x", Kind: kind, Data: data}}, Options{Everybody: true}); err == nil {
			moved(t, p)
		}
	})
}
