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
			if _, err := tx.Exec(ctx, "truncate lease, plan_item, plan_change, plan_revision, given_set, capacity_series, capacity_open, capacity_minutes, capacity_days, finding, prepared"); err != nil {
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
