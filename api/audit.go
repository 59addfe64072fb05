package api

import "time"

// Finding is one thing that an audit noticed.
type Finding struct {
	Key      string        `json:"key" doc:"Code and subject: stays the same while it is there"`
	Code     string        `json:"code"`
	Area     string        `json:"area" enum:"plan,leases,pair,service"`
	Severity string        `json:"severity" enum:"note,warning,trouble"`
	Title    string        `json:"title"`
	Subject  string        `json:"subject"`
	Scope    string        `json:"scope,omitempty"`
	Text     string        `json:"text" doc:"The evidence"`
	Mend     string        `json:"mend" doc:"What to do"`
	Command  string        `json:"command,omitempty" doc:"That does it"`
	Count    int           `json:"count,omitempty" doc:"Addresses, clients or leases that it is about"`
	Examples []string      `json:"examples" doc:"A few of those"`
	First    time.Time     `json:"first" doc:"Since when it is there"`
	Last     time.Time     `json:"last"`
	Gone     *time.Time    `json:"gone,omitempty" doc:"When it was there no more"`
	New      bool          `json:"new" doc:"It was not there at the audit before"`
	Known    *Acknowledged `json:"known,omitempty" doc:"Who acknowledged it, and why it may stay"`
}

// Acknowledged says why a finding may stay.
type Acknowledged struct {
	By     string    `json:"by"`
	At     time.Time `json:"at"`
	Until  time.Time `json:"until"`
	Reason string    `json:"reason"`
}

// AuditReport is what an audit found.
type AuditReport struct {
	ID       int64     `json:"id"`
	Server   string    `json:"server"`
	Partner  string    `json:"partner,omitempty"`
	At       time.Time `json:"at"`
	Why      string    `json:"why" doc:"What it was made for"`
	Took     float64   `json:"took" doc:"Seconds"`
	Leases   int       `json:"leases" doc:"That were looked at"`
	Lost     string    `json:"lost,omitempty" doc:"Why it is not on record, if it is not"`
	Revision int64     `json:"revision"`
	Troubles int       `json:"troubles" doc:"Not acknowledged, as are the next two"`
	Warnings int       `json:"warnings"`
	Notes    int       `json:"notes"`
	Known    int       `json:"known" doc:"Acknowledged"`
	Fresh    int       `json:"fresh" doc:"New since the audit before"`
	Findings []Finding `json:"findings" doc:"The worst first"`
	Gone     []Finding `json:"gone" doc:"What was there at the audit before, and is no more"`
}

// AuditOrder asks for an audit.
type AuditOrder struct {
	Neighbours []Neighbour `json:"neighbours,omitempty" maxItems:"100000" doc:"Hosts that the network knows, beside those that this host's neighbour table has; audits know them until others are named"`
	Named      bool        `json:"named,omitempty" doc:"The neighbours take the place of those that were named before; none forgets them"`
	Routes     []Route     `json:"routes,omitempty" maxItems:"100000" doc:"Routes of whoever routes delegated prefixes, all of one table; audits know them until others are named"`
	Routed     bool        `json:"routed,omitempty" doc:"The routes take the place of those that were named before; none forgets them"`
}

// Route is how a router reaches a prefix.
type Route struct {
	Prefix string `json:"prefix"`
	Via    string `json:"via" maxLength:"300" doc:"How, in the words of whoever said so"`
	Source string `json:"source,omitempty" maxLength:"200" doc:"Where that is known from"`
}

// Neighbour is a host that the network knows at an address.
type Neighbour struct {
	Address  string `json:"address"`
	Hardware string `json:"hardware"`
	Source   string `json:"source,omitempty" maxLength:"200" doc:"Where that is known from"`
}

// Acknowledge says of findings that they are known and may stay.
type Acknowledge struct {
	Keys   []string  `json:"keys" minItems:"1" maxItems:"1000"`
	Until  time.Time `json:"until,omitzero" doc:"Left out to take an acknowledgement back"`
	Reason string    `json:"reason,omitempty" maxLength:"1000"`
}

// AuditRun is an audit that was made.
type AuditRun struct {
	ID       int64     `json:"id"`
	At       time.Time `json:"at"`
	Why      string    `json:"why"`
	Took     float64   `json:"took" doc:"Seconds"`
	Leases   int       `json:"leases"`
	Troubles int       `json:"troubles"`
	Warnings int       `json:"warnings"`
	Notes    int       `json:"notes"`
}

// AuditDifference is what changed between two audits.
type AuditDifference struct {
	From   AuditRun  `json:"from"`
	To     AuditRun  `json:"to"`
	Came   []Finding `json:"came" doc:"Found by the later one alone; the worst first"`
	Went   []Finding `json:"went" doc:"Found by the earlier one alone"`
	Stayed int       `json:"stayed" doc:"Found by both"`
	Text   string    `json:"text"`
}

// ReportSchedule says when reports are made, kept, and sent where alerts go.
type ReportSchedule struct {
	Every  string     `json:"every" doc:"Time between two, such as 7d; empty for none" example:"7d"`
	Begins time.Time  `json:"begins,omitzero" doc:"When the first is made; the others follow at the same distance. Now, if left out"`
	Keep   int        `json:"keep,omitempty" doc:"So many are kept; 12 if left out"`
	Next   *time.Time `json:"next,omitempty" readOnly:"true" doc:"When the next is made"`
}

// Report is a report that was made on schedule.
type Report struct {
	Number   int64     `json:"number"`
	At       time.Time `json:"at"`
	Severity string    `json:"severity,omitempty" doc:"The worst that it tells of"`
	Text     string    `json:"text" doc:"In one line"`
	Size     int       `json:"size" doc:"In octets"`
}

// FindingCode is a kind of finding.
type FindingCode struct {
	Code     string `json:"code"`
	Area     string `json:"area"`
	Severity string `json:"severity"`
	Title    string `json:"title"`
	Means    string `json:"means"`
	Comes    string `json:"comes" doc:"How it comes about"`
	Do       string `json:"do" doc:"What to do"`
}

// SweepOrder asks for what could be swept, or has it swept.
type SweepOrder struct {
	Kind      string   `json:"kind" enum:"abandoned,unclaimed,stale"`
	Scope     string   `json:"scope,omitempty" doc:"Only of this scope"`
	Addresses []string `json:"addresses,omitempty" maxItems:"10000" doc:"Only these; of reservations, the addresses that they keep"`
	Search    string   `json:"search,omitempty" doc:"Only those with this in name, client or host name"`
	Older     string   `json:"older,omitempty" doc:"Only what has been so for as long as this, such as 90d; records are stale behind 30d"`
	Confirm   bool     `json:"confirm,omitempty" doc:"Do it; without this it is only said what would be done"`
}

// Swept is what was swept, or would be.
type Swept struct {
	Applied  bool        `json:"applied"`
	Text     string      `json:"text"`
	Items    []SweptItem `json:"items"`
	Kept     []string    `json:"kept" doc:"What was not, and why"`
	Revision int64       `json:"revision,omitempty" doc:"Of the plan, where it changed"`
}

// SweptItem is one thing that is swept.
type SweptItem struct {
	Kind    string    `json:"kind"`
	Subject string    `json:"subject" doc:"Address, or name of a reservation"`
	Address string    `json:"address" doc:"By which it can be chosen"`
	Scope   string    `json:"scope"`
	Client  string    `json:"client"`
	Since   time.Time `json:"since,omitzero"`
	Text    string    `json:"text"`
	Servers int       `json:"servers" doc:"That know of it; it is counted once"`
}
