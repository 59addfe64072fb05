package answer

import (
	"net/netip"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/option"
	"yarnpost/core/plan"
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

// ruling asks the rules of the defaults, then those of supernets from outer to inner, then
// those of the scope, in order.
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
	if !d.plan.Ruled(v) {
		return out
	}
	asked := inScope(d.who.facts, v, d.plan)
	set := map[option.Key]bool{}
	for _, of := range v.Levels {
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
				out.lease, out.leased = r.Lease.LeaseTime(), r.Name
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

// settled is what the plan gives a client of the scope, by key: scope, then
// rules, then reservation.
func (d *decider) settled(v *plan.View, r *plan.Reservation) []plan.Value {
	of := d.ruling(v)
	return d.plan.Reserved(plan.Overlay(v.Values, of.values, of.takes), r)
}

// valueOf is what the plan gives a client without a reservation for one option
// of the message, or nil.
func (d *decider) valueOf(v *plan.View, code uint16) *plan.Value {
	values := d.settled(v, nil)
	if i, ok := find(values, option.Std(code)); ok {
		return &values[i]
	}
	return nil
}
