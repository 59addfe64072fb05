// Package reason has why a client got what it got, or nothing: a code for each reason, and its
// words for administrators and for the client itself.
package reason

import (
	"maps"
	"slices"
)

// Reason says why a request was refused or ignored.
type Reason string

// The reasons.
const (
	NoScope          Reason = "no-scope"          // no scope for this link
	ScopeHeld        Reason = "held"              // every scope of the link is held
	ScopeDraining    Reason = "draining"          // the scope takes nobody new
	PoolEmpty        Reason = "pool-empty"        // no address left
	ReservedOnly     Reason = "reserved-only"     // the scope has no pool
	WrongNetwork     Reason = "wrong-network"     // asked for an address of another link
	ForAnother       Reason = "reserved-another"  // address reserved for another client
	HeldByAnother    Reason = "held-by-another"   // address leased to another client
	NotHandedOut     Reason = "not-handed-out"    // address excluded or outside the pools
	HasReservation   Reason = "has-reservation"   // the client's reserved address waits for it
	NoRecord         Reason = "no-record"         // nothing is known of the client's lease
	NoDatabase       Reason = "no-database"       // nothing can be recorded now
	OtherServer      Reason = "other-server"      // the client chose another server
	NotTaken         Reason = "not-taken"         // offered again and again, never requested
	BadRequest       Reason = "bad-request"       // a field that must be there is not
	NotServed        Reason = "not-served"        // a kind of message this server does not answer
	ByRule           Reason = "rule"              // a rule ignores or refuses it
	TooMany          Reason = "too-many-new"      // more clients never seen before than the scope's limits allow
	NoBootp          Reason = "no-bootp"          // BOOTP, where that is not served
	V6Only           Reason = "ipv6-only"         // it does without IPv4, as the scope prefers (RFC 8925)
	Listening        Reason = "listening"         // the link is heard and not answered
	StandsAside      Reason = "stand-aside"       // another server answers on the link
	NotOffered       Reason = "not-offered"       // takes an address that was not offered to it
	OtherAddress     Reason = "other-address"     // its record is of another address
	OfNetwork        Reason = "of-network"        // the address is a router's, a relay's or a server's
	BadRelay         Reason = "bad-relay"         // came through an address that no relay can have
	TooManyDeclines  Reason = "too-many-declines" // declines one address after the other
	ReservedInUse    Reason = "reserved-in-use"   // another host answers for its reserved address
	SharedIdentifier Reason = "shared-identifier" // another host has the same client identifier
	Fenced           Reason = "fenced"            // another server has taken over the database
	NoWayBack        Reason = "no-way-back"       // the reply had nowhere to go
	TooLong          Reason = "too-long"          // the reply cannot be written
	Overload         Reason = "overload"          // too much waits already
	PartnerServes    Reason = "partner-serves"    // the other server of the pair answers it
	Recovering       Reason = "recovering"        // this server answers nobody until it knows what the other did
	PartnersShare    Reason = "partners-share"    // what is left is the other server's to give
	RecordsLost      Reason = "records-lost"      // what is left may be held by clients of which the records were lost
	ForeignSource    Reason = "foreign-source"    // it was sent from an address that it has no business to be sent from
)

// Words says the reason in words; rule names the rule that turned the client
// away, if one did.
func (r Reason) Words(rule string) string {
	if r == ByRule && rule != "" {
		return "turned away by rule " + rule
	}
	if text, ok := words[r]; ok {
		return text
	}
	return string(r)
}

var words = map[Reason]string{
	NoScope:          "no scope for this link",
	ScopeHeld:        "scope is held",
	ScopeDraining:    "scope is draining",
	PoolEmpty:        "pool is empty",
	ReservedOnly:     "scope serves reserved clients only",
	WrongNetwork:     "it asks for an address of another link",
	ForAnother:       "address reserved for another client",
	HeldByAnother:    "address held by another client",
	NotHandedOut:     "address is excluded or outside the pools",
	HasReservation:   "a reserved address waits for it",
	NoRecord:         "no lease on record",
	NoDatabase:       "nothing can be recorded",
	OtherServer:      "it chose another server",
	NotTaken:         "offered but never taken",
	BadRequest:       "a field that must be there is not",
	NotServed:        "such messages are not answered",
	ByRule:           "turned away by a rule",
	TooMany:          "too many clients never seen before",
	NoBootp:          "BOOTP is not served from the pools",
	V6Only:           "it can do without IPv4",
	Listening:        "its link is listened to",
	StandsAside:      "another server answers on its link",
	NotOffered:       "it takes an address that was not offered to it",
	OtherAddress:     "its lease is of another address",
	OfNetwork:        "the address belongs to a router, a relay or a server",
	BadRelay:         "it came through an address that no relay can have",
	TooManyDeclines:  "it declines one address after the other",
	ReservedInUse:    "another host answers for its reserved address",
	SharedIdentifier: "another host has the same client identifier",
	Fenced:           "another server has taken over the database",
	NoWayBack:        "there is no way back to it",
	TooLong:          "what it sent does not fit into the reply",
	Overload:         "too much waits already",
	PartnerServes:    "the other server of the pair answers it",
	Recovering:       "this server recovers, and leaves it to the other",
	PartnersShare:    "what is left is the other server's to give",
	RecordsLost:      "what is left may be held by clients of which the database lost the records",
	ForeignSource:    "it was sent from an address that is not the client's",
}

// Refusal is what a NAK tells the client of the reason; "" if nothing.
func (r Reason) Refusal() string { return refusals[r] }

// refusals are what Refusal gives.
var refusals = map[Reason]string{
	WrongNetwork: "wrong network", OfNetwork: "address of the network", ForAnother: "address reserved for another client",
	OtherAddress: "your lease is of another address", HasReservation: "a reserved address is waiting",
	HeldByAnother: "address held by another client",
	NotHandedOut:  "address not handed out", ReservedOnly: "reserved clients only", ScopeDraining: "scope is draining",
	ReservedInUse: "address in use",
	NoRecord:      "no lease on record", NotOffered: "address not offered", ByRule: "refused by the administrator",
}

// All lists all reasons.
func All() []Reason { return slices.Sorted(maps.Keys(words)) }
