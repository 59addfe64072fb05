package store

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"yarnpost/core/plan"
)

// Inspect sees whether a database can be had and keeps what it confirms, without
// taking it or changing anything. It gives the plan if there is one. Without a
// DSN it looks at the private cluster under the data folder, which need not be
// running or even exist.
func Inspect(ctx context.Context, dsn, data string) (*plan.Plan, error) {
	if dsn == "" {
		if _, err := findPostgres(); err != nil {
			return nil, err
		}
		if _, err := os.Stat(filepath.Join(data, "postgres", "postmaster.pid")); err != nil {
			return nil, nil // it will be made, or started
		}
		dir, err := filepath.Abs(data)
		if err != nil {
			return nil, err
		}
		dsn = socketDSN(filepath.Join(dir, "socket"))
	}
	pool, err := pgxpool.New(ctx, dsn)
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	defer pool.Close()
	var fsync, commit string
	if err := pool.QueryRow(ctx, "select current_setting('fsync'), current_setting('synchronous_commit')").Scan(&fsync, &commit); err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	if fsync != "on" || commit == "off" {
		return nil, fmt.Errorf("database: it does not keep what it confirms (fsync %s, synchronous_commit %s); turn both on", fsync, commit)
	}
	var there bool
	if err := pool.QueryRow(ctx, "select to_regclass('plan_item') is not null").Scan(&there); err != nil && !errors.Is(err, pgx.ErrNoRows) {
		return nil, fmt.Errorf("database: %w", err)
	}
	if !there {
		return nil, nil
	}
	return (&Store{pool: pool}).LoadPlan(ctx)
}
