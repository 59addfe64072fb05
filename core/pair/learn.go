package pair

import (
	"cmp"
	"encoding/binary"
	"encoding/hex"
	"net/netip"
	"slices"

	"yarnpost/core/effect"
	"yarnpost/core/lease"
	"yarnpost/core/pair/message"
)

// learn takes updates in (RFC 8156 section 7.5): they are acknowledged once they are
// on record (rule 3).
func (s *Server) learn(m message.Message, now lease.Time) error {
	reply := message.Message{Type: message.BndReply, Transaction: m.Transaction}
	var changes []lease.Change
	pending := false // what was told before may be known, and not yet on record
	conflicts := s.stats.Conflicts
	for _, o := range m.Options {
		if o.Code != message.ClientData {
			continue
		}
		status := uint16(0)
		u, err := message.DecodeUpdate(o.Data, s.link.ahead, now)
		if err != nil { // it is turned down alone: the connection is needed for the others
			status = message.MissingBindingInformation
			s.stats.Unread++
		} else {
			pending = pending || s.Pending(u.Lease.Prefix)
			c, turnedDown := s.decide(&u, now)
			if c.After != nil {
				changes = append(changes, c)
			}
			if turnedDown {
				status = message.OutdatedBinding
			}
		}
		answer := append([]byte(nil), o.Data...)
		if status != 0 {
			code := message.Option{Code: message.StatusCode, Data: binary.BigEndian.AppendUint16(nil, status)}
			if answer, err = message.AppendOptions(answer, message.Options{code}); err != nil {
				return err
			}
		}
		reply.Options.Put(message.ClientData, answer)
	}
	s.begin()
	defer s.begin()
	if s.Off[3] {
		s.send(reply, now)
	}
	if len(changes) > 0 {
		s.do(effect.Effect{Do: effect.Record, Changes: changes})
	}
	found := s.stats.Conflicts > conflicts
	if found {
		rec := s.latest()
		s.do(effect.Effect{Do: effect.Save, Body: rec.Body()})
	}
	if len(changes) > 0 || pending || found {
		s.do(effect.Effect{Do: effect.Await})
	}
	if !s.Off[3] {
		s.send(reply, now)
	}
	if len(changes) > 0 {
		s.do(effect.Effect{Do: effect.Tell, Changes: changes})
	}
	return nil
}

// decide says what becomes of a record for an update, and whether the update is
// turned down, since this server did something that the partner did not know.
func (s *Server) decide(u *message.Update, now lease.Time) (c lease.Change, turnedDown bool) {
	before := s.table.Get(u.Lease.Prefix)
	n := u.Lease
	n.Owed = false
	if u.Kept != "" { // it may have been the only one that saw both
		s.found(&n, Conflict{Kept: u.Kept, Other: u.Other, Until: u.Until, At: now, Told: true})
	}
	if before != nil && before.Version == (lease.VersionVector{}) && before.Status == lease.Free && !before.Client.Known() {
		before = nil // what was taken back says nothing
	}
	switch {
	case before != nil && before.Version.Covers(n.Version):
		if before.Version == n.Version {
			delete(s.outbox.claimed, n.Prefix)
			return c, false
		}
		return c, true // what is newer here was not agreed to, and will be told
	case before != nil && n.Over() && s.promised(before):
		return c, true // not yet
	case before == nil || n.Version.Covers(before.Version):
		if before != nil && before.Client != n.Client && before.HeldAt(now) && n.HeldAt(now) {
			s.conflict(&n, before, now) // the partner compared the two first
		}
		s.adopt(&n, before, u)
		s.stats.Learned++
	default:
		turnedDown = true
		s.merge(&n, before, u, now)
		s.stats.Merged++
	}
	if !n.Owed || n.Status != s.set.Side.Free() {
		delete(s.outbox.claimed, n.Prefix) // the partner knows, or it is not this server's to give after all
	}
	return lease.Change{Before: before, After: &n}, turnedDown
}

// adopt makes the partner's record this server's, knowing all that this one knew.
func (s *Server) adopt(n, before *lease.Lease, u *message.Update) {
	n.Told = lease.MomentOf(u.Lifetime)
	if before != nil {
		n.Told = max(n.Told, before.Told)
		if n.Status == lease.Active && before.Status == lease.Active && n.Client == before.Client {
			n.Since = before.Since
		}
	}
	switch n.Status {
	case lease.Active:
		n.Acked = lease.MomentOf(u.Lifetime) // the partner reported it
		if before != nil && before.Status == lease.Active {
			n.Acked = max(n.Acked, before.Acked)
		}
	case lease.PendingFree: // the primary's, once it knows that this server knows
		n.Status, n.Told, n.Acked = lease.Free, 0, 0
	case lease.Free, lease.FreeBackup:
		n.Told, n.Acked = 0, 0
	default:
		if before != nil {
			n.Acked = before.Acked
		}
		if n.Limbo() && s.set.Side == lease.Primary && s.decides() {
			n.Version, n.Owed = n.Version.Next(lease.Primary), true
			s.settle(n)
		}
	}
}

// merge makes one record of two that were made without knowledge of each other. Both
// servers come to the same one, but for clocks that are read a second apart; then the
// primary's stands, whose record is newer. The partner is told of it.
func (s *Server) merge(n, before *lease.Lease, u *message.Update, now lease.Time) {
	told := max(lease.MomentOf(u.Lifetime), before.Told)
	version := n.Version.Join(before.Version)
	if s.set.Side == lease.Primary {
		version = version.Next(lease.Primary)
	}
	theirs := *n
	if !prevails(&theirs, before) {
		*n = *before
	}
	if theirs.Status == lease.Active && before.Status == lease.Active {
		if theirs.Client == before.Client {
			n.Expires, n.Heard = max(theirs.Expires, before.Expires), max(theirs.Heard, before.Heard)
		} else if theirs.HeldAt(now) && before.HeldAt(now) {
			other := &theirs
			if n.Client == other.Client {
				other = before
			}
			s.conflict(n, other, now)
		}
	}
	n.Version, n.Owed, n.Told = version, true, told
	if n.Acked = 0; n.Status == lease.Active {
		if theirs.Status == lease.Active {
			n.Acked = lease.MomentOf(u.Lifetime)
		}
		if before.Status == lease.Active {
			n.Acked = max(n.Acked, before.Acked)
		}
	}
	if n.Status == lease.PendingFree && s.set.Side == lease.Secondary {
		n.Status = lease.Free
	}
	if n.Limbo() && s.set.Side == lease.Primary && n.Status != lease.PendingFree && s.decides() {
		n.Version = n.Version.Next(lease.Primary)
		s.settle(n)
	}
}

// rank says which of two records prevails by its status: who may hold an address
// before whoever does not, and what the primary decided before what it did not know.
func rank(l *lease.Lease) int {
	switch {
	case l.Status == lease.Active:
		return 5
	case l.Status == lease.Abandoned:
		return 4
	case l.Kept():
		return 3
	case l.Status == lease.PendingFree, l.Status == lease.FreeBackup, l.Status == lease.Free:
		return 2
	}
	return 1
}

// prevails reports whether the first of two records prevails; of both servers one
// says so of one, and the other of the other. Of two that nobody holds any more no clock
// decides, which the two servers read a second apart.
func prevails(a, b *lease.Lease) bool {
	heard := 0
	if !a.Over() {
		heard = cmp.Compare(a.Heard, b.Heard)
	}
	return cmp.Or(cmp.Compare(rank(a), rank(b)), heard, cmp.Compare(a.Version.Primary, b.Version.Primary),
		cmp.Compare(a.Version.Secondary, b.Version.Secondary)) > 0
}

// conflict notes that an address is active for two clients: nothing of it is lost
// in silence (rule 7). The partner is told with the record.
func (s *Server) conflict(n, other *lease.Lease, now lease.Time) {
	c := Conflict{Kept: keyOf(n.Client), Other: keyOf(other.Client), At: now}
	if other.Expires != lease.Never {
		c.Until = max(other.Expires, other.Told.Time())
	}
	s.found(n, c)
}

func keyOf(c lease.Client) string { return hex.EncodeToString(c.Append(nil)) }

func (s *Server) found(n *lease.Lease, c Conflict) {
	if c.Address = n.Address(); !n.Prefix.IsSingleIP() {
		c.Length = n.Prefix.Bits()
	}
	i, known := s.rec.conflict(c.Address)
	switch {
	case known && s.rec.Conflicts[i].Kept == c.Kept && s.rec.Conflicts[i].Other == c.Other:
		return
	case known:
		s.rec.Conflicts = slices.Clone(s.rec.Conflicts)
		s.rec.Conflicts[i] = c
	case len(s.rec.Conflicts) < conflictsMost:
		s.rec.Conflicts = slices.Insert(slices.Clone(s.rec.Conflicts), i, c)
	}
	s.stats.Conflicts++
}

// forgetConflicts forgets the conflicts that are over: the client whose the address stayed
// has it no more, what the other was told has ended, or the other was given another address.
// Both servers come to that by themselves, and the disk hears of it with the next state.
func (s *Server) forgetConflicts(now lease.Time) {
	if len(s.rec.Conflicts) > 0 {
		s.rec.Conflicts = slices.DeleteFunc(slices.Clone(s.rec.Conflicts), func(c Conflict) bool { return s.over(&c, now) })
	}
}

func (s *Server) over(c *Conflict, now lease.Time) (over bool) {
	l := s.table.Get(c.key())
	if l == nil || !l.HeldAt(now) || keyOf(l.Client) != c.Kept || c.Until != 0 && now > c.Until {
		return true
	}
	raw, err := hex.DecodeString(c.Other)
	if err != nil {
		return true
	}
	other, err := lease.ParseClient(raw)
	if err != nil {
		return true
	}
	if v := s.table.Plan().ScopeAt(c.Address); v != nil {
		s.table.Bindings(v, other, func(b *lease.Lease) bool {
			over = b.HeldAt(now) && b.Prefix != l.Prefix
			return !over
		})
	}
	return over
}

// conflict is where an address is, or would be, among the conflicts.
func (r *Record) conflict(a netip.Addr) (int, bool) {
	return slices.BinarySearchFunc(r.Conflicts, a, func(c Conflict, a netip.Addr) int { return c.Address.Compare(a) })
}

// untold is what the partner may not know of an address: that two clients had it.
func (r *Record) untold(a netip.Addr) *Conflict {
	if i, ok := r.conflict(a); ok && !r.Conflicts[i].Told {
		return &r.Conflicts[i]
	}
	return nil
}

// setTold notes that the partner knows of conflicts, or, with false, that it may have lost
// what it knew. The record goes to the disk with the next state; told twice is no harm.
func (r *Record) setTold(now bool, list ...netip.Addr) {
	r.Conflicts = slices.Clone(r.Conflicts)
	for i := range r.Conflicts {
		if list == nil || slices.Contains(list, r.Conflicts[i].Address) {
			r.Conflicts[i].Told = now
		}
	}
}
