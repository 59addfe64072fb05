package pair

import (
	"net/netip"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/effect"
	"yarnpost/core/lease"
	"yarnpost/core/pair/message"
	"yarnpost/core/plan"
)

func saved(t *testing.T, lists []effect.List) (out []Record) {
	t.Helper()
	for _, l := range lists {
		for _, f := range l {
			if f.Do == effect.Save {
				r, err := ParseRecord(f.Body)
				if err != nil {
					t.Fatal(err)
				}
				out = append(out, r)
			}
		}
	}
	return out
}

// A finding that is recorded while a state is on its way to the disk does not take
// the state back, and the state does not lose the finding.
func TestFindingBesideState(t *testing.T) {
	const now = lease.Time(1_790_000_000)
	key := lease.Host(netip.MustParseAddr("10.40.8.17"))
	held := func(client byte, v lease.VersionVector) lease.Lease {
		return lease.Lease{Prefix: key, Status: lease.Active, Client: lease.ByIdentifier([]byte{1, client}),
			Hardware: "\x02\x40\x00\x00\x00\x01",
			Heard:    now - 9, Changed: now - 9, Expires: now + 900, Version: v, Owed: true}
	}
	table := lease.New(plan.New(), now)
	table.Pair(lease.Primary)
	mine, theirs := held(1, lease.VersionVector{Primary: 2}), held(2, lease.VersionVector{Secondary: 2})
	table.Put(&mine)
	s := New(Settings{Side: lease.Primary}.Defaults(), table, Record{State: PartnerDown, Down: now - 99}, now)
	s.state = PartnerDown
	s.link = link{open: true, agreed: true, partner: PartnerDown, heard: now, measured: true}
	s.advance(now)
	if list := saved(t, s.take()); len(list) != 1 || list[0].State != PotentialConflict {
		t.Fatalf("it is about to record %+v", list)
	}
	o, err := (&message.Update{Lease: theirs}).Option(now)
	if err != nil {
		t.Fatal(err)
	}
	lists, err := s.Received(message.Message{Type: message.BndUpd, Transaction: 1, Sent: message.Stamp(now, now),
		Options: message.Options{o}}, now)
	if list := saved(t, lists); err != nil || len(list) != 1 || list[0].State != PotentialConflict || len(list[0].Conflicts) != 1 {
		t.Fatalf("behind it is recorded %+v, %v", list, err)
	}
	s.Entered(now)
	if r := s.Record(); r.State != PotentialConflict || len(r.Conflicts) != 1 {
		t.Errorf("it stands at %+v", r)
	}
}

// A conflict is over, and forgotten, once one of the two clients has the address no more.
func TestConflictsEnd(t *testing.T) {
	const now = lease.Time(1_790_000_000)
	d := plan.New().Draft()
	sc := plan.Scope{Name: "looms", Subnet: netip.MustParsePrefix("10.40.8.0/24")}
	if err := d.PlaceScope(&sc, "", nil); err != nil {
		t.Fatal(err)
	}
	if _, err := d.PutScope(sc); err != nil {
		t.Fatal(err)
	}
	p, _ := d.Finish()
	one, two := lease.ByIdentifier([]byte{1, 1}), lease.ByIdentifier([]byte{1, 2})
	held := func(at string, c lease.Client) *lease.Lease {
		return &lease.Lease{Prefix: lease.Host(netip.MustParseAddr(at)), Status: lease.Active, Client: c, Hardware: "\x02\x40\x00\x00\x00\x01",
			Heard: now, Changed: now, Expires: now + 900}
	}
	for name, c := range map[string]struct {
		happens func(s *Server)
		after   lease.Time
		stays   bool
	}{
		"nothing":                    {func(*Server) {}, 60, true},
		"the lease is ended":         {func(s *Server) { s.table.Put(held("10.40.8.17", one).Ended(lease.Free, now+1)) }, 60, false},
		"a third has it":             {func(s *Server) { s.table.Put(held("10.40.8.17", lease.ByIdentifier([]byte{1, 3}))) }, 60, false},
		"the other has another":      {func(s *Server) { s.table.Put(held("10.40.8.18", two)) }, 60, false},
		"somebody else has another":  {func(s *Server) { s.table.Put(held("10.40.8.18", lease.ByIdentifier([]byte{1, 3}))) }, 60, true},
		"what the other had is over": {func(s *Server) {}, 601, false},
	} {
		table := lease.New(p, now)
		table.Pair(lease.Primary)
		table.Put(held("10.40.8.17", one))
		s := New(Settings{Side: lease.Primary}.Defaults(), table, Record{State: Normal}, now)
		loser := held("10.40.8.17", two)
		loser.Expires = now + 600
		s.conflict(table.At(loser.Address()), loser, now)
		c.happens(s)
		s.Tick(now + c.after)
		if stays := len(s.rec.Conflicts) == 1; stays != c.stays {
			t.Errorf("%s: %+v", name, s.rec.Conflicts)
		}
	}
}

// An address that both servers gave, of which one saw both clients and the other only
// what became of it, is a finding at both: it is told with the record.
func TestFindingsAtBoth(t *testing.T) {
	const now = lease.Time(1_790_000_000)
	key := lease.Host(netip.MustParseAddr("10.40.8.17"))
	one, two := lease.ByIdentifier([]byte{1, 1}), lease.ByIdentifier([]byte{1, 2})
	of := func(c lease.Client, heard lease.Time, v lease.VersionVector) *lease.Lease {
		return &lease.Lease{Prefix: key, Status: lease.Active, Client: c, Hardware: "\x02\x40\x00\x00\x00\x01",
			Heard: heard, Changed: heard, Expires: now + 900, Version: v, Owed: true}
	}
	server := func(side lease.Side, l *lease.Lease) *Server {
		table := lease.New(plan.New(), now)
		table.Pair(side)
		table.Put(l)
		s := New(Settings{Side: side}.Defaults(), table, Record{State: Normal}, now)
		s.state = Normal
		s.link = link{open: true, agreed: true, partner: Normal, heard: now, measured: true}
		return s
	}
	// The primary hears of the secondary's client, and of both makes the secondary's.
	primary := server(lease.Primary, of(one, now-90, lease.VersionVector{Primary: 2}))
	theirs := of(two, now-9, lease.VersionVector{Secondary: 2})
	c, _ := primary.decide(&message.Update{Lease: *theirs}, now)
	if c.After == nil || c.After.Client != two || len(primary.rec.Conflicts) != 1 {
		t.Fatalf("%+v, %+v", c.After, primary.rec.Conflicts)
	}
	primary.table.Put(c.After)
	// All that the secondary hears is that record, which knows its own.
	secondary := server(lease.Secondary, theirs)
	found := primary.rec.untold(key.Addr())
	u := message.Update{Lease: *c.After, Lifetime: now + 900, Kept: found.Kept, Other: found.Other}
	tell := func() []Record {
		o, err := u.Option(now)
		if err != nil {
			t.Fatal(err)
		}
		lists, err := secondary.Received(message.Message{Type: message.BndUpd, Transaction: 1, Sent: message.Stamp(now, now),
			Options: message.Options{o}}, now)
		if err != nil {
			t.Fatal(err)
		}
		return saved(t, lists)
	}
	list := tell()
	if len(list) != 1 || len(list[0].Conflicts) != 1 || list[0].Conflicts[0].Kept != primary.rec.Conflicts[0].Kept ||
		list[0].Conflicts[0].Other != primary.rec.Conflicts[0].Other {
		t.Errorf("the secondary records %+v", list)
	}
	if again := tell(); len(again) != 0 {
		t.Errorf("told once more, it records %+v", again)
	}
	if primary.rec.setTold(true, key.Addr()); primary.rec.untold(key.Addr()) != nil {
		t.Error("it is told for ever")
	}
	if primary.rec.setTold(false); primary.rec.untold(key.Addr()) == nil {
		t.Error("a partner that lost all is not told again")
	}
}

// Servers whose clocks are ten minutes apart do not work together, and both say why, with
// the same words, until it is mended.
func TestClocksApart(t *testing.T) {
	const now = lease.Time(1_790_000_000)
	var servers [2]*Server
	clocks := [2]lease.Time{now, now + 600}
	for i, side := range []lease.Side{lease.Primary, lease.Secondary} {
		table := lease.New(plan.New(), clocks[i])
		table.Pair(side)
		servers[i] = New(Settings{Side: side, Name: "mill"}.Defaults(), table, Record{State: Normal}, clocks[i])
	}
	// Each says its part, the primary first; an error hangs up.
	meet := func() {
		says := servers[0].Opened(clocks[0])
		servers[1].Opened(clocks[1])
		for from := 0; ; from = 1 - from {
			var answers []effect.List
			for _, l := range says {
				for _, f := range l {
					if f.Do != effect.Send {
						continue
					}
					body, _, _ := message.Cut(f.Body)
					m, err := message.Decode(body)
					if err != nil {
						t.Fatal(err)
					}
					list, _ := servers[1-from].Received(m, clocks[1-from])
					answers = append(answers, list...)
				}
			}
			if says = answers; len(says) == 0 {
				break
			}
		}
		servers[0].Closed(clocks[0])
		servers[1].Closed(clocks[1])
	}
	for range 3 {
		meet()
		const want = "the clock of the secondary is 10m0s ahead of that of the primary, and 1m0s is the most; set both by a time server"
		for i, s := range servers {
			if s.Refused() != want {
				t.Errorf("server %d says %q", i, s.Refused())
			}
			servers[0].Opened(clocks[0]) // it tries again, and does not forget why meanwhile
		}
	}
	clocks[1] = now + 1
	meet()
	for i, s := range servers {
		if s.Refused() != "" {
			t.Errorf("with its clock set right server %d says %q", i, s.Refused())
		}
	}
}

// A shorter lead time does not shorten what was promised by the longer one.
func TestShorterLead(t *testing.T) {
	long := Settings{Side: lease.Secondary, Name: "mill", MCLT: 8 * time.Hour}.Defaults()
	short := long.Changed(Settings{MCLT: time.Hour})
	if short.MCLT != time.Hour || short.Wait() != 8*time.Hour || short.Side != lease.Secondary || short.Name != "mill" {
		t.Errorf("the settings are %+v", short)
	}
	const now = lease.Time(1_790_000_000)
	d := plan.New().Draft()
	sc := plan.Scope{Name: "looms", Subnet: netip.MustParsePrefix("10.77.0.0/24"), Mode: plan.Serving}
	if err := d.PlaceScope(&sc, "", nil); err != nil {
		t.Fatal(err)
	}
	if _, err := d.PutScope(sc); err != nil {
		t.Fatal(err)
	}
	p, _ := d.Finish()
	table := lease.New(p, now)
	table.Pair(lease.Secondary)
	s := New(short, table, Record{State: PartnerDown, Down: now}, now)
	s.state = PartnerDown
	for after, claims := range map[time.Duration]bool{2 * time.Hour: false, 9 * time.Hour: true} {
		s.claimSome(now.Add(after))
		if got := len(s.take()) > 0; got != claims {
			t.Errorf("after %s it takes the partner's addresses: %v", after, got)
		}
	}
}

// What is known of an update, and not yet on record, is not acknowledged by its being
// told once more (rule 3).
func TestToldTwice(t *testing.T) {
	const now = lease.Time(1_790_000_000)
	key := lease.Host(netip.MustParseAddr("10.40.8.17"))
	table := lease.New(plan.New(), now)
	table.Pair(lease.Primary)
	s := New(Settings{Side: lease.Primary}.Defaults(), table, Record{State: Normal}, now)
	s.state = Normal
	s.link = link{open: true, agreed: true, partner: Normal, heard: now, measured: true}
	durable := false
	s.Pending = func(netip.Prefix) bool { return !durable }
	o, err := (&message.Update{Lease: lease.Lease{Prefix: key, Status: lease.Active, Client: lease.ByIdentifier([]byte{1, 2}),
		Hardware: "\x02\x40\x00\x00\x00\x01", Heard: now - 9,
		Changed: now - 9, Expires: now + 900, Version: lease.VersionVector{Secondary: 2}, Owed: true}}).Option(now)
	if err != nil {
		t.Fatal(err)
	}
	// at once is whether something leaves before anything is waited for.
	tell := func(n uint32) (atOnce bool) {
		lists, err := s.Received(message.Message{Type: message.BndUpd, Transaction: n, Sent: message.Stamp(now, now),
			Options: message.Options{o}}, now)
		if err != nil {
			t.Fatal(err)
		}
		sent := 0
		for _, l := range lists {
			for _, f := range l {
				switch f.Do {
				case effect.Record:
					table.Put(f.Changes[0].After)
				case effect.Send:
					sent++
				}
			}
			if len(l) > 0 && l[0].Do == effect.Send {
				atOnce = true
			}
		}
		if sent != 1 {
			t.Errorf("told for the time %d, %d messages leave", n, sent)
		}
		return atOnce
	}
	if tell(1) {
		t.Error("it is acknowledged before it is on record")
	}
	if tell(2) {
		t.Error("told once more, it is acknowledged before it is on record")
	}
	durable = true
	if !tell(3) {
		t.Error("what is on record is not acknowledged at once")
	}
}

// A server that a person has rest answers nobody, one that cannot record answers those
// that renew with it; both everybody they can while the other does not take over.
func TestResting(t *testing.T) {
	const now = lease.Time(1_790_000_000)
	table := lease.New(plan.New(), now)
	table.Pair(lease.Primary)
	s := New(Settings{Side: lease.Primary}.Defaults(), table, Record{State: Normal}, now)
	s.state = Normal
	s.link = link{open: true, agreed: true, partner: Normal, heard: now, measured: true}
	expect := func(what string, want answer.Serving) {
		t.Helper()
		if got := s.Serving(); got != want {
			t.Errorf("%s, it serves %d, want %d", what, got, want)
		}
	}
	expect("at first", answer.Everybody)
	s.Unable(true, now)
	expect("without its database", answer.Holders)
	s.Pause(true, now)
	expect("paused, too", answer.Resting)
	s.Unable(false, now)
	expect("paused", answer.Resting)
	s.link.resting = true
	expect("paused, with a partner that rests", answer.Everybody)
	s.link.resting, s.link.partner = false, Recover
	expect("paused, with a partner that recovers", answer.Everybody)
	s.link.partner = Normal
	s.Pause(false, now)
	expect("in the end", answer.Everybody)
}

// The last address of a scope goes where a client waits for it, and nowhere else: of two
// servers that both ask, neither takes what the other's client is about to get.
func TestLastAddressGoesWhereItIsNeeded(t *testing.T) {
	const now = lease.Time(1_790_000_000)
	d := plan.New().Draft()
	for _, subnet := range []string{"10.77.0.0/24", "10.78.0.0/24"} {
		at := netip.MustParsePrefix(subnet).Addr().Next()
		sc := plan.Scope{Name: "s" + at.String(), Subnet: netip.MustParsePrefix(subnet), Mode: plan.Serving,
			Pools: []addr.Range{{From: at, To: at}}}
		if err := d.PlaceScope(&sc, "", nil); err != nil {
			t.Fatal(err)
		}
		if _, err := d.PutScope(sc); err != nil {
			t.Fatal(err)
		}
	}
	p, _ := d.Finish()
	table := lease.New(p, now)
	table.Pair(lease.Primary)
	s := New(Settings{Side: lease.Primary, Split: 50}.Defaults(), table, Record{State: Normal}, now)
	s.state = Normal
	for text, want := range map[string]int{"": 0, "10.78.0.0/24": 1, "10.77.0.0/24 10.78.0.0/24": 2, "10.79.0.0/24": 0} {
		m := message.Message{Type: message.PoolReq}
		m.Options.Put(dryOption, []byte(text))
		s.lend(m, now)
		if got := len(s.take()); min(got, 1) != min(want, 1) {
			t.Errorf("asked for %q it gives %d times", text, got)
		}
	}
	if s.lend(message.Message{Type: message.PoolReq}, now); len(s.take()) == 0 {
		t.Error("one that names nothing is given nothing")
	}
	// Whoever asks names what its clients wait for.
	secondary := lease.New(p, now)
	secondary.Pair(lease.Secondary)
	s = New(Settings{Side: lease.Secondary, Split: 50}.Defaults(), secondary, Record{State: Normal}, now)
	s.state, s.link.agreed = Normal, true
	lists := s.Hungry(p.Scopes()[1:], now)
	if len(lists) != 1 {
		t.Fatalf("it asks %d times", len(lists))
	}
	body, _, _ := message.Cut(lists[0][0].Body)
	m, err := message.Decode(body)
	if dry, _ := m.Options.Get(dryOption); err != nil || string(dry) != "10.78.0.0/24" {
		t.Errorf("it asks for %q, %v", dry, err)
	}
}
