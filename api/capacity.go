package api

import "time"

// Capacity is how something is used now, and what is expected of it.
type Capacity struct {
	Kind      string    `json:"kind" enum:"scope,pool,link,supernet,all"`
	Name      string    `json:"name" doc:"Of the scope, the link or the supernet"`
	Pool      string    `json:"pool,omitempty"`
	Link      string    `json:"link,omitempty"`
	Mode      string    `json:"mode,omitempty"`
	Size      Count     `json:"size" doc:"Addresses that the pools may give, reserved ones included"`
	Used      Count     `json:"used" doc:"Of those, what cannot be handed out by anybody"`
	Share     float64   `json:"share" doc:"Used of size, 0 to 1"`
	Excluded  Count     `json:"excluded"`
	Reserved  Count     `json:"reserved"`
	Claimed   Count     `json:"claimed" doc:"Reserved addresses that their client has"`
	Active    Count     `json:"active"`
	Offered   Count     `json:"offered"`
	Released  Count     `json:"released"`
	Kept      Count     `json:"kept" doc:"Released, and kept from others for a while"`
	Expired   Count     `json:"expired"`
	Abandoned Count     `json:"abandoned"`
	Headroom  Count     `json:"headroom" doc:"Could be handed out here, now"`
	Partner   Count     `json:"partner" doc:"Could be handed out by the other server"`
	Forecast  *Forecast `json:"forecast,omitempty" doc:"Left out until it is worked out, and where there are no pools"`
	Trend     []int     `json:"trend" doc:"The highest use of each of the last 28 days, oldest first; -1 where it is not known"`
}

// Forecast is when a pool runs out.
type Forecast struct {
	Verdict string      `json:"verdict" enum:"runs-out,may-run-out,not-before,out-now,not-enough-history"`
	Text    string      `json:"text" doc:"The same in words"`
	Date    *time.Time  `json:"date,omitempty" doc:"When it is expected to run out"`
	Early   *time.Time  `json:"early,omitempty" doc:"Four times out of five it runs out behind this"`
	Late    *time.Time  `json:"late,omitempty" doc:"and before this; left out if that cannot be seen"`
	Until   time.Time   `json:"until" doc:"As far as this history lets one see"`
	Level   float64     `json:"level" doc:"Addresses used on the average lately"`
	PerDay  float64     `json:"perDay" doc:"By how many that grows a day"`
	Peak    float64     `json:"peak" doc:"The highest use of the last week"`
	Size    float64     `json:"size"`
	Days    int         `json:"days" doc:"Of history"`
	Step    *time.Time  `json:"step,omitempty" doc:"Since when the use is at another level at once"`
	Events  []time.Time `json:"events" doc:"Days that were not like others, and were left out"`
	Gaps    int         `json:"gaps" doc:"Hours without samples, or of an outage"`
	At      *time.Time  `json:"at,omitempty" doc:"When it was worked out"`
}

// CapacityPoint is the use of something in an hour, or at a minute.
type CapacityPoint struct {
	At        time.Time `json:"at"`
	Low       int64     `json:"low"`
	Mean      int64     `json:"mean"`
	Peak      int64     `json:"peak"`
	Size      int64     `json:"size"`
	Headroom  int64     `json:"headroom" doc:"Of the server that answers; the least"`
	Active    int64     `json:"active"`
	Abandoned int64     `json:"abandoned"`
	New       int64     `json:"new" doc:"Clients that came for the first time"`
	Returned  int64     `json:"returned"`
	Left      int64     `json:"left"`
}

// CapacityBand is what is expected of a day's highest use.
type CapacityBand struct {
	Day  time.Time `json:"day"`
	Low  float64   `json:"low"`
	Mid  float64   `json:"mid"`
	High float64   `json:"high" doc:"Four times out of five it is between low and high"`
}

// CapacityMark is a moment at which the plan of a scope changed.
type CapacityMark struct {
	At       time.Time `json:"at"`
	Revision int64     `json:"revision"`
	Text     string    `json:"text"`
}

// CapacityHelp is one thing that would make a pool last longer.
type CapacityHelp struct {
	Kind      string     `json:"kind" enum:"shorten,widen,win-back,move"`
	Text      string     `json:"text"`
	Addresses int        `json:"addresses" doc:"That it gives"`
	Days      int        `json:"days,omitempty" doc:"By which the pool lasts longer"`
	Until     *time.Time `json:"until,omitempty" doc:"When it would run out then"`
	Lease     string     `json:"lease,omitempty"`
	Renewals  float64    `json:"renewals,omitempty" doc:"A second, then"`
	Command   string     `json:"command,omitempty"`
}

// CapacityDetail is the use of one thing over time.
type CapacityDetail struct {
	Capacity
	Points     []CapacityPoint `json:"points"`
	Bands      []CapacityBand  `json:"bands"`
	Marks      []CapacityMark  `json:"marks"`
	Busy       [][]int         `json:"busy" doc:"The highest use in each hour of the week, Monday first, on the average of four weeks; -1 where it is not known"`
	Zone       string          `json:"zone" doc:"Time zone of the site, whose days and weeks these are"`
	Helps      []CapacityHelp  `json:"helps" doc:"What would help most, the most first"`
	Thresholds Thresholds      `json:"thresholds"`
}

// Thresholds say when to warn of a scope.
type Thresholds struct {
	Used     int `json:"used" doc:"Percent of the pools; -1 for never"`
	Headroom int `json:"headroom" doc:"Addresses left; -1 for never"`
	Days     int `json:"days" doc:"Days until the pools run out; -1 for never"`
}

// CapacityGroup is how many clients have something in common.
type CapacityGroup struct {
	Name    string `json:"name"`
	Clients int    `json:"clients"`
}

// CapacityMany is a client that holds several addresses.
type CapacityMany struct {
	Hardware  string   `json:"hardware"`
	Hostname  string   `json:"hostname"`
	Addresses []string `json:"addresses"`
}

// CapacityUsers says who uses the addresses of a scope, or of all.
type CapacityUsers struct {
	Active    int             `json:"active"`
	Vendors   []CapacityGroup `json:"vendors"`
	Relays    []CapacityGroup `json:"relays"`
	Names     []CapacityGroup `json:"names" doc:"By the pattern of host names; # stands for digits"`
	Rules     []CapacityGroup `json:"rules" doc:"By rule that fits"`
	Ages      []CapacityGroup `json:"ages" doc:"By how long a lease is held"`
	Many      []CapacityMany  `json:"many" doc:"Clients with several addresses"`
	ManyTotal int             `json:"manyTotal"`
	Once      int             `json:"once" doc:"Clients on record that came, and never renewed"`
	Records   int             `json:"records" doc:"Clients on record"`
	Gone      int             `json:"gone" doc:"Active leases whose client should have renewed and did not"`
	WinBack   CapacityWinBack `json:"winBack"`
}

// CapacityWinBack is what could be had back.
type CapacityWinBack struct {
	Addresses int      `json:"addresses"`
	Days      int      `json:"days" doc:"By which the pools last longer"`
	Excluded  []string `json:"excluded" doc:"Ranges that exclusions take from pools, with nobody named for them"`
	Unclaimed []string `json:"unclaimed" doc:"Reservations in pools whose client was not seen for 30 days"`
	Abandoned []string `json:"abandoned"`
	Text      string   `json:"text"`
}

// SizeRequest asks what a demand needs.
type SizeRequest struct {
	Seats    int     `json:"seats,omitempty" minimum:"0" doc:"Clients that are always there"`
	Arrivals float64 `json:"arrivals,omitempty" minimum:"0" doc:"Clients that come, an hour, in the busiest hours"`
	Stay     string  `json:"stay,omitempty" doc:"How long one stays on the average, such as 45m"`
	Releases float64 `json:"releases,omitempty" minimum:"0" maximum:"1" doc:"Share of those that leave who release their address"`
	Lease    string  `json:"lease,omitempty" doc:"Lease time; left out with a pool for the longest that fits"`
	Pool     int     `json:"pool,omitempty" minimum:"1" doc:"Addresses there are; left out to have it worked out"`
	Least    string  `json:"least,omitempty" doc:"A lease may not be shorter than this"`
	Each     int     `json:"each,omitempty" minimum:"1" maximum:"128" doc:"IPv6: length of the prefix that each is delegated; left out for addresses"`
	Because  string  `json:"because,omitempty" doc:"and why, such as a duty to keep records"`
}

// Size is what a demand needs.
type Size struct {
	Pool     int     `json:"pool" doc:"Addresses: those given, or as many as are needed"`
	Lease    string  `json:"lease"`
	Hold     string  `json:"hold" doc:"For how long an address is held for one that comes"`
	Mean     float64 `json:"mean" doc:"Addresses held on the average"`
	Peak     int     `json:"peak" doc:"Enough but for one moment in a thousand"`
	Refused  float64 `json:"refused" doc:"Share of those who come that find the pool full"`
	Renewals float64 `json:"renewals" doc:"A second"`
	Arrivals float64 `json:"arrivals" doc:"An hour that this pool and lease time can take"`
	Fits     bool    `json:"fits" doc:"The pool is enough"`
	Within   int     `json:"within,omitempty" doc:"With each: length of a prefix that has as many prefixes"`
	Text     string  `json:"text"`
	Model    string  `json:"model"`
}

// SubnetInfo is what there is to know about a subnet.
type SubnetInfo struct {
	Subnet    string   `json:"subnet"`
	Network   string   `json:"network"`
	First     string   `json:"first"`
	Last      string   `json:"last"`
	Broadcast string   `json:"broadcast,omitempty"`
	Mask      string   `json:"mask,omitempty"`
	Wildcard  string   `json:"wildcard,omitempty"`
	Hosts     string   `json:"hosts" doc:"In full: more than a number of JSON can hold"`
	Around    string   `json:"around,omitempty" doc:"The next larger one"`
	Other     string   `json:"other,omitempty" doc:"The other half of that"`
	Parts     []string `json:"parts" doc:"What it splits into, the first 64"`
	PartCount string   `json:"partCount,omitempty"`
	Scopes    []string `json:"scopes" doc:"Scopes of the plan that lie in it, or around it"`
}
