// Package permit is asked before anything is done: whether an account may do a thing, and
// whether it may make a change of the plan, item by item. Doors do not answer this: what
// comes through the API, and what the partner of a pair passes on, is asked alike.
package permit

import (
	"errors"

	"yarnpost/core/plan"
)

// Need is what an operation asks of who calls it. It stands in the OpenAPI document as
// x-needs, where tests read it.
type Need string

// The needs.
const (
	Nothing Need = "nothing"  // not even to be signed in
	Self    Need = "self"     // a session or a token, even with the one-time password
	See     Need = "see"      // to look at plan, leases and what happens
	Plan    Need = "plan"     // to change the plan
	Clients Need = "clients"  // to act on clients and their leases
	Trials  Need = "trials"   // to make exchanges and probes on the network
	Access  Need = "access"   // to give access to others
	Pair    Need = "pair"     // to act on the pair
	Audit   Need = "audit"    // to make audits and acknowledge findings
	Alerts  Need = "alerts"   // to say where alerts go
	Play    Need = "rehearse" // to play the past against a changed plan
)

// ErrRefused is wrapped by refusals, whose text says what is missing and who can give it.
var ErrRefused = errors.New("not permitted")

// Permits answers the questions. Refusals wrap ErrRefused.
type Permits interface {
	// May reports why an account may not do what an operation needs, or nil.
	May(account string, need Need) error
	// MayChange reports why an account may not make one change of a plan, or nil. Of is the
	// plan before it, next the plan with all that is changed together.
	MayChange(account string, c plan.Change, of, next *plan.Plan) error
	// SeesAll reports whether an account may see everything; nothing is asked scope by scope then.
	SeesAll(account string) bool
	// MaySee reports whether an account may see what is in a scope of a plan: its leases and
	// clients, its use, what is found there. What is of no scope, only those see who see all.
	MaySee(account string, scope plan.ID, of *plan.Plan) bool
}

// Everything permits everything to whoever is signed in with a password of their own; roles
// will tell accounts apart.
type Everything struct{}

// May implements Permits.
func (Everything) May(string, Need) error { return nil }

// MayChange implements Permits.
func (Everything) MayChange(string, plan.Change, *plan.Plan, *plan.Plan) error { return nil }

// SeesAll implements Permits.
func (Everything) SeesAll(string) bool { return true }

// MaySee implements Permits.
func (Everything) MaySee(string, plan.ID, *plan.Plan) bool { return true }
