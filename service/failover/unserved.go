package failover

import (
	"bytes"
	"context"
	"encoding/gob"
	"net/netip"
	"slices"
	"sync"
	"time"

	"yarnpost/core/lease"
	"yarnpost/core/reason"
	"yarnpost/service/observe"
)

// Unserved is a client that goes without, and which servers of a pair refused it;
// those are not named by a server that is alone.
type Unserved struct {
	observe.Unserved
	Servers []string
}

// unservedTime is how long the partner may take to say who goes without there.
const unservedTime = 2 * time.Second

// Unserved lists the clients that go without on this server, and on the other one of
// a pair as far as it can be asked: silent names it if not.
func (p *Pair) Unserved(ctx context.Context) (list []Unserved, silent string) {
	own := p.Engine.Unserved()
	on, c := p.paired()
	if c == nil || on == nil {
		for _, u := range own {
			list = append(list, Unserved{Unserved: u})
		}
		return list, ""
	}
	if c.Remote() == "" { // what it said a moment ago is no answer of one that is gone
		return mergedLists(p.Name(), own, on.Partner.Name, nil), on.Partner.Name
	}
	theirs, err := p.theirs.get(p.Clock.Now, func() (list []observe.Unserved, err error) {
		ctx, cancel := context.WithTimeout(ctx, unservedTime)
		defer cancel()
		var told []byte
		if err = c.Ask(ctx, "unserved", struct{}{}, &told); err == nil {
			err = gob.NewDecoder(bytes.NewReader(told)).Decode(&list)
		}
		return list, err
	})
	if err != nil {
		silent = on.Partner.Name
	}
	return mergedLists(p.Name(), own, on.Partner.Name, theirs), silent
}

// unservedFor is for how long what the partner said is good for whoever asks next: it
// may be ten thousand clients, and each open page asks every few seconds.
const unservedFor = 2 * time.Second

// theirList is what the partner said last of the clients that go without there.
type theirList struct {
	mu   sync.Mutex
	at   time.Time
	list []observe.Unserved
	err  error
}

// get is what was said last, or what ask brings if that is too old. Those who ask at
// once wait for one answer, or for one that does not come.
func (t *theirList) get(now func() time.Time, ask func() ([]observe.Unserved, error)) ([]observe.Unserved, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if age := now().Sub(t.at); age < 0 || age >= unservedFor {
		t.list, t.err = ask()
		t.at = now()
	}
	return t.list, t.err
}

// unservedHere tells the partner who goes without here, as gob writes it.
func (p *Pair) unservedHere() ([]byte, error) {
	var b bytes.Buffer
	err := gob.NewEncoder(&b).Encode(p.Engine.Unserved())
	return b.Bytes(), err
}

// mergedLists makes one list of two: a client that both servers refuse for one reason
// stands there once.
func mergedLists(name string, own []observe.Unserved, partner string, theirs []observe.Unserved) []Unserved {
	type key struct {
		client lease.Client
		from   netip.Addr
		why    reason.Reason
		scope  string
	}
	keyOf := func(u *observe.Unserved) key { return key{u.Client, u.Relay, u.Reason, u.Scope} }
	at := map[key]int{}
	var list []Unserved
	for _, u := range own {
		at[keyOf(&u)] = len(list)
		list = append(list, Unserved{u, []string{name}})
	}
	for _, u := range theirs {
		i, both := at[keyOf(&u)]
		if !both {
			list = append(list, Unserved{u, []string{partner}})
			continue
		}
		of := &list[i]
		if u.Last > of.Last { // the latest word is shown, with how often both were asked
			u.First, u.Count = min(u.First, of.First), u.Count+of.Count
			of.Unserved = u
		} else {
			of.First, of.Count = min(u.First, of.First), u.Count+of.Count
		}
		of.Servers = append(of.Servers, partner)
		slices.Sort(of.Servers)
	}
	return list
}
