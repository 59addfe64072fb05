package pair

import (
	"math/rand/v2"
	"net/netip"
	"testing"

	"yarnpost/core/answer"
	"yarnpost/core/lease"
	"yarnpost/core/pair/message"
	"yarnpost/core/plan"
)

// Each transition of RFC 8156 section 8, and that nothing else makes one.
func TestTransitions(t *testing.T) {
	heard := func(partner State) Inputs { return Inputs{Connected: true, Partner: partner} }
	with := func(in Inputs, f func(*Inputs)) Inputs { f(&in); return in }
	was := func(before State, in Inputs) Inputs { in.Before = before; return in }
	primary := func(in *Inputs) { in.Side = lease.Primary }
	secondary := func(in *Inputs) { in.Side = lease.Secondary }
	updated := func(in *Inputs) { in.Updated = true }
	starting := func(in *Inputs) { in.Starting = true }
	down := Inputs{Down: true}
	for _, c := range []struct {
		from State
		in   Inputs
		to   State
	}{
		// 8.2 a start waits for the partner, then goes on where it was
		{Startup, was(Normal, Inputs{}), Startup},
		{Startup, was(Normal, Inputs{BootOver: true}), CommunicationsInterrupted},
		{Startup, was(Normal, heard(Normal)), CommunicationsInterrupted},
		{Startup, was(CommunicationsInterrupted, heard(PartnerDown)), Recover},
		{Startup, was(PartnerDown, heard(Recover)), PartnerDown},
		{Startup, was(PotentialConflict, heard(PotentialConflict)), ResolutionInterrupted},
		{Startup, was(ConflictDone, Inputs{BootOver: true}), ResolutionInterrupted},
		{Startup, was(RecoverWait, heard(PartnerDown)), Recover},
		{Startup, was(RecoverDone, heard(PartnerDown)), RecoverDone},
		{Startup, was(0, heard(Normal)), Recover},
		// 8.5 the partner is down, until it has recovered
		{PartnerDown, Inputs{}, PartnerDown},
		{PartnerDown, heard(Recover), PartnerDown},
		{PartnerDown, heard(RecoverWait), PartnerDown},
		{PartnerDown, heard(RecoverDone), Normal},
		{PartnerDown, with(heard(RecoverDone), func(in *Inputs) { in.Claims = true }), PartnerDown},
		{PartnerDown, heard(PartnerDown), PotentialConflict},
		{PartnerDown, heard(CommunicationsInterrupted), PotentialConflict},
		{PartnerDown, with(heard(CommunicationsInterrupted), starting), PartnerDown}, // it will recover
		{PartnerDown, heard(ResolutionInterrupted), PotentialConflict},
		// 8.6 to 8.8 who was away takes in what happened, and waits
		{Recover, Inputs{}, Recover},
		{Recover, heard(PartnerDown), Recover},
		{Recover, with(heard(PartnerDown), updated), RecoverWait},
		{Recover, down, PartnerDown},
		{Recover, heard(PotentialConflict), PotentialConflict},
		{RecoverWait, heard(PartnerDown), RecoverWait},
		{RecoverWait, with(heard(PartnerDown), func(in *Inputs) { in.WaitOver = true }), RecoverDone},
		{RecoverWait, Inputs{WaitOver: true}, Recover}, // it has to learn what happens meanwhile
		{RecoverDone, Inputs{}, Recover},
		{RecoverDone, heard(PartnerDown), RecoverDone},
		{RecoverDone, heard(Normal), Normal},
		{RecoverDone, heard(RecoverDone), Normal},
		// 8.9 and 8.10 all is well, or the wire is cut
		{Normal, heard(Normal), Normal},
		{Normal, heard(CommunicationsInterrupted), Normal},
		{Normal, heard(ConflictDone), Normal},
		{Normal, Inputs{}, CommunicationsInterrupted},
		{Normal, heard(Recover), CommunicationsInterrupted},
		{Normal, heard(PartnerDown), PotentialConflict},
		{CommunicationsInterrupted, heard(Normal), Normal},
		{CommunicationsInterrupted, with(heard(Normal), starting), CommunicationsInterrupted},
		{CommunicationsInterrupted, heard(RecoverDone), Normal},
		{CommunicationsInterrupted, heard(Recover), CommunicationsInterrupted},
		{CommunicationsInterrupted, heard(PartnerDown), PotentialConflict},
		{CommunicationsInterrupted, down, PartnerDown},
		// 8.11 to 8.13 both thought that the other was down
		{PotentialConflict, Inputs{}, ResolutionInterrupted},
		{PotentialConflict, with(with(heard(PotentialConflict), primary), updated), ConflictDone},
		{PotentialConflict, with(with(heard(PotentialConflict), secondary), updated), PotentialConflict},
		{PotentialConflict, with(with(heard(ConflictDone), secondary), updated), Normal},
		{ResolutionInterrupted, heard(PotentialConflict), PotentialConflict},
		{ResolutionInterrupted, down, PartnerDown},
		{ConflictDone, heard(Normal), Normal},
		{ConflictDone, heard(PotentialConflict), ConflictDone},
		{ConflictDone, heard(PartnerDown), PotentialConflict},
		{ConflictDone, Inputs{}, ConflictDone},
	} {
		if got := Next(c.from, c.in); got != c.to {
			t.Errorf("%s with %+v goes to %s, want %s", c.from, c.in, got, c.to)
		}
	}
}

// Whatever the inputs, a server that recovers or compares answers nobody new, and
// nobody gets from there to serving without the partner or a person.
func TestServing(t *testing.T) {
	for s := Startup; s <= ConflictDone; s++ {
		name := s.String()
		if back, ok := ParseState(name); !ok || back != s {
			t.Errorf("%s is read as %s", name, back)
		}
		silent := s == Startup || s == Recover || s == RecoverWait || s == PotentialConflict
		if got := s.Serving(); silent != (got == answer.Nobody) || (s == RecoverDone) != (got == answer.Renewals) {
			t.Errorf("in %s it serves %d", s, got)
		}
		next := Next(s, Inputs{WaitOver: true, Updated: true})
		if s != Startup && s != PotentialConflict && s.Serving() != answer.Everybody && next.Serving() == answer.Everybody {
			t.Errorf("from %s it gets to %s by itself", s, next)
		}
	}
}

// The mixing table is a permutation, and clients spread over the buckets.
func TestBuckets(t *testing.T) {
	var seen [256]bool
	for _, n := range mixing {
		seen[n] = true
	}
	for n, ok := range seen {
		if !ok {
			t.Errorf("%d is missing", n)
		}
	}
	var count [256]int
	for n := range 25600 {
		count[Bucket(lease.Client{Kind: lease.Hardware, Number: 1, ID: string([]byte{2, 0x40, 0, 0, byte(n >> 8), byte(n)})})]++
	}
	for b, n := range count {
		if n < 50 || n > 200 {
			t.Errorf("bucket %d has %d clients of 25,600", b, n)
		}
	}
	if Bucket(lease.Client{}) != 0 {
		t.Error("nobody has a bucket")
	}
}

// Two records that were made without knowledge of each other become one and the same on
// both servers, whichever hears of the other first, even where the two read each other's
// clocks a second apart.
func TestMergingIsTheSameOnBothSides(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	const now = lease.Time(1_790_000_000)
	key := lease.Host(netip.MustParseAddr("10.40.8.17"))
	one := func(side lease.Side, v lease.VersionVector) lease.Lease {
		list := []lease.Status{lease.Active, lease.Active, lease.Released, lease.Abandoned, side.Free()}
		if side == lease.Primary {
			list = append(list, lease.PendingFree, lease.FreeBackup)
		}
		l := lease.Lease{Prefix: key, Status: list[random.IntN(len(list))], Owed: true, Version: v,
			Client: lease.ByIdentifier([]byte{1, byte(random.IntN(2))}), Heard: now - lease.Time(random.IntN(3)),
			Changed: now - 5, Expires: now - 5 + lease.Time(random.IntN(2)*1000), Told: lease.MomentOf(now + lease.Time(random.IntN(500)))}
		if l.Status == lease.Active {
			l.Expires = now + 100 + lease.Time(random.IntN(3))
		} else if l.Status != lease.Released {
			l.Expires = l.Changed
		}
		return l
	}
	told := func(l lease.Lease, skewed bool) *message.Update { // as the other server reads it
		if skewed {
			for _, at := range []*lease.Time{&l.Heard, &l.Expires} {
				*at += lease.Time(random.IntN(3) - 1)
			}
		}
		return &message.Update{Lease: l, Lifetime: l.Told.Time()}
	}
	for n := range 6_000 {
		skewed := n%2 == 1
		a, b := one(lease.Primary, lease.VersionVector{Primary: 3, Secondary: 1}), one(lease.Secondary, lease.VersionVector{Primary: 2,
			Secondary: 2})
		var servers [2]*Server
		for i, l := range []*lease.Lease{&a, &b} {
			side := lease.Side(i + 1)
			table := lease.New(plan.New(), now)
			table.Pair(side)
			table.Put(l)
			servers[i] = New(Settings{Side: side}.Defaults(), table, Record{State: CommunicationsInterrupted}, now)
		}
		for i, theirs := range []lease.Lease{b, a} {
			c, turnedDown := servers[i].decide(told(theirs, skewed), now)
			if !turnedDown || c.After == nil || !c.After.Owed {
				t.Fatalf("%d: %+v, %v", n, c, turnedDown)
			}
			servers[i].table.Put(c.After)
		}
		x, y := *servers[0].table.Get(key), *servers[1].table.Get(key)
		same := func(x, y lease.Lease) bool {
			if y.Status == lease.Free && x.Status == lease.PendingFree {
				y.Status = x.Status // what the primary keeps is its own for the secondary
			}
			return x.Status == y.Status && x.Client == y.Client && (skewed || x.Heard == y.Heard && x.Expires == y.Expires)
		}
		if both := a.Status == lease.Active && b.Status == lease.Active && a.Client != b.Client; both !=
			(len(servers[0].rec.Conflicts) == 1) || both != (len(servers[1].rec.Conflicts) == 1) {
			t.Fatalf("%d: two clients: %v, findings: %+v, %+v", n, both, servers[0].rec.Conflicts, servers[1].rec.Conflicts)
		}
		if !skewed && !same(x, y) || x.Over() && y.Over() && !same(x, y) {
			t.Fatalf("%d: %+v and %+v become\n%+v\n%+v", n, a, b, x, y)
		}
		if c, _ := servers[0].decide(told(y, skewed), now); c.After != nil { // the primary's stands
			t.Fatalf("%d: the primary takes in the secondary's %+v", n, y)
		}
		c, _ := servers[1].decide(told(x, skewed), now)
		if c.After == nil || c.After.Version != x.Version || !same(x, *c.After) {
			t.Fatalf("%d: the secondary makes %+v of %+v", n, c.After, x)
		}
	}
}
