package audit

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
)

// mill is a plan of two scopes, with a reservation in the first, and leases to look at.
type mill struct {
	t      *testing.T
	plan   *plan.Plan
	leases []*lease.Lease
	more   More
}

func newMill(t *testing.T) *mill {
	t.Helper()
	d := plan.New().Draft()
	for _, n := range []string{"77", "78"} {
		s := plan.Scope{Name: "floor-" + n, Subnet: netip.MustParsePrefix("10." + n + ".0.0/24"), Mode: plan.Serving,
			Pools: []addr.Range{one("10." + n + ".0.100-10." + n + ".0.199")}}
		if err := d.PlaceScope(&s, "", nil); err != nil {
			t.Fatal(err)
		}
		s.Exclusions = []plan.Exclusion{{Range: one("10." + n + ".0.150"), User: "printer"}}
		id, err := d.PutScope(s)
		if err != nil {
			t.Fatal(err)
		}
		if n == "77" {
			of := plan.Reservation{Name: "press", Scope: id, Hardware: hardware(1), Address: netip.MustParseAddr("10.77.0.9")}
			if _, err := d.PutReservation(of); err != nil {
				t.Fatal(err)
			}
		}
	}
	m := &mill{t: t}
	m.plan, _ = d.Finish()
	m.more.At = func(k netip.Prefix) *lease.Lease {
		a := k.Addr()
		if i := slices.IndexFunc(m.leases, func(l *lease.Lease) bool { return l.Address() == a }); i >= 0 {
			return m.leases[i]
		}
		return nil
	}
	m.give("10.77.0.9", 1, func(l *lease.Lease) { l.Reserved = true })
	return m
}

func hardware(n int) addr.Hardware {
	return addr.Hardware([]byte{2, 0x40, 0, 0, byte(n >> 8), byte(n)})
}

// give leases an address to a client.
func (m *mill) give(a string, client int, change ...func(*lease.Lease)) {
	hw := hardware(client)
	l := &lease.Lease{Prefix: lease.Host(netip.MustParseAddr(a)), Status: lease.Active, Client: lease.ByHardware(1, hw), Hardware: hw,
		Since: now - 3600, Changed: now - 3600, Heard: now - 60, Expires: now + 3600}
	for _, c := range change {
		c(l)
	}
	m.leases = append(m.leases, l)
}

// look gives what is found, the leases scope by scope as the table has them.
func (m *mill) look() ([]Finding, *Leases) {
	m.t.Helper()
	slices.SortStableFunc(m.leases, func(a, b *lease.Lease) int { return a.Address().Compare(b.Address()) })
	s := NewLeases(m.plan, now)
	for _, l := range m.leases {
		s.Add(l)
	}
	list := s.Findings(m.more)
	severitiesSaid(m.t, list)
	return list, s
}

func over(l *lease.Lease) { l.Status, l.Expires = lease.Expired, now-1 }

// oddities are planted in a lease table, one at a time.
var oddities = []struct {
	name  string
	plant func(*mill)
	want  string // codes
	text  string // some of what is said
	do    string // the command
}{
	{"nothing", func(*mill) {}, "", "", ""},
	{"a lease outside", func(m *mill) { m.give("10.99.0.5", 2) }, "lease-outside", "1 lease lies outside", ""},
	{"two leases outside", func(m *mill) { m.give("10.99.0.5", 2); m.give("10.0.0.5", 3) }, "lease-outside", "2 leases lie", ""},
	{"one outside that is over", func(m *mill) { m.give("10.99.0.5", 2, over) }, "", "", ""},
	{"a reserved client elsewhere", func(m *mill) { m.leases = nil; m.give("10.77.0.120", 1) }, "reserved-elsewhere",
		"is reserved 10.77.0.9 and holds 10.77.0.120 until", "yarnpost lease end 10.77.0.120"},
	{"one elsewhere whose lease is over", func(m *mill) { m.give("10.77.0.120", 1, over) }, "", "", ""},
	{"the same in a scope that reserves nothing for it", func(m *mill) { m.give("10.78.0.120", 1) }, "", "", ""},
	{"four addresses of one", func(m *mill) {
		for n := range 4 {
			m.give(fmt.Sprint("10.77.0.", 120+n), 7, func(l *lease.Lease) { l.Client = lease.ByIdentifier([]byte{9, byte(n)}) })
		}
	}, "", "", ""},
	{"five addresses of one", func(m *mill) {
		for n := range 5 {
			m.give(fmt.Sprint("10.77.0.", 120+n), 7, func(l *lease.Lease) { l.Client = lease.ByIdentifier([]byte{9, byte(n)}) })
		}
	}, "many-addresses", "02:40:00:00:00:07 holds 5 addresses", "yarnpost lease list 02:40:00:00:00:07"},
	{"as many over two scopes", func(m *mill) {
		for n := range 6 {
			m.give(fmt.Sprintf("10.%d.0.%d", 77+n%2, 120+n), 7)
		}
	}, "", "", ""},
	{"an address that answered a probe", func(m *mill) {
		m.give("10.77.0.120", 8, func(l *lease.Lease) { l.Status, l.Client = lease.Abandoned, lease.Client{} })
	}, "abandoned", "02:40:00:00:00:08 answered a probe there", "yarnpost sweep run --kind abandoned --address 10.77.0.120"},
	{"one that answered nobody knows how", func(m *mill) {
		m.give("10.77.0.120", 8, func(l *lease.Lease) { l.Status, l.Client, l.Hardware = lease.Abandoned, lease.Client{}, "" })
	}, "abandoned", "somebody answered a probe", "yarnpost sweep run --kind abandoned --address 10.77.0.120"},
	{"a declined address", func(m *mill) { m.give("10.77.0.120", 8, func(l *lease.Lease) { l.Status = lease.Abandoned }) }, "abandoned",
		"02:40:00:00:00:08 declined it", "yarnpost sweep run --kind abandoned --address 10.77.0.120"},
	{"a host name of two", func(m *mill) {
		for n := range 2 {
			m.give(fmt.Sprint("10.77.0.", 120+n), 20+n, func(l *lease.Lease) { l.Hostname = "loom" })
		}
	}, "hostname-twice", "1 host name is said by 2 clients of scope floor-77: loom (2)", ""},
	{"a host name in two scopes", func(m *mill) {
		m.give("10.77.0.120", 20, func(l *lease.Lease) { l.Hostname = "loom" })
		m.give("10.78.0.120", 21, func(l *lease.Lease) { l.Hostname = "loom" })
	}, "", "", ""},
	{"a group's hardware address", func(m *mill) {
		m.give("10.77.0.120", 2, func(l *lease.Lease) { l.Hardware = "\x03\x00\x00\x00\x00\x01" })
	},
		"hardware-odd", "is no address that a maker gives", ""},
	{"nothing but zeros", func(m *mill) {
		m.give("10.77.0.120", 2, func(l *lease.Lease) { l.Hardware = "\x00\x00\x00\x00\x00\x00" })
	},
		"hardware-odd", "00:00:00:00:00:00", ""},
	{"a plain sequence", func(m *mill) {
		m.give("10.77.0.120", 2, func(l *lease.Lease) { l.Hardware = "\x00\x11\x22\x33\x44\x55" })
	},
		"hardware-odd", "00:11:22:33:44:55", ""},
	{"a hardware address of eight", func(m *mill) {
		m.give("10.77.0.120", 2, func(l *lease.Lease) { l.Hardware = "\x00\x01\x02\x03\x04\x05\x06\x07" })
	}, "",
		"", ""},
	{"clients with old options", func(m *mill) { m.more.Stale = map[plan.ID]int{m.plan.ScopeNamed("floor-78").ID: 3} }, "options-old",
		"3 clients of scope floor-78 have options older than revision 1", "yarnpost lease stale --scope floor-78"},
	{"two hosts of one identifier", func(m *mill) {
		m.more.Twins = []Twin{{netip.MustParseAddr("10.77.0.120"), hardware(4), hardware(5), "floor-77"}}
	}, "identifier-twice", "02:40:00:00:00:04 and 02:40:00:00:00:05", "yarnpost scope edit floor-77 --identity hardware"},
	{"a reservation that nobody came for", func(m *mill) { m.leases = nil }, "reservation-unclaimed", "was never seen",
		"yarnpost reservation remove press"},
	{"one that another holds", func(m *mill) { m.leases = nil; m.give("10.77.0.9", 30) }, "reservation-contested",
		"02:40:00:00:00:1e holds it until",
		""},
	{"one that another holds for good", func(m *mill) {
		m.leases = nil
		m.give("10.77.0.9", 30, func(l *lease.Lease) { l.Expires = lease.Never })
	}, "reservation-contested", "holds it for good", ""},
	{"one not used for months", func(m *mill) {
		m.leases = nil
		m.give("10.77.0.9", 1, func(l *lease.Lease) {
			l.Reserved, l.Status, l.Heard, l.Expires = true, lease.Expired, now-90*24*3600, now-89*24*3600
		})
	}, "reservation-unseen", "was not used since", "yarnpost reservation remove press"},
}

// Each oddity of a lease table is found, with its evidence and a command, and nothing
// else with it.
func TestLeases(t *testing.T) {
	for _, c := range oddities {
		m := newMill(t)
		c.plant(m)
		list, _ := m.look()
		if got := codesOf(list); got != c.want {
			t.Errorf("%s: found %q, want %q: %+v", c.name, got, c.want, list)
			continue
		}
		for _, f := range list {
			if !strings.Contains(f.Text, c.text) || f.Command != c.do || f.Mend == "" {
				t.Errorf("%s: %q, mended by %q with %q", c.name, f.Text, f.Mend, f.Command)
			}
		}
	}
}

// A neighbour table is set beside the leases: who has an address nobody gave, or that
// was given to another. The network's own hosts and what is excluded are left alone.
func TestNeighbours(t *testing.T) {
	for _, c := range []struct{ address, hw, want string }{
		{"10.77.0.9", "02:40:00:00:00:01", ""},
		{"10.77.0.9", "02:40:00:00:00:02", "neighbour-other"},
		{"10.77.0.30", "02:40:00:00:00:02", "neighbour-unknown"},
		{"10.77.0.121", "02:40:00:00:00:0b", "neighbour-unknown"}, // its lease is over
		{"10.77.0.122", "02:40:00:00:00:0c", ""},                  // abandoned, and known as that
		{"10.77.0.150", "02:40:00:00:00:02", ""},                  // excluded
		{"10.77.0.2", "02:40:00:00:00:02", ""},                    // this host's
		{"10.99.0.2", "02:40:00:00:00:02", ""},                    // in no scope
		{"10.77.0.30", "00:00:00:00:00:00", ""},                   // nobody answered
		{"10.77.0.30", "ff:ff:ff:ff:ff:ff", ""},                   // everybody
		{"10.77.0.31", "", ""},                                    // nobody answered
	} {
		m := newMill(t)
		m.give("10.77.0.121", 11, func(l *lease.Lease) { l.Status, l.Expires = lease.Expired, now-60 })
		m.give("10.77.0.122", 12, func(l *lease.Lease) { l.Status = lease.Abandoned })
		var hw addr.Hardware
		if c.hw != "" {
			var err error
			if hw, err = addr.ParseHardware(c.hw); err != nil {
				t.Fatal(err)
			}
		}
		m.more.Own = func(a netip.Addr) bool { return a.String() == "10.77.0.2" }
		m.more.Neighbours = []Neighbour{{netip.MustParseAddr(c.address), hw, "interface eth0"}}
		list, _ := m.look()
		list = slices.DeleteFunc(list, func(f Finding) bool { return f.ID == "abandoned" })
		if got := codesOf(list); got != c.want {
			t.Errorf("%s at %s: found %q, want %q", c.hw, c.address, got, c.want)
		}
		if c.want == "neighbour-unknown" && !strings.Contains(list[0].Command, "--address "+c.address) {
			t.Errorf("the command is %s", list[0].Command)
		}
	}
}

// Of one kind so many stand by themselves; one more tells of the rest. The worst comes
// first.
func TestManyOfAKind(t *testing.T) {
	m := newMill(t)
	for n := range 2*Most + 1 {
		m.give(netip.AddrFrom4([4]byte{10, 78, 0, byte(n)}).String(), 1000+n, func(l *lease.Lease) {
			l.Prefix = lease.Host(netip.AddrFrom4([4]byte{10, 77 + byte(n/250), 0, byte(10 + n%200)}))
			l.Status, l.Client = lease.Abandoned, lease.Client{}
		})
	}
	list, _ := m.look()
	rest := list[len(list)-1]
	if len(list) != Most+1 || rest.Count != Most+1 || len(rest.Examples) != examplesMost || rest.Subject != "more of them" ||
		!strings.Contains(rest.Text, "201 more") {
		t.Errorf("%d findings, the last of %d: %s (%q)", len(list), rest.Count, rest.Text, rest.Examples)
	}
	list = append(list, Finding{Code: CodeOf("pool-out"), Severity: Trouble, Subject: "scope x"},
		Finding{Code: CodeOf("no-router"), Severity: Note})
	Sort(list)
	if list[0].ID != "pool-out" || list[len(list)-1].ID != "no-router" {
		t.Errorf("first comes %s, last %s", list[0].ID, list[len(list)-1].ID)
	}
	for _, word := range []string{"note", "warning", "trouble"} {
		if s, err := ParseSeverity(word); err != nil || s.String() != word {
			t.Errorf("%s is read as %s, %v", word, s, err)
		}
	}
	if _, err := ParseSeverity("dreadful"); err == nil || !strings.Contains(err.Error(), "note, warning, trouble") {
		t.Errorf("no severity: %v", err)
	}
}

// What waits for the partner's word is counted, whoever had it.
func TestWaitingForThePartner(t *testing.T) {
	m := newMill(t)
	m.give("10.77.0.120", 2, func(l *lease.Lease) { l.Status, l.Expires, l.By = lease.PendingFree, now-1, lease.Primary })
	m.give("10.77.0.121", 3, func(l *lease.Lease) { l.Status, l.Expires, l.Owed = lease.Expired, now-int64Hour, true })
	list, s := m.look()
	if len(list) > 0 {
		t.Errorf("found: %+v", list)
	}
	limbo := 0
	for _, l := range m.leases {
		if l.Limbo() {
			limbo++
		}
	}
	if s.Waiting() != limbo || limbo == 0 {
		t.Errorf("%d wait, want %d", s.Waiting(), limbo)
	}
}

const int64Hour = lease.Time(time.Hour / time.Second)
