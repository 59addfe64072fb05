package store

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

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

// Limits of the journal, in entries.
const (
	gatherLimit = 16384 // waiting for a commit; more is refused
	batchLimit  = 1024  // in one commit
)

// Journal records leases: while one batch commits, the next gathers. Entries
// become durable in the order in which they were added. When a batch fails, so
// does all that gathered meanwhile, since it may build on it.
type Journal struct {
	store *Store
	log   *slog.Logger
	owner Owner

	mu       sync.Mutex
	wake     *sync.Cond
	gathered []Entry
	pending  map[netip.Prefix]int // entries not yet durable, by key
	unwanted map[uint64]bool      // digests of sets that go with the next batches
	down     error                // why nothing can be recorded; nil while all is well
	refused  error                // why the database refuses whatever is to be recorded, or nil
	tried    []Entry              // what it refused last, to be tried again without effect
	began    time.Time            // when the commit began that is under way; zero if none is
	idle     bool                 // since the last look at the database
	closing  bool
	done     chan struct{}
	conn     *pgx.Conn
	batch    int64   // number of the last batch tried
	durable  int64   // number of the last batch that is on record
	mark     *mark   // the same outside the database
	holding  []Entry // the rest of a batch that is taken apart
	rows     rows
	now      func() time.Time

	Stats Stats
}

// Stats counts the journal's work; read it with Snapshot.
type Stats struct {
	Batches, Entries, Failed uint64
	Refused                  uint64        // entries that the database refused for what they hold
	Spent                    time.Duration // on commits
}

// Owner is told what became of entries.
type Owner interface {
	// Recorded gets entries that are durable now, in order.
	Recorded([]Entry)
	// Undo must lock out whoever adds entries, call take, and undo what take
	// gives, last first.
	Undo(take func() []Entry)
	// Everything gives all that is on record, for a database that was set back: leases a
	// part at a time, sets by their digests, and where this server of a pair stands.
	Everything(leases func([]Entry) error) (sets map[uint64][]byte, body []byte, err error)
	// WasSetBack is told that the database was set back and has everything again.
	WasSetBack(cause error, leases int)
}

// NewJournal starts the journal; now tells the time of what is recorded.
func (s *Store) NewJournal(ctx context.Context, log *slog.Logger, owner Owner, now func() time.Time) (*Journal, error) {
	j := &Journal{store: s, log: log, owner: owner, now: now, pending: map[netip.Prefix]int{}, unwanted: map[uint64]bool{}, rows: newRows(),
		done: make(chan struct{})}
	j.wake = sync.NewCond(&j.mu)
	if err := j.adopt(ctx, s.writer); err != nil {
		return nil, fmt.Errorf("journal: %w", err)
	}
	s.writer = nil
	j.mark = s.mark
	go j.run()
	go j.watch()
	return j, nil
}

// watch has an idle journal ask the database for a sign, so that it is known to be
// away before somebody needs it.
func (j *Journal) watch() {
	for {
		select {
		case <-j.done:
			return
		case <-time.After(watchEvery):
		}
		j.mu.Lock()
		if j.idle = true; len(j.gathered) == 0 {
			j.wake.Signal()
		}
		j.mu.Unlock()
	}
}

// Add queues entries that belong together, so that they become durable at once
// or not at all, and reports whether they were taken. They are not while the
// database is away or too much waits already. Call it under the lock that orders
// decisions.
func (j *Journal) Add(entries ...Entry) bool {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.down != nil || j.refused != nil || j.closing || len(j.gathered)+len(entries) > gatherLimit {
		return false
	}
	for i, e := range entries {
		e.more = i < len(entries)-1
		j.gathered = append(j.gathered, e)
		if e.After != nil {
			j.pending[e.After.Prefix]++
		}
		if e.Set != nil {
			delete(j.unwanted, e.After.Given)
		}
	}
	j.wake.Signal()
	return true
}

// Forget drops sets to which no lease refers any more, before it writes the
// next ones; those of a batch that fails stay until the next start. Call it
// under the lock that orders decisions.
func (j *Journal) Forget(digests []uint64) {
	j.mu.Lock()
	defer j.mu.Unlock()
	for _, d := range digests {
		j.unwanted[d] = true
	}
}

// forgetLimit is how many sets go with one batch.
const forgetLimit = 1000

// forgotten takes some of the sets that go.
func (j *Journal) forgotten() (digests []int64) {
	j.mu.Lock()
	defer j.mu.Unlock()
	for d := range j.unwanted {
		if len(digests) == forgetLimit {
			break
		}
		digests = append(digests, int64(d))
		delete(j.unwanted, d)
	}
	return digests
}

// Pending reports whether a key has a record that is not yet durable.
func (j *Journal) Pending(a netip.Prefix) bool {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.pending[a] > 0
}

// askLong is how long a look at the database may take before its connection is given up.
const askLong = 30 * time.Second

// stuckAfter is for how long a commit may take before nothing more is promised that
// would have to wait for it.
const stuckAfter = 3 * time.Second

// ErrStuck says that a commit takes too long.
var ErrStuck = fmt.Errorf("the database has not answered for more than %s", stuckAfter)

// Down is why nothing can be recorded now, or nil.
func (j *Journal) Down() error {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.down == nil && !j.began.IsZero() && j.now().Sub(j.began) > stuckAfter {
		return ErrStuck
	}
	if j.down == nil && j.refused != nil {
		return j.refused
	}
	return j.down
}

// Snapshot is a copy of the statistics, and how many entries wait.
func (j *Journal) Snapshot() (Stats, int) {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.Stats, len(j.gathered)
}

// Close records what has been added and ends the journal.
func (j *Journal) Close() {
	j.mu.Lock()
	j.closing = true
	j.wake.Signal()
	j.mu.Unlock()
	<-j.done
	if j.conn != nil {
		j.conn.Close(context.Background())
	}
}

func (j *Journal) run() {
	defer close(j.done)
	// While replies leave, the next batch commits already.
	durable := make(chan []Entry)
	var telling sync.WaitGroup
	telling.Go(func() {
		for batch := range durable {
			j.owner.Recorded(batch)
		}
	})
	defer telling.Wait()
	defer close(durable)
	for {
		j.mu.Lock()
		for len(j.gathered) == 0 && !j.closing && !j.idle {
			j.wake.Wait()
		}
		j.idle = false
		if len(j.gathered) == 0 {
			closing := j.closing
			refused := j.refused != nil
			j.mu.Unlock()
			if closing {
				return
			}
			if refused {
				j.tryAgain()
			} else {
				j.ask()
			}
			continue
		}
		n := min(len(j.gathered), batchLimit)
		for j.gathered[n-1].more { // what belongs together is not split
			n++
		}
		batch := append([]Entry(nil), j.gathered[:n]...)
		j.gathered = append(j.gathered[:0], j.gathered[n:]...)
		j.mu.Unlock()
		j.record(batch, durable)
	}
}

// record makes a batch durable, and hands on what is. What is not is undone. A batch in
// which the database refuses something is recorded in ever smaller parts, so that it
// costs what is refused alone, and what builds on it.
func (j *Journal) record(batch []Entry, durable chan<- []Entry) {
	j.holding = batch
	for size := len(batch); len(j.holding) > 0; {
		n := min(size, len(j.holding))
		for j.holding[n-1].more { // what belongs together is not split
			n++
		}
		part := j.holding[:n]
		j.holding = j.holding[n:]
		var err error
		spent := j.timed(func() { err = j.commit(part) })
		var unknown *unknownOutcome
		if errors.As(err, &unknown) {
			err = j.resolve(part, err)
		}
		switch {
		case err == nil:
			j.settle(part, spent)
			durable <- part
			size = 2 * n
		case !unfit(err):
			j.fail(part, err)
		case together(part):
			j.refuse(part, err)
			size = max(1, size)
		default:
			j.holding = append(part[:n:n], j.holding...)
			size = max(1, n/2)
		}
	}
}

// together reports whether entries belong together, so that they cannot be taken apart.
func together(part []Entry) bool {
	return !slices.ContainsFunc(part[:len(part)-1], func(e Entry) bool { return !e.more })
}

// unfit reports whether the database refused a statement for what it holds (SQLSTATE
// classes 22, 23 and 54), and not for how the database itself is.
func unfit(err error) bool {
	var pg *pgconn.PgError
	if !errors.As(err, &pg) || len(pg.Code) != 5 || pg.Severity != "ERROR" {
		return false
	}
	return pg.Code[:2] == "22" || pg.Code[:2] == "23" || pg.Code[:2] == "54"
}

// refuse undoes entries that the database refuses for what they hold, with whatever
// builds on them.
func (j *Journal) refuse(batch []Entry, err error) {
	for _, e := range batch {
		if e.After != nil {
			j.log.Error("the database refuses a lease, which is undone", "address", e.After.Prefix, "client",
				hex.EncodeToString(e.After.Client.Append(nil)), "err", err)
		}
	}
	j.owner.Undo(func() []Entry {
		j.mu.Lock()
		defer j.mu.Unlock()
		lost := append([]Entry(nil), batch...)
		keys := map[netip.Prefix]bool{}
		for _, e := range batch {
			if e.After != nil {
				keys[e.After.Prefix] = true
			}
		}
		j.holding, lost = without(j.holding, keys, lost)
		j.gathered, lost = without(j.gathered, keys, lost)
		j.Stats.Refused += uint64(len(batch))
		j.unpend(lost)
		return lost
	})
}

// without takes out of entries, in their order, what builds on records of some keys, or
// belongs together with that, and adds it to what is lost.
func without(entries []Entry, keys map[netip.Prefix]bool, lost []Entry) (kept, all []Entry) {
	for at := 0; at < len(entries); {
		end := at + 1
		for end < len(entries) && entries[end-1].more {
			end++
		}
		group := entries[at:end]
		at = end
		if !slices.ContainsFunc(group, func(e Entry) bool {
			return e.After != nil && keys[e.After.Prefix] || e.After == nil && e.Body == nil && (!e.On.IsValid() || keys[e.On])
		}) {
			kept = append(kept, group...)
			continue
		}
		for _, e := range group {
			if e.After != nil {
				keys[e.After.Prefix] = true
			}
		}
		lost = append(lost, group...)
	}
	return kept, lost
}

// tryAgain finds out whether the database takes again what it refused last, without
// recording it.
func (j *Journal) tryAgain() {
	ctx, cancel := context.WithTimeout(context.Background(), askLong)
	defer cancel()
	j.mu.Lock()
	tried := j.tried
	j.mu.Unlock()
	var err error
	j.timed(func() {
		if _, err = j.conn.Exec(ctx, "begin"); err != nil {
			return
		}
		j.rows.fill(tried)
		values := j.rows.values(j.store.epoch, j.batch+1, j.durable, j.now())
		result := j.conn.PgConn().ExecPrepared(ctx, recordName, values, binaryFormat, nil).Read()
		if err = result.Err; err == nil {
			_, err = j.conn.Exec(ctx, "update server set last_batch = last_batch")
		}
		if _, after := j.conn.Exec(ctx, "rollback"); err == nil {
			err = after
		}
	})
	switch {
	case j.conn.IsClosed():
		j.mu.Lock()
		j.refused = nil
		j.mu.Unlock()
		j.fail(nil, err)
	case err == nil:
		j.mu.Lock()
		j.refused, j.tried = nil, nil
		j.mu.Unlock()
		j.log.Info("the database takes records again")
	}
}

// timed does what waits for the database, so that Down knows since when.
func (j *Journal) timed(work func()) time.Duration {
	began := j.now()
	j.mu.Lock()
	j.began = began
	j.mu.Unlock()
	work()
	j.mu.Lock()
	j.began = time.Time{}
	j.mu.Unlock()
	return j.now().Sub(began)
}

// ask finds out whether the database is there and still this process's, with nothing
// to write.
func (j *Journal) ask() {
	ctx, cancel := context.WithTimeout(context.Background(), askLong)
	defer cancel()
	var err error
	j.timed(func() {
		var epoch, last int64
		if err = j.conn.QueryRow(ctx, "select epoch, last_batch from server").Scan(&epoch, &last); err == nil &&
			(epoch != j.store.epoch || last != j.durable) || missing(err) {
			if err == nil {
				err = j.turnedAway(ctx)
			}
			j.conn.Close(ctx)
		}
	})
	if err != nil && j.conn.IsClosed() {
		j.fail(nil, err)
	}
}

// settle notes that the batch is durable.
func (j *Journal) settle(batch []Entry, spent time.Duration) {
	j.mu.Lock()
	j.Stats.Spent += spent
	j.Stats.Batches++
	j.Stats.Entries += uint64(len(batch))
	j.unpend(batch)
	j.mu.Unlock()
}

func (j *Journal) unpend(entries []Entry) {
	for _, e := range entries {
		if e.After == nil {
			continue
		}
		if a := e.After.Prefix; j.pending[a] > 1 {
			j.pending[a]--
		} else {
			delete(j.pending, a)
		}
	}
}

// fail undoes a batch that was certainly not recorded, and all behind it.
func (j *Journal) fail(batch []Entry, err error) {
	if len(batch) > 0 {
		j.log.Error("leases could not be recorded and are undone", "entries", len(batch), "err", err)
	} else {
		j.log.Error("the database is away", "err", err)
	}
	lost := j.conn.IsClosed()
	j.owner.Undo(func() []Entry {
		j.mu.Lock()
		defer j.mu.Unlock()
		all := append(append(append([]Entry(nil), batch...), j.holding...), j.gathered...)
		j.gathered, j.holding = j.gathered[:0], nil
		j.Stats.Failed += uint64(len(all))
		j.unpend(all)
		if lost {
			j.down = err
		} else if len(batch) > 0 {
			j.refused, j.tried = fmt.Errorf("the database refuses whatever is to be recorded: %w", err), batch
		}
		return all
	})
	if lost {
		j.reconnect(err)
	}
}

// unknownOutcome wraps the error of a commit that may or may not have happened.
type unknownOutcome struct{ error }

func (u *unknownOutcome) Unwrap() error { return u.error }

// resolve finds out what became of a batch of unknown outcome. Until then its
// leases are frozen: they stay pending, and what gathered behind it is undone.
func (j *Journal) resolve(batch []Entry, cause error) error {
	j.log.Error("the outcome of a commit is unknown; its leases are frozen until the database tells", "entries", len(batch), "err", cause)
	j.owner.Undo(func() []Entry {
		j.mu.Lock()
		defer j.mu.Unlock()
		behind := append(append([]Entry(nil), j.holding...), j.gathered...)
		j.gathered, j.holding = j.gathered[:0], nil
		j.Stats.Failed += uint64(len(behind))
		j.unpend(behind)
		j.down = cause
		return behind
	})
	tried := j.batch
	if last := j.reconnect(cause); last == tried && tried != 0 {
		j.log.Info("the commit had happened; its leases stand", "entries", len(batch))
		return nil
	}
	return cause
}

// reconnect tries until the database is back, and gives the number of the last
// batch it knows. It gives up when the journal closes.
func (j *Journal) reconnect(cause error) (last int64) {
	for wait := 100 * time.Millisecond; ; wait = min(2*wait, 2*time.Second) {
		j.mu.Lock()
		closing := j.closing
		j.mu.Unlock()
		if closing {
			return 0
		}
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		err := j.connect(ctx)
		cancel()
		if errors.Is(err, ErrSetBack) {
			err = j.restore(err)
		}
		if err == nil {
			j.mu.Lock()
			j.down = nil
			j.mu.Unlock()
			j.log.Info("the database is back; leases are recorded again")
			return j.durable
		}
		if errors.Is(err, ErrFenced) || errors.Is(err, errLocked) {
			cause = err
		}
		j.mu.Lock()
		j.down = cause
		j.mu.Unlock()
		if errors.Is(cause, ErrFenced) { // for good: what this process knows is old
			j.log.Error("this service answers nobody any more, since another one has taken its database", "err", cause)
			j.await()
			return 0
		}
		time.Sleep(wait)
	}
}

// await waits until the journal closes.
func (j *Journal) await() {
	j.mu.Lock()
	defer j.mu.Unlock()
	for !j.closing {
		j.wake.Wait()
	}
}

// connect opens the writing connection again.
func (j *Journal) connect(ctx context.Context) error {
	conn, err := j.store.lock(ctx)
	if errors.Is(err, errLocked) { // has its holder taken over, or is it our own dead connection?
		var epoch int64
		if j.store.pool.QueryRow(ctx, "select epoch from server").Scan(&epoch) == nil && epoch > j.store.epoch {
			err = ErrFenced
		}
	}
	if err != nil {
		return err
	}
	if err := j.adopt(ctx, conn); err != nil {
		if errors.Is(err, ErrSetBack) { // it is this process's all the same
			j.conn = conn
			return err
		}
		conn.Close(ctx)
		return err
	}
	return nil
}

// adopt checks that the database is still this process's, learns the last
// batch, and makes the connection the journal's own.
func (j *Journal) adopt(ctx context.Context, conn *pgx.Conn) error {
	var epoch, last int64
	if err := conn.QueryRow(ctx, "select epoch, last_batch from server").Scan(&epoch, &last); err != nil {
		if j.conn != nil && missing(err) {
			return fmt.Errorf("%w: %w", ErrSetBack, err)
		}
		return err
	}
	switch {
	case epoch > j.store.epoch:
		return ErrFenced
	case j.conn == nil: // the first time
		j.batch, j.durable = last, last
	case epoch < j.store.epoch, last != j.durable && last != j.batch:
		return fmt.Errorf("%w: it knows batch %d of its run %d, and %d of run %d was the last", ErrSetBack, last, epoch, j.durable, j.store.epoch)
	default:
		j.durable = last
	}
	if _, err := conn.Prepare(ctx, recordName, record); err != nil {
		return err
	}
	j.conn = conn
	return nil
}

const recordName = "record"

var binaryFormat = []int16{pgx.BinaryFormatCode} // of every parameter

// commit makes a batch durable. An error that wraps unknownOutcome leaves open
// whether it is.
func (j *Journal) commit(batch []Entry) error {
	r := &j.rows
	if r.fill(batch) == 0 && r.body == nil {
		return nil // all of it waited for batches that are durable by now
	}
	j.batch++
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	// Sets go and come rarely, before anything of the batch is sent.
	if gone := j.forgotten(); len(gone) > 0 {
		if _, err := j.conn.Exec(ctx, "delete from given_set where digest = any($1)", gone); err != nil {
			return err
		}
	}
	if len(r.sets) > 0 {
		if _, err := j.conn.Exec(ctx,
			"insert into given_set (digest, body) select * from unnest($1::bigint[], $2::bytea[]) on conflict do nothing", r.digests,
			r.sets); err != nil {
			return err
		}
	}
	if r.count == 0 {
		return j.outcome(ctx, j.commitBody(ctx))
	}
	result := j.conn.PgConn().ExecPrepared(ctx, recordName, r.values(j.store.epoch, j.batch, j.durable, j.now()), binaryFormat, nil).Read()
	err := result.Err
	if err == nil && result.CommandTag.RowsAffected() == 0 {
		err = j.turnedAway(ctx)
	}
	return j.outcome(ctx, err)
}

// turnedAway says why a batch was not taken: another process has the database, or the
// database does not know the batch before.
func (j *Journal) turnedAway(ctx context.Context) error {
	var epoch, last int64
	switch err := j.conn.QueryRow(ctx, "select epoch, last_batch from server").Scan(&epoch, &last); {
	case err != nil:
		return err
	case epoch > j.store.epoch:
		return ErrFenced
	}
	return fmt.Errorf("%w: it knows batch %d of its run %d, and %d of run %d was the last", ErrSetBack, last, epoch, j.durable, j.store.epoch)
}

// commitBody records where this server of a pair stands, and nothing else.
func (j *Journal) commitBody(ctx context.Context) error {
	var ours int // the pair may have ended meanwhile, which is no sign of another process
	err := j.conn.QueryRow(ctx, `with mark as (update server set last_batch = $2 where epoch = $1 and last_batch = $4 returning 1),
		p as (update pair set record = $3::jsonb from mark) select count(*) from mark`, j.store.epoch, j.batch, string(j.rows.body),
		j.durable).Scan(&ours)
	if err == nil && ours == 0 {
		return j.turnedAway(ctx)
	}
	return err
}

// outcome says what an error of a commit means: one that wraps unknownOutcome leaves
// open whether it happened.
func (j *Journal) outcome(ctx context.Context, err error) error {
	var pg *pgconn.PgError
	switch {
	case err == nil:
		j.durable = j.batch
		j.mark.note(j.store.epoch, j.durable)
		return nil
	case errors.Is(err, ErrFenced), errors.Is(err, ErrSetBack):
		j.conn.Close(ctx)
		return err
	case missing(err): // tables that were there are gone: somebody brings back an older state
		j.conn.Close(ctx)
		return fmt.Errorf("%w: %w", ErrSetBack, err)
	case errors.As(err, &pg) && pg.Severity == "ERROR" || pgconn.SafeToRetry(err):
		return err // the server itself said that it did not happen, or never heard of it
	}
	j.conn.Close(ctx)
	return &unknownOutcome{err}
}
