package httpd

import (
	"net/netip"
	"strings"
	"testing"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
	"yarnpost/service/observe"
)

// Messages read as people need them: relay information, vendor options by their
// codebook, names beside the codes asked for.
func TestDecoded(t *testing.T) {
	d := plan.New().Draft()
	typ, _ := option.ParseType("address list")
	for _, c := range []plan.Codebook{
		{Name: "ap", Place: plan.InVendor, Classes: []string{"accesspoint*"}, Options: []plan.Own{{Code: 241, Name: "controller",
			Type: typ}}},
		{Name: "acme", Place: plan.In125, Enterprise: 9, Options: []plan.Own{{Code: 1, Name: "hub", Type: typ}}},
	} {
		if _, err := d.PutCodebook(c); err != nil {
			t.Fatal(err)
		}
	}
	p, _ := d.Finish()
	zero := netip.IPv4Unspecified()
	m := &dhcp4.Message{Op: dhcp4.BootReply, HType: 1, XID: 0xabc, Flags: dhcp4.BroadcastFlag, Secs: 3, CIAddr: zero,
		YIAddr: netip.MustParseAddr("10.77.0.9"), SIAddr: netip.MustParseAddr("10.77.0.2"), GIAddr: zero,
		CHAddr: addr.Hardware("\x02\x00\x00\x00\x00\x01"), File: []byte("loom.bin")}
	for code, data := range map[uint8]string{53: "\x05", 55: "\x01\x96", 43: "\xf1\x04\x0a\x4d\x00\x1f",
		125: "\x00\x00\x00\x09\x06\x01\x04\x0a\x4d\x00\x20\x00\x00\x00\x08\x02\x01\x00",
		82:  "\x01\x04eth7\x05\x04\x0a\x4d\x00\x01\x13\x00\xc8\x01\xff"} {
		m.Options = append(m.Options, dhcp4.Option{Code: code, Data: []byte(data)})
	}
	b, _, err := dhcp4.Append(nil, m, 0)
	if err != nil {
		t.Fatal(err)
	}
	v := decoded(p, option.V4, b, "accesspoint 2")
	text := map[string]string{}
	for _, f := range v.Fields {
		text[f.Name] = f.Value
	}
	for _, o := range v.Options {
		text[o.Name] = o.Value
	}
	for name, want := range map[string]string{"transaction": "00000abc", "flags": "broadcast", "client gets (yiaddr)": "10.77.0.9",
		"next server (siaddr)": "10.77.0.2", "boot file": "loom.bin", "dhcp-msg-type": "ACK",
		"parameter-list": "1 subnet-mask, 150 tftp-server-address", "vendor-specific": "ap/controller=10.77.0.31",
		"v-i-vendor-specific-information": "acme/hub=10.77.0.32 enterprise 8 hex:0100",
		"relay-agent-information":         "circuit=eth7 link=10.77.0.1 source-port sub-option-200=ff"} {
		if text[name] != want {
			t.Errorf("%s reads %q, want %q", name, text[name], want)
		}
	}
	if v.Type != "ACK" || v.Size != len(b) || text["relay (giaddr)"] != "" {
		t.Errorf("the message reads %+v", v)
	}
	for _, o := range decoded(p, option.V4, b, "camera").Options {
		if o.Code == 43 && o.Value != "f1:04:0a:4d:00:1f" {
			t.Errorf("another vendor's 43 reads %q", o.Value)
		}
	}
	if v := decoded(p, option.V4, b[:100], ""); v.Type != "malformed" || !strings.Contains(v.Fields[0].Value,
		"shorter than the fixed fields") {
		t.Errorf("a cut message reads %+v", v)
	}
}

// Filters of exchanges: a host name with dashes is no hardware address, and one
// that is may be written in any way.
func TestExchangeFilter(t *testing.T) {
	m := &dhcp4.Message{Op: 1, HType: 1, CIAddr: netip.IPv4Unspecified(), YIAddr: netip.IPv4Unspecified(),
		SIAddr: netip.IPv4Unspecified(),
		GIAddr: netip.MustParseAddr("10.77.0.2"), CHAddr: "\x02\x4c\x00\x00\x00\x17",
		Options: dhcp4.Options{{Code: option.Hostname, Data: []byte("Card-Room")}}}
	b, _, err := dhcp4.Append(nil, m, 0)
	if err != nil {
		t.Fatal(err)
	}
	x := &observe.Exchange{Hardware: m.CHAddr, In: b, Relay: m.GIAddr, Fate: observe.Sent, Results: []observe.Result{
		{Key: lease.Host(netip.MustParseAddr("10.77.0.9")), Scope: "looms", Outcome: answer.Refused, Why: reason.PoolEmpty}}}
	for _, c := range []struct {
		q    exchangeQuery
		want bool
	}{
		{exchangeQuery{}, true}, {exchangeQuery{Client: "card-room"}, true}, {exchangeQuery{Client: "024c.0000.0017"}, true},
		{exchangeQuery{Client: "02-4C"}, true}, {exchangeQuery{Client: "spinner"}, false},
		{exchangeQuery{Address: "10.77.0.9"}, true}, {exchangeQuery{Address: "10.77.0.8"}, false},
		{exchangeQuery{Relay: "10.77.0.2", Scope: "LOOMS"}, true}, {exchangeQuery{Scope: "offices"}, false},
		{exchangeQuery{Outcome: "refused"}, true}, {exchangeQuery{Outcome: "pool-empty"}, true}, {exchangeQuery{Outcome: "sent"}, true},
		{exchangeQuery{Outcome: "offered"}, false},
	} {
		keep, err := c.q.keep(nil)
		if err != nil || keep(x) != c.want {
			t.Errorf("%+v keeps %v, %v", c.q, !c.want, err)
		}
	}
	for _, q := range []exchangeQuery{{Address: "gate"}, {Relay: "gate"}} {
		if _, err := q.keep(nil); err == nil {
			t.Errorf("%+v is taken", q)
		}
	}
}
