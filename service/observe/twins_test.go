package observe

import (
	"net/netip"
	"testing"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/reason"
)

// Beyond a relay an answer to a probe does not say whose it is: a host that asks with another
// card than before is no twin of itself. Two that take turns are.
func TestTwinsBeyondARelay(t *testing.T) {
	a := netip.MustParseAddr("10.77.0.100")
	one, two := addr.Hardware("\x02\x00\x00\x00\x00\x01"), addr.Hardware("\x02\x00\x00\x00\x00\x02")
	list := newUnserved()
	twins := newTwins(list)
	now := lease.Time(1_790_000_000)
	asks := func(who, holder addr.Hardware) {
		now += 5
		d := &answer.Answer{Client: lease.ByIdentifier([]byte("\x00clone")),
			Twin: &lease.Lease{Prefix: lease.Host(a), Status: lease.Active, Hardware: holder}}
		twins.Note(Case{of(&dhcp4.Message{CHAddr: who, GIAddr: netip.MustParseAddr("10.77.0.1")}), &answer.Decision{}, d}, now,
			func(netip.Addr) bool { return true })
	}
	asks(two, one)
	twins.Meet(a, "", now)
	if told := list.All(); len(told) != 0 {
		t.Errorf("an answer of nobody in particular: %+v", told)
	}
	twins.Meet(a, two, now)
	if told := list.All(); len(told) != 0 {
		t.Errorf("an answer of its own: %+v", told)
	}
	asks(one, two)
	asks(two, one)
	if told := list.All(); len(told) != 1 || told[0].Reason != reason.SharedIdentifier {
		t.Errorf("they take turns: %+v", told)
	}
}
