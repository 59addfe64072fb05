package journal

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/netip"
	"slices"
	"sync"
	"testing"
	"time"

	"yarnpost/core/lease"
)

// disk is a database in memory that fails as real ones do. What of a batch is on record is
// in rows, the newest of each key.
type disk struct {
	mu      sync.Mutex
	epoch   int64
	batch   int64
	rows    map[netip.Prefix]*lease.Lease
	batches [][]Entry
	fail    func(*Batch) failure // what becomes of the next batch; nil: it is recorded
	away    int                  // attempts to connect that fail
	locked  bool
	empty   bool // its tables are gone
}

// failure is what becomes of a batch.
type failure int

const (
	none        failure = iota
	refused             // certainly not recorded
	unfitting           // for what it holds
	lostBefore          // the connection is lost, and nothing is recorded
	lostBehind          // the connection is lost, and the batch is recorded
	lostNoticed         // the connection is lost, which is known to have come first
)

// line is a connection to a disk.
type line struct {
	d      *disk
	closed bool
}

func newDisk() *disk { return &disk{epoch: 1, rows: map[netip.Prefix]*lease.Lease{}} }

func (d *disk) Take(context.Context) (Conn, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.away > 0 {
		d.away--
		return nil, errors.New("nobody answers")
	}
	if d.locked {
		return nil, ErrLocked
	}
	return &line{d: d}, nil
}

func (d *disk) Epoch(context.Context) (int64, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.epoch, nil
}

func (l *line) Place(context.Context) (epoch, batch int64, err error) {
	l.d.mu.Lock()
	defer l.d.mu.Unlock()
	switch {
	case l.closed:
		return 0, 0, errors.New("the connection is closed")
	case l.d.empty:
		return 0, 0, ErrSetBack
	}
	return l.d.epoch, l.d.batch, nil
}

func (l *line) Prepare(context.Context) error { return nil }
func (l *line) Closed() bool                  { return l.closed }
func (l *line) Close(context.Context)         { l.closed = true }

func (l *line) Record(_ context.Context, b *Batch) error {
	d := l.d
	d.mu.Lock()
	defer d.mu.Unlock()
	what := none
	if d.fail != nil {
		what = d.fail(b)
	}
	switch {
	case what == refused:
		return errors.New("the disk is full")
	case what == unfitting:
		return fmt.Errorf("%w: a text", ErrUnfit)
	case what == lostNoticed:
		l.closed = true
		return errors.New("the connection was lost before anything was sent")
	case what == lostBefore:
		return fmt.Errorf("%w: the connection was lost", ErrUnknown)
	case d.empty:
		return ErrSetBack
	case b.Epoch != d.epoch || b.After != d.batch:
		return ErrTurnedAway
	}
	d.batch = b.Number
	d.batches = append(d.batches, slices.Clone(b.Entries))
	for _, e := range b.Entries {
		if e.After != nil {
			d.rows[e.After.Prefix] = e.After
		}
	}
	if what == lostBehind {
		return fmt.Errorf("%w: the connection was lost", ErrUnknown)
	}
	return nil
}

func (l *line) Try(_ context.Context, b *Batch) error {
	l.d.mu.Lock()
	defer l.d.mu.Unlock()
	if l.d.fail != nil && l.d.fail(b) == refused {
		return errors.New("the disk is full")
	}
	return nil
}

func (l *line) Restore(_ context.Context, epoch, batch int64, everything Everything) (leases int, err error) {
	_, _, err = everything(func(part []Entry) error {
		l.d.mu.Lock()
		defer l.d.mu.Unlock()
		for _, e := range part {
			l.d.rows[e.After.Prefix] = e.After
			leases++
		}
		return nil
	})
	l.d.mu.Lock()
	defer l.d.mu.Unlock()
	l.d.epoch, l.d.batch, l.d.empty = epoch, batch, false
	return leases, err
}

func (d *disk) set(f func()) {
	d.mu.Lock()
	defer d.mu.Unlock()
	f()
}

// owner decides, as an engine does: what it believes stands in a table, and what it was told
// is durable.
type owner struct {
	mu       sync.Mutex
	table    map[netip.Prefix]*lease.Lease
	recorded []Entry
	undone   []Entry
	setBack  int
}

func (o *owner) Recorded(list []Entry) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.recorded = append(o.recorded, list...)
}

func (o *owner) Undo(take func() []Entry) {
	o.mu.Lock()
	defer o.mu.Unlock()
	lost := take()
	for _, e := range slices.Backward(lost) {
		if e.After == nil {
			continue
		}
		if e.Before == nil {
			delete(o.table, e.After.Prefix)
		} else {
			o.table[e.After.Prefix] = e.Before
		}
	}
	o.undone = append(o.undone, lost...)
}

func (o *owner) Everything(leases func([]Entry) error) (map[uint64][]byte, []byte, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	var all []Entry
	for _, l := range o.table {
		all = append(all, Entry{After: l})
	}
	return nil, nil, leases(all)
}

func (o *owner) WasSetBack(error, int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.setBack++
}

func (o *owner) told() int {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.setBack
}

func (o *owner) counts() (recorded, undone int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return len(o.recorded), len(o.undone)
}

func (o *owner) await(t *testing.T, recorded, undone int) {
	t.Helper()
	for range 2000 {
		if r, u := o.counts(); r == recorded && u == undone {
			return
		}
		time.Sleep(5 * time.Millisecond)
	}
	r, u := o.counts()
	t.Fatalf("%d entries recorded and %d undone, want %d and %d", r, u, recorded, undone)
}

// add decides that an address has a lease that expires at a moment.
func (o *owner) add(j *Journal, n int, expires lease.Time) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.addLocked(j, n, expires)
}

func (o *owner) addLocked(j *Journal, n int, expires lease.Time) bool {
	l := &lease.Lease{Prefix: key(n), Status: lease.Active, Expires: expires}
	if !j.Add(Entry{Before: o.table[l.Prefix], After: l}) {
		return false
	}
	o.table[l.Prefix] = l
	return true
}

func key(n int) netip.Prefix {
	return lease.Host(netip.AddrFrom4([4]byte{10, 40, byte(n >> 8), byte(n)}))
}

func start(t *testing.T, d *disk) (*Journal, *owner) {
	t.Helper()
	o := &owner{table: map[netip.Prefix]*lease.Lease{}}
	conn, err := d.Take(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	j, err := Start(context.Background(), Config{Database: d, Epoch: 1, Owner: o, Now: time.Now, Durable: func(int64, int64) {},
		Log: slog.New(slog.DiscardHandler)}, conn)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(j.Close)
	return j, o
}

// Entries become durable in their order, many with one commit, and those that belong
// together are never split over two.
func TestTogether(t *testing.T) {
	d := newDisk()
	j, o := start(t, d)
	const pairs = 3 * batchLimit
	for n := range pairs {
		one, two := &lease.Lease{Prefix: key(n), Expires: lease.Time(2 * n)}, &lease.Lease{Prefix: key(n + 1), Expires: lease.Time(2*n + 1)}
		if !j.Add(Entry{After: one}, Entry{After: two}) {
			t.Fatal("not taken")
		}
	}
	o.await(t, 2*pairs, 0)
	for i, e := range o.recorded {
		if e.After.Expires != lease.Time(i) {
			t.Fatalf("entry %d was recorded as number %d", e.After.Expires, i)
		}
	}
	for _, b := range d.batches {
		if b[0].After.Expires%2 != 0 || len(b)%2 != 0 {
			t.Errorf("a commit of %d entries begins with number %d", len(b), b[0].After.Expires)
		}
	}
	if len(d.batches) == pairs {
		t.Error("each pair took a commit of its own")
	}
	if j.Add(make([]Entry, gatherLimit+1)...) {
		t.Error("more was taken than there is room for")
	}
}

// A commit of which the outcome is unknown is looked for once the database is back: it
// stands if it happened, and is undone if not. What gathered behind it is undone at once.
func TestUnknownOutcome(t *testing.T) {
	for what, stands := range map[failure]bool{lostBehind: true, lostBefore: false, lostNoticed: false} {
		d := newDisk()
		j, o := start(t, d)
		reached, release := make(chan bool), make(chan bool)
		d.set(func() {
			d.away = 2
			d.fail = func(*Batch) failure {
				d.fail = nil
				close(reached)
				<-release
				return what
			}
		})
		o.add(j, 1, 100)
		<-reached
		o.add(j, 2, 100) // gathers behind
		if !j.Pending(key(1)) {
			t.Error("an address is not pending while its commit is under way")
		}
		close(release)
		if stands {
			o.await(t, 1, 1)
		} else {
			o.await(t, 0, 2)
		}
		for range 1000 {
			if j.Down() == nil {
				break
			}
			time.Sleep(5 * time.Millisecond)
		}
		if !o.add(j, 3, 100) {
			t.Fatal("the journal does not come back")
		}
		o.await(t, map[bool]int{true: 2, false: 1}[stands], map[bool]int{true: 1, false: 2}[stands])
		if _, there := d.rows[key(1)]; there != stands || j.Pending(key(1)) || j.Pending(key(2)) {
			t.Errorf("failure %d: on record %v, pending %v %v", what, there, j.Pending(key(1)), j.Pending(key(2)))
		}
	}
}

// Another process that took the database fences this one off for good; one that merely
// holds its lock is waited for.
func TestFenced(t *testing.T) {
	d := newDisk()
	j, o := start(t, d)
	d.set(func() { d.epoch = 2 })
	o.add(j, 1, 100)
	for range 1000 {
		if errors.Is(j.Down(), ErrFenced) {
			break
		}
		time.Sleep(5 * time.Millisecond)
	}
	if !errors.Is(j.Down(), ErrFenced) || len(d.rows) > 0 || o.add(j, 2, 100) {
		t.Errorf("%v, %d rows", j.Down(), len(d.rows))
	}
}

// Whatever the database does, what the owner was told is durable is on record, what it was
// told is undone is not, and in the end its table is what is on record.
func TestFaultsAtRandom(t *testing.T) {
	recorded, undone := 0, 0
	for seed := range uint64(20) {
		random, choices := rand.New(rand.NewPCG(seed, 1)), rand.New(rand.NewPCG(seed, 2))
		d := newDisk()
		j, o := start(t, d)
		d.set(func() {
			d.fail = func(b *Batch) failure {
				switch choices.IntN(12) {
				case 0:
					d.away = choices.IntN(2)
					return lostBefore
				case 1:
					return lostBehind
				case 2:
					return lostNoticed
				case 3:
					if slices.ContainsFunc(b.Entries, func(e Entry) bool { return e.After != nil && e.After.Expires%5 == 0 }) {
						return unfitting
					}
				}
				return none
			}
		})
		expires, taken := lease.Time(0), 0
		for range 400 {
			expires++
			if o.add(j, random.IntN(12), expires) {
				taken++
			} else {
				time.Sleep(time.Millisecond)
			}
			if random.IntN(40) == 0 {
				time.Sleep(time.Millisecond)
			}
		}
		d.set(func() { d.fail = nil })
		for range 2000 {
			if r, u := o.counts(); r+u == taken {
				break
			}
			time.Sleep(5 * time.Millisecond)
		}
		j.Close()
		r, u := o.counts()
		if r+u != taken {
			t.Fatalf("seed %d: %d recorded and %d undone of %d", seed, r, u, taken)
		}
		recorded, undone = recorded+r, undone+u
		was := map[lease.Time]bool{}
		for _, e := range o.recorded {
			was[e.After.Expires] = true
		}
		for _, b := range d.batches {
			for _, e := range b {
				if !was[e.After.Expires] {
					t.Fatalf("seed %d: number %d is on record, and its owner was told that it is undone", seed, e.After.Expires)
				}
				delete(was, e.After.Expires)
			}
		}
		if len(was) > 0 {
			t.Fatalf("seed %d: %d entries are not on record, and their owner was told that they are", seed, len(was))
		}
		for k, l := range o.table {
			if d.rows[k] != l {
				t.Fatalf("seed %d: %s is %+v, and on record %+v", seed, k, l, d.rows[k])
			}
		}
		if len(d.rows) != len(o.table) {
			t.Fatalf("seed %d: %d rows, %d in the table", seed, len(d.rows), len(o.table))
		}
	}
	if recorded < 1000 || undone < 500 {
		t.Errorf("only %d recorded and %d undone", recorded, undone)
	}
}

// A database that was set back gets everything again.
func TestSetBack(t *testing.T) {
	d := newDisk()
	j, o := start(t, d)
	for n := range 20 {
		o.add(j, n, 100)
	}
	o.await(t, 20, 0)
	d.set(func() { d.rows, d.batch = map[netip.Prefix]*lease.Lease{}, 0 })
	for range 1000 {
		if o.told() > 0 {
			break
		}
		time.Sleep(5 * time.Millisecond)
	}
	if o.setBack != 1 || len(d.rows) != 20 {
		t.Errorf("told %d times, %d rows", o.setBack, len(d.rows))
	}
	for range 1000 {
		if j.Down() == nil {
			break
		}
		time.Sleep(5 * time.Millisecond)
	}
	if !o.add(j, 30, 100) {
		t.Fatal("it does not go on")
	}
	o.await(t, 21, 0)
}
