// Package journal records leases durably, many with one commit: while one batch commits, the
// next gathers. Here is the protocol of it: in which order entries become durable, what is
// undone when they do not, what is done about a commit of which the outcome is unknown, and
// how a process knows that the database is still its own and has all that was recorded. How a
// batch becomes rows, a Conn knows.
package journal

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"time"

	"yarnpost/core/lease"
)

// Entry is one decision on its way to the disk. Without After it has nothing
// to write and waits for what is written before it.
type Entry struct {
	Before, After *lease.Lease // of one address; Before is nil if it had no record
	Set           []byte       // of After.Given, if that was never recorded before
	Note          any          // whatever the owner wants back with it
	Quiet         bool         // the history gets no line of it
	Body          []byte       // where this server of a pair stands, as JSON, or nil
	On            netip.Prefix // without After: the key whose record it waits for; the zero prefix for all
	more          bool         // the next entry belongs to it
}

// Batch is what one commit records.
type Batch struct {
	Epoch   int64 // run of the service that records it
	Number  int64 // of the batch
	After   int64 // number of the one before, which has to be the last on record
	At      time.Time
	Entries []Entry
	Forget  []int64 // digests of sets that go
}

// Something reports whether a batch has anything to write.
func something(entries []Entry) bool {
	return slices.ContainsFunc(entries, func(e Entry) bool { return e.After != nil || e.Body != nil })
}

// Database is where leases are recorded.
type Database interface {
	// Take opens a connection that may write, and has the writer's lock with it: so no
	// commit of an earlier writer can still be under way. The error wraps ErrLocked while
	// another process holds it.
	Take(context.Context) (Conn, error)
	// Epoch is the run of the service that took the database last, asked beside the
	// writer's connection.
	Epoch(context.Context) (int64, error)
}

// Conn is a connection that may write.
type Conn interface {
	// Place is the run of the service that has the database, and the number of the batch
	// that was recorded last. The error wraps ErrSetBack if tables are missing.
	Place(context.Context) (epoch, batch int64, err error)
	// Prepare makes ready to record.
	Prepare(context.Context) error
	// Record records a batch as a whole or not at all. The error wraps ErrTurnedAway if the
	// database is not where the batch says; ErrUnfit if it refuses the batch for what it
	// holds; ErrSetBack if tables are missing; and ErrUnknown if it may be recorded all
	// the same.
	Record(context.Context, *Batch) error
	// Try does what Record does, to no effect.
	Try(context.Context, *Batch) error
	// Restore writes everything into a database that was set back, and notes that this run
	// has it and that this batch was the last; it counts the leases.
	Restore(ctx context.Context, epoch, batch int64, everything Everything) (leases int, err error)
	Closed() bool
	Close(context.Context)
}

// Everything gives all that is to be on record: leases a part at a time, sets by their
// digests, and where this server of a pair stands.
type Everything func(leases func([]Entry) error) (sets map[uint64][]byte, body []byte, err error)

// What may become of a batch. The errors of a Conn wrap these.
var (
	// ErrUnknown: it is not known whether it is on record.
	ErrUnknown = errors.New("the outcome of a commit is unknown")
	// ErrUnfit: the database refuses something for what it holds.
	ErrUnfit = errors.New("the database refuses it for what it holds")
	// ErrTurnedAway: another run has the database, or it does not have the batch before.
	ErrTurnedAway = errors.New("the database is not as it was left")
	// ErrLocked: another process may write.
	ErrLocked = errors.New("another service is using this database; stop it first, or name another database")
	// ErrFenced: another process has taken the database.
	ErrFenced = errors.New("another service has taken over this database")
	// ErrSetBack: the database does not have what was recorded in it.
	ErrSetBack = errors.New("the database was set back to an older state")
)
