// Package api holds the types of the HTTP API, shared by both of its ends. They
// have no behaviour. Addresses, subnets, ranges and hardware addresses travel as
// text in their canonical form, durations as text like 8h or infinite, times as
// RFC 3339 in UTC.
package api

import "time"

// Setting is one option at one level.
type Setting struct {
	Code  uint8  `json:"code" doc:"Option code"`
	Name  string `json:"name" doc:"Option name"`
	Value string `json:"value" doc:"Value as text, or none where an inherited value is taken away"`
	Level string `json:"level,omitempty" doc:"Level the value comes from" enum:"service,defaults,scope,reservation"`
	Bytes string `json:"bytes,omitempty" doc:"The octets that are sent, in hexadecimal"`
}

// Usage says how the addresses of a scope are used.
type Usage struct {
	Size      uint64 `json:"size" doc:"Addresses that pools hand out"`
	Excluded  uint64 `json:"excluded" doc:"Addresses of the pools that exclusions take away"`
	Reserved  int    `json:"reserved" doc:"Reservations"`
	Active    int    `json:"active"`
	Offered   int    `json:"offered"`
	Released  int    `json:"released"`
	Expired   int    `json:"expired"`
	Abandoned int    `json:"abandoned"`
	Headroom  uint64 `json:"headroom" doc:"Addresses that could be handed out now"`
	Spare     uint64 `json:"spare" doc:"Addresses outside all pools, left for reservations"`
}

// Exclusion is a range never handed out from a pool.
type Exclusion struct {
	Range string `json:"range" example:"10.77.0.100-10.77.0.109"`
	User  string `json:"user,omitempty" doc:"Who uses it, if known"`
}

// Scope is one subnet with its pools and settings.
type Scope struct {
	Name          string      `json:"name"`
	Link          string      `json:"link"`
	Subnet        string      `json:"subnet" example:"10.77.0.0/24"`
	Mask          string      `json:"mask"`
	Pools         []string    `json:"pools"`
	Exclusions    []Exclusion `json:"exclusions"`
	Mode          string      `json:"mode" enum:"held,serving,draining"`
	DrainUntil    *time.Time  `json:"drainUntil,omitempty"`
	Authoritative bool        `json:"authoritative"`
	Lease         string      `json:"lease" doc:"Lease time in force"`
	LeaseSet      string      `json:"leaseSet,omitempty" doc:"Lease time set on the scope itself, if any"`
	Options       []Setting   `json:"options" doc:"Options set on the scope itself"`
	Note          string      `json:"note"`
	Usage         Usage       `json:"usage"`
}

// Link is one broadcast domain.
type Link struct {
	Name       string   `json:"name"`
	Interfaces []string `json:"interfaces"`
	Relays     []string `json:"relays"`
	Scopes     []string `json:"scopes"`
	Note       string   `json:"note"`
}

// Reservation keeps an address for one client.
type Reservation struct {
	Name     string    `json:"name"`
	Scope    string    `json:"scope"`
	Hardware string    `json:"hardware"`
	Address  string    `json:"address"`
	Hostname string    `json:"hostname"`
	Lease    string    `json:"lease,omitempty"`
	Options  []Setting `json:"options"`
	Note     string    `json:"note"`
	Status   string    `json:"status" doc:"Status of the address now"`
	Holder   string    `json:"holder,omitempty" doc:"Hardware address of the client that holds it now"`
}

// Defaults hold in the whole plan.
type Defaults struct {
	Lease   string    `json:"lease"`
	Options []Setting `json:"options"`
	Note    string    `json:"note"`
}

// Lease is the record of one address.
type Lease struct {
	Address    string     `json:"address"`
	Status     string     `json:"status" enum:"free,offered,active,released,expired,abandoned"`
	Scope      string     `json:"scope"`
	Hardware   string     `json:"hardware"`
	Identifier string     `json:"identifier,omitempty" doc:"Client identifier in hexadecimal, if it sent one"`
	Hostname   string     `json:"hostname"`
	Vendor     string     `json:"vendor" doc:"Vendor class"`
	Reserved   bool       `json:"reserved"`
	Since      time.Time  `json:"since"`
	Expires    *time.Time `json:"expires" doc:"End of the lease; null if it never ends"`
	Changed    time.Time  `json:"changed" doc:"When the status became what it is"`
	Heard      time.Time  `json:"heard" doc:"When the client was last answered"`
	Granted    string     `json:"granted" doc:"Lease time last granted"`
	Relay      string     `json:"relay,omitempty"`
	Circuit    string     `json:"circuit,omitempty" doc:"Circuit of option 82"`
	Revision   int64      `json:"revision" doc:"Plan revision of the options last given"`
}

// LeasePage is one page of the lease table.
type LeasePage struct {
	Leases []Lease `json:"leases"`
	Total  int     `json:"total" doc:"Leases that fit the filter"`
	Next   string  `json:"next,omitempty" doc:"Pass as after to get the next page"`
}

// LeaseEvent is one line of an address's history.
type LeaseEvent struct {
	At         time.Time  `json:"at"`
	Status     string     `json:"status"`
	Hardware   string     `json:"hardware"`
	Identifier string     `json:"identifier,omitempty"`
	Hostname   string     `json:"hostname"`
	Since      time.Time  `json:"since"`
	Expires    *time.Time `json:"expires"`
	Relay      string     `json:"relay,omitempty"`
	Circuit    string     `json:"circuit,omitempty"`
}

// Cell is one part of an address map: one address, or several when binned.
type Cell struct {
	From     string `json:"from"`
	To       string `json:"to"`
	Status   string `json:"status" doc:"The most telling status in the cell: abandoned, active, offered, reserved, expired, released, excluded, free or outside"`
	Active   int    `json:"active"`
	Size     int    `json:"size"`
	Hardware string `json:"hardware,omitempty"`
	Hostname string `json:"hostname,omitempty"`
}

// Unserved is a client that asked and got nothing, or a refusal.
type Unserved struct {
	Hardware   string    `json:"hardware"`
	Identifier string    `json:"identifier,omitempty"`
	Hostname   string    `json:"hostname"`
	Vendor     string    `json:"vendor"`
	Reason     string    `json:"reason"`
	Text       string    `json:"text" doc:"The reason in words"`
	Mend       string    `json:"mend" doc:"What to do about it"`
	Scope      string    `json:"scope"`
	Link       string    `json:"link"`
	Relay      string    `json:"relay,omitempty"`
	Interface  string    `json:"interface,omitempty"`
	Circuit    string    `json:"circuit,omitempty"`
	Asked      string    `json:"asked,omitempty"`
	First      time.Time `json:"first"`
	Last       time.Time `json:"last"`
	Count      int       `json:"count"`
	Guess      string    `json:"guess,omitempty" doc:"Subnet that a missing scope would have"`
	Trail      []string  `json:"trail" doc:"The steps of the last decision"`
}

// Edit is one edit of the plan. Put the item under the field of its kind; with
// edit, fields that are left out stay as they are.
type Edit struct {
	Op          string           `json:"op" enum:"add,edit,remove"`
	Kind        string           `json:"kind" enum:"defaults,link,scope,reservation"`
	Name        string           `json:"name,omitempty" doc:"Item concerned; not for defaults"`
	Scope       *ScopeEdit       `json:"scope,omitempty"`
	Link        *LinkEdit        `json:"link,omitempty"`
	Reservation *ReservationEdit `json:"reservation,omitempty"`
	Defaults    *DefaultsEdit    `json:"defaults,omitempty"`
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
	Lease            *string           `json:"lease,omitempty" doc:"Empty to inherit"`
	Options          map[string]string `json:"options,omitempty" doc:"By name or code; an empty value unsets, none takes an inherited value away"`
	Note             *string           `json:"note,omitempty"`
}

// LinkEdit sets fields of a link.
type LinkEdit struct {
	Name       *string   `json:"name,omitempty" doc:"New name"`
	Interfaces *[]string `json:"interfaces,omitempty"`
	Relays     *[]string `json:"relays,omitempty"`
	Note       *string   `json:"note,omitempty"`
}

// ReservationEdit sets fields of a reservation.
type ReservationEdit struct {
	Name     *string           `json:"name,omitempty" doc:"New name"`
	Scope    *string           `json:"scope,omitempty"`
	Hardware *string           `json:"hardware,omitempty"`
	Address  *string           `json:"address,omitempty" doc:"Left out when adding: the address the client has, or a free one"`
	Hostname *string           `json:"hostname,omitempty"`
	Lease    *string           `json:"lease,omitempty" doc:"Empty to inherit"`
	Options  map[string]string `json:"options,omitempty"`
	Note     *string           `json:"note,omitempty"`
}

// DefaultsEdit sets fields of the defaults.
type DefaultsEdit struct {
	Lease   *string           `json:"lease,omitempty"`
	Options map[string]string `json:"options,omitempty"`
	Note    *string           `json:"note,omitempty"`
}

// ChangeRequest is a set of edits that is applied as one revision, or not at all.
type ChangeRequest struct {
	Base    int64  `json:"base,omitempty" doc:"Revision the edits were made against; refused if the plan has changed since"`
	Reason  string `json:"reason,omitempty" doc:"Why, for the history"`
	DryRun  bool   `json:"dryRun,omitempty" doc:"Only say what would happen"`
	Confirm bool   `json:"confirm,omitempty" doc:"Go ahead although clients are stranded"`
	Edits   []Edit `json:"edits" minItems:"1" maxItems:"10000"`
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
	Base     int64      `json:"base"`
	Revision int64      `json:"revision" doc:"Revision in force now"`
	Applied  bool       `json:"applied"`
	Diff     []DiffLine `json:"diff"`
	Advice   []Advice   `json:"advice"`
	Effects  []Effect   `json:"effects"`
	Scopes   []Scope    `json:"scopes" doc:"The changed scopes as they are, or would be, afterwards"`
}

// Revision is one revision of the plan.
type Revision struct {
	Number int64      `json:"number"`
	At     time.Time  `json:"at"`
	Author string     `json:"author"`
	Reason string     `json:"reason"`
	Diff   []DiffLine `json:"diff"`
}

// Code is one option of a codebook.
type Code struct {
	Code    uint8  `json:"code"`
	Name    string `json:"name"`
	Other   string `json:"other,omitempty" doc:"Another name that is understood"`
	Title   string `json:"title"`
	Type    string `json:"type"`
	Meaning string `json:"meaning"`
	Example string `json:"example"`
	Managed bool   `json:"managed" doc:"Computed by the service; cannot be set"`
}

// Explanation says what a client would be given.
type Explanation struct {
	Hardware    string    `json:"hardware"`
	Scope       string    `json:"scope"`
	Reservation string    `json:"reservation,omitempty"`
	Address     string    `json:"address,omitempty" doc:"Address it holds now or has reserved"`
	Lease       string    `json:"lease"`
	Options     []Setting `json:"options"`
}

// Status is the state of the service.
type Status struct {
	Version   string    `json:"version"`
	Started   time.Time `json:"started"`
	Now       time.Time `json:"now"`
	Revision  int64     `json:"revision"`
	Healthy   bool      `json:"healthy"`
	Problem   string    `json:"problem,omitempty" doc:"What is wrong, and what to do"`
	DHCP4     string    `json:"dhcp4" doc:"Where relayed clients are heard"`
	Wires     []Wire    `json:"wires" doc:"Interfaces on which broadcast clients are served"`
	Scopes    int       `json:"scopes"`
	Active    int       `json:"active" doc:"Active leases"`
	Unserved  int       `json:"unserved" doc:"Clients that ask and get nothing"`
	Served5m  int       `json:"served5m" doc:"Requests acknowledged in the last five minutes"`
	Served24h int       `json:"served24h" doc:"Requests acknowledged in the last day"`
	Recorded  uint64    `json:"recorded" doc:"Leases recorded since the start"`
	Commits   uint64    `json:"commits" doc:"Commits these took"`
}

// Wire is an interface on which broadcast clients are served.
type Wire struct {
	Name      string   `json:"name"`
	Addresses []string `json:"addresses"`
	Link      string   `json:"link" doc:"Link it belongs to, if any"`
}

// SignIn asks for a session.
type SignIn struct {
	Account  string `json:"account"`
	Password string `json:"password"`
}

// Session says who is signed in.
type Session struct {
	Account    string `json:"account"`
	MustChange bool   `json:"mustChange" doc:"The password was given once and has to be replaced now"`
}

// NewPassword replaces one's own password.
type NewPassword struct {
	Old string `json:"old"`
	New string `json:"new" minLength:"10"`
}

// Ended says what became of an address that was ended or cleared.
type Ended struct {
	Applied bool   `json:"applied"`
	Lease   Lease  `json:"lease"`
	Text    string `json:"text"`
}

// LiveLease is the live event of a changed lease.
type LiveLease struct {
	Lease Lease `json:"lease"`
}

// LiveRevision is the live event of a changed plan.
type LiveRevision struct {
	Revision int64 `json:"revision"`
}

// LiveBeat keeps a quiet stream open.
type LiveBeat struct {
	Now    time.Time `json:"now"`
	Missed uint64    `json:"missed" doc:"Events this listener lost since the last beat; read the tables again"`
}

// OptionAt is one option with the item it is set on.
type OptionAt struct {
	Level   string  `json:"level" enum:"defaults,scope,reservation"`
	Item    string  `json:"item" doc:"Scope or reservation it is set on"`
	Setting Setting `json:"setting"`
}
