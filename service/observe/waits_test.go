package observe

import (
	"net/netip"
	"testing"
	"time"

	"yarnpost/core/answer"
	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
)

// How long a client waits is known whichever comes first: its own word, or the other
// server's that it is served.
func TestWaits(t *testing.T) {
	began := time.Unix(1_790_000_000, 0)
	var w Waits
	ask := func(n byte, at time.Duration) {
		c := lease.ByIdentifier([]byte{0, n})
		m := dhcp4.Message{Type: dhcp4.Discover, CIAddr: netip.IPv4Unspecified()}
		w.left(Case{of(&m), nil, &answer.Answer{Client: c}}, began.Add(at))
	}
	give := func(n byte, at time.Duration) {
		w.given(&lease.Lease{Prefix: lease.Host(netip.AddrFrom4([4]byte{10, 0, 0, n})), Status: lease.Active,
			Client: lease.ByIdentifier([]byte{0, n})}, began.Add(at))
	}
	ask(9, 0) // nobody watches
	if served, asking := w.All(); served != nil || asking != nil {
		t.Errorf("without being asked to, it watched %v, %v", served, asking)
	}
	w.Watch(true)
	ask(1, 0)
	ask(1, time.Second)
	give(1, 1500*time.Millisecond)
	give(2, time.Second)
	ask(2, 1010*time.Millisecond) // its own word comes late
	give(3, time.Second)          // it asks the other alone
	ask(4, 0)
	ask(1, time.Minute) // it asks once more, much later
	served, asking := w.All()
	want := []struct {
		took  time.Duration
		heard bool
	}{{1500 * time.Millisecond, true}, {0, true}, {0, false}}
	if len(served) != len(want) || len(asking) != 2 {
		t.Fatalf("served %v, asking %v", served, asking)
	}
	for _, s := range served {
		if of := want[s.Address.As4()[3]-1]; s.Took != of.took || s.First.IsZero() == of.heard {
			t.Errorf("%s: heard %v, took %s", s.Address, s.First, s.Took)
		}
	}
	w.Watch(false)
	if served, _ := w.All(); served != nil {
		t.Error("it goes on watching")
	}
}
