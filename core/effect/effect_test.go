package effect

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"yarnpost/core/lease"
	"yarnpost/core/plan"
)

// scribe writes down what it is told; it takes no more than some records.
type scribe struct {
	told    []string
	records int
	rest    List
}

func (s *scribe) say(format string, args ...any) {
	s.told = append(s.told, fmt.Sprintf(format, args...))
}

func (s *scribe) Forget(k netip.Prefix)                   { s.say("forget %s", k) }
func (s *scribe) Offer(o *lease.Offer)                    { s.say("offer %s", o.Address()) }
func (s *scribe) Welcome(plan.ID, lease.Port)             { s.say("welcome") }
func (s *scribe) Blame(plan.ID, lease.Client, lease.Port) { s.say("blame") }
func (s *scribe) Remember(c lease.Change)                 { s.say("remember %s", c.After.Address()) }
func (s *scribe) Record(c []lease.Change) bool {
	s.say("record %d", len(c))
	s.records--
	return s.records >= 0
}
func (s *scribe) Save(b []byte) bool              { s.say("save %s", b); s.records--; return s.records >= 0 }
func (s *scribe) Await(_ netip.Prefix, rest List) { s.say("await"); s.rest = slices.Clone(rest) }
func (s *scribe) Commit()                         { s.say("commit") }
func (s *scribe) Reply()                          { s.say("reply") }
func (s *scribe) Tell(c []lease.Change)           { s.say("tell %d", len(c)) }
func (s *scribe) Enter()                          { s.say("enter") }
func (s *scribe) Send(b []byte)                   { s.say("send %s", b) }

// A list is carried out in its order, up to Await; what cannot be recorded drops the rest.
func TestCarryOut(t *testing.T) {
	a := lease.Host(netip.MustParseAddr("10.40.8.17"))
	l := &lease.Lease{Prefix: a}
	one := []lease.Change{{After: l}}
	list := List{{Do: Forget, Key: a}, {Do: Welcome}, {Do: Blame}, {Do: Remember, Changes: one}, {Do: Offer, Note: &lease.Offer{Prefix: a}},
		{Do: Record, Changes: one}, {Do: Save, Body: []byte("state")}, {Do: Await}, {Do: Reply}, {Do: Tell, Changes: one}, {Do: Enter},
		{Do: Send, Body: []byte("update")}}
	before := "forget 10.40.8.17/32, welcome, blame, remember 10.40.8.17, offer 10.40.8.17, record 1"
	for _, c := range []struct {
		records int
		list    List
		want    string
	}{
		{9, list, before + ", save state, await"},
		{9, list[8:], "reply, tell 1, enter, send update"},
		{0, list, before},
		{1, list, before + ", save state"},
		{9, list[5:7], "record 1, save state, commit"},
	} {
		s := &scribe{records: c.records}
		c.list.CarryOut(s)
		if got := strings.Join(s.told, ", "); got != c.want {
			t.Errorf("%s\nwant %s", got, c.want)
		}
		if last := s.told[len(s.told)-1]; last == "await" && len(s.rest) != 4 {
			t.Errorf("%d effects wait", len(s.rest))
		}
	}
	if allocs := testing.AllocsPerRun(100, func() { list[1:3].CarryOut(quiet) }); allocs != 0 {
		t.Errorf("carrying out allocates %v times", allocs)
	}
}

var quiet World = Bystander{}
