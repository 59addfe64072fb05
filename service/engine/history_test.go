package engine

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/service/journal"
)

// history is a seeded run of clients, failures, plan changes and time, that
// compares after each step what every client believes with the table and with
// what is on record.
type history struct {
	*bench
	random *rand.Rand
	holds  map[netip.Addr]belief
	left   map[left]uint32      // the first transaction after a client gave an address up
	asked  map[uint32]time.Time // when each message was sent, by its transaction
	wrong  error                // what was found first
	step_  int
}

type left struct {
	address netip.Addr
	client  int
}

// belief is what a client makes of an ACK.
type belief struct {
	client int
	until  time.Time
}

func (h *history) find(format string, args ...any) {
	if h.wrong == nil {
		h.wrong = fmt.Errorf("step %d: %s", h.step_, fmt.Sprintf(format, args...))
	}
}

// believe takes in all that reached clients: whoever hears an ACK believes it.
func (h *history) believe(replies []*dhcp4.Message) {
	now := h.Engine.clock.Now()
	for _, k := range replies {
		n := int(k.CHAddr[4])<<8 + int(k.CHAddr[5])
		if k.Type != dhcp4.Ack {
			continue
		}
		if b, held := h.holds[k.YIAddr]; held && b.client != n && now.Before(b.until) {
			h.find("%s is client %d's until %s and was given to client %d", k.YIAddr, b.client, b.until.Format(time.TimeOnly), n)
		}
		seconds, _ := k.Options.Uint32(option.AddressTime)
		until := h.asked[k.XID].Add(time.Duration(seconds) * time.Second) // a lease counts from its request (RFC 2131 section 4.4.1)
		if !now.Before(until) || k.XID < h.left[left{k.YIAddr, n}] {
			continue
		}
		l := h.durable[k.YIAddr]
		if l != nil && l.Hardware == hwOf(n) && l.Status == lease.Released && !l.Kept() {
			continue // what it is told next ends it
		}
		h.holds[k.YIAddr] = belief{n, until}
		if l == nil || l.Hardware != hwOf(n) || l.Expires < lease.At(until) {
			h.find("client %d was acknowledged %s for %d s, and the record says %+v", n, k.YIAddr, seconds, l)
		}
	}
}

// check compares beliefs, table and record.
func (h *history) check() {
	now := h.Engine.clock.Now()
	h.With(func(t *lease.Table) {
		for a, b := range h.holds {
			if !now.Before(b.until) {
				continue
			}
			if l := t.At(a); l == nil || l.Hardware != hwOf(b.client) || l.Status != lease.Active && !l.Kept() {
				h.find("client %d holds %s until %s, and the table says %+v", b.client, a, b.until.Format(time.TimeOnly), l)
			}
		}
		for a, l := range h.durable {
			if now := t.At(a); !h.Pending(lease.Host(a)) && !reflect.DeepEqual(now, l) &&
				!(now != nil && now.Status == lease.Expired && now.Expires == l.Expires && now.Client == l.Client) {
				h.find("%s is %+v in the table and %+v on record, and nothing is on its way", a, now, l)
			}
		}
		for _, v := range t.Plan().Scopes() {
			free := uint64(0)
			for _, r := range v.Ranges {
				for a := r.From; r.Contains(a); a = a.Next() {
					l := t.At(a)
					_, offered := t.OfferOf(lease.Host(a))
					if t.Plan().ReservationAt(a) == nil && !offered && (l == nil || l.Status != lease.Active &&
						l.Status != lease.Abandoned && !l.Kept()) {
						free++
					}
				}
			}
			if n := t.Count(v.ID).Headroom; n != free {
				h.find("the headroom is %d, and counted by hand %d", n, free)
			}
		}
	})
}

// say is bench.say; what reaches clients is believed.
func (h *history) say(t dhcp4.Type, n int, edit func(*dhcp4.Message)) *dhcp4.Message {
	k := h.bench.say(false, t, n, func(m *dhcp4.Message) {
		if edit != nil {
			edit(m)
		}
		m.XID = uint32(len(h.asked))
		h.asked[m.XID] = h.Engine.clock.Now()
	})
	h.believe(h.sent)
	h.sent = nil
	h.With(func(table *lease.Table) { // refused, or moved, it is told so and gives up what it had; an older ACK comes too late
		for a := netip.AddrFrom4([4]byte{10, 77, 0, 97}); a.As4()[3] < 107; a = a.Next() {
			if l := table.At(a); l == nil || l.Hardware != hwOf(n) || l.Status == lease.Released && !l.Kept() {
				h.left[left{a, n}] = uint32(len(h.asked))
				if b := h.holds[a]; b.client == n && l != nil && l.Hardware == hwOf(n) {
					delete(h.holds, a)
				}
			}
		}
	})
	return k
}

// record lets the recorder come to an end with what waits, in one way or another.
func (h *history) record() {
	h.sent = nil
	switch h.random.IntN(8) {
	case 0: // certainly not done
		h.paper.fail()
	case 1: // nobody knows for a while; it was done, or it was not
		done := h.random.IntN(2) == 0
		behind := len(h.queue)
		h.down = errors.New("the connection is gone")
		for range h.random.IntN(4) {
			h.clients()
		}
		h.down = nil
		first := h.queue[:min(behind, len(h.queue))]
		if done {
			h.queue = append([]journal.Entry(nil), first...)
			h.paper.commit()
		} else {
			h.paper.fail()
		}
	default:
		h.paper.commit()
	}
	h.believe(h.sent)
	h.sent = nil
}

func (h *history) clients() {
	n, a := 1+h.random.IntN(9), netip.AddrFrom4([4]byte{10, 77, 0, byte(100 + h.random.IntN(6))})
	switch h.random.IntN(7) {
	case 0, 1, 2:
		if o := h.say(dhcp4.Discover, n, nil); o != nil && o.Type == dhcp4.Offer {
			h.say(dhcp4.Request, n, asks(o.YIAddr))
		}
	case 3:
		h.say(dhcp4.Request, n, asks(a))
	case 4, 5:
		h.say(dhcp4.Request, n, renews(a))
	case 6:
		if b := h.holds[a]; b.client == n {
			delete(h.holds, a)
			h.say(dhcp4.Release, n, renews(a))
		}
	}
}

// edit changes the plan while clients go on.
func (h *history) edit() {
	d := h.Plan().Draft()
	v := d.Plan().ScopeNamed("looms")
	name := fmt.Sprint("r-", h.random.IntN(3))
	var err error
	if d.Plan().ReservationNamed(name) != nil {
		err = d.RemoveReservation(name)
	} else if h.random.IntN(2) == 0 {
		n := 1 + h.random.IntN(9)
		_, err = d.PutReservation(plan.Reservation{Name: name, Scope: v.ID, Hardware: hwOf(n),
			Address: netip.AddrFrom4([4]byte{10, 77, 0, byte(98 + h.random.IntN(8))})})
	} else {
		s := v.Scope
		s.Pools = []addr.Range{{From: netip.AddrFrom4([4]byte{10, 77, 0, byte(99 + h.random.IntN(3))}),
			To: netip.AddrFrom4([4]byte{10, 77, 0, 105})}}
		_, err = d.PutScope(s)
	}
	if err != nil {
		return // it may well be refused
	}
	if next, items := d.Finish(); len(items) > 0 {
		h.Take(next, items)
	}
}

// run makes a history of steps, and gives what is wrong first.
func run(t *testing.T, seed uint64, steps int, broken string) error {
	h := &history{bench: newBench(t, "10.77.0.100-10.77.0.105"), random: rand.New(rand.NewPCG(seed, 7)), holds: map[netip.Addr]belief{},
		left: map[left]uint32{}, asked: map[uint32]time.Time{}}
	h.paper.broken = broken
	for h.step_ = range steps {
		switch h.random.IntN(14) {
		case 0:
			h.pass(time.Duration(h.random.IntN(1800)) * time.Second)
		case 1:
			h.step(time.Duration(h.random.IntN(7200)-3600) * time.Second)
		case 2:
			h.edit()
		case 3, 4, 5:
			h.record()
		default:
			h.clients()
		}
		if h.check(); h.wrong != nil {
			return h.wrong
		}
	}
	return nil
}

// Whatever clients, recorder, clock and administrators do: nobody is told what is
// not on record, no address is two clients', and table and record agree.
func TestSeededHistories(t *testing.T) {
	for seed := range uint64(60) {
		if err := run(t, seed, 300, ""); err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
	}
}

// The histories find a recorder that does not keep its word.
func TestHistoriesCanFail(t *testing.T) {
	for _, broken := range []string{"replies leave before the record is durable", "what failed is not undone",
		"a record is lost in silence"} {
		found := error(nil)
		for seed := uint64(0); seed < 60 && found == nil; seed++ {
			found = run(t, seed, 300, broken)
		}
		if found == nil {
			t.Errorf("%s: nothing is found", broken)
		}
	}
}
