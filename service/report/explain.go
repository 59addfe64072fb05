package report

import (
	"slices"

	"yarnpost/core/answer"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
	"yarnpost/core/request"
	"yarnpost/core/rule"
)

// Explained is what a client that asks so would be answered, and why.
type Explained struct {
	Decision answer.Decision // its Reply is not to be kept; Bytes is
	Trail    []string
	Bytes    []byte // the reply as it would travel
	Omitted  []uint16
	Plan     *plan.Plan
	Values   []plan.Value
}

// Explain decides a request without touching anything. The code is the one that
// serves; an address that would be probed first counts as probed.
func (r *Reporter) Explain(req request.Request) (Explained, error) {
	var out Explained
	r.Engine.Consider(func(w answer.World) {
		w.Probed, w.Nonce = nil, func() string { return "................" }
		out = explained(answer.Decide(req, w, nil), w.Table.Plan())
	})
	return out, nil
}

// explained copies a decision, which is used again.
func explained(d *answer.Decision, p *plan.Plan) Explained {
	out := Explained{Decision: *d, Plan: p, Values: slices.Clone(d.Values)}
	out.Decision.Answers = slices.Clone(d.Answers)
	for _, s := range d.Trail {
		out.Trail = append(out.Trail, s.String())
	}
	if d.Reply == nil {
		return out
	}
	b, omitted, err := d.Reply.AppendTo(nil, d.Limit)
	if err != nil { // said as it would be if the client asked
		out.Trail = append(out.Trail, "nothing is sent: "+err.Error())
		for i := range out.Decision.Answers {
			out.Decision.Answers[i].Outcome, out.Decision.Answers[i].Why = answer.Ignored, reason.TooLong
		}
		out.Decision.Reply = nil
		return out
	}
	out.Bytes, out.Omitted = b, omitted
	return out
}

// Known is what is on record of a client by its hardware address: the lease it
// has, or had last, and what it asked with.
func (r *Reporter) Known(hw string) (l *lease.Lease, asked request.Options) {
	now := lease.At(r.Clock.Now())
	r.Engine.EachLease(0, func(x *lease.Lease) {
		if string(x.Hardware) != hw || x.Address().Is6() { // clients of IPv6 are known by their DUID
			return
		}
		if l == nil || x.HeldAt(now) && !l.HeldAt(now) || x.HeldAt(now) == l.HeldAt(now) && x.Changed > l.Changed {
			l = x.Clone()
		}
	})
	if l != nil {
		if s, ok := r.Engine.Given(l.Given); ok {
			asked = s.Asked
		}
	}
	return l, asked
}

// TryRule asks which of the clients on record a rule's condition would fit: all
// of the table, as they asked last.
func (r *Reporter) TryRule(p *plan.Plan, fits func(ask *rule.Request, v *plan.View) bool) (matching, all int, examples []*lease.Lease) {
	r.Engine.EachLease(0, func(l *lease.Lease) {
		if !l.Client.Known() {
			return
		}
		v := p.ScopeAt(l.Address())
		if v == nil {
			return
		}
		all++
		var asked request.Options
		if s, ok := r.Engine.Given(l.Given); ok {
			asked = s.Asked
		}
		ask := answer.FactsOf(l, asked, p, v)
		if fits(&ask, v) {
			if matching++; len(examples) < 10 {
				examples = append(examples, l.Clone())
			}
		}
	})
	return matching, all, examples
}
