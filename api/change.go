package api

import "time"

// Edit is one edit of the plan. Put the item under the field of its kind; with
// edit, fields that are left out stay as they are.
type Edit struct {
	Op          string           `json:"op" enum:"add,edit,put,set,remove" doc:"put sets what it says, and leaves nothing else set; set adds, or edits what is there"`
	Kind        string           `json:"kind" enum:"defaults,field,supernet,link,scope,reservation,codebook,list,rule,trial"`
	Name        string           `json:"name,omitempty" doc:"Item concerned; not for defaults"`
	Supernet    *SupernetEdit    `json:"supernet,omitempty"`
	Scope       *ScopeEdit       `json:"scope,omitempty"`
	Link        *LinkEdit        `json:"link,omitempty" doc:"Link that it shares with other scopes; one of its own, or the one whose relay or interface lies in the subnet, if left out"`
	Reservation *ReservationEdit `json:"reservation,omitempty"`
	Defaults    *DefaultsEdit    `json:"defaults,omitempty"`
	Codebook    *CodebookEdit    `json:"codebook,omitempty"`
	List        *ListEdit        `json:"list,omitempty"`
	Rule        *RuleEdit        `json:"rule,omitempty"`
	Trial       *TrialEdit       `json:"trial,omitempty"`
	Field       *FieldEdit       `json:"field,omitempty"`
}

// FieldEdit sets what a field of one's own is. It keeps its name.
type FieldEdit struct {
	Type    *string   `json:"type,omitempty" enum:"text,number,date,choice,address,link" doc:"How its values are written"`
	Choices *[]string `json:"choices,omitempty" doc:"What it can be, with the type choice"`
	On      *[]string `json:"on,omitempty" doc:"Kinds of items that can have it, such as scope and reservation; all if left out"`
	Note    *string   `json:"note,omitempty" maxLength:"4000" doc:"For people"`
}

// OwnField is a field of the administrator's own, such as a location or a ticket.
type OwnField struct {
	ID      int64    `json:"id" doc:"Stays the same whatever it is called"`
	Name    string   `json:"name"`
	Type    string   `json:"type" enum:"text,number,date,choice,address,link"`
	Choices []string `json:"choices"`
	On      []string `json:"on" doc:"Kinds of items that can have it"`
	Used    int      `json:"used" doc:"Items that have a value of it"`
	Note    string   `json:"note"`
}

// SupernetEdit sets fields of a supernet.
type SupernetEdit struct {
	Name         *string           `json:"name,omitempty" doc:"New name" file:"-"`
	Prefix       *string           `json:"prefix,omitempty" doc:"What lies in it inherits from it"`
	Lease        *string           `json:"lease,omitempty" doc:"Lease time such as 8h, 3d or infinite; empty inherits, none takes an inherited one away" file:"Lease time such as 8h, 3d or infinite; none takes an inherited one away"`
	Valid        *string           `json:"valid,omitempty" doc:"IPv6: how long an address may be used in all, such as 12h; empty inherits, or is half as long again as the lease time" file:"IPv6: how long an address may be used in all; half as long again as the lease time if left out"`
	Options      map[string]string `json:"options,omitempty" doc:"By option name or code; an empty value inherits again, none takes an inherited value away" file:"By option name or code; none takes an inherited value away"`
	Identity     *string           `json:"identity,omitempty" enum:"identifier,hardware," doc:"What clients are told apart by"`
	WarnUsed     *int              `json:"warnUsed,omitempty" doc:"Warn of a scope when more than so many percent of its pools are used; 0 inherits, -1 is never" file:"Warn of a scope when more than so many percent of its pools are used" word:"never"`
	WarnHeadroom *int              `json:"warnHeadroom,omitempty" doc:"Warn of a scope when fewer addresses are left; 0 inherits, -1 is never" file:"Warn of a scope when fewer addresses are left" word:"never"`
	Approval     *bool             `json:"approval,omitempty" doc:"Changes of it, and of what lies in it, need a second person's approval"`
	WarnDays     *int              `json:"warnDays,omitempty" doc:"Warn of a scope when its pools are expected to run out within so many days; 0 inherits, -1 is never" file:"Warn of a scope when its pools are expected to run out within so many days" word:"never"`
	Fields       map[string]string `json:"fields,omitempty" doc:"Values of fields of your own, by name; an empty one is taken away" file:"Values of fields of your own, by name"`
	Note         *string           `json:"note,omitempty" maxLength:"4000" doc:"For people"`
}

// ScopeEdit sets fields of a scope.
type ScopeEdit struct {
	Name             *string           `json:"name,omitempty" doc:"New name" file:"-"`
	Link             *string           `json:"link,omitempty" doc:"Link that it shares with other scopes; if left out, the one whose relay or interface lies in the subnet, or one of its own"`
	Subnet           *string           `json:"subnet,omitempty" doc:"Such as 10.77.0.0/24 or 2001:db8:40:1::/64"`
	Pools            *[]string         `json:"pools,omitempty" doc:"All pools: ranges, CIDRs, or all for the whole subnet"`
	PrefixPools      *[]string         `json:"prefixPools,omitempty" doc:"IPv6: all prefixes that smaller ones are delegated from, such as 2001:db8:40:8000::/49 in /56"`
	Exclusions       *[]Exclusion      `json:"exclusions,omitempty" doc:"All exclusions"`
	AddExclusions    []Exclusion       `json:"addExclusions,omitempty" file:"-"`
	RemoveExclusions []string          `json:"removeExclusions,omitempty" doc:"Ranges as they were added" file:"-"`
	Mode             *string           `json:"mode,omitempty" enum:"held,serving,draining" doc:"A new scope is held if it says nothing"`
	DrainUntil       *time.Time        `json:"drainUntil,omitempty" doc:"No lease reaches beyond this, while it drains"`
	RunDown          *string           `json:"runDown,omitempty" doc:"Until this time (RFC 3339) no lease reaches far beyond it, so that what changes then soon reaches every client; empty for never"`
	Approval         *bool             `json:"approval,omitempty" doc:"Changes of it need a second person's approval"`
	Authoritative    *bool             `json:"authoritative,omitempty" doc:"Refuse clients without a record, instead of keeping silent"`
	Identity         *string           `json:"identity,omitempty" enum:"identifier,hardware," doc:"What clients are told apart by; empty inherits" file:"What clients are told apart by"`
	Bootp            *string           `json:"bootp,omitempty" enum:"ignore,reserved,dynamic" doc:"What BOOTP clients get; reserved if left out"`
	RapidCommit      *bool             `json:"rapidCommit,omitempty" doc:"Let clients that ask for it do with two messages"`
	OfferDelay       *string           `json:"offerDelay,omitempty" doc:"How long offers wait, up to 10s; empty for none"`
	Probe            *bool             `json:"probe,omitempty" doc:"Probe addresses before they are offered; true if left out"`
	PerCircuit       *int              `json:"perCircuit,omitempty" doc:"Dynamic addresses behind one relay circuit, at most; -1 is any number" file:"Dynamic addresses behind one relay circuit, at most; any if left out" word:"any"`
	NewPerMinute     *int              `json:"newPerMinute,omitempty" doc:"Clients never seen before that are let in a minute, at most; 0 is a tenth of the pools and 60 at least, -1 is any number" file:"Clients never seen before that are let in a minute, at most; a tenth of the pools and 60 at least if left out" word:"any"`
	WarnUsed         *int              `json:"warnUsed,omitempty" doc:"Warn when more than so many percent of the pools are used; 0 inherits, -1 is never" file:"Warn when more than so many percent of the pools are used" word:"never"`
	WarnHeadroom     *int              `json:"warnHeadroom,omitempty" doc:"Warn when fewer addresses are left; 0 inherits, -1 is never" file:"Warn when fewer addresses are left" word:"never"`
	WarnDays         *int              `json:"warnDays,omitempty" doc:"Warn when the pools are expected to run out within so many days; 0 inherits, -1 is never" file:"Warn when the pools are expected to run out within so many days" word:"never"`
	Lease            *string           `json:"lease,omitempty" doc:"Lease time such as 8h, 3d or infinite; empty inherits, none takes an inherited one away" file:"Lease time such as 8h, 3d or infinite; none takes an inherited one away"`
	Valid            *string           `json:"valid,omitempty" doc:"IPv6: how long an address may be used in all, such as 12h; empty inherits, or is half as long again as the lease time" file:"IPv6: how long an address may be used in all; half as long again as the lease time if left out"`
	Options          map[string]string `json:"options,omitempty" doc:"By option name or code; an empty value inherits again, none takes an inherited value away" file:"By option name or code; none takes an inherited value away"`
	Fields           map[string]string `json:"fields,omitempty" doc:"Values of fields of your own, by name; an empty one is taken away" file:"Values of fields of your own, by name"`
	Note             *string           `json:"note,omitempty" maxLength:"4000" doc:"For people"`
}

// LinkEdit sets fields of a link.
type LinkEdit struct {
	Name            *string           `json:"name,omitempty" doc:"New name" file:"-"`
	Interfaces      *[]string         `json:"interfaces,omitempty" doc:"Interfaces of this host"`
	Relays          *[]string         `json:"relays,omitempty" doc:"Addresses of its relays (giaddr)"`
	Listening       *bool             `json:"listening,omitempty" doc:"Hear, and send nothing"`
	StandAside      *bool             `json:"standAside,omitempty" doc:"Do not serve while another server answers there"`
	SubnetSelection *bool             `json:"subnetSelection,omitempty" doc:"Clients of other links may choose a scope of it (option 118)"`
	Wake            *bool             `json:"wake,omitempty" doc:"Let people wake its clients (Wake-on-LAN)"`
	Fields          map[string]string `json:"fields,omitempty" doc:"Values of fields of your own, by name; an empty one is taken away" file:"Values of fields of your own, by name"`
	Note            *string           `json:"note,omitempty" maxLength:"4000" doc:"For people"`
}

// ReservationEdit sets fields of a reservation.
type ReservationEdit struct {
	Name       *string           `json:"name,omitempty" doc:"New name" file:"-"`
	Scope      *string           `json:"scope,omitempty" doc:"Scope of a reservation without an address"`
	Hardware   *string           `json:"hardware,omitempty" doc:"One of hardware, identifier, duid and circuit says whom it is for"`
	Identifier *string           `json:"identifier,omitempty" doc:"In hexadecimal"`
	DUID       *string           `json:"duid,omitempty" doc:"DUID of a client of IPv6, as its system prints it"`
	IAID       *string           `json:"iaid,omitempty" doc:"With a DUID: of that association alone; a number, or four octets"`
	Circuit    *string           `json:"circuit,omitempty" doc:"Text, or hexadecimal with colons"`
	Address    *string           `json:"address,omitempty" doc:"An address, or a prefix to delegate. Left out when adding: the address the client has, or a free one" file:"The address the client has, or a free one, if left out; then scope is needed"`
	Hostname   *string           `json:"hostname,omitempty" doc:"Host name that the client is told"`
	Insist     *bool             `json:"insist,omitempty" doc:"Give it although another host answers for the address"`
	Lease      *string           `json:"lease,omitempty" doc:"Lease time such as 8h, 3d or infinite; empty inherits, none takes an inherited one away" file:"Lease time such as 8h, 3d or infinite; none takes an inherited one away"`
	Valid      *string           `json:"valid,omitempty" doc:"IPv6: how long an address may be used in all, such as 12h; empty inherits, or is half as long again as the lease time" file:"IPv6: how long an address may be used in all; half as long again as the lease time if left out"`
	Options    map[string]string `json:"options,omitempty" doc:"By option name or code; an empty value inherits again, none takes an inherited value away" file:"By option name or code; none takes an inherited value away"`
	Fields     map[string]string `json:"fields,omitempty" doc:"Values of fields of your own, by name; an empty one is taken away" file:"Values of fields of your own, by name"`
	Note       *string           `json:"note,omitempty" maxLength:"4000" doc:"For people"`
}

// DefaultsEdit sets fields of the defaults.
type DefaultsEdit struct {
	Lease        *string           `json:"lease,omitempty" doc:"Lease time such as 8h, 3d or infinite; empty inherits, none takes an inherited one away" file:"Lease time such as 8h, 3d or infinite; none takes an inherited one away"`
	Valid        *string           `json:"valid,omitempty" doc:"IPv6: how long an address may be used in all, such as 12h; empty inherits, or is half as long again as the lease time" file:"IPv6: how long an address may be used in all; half as long again as the lease time if left out"`
	Options      map[string]string `json:"options,omitempty" doc:"By option name or code; an empty value inherits again, none takes an inherited value away" file:"By option name or code; none takes an inherited value away"`
	Identity     *string           `json:"identity,omitempty" enum:"identifier,hardware" doc:"What clients are told apart by; identifier if left out"`
	Listening    *bool             `json:"listening,omitempty" doc:"Hear, and send nothing"`
	WarnUsed     *int              `json:"warnUsed,omitempty" doc:"Warn when more than so many percent of the pools are used; 0 inherits, -1 is never" file:"Warn when more than so many percent of the pools are used" word:"never"`
	WarnHeadroom *int              `json:"warnHeadroom,omitempty" doc:"Warn when fewer addresses are left; 0 inherits, -1 is never" file:"Warn when fewer addresses are left" word:"never"`
	WarnDays     *int              `json:"warnDays,omitempty" doc:"Warn when the pools are expected to run out within so many days; 0 inherits, -1 is never" file:"Warn when the pools are expected to run out within so many days" word:"never"`
	Note         *string           `json:"note,omitempty" maxLength:"4000" doc:"For people"`
}

// CodebookEdit sets fields of a codebook.
type CodebookEdit struct {
	Place      *string           `json:"place,omitempty" enum:"message,43,125,17" doc:"Where its options travel"`
	Classes    *[]string         `json:"classes,omitempty" doc:"Vendor classes it is for, with place 43; a final * stands for any rest"`
	Enterprise *uint32           `json:"enterprise,omitempty" doc:"IANA enterprise number, with place 125"`
	Options    *[]OwnOption      `json:"options,omitempty" doc:"All options"`
	Put        []OwnOption       `json:"put,omitempty" doc:"Options to add, or to replace by code" file:"-"`
	Drop       []int             `json:"drop,omitempty" doc:"Codes to take away" file:"-"`
	Fields     map[string]string `json:"fields,omitempty" doc:"Values of fields of your own, by name; an empty one is taken away" file:"Values of fields of your own, by name"`
	Note       *string           `json:"note,omitempty" maxLength:"4000" doc:"For people"`
}

// OwnOption is one option of a codebook of the administrator's.
type OwnOption struct {
	Code    uint16 `json:"code" doc:"Number of the option"`
	Name    string `json:"name" doc:"What it is called where it is set"`
	Type    string `json:"type" doc:"Such as address, address list, text, u16, u8 text"`
	Meaning string `json:"meaning,omitempty" doc:"For people"`
}

// Codebook is a set of codes of the administrator's, or of a vendor.
type Codebook struct {
	ID         int64             `json:"id" doc:"Stays the same whatever it is called"`
	Name       string            `json:"name"`
	Place      string            `json:"place" enum:"message,43,125,17"`
	Classes    []string          `json:"classes"`
	Enterprise uint32            `json:"enterprise"`
	Options    []OwnOption       `json:"options"`
	Fields     map[string]string `json:"fields" doc:"Values of fields of your own, by name"`
	Note       string            `json:"note"`
	Seen       int               `json:"seen" doc:"Clients on record whose vendor class it is for"`
}

// ListEdit sets fields of a list.
type ListEdit struct {
	Name    *string           `json:"name,omitempty" doc:"New name" file:"-"`
	Entries *[]string         `json:"entries,omitempty" doc:"All entries: hardware addresses or identifiers in hexadecimal"`
	Put     []string          `json:"put,omitempty" doc:"Entries to add" file:"-"`
	Drop    []string          `json:"drop,omitempty" doc:"Entries to take away" file:"-"`
	Fields  map[string]string `json:"fields,omitempty" doc:"Values of fields of your own, by name; an empty one is taken away" file:"Values of fields of your own, by name"`
	Note    *string           `json:"note,omitempty" maxLength:"4000" doc:"For people"`
}

// List is a named set of hardware addresses or identifiers.
type List struct {
	ID      int64             `json:"id" doc:"Stays the same whatever it is called"`
	Name    string            `json:"name"`
	Entries []string          `json:"entries"`
	Rules   []string          `json:"rules" doc:"Rules that look into it"`
	Fields  map[string]string `json:"fields" doc:"Values of fields of your own, by name"`
	Note    string            `json:"note"`
}

// RuleEdit sets fields of a rule.
type RuleEdit struct {
	Name     *string           `json:"name,omitempty" doc:"New name" file:"-"`
	Scope    *string           `json:"scope,omitempty" doc:"Scope it is of; empty for none" file:"Scope it is of"`
	Supernet *string           `json:"supernet,omitempty" file:"Supernet it is of; without scope and supernet it is of the defaults" doc:"Supernet it is of; empty for none. Without scope and supernet it is of the defaults"`
	Order    *int              `json:"order,omitempty" doc:"Lower first; last if left out"`
	When     *string           `json:"when,omitempty" doc:"Condition, in CEL"`
	Action   *string           `json:"action,omitempty" doc:"ignore, refuse, reserved, or empty to give values" file:"ignore, refuse or reserved; values are given if left out"`
	Pool     *string           `json:"pool,omitempty" doc:"Pool that is for fitting clients alone"`
	Off      *bool             `json:"off,omitempty" doc:"Keep it, and do not use it"`
	Lease    *string           `json:"lease,omitempty" doc:"Lease time such as 8h, 3d or infinite; empty inherits, none takes an inherited one away" file:"Lease time such as 8h, 3d or infinite; none takes an inherited one away"`
	Valid    *string           `json:"valid,omitempty" doc:"IPv6: how long an address may be used in all, such as 12h; empty inherits, or is half as long again as the lease time" file:"IPv6: how long an address may be used in all; half as long again as the lease time if left out"`
	Options  map[string]string `json:"options,omitempty" doc:"By option name or code; an empty value inherits again, none takes an inherited value away" file:"By option name or code; none takes an inherited value away"`
	Fields   map[string]string `json:"fields,omitempty" doc:"Values of fields of your own, by name; an empty one is taken away" file:"Values of fields of your own, by name"`
	Note     *string           `json:"note,omitempty" maxLength:"4000" doc:"For people"`
}

// Rule says which clients it fits and what they get or are refused.
type Rule struct {
	ID       int64             `json:"id" doc:"Stays the same whatever it is called"`
	Name     string            `json:"name"`
	Scope    string            `json:"scope" doc:"Scope it is of, or empty"`
	Supernet string            `json:"supernet" doc:"Supernet it is of, or empty; without both it is of the defaults"`
	Order    int               `json:"order"`
	When     string            `json:"when"`
	Action   string            `json:"action"`
	Pool     string            `json:"pool,omitempty"`
	Off      bool              `json:"off"`
	Valid    string            `json:"valid,omitempty" doc:"Valid lifetime of IPv6, if it is set"`
	Lease    string            `json:"lease,omitempty"`
	Options  []Setting         `json:"options"`
	Fields   map[string]string `json:"fields" doc:"Values of fields of your own, by name"`
	Note     string            `json:"note"`
	Fitted   uint64            `json:"fitted" doc:"Requests it fitted since the start of the service"`
	Last     *time.Time        `json:"last" doc:"When it last fitted"`
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
	Name     *string           `json:"name,omitempty" doc:"New name" file:"-"`
	Scope    *string           `json:"scope,omitempty" doc:"Scope that is tried"`
	Hardware *string           `json:"hardware,omitempty" doc:"Made up if left out"`
	Vendor   *string           `json:"vendor,omitempty" doc:"Vendor class"`
	Circuit  *string           `json:"circuit,omitempty" doc:"Circuit of the relay (option 82)"`
	Every    *string           `json:"every,omitempty" doc:"Such as 15m; empty for on demand alone" file:"Such as 15m; on demand alone if left out"`
	Fields   map[string]string `json:"fields,omitempty" doc:"Values of fields of your own, by name; an empty one is taken away" file:"Values of fields of your own, by name"`
	Note     *string           `json:"note,omitempty" maxLength:"4000" doc:"For people"`
}

// Trial is an exchange that the service makes as a client, to prove that a scope
// is served.
type Trial struct {
	ID       int64             `json:"id" doc:"Stays the same whatever it is called"`
	Name     string            `json:"name"`
	Scope    string            `json:"scope"`
	Hardware string            `json:"hardware"`
	Vendor   string            `json:"vendor"`
	Circuit  string            `json:"circuit"`
	Every    string            `json:"every"`
	Fields   map[string]string `json:"fields" doc:"Values of fields of your own, by name"`
	Note     string            `json:"note"`
	Last     *TrialResult      `json:"last"`
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
	Into    string `json:"into,omitempty" doc:"Gather it in this change in preparation, and change nothing now"`
	Edits   []Edit `json:"edits" minItems:"1" maxItems:"10000"`
}

// FileOrder says how a plan file is to be applied.
type FileOrder struct {
	Into      string `query:"into" doc:"Gather it in this change in preparation, and change nothing now"`
	Base      int64  `query:"base" doc:"Revision the file was made from, if it does not say so itself"`
	Overwrite bool   `query:"overwrite" doc:"What was changed since the file's revision is overwritten"`
	Reason    string `query:"reason" maxLength:"1000" doc:"Why, for the history"`
	DryRun    bool   `query:"dryRun" doc:"Only say what would happen"`
	Confirm   bool   `query:"confirm" doc:"Go ahead although clients are stranded"`
	Alone     bool   `query:"alone" doc:"Change the plan here although the partner cannot be reached; it takes the change when it is back"`
}

// Revert says how a revision is undone.
type Revert struct {
	Base    int64  `json:"base,omitempty" doc:"Revision at which it was looked at"`
	Reason  string `json:"reason,omitempty" maxLength:"1000" doc:"Why, for the history"`
	DryRun  bool   `json:"dryRun,omitempty" doc:"Only say what would happen"`
	Confirm bool   `json:"confirm,omitempty" doc:"Go ahead although clients are stranded"`
	Into    string `json:"into,omitempty" doc:"Gather it in this change in preparation, and change nothing now"`
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
	Lines     int        `json:"lines" doc:"How many lines the diff has; it carries the first 10,000"`
	Diff      []DiffLine `json:"diff"`
	Advice    []Advice   `json:"advice"`
	Effects   []Effect   `json:"effects"`
	Inherits  []DiffLine `json:"inherits" doc:"What scopes inherit differently, the first 50 of it"`
	Inherited int        `json:"inherited" doc:"How much of that there is"`
	Into      string     `json:"into,omitempty" doc:"The change in preparation that it was, or would be, gathered in; the rest is what that does as a whole"`
	Needs     string     `json:"needs,omitempty" doc:"What among it asks for a second person's approval, such as scope looms"`
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
