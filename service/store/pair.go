package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"yarnpost/core/lease"
	"yarnpost/core/pair"
	"yarnpost/core/plan"
)

// Pairing is the pair that this server is in, as recorded.
type Pairing struct {
	Settings pair.Settings
	Identity []byte // this server's certificate and key, PEM
	Partner  Partner
	Theirs   int64 // the newest revision of the plan that the partner is known to have
	Record   pair.Record
}

// Partner is the other server of the pair.
type Partner struct {
	Name        string `json:"name"`
	Own         string `json:"own"`               // this server's name
	Address     string `json:"address,omitempty"` // where it is heard, by the one that joined
	Certificate []byte `json:"certificate"`       // DER
	// Left is set once it is no partner any more: until then, in seconds since 1970, its
	// addresses are kept for whom it may have promised them to.
	Left lease.Time `json:"left,omitempty"`
}

// LoadPairing gives the pair that this server is in, or nil.
func (s *Store) LoadPairing(ctx context.Context) (*Pairing, error) {
	var p Pairing
	var settings, partner, record []byte
	err := s.pool.QueryRow(ctx, "select settings, identity, partner, theirs, record from pair").Scan(&settings, &p.Identity, &partner, &p.Theirs,
		&record)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, nil
	}
	if err == nil {
		err = errors.Join(json.Unmarshal(settings, &p.Settings), json.Unmarshal(partner, &p.Partner), json.Unmarshal(record, &p.Record))
	}
	if err != nil {
		return nil, fmt.Errorf("load the pair: %w", err)
	}
	return &p, nil
}

// SavePairing records the pair that this server is in from now on; nil takes it out
// of its pair. With anew, its plan and its leases are given up, all at once.
func (s *Store) SavePairing(ctx context.Context, p *Pairing, anew bool) error {
	err := pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "delete from pair"); err != nil || p == nil {
			return err
		}
		if anew {
			if _, err := tx.Exec(ctx, "truncate lease, plan_item, plan_change, plan_revision, given_set, capacity_series, capacity_open, capacity_minutes, capacity_days, finding"); err != nil {
				return err
			}
			// Who may sign in, and where alerts go, the partner says.
			for _, q := range []string{"update account set changed = 'epoch'", "delete from token where name <> '" + OwnToken + "'",
				"delete from alert_target", "delete from alert_silence", "delete from alert_gone", "delete from token_gone"} {
				if _, err := tx.Exec(ctx, q); err != nil {
					return err
				}
			}
		}
		settings, err1 := json.Marshal(p.Settings)
		partner, err2 := json.Marshal(p.Partner)
		if err := errors.Join(err1, err2); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, "insert into pair (settings, identity, partner, theirs, record) values ($1, $2, $3, $4, $5)", settings, p.Identity,
			partner, p.Theirs, p.Record.Body())
		return err
	})
	if err != nil {
		return fmt.Errorf("record the pair: %w", err)
	}
	return nil
}

// SavePartner records what is known of the partner.
func (s *Store) SavePartner(ctx context.Context, p Partner) error {
	body, err := json.Marshal(p)
	if err != nil {
		return fmt.Errorf("record the partner: %w", err)
	}
	return s.exec(ctx, "record the partner", "update pair set partner = $1", body)
}

// SaveTheirs records which revision of the plan the partner is known to have.
func (s *Store) SaveTheirs(ctx context.Context, revision int64) error {
	return s.exec(ctx, "record the partner's revision", "update pair set theirs = $1", revision)
}

// SaveSettings records other settings of the pair.
func (s *Store) SaveSettings(ctx context.Context, set pair.Settings) error {
	body, err := json.Marshal(set)
	if err != nil {
		return fmt.Errorf("record the settings of the pair: %w", err)
	}
	return s.exec(ctx, "record the settings of the pair", "update pair set settings = $1", body)
}

// PairEvent is a line of what happened to the pair.
type PairEvent struct {
	At    time.Time
	Text  string
	State string // that the server was in from then on; "" if it is about something else
}

// NotePair adds a line.
func (s *Store) NotePair(ctx context.Context, e PairEvent) error {
	return s.exec(ctx, "note what happened to the pair", "insert into pair_history (at, text, state) values ($1, $2, nullif($3, ''))", e.At,
		e.Text, e.State)
}

// PairHistory lists what happened to the pair, newest first.
func (s *Store) PairHistory(ctx context.Context, limit int) ([]PairEvent, error) {
	rows, err := s.pool.Query(ctx, "select at, text, coalesce(state, '') from pair_history order by at desc limit $1", limit)
	if err != nil {
		return nil, fmt.Errorf("read what happened to the pair: %w", err)
	}
	out, err := pgx.CollectRows(rows, pgx.RowToStructByPos[PairEvent])
	if err != nil {
		return nil, fmt.Errorf("read what happened to the pair: %w", err)
	}
	return out, nil
}

// statesMost bounds how many changes of state are told at once.
const statesMost = 500

// PairStates lists the states that this server was in since a moment, oldest first,
// and the one before.
func (s *Store) PairStates(ctx context.Context, since time.Time) ([]PairEvent, error) {
	rows, err := s.pool.Query(ctx, `(select at, text, state from pair_history where state is not null and at > $1 order by at desc limit $2)
		union all (select at, text, state from pair_history where state is not null and at <= $1 order by at desc limit 1) order by at`, since,
		statesMost)
	if err != nil {
		return nil, fmt.Errorf("read the states of the pair: %w", err)
	}
	out, err := pgx.CollectRows(rows, pgx.RowToStructByPos[PairEvent])
	if err != nil {
		return nil, fmt.Errorf("read the states of the pair: %w", err)
	}
	return out, nil
}

// NoteStopped puts into the history that this server stopped where its last sample
// was taken, if it ended without saying so.
func (s *Store) NoteStopped(ctx context.Context, text, state string) error {
	return s.exec(ctx, "note that this server had stopped", `insert into pair_history (at, text, state)
		select last.at, $1, $2 from (select max(at) as at from capacity_open) last,
			(select at, state from pair_history where state is not null order by at desc limit 1) was
		where last.at > was.at and was.state <> $2`, text, state)
}

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

// Rewind takes revisions back, which are kept aside, and records the partner's in
// their place, all in one transaction.
func (s *Store) Rewind(ctx context.Context, own, theirs []Carried) error {
	err := pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		for i := len(own) - 1; i >= 0; i-- {
			c := own[i]
			items, err := json.Marshal(c.Items)
			if err != nil {
				return err
			}
			if _, err := tx.Exec(ctx, "insert into plan_aside (at, revision, made, author, reason, items) values (now(), $1, $2, $3, $4, $5)", c.Number, time.UnixMicro(c.At), c.Author, c.Reason,
				items); err != nil {
				return err
			}
			for k := len(c.Items) - 1; k >= 0; k-- {
				if err := putItem(ctx, tx, c.Items[k], c.Items[k].Before); err != nil {
					return err
				}
			}
			for _, q := range []string{"delete from plan_change where revision = $1", "delete from plan_revision where revision = $1"} {
				if _, err := tx.Exec(ctx, q, c.Number); err != nil {
					return err
				}
			}
		}
		for _, c := range theirs {
			if _, err := tx.Exec(ctx,
				"insert into plan_revision (revision, at, author, reason, last_id) values ($1, $2, $3, $4, (select coalesce(max(id), 0) from plan_item))",
				c.Number, time.UnixMicro(c.At), c.Author, c.Reason); err != nil {
				return err
			}
			for i, item := range c.Items {
				if _, err := tx.Exec(ctx, "insert into plan_change (revision, seq, kind, id, name, before, after, lines) values ($1, $2, $3, $4, $5, $6, $7, $8)",
					c.Number, i, item.Kind, item.ID, item.Name, item.Before, item.After, item.Lines); err != nil {
					return err
				}
				if err := putItem(ctx, tx, item, item.After); err != nil {
					return err
				}
			}
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("take the partner's plan: %w", err)
	}
	return nil
}

// putItem records what an item is, or that it is gone.
func putItem(ctx context.Context, tx pgx.Tx, c CarriedItem, body json.RawMessage) error {
	if body == nil {
		_, err := tx.Exec(ctx, "delete from plan_item where kind = $1 and id = $2", c.Kind, c.ID)
		return err
	}
	i, err := plan.Decode(c.Kind, body)
	if err != nil {
		return err
	}
	var parent *int64
	if id, ok := plan.Parent(c.Kind, i); ok {
		parent = (*int64)(&id)
	}
	_, err = tx.Exec(ctx,
		"insert into plan_item (kind, id, parent, body) values ($1, $2, $3, $4) on conflict (kind, id) do update set parent = excluded.parent, body = excluded.body",
		c.Kind, c.ID, parent, body)
	return err
}

// Kept is a revision of a line that was not chosen.
type Kept struct {
	ID     int64     `json:"id"`
	Chosen time.Time `json:"chosen"` // when the other line was
	Carried
}

// Aside lists the revisions of lines that were not chosen: the last choice first,
// those of one line in their order.
func (s *Store) Aside(ctx context.Context) (out []Kept, err error) {
	rows, err := s.pool.Query(ctx, "select id, at, revision, made, author, reason, items from plan_aside order by at desc, revision limit 1000")
	if err != nil {
		return nil, fmt.Errorf("read revisions kept aside: %w", err)
	}
	out, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (k Kept, err error) {
		var made time.Time
		var items []byte
		if err := row.Scan(&k.ID, &k.Chosen, &k.Number, &made, &k.Author, &k.Reason, &items); err != nil {
			return k, err
		}
		k.At = made.UnixMicro()
		return k, json.Unmarshal(items, &k.Items)
	})
	if err != nil {
		return nil, fmt.Errorf("read revisions kept aside: %w", err)
	}
	return out, nil
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
