package httpd

import (
	"net/netip"
	"strings"
	"testing"

	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/core/request"
	"yarnpost/planfile"
	"yarnpost/service/observe"
)

type hearing struct {
	fakeEngine
	list []observe.Agreement
}

func (h hearing) Agreements() []observe.Agreement { return h.list }

// What listening learned becomes a plan file: reservations for what the pools would not give, scopes
// for what no scope has, and nothing for those that keep what they have as it is.
func TestHeardProposal(t *testing.T) {
	d := plan.New().Draft()
	pool, _ := addr.ParseRange("10.77.0.100-10.77.0.119")
	s := plan.Scope{Name: "looms", Subnet: netip.MustParsePrefix("10.77.0.0/24"), Mode: plan.Serving, Pools: []addr.Range{pool}}
	if err := d.PlaceScope(&s, "", nil); err != nil {
		t.Fatal(err)
	}
	id, err := d.PutScope(s)
	if err != nil {
		t.Fatal(err)
	}
	r := plan.Reservation{Name: "loom-9", Scope: id, Hardware: "\x02\x00\x00\x00\x00\x09", Address: netip.MustParseAddr("10.77.0.9")}
	if _, err := d.PutReservation(r); err != nil {
		t.Fatal(err)
	}
	p, _ := d.Finish()
	link := p.Links()[0].Name
	heard := func(n byte, text, name string, agrees bool, why ...string) observe.Agreement {
		took, err := addr.ParseKey(text)
		if err != nil {
			t.Fatal(err)
		}
		of := lease.Client{}
		if took.Addr().Is6() {
			of = lease.Client{Kind: lease.Addresses, Number: uint32(n), ID: "\x00\x03\x00\x01\x02\x00\x00\x00\x00\x07"}
		}
		return observe.Agreement{Client: of, Hardware: addr.Hardware([]byte{2, 0, 0, 0, 0, n}), Hostname: name, Link: link, Took: took,
			Server: request.Server{Address: netip.MustParseAddr("10.77.0.2")}, Agrees: agrees, Difference: why,
			At: lease.Time(1_790_000_000), Count: 3}
	}
	server := &Server{Parts: Parts{Engine: hearing{fakeEngine{plan: p}, []observe.Agreement{
		heard(1, "10.77.0.100", "loom-1", true),
		heard(2, "10.77.0.101", "loom-2", false, "option router is 10.77.0.1 here"),
		heard(3, "10.77.0.130", "loom-3", false, "10.77.0.130 is excluded, or outside the pools"),
		heard(4, "10.88.0.7", "loom-3", false, "10.88.0.7 is in no scope"),
		heard(5, "10.77.0.9", "", false, "reserved for another"),
		heard(6, "10.77.0.131", "", false, "outside the pools"),
		heard(7, "2001:db8:40:9::7", "loom-7", false, "2001:db8:40:9::7 is in no scope"),
		heard(7, "2001:db8:40:8100::/56", "loom-7", false, "in no scope"),
	}}}}
	b, err := server.heardProposal()
	if err != nil {
		t.Fatal(err)
	}
	text := string(b)
	for _, part := range []string{"covers: part", "loom-3:", "address: 10.77.0.130", "net-10.88.0.0:", "subnet: 10.88.0.0/24",
		"loom-3-020000000004:",
		"client-020000000006:", "net-2001-db8-40-9:", "subnet: 2001:db8:40:9::/64", "loom-7-v6:", "iaid: '7'",
		"holds 2001:db8:40:8100::/56, which no prefix pool has", "seen 3 times", "from 10.77.0.2; 10.77.0.130 is excluded",
		"Left out: 02:00:00:00:00:05 holds 10.77.0.9, which is reserved as loom-9"} {
		if !strings.Contains(text, part) {
			t.Errorf("without %q:\n%s", part, text)
		}
	}
	for _, part := range []string{"loom-1", "loom-2", "looms:"} {
		if strings.Contains(text, part) {
			t.Errorf("with %q:\n%s", part, text)
		}
	}
	if f, faults := planfile.Read(b); len(faults) > 0 || len(f.Edits) != 6 {
		t.Errorf("read back: %v, %d edits", faults, len(f.Edits))
	}
	server.Engine = hearing{fakeEngine{plan: p}, nil}
	if b, err := server.heardProposal(); err != nil || strings.Contains(string(b), "scopes:") {
		t.Errorf("of nothing: %v\n%s", err, b)
	}
}
