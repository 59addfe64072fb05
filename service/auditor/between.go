package auditor

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"yarnpost/service/store"
)

// Difference is what changed between two audits.
type Difference struct {
	From, To   store.AuditRun
	Came, Went []Entry // the worst first
	Stayed     int
}

// Between compares the last audits that were made up to two moments; where none was made yet, the
// first there is. A finding that went and came again between them stayed.
func (r *Auditor) Between(ctx context.Context, from, to time.Time) (d Difference, err error) {
	for _, x := range []struct {
		at  time.Time
		run *store.AuditRun
	}{{from, &d.From}, {to, &d.To}} {
		run, ok, err := r.store.AuditAt(ctx, x.at)
		switch {
		case err != nil:
			return d, err
		case !ok:
			return d, fmt.Errorf("%w: no audit is on record; yarnpost audit run makes one", ErrUnknown)
		}
		*x.run = run
	}
	if d.To.At.Before(d.From.At) {
		d.From, d.To = d.To, d.From
	}
	list, err := r.store.FindingsBetween(ctx, d.From.At, d.To.At)
	if err != nil {
		return d, err
	}
	type ends struct{ before, after *store.Finding }
	by := map[string]ends{}
	for i := range list {
		f, e := &list[i], by[list[i].Key]
		if f.WasThere(d.From.At) {
			e.before = f
		}
		if f.WasThere(d.To.At) {
			e.after = f
		}
		by[f.Key] = e
	}
	for _, e := range by {
		switch {
		case e.before != nil && e.after != nil:
			d.Stayed++
		case e.after != nil:
			d.Came = appended(d.Came, *e.after)
		case e.before != nil:
			d.Went = appended(d.Went, *e.before)
		}
	}
	for _, l := range [][]Entry{d.Came, d.Went} {
		slices.SortFunc(l, func(a, b Entry) int {
			if a.Severity != b.Severity {
				return int(b.Severity) - int(a.Severity)
			}
			return strings.Compare(a.Key(), b.Key())
		})
	}
	return d, nil
}

func appended(list []Entry, f store.Finding) []Entry {
	if e, ok := entryOf(f); ok {
		return append(list, e)
	}
	return list
}
