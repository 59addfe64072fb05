package dhcp4

import (
	"fmt"
	"net/netip"
	"slices"
	"testing"
	"time"

	"yarnpost/core/option"
	"yarnpost/core/request"
)

// What a message is for, and which address it is about (RFC 2131 section 4.3.2, RFC 5010).
func TestKinds(t *testing.T) {
	zero, at, other := netip.IPv4Unspecified(), netip.MustParseAddr("10.77.0.9"), netip.MustParseAddr("10.77.0.8")
	asked := Option{option.AddressRequest, at.AsSlice()}
	chose := Option{option.ServerID, netip.MustParseAddr("10.77.0.1").AsSlice()}
	straight := Option{option.RelayAgent, []byte{SubFlags, 1, 0x80}}
	for _, c := range []struct {
		what    string
		m       Message
		unicast bool
		kind    request.Kind
		about   string
	}{
		{"BOOTP", Message{Type: None}, false, request.Boot, ""},
		{"discovering", Message{Type: Discover, Options: Options{asked}}, false, request.Solicit, "10.77.0.9"},
		{"selecting", Message{Type: Request, Options: Options{asked, chose}}, false, request.Select, "10.77.0.9"},
		{"selecting by ciaddr", Message{Type: Request, CIAddr: other, Options: Options{chose}}, false, request.Select, "10.77.0.8"},
		{"init-reboot", Message{Type: Request, Options: Options{asked}}, false, request.Confirm, "10.77.0.9"},
		{"for nothing", Message{Type: Request}, false, request.Confirm, ""},
		{"renewing", Message{Type: Request, CIAddr: other}, true, request.Renew, "10.77.0.8"},
		{"rebinding", Message{Type: Request, CIAddr: other}, false, request.Rebind, "10.77.0.8"},
		{"rebinding through a relay", Message{Type: Request, CIAddr: other, GIAddr: at}, true, request.Rebind, "10.77.0.8"},
		{"renewing through a relay that says so", Message{Type: Request, CIAddr: other, GIAddr: at, Options: Options{straight}}, false,
			request.Renew, "10.77.0.8"},
		{"a client that says a relay's words", Message{Type: Request, CIAddr: other, Options: Options{straight}}, false, request.Rebind,
			"10.77.0.8"},
		{"declining", Message{Type: Decline, CIAddr: other, Options: Options{asked}}, false, request.Decline, "10.77.0.9"},
		{"releasing", Message{Type: Release, CIAddr: other}, true, request.Release, "10.77.0.8"},
		{"informing", Message{Type: Inform, CIAddr: other}, true, request.Inform, "10.77.0.8"},
		{"offering", Message{Type: Offer}, false, request.Other, ""},
	} {
		m := c.m
		for _, a := range []*netip.Addr{&m.CIAddr, &m.YIAddr, &m.SIAddr, &m.GIAddr} {
			if !a.IsValid() {
				*a = zero
			}
		}
		if b, ok := m.Options.Get(option.RelayAgent); ok {
			m.Agent = ParseRelay(b)
		}
		r := m.Request(request.Path{Unicast: c.unicast})
		first := r.First()
		about := ""
		if a := first.Hint().Addr(); a.IsValid() {
			about = a.String()
		}
		if r.Kind != c.kind || about != c.about {
			t.Errorf("%s: %s of %q, want %s of %q", c.what, r.Kind, about, c.kind, c.about)
		}
	}
}

// A draft becomes the message that a client would send, which reads as the draft says: also
// once it was on the wire.
func TestCompose(t *testing.T) {
	d := request.Draft{Kind: request.Select, Hardware: "\x02\x00\x00\x00\x00\x07", Identifier: []byte{0, 7},
		Address: netip.MustParseAddr("10.77.0.9"),
		Server:  netip.MustParseAddr("10.77.0.1"), Hostname: "loom", Vendor: "loomctl/2", Class: "staff", Asks: []uint16{1, 3, 150},
		Options: request.Options{{Code: 12, Data: []byte("said first")}}, Recorded: request.Options{{Code: 60, Data: []byte("old")},
			{Code: 93, Data: []byte{0, 7}}},
		Agent: request.Agent{Relay: netip.MustParseAddr("10.77.0.2"), Link: netip.MustParseAddr("10.77.0.0"), Circuit: []byte("sw1/7"),
			Remote: []byte("far"), Subscriber: []byte("who")}}
	b, _, err := Append(nil, Compose(d), 0)
	if err != nil {
		t.Fatal(err)
	}
	var m Message
	if err := Decode(&m, b); err != nil {
		t.Fatal(err)
	}
	r := m.Request(request.Path{Interface: "eth1"})
	first := r.First()
	got := fmt.Sprint(r.Kind, " ", first.Hint().Addr(), " ", r.Hardware, " ", r.Identifier, " ", r.Relay, " ", r.Link, " ",
		string(r.Circuit), " ",
		string(r.Remote), " ", string(r.Subscriber), " ", m.Name(), " ", m.Hostname(), " ", m.Vendor(), " ", m.ClassList(m.Classes()),
		" ", m.Wants())
	want := "select 10.77.0.9 02:00:00:00:00:07 [0 7] 10.77.0.2 10.77.0.0 sw1/7 far who REQUEST said first loomctl/2 [staff] [1 3 150]"
	if got != want {
		t.Errorf("reads as %s\nwant     %s", got, want)
	}
	if data, ok := m.Option(93); !ok || len(data) != 2 {
		t.Error("what is on record is not added")
	}
	if _, ok := m.Option(300); ok {
		t.Error("an option that no message can have is there")
	}
	if server, _ := netip.AddrFromSlice(r.Chosen); server != d.Server || r.HeardAt() != "10.77.0.2" {
		t.Errorf("chose %s, heard at %s", server, r.HeardAt())
	}
	again := m.Anew(request.Path{})
	if first := again.First(); again.Kind != request.Solicit || first.Hint().IsValid() || again.Message.Name() != "DISCOVER" ||
		m.Type != Request {
		t.Errorf("anew it is %s of %v", again.Kind, first.Hints)
	}
	m.Secs = 9
	m.Options = append(m.Options, Option{option.AddressTime, []byte{0, 0, 0, 0}})
	if r := m.Request(request.Path{}); r.Tried != 9*time.Second || r.First().Time != time.Second {
		t.Errorf("asks since %s, for %s", r.Tried, r.First().Time)
	}
}

// User classes are counted, or plain text as many clients send it (RFC 3004).
func TestClassList(t *testing.T) {
	for octets, want := range map[string][]string{"": {}, "\x05staff\x02it": {"staff", "it"}, "staff": {"staff"}, "\x00": {"00"},
		"\x09short": {"09:73:68:6f:72:74"}} {
		if got := (&Message{}).ClassList([]byte(octets)); !slices.Equal(got, want) {
			t.Errorf("%q: %v, want %v", octets, got, want)
		}
	}
}
