package journal

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

	"yarnpost/service/lock"
)

// Limits of the journal, in entries.
const (
	gatherLimit = 16384 // waiting for a commit; more is refused
	batchLimit  = 1024  // in one commit
)

// Journal records leases: while one batch commits, the next gathers. Entries
// become durable in the order in which they were added. When a batch fails, so
// does all that gathered meanwhile, since it may build on it.
type Journal struct {
	Config
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
	stats    Stats

	// Of the goroutine that records:
	conn    Conn
	batch   int64   // number of the last batch tried
	durable int64   // number of the last batch that is on record
	holding []Entry // the rest of a batch that is taken apart
	done    chan struct{}
}

// Config says what a journal works with.
type Config struct {
	Database Database
	Epoch    int64 // run of the service
	Owner    Owner
	Now      func() time.Time         // tells the time of what is recorded
	Durable  func(epoch, batch int64) // is told of each batch that is on record
	Log      *slog.Logger
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
	// Everything gives all that is to be on record, for a database that was set back.
	Everything(leases func([]Entry) error) (sets map[uint64][]byte, body []byte, err error)
	// WasSetBack is told that the database was set back and has everything again.
	WasSetBack(cause error, leases int)
}

// Start starts a journal that writes by a connection that was taken already.
func Start(ctx context.Context, c Config, conn Conn) (*Journal, error) {
	j := &Journal{Config: c, pending: map[netip.Prefix]int{}, unwanted: map[uint64]bool{}, done: make(chan struct{})}
	j.wake = sync.NewCond(&j.mu)
	if err := j.adopt(ctx, conn); err != nil {
		return nil, fmt.Errorf("journal: %w", err)
	}
	go j.run()
	go j.watch()
	return j, nil
}

// watchEvery is how often an idle journal asks the database for a sign.
const watchEvery = 500 * time.Millisecond

// watch has an idle journal ask the database for a sign, so that it is known to be
// away before somebody needs it.
func (j *Journal) watch() {
	for {
		select {
		case <-j.done:
			return
		case <-time.After(watchEvery):
		}
		lock.While(&j.mu, func() {
			if j.idle = true; len(j.gathered) == 0 {
				j.wake.Signal()
			}
		})
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

// StuckAfter is for how long a commit may take before nothing more is promised that
// would have to wait for it.
const StuckAfter = 3 * time.Second

// ErrStuck says that a commit takes too long.
var ErrStuck = fmt.Errorf("the database has not answered for more than %s", StuckAfter)

// Down is why nothing can be recorded now, or nil.
func (j *Journal) Down() error {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.down == nil && !j.began.IsZero() && j.Now().Sub(j.began) > StuckAfter {
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
	return j.stats, len(j.gathered)
}

// Close records what has been added and ends the journal.
func (j *Journal) Close() {
	lock.While(&j.mu, func() {
		j.closing = true
		j.wake.Signal()
	})
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
			j.Owner.Recorded(batch)
		}
	})
	defer telling.Wait()
	defer close(durable)
	for {
		batch, closing, refused := j.next()
		switch {
		case len(batch) > 0:
			j.record(batch, durable)
		case closing:
			return
		case refused:
			j.tryAgain()
		default:
			j.ask()
		}
	}
}

// next waits for something to do, and takes the next batch; an empty one means that the
// journal closes, or that it is time to look at the database.
func (j *Journal) next() (batch []Entry, closing, refused bool) {
	j.mu.Lock()
	defer j.mu.Unlock()
	for len(j.gathered) == 0 && !j.closing && !j.idle {
		j.wake.Wait()
	}
	j.idle = false
	if len(j.gathered) == 0 {
		return nil, j.closing, j.refused != nil
	}
	n := min(len(j.gathered), batchLimit)
	for j.gathered[n-1].more { // what belongs together is not split
		n++
	}
	batch = slices.Clone(j.gathered[:n])
	j.gathered = append(j.gathered[:0], j.gathered[n:]...)
	return batch, false, false
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
		if errors.Is(err, ErrUnknown) {
			err = j.resolve(part, err)
		}
		switch {
		case err == nil:
			j.settle(part, spent)
			durable <- part
			size = 2 * n
		case !errors.Is(err, ErrUnfit):
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

// refuse undoes entries that the database refuses for what they hold, with whatever
// builds on them.
func (j *Journal) refuse(batch []Entry, err error) {
	for _, e := range batch {
		if e.After != nil {
			j.Log.Error("the database refuses a lease, which is undone", "address", e.After.Prefix, "client",
				hex.EncodeToString(e.After.Client.Append(nil)), "err", err)
		}
	}
	j.Owner.Undo(func() []Entry {
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
		j.stats.Refused += uint64(len(batch))
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
	var tried []Entry
	lock.While(&j.mu, func() { tried = j.tried })
	var err error
	j.timed(func() { err = j.conn.Try(ctx, j.batchOf(tried, j.batch+1)) })
	switch {
	case j.conn.Closed():
		lock.While(&j.mu, func() { j.refused = nil })
		j.fail(nil, err)
	case err == nil:
		lock.While(&j.mu, func() { j.refused, j.tried = nil, nil })
		j.Log.Info("the database takes records again")
	}
}

func (j *Journal) batchOf(entries []Entry, number int64) *Batch {
	return &Batch{Epoch: j.Epoch, Number: number, After: j.durable, At: j.Now(), Entries: entries}
}

// timed does what waits for the database, so that Down knows since when.
func (j *Journal) timed(work func()) time.Duration {
	began := j.Now()
	lock.While(&j.mu, func() { j.began = began })
	defer lock.While(&j.mu, func() { j.began = time.Time{} })
	work()
	return j.Now().Sub(began)
}

// ask finds out whether the database is there and still this process's, with nothing
// to write.
func (j *Journal) ask() {
	ctx, cancel := context.WithTimeout(context.Background(), askLong)
	defer cancel()
	var err error
	j.timed(func() {
		var epoch, last int64
		epoch, last, err = j.conn.Place(ctx)
		if err == nil && (epoch != j.Epoch || last != j.durable) {
			err = j.turnedAway(ctx)
		}
		if errors.Is(err, ErrSetBack) || errors.Is(err, ErrFenced) {
			j.conn.Close(ctx)
		}
	})
	if err != nil && j.conn.Closed() {
		j.fail(nil, err)
	}
}

// settle notes that the batch is durable.
func (j *Journal) settle(batch []Entry, spent time.Duration) {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.stats.Spent += spent
	j.stats.Batches++
	j.stats.Entries += uint64(len(batch))
	j.unpend(batch)
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
		j.Log.Error("leases could not be recorded and are undone", "entries", len(batch), "err", err)
	} else {
		j.Log.Error("the database is away", "err", err)
	}
	lost := j.conn.Closed()
	j.Owner.Undo(func() []Entry {
		j.mu.Lock()
		defer j.mu.Unlock()
		all := append(append(append([]Entry(nil), batch...), j.holding...), j.gathered...)
		j.gathered, j.holding = j.gathered[:0], nil
		j.stats.Failed += uint64(len(all))
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

// resolve finds out what became of a batch of unknown outcome. Until then its
// leases are frozen: they stay pending, and what gathered behind it is undone.
func (j *Journal) resolve(batch []Entry, cause error) error {
	j.Log.Error("the outcome of a commit is unknown; its leases are frozen until the database tells", "entries", len(batch), "err", cause)
	j.Owner.Undo(func() []Entry {
		j.mu.Lock()
		defer j.mu.Unlock()
		behind := append(append([]Entry(nil), j.holding...), j.gathered...)
		j.gathered, j.holding = j.gathered[:0], nil
		j.stats.Failed += uint64(len(behind))
		j.unpend(behind)
		j.down = cause
		return behind
	})
	tried := j.batch
	if last := j.reconnect(cause); last == tried && tried != 0 {
		j.Log.Info("the commit had happened; its leases stand", "entries", len(batch))
		return nil
	}
	return cause
}

// reconnect tries until the database is back, and gives the number of the last
// batch it knows. It gives up when the journal closes.
func (j *Journal) reconnect(cause error) (last int64) {
	for wait := firstPause; ; wait = min(2*wait, lastPause) {
		if j.isClosing() {
			return 0
		}
		err := j.connect()
		if errors.Is(err, ErrSetBack) {
			err = j.restore(err)
		}
		if err == nil {
			j.setDown(nil)
			j.Log.Info("the database is back; leases are recorded again")
			return j.durable
		}
		if errors.Is(err, ErrFenced) || errors.Is(err, ErrLocked) {
			cause = err
		}
		j.setDown(cause)
		if errors.Is(cause, ErrFenced) { // for good: what this process knows is old
			j.Log.Error("this service answers nobody any more, since another one has taken its database", "err", cause)
			j.await()
			return 0
		}
		time.Sleep(wait)
	}
}

// Pauses between attempts to reach the database.
const (
	firstPause = 100 * time.Millisecond
	lastPause  = 2 * time.Second
)

func (j *Journal) isClosing() bool {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.closing
}

func (j *Journal) setDown(cause error) {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.down = cause
}

// await waits until the journal closes.
func (j *Journal) await() {
	j.mu.Lock()
	defer j.mu.Unlock()
	for !j.closing {
		j.wake.Wait()
	}
}

// connectTime is how long an attempt to reach the database may take.
const connectTime = 10 * time.Second

// connect opens the writing connection again.
func (j *Journal) connect() error {
	ctx, cancel := context.WithTimeout(context.Background(), connectTime)
	defer cancel()
	conn, err := j.Database.Take(ctx)
	if errors.Is(err, ErrLocked) { // has its holder taken over, or is it our own dead connection?
		if epoch, asked := j.Database.Epoch(ctx); asked == nil && epoch > j.Epoch {
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
func (j *Journal) adopt(ctx context.Context, conn Conn) error {
	epoch, last, err := conn.Place(ctx)
	if err != nil {
		return err
	}
	switch {
	case epoch > j.Epoch:
		return ErrFenced
	case j.conn == nil: // the first time
		j.batch, j.durable = last, last
	case epoch < j.Epoch, last != j.durable && last != j.batch:
		return j.setBackTo(epoch, last)
	default:
		j.durable = last
	}
	if err := conn.Prepare(ctx); err != nil {
		return err
	}
	j.conn = conn
	return nil
}

func (j *Journal) setBackTo(epoch, last int64) error {
	return fmt.Errorf("%w: it knows batch %d of its run %d, and %d of run %d was the last", ErrSetBack, last, epoch, j.durable, j.Epoch)
}

// commit makes a batch durable. An error that wraps ErrUnknown leaves open whether it is.
func (j *Journal) commit(entries []Entry) error {
	if !something(entries) {
		return nil // all of it waited for batches that are durable by now
	}
	j.batch++
	ctx, cancel := context.WithTimeout(context.Background(), commitTime)
	defer cancel()
	b := j.batchOf(entries, j.batch)
	b.Forget = j.forgotten()
	err := j.conn.Record(ctx, b)
	if errors.Is(err, ErrTurnedAway) {
		err = j.turnedAway(ctx)
	}
	if err == nil {
		j.durable = j.batch
		j.Durable(j.Epoch, j.durable)
		return nil
	}
	if errors.Is(err, ErrFenced) || errors.Is(err, ErrSetBack) || errors.Is(err, ErrUnknown) {
		j.conn.Close(ctx)
	}
	return err
}

// commitTime is how long a commit may take before its connection is given up.
const commitTime = 30 * time.Second

// turnedAway says why a batch was not taken: another process has the database, or the
// database does not know the batch before.
func (j *Journal) turnedAway(ctx context.Context) error {
	switch epoch, last, err := j.conn.Place(ctx); {
	case err != nil:
		return err
	case epoch > j.Epoch:
		return ErrFenced
	default:
		return j.setBackTo(epoch, last)
	}
}

// restoreTime is how long it may take to write everything again.
const restoreTime = 10 * time.Minute

// restore writes everything into a database that was set back while the journal ran: what
// is in memory is what was acknowledged.
func (j *Journal) restore(cause error) error {
	j.Log.Error("the database was set back; all that it lost and memory has is written again", "err", cause)
	ctx, cancel := context.WithTimeout(context.Background(), restoreTime)
	defer cancel()
	leases, err := j.conn.Restore(ctx, j.Epoch, j.durable, j.Owner.Everything)
	if err == nil {
		err = j.conn.Prepare(ctx)
	}
	if err != nil {
		j.Log.Error("what the database lost could not be written yet", "err", err)
		j.conn.Close(ctx)
		return fmt.Errorf("%w, and cannot take what it lost: %w", cause, err)
	}
	j.batch = j.durable
	j.Durable(j.Epoch, j.durable)
	j.Owner.WasSetBack(cause, leases)
	return nil
}
