package plan

import (
	"net/netip"
	"strings"
	"testing"

	"yarnpost/core/addr"
	"yarnpost/core/option"
)

// Whatever a revision did can be undone, with the ids as they were; what was
// changed again since is not.
func TestRevert(t *testing.T) {
	apply := func(p *Plan, edit func(*Draft) error) (*Plan, []Change) {
		t.Helper()
		d := p.Draft()
		if err := edit(d); err != nil {
			t.Fatal(err)
		}
		return d.Finish()
	}
	same := func(what string, a, b *Plan) {
		t.Helper()
		for _, kind := range []Kind{KindDefaults, KindCodebook, KindList, KindLink, KindScope, KindRule, KindReservation, KindTrial} {
			for id := ID(0); id < 20; id++ {
				before, _ := a.Draft().item(kind, id)
				after, _ := b.Draft().item(kind, id)
				if !Same(before, after) {
					t.Errorf("%s: %s %d differs: %+v and %+v", what, kind, id, before, after)
				}
			}
		}
	}
	empty := New()
	full, added := apply(empty, func(d *Draft) error {
		s := Scope{Name: "looms", Subnet: netip.MustParsePrefix("10.77.0.0/24"),
			Pools: []addr.Range{addr.OfPrefix(netip.MustParsePrefix("10.77.0.0/25"))}, Mode: Serving}
		if err := d.PlaceScope(&s, "", nil); err != nil {
			return err
		}
		id, err := d.PutScope(s)
		if err != nil {
			return err
		}
		for _, i := range []Stored{{KindList, List{Name: "lent", Entries: []addr.Octets{"\x02"}}},
			{KindCodebook, Codebook{Name: "own", Place: InMessage,
				Options: []Own{{Code: 224, Name: "knob", Type: option.Type{Fields: []option.Kind{option.Text}}}}}},
			{KindRule, Rule{Name: "r", Scope: id, When: `hw in lists.lent`, Action: Ignore}},
			{KindReservation, Reservation{Name: "x", Scope: id, Hardware: "\x02\x00\x00\x00\x00\x01",
				Address: netip.MustParseAddr("10.77.0.9")}},
			{KindTrial, Trial{Name: "t", Scope: id, Hardware: "\x02\x00\x00\x00\x00\x02"}}, {KindDefaults, Defaults{Note: "n"}}} {
			if _, err := d.Put(i.Kind, i.Item); err != nil {
				return err
			}
		}
		return nil
	})
	back, _ := apply(full, func(d *Draft) error { return d.Revert(added) })
	same("what was added is gone", empty, back)
	gone, removed := apply(full, func(d *Draft) error { return d.RemoveScope("looms") })
	again, _ := apply(gone, func(d *Draft) error { return d.Revert(removed) })
	same("what was removed is back", full, again)

	edited, edits := apply(full, func(d *Draft) error {
		s := d.Plan().ScopeNamed("looms").Scope
		s.Note = "one"
		_, err := d.Put(KindScope, s)
		return err
	})
	undone, _ := apply(edited, func(d *Draft) error { return d.Revert(edits) })
	same("what was edited is as before", full, undone)
	later, _ := apply(edited, func(d *Draft) error {
		s := d.Plan().ScopeNamed("looms").Scope
		s.Note = "two"
		_, err := d.Put(KindScope, s)
		return err
	})
	if err := later.Draft().Revert(edits); err == nil || !strings.Contains(err.Error(), "changed again since") {
		t.Errorf("a colleague's later change is undone: %v", err)
	}
}

// One rule for names, and one for host names.
func TestNames(t *testing.T) {
	for name, ok := range map[string]bool{"looms": true, "Weberei-2": true, "färberei": true, "a.b_c-d": true, "..": false, "a..b": false,
		"-a": false, "a.": false, "<b>": false, "a b": false, "a\x1b[31m": false, "a\u202eb": false, "": false, strings.Repeat("x",
			65): false,
		"x/y": false} {
		if _, err := New().Draft().PutList(List{Name: name}); (err == nil) != ok {
			t.Errorf("name %q: %v", name, err)
		}
	}
	for name, ok := range map[string]bool{"loom-17": true, "loom.mill.example": true, "loom.": true, "a_b": false, "-a": false,
		"a..b":                  false,
		strings.Repeat("x", 64): false, "müller": false, "": false} {
		if HostName(name) != ok {
			t.Errorf("host name %q: %v", name, !ok)
		}
	}
}

// Values that the service itself reads have the length that it reads.
func TestExactLengths(t *testing.T) {
	for text, ok := range map[string]bool{"header/next-server=hex:": false, "header/next-server=hex:0a": false,
		"header/next-server=10.0.0.1": true, "header/boot-file=hex:": false, "3=hex:0a4d": false, "3=hex:": false, "3=hex:0a4d0001": true,
		"1=hex:ffff": false, "116=hex:0102": false, "108=hex:01": false, "224=hex:": false, "224=hex:00": true, "15=hex:6d": true} {
		name, value, _ := strings.Cut(text, "=")
		k, _, err := New().Key(name)
		if err != nil {
			t.Fatal(err)
		}
		if err := New().Draft().SetDefaults(Defaults{Settings: Settings{Options: map[option.Key]string{k: value}}}); (err == nil) != ok {
			t.Errorf("%s: %v", text, err)
		}
	}
}

// An own option of the message goes by its codebook too, and takes no registered
// name away.
func TestOwnOptionsOfTheMessage(t *testing.T) {
	d := New().Draft()
	own := func(code uint16, name string) error {
		_, err := d.PutCodebook(Codebook{Name: "mill", Place: InMessage,
			Options: []Own{{Code: code, Name: name, Type: option.Type{Fields: []option.Kind{option.Text}}}}})
		return err
	}
	if err := own(224, "ntp-servers"); err == nil {
		t.Error("an own option takes the name of a registered one")
	}
	d = New().Draft()
	if err := own(42, "clocks"); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"mill/clocks", "mill/42", "clocks", "42", "ntp-servers"} {
		if k, _, err := d.Plan().Key(name); err != nil || k != option.Std(42) {
			t.Errorf("%s is %v, %v", name, k, err)
		}
	}
	if _, _, err := d.Plan().Key("mill/knobs"); err == nil {
		t.Error("an option that the codebook does not have is found")
	}
}

// scoped adds a scope whose pool is its whole subnet.
func scoped(d *Draft, name, subnet string) (ID, error) {
	p := netip.MustParsePrefix(subnet)
	s := Scope{Name: name, Subnet: p, Pools: []addr.Range{addr.OfPrefix(p)}, Mode: Serving}
	if err := d.PlaceScope(&s, "", nil); err != nil {
		return 0, err
	}
	return d.PutScope(s)
}

// What a line that was not chosen had changed is made again in the other one, where
// ids that it gave are somebody else's.
func TestRedo(t *testing.T) {
	type step func(d *Draft) error
	run := func(p *Plan, steps ...step) (*Plan, [][]Change) {
		t.Helper()
		var all [][]Change
		for _, s := range steps {
			d := p.Draft()
			if err := s(d); err != nil {
				t.Fatal(err)
			}
			next, changes := d.Finish()
			p, all = next, append(all, changes)
		}
		return p, all
	}
	looms := ID(0)
	base, _ := run(New(), func(d *Draft) (err error) { looms, err = scoped(d, "looms", "10.77.0.0/24"); return err })
	attic := ID(0)
	_, aside := run(base,
		func(d *Draft) (err error) { attic, err = scoped(d, "attic", "10.78.0.0/24"); return err },
		func(d *Draft) error {
			_, err := d.PutReservation(Reservation{Name: "press", Scope: attic, Hardware: "\x02\x00\x00\x00\x00\x01",
				Address: netip.MustParseAddr("10.78.0.9")})
			return err
		},
		func(d *Draft) error {
			s := d.next.Scope(looms).Scope
			s.Note = "north wing"
			_, err := d.PutScope(s)
			return err
		},
		func(d *Draft) error { return d.RemoveReservation("press") })
	made := func(kind Kind, id ID) (string, bool) {
		for _, changes := range aside {
			for _, c := range changes {
				if c.Kind == kind && c.ID == id && c.Before == nil {
					return c.Name, true
				}
			}
		}
		return "", false
	}
	// The chosen line gave the same ids to others.
	cellar := ID(0)
	now, _ := run(base, func(d *Draft) (err error) { cellar, err = scoped(d, "cellar", "10.80.0.0/24"); return err })
	if cellar != attic {
		t.Fatalf("ids do not collide: %d and %d", cellar, attic)
	}
	if err := now.Draft().Redo(aside[1], made); err == nil || !strings.Contains(err.Error(), "scope attic is not in this plan") {
		t.Errorf("a reservation without its scope: %v", err)
	}
	again := func(n int) step { return func(d *Draft) error { return d.Redo(aside[n], made) } }
	got, _ := run(now, again(0), again(1), again(2))
	if v := got.ScopeNamed("attic"); v == nil || v.Link == got.ScopeNamed("cellar").Link || got.ReservationCount(v.ID) != 1 {
		t.Errorf("attic is %+v", v)
	}
	if got.ReservationCount(cellar) != 0 || got.ScopeNamed("looms").Note != "north wing" {
		t.Errorf("cellar has %d reservations, looms the note %q", got.ReservationCount(cellar), got.ScopeNamed("looms").Note)
	}
	if err := got.Draft().Redo(aside[0], made); err == nil || !strings.Contains(err.Error(), "there already") {
		t.Errorf("what is there already: %v", err)
	}
	got, _ = run(got, again(3), again(3))
	if got.ReservationCount(got.ScopeNamed("attic").ID) != 0 {
		t.Error("the reservation is still there")
	}
	other, _ := run(now, func(d *Draft) error {
		s := d.next.Scope(looms).Scope
		s.Note = "south wing"
		_, err := d.PutScope(s)
		return err
	})
	if err := other.Draft().Redo(aside[2], made); err == nil || !strings.Contains(err.Error(), "is not what it was") {
		t.Errorf("what was changed in this line, too: %v", err)
	}
}

// A draft becomes any plan of its line: what was added goes, what was removed comes back under
// its id, what one item has now and another had then changes hands. What cannot be is refused.
func TestBecome(t *testing.T) {
	d := New().Draft()
	for name, subnet := range map[string]string{"looms": "10.77.0.0/24", "yard": "10.78.0.0/24"} {
		if _, err := scoped(d, name, subnet); err != nil {
			t.Fatal(err)
		}
	}
	then, _ := d.Finish()
	d = then.Draft()
	looms := then.ScopeNamed("looms").Scope
	for _, err := range []error{
		net(d, "mill", "10.0.0.0/8", Settings{}),
		d.RemoveScope("yard"),
		func() error {
			looms.Name, looms.Pools, looms.Subnet = "yard", nil, netip.MustParsePrefix("10.78.0.0/24")
			_, err := d.PutScope(looms)
			return err
		}(),
		func() error { _, err := scoped(d, "looms", "10.79.0.0/24"); return err }(),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	now, changes := d.Finish()
	d = now.Draft()
	if err := d.Become(then); err != nil {
		t.Fatal(err)
	}
	back, _ := d.Finish()
	if rest := Between(back, then); len(rest) > 0 {
		t.Errorf("is not what it was: %+v", rest)
	}
	if before, err := now.Before(then.Revision, changes); err != nil || len(Between(before, then)) > 0 {
		t.Errorf("the plan before is not what it was: %v", err)
	}
	// Two names that changed places in one revision, with a third one between, change places again.
	one, two := then.ScopeNamed("looms").Scope, then.ScopeNamed("yard").Scope
	one.Name, two.Name = two.Name, one.Name
	p, err := then.Replay(9, []Change{{Kind: KindScope, ID: one.ID, After: one}, {Kind: KindScope, ID: two.ID, After: two}})
	if err != nil || p.ScopeNamed("yard").ID != one.ID || p.ScopeNamed("looms").ID != two.ID {
		t.Errorf("names that changed places: %v", err)
	}
}
