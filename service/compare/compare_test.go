package compare

import (
	"net/netip"
	"testing"
	"time"

	"yarnpost/core/lease"
)

// What two servers know of an address is the same, or differs in one of three ways.
func TestDifferences(t *testing.T) {
	now := time.Unix(1_790_000_000, 0)
	key := lease.Host(netip.MustParseAddr("10.40.8.17"))
	known := func(status lease.Status, client string, held, owed bool, version uint32) Known {
		k := Known{Prefix: key, Status: status.String(), Client: client, Expires: now.Unix() - 5, Owed: owed, Primary: version}
		if held {
			k.Expires = now.Unix() + 500
		}
		return k
	}
	for _, c := range []struct {
		what        string
		own, theirs Known
		want        Class // "": they are the same
	}{
		{"the same", known(lease.Active, "aa", true, false, 3), known(lease.Active, "aa", true, false, 3), ""},
		{"time ended it for one", known(lease.Expired, "aa", false, false, 3), known(lease.Active, "aa", false, false, 3), ""},
		{"one waits for the other", known(lease.PendingFree, "aa", false, false, 3), known(lease.Free, "aa", false, false, 3), ""},
		{"an update is owed", known(lease.Active, "bb", true, true, 4), known(lease.Active, "aa", true, false, 3), OnItsWay},
		{"nobody holds it", known(lease.Released, "aa", false, false, 4), known(lease.Free, "aa", false, false, 3), Allowed},
		{"one renewed it", known(lease.Active, "aa", true, false, 4), known(lease.Active, "aa", true, false, 3), Allowed},
		{"two holders", known(lease.Active, "aa", true, false, 4), known(lease.Active, "bb", true, false, 3), Wrong},
		{"a holder that one does not know", known(lease.Active, "aa", true, false, 4), known(lease.Free, "aa", false, false, 3), Wrong},
	} {
		list := differences([]Known{c.own}, []Known{c.theirs}, now)
		got := Class("")
		if len(list) > 0 {
			got = list[0].Class
		}
		if got != c.want {
			t.Errorf("%s: %q, want %q", c.what, got, c.want)
		}
	}
	if list := differences([]Known{known(lease.Active, "aa", true, false, 1)}, nil, now); len(list) != 1 || list[0].Class != Wrong {
		t.Errorf("a lease that one server does not know at all: %+v", list)
	}
	if got := unequal([]byte("aaaabbbbcccc"), []byte("aaaaBbbb"), 4); len(got) != 2 || got[0] != 1 || got[1] != 2 {
		t.Errorf("unequal rows are %v", got)
	}
}
