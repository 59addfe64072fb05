package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"yarnpost/core/pair"
	"yarnpost/core/plan"
)

// Chain gives the hash of each revision with all before it, by number.
func (s *Store) Chain(ctx context.Context) ([]pair.Head, error) {
	rows, err := s.pool.Query(ctx, "select revision, at, author, reason from plan_revision order by revision")
	if err != nil {
		return nil, fmt.Errorf("read the line of revisions: %w", err)
	}
	hash := uint64(0)
	out, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (h pair.Head, err error) {
		var r Revision
		if err := row.Scan(&r.Number, &r.At, &r.Author, &r.Reason); err != nil {
			return h, err
		}
		hash = r.Hash(hash)
		return pair.Head{Number: r.Number, Hash: hash}, nil
	})
	if err != nil {
		return nil, fmt.Errorf("read the line of revisions: %w", err)
	}
	return out, nil
}

// Hash is the hash of a revision that follows one with another hash. Its moment, in
// microseconds, tells it from any other revision of that number.
func (r Revision) Hash(before uint64) uint64 {
	return pair.Chain(before, fmt.Appendf(nil, "%d %d %s %s", r.Number, r.At.UnixMicro(), r.Author, r.Reason))
}

// Carried is a revision as it travels to the partner.
type Carried struct {
	Number int64         `json:"number"`
	At     int64         `json:"at"` // microseconds since 1970
	Author string        `json:"author"`
	Reason string        `json:"reason"`
	Items  []CarriedItem `json:"items"`
}

// CarriedItem is what a revision changed.
type CarriedItem struct {
	Kind   plan.Kind       `json:"kind"`
	ID     plan.ID         `json:"id"`
	Name   string          `json:"name"`
	Before json.RawMessage `json:"before,omitempty"`
	After  json.RawMessage `json:"after,omitempty"`
	Lines  json.RawMessage `json:"lines"`
}

// Carry gives revisions above a number, in order, as they travel; limit bounds how
// many.
func (s *Store) Carry(ctx context.Context, above int64, limit int) (out []Carried, err error) {
	list, err := s.carried(ctx, above, limit)
	if err != nil {
		return nil, fmt.Errorf("read revisions above %d: %w", above, err)
	}
	for i := range list {
		rows, err := s.pool.Query(ctx, "select kind, id, name, before, after, lines from plan_change where revision = $1 order by seq", list[i].Number)
		if err != nil {
			return nil, fmt.Errorf("read revision %d: %w", list[i].Number, err)
		}
		if list[i].Items, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (c CarriedItem, err error) {
			var before, after, lines []byte
			err = row.Scan(&c.Kind, &c.ID, &c.Name, &before, &after, &lines)
			c.Before, c.After, c.Lines = before, after, lines
			return c, err
		}); err != nil {
			return nil, fmt.Errorf("read revision %d: %w", list[i].Number, err)
		}
	}
	return list, nil
}

func (s *Store) carried(ctx context.Context, above int64, limit int) ([]Carried, error) {
	rows, err := s.pool.Query(ctx, "select revision, at, author, reason from plan_revision where revision > $1 order by revision limit $2", above,
		limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (c Carried, err error) {
		var at time.Time
		err = row.Scan(&c.Number, &at, &c.Author, &c.Reason)
		c.At = at.UnixMicro()
		return c, err
	})
}

// Open is a revision that came from the partner, with what it changed.
func (c *Carried) Open() (r Revision, items []plan.Change, err error) {
	r = Revision{Number: c.Number, At: time.UnixMicro(c.At).UTC(), Author: c.Author, Reason: c.Reason}
	for _, i := range c.Items {
		change := plan.Change{Kind: i.Kind, ID: i.ID, Name: i.Name}
		if change.Before, err = plan.Decode(i.Kind, i.Before); err == nil {
			change.After, err = plan.Decode(i.Kind, i.After)
		}
		if err != nil {
			return r, nil, fmt.Errorf("revision %d of the partner: %w", c.Number, err)
		}
		items = append(items, change)
	}
	return r, items, nil
}

// LinesOf gives the words that came with what a revision changed.
func (c *Carried) LinesOf(change plan.Change) (out []plan.Line) {
	for _, i := range c.Items {
		if i.Kind == change.Kind && i.ID == change.ID && json.Unmarshal(i.Lines, &out) == nil {
			return out
		}
	}
	return nil
}

// Changes is what a revision changed, as items.
func (c *Carried) Changes() (out []plan.Change, err error) {
	for _, i := range c.Items {
		change := plan.Change{Kind: i.Kind, ID: i.ID, Name: i.Name}
		if change.Before, err = plan.Decode(i.Kind, i.Before); err == nil {
			change.After, err = plan.Decode(i.Kind, i.After)
		}
		if err != nil {
			return nil, fmt.Errorf("%s %s: %w", i.Kind, i.Name, err)
		}
		out = append(out, change)
	}
	return out, nil
}
