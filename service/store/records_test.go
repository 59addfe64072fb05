package store

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"yarnpost/core/audit"
	"yarnpost/core/lease"
	"yarnpost/core/pair"
	"yarnpost/core/plan"
	"yarnpost/service/journal"
)

var began = time.Date(2026, 6, 1, 14, 0, 0, 0, time.UTC)

// ok fails the test at an error.
func ok[T any](t *testing.T) func(T, error) T {
	return func(v T, err error) T {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
}

// What an audit finds has a story: since when it is there, when it went, and that it is
// another story when it comes back.
func TestFindingsOnRecord(t *testing.T) {
	s := open(t, fresh(t))
	ctx := context.Background()
	audit := func(hour int, keys ...string) {
		t.Helper()
		bodies := make([]json.RawMessage, len(keys))
		for i := range keys {
			bodies[i] = json.RawMessage(fmt.Sprintf(`{"hour":%d}`, hour))
		}
		run := AuditRun{At: began.Add(time.Duration(hour) * time.Hour), Why: fmt.Sprint("hour ", hour), Took: 1500 * time.Millisecond,
			Counts: map[string]int{"leases": hour}}
		ok[int64](t)(s.SaveAudit(ctx, run, keys, bodies))
	}
	story := func(since int) string {
		t.Helper()
		var out []string
		hours := func(at time.Time) int { return int(at.Sub(began) / time.Hour) }
		for _, f := range ok[[]Finding](t)(s.Findings(ctx, began.Add(time.Duration(since)*time.Hour))) {
			text := fmt.Sprintf("%s %d-%d", f.Key, hours(f.First), hours(f.Last))
			if !f.Gone.IsZero() {
				text += fmt.Sprintf(" gone %d", hours(f.Gone))
			}
			out = append(out, text)
		}
		slices.Sort(out)
		return strings.Join(out, ", ")
	}
	audit(1, "a", "b")
	audit(2, "a", "c")
	if got := story(0); got != "a 1-2, b 1-1 gone 2, c 2-2" {
		t.Errorf("after two audits: %s", got)
	}
	if got := story(3); got != "a 1-2, c 2-2" {
		t.Errorf("of what went an hour later: %s", got)
	}
	audit(3, "b")
	if got := story(0); got != "a 1-2 gone 3, b 3-3, c 2-2 gone 3" {
		t.Errorf("with one that came back: %s", got)
	}
	audit(4)
	if got := story(4); got != "b 3-3 gone 4" {
		t.Errorf("with nothing left: %s", got)
	}
	// Each time that one was there is on record, so that any two audits can be compared.
	between := func(hour int) string {
		var out []string
		for _, f := range ok[[]Finding](t)(s.FindingsBetween(ctx, began, began.Add(9*time.Hour))) {
			if f.WasThere(began.Add(time.Duration(hour) * time.Hour)) {
				out = append(out, f.Key)
			}
		}
		slices.Sort(out)
		return strings.Join(out, "")
	}
	if got := []string{between(0), between(1), between(2), between(3), between(4)}; !slices.Equal(got, []string{"", "ab", "ac", "b", ""}) {
		t.Errorf("audits found %q", got)
	}
	last, known, err := s.AuditAt(ctx, began.Add(150*time.Minute))
	if err != nil || !known || last.Why != "hour 2" {
		t.Errorf("the audit up to half past two is %+v, %v", last, err)
	}
	if first, known, err := s.AuditAt(ctx, began); !known || err != nil || first.Why != "hour 1" {
		t.Errorf("before the first audit the first is the nearest: %+v, %v", first, err)
	}
	runs := ok[[]AuditRun](t)(s.AuditRuns(ctx, 3))
	if len(runs) != 3 || runs[0].Why != "hour 4" || runs[0].Took != 1500*time.Millisecond || runs[2].Counts["leases"] != 2 {
		t.Errorf("the runs are %+v", runs)
	}
	audit(24*367, "d")
	if got := story(0); got != "d 8808-8808" {
		t.Errorf("after a year: %s", got)
	}
}

// Of two acknowledgements the newer one counts.
func TestAcknowledgedOnRecord(t *testing.T) {
	s := open(t, fresh(t))
	ctx := context.Background()
	said := func(by string, minute int) Acknowledged {
		return Acknowledged{Key: "d", By: by, At: began.Add(time.Duration(minute) * time.Minute),
			Until: time.Now().Add(time.Hour).Truncate(time.Microsecond), Reason: "it may"}
	}
	for _, list := range [][]Acknowledged{{said("ada", 10)}, {said("bram", 5)}, {said("cleo",
		10)}} { // later ones come from the partner, and are older
		if err := s.Acknowledge(ctx, list); err != nil {
			t.Fatal(err)
		}
	}
	if list := ok[[]Acknowledged](t)(s.AllAcknowledged(ctx)); len(list) != 1 || list[0].By != "ada" {
		t.Errorf("acknowledged: %+v", list)
	}
	if err := s.Acknowledge(ctx, []Acknowledged{said("cleo", 11), {Key: "old", At: began, Until: time.Now().AddDate(-2, 0,
		0)}}); err != nil {
		t.Fatal(err)
	}
	if list := ok[[]Acknowledged](t)(s.AllAcknowledged(ctx)); len(list) != 1 || list[0].By != "cleo" ||
		!list[0].Until.Equal(said("", 0).Until.Truncate(time.Microsecond)) &&
			list[0].Until.Before(time.Now()) {
		t.Errorf("acknowledged anew: %+v", list)
	}
}

// An alert is on record together with what is to be sent of it; what cannot be sent is
// put off and holds nothing up; what belongs to a target goes with it.
func TestAlertsOnRecord(t *testing.T) {
	s := open(t, fresh(t))
	ctx := context.Background()
	targets := []Target{{Name: "desk", URL: "https://desk.example/hook", Severity: "warning", Secret: []byte{0, 1, 0xff}},
		{Name: "log", URL: "syslog+udp://10.77.0.5", Severity: "note", CA: "x"}}
	for _, x := range targets {
		if err := s.SaveTarget(ctx, x, time.Now()); err != nil {
			t.Fatal(err)
		}
	}
	a := Alert{Key: "pool-out scope looms", Since: began, Unsent: true, Hovers: true,
		Finding: audit.Finding{Code: audit.CodeOf("pool-out"), Severity: audit.Trouble, Subject: "scope looms", Text: "all are used"}}
	if err := s.SaveAlert(ctx, a, "fired", "bobbin", targets, began); err != nil {
		t.Fatal(err)
	}
	due := func(at time.Time) []Queued { return ok[[]Queued](t)(s.DueAlerts(ctx, at)) }
	if n := len(due(began.Add(-time.Second))); n != 0 {
		t.Errorf("%d are due before they are", n)
	}
	list := due(began)
	if len(list) != 2 || list[0].Target.Name != "desk" || string(list[0].Target.Secret) != "\x00\x01\xff" || list[1].Target.CA != "x" ||
		list[0].Alert.Key != a.Key || list[0].Alert.Finding.Text != "all are used" || list[0].Alert.Finding.ID != "pool-out" ||
		list[0].What != "fired" || list[0].Server != "bobbin" {
		t.Fatalf("due: %+v", list)
	}
	if err := s.AlertFailed(ctx, list[0].ID, began.Add(time.Minute), "no route"); err != nil {
		t.Fatal(err)
	}
	if err := s.AlertSent(ctx, list[1].ID); err != nil {
		t.Fatal(err)
	}
	if n := len(due(began)); n != 0 {
		t.Errorf("%d are due although one was sent and one put off", n)
	}
	if list = due(began.Add(time.Minute)); len(list) != 1 || list[0].Tries != 1 || list[0].Failed != "no route" {
		t.Errorf("put off: %+v", list)
	}
	a.Ended = began.Add(time.Hour)
	if err := s.SaveAlert(ctx, a, "cleared", "bobbin", targets[:1], a.Ended); err != nil {
		t.Fatal(err)
	}
	if on := ok[[]Alert](t)(s.Alerts(ctx)); len(on) != 1 || !on[0].Unsent || !on[0].Hovers ||
		on[0].Finding.Text != "all are used" || !on[0].Ended.Equal(a.Ended) || !on[0].Since.Equal(began) {
		t.Errorf("on record: %+v", on)
	}
	if list = ok[[]Queued](t)(s.QueuedAlerts(ctx)); len(list) != 2 || list[1].What != "cleared" {
		t.Errorf("queued: %+v", list)
	}
	// What is told to a target stays in order: the second word waits for the first.
	if list = due(a.Ended.Add(-time.Hour)); len(list) != 0 {
		t.Errorf("before the first word is due again: %+v", list)
	}
	if list = due(a.Ended); len(list) != 1 || list[0].What != "fired" {
		t.Errorf("the first to be sent: %+v", list)
	}
	if n := ok[int64](t)(s.TrimAlerts(ctx, 5)); n != 0 {
		t.Errorf("%d are given up of two", n)
	}
	if there := ok[bool](t)(s.RemoveTarget(ctx, "desk", time.Now())); !there {
		t.Error("the target is not there")
	}
	if there := ok[bool](t)(s.RemoveTarget(ctx, "desk", time.Now())); there {
		t.Error("the target is there still")
	}
	if list = ok[[]Queued](t)(s.QueuedAlerts(ctx)); len(list) != 0 {
		t.Errorf("queued for a target that is gone: %+v", list)
	}
	a.Key = "pool-out scope visitors"
	if err := s.SaveAlert(ctx, a, "cleared", "bobbin", nil, a.Ended.Add(alertsKept+time.Hour)); err != nil {
		t.Fatal(err)
	}
	if on := ok[[]Alert](t)(s.Alerts(ctx)); len(on) != 0 {
		t.Errorf("after three months: %+v", on)
	}
}

// Of two servers' targets and silences the newer ones hold on both, whole.
func TestAlertSettingsOnRecord(t *testing.T) {
	ctx := context.Background()
	here, there := open(t, fresh(t)), open(t, fresh2(t))
	for _, x := range []Target{{Name: "desk", URL: "https://desk.example", Severity: "note"}, {Name: "old",
		URL: "https://old.example", Severity: "note"}} {
		if err := there.SaveTarget(ctx, x, time.Now()); err != nil {
			t.Fatal(err)
		}
	}
	if err := here.SaveTarget(ctx, Target{Name: "desk", URL: "https://other.example", Severity: "trouble",
		Secret: []byte("wool")}, time.Now()); err != nil {
		t.Fatal(err)
	}
	silence := Silence{Key: "pool-out*", Until: began, By: "ada", Reason: "an open day"}
	if err := here.SaveSilence(ctx, silence, time.Now()); err != nil {
		t.Fatal(err)
	}
	if ok2 := ok[bool](t)(there.RemoveTarget(ctx, "old", time.Now())); !ok2 {
		t.Error("a target is not there")
	}
	if err := there.SaveTarget(ctx, Target{Name: "yard", URL: "https://yard.example", Severity: "note"}, time.Now()); err != nil {
		t.Fatal(err)
	}
	// Each takes in what the other knows, in whichever order: then both know the same.
	apart := ok[AlertSettings](t)(there.AlertSettings(ctx))
	own := ok[AlertSettings](t)(here.AlertSettings(ctx))
	if taken := ok[bool](t)(there.TakeAlertSettings(ctx, own)); !taken {
		t.Error("newer settings are not taken")
	}
	if taken := ok[bool](t)(there.TakeAlertSettings(ctx, own)); taken {
		t.Error("the same settings are taken twice")
	}
	ok[bool](t)(here.TakeAlertSettings(ctx, apart))
	for _, s := range []*Store{here, there} {
		got := ok[AlertSettings](t)(s.AlertSettings(ctx))
		if len(got.Targets) != 2 || got.Targets[0].URL != "https://other.example" || string(got.Targets[0].Secret) != "wool" ||
			got.Targets[1].Name != "yard" || len(got.Silences) != 1 || got.Silences[0].Reason != silence.Reason ||
			!got.Silences[0].Until.Equal(began) || len(got.Gone) != 1 {
			t.Errorf("taken: %+v", got)
		}
	}
	// What was taken away does not come back from one that had it before.
	if taken := ok[bool](t)(here.TakeAlertSettings(ctx, AlertSettings{Targets: []SharedTarget{{Target: Target{URL: "https://old.example"},
		Name:    "old",
		Changed: apart.Gone[0].At.Add(-time.Minute)}}})); taken {
		t.Error("a target that was removed comes back")
	}
}

// fresh2 is another database for the same test.
func fresh2(t *testing.T) (dsn string) {
	t.Helper()
	t.Run("other", func(t *testing.T) { dsn = fresh(t) })
	return dsn
}

// Two lines of a plan that parted: the one that is not chosen is kept aside whole, and
// the other one is on record as if it had been made here.
func TestRewind(t *testing.T) {
	ctx := context.Background()
	here, there := open(t, fresh(t)), open(t, fresh2(t))
	change := func(s *Store, p *plan.Plan, author string, edit func(*plan.Draft) error) *plan.Plan {
		t.Helper()
		d := p.Draft()
		if err := edit(d); err != nil {
			t.Fatal(err)
		}
		next, changes := d.Finish()
		r := Revision{Number: next.Revision, At: began.Add(time.Duration(next.Revision) * time.Minute), Author: author, Reason: "because"}
		if err := s.SavePlan(ctx, r, changes, noLines); err != nil {
			t.Fatal(err)
		}
		return next
	}
	scope := func(name, subnet string) func(*plan.Draft) error {
		return func(d *plan.Draft) error {
			v := plan.Scope{Name: name, Subnet: netip.MustParsePrefix(subnet), Mode: plan.Held}
			if err := d.PlaceScope(&v, "", nil); err != nil {
				return err
			}
			_, err := d.PutScope(v)
			return err
		}
	}
	first := change(here, plan.New(), "ada", scope("looms", "10.77.0.0/24"))
	change(there, plan.New(), "ada", scope("looms", "10.77.0.0/24"))
	mine := change(here, first, "ada", scope("attic", "10.78.0.0/24"))
	mine = change(here, mine, "ada", func(d *plan.Draft) error { return d.Remove(plan.KindScope, "looms") })
	change(there, first, "bram", scope("cellar", "10.79.0.0/24"))
	own, theirs := ok[[]Carried](t)(here.Carry(ctx, 1, 10)), ok[[]Carried](t)(there.Carry(ctx, 1, 10))
	if len(own) != 2 || len(theirs) != 1 || theirs[0].Author != "bram" || own[1].Number != mine.Revision {
		t.Fatalf("the lines are %+v and %+v", own, theirs)
	}
	if err := here.Rewind(ctx, own, theirs); err != nil {
		t.Fatal(err)
	}
	names := func(s *Store) string {
		t.Helper()
		p, err := s.LoadPlan(ctx)
		if err != nil {
			t.Fatal(err)
		}
		set := map[string]bool{}
		for _, v := range p.Scopes() {
			set[v.Name] = true
		}
		return fmt.Sprint(p.Revision, slices.Sorted(maps.Keys(set)))
	}
	if got, want := names(here), names(there); got != want || got != "2 [cellar looms]" {
		t.Errorf("the plan is %s, the chosen one %s", got, want)
	}
	if a, b := ok[[]pair.Head](t)(here.Chain(ctx)), ok[[]pair.Head](t)(there.Chain(ctx)); !slices.Equal(a, b) || len(a) != 2 ||
		a[1].Hash == a[0].Hash {
		t.Errorf("the chains are %v and %v", a, b)
	}
	aside := ok[[]Kept](t)(here.Aside(ctx))
	if len(aside) != 2 || aside[0].Number != 2 || aside[1].Number != 3 {
		t.Fatalf("kept aside: %+v", aside)
	}
	if list := ok[[]plan.Change](t)(aside[1].Changes()); len(list) == 0 || list[0].Name != "looms" || list[0].After != nil {
		t.Errorf("the last of it changed %+v", list)
	}
	if r, items, err := theirs[0].Open(); err != nil || r.Author != "bram" || !r.At.Equal(began.Add(2*time.Minute)) || len(items) == 0 {
		t.Errorf("theirs is %+v, %d items, %v", r, len(items), err)
	}
	if err := here.Rewind(ctx, nil, []Carried{{Number: 3, At: 1, Items: []CarriedItem{{Kind: "tower", ID: 9,
		Lines: json.RawMessage("[]"), After: json.RawMessage("{}")}}}}); err == nil {
		t.Error("an item of a kind that nobody knows is taken")
	}
	if got := names(here); got != "2 [cellar looms]" {
		t.Errorf("half of what was refused is there: %s", got)
	}
}

// Where a server of a pair stands comes back as it was; joining anew gives up plan and
// leases, and says that where alerts go is for the partner to say.
func TestPairingOnRecord(t *testing.T) {
	s := open(t, fresh(t))
	ctx := context.Background()
	if p := ok[*Pairing](t)(s.LoadPairing(ctx)); p != nil {
		t.Fatalf("a server that is alone is in %+v", p)
	}
	want := &Pairing{Settings: pair.Settings{Side: lease.Secondary, Name: "mill", MCLT: time.Hour}.Defaults(), Identity: []byte("PEM"),
		Partner: Partner{Name: "bobbin", Own: "shuttle", Address: "127.0.0.1:647", Certificate: []byte{1, 2}},
		Record:  pair.Record{State: pair.Recover, Since: 7}}
	j, o := started(t, s)
	j.Add(journal.Entry{After: sample(1)})
	o.await(t, 1, 0)
	if err := s.SavePairing(ctx, want, true); err != nil {
		t.Fatal(err)
	}
	if n := len(stored(t, s)); n != 0 {
		t.Errorf("%d leases are left", n)
	}
	got := ok[*Pairing](t)(s.LoadPairing(ctx))
	if got == nil || got.Settings != want.Settings || string(got.Identity) != "PEM" || got.Partner.Name != "bobbin" ||
		got.Record.State != pair.Recover ||
		got.Record.Since != 7 {
		t.Errorf("the pair is %+v", got)
	}
	if set := ok[AlertSettings](t)(s.AlertSettings(ctx)); len(set.Targets)+len(set.Silences)+len(set.Gone) != 0 {
		t.Errorf("it has settings of its own: %+v", set)
	}
	if err := s.SaveTheirs(ctx, 12); err != nil {
		t.Fatal(err)
	}
	want.Settings.Split = 70
	if err := s.SaveSettings(ctx, want.Settings); err != nil {
		t.Fatal(err)
	}
	if got = ok[*Pairing](t)(s.LoadPairing(ctx)); got.Theirs != 12 || got.Settings.Split != 70 {
		t.Errorf("changed, the pair is %+v", got)
	}
	for n, e := range []PairEvent{{began, "began", "recover"}, {began.Add(time.Hour), "goes on", "normal"},
		{began.Add(2 * time.Hour), "a note", ""},
		{began.Add(3 * time.Hour), "cut", "communications-interrupted"}} {
		if err := s.NotePair(ctx, e); err != nil {
			t.Fatal(n, err)
		}
	}
	var states []string
	for _, e := range ok[[]PairEvent](t)(s.PairStates(ctx, began.Add(90*time.Minute))) {
		states = append(states, e.State)
	}
	if strings.Join(states, " ") != "normal communications-interrupted" {
		t.Errorf("states since then: %q", states)
	}
	if list := ok[[]PairEvent](t)(s.PairHistory(ctx, 2)); len(list) != 2 || list[0].Text != "cut" || list[1].Text != "a note" {
		t.Errorf("history: %+v", list)
	}
	if err := s.SaveSample(ctx, began.Add(4*time.Hour), nil); err != nil {
		t.Fatal(err)
	}
	for range 2 { // it is noted once
		if err := s.NoteStopped(ctx, "stopped without a word", "stopped"); err != nil {
			t.Fatal(err)
		}
	}
	if list := ok[[]PairEvent](t)(s.PairHistory(ctx, 10)); len(list) != 5 || list[0].State != "stopped" ||
		!list[0].At.Equal(began.Add(4*time.Hour)) {
		t.Errorf("history: %+v", list)
	}
	if err := s.SavePairing(ctx, nil, false); err != nil {
		t.Fatal(err)
	}
	if p := ok[*Pairing](t)(s.LoadPairing(ctx)); p != nil {
		t.Errorf("taken out of its pair, it is in %+v", p)
	}
}

// The partner's accounts and tokens take the place of this server's, but for the token
// that lies in its own folder.
func TestMergeAccess(t *testing.T) {
	s := open(t, fresh(t))
	ctx := context.Background()
	hash := func(b byte) []byte { h := make([]byte, 32); h[0] = b; return h }
	at := func(minute int) time.Time { return began.Add(time.Duration(minute) * time.Minute) }
	for _, a := range []Account{{"admin", "old", false, at(1)}, {"cleo", "hers", false, at(5)}, {"bram", "his", false, at(1)}} {
		if err := s.SaveAccount(ctx, a); err != nil {
			t.Fatal(err)
		}
	}
	soon := time.Now().Add(time.Hour)
	for _, g := range []Grant{{hash(1), "admin", OwnToken, time.Time{}, began}, {hash(2), "admin", "robot", time.Time{}, began},
		{hash(3), "cleo", "hers", time.Time{}, began}, {hash(5), "admin", "", soon, soon}, {hash(6), "bram", "", soon, soon},
		{hash(7), "cleo", "", soon, soon}} {
		if err := s.SaveGrant(ctx, g, time.Now()); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.EndToken(ctx, "cleo", "hers"); err != nil {
		t.Fatal(err)
	}
	err := s.MergeAccess(ctx, Access{
		Accounts: []Account{{"admin", "new", true, at(2)}, {"ada", "hers", false, at(2)}, {"bram", "his", false, at(1)}, {"cleo", "older",
			false, at(4)}},
		Tokens: []Grant{{hash(4), "ada", "desk", time.Time{}, began}, {hash(3), "cleo", "hers", time.Time{}, began}},
		Gone:   [][]byte{hash(2)}})
	if err != nil {
		t.Fatal(err)
	}
	accounts, grants, err := s.LoadAccess(ctx, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, a := range accounts {
		got = append(got, fmt.Sprint(a.Name, " ", a.Password, " ", a.MustChange))
	}
	for _, g := range grants {
		got = append(got, g.Account+"'s "+g.Name)
	}
	slices.Sort(got)
	// A session ends with the password that it was begun with; what was revoked on either
	// server is revoked, though the other one has it still.
	want := []string{"ada hers false", "ada's desk", "admin new true", "admin's admin.token", "bram his false", "bram's ",
		"cleo hers false", "cleo's "}
	if !slices.Equal(got, want) {
		t.Errorf("access is %q, want %q", got, want)
	}
}

// When an item was last changed is on record with the plan; of what never was, nothing.
func TestChanged(t *testing.T) {
	s := open(t, fresh(t))
	ctx := context.Background()
	p := plan.New()
	var ids []plan.ID
	for n, note := range []string{"first", "second"} {
		d := p.Draft()
		l := plan.List{Name: "museum", Note: note}
		if n > 0 {
			l.ID = ids[0]
		}
		id, err := d.PutList(l)
		if err != nil {
			t.Fatal(err)
		}
		ids = append(ids, id)
		next, changes := d.Finish()
		r := Revision{Number: next.Revision, At: began.Add(time.Duration(n) * time.Hour), Author: "ada"}
		if err := s.SavePlan(ctx, r, changes, noLines); err != nil {
			t.Fatal(err)
		}
		p = next
		at := ok[map[plan.ID]time.Time](t)(s.Changed(ctx, plan.KindList, []plan.ID{id, id + 99}))
		if len(at) != 1 || !at[id].Equal(r.At) {
			t.Errorf("after revision %d: %v", r.Number, at)
		}
	}
	for _, x := range []map[plan.ID]time.Time{ok[map[plan.ID]time.Time](t)(s.Changed(ctx, plan.KindScope, ids)),
		ok[map[plan.ID]time.Time](t)(s.Changed(ctx, plan.KindList, nil))} {
		if len(x) > 0 {
			t.Errorf("of other items: %v", x)
		}
	}
}
