package pair

import (
	"encoding/binary"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"time"

	"yarnpost/core/effect"
	"yarnpost/core/lease"
	"yarnpost/core/pair/message"
)

// patience is how long an acknowledgement is waited for.
const patience = 10 * time.Second

// outbox are unacknowledged updates: records that the partner did not acknowledge, in the order in which
// they came to be owed, each once, however often it changed.
type outbox struct {
	queue    []netip.Prefix
	queued   map[netip.Prefix]bool // true: it is sent even if it is not owed
	flying   map[uint32]flight     // by transaction
	airborne map[netip.Prefix]bool // keys of those; true: it changed since
	refused  map[netip.Prefix]bool // the partner knows something newer, and will say it
	claimed  map[netip.Prefix]bool // taken from the partner while it was down, which it does not know yet
	retried  lease.Time            // when those were queued again
	promised uint32                // transaction of a request for updates; 0: none
	left     map[netip.Prefix]bool // that were asked for, and are not acknowledged yet
}

// flight is one message that is not acknowledged yet.
type flight struct {
	sent []sent
	at   lease.Time
}

type sent struct {
	key     netip.Prefix
	version lease.VersionVector
	told    lease.Moment
	anyway  bool // it was asked for, owed or not
	found   bool // it told that two clients had it
}

func (d *outbox) init() {
	*d = outbox{queued: map[netip.Prefix]bool{}, flying: map[uint32]flight{}, airborne: map[netip.Prefix]bool{},
		refused: map[netip.Prefix]bool{}, claimed: map[netip.Prefix]bool{}}
}

func (d *outbox) count() int { return len(d.queued) + len(d.airborne) + len(d.refused) }

func (d *outbox) add(k netip.Prefix) {
	delete(d.refused, k)
	if _, up := d.airborne[k]; up {
		d.airborne[k] = true
		return
	}
	if _, waits := d.queued[k]; !waits {
		d.queue = append(d.queue, k)
		d.queued[k] = false
	}
}

// anyway adds a record that is sent even if it is not owed.
func (d *outbox) anyway(k netip.Prefix) {
	d.add(k)
	if _, waits := d.queued[k]; waits {
		d.queued[k] = true
	}
	if d.left != nil {
		d.left[k] = true
	}
}

// retry queues again what the partner turned down.
func (d *outbox) retry() {
	for _, k := range slices.SortedFunc(maps.Keys(d.refused), netip.Prefix.Compare) {
		d.add(k)
	}
}

// cut says that the connection is gone: what was under way is owed as before.
func (d *outbox) cut() {
	var again []netip.Prefix
	for _, n := range slices.Sorted(maps.Keys(d.flying)) {
		for _, one := range d.flying[n].sent {
			again = append(again, one.key)
		}
	}
	clear(d.flying)
	clear(d.airborne)
	d.promised, d.left = 0, nil
	queue := d.queue
	d.queue = nil
	for _, k := range again { // before the others: they were owed first
		d.queue = append(d.queue, k)
		if _, waits := d.queued[k]; !waits {
			d.queued[k] = false
		}
	}
	d.queue = append(d.queue, queue...)
}

// age gives up on acknowledgements that do not come, and tries again what came to
// nothing.
func (d *outbox) age(now lease.Time) {
	if now.Sub(d.retried) > patience {
		d.retried = now
		d.retry()
	}
	for _, n := range slices.Sorted(maps.Keys(d.flying)) {
		f := d.flying[n]
		if now.Sub(f.at) > patience {
			delete(d.flying, n)
			for _, one := range f.sent {
				delete(d.airborne, one.key)
				if d.add(one.key); one.anyway {
					d.queued[one.key] = true
				}
			}
		}
	}
}

// promise notes that the partner wants to know when all is sent that is owed now.
func (d *outbox) promise(transaction uint32) {
	d.promised, d.left = transaction, map[netip.Prefix]bool{}
	for k := range d.queued {
		d.left[k] = true
	}
	for k := range d.airborne {
		d.left[k] = true
	}
}

// Tell says that a record is durable which the partner has to know.
func (s *Server) Tell(k netip.Prefix) { s.outbox.add(k) }

// Lost says that changes could not be recorded: they are undone, and what was owed
// before is owed as ever.
func (s *Server) Lost(changes []lease.Change) {
	for _, c := range changes {
		if c.Before != nil && c.Before.Owed {
			s.outbox.refused[c.Before.Prefix] = true
		}
		if own := s.set.Side.Free(); c.After.Status == own && (c.Before == nil || c.Before.Status != own) {
			delete(s.outbox.claimed, c.After.Prefix) // that was the claim
		}
	}
}

// Pump sends what may be sent.
func (s *Server) Pump(now lease.Time) []effect.List {
	s.pump(now)
	return s.take()
}

func (s *Server) pump(now lease.Time) {
	if !s.link.agreed {
		return
	}
	s.feed()
	for len(s.outbox.flying) < s.Sizes.Window && len(s.outbox.queue) > 0 {
		if !s.sendSome(now) {
			break
		}
	}
	if d := &s.outbox; d.promised != 0 && len(d.left) == 0 && s.walks.all == nil {
		s.send(message.Message{Type: message.UpdDone, Transaction: d.promised}, now)
		d.promised, d.left = 0, nil
	}
}

// sendable reports whether the record of a key can be told now: nothing is that is
// not on record here, with the debt of telling it (rule 3). Whatever is owed behind
// it waits, too, since the order matters to shares.
func (s *Server) sendable(k netip.Prefix) bool { return s.Off[3] || !s.Pending(k) }

// sendSome sends a message of some updates, and reports whether there is reason to
// go on.
func (s *Server) sendSome(now lease.Time) bool {
	d := &s.outbox
	m := message.Message{Type: message.BndUpd}
	f := flight{at: now}
	for len(d.queue) > 0 && len(f.sent) < s.Sizes.Together {
		k := d.queue[0]
		l := s.table.Get(k)
		anyway := d.queued[k]
		var found *Conflict
		if l != nil && !l.Block() {
			found = s.rec.untold(l.Address())
		}
		if l == nil || !l.Owed && !anyway && found == nil {
			d.drop(k)
			continue
		}
		if !s.sendable(k) {
			break
		}
		// A share says of addresses that nobody ever had them: whatever became of one
		// was owed before, and must have arrived.
		if l.Block() && len(d.flying)+len(f.sent) > 0 {
			break
		}
		u := message.Update{Lease: *l, Lifetime: l.Told.Time()}
		if found != nil {
			u.Kept, u.Other, u.Until = found.Kept, found.Other, found.Until
		}
		o, err := u.Option(now)
		if err != nil { // no record that the table holds is one that cannot be told
			d.drop(k)
			continue
		}
		m.Options = append(m.Options, o)
		f.sent = append(f.sent, sent{k, l.Version, l.Told, anyway, u.Kept != ""})
		d.queue = d.queue[1:]
		delete(d.queued, k)
		d.airborne[k] = false
		if l.Block() {
			break
		}
	}
	if len(f.sent) == 0 {
		return false
	}
	s.send(m, now)
	s.stats.Sent += uint64(len(f.sent))
	d.flying[s.link.number] = f
	return true
}

// drop takes the first of the queue out: it is not owed any more.
func (d *outbox) drop(k netip.Prefix) {
	d.queue = d.queue[1:]
	delete(d.queued, k)
	delete(d.left, k)
}

// acknowledged takes in what the partner says to updates (RFC 8156 section 7.6): an
// address that nobody holds is free for others only from now on (rule 5).
func (s *Server) acknowledged(m message.Message, now lease.Time) error {
	d := &s.outbox
	f, ok := d.flying[m.Transaction]
	if !ok {
		return nil // it comes too late
	}
	delete(d.flying, m.Transaction)
	s.stats.Wait += (now.Sub(f.at) - s.stats.Wait) / 32
	var answers []message.Options
	for _, o := range m.Options {
		if o.Code == message.ClientData {
			data, err := message.DecodeOptions(o.Data)
			if err != nil {
				return err
			}
			answers = append(answers, data)
		}
	}
	var changes []lease.Change
	for i, one := range f.sent {
		again := d.airborne[one.key]
		delete(d.airborne, one.key)
		delete(d.left, one.key)
		turnedDown := i >= len(answers)
		if !turnedDown {
			b, said := answers[i].Get(message.StatusCode)
			turnedDown = said && (len(b) < 2 || binary.BigEndian.Uint16(b) != 0)
		}
		if one.found && i < len(answers) {
			s.rec.setTold(true, one.key.Addr())
		}
		if !turnedDown { // else it may give the address yet
			delete(d.claimed, one.key)
		}
		l := s.table.Get(one.key)
		switch {
		case turnedDown && l != nil && l.Owed && l.Version == one.version:
			d.refused[one.key] = true
			s.stats.Rejected++
		case !turnedDown && l != nil && l.Owed && l.Version == one.version:
			changes = append(changes, lease.Change{Before: l, After: s.known(l, one.told), Quiet: true})
			s.stats.Acknowledged++
		}
		if again {
			d.add(one.key)
		}
	}
	if len(changes) > 0 {
		s.begin()
		s.do(effect.Effect{Do: effect.Record, Changes: changes})
		s.begin()
	}
	return nil
}

// known is a record that the partner knows now.
func (s *Server) known(l *lease.Lease, told lease.Moment) *lease.Lease {
	n := *l
	n.Owed = false
	switch n.Status {
	case lease.Active:
		n.Acked = max(n.Acked, told)
	case lease.PendingFree:
		n.Status = lease.Free
		n.Told, n.Acked = 0, 0
	case lease.Free, lease.FreeBackup:
		n.Told, n.Acked = 0, 0
	}
	return &n
}

// TellAgain changes records as this server's, so that the partner is told of them
// whatever it knows.
func (s *Server) TellAgain(keys []netip.Prefix, now lease.Time) ([]effect.List, error) {
	if s.state != Normal {
		return nil, fmt.Errorf("the servers do not work together now: this one is in %s", s.state)
	}
	var changes []lease.Change
	for _, k := range keys {
		before := s.table.Get(k)
		if before == nil {
			continue
		}
		after := *before
		s.mark(before, &after)
		changes = append(changes, lease.Change{Before: before, After: &after})
	}
	if len(changes) == 0 {
		return nil, fmt.Errorf("this server knows nothing of these addresses; mend them from the other")
	}
	s.change(changes)
	return s.take(), nil
}
