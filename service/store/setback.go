package store

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// A database can be set back: a dump is restored, or a replica takes over that lags
// behind. What was acknowledged since is not in it any more. That shows by the number
// of the last batch, which each batch names as the one before it, and between runs by a
// mark that is kept beside the data, outside of the database.

// missing reports whether a table is not there that was.
func missing(err error) bool {
	var pg *pgconn.PgError
	return errors.Is(err, pgx.ErrNoRows) || errors.As(err, &pg) && (pg.Code == "42P01" || pg.Code == "3F000") // undefined table, schema
}

// mark is the file that says how far the database must be: the epoch, the last batch
// and the token of this run, which no older state can have.
type mark struct {
	file  *os.File
	token [16]byte
	log   *slog.Logger
	sick  bool // said that it cannot be written
}

// markSize is the length of the file: epoch, batch, token, and a sum over them; integers
// are big-endian.
const markSize = 8 + 8 + 16 + 4

// note says that a batch is on record. That the process is killed does not undo it; a
// loss of power may, and then a little less would be noticed.
func (m *mark) note(epoch, batch int64) {
	if m == nil {
		return
	}
	var b [markSize]byte
	binary.BigEndian.PutUint64(b[:], uint64(epoch))
	binary.BigEndian.PutUint64(b[8:], uint64(batch))
	copy(b[16:], m.token[:])
	binary.BigEndian.PutUint32(b[markSize-4:], crc32.ChecksumIEEE(b[:markSize-4]))
	if _, err := m.file.WriteAt(b[:], 0); err != nil && !m.sick {
		m.sick = true
		m.log.Warn("how far the database is cannot be noted beside it, so that after a restart it is not noticed if it was set back",
			"err", err)
	}
}

// SetBack is what is known of a database that was found to be older than it was left.
type SetBack struct {
	At    time.Time `json:"at"`    // when it was found
	Text  string    `json:"text"`  // how that shows
	Until int64     `json:"until"` // second since 1970 until which addresses may be held by clients that nobody knows
}

// Watermark compares the database with the mark in a folder, and begins a new one. It
// says how an older state shows, or "". Call it before StartJournal.
func (s *Store) Watermark(ctx context.Context, folder string, log *slog.Logger) (setBack string, err error) {
	restored := ""
	path := filepath.Join(folder, "journal.mark")
	b, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return "", fmt.Errorf("read how far the database was: %w", err)
	}
	if len(b) == markSize && binary.BigEndian.Uint32(b[markSize-4:]) == crc32.ChecksumIEEE(b[:markSize-4]) {
		epoch, batch := int64(binary.BigEndian.Uint64(b)), int64(binary.BigEndian.Uint64(b[8:]))
		switch before := s.epoch - 1; {
		case before < epoch:
			setBack = fmt.Sprintf("it knows %d runs of the service, and there were %d", before, epoch)
		case before == epoch && s.token != hex.EncodeToString(b[16:32]):
			setBack = "it is not the one that was used last"
		case before == epoch && s.last < batch:
			setBack = fmt.Sprintf("%d batches of leases were recorded in it by the last run, and %d are there", batch, s.last)
		}
	}
	if err := s.pool.QueryRow(ctx, "select restored from server").Scan(&restored); err != nil {
		return "", fmt.Errorf("see whether the database was restored: %w", err)
	}
	setBack = cmp.Or(setBack, restored)
	m := &mark{log: log}
	rand.Read(m.token[:])
	if _, err := s.pool.Exec(ctx, "update server set token = $1", hex.EncodeToString(m.token[:])); err != nil {
		return "", fmt.Errorf("begin a run: %w", err)
	}
	if m.file, err = os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600); err != nil {
		return "", fmt.Errorf("note how far the database is: %w", err)
	}
	if setBack != "" { // there is no way back to what was counted before
		s.epoch += 1 << 20
		if _, err := s.pool.Exec(ctx, "update server set epoch = $1", s.epoch); err != nil {
			return "", fmt.Errorf("begin a run: %w", err)
		}
	}
	m.note(s.epoch, s.last)
	s.mark = m
	return setBack, nil
}

// SaveSetBack keeps what is known of a database that was set back.
func (s *Store) SaveSetBack(ctx context.Context, b SetBack) error {
	_, err := s.pool.Exec(ctx, "update server set set_back = $1, restored = ''", b)
	if err != nil {
		return fmt.Errorf("note that the database was set back: %w", err)
	}
	return nil
}

// LoadSetBack gives what SaveSetBack kept last, or nil.
func (s *Store) LoadSetBack(ctx context.Context) (b *SetBack, err error) {
	if err = s.pool.QueryRow(ctx, "select set_back from server").Scan(&b); err != nil {
		return nil, fmt.Errorf("see whether the database was set back: %w", err)
	}
	return b, nil
}

// Alone reports whether the server was restored to leave its pair, and has not done that.
func (s *Store) Alone(ctx context.Context) (alone bool, err error) {
	if err = s.pool.QueryRow(ctx, "select alone from server").Scan(&alone); err != nil {
		return false, fmt.Errorf("see whether the pair is to be left: %w", err)
	}
	return alone, nil
}

// IsAlone records that it left its pair.
func (s *Store) IsAlone(ctx context.Context) error {
	return s.exec(ctx, "record that the pair was left", "update server set alone = false")
}
