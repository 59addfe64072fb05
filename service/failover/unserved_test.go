package failover

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"testing"
	"time"

	"yarnpost/core/lease"
	"yarnpost/core/reason"
	"yarnpost/service/observe"
)

// However many pages are open, the partner is asked once in a while, whether it answers
// or not.
func TestPartnerIsAskedSeldom(t *testing.T) {
	now := time.Unix(1_790_000_000, 0)
	var list theirList
	asked := 0
	var failing error
	ask := func() ([]observe.Unserved, error) {
		asked++
		now = now.Add(time.Second) // it takes its time
		return make([]observe.Unserved, asked), failing
	}
	expect := func(what string, times, length int, err error) {
		t.Helper()
		var wg sync.WaitGroup
		for range 20 {
			wg.Go(func() {
				if got, failed := list.get(func() time.Time { return now }, ask); len(got) != length || failed != err {
					t.Errorf("%s: %d clients, %v", what, len(got), failed)
				}
			})
		}
		wg.Wait()
		if asked != times {
			t.Errorf("%s it was asked %d times", what, asked)
		}
	}
	expect("at first", 1, 1, nil)
	now = now.Add(unservedFor - time.Millisecond)
	expect("a moment later", 1, 1, nil)
	now = now.Add(time.Second)
	failing = errors.New("no answer")
	expect("later, with no answer", 2, 2, failing)
	now = now.Add(-time.Hour)
	failing = nil
	expect("with the clock set back", 3, 3, nil)
}

// A client that both servers refuse for one reason stands in the list once, with both
// and with the latest word; for two reasons, or through two relays, it stands there twice.
func TestMergedLists(t *testing.T) {
	client := func(n int, relay string, why reason.Reason, first, last lease.Time, count int) observe.Unserved {
		u := observe.Unserved{First: first, Last: last, Count: count}
		u.Client, u.Relay, u.Reason, u.Hostname = lease.ByIdentifier([]byte{1, byte(n)}), netip.MustParseAddr(relay), why,
			fmt.Sprint("at ", last)
		return u
	}
	own := []observe.Unserved{client(1, "10.77.0.1", reason.PoolEmpty, 10, 50, 3), client(2, "10.77.0.1", reason.PoolEmpty, 10, 20, 1)}
	theirs := []observe.Unserved{client(1, "10.77.0.1", reason.PoolEmpty, 5, 60, 4), client(1, "10.77.0.2", reason.PoolEmpty, 7, 8, 1),
		client(2, "10.77.0.1", reason.ByRule, 1, 2, 9), client(2, "10.77.0.1", reason.PoolEmpty, 15, 16, 2)}
	list := mergedLists("shuttle", own, "bobbin", theirs)
	if len(list) != 4 {
		t.Fatalf("%d clients: %+v", len(list), list)
	}
	both := []string{"bobbin", "shuttle"}
	if u := list[0]; u.First != 5 || u.Last != 60 || u.Count != 7 || u.Hostname != "at 60" || !slices.Equal(u.Servers, both) {
		t.Errorf("whom both refuse, the other later: %+v", u)
	}
	if u := list[1]; u.First != 10 || u.Last != 20 || u.Count != 3 || u.Hostname != "at 20" || !slices.Equal(u.Servers, both) {
		t.Errorf("whom both refuse, this one later: %+v", u)
	}
	for _, u := range list[2:] {
		if !slices.Equal(u.Servers, []string{"bobbin"}) {
			t.Errorf("whom the other refuses alone: %+v", u)
		}
	}
}
