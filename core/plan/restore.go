package plan

import (
	"errors"
	"fmt"
)

// Restore builds a plan from stored items, which keep their ids.
func Restore(revision int64, items Items) (*Plan, error) {
	d := New().Draft()
	d.alone = true
	err := restoreAll(d, items.Codebooks, d.PutCodebook)
	d.next.Defaults = items.Defaults // its options may be those of codebooks
	err = errors.Join(err, restoreAll(d, items.Lists, d.PutList), restoreAll(d, items.Links, d.PutLink))
	// A rule may send clients to a pool of a scope, and a scope need not know.
	err = errors.Join(err, restoreAll(d, items.Scopes, d.PutScope), restoreAll(d, items.Rules, d.PutRule))
	err = errors.Join(err, restoreAll(d, items.Reservations, d.PutReservation), restoreAll(d, items.Trials, d.PutTrial))
	if err != nil {
		return nil, fmt.Errorf("restore plan: %w", err)
	}
	d.next.Revision = revision
	return d.next, nil
}

func restoreAll[T Item](d *Draft, items []T, put func(T) (ID, error)) error {
	for _, i := range items {
		id, err := put(i)
		if err != nil {
			return err
		}
		d.next.lastID = max(d.next.lastID, id)
	}
	return nil
}

// KeepIDsAbove makes sure that new items get ids above last, which may have
// belonged to items that are gone.
func (p *Plan) KeepIDsAbove(last ID) *Plan {
	n := *p
	n.lastID = max(n.lastID, last)
	return &n
}
