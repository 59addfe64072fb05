package node

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/pair"
	"yarnpost/core/plan"
)

// Whether the other server would carry on is said with every reason why it would not.
func TestTakeover(t *testing.T) {
	now := time.Date(2026, 6, 1, 14, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		name   string
		change func(*PairView)
		want   string // what the reasons say, with | between
	}{
		{"all is well", func(*PairView) {}, ""},
		{"not heard", func(v *PairView) { v.Connected = false }, "shuttle is not heard since 13:59:00"},
		{"it does not agree", func(v *PairView) { v.Refused = "lead time or split of the two differ" },
			"they cannot work together: lead time or split of the two differ"},
		{"it recovers", func(v *PairView) { v.Partner.State = pair.Recover.String() }, "shuttle is in recover"},
		{"this one recovers", func(v *PairView) { v.Own.State = pair.RecoverWait.String() }, "bobbin is in recover-wait"},
		{"paused", func(v *PairView) { v.Resting = true }, "shuttle is paused"},
		{"its database is away", func(v *PairView) { v.Resting, v.Partner.Trouble = true, "nothing can be recorded" },
			"shuttle says: nothing can be recorded"},
		{"the plans parted", func(v *PairView) { v.Standing, v.Partner.Revision = pair.Parted, 9 }, "a person has to choose"},
		{"it is behind", func(v *PairView) { v.Partner.Revision = 6 }, "serves by revision 6 of the plan, this server by 7"},
		{"much is owed", func(v *PairView) { v.Own.Owed = 1001 }, "1001 leases are not known to shuttle yet"},
		{"a little is owed", func(v *PairView) { v.Own.Owed = 1000 }, ""},
		{"it has no address", func(v *PairView) { v.Scopes[0].Partner = 0 }, "shuttle has no free address of scope looms"},
		{"nobody has many", func(v *PairView) { v.Scopes[0].Partner, v.Scopes[0].Own = 0, 1 }, ""},
		{"two at once", func(v *PairView) { v.Resting, v.Own.Owed = true, 5000 }, "shuttle is paused|5000 leases"},
	} {
		v := PairView{Connected: true, Compared: true, Contact: now.Add(-time.Minute), Scopes: []ShareView{{Scope: "looms",
			Own: 40, Partner: 30}}}
		v.Own.Name, v.Own.State, v.Own.Revision = "bobbin", pair.Normal.String(), 7
		v.Partner.Name, v.Partner.State, v.Partner.Revision = "shuttle", pair.Normal.String(), 7
		c.change(&v)
		got := takeover(&v, now)
		want := strings.FieldsFunc(c.want, func(r rune) bool { return r == '|' })
		if len(got) != len(want) {
			t.Errorf("%s: %q, want %q", c.name, got, want)
			continue
		}
		for i := range want {
			if !strings.Contains(got[i], want[i]) {
				t.Errorf("%s: %q, want %q", c.name, got[i], want[i])
			}
		}
	}
}

// Settings of a pair that make no sense are refused with what would.
func TestPairSettingsAreChecked(t *testing.T) {
	for want, bad := range map[string]pair.Settings{"split 101": {Split: 101}, "split -1": {Split: -1},
		"a minute to a day": {Lead: time.Second},
		"lead time 25h":     {Lead: 25 * time.Hour}, "a minute at least": {AutoDown: time.Second}} {
		if err := checkSettings(bad); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v, want %q", bad, err, want)
		}
	}
	for _, good := range []pair.Settings{{}, {Split: 100, Lead: time.Minute, AutoDown: time.Minute}, {Lead: 24 * time.Hour}} {
		if err := checkSettings(good); err != nil {
			t.Errorf("%+v: %v", good, err)
		}
	}
}

// A lease is a reservation's by what the reservation knows its client by.
func TestHolds(t *testing.T) {
	hw := addr.Hardware("\x02\x40\x00\x00\x00\x07")
	l := &lease.Lease{Hardware: hw, Client: lease.ByIdentifier([]byte{9, 9}), Circuit: "sw1/0/7"}
	for _, c := range []struct {
		name string
		r    plan.Reservation
		want bool
	}{
		{"its hardware address", plan.Reservation{Hardware: hw}, true},
		{"another", plan.Reservation{Hardware: hw[:5] + "\x08"}, false},
		{"its identifier", plan.Reservation{Identifier: "\x09\x09"}, true},
		{"another identifier, of the same hardware", plan.Reservation{Identifier: "\x09", Hardware: hw}, false},
		{"its circuit", plan.Reservation{Circuit: "sw1/0/7"}, true},
		{"another circuit", plan.Reservation{Circuit: "sw1/0/70"}, false},
	} {
		if got := holds(&c.r, l); got != c.want {
			t.Errorf("by %s: %v", c.name, got)
		}
	}
}

// What may be cleared, and how a record is taken that was made under a clock that was
// ahead.
func TestRecordsAsTheyCanBe(t *testing.T) {
	a := netip.MustParseAddr("10.77.0.7")
	const now = lease.Time(1_790_000_000)
	for status, can := range map[lease.Status]bool{lease.Active: false, lease.Expired: false, lease.Free: false, lease.Abandoned: true} {
		if err := clearable(a, &lease.Lease{Prefix: lease.Host(a), Status: status, Expires: now + 60}); (err == nil) != can {
			t.Errorf("%s: %v", status, err)
		}
	}
	if clearable(a, nil) == nil {
		t.Error("an address without a record can be cleared")
	}
	if clearable(a, &lease.Lease{Status: lease.Released, Client: lease.ByIdentifier([]byte{1, 2}), Expires: now}) != nil {
		t.Error("an address that is kept from others cannot be cleared")
	}
	ahead := lease.Lease{Status: lease.Active, Heard: now + 86400, Since: now + 3600, Changed: now - 5, Granted: time.Hour,
		Expires: now + 90000}
	if l := sane(&ahead, now); l.Heard != now || l.Since != now || l.Changed != now-5 || l.Expires != now+3600 {
		t.Errorf("one of tomorrow: %+v", l)
	}
	for name, l := range map[string]lease.Lease{
		"a moment ahead":        {Status: lease.Active, Heard: now + 60, Granted: time.Hour, Expires: now + 3660},
		"one that never ends":   {Status: lease.Active, Heard: now + 86400, Expires: lease.Never},
		"one that is over":      {Status: lease.Expired, Heard: now + 86400, Expires: now + 90000},
		"as all others are":     {Status: lease.Active, Heard: now - 60, Granted: time.Hour, Expires: now + 3540},
		"long, and heard today": {Status: lease.Active, Heard: now - 60, Granted: time.Hour, Expires: now + 900000},
	} {
		was := l
		if got := sane(&l, now); *got != was {
			t.Errorf("%s becomes %+v", name, got)
		}
	}
}

// Where the clients of a draining scope go.
func TestDrainText(t *testing.T) {
	d := plan.New().Draft()
	link := ""
	put := func(name, subnet string, mode plan.Mode, end time.Time) {
		t.Helper()
		s := plan.Scope{Name: name, Subnet: netip.MustParsePrefix(subnet), Mode: mode, DrainUntil: end}
		if err := d.PlaceScope(&s, link, nil); err != nil {
			t.Fatal(err)
		}
		if _, err := d.PutScope(s); err != nil {
			t.Fatal(err)
		}
	}
	end := time.Date(2026, 6, 1, 14, 0, 0, 0, time.UTC)
	put("old", "10.77.0.0/24", plan.Draining, time.Time{})
	p, _ := d.Finish()
	v := p.ScopeNamed("old")
	link = v.LinkName
	says := func(v *plan.View, active int, nowhere bool, parts ...string) {
		t.Helper()
		got, no := drainText(v, p, active)
		for _, part := range parts {
			if no != nowhere || !strings.Contains(got, part) {
				t.Errorf("%q (%v), wanted %q", got, no, part)
			}
		}
	}
	says(v, 3, true, "newcomers go without", "nowhere to move for 3 clients of scope old", "no end is set")
	says(v, 0, true, "newcomers go without")
	d = p.Draft()
	s := v.Scope
	s.DrainUntil = end
	if _, err := d.PutScope(s); err != nil {
		t.Fatal(err)
	}
	put("held", "10.78.0.0/24", plan.Held, time.Time{})
	p, _ = d.Finish()
	says(p.ScopeNamed("old"), 1, true, "nowhere to move for 1 client of scope old", "until 2026-06-01 14:00 UTC, and then whoever has one goes without")
	d = p.Draft()
	put("new", "10.79.0.0/24", plan.Serving, time.Time{})
	p, _ = d.Finish()
	says(p.ScopeNamed("old"), 2, false, "2 clients of scope old will move to other scopes of link "+link+" as they renew")
}
