package engine

import (
	"slices"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/service/lru"
)

// Limits of what hosts can make unusable by answering probes, as with declines: of
// addresses of a scope that one host answers for, and of the part of its pools that
// hosts answer for of which no hardware address is known.
const (
	claimsOwn   = 3
	claimsPart  = 4               // one quarter of the pools
	claimsLeast = 8               // or so many
	claimsRest  = 5 * time.Minute // after which an address that a host with many answers for is probed again
	claimsSpan  = lease.Time(24 * 3600)
	claimsMost  = 1000
)

// claims are the addresses that hosts answered for which they were not given. A host
// that answers for every address (such as one that does proxy ARP) would empty a pool.
type claims struct {
	hosts *lru.Map[claimant, *claimed]
}

type claimant struct {
	scope    plan.ID
	hardware addr.Hardware
}

type claimed struct {
	count   int
	scope   string
	last    lease.Time
	refused int // answers that were not believed
}

func newClaims() claims {
	return claims{lru.Proved[claimant](claimsMost, func(c *claimed) bool { return c.count >= claimsOwn })}
}

// note counts an address that a host answers for.
func (c *claims) note(v *plan.View, hw addr.Hardware, now lease.Time) {
	if hw == "" {
		return
	}
	k := claimant{v.ID, hw}
	of := c.hosts.Get(k)
	if of == nil || now-of.last > claimsSpan {
		of = &claimed{scope: v.Name}
	}
	of.count++
	of.last = now
	c.hosts.Put(k, of)
}

// over reports whether a host answers for so many addresses of a scope that it is not
// believed; abandoned says how many of the scope are abandoned.
func (c *claims) over(v *plan.View, hw addr.Hardware, abandoned int, now lease.Time) bool {
	if hw == "" {
		return uint64(abandoned) >= max(claimsLeast, v.Size/claimsPart)
	}
	of := c.hosts.Get(claimant{v.ID, hw})
	if of == nil || of.count < claimsOwn || now-of.last > claimsSpan {
		return false
	}
	of.refused++
	of.last = now
	return true
}

// disbelieved reports whether a host answered for so many addresses of a scope that it is
// not believed any more of those either for which it was.
func (c *claims) disbelieved(v *plan.View, hw addr.Hardware) bool {
	of := c.hosts.Get(claimant{v.ID, hw})
	return hw != "" && of != nil && of.refused > 0
}

// rest is how long an address is left alone that a host answers for.
func (c *claims) rest(v *plan.View, hw addr.Hardware) time.Duration {
	if v != nil && hw != "" {
		if of := c.hosts.Get(claimant{v.ID, hw}); of != nil && of.count > 1 {
			return claimsRest
		}
	}
	return lease.AbandonRest
}

// Claim is a host that answers for more addresses than it is believed to have.
type Claim struct {
	Scope    string
	Hardware addr.Hardware
	Refused  int // answers that were not believed
	Last     time.Time
}

// Claims lists the hosts that answer probes for one address after the other.
func (e *Engine) Claims() (out []Claim) {
	e.mu.Lock()
	defer e.mu.Unlock()
	now := e.now()
	for k, of := range e.claims.hosts.All() {
		if of.refused > 0 && now-of.last <= claimsSpan {
			out = append(out, Claim{of.scope, k.hardware, of.refused, of.last.Std()})
		}
	}
	slices.SortFunc(out, func(a, b Claim) int { return b.Refused - a.Refused })
	return out
}
