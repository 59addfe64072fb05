package api

import "time"

// Pair is a pair as one of its servers sees it.
type Pair struct {
	Formed    bool           `json:"formed" doc:"This server is in a pair"`
	Own       PairServer     `json:"own"`
	Partner   *PairServer    `json:"partner,omitempty"`
	Invited   *time.Time     `json:"invited,omitempty" doc:"Until when an invitation is open here"`
	Connected bool           `json:"connected" doc:"The partner can be heard"`
	Contact   *time.Time     `json:"contact,omitempty" doc:"When the partner was last heard"`
	Refused   string         `json:"refused,omitempty" doc:"Why the partner does not agree to be one of a pair with this server"`
	Clock     *int64         `json:"clock,omitempty" doc:"Seconds by which the partner's clock is ahead"`
	Mode      string         `json:"mode,omitempty" enum:"hot-standby,load-sharing"`
	Split     int            `json:"split" doc:"Of a hundred clients, how many the primary answers while all is well"`
	Lead      string         `json:"lead,omitempty" doc:"Maximum client lead time: how far a promise may go beyond what the other server knows"`
	AutoDown  string         `json:"autoDown,omitempty" doc:"After this time a partner that is not heard is taken to be down; left out for never"`
	Plan      string         `json:"plan,omitempty" enum:"together,ahead,behind,parted" doc:"How this server's plan stands to the partner's"`
	Down      *time.Time     `json:"down,omitempty" doc:"Since when the partner is taken to be down"`
	Claims    *time.Time     `json:"claims,omitempty" doc:"From when its free addresses can be given here"`
	Paused    string         `json:"paused,omitempty" doc:"Name of the server that leaves all clients to the other"`
	Takeover  bool           `json:"takeover" doc:"The partner would carry on if this server died now"`
	Reasons   []string       `json:"reasons" doc:"Why it would not"`
	Scopes    []PairScope    `json:"scopes"`
	Relays    []PairRelay    `json:"relays"`
	Conflicts []PairConflict `json:"conflicts" doc:"Addresses that were found to be active for two clients"`
	Exposed   int            `json:"exposed" doc:"Leases that the partner does not know of yet; none is promised beyond the lead time"`
	Strangers int64          `json:"strangers" doc:"Connections to the partner's port that were refused since the start"`
	Updates   PairUpdates    `json:"updates"`
	Drill     *PairDrill     `json:"drill,omitempty" doc:"The drill that runs, or the last one"`
}

// PairServer is one of the two.
type PairServer struct {
	Name     string     `json:"name"`
	Role     string     `json:"role,omitempty" enum:"primary,secondary"`
	State    string     `json:"state,omitempty"`
	Since    *time.Time `json:"since,omitempty"`
	Owed     int        `json:"owed" doc:"Updates that the other has not acknowledged"`
	Revision int64      `json:"revision" doc:"Of the plan that it serves by"`
	Trouble  string     `json:"trouble,omitempty" doc:"Why it could not serve now"`
}

// PairScope is what each server has of a scope to give.
type PairScope struct {
	Scope      string `json:"scope"`
	Active     int    `json:"active"`
	Own        Count  `json:"own" doc:"Free addresses that are this server's to give"`
	Partner    Count  `json:"partner" doc:"Free addresses that are the partner's to give"`
	OwnLow     bool   `json:"ownLow" doc:"This server's share runs low"`
	PartnerLow bool   `json:"partnerLow"`
}

// PairRelay says which server hears a relay.
type PairRelay struct {
	Address string     `json:"address"`
	Link    string     `json:"link"`
	Own     *time.Time `json:"own,omitempty" doc:"When this server last heard it"`
	Partner *time.Time `json:"partner,omitempty" doc:"When the partner did"`
	Warning string     `json:"warning,omitempty"`
}

// PairConflict is an address that was active for two clients.
type PairConflict struct {
	Address string    `json:"address"`
	Kept    string    `json:"kept" doc:"Key of the client that it stays with"`
	Other   string    `json:"other" doc:"Key of the client that has to go"`
	At      time.Time `json:"at"`
}

// PairUpdates count since the start.
type PairUpdates struct {
	Sent         uint64 `json:"sent"`
	Acknowledged uint64 `json:"acknowledged"`
	Rejected     uint64 `json:"rejected" doc:"The partner knew something newer"`
	Learned      uint64 `json:"learned" doc:"Updates of the partner's that were taken over"`
	Merged       uint64 `json:"merged" doc:"Records that both had changed"`
}

// PairDrill is a rehearsal: one server leaves all clients to the other for a while.
type PairDrill struct {
	Out     string    `json:"out" doc:"Server that is taken out"`
	Began   time.Time `json:"began"`
	Until   time.Time `json:"until"`
	Running bool      `json:"running"`
	Served  int       `json:"served" doc:"Clients that the other server gave or prolonged a lease meanwhile"`
	Without int       `json:"without" doc:"Clients that went without meanwhile"`
	Waiting int       `json:"waiting" doc:"Clients that the server that is out hears asking, and that have nothing yet"`
	Longest float64   `json:"longest" doc:"Seconds that a client waited at most until it was served"`
	Clients []Waited  `json:"clients" doc:"Those that were served, a hundred at most, those that waited longest first"`
	Verdict string    `json:"verdict" doc:"What came of it"`
}

// Waited is a client that was served during a drill.
type Waited struct {
	Name    string   `json:"name" doc:"Host name, or else hardware address"`
	Address string   `json:"address"`
	Seconds *float64 `json:"seconds,omitempty" doc:"From when the server that is out first heard it until it was told of the lease; left out if it never heard it"`
}

// PairInvite opens a server to one that joins it.
type PairInvite struct {
	At       string `json:"at" doc:"Name or address, and port, where the other server reaches this one's partner port"`
	Mode     string `json:"mode,omitempty" enum:"hot-standby,load-sharing"`
	Split    *int   `json:"split,omitempty" minimum:"0" maximum:"100"`
	Lead     string `json:"lead,omitempty"`
	AutoDown string `json:"autoDown,omitempty"`
}

// PairInvitation is what to paste on the other server.
type PairInvitation struct {
	Code  string    `json:"code"`
	Until time.Time `json:"until"`
}

// PairJoin makes a server the second of a pair.
type PairJoin struct {
	Code    string `json:"code"`
	Confirm bool   `json:"confirm,omitempty" doc:"Give up this server's own plan and leases"`
}

// PairOrder is an order that says whether it is meant.
type PairOrder struct {
	Confirm bool `json:"confirm,omitempty" doc:"Go ahead; without it only what would happen is said"`
}

// PairDone says what an order does, or would do.
type PairDone struct {
	Done bool   `json:"done"`
	Text string `json:"text"`
}

// PairPause leaves all clients to the partner, or shares them again.
type PairPause struct {
	On bool `json:"on"`
}

// PairDrillOrder begins a drill.
type PairDrillOrder struct {
	Seconds int `json:"seconds" minimum:"10" maximum:"3600"`
}

// PairComparison is what comparing both lease tables gave.
type PairComparison struct {
	Leases      int              `json:"leases" doc:"Records here"`
	Seconds     float64          `json:"seconds"`
	Octets      int              `json:"octets" doc:"That travelled"`
	Differences []PairDifference `json:"differences"`
}

// PairDifference is an address of which two servers know different things.
type PairDifference struct {
	Address string     `json:"address"`
	Class   string     `json:"class" enum:"on its way,allowed,wrong"`
	Text    string     `json:"text"`
	Own     *PairKnown `json:"own,omitempty"`
	Partner *PairKnown `json:"partner,omitempty"`
}

// PairKnown is what a server knows of an address.
type PairKnown struct {
	Status   string    `json:"status"`
	Client   string    `json:"client,omitempty"`
	Hardware string    `json:"hardware,omitempty"`
	Expires  time.Time `json:"expires"`
	Since    time.Time `json:"since"`
}

// PairMend names addresses to be told of again.
type PairMend struct {
	Addresses []string `json:"addresses"`
	Confirm   bool     `json:"confirm,omitempty"`
}

// PairEvent is a line of the pair's history.
type PairEvent struct {
	At   time.Time `json:"at"`
	Text string    `json:"text"`
}

// PairStates are the states that both servers were in.
type PairStates struct {
	From    time.Time         `json:"from"`
	To      time.Time         `json:"to"`
	Servers []PairServerSpans `json:"servers" doc:"This server first"`
}

// PairServerSpans are the states that one server was in, by its own record.
type PairServerSpans struct {
	Name  string     `json:"name"`
	Known bool       `json:"known" doc:"False for a partner that cannot be asked"`
	Spans []PairSpan `json:"spans"`
}

// PairSpan is a state for as long as it lasted.
type PairSpan struct {
	State string    `json:"state" doc:"A state of RFC 8156, or stopped"`
	From  time.Time `json:"from"`
	To    time.Time `json:"to"`
}

// PairLines are the revisions of both servers since their plans parted, and those of
// lines that were not chosen before.
type PairLines struct {
	Parted  bool           `json:"parted"`
	Own     []PairRevision `json:"own"`
	Partner []PairRevision `json:"partner"`
	Aside   []PairRevision `json:"aside" doc:"Revisions that were not chosen; they can be applied again"`
}

// PairRevision is one revision with what it changed.
type PairRevision struct {
	Key    string    `json:"key,omitempty" doc:"By which one that was kept aside is applied again"`
	Number int64     `json:"number"`
	At     time.Time `json:"at"`
	Author string    `json:"author"`
	Reason string    `json:"reason"`
	Lines  []string  `json:"lines"`
}

// PairSettle chooses one of two plans.
type PairSettle struct {
	Keep    string `json:"keep" doc:"Name of the server whose plan is kept"`
	Confirm bool   `json:"confirm,omitempty"`
}
