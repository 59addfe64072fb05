// Package auditor makes audits on demand, on a schedule and
// after each change of the plan, keeps what they found, and says what is new, what
// is gone and what somebody acknowledged. What a finding is, core/audit knows.
package auditor

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"yarnpost/core/audit"
	"yarnpost/core/lease"
	"yarnpost/service/engine"
	"yarnpost/service/lock"
	"yarnpost/service/store"
)

// Sources are where facts come from.
type Sources interface {
	// Facts gives what is known beside plan and leases. Looking at hosts may take
	// seconds; without slow, what was seen last is taken.
	Facts(ctx context.Context, slow bool) audit.Facts
	// More gives what is known of leases beside the table.
	More(ctx context.Context) audit.More
	// PairFacts gives what is known of the pair; ok is false if there is none.
	PairFacts(ctx context.Context, waiting int) (p audit.Pair, ok bool)
	// ServiceFacts gives what is known of the service.
	ServiceFacts(ctx context.Context) audit.Service
	// Share tells the partner what was acknowledged, if there is one.
	Share(ctx context.Context, list []store.Acknowledged)
}

// Auditor makes audits of one service.
type Auditor struct {
	sources Sources
	engine  *engine.Engine
	store   *store.Store
	clock   engine.Clock
	log     *slog.Logger

	work sync.Mutex // one audit at a time

	mu   sync.Mutex
	last Report
}

// Entry is a finding with its story.
type Entry struct {
	audit.Finding
	First, Last time.Time
	Gone        time.Time // zero: it is there
	New         bool      // since the audit before
	Known       *store.Acknowledged
}

// Report is what an audit found.
type Report struct {
	ID      int64
	At      time.Time
	Why     string
	Took    time.Duration
	Leases  int
	Entries []Entry // what is there, the worst first
	Gone    []Entry // what went since the audit before
	Lost    error   // why it is not on record; then stories are those of the audit before, and nothing is said to be gone
}

// Worst is the highest severity of what nobody acknowledged; ok is false if there
// is nothing.
func (r *Report) Worst() (s audit.Severity, ok bool) {
	for _, e := range r.Entries {
		if e.Known == nil {
			s, ok = max(s, e.Severity), true
		}
	}
	return s, ok
}

// New makes the auditor.
func New(sources Sources, e *engine.Engine, s *store.Store, c engine.Clock, log *slog.Logger) *Auditor {
	return &Auditor{sources: sources, engine: e, store: s, clock: c, log: log}
}

// An audit leaves the processor to packets now and then.
const (
	breathEach = 2048 // leases
	breath     = time.Millisecond
)

// Run makes an audit.
func (r *Auditor) Run(ctx context.Context, why string, slow bool) (Report, error) {
	r.work.Lock()
	defer r.work.Unlock()
	began := r.clock.Now()
	p := r.engine.Plan()
	list := audit.OfPlan(p, r.sources.Facts(ctx, slow))
	leases := audit.NewLeases(p, lease.At(began))
	n := 0
	r.engine.EachLease(0, func(l *lease.Lease) {
		leases.Add(l)
		if n++; n%breathEach == 0 {
			time.Sleep(breath)
		}
	})
	more := r.sources.More(ctx)
	more.At = r.at()
	list = append(list, leases.Findings(more)...)
	if facts, ok := r.sources.PairFacts(ctx, leases.Waiting()); ok {
		list = append(list, audit.OfPair(facts)...)
	}
	list = append(list, audit.OfService(r.sources.ServiceFacts(ctx))...)
	audit.Sort(list)
	list = slices.CompactFunc(list, func(a, b audit.Finding) bool { return a.Key() == b.Key() })
	took := r.clock.Now().Sub(began)
	run := store.AuditRun{At: began.UTC().Truncate(time.Microsecond), Why: why, Took: took, Counts: map[string]int{"leases": n}}
	keys, bodies := make([]string, 0, len(list)), make([]json.RawMessage, 0, len(list))
	for i := range list {
		b, err := json.Marshal(list[i])
		if err != nil {
			return Report{}, fmt.Errorf("keep a finding: %w", err)
		}
		run.Counts[list[i].Severity.String()]++
		keys, bodies = append(keys, list[i].Key()), append(bodies, b)
	}
	id, err := r.store.SaveAudit(ctx, run, keys, bodies)
	report := Report{At: run.At, Why: why, Took: took, Leases: n}
	if err == nil {
		report, err = r.report(ctx, list, run, id, n)
	}
	if err != nil {
		if ctx.Err() == nil {
			r.log.Warn("what an audit found is not on record", "err", err)
		}
		report.Lost, report.Entries = err, r.asBefore(list, run.At)
	}
	lock.While(&r.mu, func() { r.last = report })
	return report, ctx.Err()
}

// asBefore sets what was found beside the audit before, as far as that is remembered.
func (r *Auditor) asBefore(list []audit.Finding, at time.Time) (out []Entry) {
	r.mu.Lock()
	defer r.mu.Unlock()
	before := map[string]Entry{}
	for _, e := range r.last.Entries {
		before[e.Key()] = e
	}
	for i := range list {
		e := Entry{Finding: list[i], First: at, New: true}
		if was, ok := before[list[i].Key()]; ok {
			e.First, e.Known, e.New = was.First, was.Known, false
		}
		e.Last = at
		out = append(out, e)
	}
	return out
}

// at finds the record of an address, many at a time: audits ask for reserved ones.
func (r *Auditor) at() func(netip.Prefix) *lease.Lease {
	return func(k netip.Prefix) (l *lease.Lease) {
		r.engine.With(func(t *lease.Table) { l = t.Get(k) })
		return l
	}
}

// report sets what was found beside what was before.
func (r *Auditor) report(ctx context.Context, list []audit.Finding, run store.AuditRun, id int64, leases int) (Report, error) {
	out := Report{ID: id, At: run.At, Why: run.Why, Took: run.Took, Leases: leases}
	acks, err := r.known(ctx)
	stories, failed := r.store.Findings(ctx, run.At)
	if err = errors.Join(err, failed); err != nil {
		return out, err
	}
	by := map[string]store.Finding{}
	for _, s := range stories {
		by[s.Key] = s
		if s.Gone.Equal(run.At) {
			if e, ok := entryOf(s); ok {
				out.Gone = append(out.Gone, e)
			}
		}
	}
	for i := range list {
		s := by[list[i].Key()]
		e := Entry{Finding: list[i], First: s.First, Last: s.Last, Known: acks[list[i].Key()], New: s.First.Equal(run.At)}
		out.Entries = append(out.Entries, e)
	}
	return out, nil
}

// entryOf reads a finding from its record; ok is false for one of another version.
func entryOf(s store.Finding) (e Entry, ok bool) {
	e = Entry{First: s.First, Last: s.Last, Gone: s.Gone}
	if json.Unmarshal(s.Body, &e.Finding) != nil {
		return e, false
	}
	return e, audit.Known(e.ID)
}

// Last is the report of the last audit, with acknowledgements as they are now; ok is
// false if none was made since the start.
func (r *Auditor) Last(ctx context.Context) (out Report, ok bool) {
	lock.While(&r.mu, func() { out = r.last })
	if out.At.IsZero() {
		return out, false
	}
	known, err := r.known(ctx)
	if err != nil {
		return out, true
	}
	out.Entries = slices.Clone(out.Entries)
	for i := range out.Entries {
		e := &out.Entries[i]
		e.Known = known[e.Key()]
	}
	return out, true
}

// known gives what is acknowledged now, by key.
func (r *Auditor) known(ctx context.Context) (map[string]*store.Acknowledged, error) {
	list, err := r.store.AllAcknowledged(ctx)
	out := map[string]*store.Acknowledged{}
	for i := range list {
		if list[i].Until.After(r.clock.Now()) {
			out[list[i].Key] = &list[i]
		}
	}
	return out, err
}

// Past lists what audits found before and is gone, since a moment; the last to go
// first.
func (r *Auditor) Past(ctx context.Context, since time.Time) ([]Entry, error) {
	list, err := r.store.Findings(ctx, since)
	if err != nil {
		return nil, err
	}
	var out []Entry
	for _, s := range list {
		if e, ok := entryOf(s); ok && !s.Gone.IsZero() {
			out = append(out, e)
		}
	}
	slices.SortFunc(out, func(a, b Entry) int { return b.Gone.Compare(a.Gone) })
	return out, nil
}

// ErrUnknown is wrapped when a finding is named that is not there.
var ErrUnknown = errors.New("no such finding")

// acknowledgeMost is for how long a finding can be acknowledged.
const acknowledgeMost = 366 * 24 * time.Hour

// Acknowledge says of findings, by their keys, that they are known and may stay
// until a moment; a zero moment takes that back.
func (r *Auditor) Acknowledge(ctx context.Context, keys []string, by, reason string, until time.Time) ([]Entry, error) {
	last, _ := r.Last(ctx)
	now := r.clock.Now()
	var list []store.Acknowledged
	var out []Entry
	for _, key := range keys {
		at := slices.IndexFunc(last.Entries, func(e Entry) bool { return e.Key() == key })
		if at < 0 {
			return nil, fmt.Errorf("%w: %q is not among what the last audit found; yarnpost audit list shows that", ErrUnknown, key)
		}
		a := store.Acknowledged{Key: key, By: by, At: now.UTC().Truncate(time.Microsecond), Until: until.UTC(),
			Reason: strings.TrimSpace(reason)}
		e := last.Entries[at]
		if e.Known = &a; until.IsZero() {
			a.Until, e.Known = a.At, nil
		}
		list = append(list, a)
		out = append(out, e)
	}
	switch {
	case len(keys) == 0:
		return nil, fmt.Errorf("%w: name findings to acknowledge", ErrUnknown)
	case until.IsZero():
	case strings.TrimSpace(reason) == "":
		return nil, errors.New("say why the finding may stay: a reason is needed")
	case !until.After(now) || until.Sub(now) > acknowledgeMost:
		return nil, fmt.Errorf("a finding can be acknowledged until a moment within a year from now, and not until %s",
			until.UTC().Format(time.DateOnly))
	}
	if err := r.store.Acknowledge(ctx, list); err != nil {
		return nil, err
	}
	r.sources.Share(ctx, list)
	r.log.Info("findings acknowledged", "findings", len(list), "by", by, "until", until, "reason", reason)
	return out, nil
}
