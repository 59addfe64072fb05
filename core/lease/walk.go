package lease

import (
	"slices"
	"strings"

	"yarnpost/core/addr"
	"yarnpost/core/lease/internal/slab"
	"yarnpost/core/plan"
)

// Iterator is a walk through the leases as they are, some at a time. Changes of
// leases show while they are still ahead; a change of the plan does not disturb
// it: what was there at the start is seen once.
type Iterator struct {
	rest []*bindings
	slot int
}

// Iterator starts a walk through the leases of a scope, or of the whole table
// for 0.
func (t *Table) Iterator(scope plan.ID) *Iterator {
	w := &Iterator{}
	if scope != 0 {
		if s := t.shards[scope]; s != nil {
			w.rest = []*bindings{&s.bindings}
		}
		return w
	}
	ids := make([]plan.ID, 0, len(t.shards))
	for id := range t.shards {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	for _, id := range ids {
		w.rest = append(w.rest, &t.shards[id].bindings)
	}
	w.rest = append(w.rest, &t.orphans.bindings)
	return w
}

// Part is some leases, as they were when the table was asked for them.
type Part struct {
	records []record
	octets  []byte // their texts, one behind the other
	texts   []string
}

// Next fills a part with n leases or fewer and moves on; at the end there are none,
// and it reports false. It needs the table to itself; reading the part does not.
func (w *Iterator) Next(p *Part, n int) bool {
	p.records, p.octets = p.records[:0], p.octets[:0]
	left := n
	for left > 0 && len(w.rest) > 0 {
		b := w.rest[0]
		if w.slot >= b.slots.Size() {
			w.rest, w.slot = w.rest[1:], 0
			continue
		}
		some := b.slots.From(w.slot, left)
		for i := range some {
			if r := &some[i]; !r.tombstone() {
				p.take(b, r)
			}
		}
		w.slot, left = w.slot+len(some), left-len(some)
	}
	return left < n
}

func (p *Part) take(b *bindings, r *record) {
	p.records, p.octets, p.texts = append(p.records, *r), append(p.octets, b.text(r)...), b.shared.List()
}

// Size is how many leases the part has.
func (p *Part) Size() int { return len(p.records) }

// Leases yields the leases of the part. What it yields is good until it yields the
// next; whoever keeps a lease keeps a Clone of it.
func (p *Part) Leases(yield func(*Lease) bool) {
	var l Lease
	text := string(p.octets)
	for i := range p.records {
		n := int(p.records[i].cells) * slab.CellSize
		p.records[i].full(&l, text[:n], p.texts)
		if text = text[n:]; !yield(&l) {
			return
		}
	}
}

// Clone is a lease that stands by itself, to be kept.
func (l *Lease) Clone() *Lease {
	n := *l
	n.Client.ID, n.Hardware = strings.Clone(l.Client.ID), addr.Hardware(strings.Clone(string(l.Hardware)))
	n.Hostname, n.Nudge = strings.Clone(l.Hostname), strings.Clone(l.Nudge)
	n.Vendor, n.Circuit, n.Agent = strings.Clone(l.Vendor), strings.Clone(l.Circuit), strings.Clone(l.Agent)
	return &n
}
