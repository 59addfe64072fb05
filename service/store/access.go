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
	rows, err := s.pool.Query(ctx, "select name, password, must_change from account")
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
		insert into account values ($1, $2, $3) on conflict (name) do update set password = excluded.password, must_change = excluded.must_change`,
		a.Name, a.Password, a.MustChange)
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
	return s.exec(ctx, "end token", "delete from token where account = $1 and name = $2", account, name)
}

func (s *Store) exec(ctx context.Context, what, sql string, args ...any) error {
	if _, err := s.pool.Exec(ctx, sql, args...); err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	return nil
}
