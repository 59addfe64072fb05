package answer

import (
	"net/netip"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/rule"
)

// ruling is what the rules say about the client in one scope.
type ruling struct {
	scope  plan.ID
	fitted []*plan.CompiledRule
	values []plan.Value
	takes  []option.Key
	lease  time.Duration // 0: as the scope says
	leased string        // the rule that sets it
	pool   addr.Range    // invalid: any that is not confined
	action plan.Action
	by     string // the rule that acts
}

// ruling asks the rules of the defaults and then those of the scope, in order.
// Each that fits contributes; the first to set a value keeps it; one that ignores
// or refuses ends it.
func (d *decider) ruling(v *plan.View) *ruling {
	for i := range d.rulings {
		if d.rulings[i].scope == v.ID {
			return &d.rulings[i]
		}
	}
	d.rulings = append(d.rulings, ruling{scope: v.ID})
	out := &d.rulings[len(d.rulings)-1]
	if len(d.plan.RulesOf(0)) == 0 && len(d.plan.RulesOf(v.ID)) == 0 {
		return out
	}
	asked := rule.Request{Message: d.msg, Relay: &d.Relay, Link: v.LinkName, Scope: v.Name, Lists: d.plan.ReadyLists()}
	set := map[option.Key]bool{}
	for _, of := range [...]plan.ID{0, v.ID} {
		for _, r := range d.plan.RulesOf(of) {
			fits, err := r.Program.Fits(&asked)
			if err != nil {
				d.step("rule {t} could not be asked: "+err.Error(), netip.Addr{}, r.Name)
			}
			if !fits || r.Pool.Valid() && !v.Subnet.Contains(r.Pool.From) {
				continue
			}
			out.fitted = append(out.fitted, r)
			d.step("rule {t} fits", netip.Addr{}, r.Name)
			if r.Action == plan.Ignore || r.Action == plan.Refuse {
				out.action, out.by = r.Action, r.Name
				return out
			}
			if r.Action == plan.ReservedOnly {
				out.action, out.by = r.Action, r.Name
			}
			if out.lease == 0 && r.Lease != 0 {
				out.lease, out.leased = time.Duration(r.Lease), r.Name
			}
			if !out.pool.Valid() {
				out.pool = r.Pool
			}
			for _, val := range r.Values {
				if !set[val.Key] {
					set[val.Key] = true
					out.values = append(out.values, val)
				}
			}
			for _, k := range r.Takes {
				if !set[k] {
					set[k] = true
					out.takes = append(out.takes, k)
				}
			}
		}
	}
	if len(out.fitted) > 1 {
		sortValues(out.values)
	}
	return out
}

// turnedAway drops the scopes whose rules ignore or refuse the client. If none is
// left it says so and reports true; a refusal becomes a NAK where one fits.
func (d *decider) turnedAway(nak bool) bool {
	var open []*plan.View
	var last *ruling
	for i, v := range d.scopes {
		r := d.ruling(v)
		if r.action != plan.Ignore && r.action != plan.Refuse {
			if open != nil {
				open = append(open, v)
			}
			continue
		}
		if open == nil {
			open = append(make([]*plan.View, 0, len(d.scopes)), d.scopes[:i]...)
		}
		last, d.Scope = r, v
	}
	if open == nil {
		return false
	}
	if len(open) > 0 {
		d.scopes, d.Scope = open, nil
		return false
	}
	d.Rule = last.by
	if nak && last.action == plan.Refuse {
		d.refuse(ByRule, "refused by the administrator")
	} else {
		d.ignore(ByRule)
	}
	return true
}
