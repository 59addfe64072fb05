package prepare

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"testing"
	"time"

	"yarnpost/api"
	"yarnpost/core/plan"
	"yarnpost/edit"
	"yarnpost/service/change"
	"yarnpost/service/failover"
	"yarnpost/service/store"
)

// told answers a keeper's questions to its partner.
type told struct {
	*mill
	by *Keeper
}

func (p told) Ask(ctx context.Context, method string, in, out any) error {
	asked, err := json.Marshal(in)
	if err != nil {
		return err
	}
	answer, err := p.by.Answers()[method](ctx, asked)
	if err != nil || out == nil {
		return err
	}
	b, err := json.Marshal(answer)
	return errors.Join(err, json.Unmarshal(b, out))
}

// mill stands in for the service around a keeper: its plan, what is on record, its clock.
type mill struct {
	t         *testing.T
	now       time.Time
	plan      *plan.Plan
	before    map[int64]*plan.Plan // by the revision that was made of it
	revisions []store.Revision     // newest first
	rows      map[string]store.Prepared
	unserved  int
	standsBy  bool
	fails     error // the next change does
	unknown   bool  // and it is on record all the same
	down      error // the database is
	apart     error // the partner is away
}

func newMill(t *testing.T) *mill {
	m := &mill{t: t, now: time.Date(2026, 12, 1, 8, 0, 0, 0, time.UTC), plan: plan.New(), before: map[int64]*plan.Plan{},
		rows: map[string]store.Prepared{}}
	m.edit("ada", api.Edit{Op: "add", Kind: "scope", Name: "looms", Scope: &api.ScopeEdit{Subnet: text("10.77.8.0/24"),
		Lease: text("8h"), Mode: text("serving")}},
		api.Edit{Op: "add", Kind: "scope", Name: "dyes", Scope: &api.ScopeEdit{Subnet: text("10.77.9.0/24"), Mode: text("serving")}})
	return m
}

func text(s string) *string { return &s }

func (m *mill) Now() time.Time     { return m.now }
func (m *mill) Plan() *plan.Plan   { return m.plan }
func (m *mill) UnservedCount() int { return m.unserved }
func (m *mill) WritesPlan() bool   { return !m.standsBy }

func (m *mill) Ask(context.Context, string, any, any) error { return failover.ErrAlone }

func (m *mill) Prepared(context.Context) (out []store.Prepared, err error) {
	for _, r := range m.rows {
		out = append(out, r)
	}
	return out, m.down
}

func (m *mill) SavePrepared(_ context.Context, list ...store.Prepared) error {
	for _, r := range list {
		if m.down == nil && m.rows[r.Name].Changed.Before(r.Changed) {
			m.rows[r.Name] = r
		}
	}
	return m.down
}

func (m *mill) Revisions(context.Context, int64, int, int) ([]store.Revision, error) {
	return m.revisions, m.down
}

func (m *mill) Changes(_ context.Context, revision int64) ([]plan.Change, error) {
	return plan.Between(m.before[revision], m.before[revision+1]), m.down
}

func (m *mill) Change(_ context.Context, o change.Order, do func(*plan.Draft) error) (*change.Change, error) {
	d := m.plan.Draft()
	if err := do(d); err != nil {
		return nil, err
	}
	next, items := d.Finish()
	c := &change.Change{Base: m.plan.Revision, Revision: m.plan.Revision, Plan: next, Lines: plan.Diff(items, d.Label)}
	if o.Preview || len(items) == 0 {
		return c, nil
	}
	fails := m.fails
	if m.fails = nil; fails != nil && !m.unknown {
		return c, fails
	}
	m.before[next.Revision], m.before[next.Revision+1] = m.plan, next
	m.plan = next
	m.revisions = slices.Insert(m.revisions, 0, store.Revision{Number: next.Revision, At: m.now, Author: o.Author, Reason: o.Reason,
		Lines: c.Lines})
	c.Revision, c.Applied = next.Revision, fails == nil
	return c, fails
}

func (m *mill) MayChange(bool) error { return m.apart }

func (m *mill) edit(by string, edits ...api.Edit) {
	m.t.Helper()
	if _, err := m.Change(m.t.Context(), change.Order{Author: by}, doing(edits...)); err != nil {
		m.t.Fatal(err)
	}
}

func doing(edits ...api.Edit) func(*plan.Draft) error {
	return func(d *plan.Draft) error {
		for _, e := range edits {
			if err := edit.Apply(edit.Nowhere, d, e); err != nil {
				return err
			}
		}
		return nil
	}
}

func (m *mill) keeper() *Keeper {
	m.t.Helper()
	k := New(Parts{Engine: m, Plans: m, Store: m, Partner: m, Clock: m, Log: slog.New(slog.DiscardHandler)})
	if err := k.Load(m.t.Context()); err != nil {
		m.t.Fatal(err)
	}
	return k
}

// gather gathers edits, or says why not.
func (m *mill) gather(k *Keeper, by string, edits ...api.Edit) {
	m.t.Helper()
	if _, err := k.Gather(m.t.Context(), "move", change.Order{Author: by}, doing(edits...)); err != nil {
		m.t.Fatal(err)
	}
}

// begun is a keeper with a change that shortens the leases of looms.
func (m *mill) begun() *Keeper {
	m.t.Helper()
	k := m.keeper()
	if _, err := k.Begin(m.t.Context(), "move", "hall 4", "ada"); err != nil {
		m.t.Fatal(err)
	}
	m.gather(k, "ada", leases("2h"))
	return k
}

func leases(t string) api.Edit {
	return api.Edit{Op: "edit", Kind: "scope", Name: "looms", Scope: &api.ScopeEdit{Lease: text(t)}}
}

func (m *mill) lease() time.Duration { return m.plan.ScopeNamed("looms").Lease }

// refused holds that an error is a refusal that says a word.
func refused(t *testing.T, err error, word string) {
	t.Helper()
	if !errors.Is(err, plan.ErrRefused) && !errors.Is(err, plan.ErrNotFound) || !strings.Contains(err.Error(), word) {
		t.Errorf("%v, wanted a refusal that says %q", err, word)
	}
}

// Two people gather; each edit stays whose it was; it outlives a restart, and is made as a whole.
func TestGather(t *testing.T) {
	m := newMill(t)
	k := m.begun()
	note := api.Edit{Op: "edit", Kind: "scope", Name: "dyes", Scope: &api.ScopeEdit{Note: text("vats")}}
	m.gather(k, "ben", note)
	k = m.keeper()
	m.gather(k, "ben", note) // a second time is none
	p, err := k.Get("MOVE")
	if err != nil || len(p.Steps) != 2 {
		t.Fatalf("%+v %v", p, err)
	}
	for _, s := range p.Steps {
		if want := map[string]string{"looms": "ada", "dyes": "ben"}[s.Edit.Name]; s.By != want {
			t.Errorf("%s is by %s, not %s", s.Edit.Name, s.By, want)
		}
	}
	if m.lease() != 8*time.Hour {
		t.Error("gathering changed the plan")
	}
	_, err = k.Begin(t.Context(), "Move", "", "ben")
	refused(t, err, "already, begun by ada")
	_, err = k.Begin(t.Context(), "no good name", "", "ben")
	refused(t, err, "cannot be a name")
	_, err = k.Gather(t.Context(), "moves", change.Order{}, doing())
	refused(t, err, "change list")
	// A preview gathers nothing, and what cannot be is refused.
	if _, err := k.Gather(t.Context(), "move", change.Order{Author: "ben", Preview: true}, doing(leases("1h"))); err != nil {
		t.Fatal(err)
	}
	_, err = k.Gather(t.Context(), "move", change.Order{Author: "ben"}, doing(api.Edit{Op: "remove", Kind: "scope", Name: "attic"}))
	refused(t, err, "attic")
	// What is gathered can be gathered upon.
	m.gather(k, "ben", api.Edit{Op: "add", Kind: "scope", Name: "inks", Scope: &api.ScopeEdit{Subnet: text("10.77.10.0/24")}})
	m.gather(k, "ben", api.Edit{Op: "add", Kind: "reservation", Name: "press",
		Reservation: &api.ReservationEdit{Hardware: text("02:00:00:00:00:18"),
			Address: text("10.77.10.5")}})
	p, _ = k.Get("move")
	inks := slices.IndexFunc(p.Steps, func(s Step) bool { return s.Edit.Name == "dyes" })
	if err := k.TakeOut(t.Context(), "move", inks+1); err != nil {
		t.Fatal(err)
	}
	refused(t, k.TakeOut(t.Context(), "move", 9), "no number 9")
	c, err := k.Apply(t.Context(), "move", change.Order{Author: "ben", Reason: "at last"}, nil)
	if err != nil || !c.Applied || m.lease() != 2*time.Hour || m.plan.ReservationNamed("press") == nil ||
		m.plan.ScopeNamed("dyes").Note != "" {
		t.Errorf("%+v %v", c, err)
	}
	if r := m.revisions[0]; r.Author != "ben" || r.Reason != "change move: at last" {
		t.Errorf("%s by %s", r.Reason, r.Author)
	}
	if _, err := m.keeper().Get("move"); err == nil {
		t.Error("it is made, and still in preparation")
	}
}

// What colleagues change meanwhile is said; what does not fit any more makes nothing.
func TestPlanMoves(t *testing.T) {
	m := newMill(t)
	k := m.begun()
	m.edit("cyd", leases("4h"))
	c, err := k.Check(t.Context(), "move", "ada")
	if err != nil || c.Change == nil || len(c.Meanwhile[0]) != 1 || !strings.Contains(c.Meanwhile[0][0], "4h, by cyd in revision 2") {
		t.Errorf("%+v %v", c, err)
	}
	m.gather(k, "ada", api.Edit{Op: "edit", Kind: "scope", Name: "dyes", Scope: &api.ScopeEdit{Note: text("vats")}})
	m.gather(k, "ada", api.Edit{Op: "edit", Kind: "defaults", Defaults: &api.DefaultsEdit{Note: text("the mill")}})
	m.edit("cyd", api.Edit{Op: "edit", Kind: "defaults", Defaults: &api.DefaultsEdit{Lease: text("5h")}})
	if c, err = k.Check(t.Context(), "move", "ada"); err != nil || !strings.Contains(fmt.Sprint(c.Meanwhile), "5h, by cyd in revision 3") {
		t.Errorf("%v %v", c.Meanwhile, err)
	}
	m.edit("cyd", api.Edit{Op: "remove", Kind: "scope", Name: "looms"})
	c, err = k.Check(t.Context(), "move", "ada")
	if err != nil || len(c.Faults) != 1 || c.Change != nil {
		t.Errorf("%+v %v", c, err)
	}
	_, err = k.Apply(t.Context(), "move", change.Order{Author: "ada"}, nil)
	refused(t, err, "does not fit the plan any more")
	_, err = k.Gather(t.Context(), "move", change.Order{Author: "ada"}, doing())
	refused(t, err, "change omit")
	if m.plan.ScopeNamed("dyes").Note != "" {
		t.Error("half of it was made")
	}
}

// An approval is somebody else's, of what stands there, and stands in the history.
func TestApprove(t *testing.T) {
	m := newMill(t)
	k := m.begun()
	refused(t, k.Approve(t.Context(), "move", "ada"), "somebody else")
	if err := k.Approve(t.Context(), "move", "ben"); err != nil {
		t.Fatal(err)
	}
	m.gather(k, "ada", leases("1h"))
	if p, _ := k.Get("move"); len(p.Approvals) != 0 {
		t.Error("what was added is approved, too")
	}
	if err := k.Approve(t.Context(), "move", "ben"); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Apply(t.Context(), "move", change.Order{Author: "ada"}, nil); err != nil ||
		m.revisions[0].Reason != "change move: hall 4 (approved by ben)" {
		t.Errorf("%s %v", m.revisions[0].Reason, err)
	}
}

// A change that is due is made once, by the server that writes, over restarts; leases run down
// until then.
func TestDue(t *testing.T) {
	m := newMill(t)
	k := m.begun()
	at := m.now.Add(24 * time.Hour)
	_, err := k.Schedule(t.Context(), "move", Due{At: m.now, By: "ada"}, nil, false)
	refused(t, err, "is past")
	if _, err := k.Schedule(t.Context(), "move", Due{At: at, By: "ada", RunDown: true}, nil, false); err != nil {
		t.Fatal(err)
	}
	if s := m.plan.ScopeNamed("looms"); !s.RunDown.Equal(at) || !m.plan.ScopeNamed("dyes").RunDown.IsZero() {
		t.Errorf("leases of looms run down until %v", s.RunDown)
	}
	p, _ := k.Get("move")
	if from, settled := p.Due.Down(m.plan.ScopeNamed("looms")); !from.Equal(at.Add(-8*time.Hour)) ||
		!settled.Equal(at.Add(10*time.Minute)) {
		t.Errorf("from %v to %v", from, settled)
	}
	for range 2 {
		k = m.keeper()
		k.Tick(t.Context())
		if m.lease() != 8*time.Hour {
			t.Fatal("it was made too soon")
		}
	}
	m.now, m.standsBy = at, true
	k.Tick(t.Context())
	if m.lease() != 8*time.Hour {
		t.Fatal("the server that stands by made it")
	}
	m.standsBy = false
	for range 3 {
		k.Tick(t.Context())
	}
	if m.lease() != 2*time.Hour || !m.plan.ScopeNamed("looms").RunDown.IsZero() || len(m.revisions) != 3 {
		t.Errorf("leases of %v, %d revisions", m.lease(), len(m.revisions))
	}
}

// What is gathered after a moment was set has its clients' leases run down, too, and what is left out
// has not.
func TestGatherWhatIsDue(t *testing.T) {
	m := newMill(t)
	k := m.begun()
	at := m.now.Add(time.Hour)
	if _, err := k.Schedule(t.Context(), "move", Due{At: at, By: "ada", RunDown: true}, nil, false); err != nil {
		t.Fatal(err)
	}
	m.gather(k, "ben", api.Edit{Op: "edit", Kind: "scope", Name: "dyes", Scope: &api.ScopeEdit{Lease: text("1h")}})
	if !m.plan.ScopeNamed("dyes").RunDown.Equal(at) || !m.plan.ScopeNamed("looms").RunDown.Equal(at) {
		t.Error("leases of what was gathered do not run down")
	}
	p, _ := k.Get("move")
	if err := k.TakeOut(t.Context(), "move", 1+slices.IndexFunc(p.Steps, func(s Step) bool { return s.Edit.Name == "looms" })); err != nil {
		t.Fatal(err)
	}
	if !m.plan.ScopeNamed("dyes").RunDown.Equal(at) || !m.plan.ScopeNamed("looms").RunDown.IsZero() {
		t.Error("leases of what was left out run down still")
	}
	big := strings.Repeat("x", 4000)
	for i := range 3000 {
		p.Steps = append(p.Steps, Step{Edit: api.Edit{Op: "edit", Kind: "scope", Name: fmt.Sprint(i), Scope: &api.ScopeEdit{Note: &big}}})
	}
	refused(t, k.save(t.Context(), p), "make it in parts")
}

// What the partner made is not made again by a server that had not heard of it.
func TestMadeByThePartner(t *testing.T) {
	m := newMill(t)
	k := m.begun()
	if _, err := k.Schedule(t.Context(), "move", Due{At: m.now.Add(time.Hour), By: "ada", RunDown: true}, nil, false); err != nil {
		t.Fatal(err)
	}
	m.now = m.now.Add(time.Hour)
	m.edit("ada", leases("2h"))
	m.revisions[0].Reason = "change move: hall 4"
	m.edit("cyd", leases("3h")) // and somebody went on
	k.Tick(t.Context())
	if _, err := k.Get("move"); err == nil || m.lease() != 3*time.Hour {
		t.Errorf("leases of %v, %v", m.lease(), err)
	}
}

// A change that is called off, or dropped, leaves leases as they were.
func TestCallOff(t *testing.T) {
	m := newMill(t)
	k := m.begun()
	refused(t, k.CallOff(t.Context(), "move", change.Order{Author: "ada"}), "not set")
	for _, end := range []func() error{
		func() error { return k.CallOff(t.Context(), "move", change.Order{Author: "ada"}) },
		func() error { return k.Drop(t.Context(), "move", change.Order{Author: "ada"}) },
	} {
		if _, err := k.Schedule(t.Context(), "move", Due{At: m.now.Add(time.Hour), By: "ada", RunDown: true}, nil, false); err != nil {
			t.Fatal(err)
		}
		if err := end(); err != nil || !m.plan.ScopeNamed("looms").RunDown.IsZero() {
			t.Errorf("leases run down until %v; %v", m.plan.ScopeNamed("looms").RunDown, err)
		}
	}
	m.now = m.now.Add(2 * time.Hour)
	if k.Tick(t.Context()); m.lease() != 8*time.Hour {
		t.Error("it was made all the same")
	}
}

// What cannot be made when it is due says why, and waits for a person; what could not be
// recorded is tried again.
func TestDueAndRefused(t *testing.T) {
	m := newMill(t)
	k := m.begun()
	if _, err := k.Schedule(t.Context(), "move", Due{At: m.now.Add(time.Hour), By: "ada"}, nil, false); err != nil {
		t.Fatal(err)
	}
	m.now, m.fails = m.now.Add(time.Hour), fmt.Errorf("the database is away")
	k.Tick(t.Context())
	if p, _ := k.Get("move"); p.Due == nil || p.Failed != "" {
		t.Errorf("%+v is not tried again", p)
	}
	// While the partner is away nothing is noted: it may have made the change.
	m.apart, m.now = failover.ErrApart, m.now.Add(retryPause)
	noted := m.rows["move"].Changed
	if k.Tick(t.Context()); !m.rows["move"].Changed.Equal(noted) {
		t.Error("an attempt while the partner is away was noted")
	}
	m.apart, m.now = nil, m.now.Add(retryPause)
	m.edit("cyd", api.Edit{Op: "remove", Kind: "scope", Name: "looms"})
	k.Tick(t.Context())
	if p, _ := m.keeper().Get("move"); p.Due != nil || !strings.Contains(p.Failed, "was not made") {
		t.Errorf("%+v", p)
	}
}

// An attempt of which nobody knows what came of it is made once at most.
func TestUnknownOutcome(t *testing.T) {
	for _, recorded := range []bool{true, false} {
		m := newMill(t)
		k := m.begun()
		m.fails, m.unknown = fmt.Errorf("lost: %w", store.ErrUnknown), recorded
		if _, err := k.Apply(t.Context(), "move", change.Order{Author: "ada"}, nil); !errors.Is(err, store.ErrUnknown) {
			t.Fatal(err)
		}
		m.unknown = false
		k = m.keeper()
		_, err := k.Apply(t.Context(), "move", change.Order{Author: "ada"}, nil)
		refused(t, err, "just now")
		k.Tick(t.Context())
		if _, err := k.Get("move"); (err != nil) != recorded || (m.lease() == 2*time.Hour) != recorded {
			t.Errorf("recorded %v: leases of %v, %v", recorded, m.lease(), err)
		}
	}
}

// A change after which clients go unserved is undone by itself, and one after which none do stands.
func TestWatch(t *testing.T) {
	for _, c := range []struct {
		more   int
		undone bool
	}{{3, false}, {4, true}} {
		m := newMill(t)
		m.unserved = 2
		k := m.begun()
		if _, err := k.Apply(t.Context(), "move", change.Order{Author: "ada"}, &Undo{Within: time.Hour, Above: 3}); err != nil {
			t.Fatal(err)
		}
		_, err := k.Gather(t.Context(), "move", change.Order{Author: "ada"}, doing(leases("1h")))
		refused(t, err, "being watched")
		m.unserved += c.more
		k = m.keeper()
		k.Tick(t.Context())
		p, err := k.Get("move")
		if err != nil || (m.lease() == 8*time.Hour) != c.undone || strings.Contains(p.Failed,
			"6 clients go unserved, and 2 did before") != c.undone {
			t.Errorf("%d more: leases of %v, %+v, %v", c.more, m.lease(), p, err)
		}
		m.now = m.now.Add(2 * time.Hour)
		k.Tick(t.Context())
		if _, err := k.Get("move"); (err == nil) != c.undone {
			t.Errorf("%d more: in the end %v", c.more, err)
		}
	}
}

// What the plan says already is not watched: somebody else's revision is not undone for it.
func TestNothingToWatch(t *testing.T) {
	m := newMill(t)
	k := m.begun()
	m.edit("cyd", leases("2h"))
	if _, err := k.Apply(t.Context(), "move", change.Order{Author: "ada"}, &Undo{Within: time.Hour}); err != nil {
		t.Fatal(err)
	}
	m.unserved = 100
	k.Tick(t.Context())
	if _, err := k.Get("move"); err == nil || m.lease() != 2*time.Hour {
		t.Errorf("it is watched (%v), and leases are of %v", err, m.lease())
	}
}

// Both servers of a pair come to the same, whoever hears of what first, and what is gone stays gone.
func TestShared(t *testing.T) {
	one, other := newMill(t), newMill(t)
	a, b := one.begun(), other.keeper()
	rows := func(m *mill) []store.Prepared { out, _ := m.Prepared(t.Context()); return out }
	old := rows(one)
	if a.head() == b.head() {
		t.Error("they say the same, and are not")
	}
	if err := b.Take(t.Context(), old); err != nil || a.head() != b.head() {
		t.Fatal("not taken", err)
	}
	if p, err := other.keeper().Get("move"); err != nil || len(p.Steps) != 1 {
		t.Errorf("%+v %v", p, err)
	}
	one.now = one.now.Add(-time.Hour) // the clock was stepped
	if err := a.Drop(t.Context(), "move", change.Order{Author: "ada"}); err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if err := errors.Join(b.Take(t.Context(), rows(one)), b.Take(t.Context(), old)); err != nil {
			t.Fatal(err)
		}
		if _, err := b.Get("move"); err == nil {
			t.Error("what was dropped came back")
		}
	}
	// A server that gave up what it had, to join, has what the other has, and nothing else.
	if _, err := b.Begin(t.Context(), "theirs", "", "ben"); err != nil {
		t.Fatal(err)
	}
	if _, err := a.Begin(t.Context(), "ours", "", "ada"); err != nil {
		t.Fatal(err)
	}
	clear(other.rows)
	b.Partner = told{other, a}
	for range 2 { // the first time it reads anew what is on record
		b.CatchUp(t.Context())
	}
	if list := b.List(); len(list) != 1 || list[0].Name != "ours" || a.head() != b.head() {
		t.Errorf("after it joined it has %+v", list)
	}
	one.down = errors.New("the database is away")
	if _, err := a.Begin(t.Context(), "next", "", "ada"); err == nil || len(a.List()) != 1 {
		t.Error("what is not on record is kept", err)
	}
}
