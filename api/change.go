package api

import "time"

// Edit is one edit of the plan. Put the item under the field of its kind; with
// edit, fields that are left out stay as they are.
type Edit struct {
	Op          string           `json:"op" enum:"add,edit,remove"`
	Kind        string           `json:"kind" enum:"defaults,supernet,link,scope,reservation,codebook,list,rule,trial"`
	Name        string           `json:"name,omitempty" doc:"Item concerned; not for defaults"`
	Supernet    *SupernetEdit    `json:"supernet,omitempty"`
	Scope       *ScopeEdit       `json:"scope,omitempty"`
	Link        *LinkEdit        `json:"link,omitempty"`
	Reservation *ReservationEdit `json:"reservation,omitempty"`
	Defaults    *DefaultsEdit    `json:"defaults,omitempty"`
	Codebook    *CodebookEdit    `json:"codebook,omitempty"`
	List        *ListEdit        `json:"list,omitempty"`
	Rule        *RuleEdit        `json:"rule,omitempty"`
	Trial       *TrialEdit       `json:"trial,omitempty"`
}

// SupernetEdit sets fields of a supernet.
type SupernetEdit struct {
	Name         *string           `json:"name,omitempty" doc:"New name"`
	Prefix       *string           `json:"prefix,omitempty" doc:"What lies in it inherits from it"`
	Lease        *string           `json:"lease,omitempty" doc:"Empty to inherit"`
	Options      map[string]string `json:"options,omitempty" doc:"Values by option name or code; empty inherits again, none takes an inherited value away"`
	Identity     *string           `json:"identity,omitempty" enum:"identifier,hardware,"`
	WarnUsed     *int              `json:"warnUsed,omitempty" doc:"Warn of a scope when more than so many percent of its pools are used; 0 inherits, -1 is never"`
	WarnHeadroom *int              `json:"warnHeadroom,omitempty" doc:"Warn of a scope when fewer addresses are left; 0 inherits, -1 is never"`
	WarnDays     *int              `json:"warnDays,omitempty" doc:"Warn of a scope when its pools are expected to run out within so many days; 0 inherits, -1 is never"`
	Note         *string           `json:"note,omitempty" maxLength:"4000"`
}

// ScopeEdit sets fields of a scope.
type ScopeEdit struct {
	Name             *string           `json:"name,omitempty" doc:"New name"`
	Link             *string           `json:"link,omitempty"`
	Subnet           *string           `json:"subnet,omitempty"`
	Pools            *[]string         `json:"pools,omitempty" doc:"All pools: ranges, CIDRs, or all for the whole subnet"`
	AddExclusions    []Exclusion       `json:"addExclusions,omitempty"`
	RemoveExclusions []string          `json:"removeExclusions,omitempty" doc:"Ranges as they were added"`
	Mode             *string           `json:"mode,omitempty" enum:"held,serving,draining"`
	DrainUntil       *time.Time        `json:"drainUntil,omitempty"`
	Authoritative    *bool             `json:"authoritative,omitempty"`
	Identity         *string           `json:"identity,omitempty" doc:"identifier, hardware, or empty to inherit"`
	Bootp            *string           `json:"bootp,omitempty" enum:"ignore,reserved,dynamic"`
	RapidCommit      *bool             `json:"rapidCommit,omitempty"`
	OfferDelay       *string           `json:"offerDelay,omitempty" doc:"Up to 10s; empty for none"`
	Probe            *bool             `json:"probe,omitempty"`
	PerCircuit       *int              `json:"perCircuit,omitempty"`
	NewPerMinute     *int              `json:"newPerMinute,omitempty"`
	WarnUsed         *int              `json:"warnUsed,omitempty" doc:"Warn when more than so many percent of the pools are used; 0 inherits, -1 is never"`
	WarnHeadroom     *int              `json:"warnHeadroom,omitempty" doc:"Warn when fewer addresses are left; 0 inherits, -1 is never"`
	WarnDays         *int              `json:"warnDays,omitempty" doc:"Warn when the pools are expected to run out within so many days; 0 inherits, -1 is never"`
	Lease            *string           `json:"lease,omitempty" doc:"Empty to inherit"`
	Options          map[string]string `json:"options,omitempty" doc:"By name or code; an empty value unsets, none takes an inherited value away"`
	Note             *string           `json:"note,omitempty" maxLength:"4000"`
}

// LinkEdit sets fields of a link.
type LinkEdit struct {
	Name            *string   `json:"name,omitempty" doc:"New name"`
	Interfaces      *[]string `json:"interfaces,omitempty"`
	Relays          *[]string `json:"relays,omitempty"`
	Listening       *bool     `json:"listening,omitempty"`
	StandAside      *bool     `json:"standAside,omitempty"`
	SubnetSelection *bool     `json:"subnetSelection,omitempty"`
	Note            *string   `json:"note,omitempty" maxLength:"4000"`
}

// ReservationEdit sets fields of a reservation.
type ReservationEdit struct {
	Name       *string           `json:"name,omitempty" doc:"New name"`
	Scope      *string           `json:"scope,omitempty"`
	Hardware   *string           `json:"hardware,omitempty" doc:"One of hardware, identifier and circuit says whom it is for"`
	Identifier *string           `json:"identifier,omitempty" doc:"In hexadecimal"`
	Circuit    *string           `json:"circuit,omitempty" doc:"Text, or hexadecimal with colons"`
	Address    *string           `json:"address,omitempty" doc:"Left out when adding: the address the client has, or a free one"`
	Hostname   *string           `json:"hostname,omitempty"`
	Insist     *bool             `json:"insist,omitempty" doc:"Give it although another host answers for the address"`
	Lease      *string           `json:"lease,omitempty" doc:"Empty to inherit"`
	Options    map[string]string `json:"options,omitempty"`
	Note       *string           `json:"note,omitempty" maxLength:"4000"`
}

// DefaultsEdit sets fields of the defaults.
type DefaultsEdit struct {
	Lease        *string           `json:"lease,omitempty"`
	Options      map[string]string `json:"options,omitempty"`
	Identity     *string           `json:"identity,omitempty" enum:"identifier,hardware"`
	Listening    *bool             `json:"listening,omitempty"`
	WarnUsed     *int              `json:"warnUsed,omitempty" doc:"Warn when more than so many percent of the pools are used; 0 inherits, -1 is never"`
	WarnHeadroom *int              `json:"warnHeadroom,omitempty" doc:"Warn when fewer addresses are left; 0 inherits, -1 is never"`
	WarnDays     *int              `json:"warnDays,omitempty" doc:"Warn when the pools are expected to run out within so many days; 0 inherits, -1 is never"`
	Note         *string           `json:"note,omitempty" maxLength:"4000"`
}

// CodebookEdit sets fields of a codebook.
type CodebookEdit struct {
	Place      *string     `json:"place,omitempty" enum:"message,43,125" doc:"Where its options travel"`
	Classes    *[]string   `json:"classes,omitempty" doc:"Vendor classes it is for, with place 43; a final * stands for any rest"`
	Enterprise *uint32     `json:"enterprise,omitempty" doc:"IANA enterprise number, with place 125"`
	Put        []OwnOption `json:"put,omitempty" doc:"Options to add, or to replace by code"`
	Drop       []int       `json:"drop,omitempty" doc:"Codes to take away"`
	Note       *string     `json:"note,omitempty" maxLength:"4000"`
}

// OwnOption is one option of a codebook of the administrator's.
type OwnOption struct {
	Code    uint16 `json:"code"`
	Name    string `json:"name"`
	Type    string `json:"type" doc:"Such as address, address list, text, u16, u8 text"`
	Meaning string `json:"meaning,omitempty"`
}

// Codebook is a set of codes of the administrator's, or of a vendor.
type Codebook struct {
	ID         int64       `json:"id" doc:"Stays the same whatever it is called"`
	Name       string      `json:"name"`
	Place      string      `json:"place" enum:"message,43,125"`
	Classes    []string    `json:"classes"`
	Enterprise uint32      `json:"enterprise"`
	Options    []OwnOption `json:"options"`
	Note       string      `json:"note"`
	Seen       int         `json:"seen" doc:"Clients on record whose vendor class it is for"`
}

// ListEdit sets fields of a list.
type ListEdit struct {
	Name    *string   `json:"name,omitempty" doc:"New name"`
	Entries *[]string `json:"entries,omitempty" doc:"All entries: hardware addresses or identifiers in hexadecimal"`
	Put     []string  `json:"put,omitempty" doc:"Entries to add"`
	Drop    []string  `json:"drop,omitempty" doc:"Entries to take away"`
	Note    *string   `json:"note,omitempty" maxLength:"4000"`
}

// List is a named set of hardware addresses or identifiers.
type List struct {
	ID      int64    `json:"id" doc:"Stays the same whatever it is called"`
	Name    string   `json:"name"`
	Entries []string `json:"entries"`
	Rules   []string `json:"rules" doc:"Rules that look into it"`
	Note    string   `json:"note"`
}

// RuleEdit sets fields of a rule.
type RuleEdit struct {
	Name     *string           `json:"name,omitempty" doc:"New name"`
	Scope    *string           `json:"scope,omitempty" doc:"Scope it is of; empty for none"`
	Supernet *string           `json:"supernet,omitempty" doc:"Supernet it is of; empty for none. Without scope and supernet it is of the defaults"`
	Order    *int              `json:"order,omitempty" doc:"Lower first; last if left out"`
	When     *string           `json:"when,omitempty" doc:"Condition, in CEL"`
	Action   *string           `json:"action,omitempty" doc:"ignore, refuse, reserved, or empty to give values"`
	Pool     *string           `json:"pool,omitempty" doc:"Pool that is for fitting clients alone"`
	Off      *bool             `json:"off,omitempty"`
	Lease    *string           `json:"lease,omitempty"`
	Options  map[string]string `json:"options,omitempty"`
	Note     *string           `json:"note,omitempty" maxLength:"4000"`
}

// Rule says which clients it fits and what they get or are refused.
type Rule struct {
	ID       int64      `json:"id" doc:"Stays the same whatever it is called"`
	Name     string     `json:"name"`
	Scope    string     `json:"scope" doc:"Scope it is of, or empty"`
	Supernet string     `json:"supernet" doc:"Supernet it is of, or empty; without both it is of the defaults"`
	Order    int        `json:"order"`
	When     string     `json:"when"`
	Action   string     `json:"action"`
	Pool     string     `json:"pool,omitempty"`
	Off      bool       `json:"off"`
	Lease    string     `json:"lease,omitempty"`
	Options  []Setting  `json:"options"`
	Note     string     `json:"note"`
	Fitted   uint64     `json:"fitted" doc:"Requests it fitted since the start of the service"`
	Last     *time.Time `json:"last" doc:"When it last fitted"`
}

// RuleTry asks whom a condition would fit.
type RuleTry struct {
	When  string `json:"when"`
	Scope string `json:"scope,omitempty" doc:"Only clients of this scope"`
}

// RuleTried says whom a condition would fit, of the clients on record.
type RuleTried struct {
	Fits     int     `json:"fits"`
	Of       int     `json:"of"`
	Examples []Lease `json:"examples"`
}

// RuleVariable is one name that a condition may use.
type RuleVariable struct {
	Name    string `json:"name"`
	Type    string `json:"type"`
	Meaning string `json:"meaning"`
	Example string `json:"example"`
}

// TrialEdit sets fields of a trial.
type TrialEdit struct {
	Name     *string `json:"name,omitempty" doc:"New name"`
	Scope    *string `json:"scope,omitempty"`
	Hardware *string `json:"hardware,omitempty"`
	Vendor   *string `json:"vendor,omitempty" doc:"Vendor class"`
	Circuit  *string `json:"circuit,omitempty"`
	Every    *string `json:"every,omitempty" doc:"Such as 15m; empty for on demand alone"`
	Note     *string `json:"note,omitempty" maxLength:"4000"`
}

// Trial is an exchange that the service makes as a client, to prove that a scope
// is served.
type Trial struct {
	ID       int64        `json:"id" doc:"Stays the same whatever it is called"`
	Name     string       `json:"name"`
	Scope    string       `json:"scope"`
	Hardware string       `json:"hardware"`
	Vendor   string       `json:"vendor"`
	Circuit  string       `json:"circuit"`
	Every    string       `json:"every"`
	Note     string       `json:"note"`
	Last     *TrialResult `json:"last"`
}

// TrialRun asks for one trial: a planned one by name, or one made up now.
type TrialRun struct {
	Name     string `json:"name,omitempty" doc:"A planned trial"`
	Scope    string `json:"scope,omitempty"`
	Relay    string `json:"relay,omitempty" doc:"Relay or link address whose scope is tried"`
	Hardware string `json:"hardware,omitempty"`
	Vendor   string `json:"vendor,omitempty"`
	Circuit  string `json:"circuit,omitempty"`
}

// TrialStep is one thing that a trial looked at.
type TrialStep struct {
	What   string  `json:"what"`
	Good   bool    `json:"good"`
	Millis float64 `json:"millis,omitempty" doc:"How long an exchange took"`
}

// TrialResult is one trial made.
type TrialResult struct {
	Name    string      `json:"name"`
	Scope   string      `json:"scope"`
	At      time.Time   `json:"at"`
	Good    bool        `json:"good"`
	Address string      `json:"address,omitempty"`
	Steps   []TrialStep `json:"steps"`
}

// ChangeRequest is a set of edits that is applied as one revision, or not at all.
type ChangeRequest struct {
	Base    int64  `json:"base,omitempty" doc:"Revision the edits were made against; refused if the plan has changed since"`
	Reason  string `json:"reason,omitempty" maxLength:"1000" doc:"Why, for the history"`
	DryRun  bool   `json:"dryRun,omitempty" doc:"Only say what would happen"`
	Confirm bool   `json:"confirm,omitempty" doc:"Go ahead although clients are stranded"`
	Alone   bool   `json:"alone,omitempty" doc:"Change the plan here although the partner cannot be reached; it takes the change when it is back"`
	Edits   []Edit `json:"edits" minItems:"1" maxItems:"10000"`
}

// Revert says how a revision is undone.
type Revert struct {
	Base    int64  `json:"base,omitempty" doc:"Revision at which it was looked at"`
	Reason  string `json:"reason,omitempty" maxLength:"1000" doc:"Why, for the history"`
	DryRun  bool   `json:"dryRun,omitempty" doc:"Only say what would happen"`
	Confirm bool   `json:"confirm,omitempty" doc:"Go ahead although clients are stranded"`
}

// Restore says which plan is brought back.
type Restore struct {
	Revision int64      `json:"revision,omitempty" minimum:"0" doc:"The plan as this revision left it; or at"`
	At       *time.Time `json:"at,omitempty" doc:"The plan as it was at this moment"`
	Revert
}

// DiffLine is one line of a diff in plain words.
type DiffLine struct {
	Kind   string `json:"kind"`
	Name   string `json:"name"`
	Text   string `json:"text"`
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
}

// Advice is something worth knowing about a change that is allowed all the same.
type Advice struct {
	Code    string `json:"code"`
	Subject string `json:"subject"`
	Text    string `json:"text"`
}

// Effect is what a change does to clients.
type Effect struct {
	Subject string `json:"subject"`
	Text    string `json:"text"`
	Clients int    `json:"clients"`
	Strands bool   `json:"strands" doc:"They are left without service; such a change needs confirm"`
}

// ChangeResult says what a change did, or would do.
type ChangeResult struct {
	Base      int64      `json:"base"`
	Revision  int64      `json:"revision" doc:"Revision in force now"`
	Applied   bool       `json:"applied"`
	Diff      []DiffLine `json:"diff"`
	Advice    []Advice   `json:"advice"`
	Effects   []Effect   `json:"effects"`
	Inherits  []DiffLine `json:"inherits" doc:"What scopes inherit differently, the first 50 of it"`
	Inherited int        `json:"inherited" doc:"How much of that there is"`
	Resolved  []string   `json:"resolved" doc:"Host names that were resolved to addresses"`
	Scopes    []Scope    `json:"scopes" doc:"The changed scopes as they are, or would be, afterwards"`
}

// Revision is one revision of the plan.
type Revision struct {
	Number int64      `json:"number"`
	At     time.Time  `json:"at"`
	Author string     `json:"author"`
	Reason string     `json:"reason"`
	Items  int        `json:"items" doc:"How many items changed"`
	Lines  int        `json:"lines" doc:"How many lines the diff has; a list of revisions carries the first 30 of each"`
	Diff   []DiffLine `json:"diff"`
}
