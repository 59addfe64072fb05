package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// Account is somebody who may sign in.
type Account struct {
	Name       string
	Password   string // argon2id, encoded
	MustChange bool   // the password was given, not chosen
	Changed    time.Time
}

// Grant is a session or token, known by the SHA-256 of its secret.
type Grant struct {
	Hash    []byte
	Account string
	Name    string    // of a token; "" for a session
	Expires time.Time // of a session; zero for a token
	Made    time.Time // of a token
}

// LoadAccess reads all accounts, and the sessions and tokens that still hold.
func (s *Store) LoadAccess(ctx context.Context, now time.Time) ([]Account, []Grant, error) {
	rows, err := s.pool.Query(ctx, "select name, password, must_change, changed from account")
	if err != nil {
		return nil, nil, fmt.Errorf("load accounts: %w", err)
	}
	accounts, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Account])
	if err != nil {
		return nil, nil, fmt.Errorf("load accounts: %w", err)
	}
	rows, err = s.pool.Query(ctx, `select hash, account, '', expires, expires from session where expires > $1
		union all select hash, account, name, '0001-01-01 00:00:00+00', made from token`, now)
	if err != nil {
		return nil, nil, fmt.Errorf("load sessions: %w", err)
	}
	grants, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Grant])
	if err != nil {
		return nil, nil, fmt.Errorf("load sessions: %w", err)
	}
	return accounts, grants, nil
}

// SaveAccount adds or replaces an account; a new password ends its sessions.
func (s *Store) SaveAccount(ctx context.Context, a Account) error {
	return s.exec(ctx, "save account", `with gone as (delete from session where account = $1)
		insert into account (name, password, must_change, changed) values ($1, $2, $3, $4)
		on conflict (name) do update set password = excluded.password, must_change = excluded.must_change, changed = excluded.changed`,
		a.Name, a.Password, a.MustChange, a.Changed)
}

// SaveGrant adds a session or token.
func (s *Store) SaveGrant(ctx context.Context, g Grant, now time.Time) error {
	if g.Name != "" {
		return s.exec(ctx, "save token", "insert into token (hash, name, account, made) values ($1, $2, $3, $4)", g.Hash, g.Name, g.Account,
			g.Made)
	}
	return s.exec(ctx, "save session", `with gone as (delete from session where expires < $4)
		insert into session (hash, account, expires) values ($1, $2, $3)`, g.Hash, g.Account, g.Expires, now)
}

// EndSession forgets a session.
func (s *Store) EndSession(ctx context.Context, hash []byte) error {
	return s.exec(ctx, "end session", "delete from session where hash = $1", hash)
}

// EndToken forgets an API token.
func (s *Store) EndToken(ctx context.Context, account, name string) error {
	return s.exec(ctx, "end token", `with gone as (delete from token where account = $1 and name = $2 returning hash)
		insert into token_gone select hash, now() from gone on conflict do nothing`, account, name)
}

// Access is what of accounts and tokens two servers of a pair tell each other.
type Access struct {
	Accounts []Account `json:"accounts,omitempty"`
	Tokens   []Grant   `json:"tokens,omitempty"`
	Gone     [][]byte  `json:"gone,omitempty"` // hashes of tokens that were revoked
}

// GoneTokens lists the hashes of tokens that were revoked.
func (s *Store) GoneTokens(ctx context.Context) ([][]byte, error) {
	rows, err := s.pool.Query(ctx, "select hash from token_gone order by at desc limit 10000")
	if err != nil {
		return nil, fmt.Errorf("load tokens that were revoked: %w", err)
	}
	out, err := pgx.CollectRows(rows, pgx.RowTo[[]byte])
	if err != nil {
		return nil, fmt.Errorf("load tokens that were revoked: %w", err)
	}
	return out, nil
}

// OwnToken is the name of the token that lies in a server's own folder; each server
// of a pair keeps its own beside the other's.
const OwnToken = "admin.token"

// MergeAccess takes in what the partner knows of accounts and tokens: of each account the
// password that was set last, each token, and that a token was revoked. A password that
// is another one ends the sessions of its account, as where it was changed.
func (s *Store) MergeAccess(ctx context.Context, in Access) error {
	err := pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		for _, a := range in.Accounts {
			if _, err := tx.Exec(ctx, `delete from session where account = $1 and exists
				(select from account where name = $1 and changed < $2 and password <> $3)`, a.Name, a.Changed, a.Password); err != nil {
				return err
			}
			if _, err := tx.Exec(ctx, `insert into account (name, password, must_change, changed) values ($1, $2, $3, $4)
				on conflict (name) do update set password = excluded.password, must_change = excluded.must_change, changed = excluded.changed
				where account.changed < excluded.changed`, a.Name, a.Password, a.MustChange, a.Changed); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(ctx, "insert into token_gone select unnest($1::bytea[]), now() on conflict do nothing", in.Gone); err != nil {
			return err
		}
		for _, g := range in.Tokens {
			if _, err := tx.Exec(ctx, `insert into token (hash, name, account, made) select $1, $2, $3, $4
				where not exists (select from token_gone where hash = $1) on conflict do nothing`, g.Hash, g.Name, g.Account, g.Made); err != nil {
				return err
			}
		}
		_, err := tx.Exec(ctx, "delete from token where hash in (select hash from token_gone)")
		return err
	})
	if err != nil {
		return fmt.Errorf("take in the partner's accounts: %w", err)
	}
	return nil
}

func (s *Store) exec(ctx context.Context, what, sql string, args ...any) error {
	if _, err := s.pool.Exec(ctx, sql, args...); err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	return nil
}
