package observe

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/reason"
	"yarnpost/core/request"
)

func TestUnservedList(t *testing.T) {
	u := newUnserved()
	c := asked(1)
	u.Note(c, reason.PoolEmpty, 100)
	u.Note(c, reason.PoolEmpty, 160)
	list := u.All()
	if len(list) != 1 || list[0].Count != 2 || list[0].First != 100 || list[0].Last != 160 || list[0].Hostname != "host1" ||
		list[0].Trail[0] != "because of rain" {
		t.Errorf("listed as %+v", list)
	}
	u.Forget(c)
	if len(u.All()) != 0 {
		t.Error("a served client stays on the list")
	}
	u.Note(c, reason.NotTaken, 200)
	if len(u.All()) != 0 {
		t.Error("an offer not taken once is listed already")
	}
	u.Note(c, reason.NotTaken, 210)
	if len(u.All()) != 1 {
		t.Error("an offer not taken twice is not listed")
	}
	real := asked(unservedMost * 2)
	for n := range 4 {
		u.Note(real, reason.NoScope, lease.Time(250+4*n))
	}
	for n := range unservedMost + 500 { // a flood of clients does not grow it without end, and pushes off nobody who asks again and again
		c := asked(n)
		u.Note(c, reason.NoScope, lease.Time(300+n))
	}
	if u.clients.Get(keyOf(real)) == nil {
		t.Error("a flood pushes off one that asks again and again")
	}
	if n := u.clients.Size(); n > unservedMost {
		t.Errorf("%d clients are kept", n)
	}
	u.Age(lease.Time(300 + unservedMost + 500).Add(unservedAge + time.Minute))
	if u.clients.Size() != 0 {
		t.Errorf("%d clients are remembered after a day of silence", u.clients.Size())
	}
	c = asked(2)
	u.Note(c, reason.NoScope, 999_999)
	u.ForgetHardware(c.Hardware)
	if len(u.All()) != 0 {
		t.Error("a client that was dealt with is still listed")
	}
}

// A message that asks for thirty things in vain is one client that goes without.
func TestUnservedOnce(t *testing.T) {
	u, many := newUnserved(), asked(1)
	for n := range 30 {
		many.Decision.Answers = append(many.Decision.Answers, answer.Answer{Outcome: answer.Ignored, Why: reason.TooMany,
			To: request.Association{ID: uint32(n), Object: request.Object(n % 2)}})
	}
	for n := range many.Decision.Answers {
		many.Answer = &many.Decision.Answers[n]
		many.Answer.Client = lease.Client{Kind: lease.Addresses, Number: uint32(n), ID: "one"}
		u.Note(many, reason.TooMany, 100)
	}
	if n := len(u.All()); n != 2 {
		t.Errorf("one message for addresses and prefixes leaves %d lines", n)
	}
}

func TestWindow(t *testing.T) {
	w := &Window{}
	now := lease.Time(1_700_000_000)
	for range 10 {
		w.Add(now)
	}
	w.Add(now + 240)
	if n := w.Sum(now+240, 5*time.Minute); n != 11 {
		t.Errorf("%d in five minutes, want 11", n)
	}
	if n := w.Sum(now+600, 5*time.Minute); n != 0 {
		t.Errorf("%d in the five minutes after, want 0", n)
	}
	if n := w.Sum(now+600, 24*time.Hour); n != 11 {
		t.Errorf("%d in a day, want 11", n)
	}
	if n := w.Sum(now+3*86400, 24*time.Hour); n != 0 {
		t.Errorf("%d three days later, want 0", n)
	}
}

func asked(n int) Case {
	hw := addr.Hardware([]byte{2, 0, 0, 0, byte(n >> 8), byte(n)})
	m := &dhcp4.Message{HType: 1, CHAddr: hw, GIAddr: netip.MustParseAddr("10.77.0.2"), CIAddr: netip.IPv4Unspecified(), Type: dhcp4.Discover,
		Options: dhcp4.Options{{Code: 12, Data: []byte(fmt.Sprint("host", n, "\x00"))}}}
	return Case{of(m), &answer.Decision{Trail: []answer.Step{{Text: "because of {t}", Name: "rain"}}},
		&answer.Answer{Client: lease.ByHardware(1, hw)}}
}
