package observe

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/dhcp4"
	"yarnpost/core/request"
	"yarnpost/service/wire"
)

// The ring remembers the newest exchanges, what became of their replies, and
// gives copies that stay as they are.
func TestConversations(t *testing.T) {
	var c Conversations
	now := time.Now()
	note := func(n int) uint64 {
		hw := addr.Hardware([]byte{2, 0, 0, 0, byte(n >> 8), byte(n)})
		m := &dhcp4.Message{CHAddr: hw, GIAddr: netip.IPv4Unspecified()}
		return c.Begin(&wire.Packet{Data: []byte(fmt.Sprint("packet ", n))}, now, of(m),
			&answer.Decision{Answers: []answer.Answer{{Outcome: answer.Offered}}, Trail: []answer.Step{{Text: "step"}}},
			&wire.Reply{Data: []byte("reply")}, Recorded, now)
	}
	all := func(*Exchange) bool { return true }
	if list, last := c.Since(0, 10, all); len(list) != 0 || last != 0 {
		t.Errorf("an empty ring gives %d, last %d", len(list), last)
	}
	first := note(1)
	kept, last := c.Since(0, 10, all)
	if len(kept) != 1 || last != 1 || string(kept[0].In) != "packet 1" || kept[0].Fate != Recorded {
		t.Fatalf("one exchange reads as %+v", kept)
	}
	c.Settle(first, Sent, now.Add(time.Millisecond))
	if list, _ := c.Since(0, 10, all); list[0].Fate != Sent || list[0].Took != time.Millisecond {
		t.Errorf("settled it reads as %+v", list[0])
	}
	for n := 2; n <= TalkMost+500; n++ {
		note(n)
	}
	list, last := c.Since(0, TalkMost*2, all)
	if len(list) != TalkMost || last != uint64(TalkMost+500) || string(list[len(list)-1].In) != fmt.Sprint("packet ", TalkMost+500) ||
		list[0].Seq+uint64(len(list)) != last+1 {
		t.Errorf("a full ring gives %d exchanges up to %d", len(list), last)
	}
	if string(kept[0].In) != "packet 1" || kept[0].Trail[0].Text != "step" {
		t.Error("what was read earlier changed")
	}
	c.Settle(first, Undone, now) // long forgotten: nothing happens
	some, _ := c.Since(last-10, 3, func(x *Exchange) bool { return x.Seq%2 == 0 })
	if len(some) != 3 || some[2].Seq != last {
		t.Errorf("three of the even ones are %+v", some)
	}
}

// of is the request of a message.
func of(m *dhcp4.Message) *request.Request {
	r := m.Request(request.Path{})
	return &r
}
