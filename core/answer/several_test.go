package answer

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"yarnpost/core/dhcp4"
	"yarnpost/core/effect"
	"yarnpost/core/lease"
	"yarnpost/core/reason"
	"yarnpost/core/request"
)

// A request that asks for several things is decided as a list of answers, with one list of
// effects: two addresses for one client that tells them apart, a third of which the scope has
// none left. What is decided first is not there any more for the next.
func TestSeveralAnswers(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.101")
	req := asked(f.message(dhcp4.Request, 1), request.Path{Server: server})
	req.Wants = []request.Association{{ID: 1}, {ID: 2}, {ID: 3}}
	out := &Decision{}
	d := decider{world: f.world(), table: f.table, plan: f.table.Plan(), now: f.now, req: req, out: out,
		scopes: f.table.Plan().OnLink(f.table.Plan().ScopeNamed("looms").Link)}
	for _, to := range req.Wants {
		d.who = asker{client: lease.ByIdentifier([]byte{0, byte(to.ID)}), hardware: hw(1), facts: factsOf(&d.req, true)}
		d.begin(to)
		if v, a := d.choose(); v != nil {
			d.bind(d.grantOf(v, a, nil))
		}
	}
	out.order(d.world)
	var got []string
	for i := range out.Answers {
		a := &out.Answers[i]
		got = append(got, fmt.Sprint(a.To.ID, " ", a.Outcome, " ", a.Address(), " ", a.Why, " ", a.Lease != nil))
	}
	want := fmt.Sprintf("1 acknowledged 10.77.0.100  true, 2 acknowledged 10.77.0.101  true, 3 ignored invalid IP %s false", reason.PoolEmpty)
	if text := strings.Join(got, ", "); text != want {
		t.Errorf("answers: %s", text)
	}
	if l := out.Effects; len(out.Changes) != 2 || !l.Has(effect.Record) || !l.Has(effect.Await) || strings.Count(words(l), "record") != 1 {
		t.Errorf("%d changes in %s", len(out.Changes), words(l))
	}
	f.carryOut(out)
	for i, a := range []string{"10.77.0.100", "10.77.0.101"} {
		if l := f.table.At(netip.MustParseAddr(a)); l == nil || l.Client != out.Answers[i].Client {
			t.Errorf("%s is on record as %+v", a, l)
		}
	}
}

func words(l effect.List) string {
	var out []string
	for _, e := range l {
		out = append(out, e.Do.String())
	}
	return strings.Join(out, " ")
}

// A reply joins the record that is on its way; where several are, it waits for all so far.
func TestJoins(t *testing.T) {
	one, two := netip.MustParsePrefix("10.77.0.100/32"), netip.MustParsePrefix("10.77.0.101/32")
	both := []Answer{{Outcome: Acknowledged, Key: one}, {Outcome: Acknowledged, Key: two}}
	for _, c := range []struct {
		name    string
		d       Decision
		pending []netip.Prefix
		on      netip.Prefix
		waits   bool
	}{
		{"nothing under way", Decision{Answers: both}, nil, netip.Prefix{}, false},
		{"one", Decision{Answers: both}, []netip.Prefix{two}, two, true},
		{"both", Decision{Answers: both}, []netip.Prefix{one, two}, netip.Prefix{}, true},
		{"one, and one recorded now", Decision{Answers: both, Changes: []lease.Change{{}}}, []netip.Prefix{two}, netip.Prefix{}, true},
	} {
		on, waits := c.d.joins(World{Pending: func(k netip.Prefix) bool {
			for _, p := range c.pending {
				if p == k {
					return true
				}
			}
			return false
		}})
		if on != c.on || waits != c.waits {
			t.Errorf("%s: waits for %v, %v", c.name, on, waits)
		}
	}
}
