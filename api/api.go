// Package api holds the types of the HTTP API, shared by both of its ends. They
// have no behaviour. Addresses, subnets, ranges and hardware addresses travel as
// text in their canonical form, durations as text like 8h or infinite, times as
// RFC 3339 in UTC.
package api

import (
	"strconv"
	"time"
)

// Page is one page of a list, which may be the whole.
type Page[T any] struct {
	Items    []T    `json:"items"`
	Total    int    `json:"total" doc:"How many there are on all pages together"`
	Next     string `json:"next,omitempty" doc:"Pass as after to get the next page; left out on the last"`
	Revision int64  `json:"revision" doc:"Of the plan when this was read"`
	// Missing is set where a list is of both servers of a pair.
	Missing []string `json:"missing,omitempty" doc:"Servers that could not be asked, so that what they know is not here"`
}

// Count is a number of addresses. It travels as a number that every reader of
// JSON holds exactly: what is more than 2^53-1 is that.
type Count uint64

// MostCount is the highest Count that travels.
const MostCount Count = 1<<53 - 1

// String writes the number, or in words that there are more than can be counted.
func (c Count) String() string {
	if c >= MostCount {
		return "over 9×10^15"
	}
	return strconv.FormatUint(uint64(c), 10)
}

// plus is the sum; what is more than the highest is that.
func (c Count) plus(o Count) Count { return min(min(c, MostCount)+min(o, MostCount), MostCount) }

// MarshalJSON writes a number; the highest one stands for any that are higher.
func (c Count) MarshalJSON() ([]byte, error) {
	return strconv.AppendUint(nil, uint64(min(c, MostCount)), 10), nil
}

// Setting is one option at one level.
type Setting struct {
	Code  uint16 `json:"code" doc:"Option code"`
	Name  string `json:"name" doc:"Option name"`
	Value string `json:"value" doc:"Value as text, or none where an inherited value is taken away"`
	Book  string `json:"book,omitempty" doc:"Codebook, for options that are not the message's own"`
	Level string `json:"level,omitempty" doc:"Level the value comes from" enum:"service,defaults,supernet,scope,rule,reservation"`
	From  string `json:"from,omitempty" doc:"Name of the supernet, the scope, the rule or the reservation that sets it"`
	Bytes string `json:"bytes,omitempty" doc:"The octets that are sent, in hexadecimal"`
	Sent  bool   `json:"sent,omitempty" doc:"It is in the reply"`
}

// Usage says how the addresses of a scope are used.
type Usage struct {
	Size      Count `json:"size" doc:"Addresses that pools hand out"`
	Excluded  Count `json:"excluded" doc:"Addresses of the pools that exclusions take away"`
	Reserved  int   `json:"reserved" doc:"Reservations"`
	Active    int   `json:"active"`
	Offered   int   `json:"offered"`
	Released  int   `json:"released"`
	Expired   int   `json:"expired"`
	Abandoned int   `json:"abandoned"`
	Headroom  Count `json:"headroom" doc:"Addresses that could be handed out here, now"`
	Partner   Count `json:"partner" doc:"Free addresses that are the other server's to give"`
	Spare     Count `json:"spare" doc:"Addresses outside all pools, left for reservations"`
}

// Plus is the use of two scopes together.
func (u Usage) Plus(o Usage) Usage {
	return Usage{u.Size.plus(o.Size), u.Excluded.plus(o.Excluded), u.Reserved + o.Reserved, u.Active + o.Active, u.Offered + o.Offered,
		u.Released + o.Released, u.Expired + o.Expired, u.Abandoned + o.Abandoned, u.Headroom.plus(o.Headroom), u.Partner.plus(o.Partner),
		u.Spare.plus(o.Spare)}
}

// Exclusion is a range never handed out from a pool.
type Exclusion struct {
	Range string `json:"range" example:"10.77.0.100-10.77.0.109" doc:"One address, a-b, or a CIDR"`
	User  string `json:"user,omitempty" doc:"Who uses it, if known"`
}

// Scope is one subnet with its pools and settings.
type Scope struct {
	ID            int64             `json:"id" doc:"Stays the same whatever it is called"`
	Name          string            `json:"name"`
	Link          string            `json:"link"`
	Subnet        string            `json:"subnet" example:"10.77.0.0/24"`
	Mask          string            `json:"mask"`
	Pools         []string          `json:"pools"`
	Family        int               `json:"family" enum:"4,6" doc:"Version of IP"`
	PrefixPools   []string          `json:"prefixPools" doc:"Prefixes that smaller ones are delegated from"`
	Prefixes      *PrefixUsage      `json:"prefixes,omitempty" doc:"How the prefix pools are used, if there are any"`
	Valid         string            `json:"valid,omitempty" doc:"IPv6: valid lifetime in force; the lease time is the preferred lifetime"`
	ValidSet      string            `json:"validSet,omitempty" doc:"Valid lifetime set on the scope itself, if any"`
	Exclusions    []Exclusion       `json:"exclusions"`
	Mode          string            `json:"mode" enum:"held,serving,draining"`
	DrainUntil    *time.Time        `json:"drainUntil,omitempty"`
	Inside        *Inside           `json:"inside,omitempty" doc:"Who is inside still, of one scope that drains or is held, or whose leases run down"`
	RunDown       *time.Time        `json:"runDown,omitempty" doc:"Until then no lease reaches far beyond it"`
	Approval      bool              `json:"approval" doc:"Changes need a second person's approval"`
	Authoritative bool              `json:"authoritative"`
	Identity      string            `json:"identity" enum:"identifier,hardware" doc:"What tells clients apart, in force"`
	IdentitySet   string            `json:"identitySet,omitempty" doc:"The same as set on the scope itself, if it is"`
	Bootp         string            `json:"bootp" enum:"ignore,reserved,dynamic"`
	RapidCommit   bool              `json:"rapidCommit"`
	OfferDelay    string            `json:"offerDelay" doc:"Offers wait this long"`
	Probe         bool              `json:"probe" doc:"Addresses are probed before they are offered"`
	PerCircuit    int               `json:"perCircuit" doc:"Dynamic addresses a relay circuit may have; 0 or -1 for any number"`
	NewPerMinute  int               `json:"newPerMinute" doc:"New clients a minute; 0 for a tenth of the pools and 60 at least, -1 for no limit"`
	Confined      []string          `json:"confined" doc:"Pools that rules keep for their clients"`
	Listening     bool              `json:"listening" doc:"Its link is heard and not answered"`
	Supernets     []string          `json:"supernets" doc:"Supernets that it lies in, the outermost first"`
	Lease         string            `json:"lease" doc:"Lease time in force"`
	LeaseFrom     string            `json:"leaseFrom" doc:"Whose lease time that is: of the scope, of a supernet, of the defaults or the usual one"`
	LeaseSet      string            `json:"leaseSet,omitempty" doc:"Lease time set on the scope itself, if any"`
	Options       []Setting         `json:"options" doc:"Options set on the scope itself"`
	Thresholds    Thresholds        `json:"thresholds" doc:"When to warn, as set on the scope itself; 0 inherits"`
	Fields        map[string]string `json:"fields" doc:"Values of fields of your own, by name"`
	Note          string            `json:"note"`
	Usage         Usage             `json:"usage"`
}

// PrefixUsage says how the prefixes of prefix pools are used.
type PrefixUsage struct {
	Size     Count `json:"size" doc:"Prefixes that the pools delegate"`
	Active   int   `json:"active"`
	Offered  int   `json:"offered"`
	Kept     int   `json:"kept" doc:"Given up, and kept from others for a while"`
	Headroom Count `json:"headroom" doc:"Could be delegated now"`
	Partner  Count `json:"partner" doc:"Could be delegated by the other server of a pair"`
}

// Supernet is a prefix around scopes and other supernets, which inherit from it.
type Supernet struct {
	ID         int64             `json:"id" doc:"Stays the same whatever it is called"`
	Name       string            `json:"name"`
	Prefix     string            `json:"prefix" example:"10.77.0.0/16"`
	In         []string          `json:"in" doc:"Supernets that it lies in, the outermost first"`
	Scopes     int               `json:"scopes" doc:"Scopes in it, at any depth"`
	Lease      string            `json:"lease,omitempty" doc:"Lease time set on it, if any"`
	Valid      string            `json:"valid,omitempty" doc:"Valid lifetime of IPv6 set on it, if any"`
	Identity   string            `json:"identity,omitempty" doc:"What tells clients apart, if that is set on it"`
	Options    []Setting         `json:"options" doc:"Options set on it"`
	Thresholds Thresholds        `json:"thresholds" doc:"When to warn of its scopes, as set on it; 0 inherits"`
	Approval   bool              `json:"approval" doc:"Changes of it, and of what lies in it, need a second person's approval"`
	Fields     map[string]string `json:"fields" doc:"Values of fields of your own, by name"`
	Note       string            `json:"note"`
	Usage      Usage             `json:"usage" doc:"Of all scopes in it"`
}

// Inside is who is still in a scope that is to be empty, or whose leases run down.
type Inside struct {
	Clients int        `json:"clients" doc:"With an active lease"`
	Last    *time.Time `json:"last,omitempty" doc:"When the last lease ends, of those that do, if nobody renews"`
	Endless int        `json:"endless" doc:"Whose lease never ends"`
	Step    string     `json:"step,omitempty" doc:"How far apart the numbers of left are"`
	Left    []int      `json:"left" doc:"How many are left now, and after each step, if nobody renews"`
}

// Move is how everybody moves from one scope to another: edits to preview and to apply.
type Move struct {
	Edits        []Edit `json:"edits"`
	Clients      int    `json:"clients" doc:"With an active lease"`
	Reservations int    `json:"reservations" doc:"That move along, to the same place in the other scope where that is free"`
	Short        bool   `json:"short" doc:"The other scope has too few addresses for all"`
	Text         string `json:"text"`
}

// Space is what a supernet is made of.
type Space struct {
	Prefix string    `json:"prefix"`
	Parts  []Stretch `json:"parts" doc:"By address, without gaps: the outermost of what lies in it, and what is free"`
	Free   Count     `json:"free" doc:"Addresses in which nothing lies"`
	Next   []string  `json:"next" doc:"The next free prefixes of the length that was asked for; small gaps are used first"`
}

// Stretch is a part of a supernet.
type Stretch struct {
	Prefix string `json:"prefix"`
	What   string `json:"what" enum:"scope,supernet,free"`
	Name   string `json:"name,omitempty"`
}

// Link is one broadcast domain.
type Link struct {
	ID              int64             `json:"id" doc:"Stays the same whatever it is called"`
	Name            string            `json:"name"`
	Interfaces      []string          `json:"interfaces"`
	Relays          []string          `json:"relays"`
	Scopes          []string          `json:"scopes"`
	Listening       bool              `json:"listening" doc:"Heard and not answered"`
	StandAside      bool              `json:"standAside" doc:"Not answered while another server answers there"`
	SubnetSelection bool              `json:"subnetSelection" doc:"Clients of other links may choose a scope of it (option 118)"`
	Wake            bool              `json:"wake" doc:"Its clients may be woken (Wake-on-LAN)"`
	Fields          map[string]string `json:"fields" doc:"Values of fields of your own, by name"`
	Note            string            `json:"note"`
}

// Reservation keeps an address for one client.
type Reservation struct {
	ID         int64             `json:"id" doc:"Stays the same whatever it is called"`
	Name       string            `json:"name"`
	Scope      string            `json:"scope"`
	Hardware   string            `json:"hardware"`
	Identifier string            `json:"identifier,omitempty" doc:"Client identifier it is for, in hexadecimal"`
	DUID       string            `json:"duid,omitempty" doc:"IPv6: DUID it is for"`
	IAID       string            `json:"iaid,omitempty" doc:"IPv6: the association that it is for alone, if one"`
	Valid      string            `json:"valid,omitempty" doc:"IPv6: valid lifetime of its own"`
	Circuit    string            `json:"circuit,omitempty" doc:"Circuit it is for: whoever is plugged in there"`
	Client     string            `json:"client" doc:"Whom it is for, in words"`
	Address    string            `json:"address"`
	Hostname   string            `json:"hostname"`
	Insist     bool              `json:"insist,omitempty" doc:"Given although another host answers for the address"`
	Lease      string            `json:"lease,omitempty"`
	Options    []Setting         `json:"options"`
	Fields     map[string]string `json:"fields" doc:"Values of fields of your own, by name"`
	Note       string            `json:"note"`
	Status     string            `json:"status" doc:"Status of the address now"`
	Holder     string            `json:"holder,omitempty" doc:"Hardware address of the client that holds it now"`
}

// Defaults hold in the whole plan.
type Defaults struct {
	Lease      string     `json:"lease"`
	Valid      string     `json:"valid,omitempty" doc:"Valid lifetime of IPv6, if it is set"`
	Options    []Setting  `json:"options"`
	Identity   string     `json:"identity" enum:"identifier,hardware"`
	Listening  bool       `json:"listening" doc:"The whole server hears and sends nothing"`
	Thresholds Thresholds `json:"thresholds" doc:"When to warn; 0 where nothing is set"`
	Note       string     `json:"note"`
}

// Lease is the record of one address.
type Lease struct {
	Address    string     `json:"address" doc:"Address, or a delegated prefix with its length"`
	Status     string     `json:"status" enum:"free,offered,active,registered,released,expired,abandoned,pending-free,free-backup"`
	Scope      string     `json:"scope"`
	Hardware   string     `json:"hardware"`
	Identifier string     `json:"identifier,omitempty" doc:"Client identifier in hexadecimal, if it sent one"`
	DUID       string     `json:"duid,omitempty" doc:"IPv6: DUID of the client"`
	DUIDOf     string     `json:"duidOf,omitempty" doc:"What the DUID is made of"`
	IAID       string     `json:"iaid,omitempty" doc:"IPv6: number of the association, which the client chose"`
	Hostname   string     `json:"hostname"`
	Vendor     string     `json:"vendor" doc:"Vendor class"`
	Reserved   bool       `json:"reserved"`
	By         string     `json:"by,omitempty" doc:"Which server of a pair gave it" enum:"primary,secondary"`
	Since      time.Time  `json:"since"`
	Expires    *time.Time `json:"expires" doc:"End of the lease; null if it never ends"`
	Changed    time.Time  `json:"changed" doc:"When the status became what it is"`
	Heard      time.Time  `json:"heard" doc:"When the client was last answered"`
	Granted    string     `json:"granted" doc:"Lease time last granted"`
	Relay      string     `json:"relay,omitempty"`
	Circuit    string     `json:"circuit,omitempty" doc:"Circuit of option 82"`
	Revision   int64      `json:"revision" doc:"Plan revision of the options last given; 0 if another server gave them"`
	Learned    bool       `json:"learned,omitempty" doc:"Another server gave it; this one learned it by listening"`
	Evidence   string     `json:"evidence,omitempty" doc:"Why an address is abandoned"`
	CanNudge   bool       `json:"canNudge,omitempty" doc:"The client can be made to renew at once"`
	Beside     []Beside   `json:"beside,omitempty" doc:"What else its host has, of both families; told of one lease, and not in lists"`
}

// Beside is what a host has beside a lease.
type Beside struct {
	Address string `json:"address" doc:"Address, or a delegated prefix with its length"`
	Status  string `json:"status"`
	Scope   string `json:"scope"`
}

// LeaseEvent is one line of an address's history.
type LeaseEvent struct {
	At         time.Time  `json:"at"`
	Address    string     `json:"address"`
	Vendor     string     `json:"vendor,omitempty"`
	Status     string     `json:"status"`
	Hardware   string     `json:"hardware"`
	Identifier string     `json:"identifier,omitempty"`
	DUID       string     `json:"duid,omitempty"`
	IAID       string     `json:"iaid,omitempty"`
	Hostname   string     `json:"hostname"`
	Since      time.Time  `json:"since"`
	Expires    *time.Time `json:"expires"`
	Relay      string     `json:"relay,omitempty"`
	Circuit    string     `json:"circuit,omitempty"`
	By         string     `json:"by,omitempty" doc:"Who ended or cleared it, if a person did"`
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
	DUID       string    `json:"duid,omitempty" doc:"IPv6: DUID of the client"`
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
	Servers    []string  `json:"servers,omitempty" doc:"Servers of a pair that refused it"`
}

// Code is one option of a codebook.
type Code struct {
	Code    uint16 `json:"code"`
	Name    string `json:"name"`
	Other   string `json:"other,omitempty" doc:"Another name that is understood"`
	Title   string `json:"title"`
	Type    string `json:"type"`
	Meaning string `json:"meaning"`
	Example string `json:"example"`
	Managed bool   `json:"managed" doc:"Computed by the service; cannot be set"`
	Book    string `json:"book,omitempty" doc:"Codebook it is of, unless it is the standard one"`
	Set     int    `json:"set" doc:"Places where it is set"`
}

// Ask describes a hypothetical client.
type Ask struct {
	Hardware   string            `json:"hardware,omitempty"`
	Identifier string            `json:"identifier,omitempty" doc:"Client identifier in hexadecimal"`
	DUID       string            `json:"duid,omitempty" doc:"IPv6: DUID of the client; one of its hardware address if left out"`
	IAID       string            `json:"iaid,omitempty" doc:"IPv6: number of the association; 1 if left out"`
	Delegated  bool              `json:"delegated,omitempty" doc:"IPv6: it asks for a prefix, rather than an address"`
	Message    string            `json:"message,omitempty" enum:"DISCOVER,REQUEST,INFORM,BOOTP,SOLICIT,CONFIRM,RENEW,REBIND,INFORMATION-REQUEST" doc:"DISCOVER, or SOLICIT with IPv6, if left out"`
	Scope      string            `json:"scope,omitempty" doc:"It is on this scope's link"`
	Relay      string            `json:"relay,omitempty" doc:"It came through this relay"`
	Interface  string            `json:"interface,omitempty" doc:"It was heard on this interface"`
	Address    string            `json:"address,omitempty" doc:"Address it asks for, or has"`
	Circuit    string            `json:"circuit,omitempty"`
	Remote     string            `json:"remote,omitempty"`
	Vendor     string            `json:"vendor,omitempty" doc:"Vendor class"`
	UserClass  string            `json:"userClass,omitempty"`
	Hostname   string            `json:"hostname,omitempty"`
	Wants      []string          `json:"wants,omitempty" doc:"Options it asks for, by code or name"`
	Options    map[string]string `json:"options,omitempty" doc:"Any other options it sends"`
	Known      bool              `json:"known,omitempty" doc:"Fill in what is on record of the client: its link, vendor class and what it asked for"`
}

// Explanation says what a client would be answered, and each step that led there.
type Explanation struct {
	Outcome     string    `json:"outcome" enum:"offered,acknowledged,refused,released,declined,informed,ignored,waiting"`
	Reason      string    `json:"reason,omitempty"`
	Text        string    `json:"text" doc:"The outcome in words"`
	Withheld    string    `json:"withheld,omitempty" doc:"Why nothing would be sent, if so"`
	Hardware    string    `json:"hardware"`
	Scope       string    `json:"scope,omitempty"`
	Link        string    `json:"link,omitempty"`
	Reservation string    `json:"reservation,omitempty"`
	Address     string    `json:"address,omitempty"`
	Lease       string    `json:"lease,omitempty"`
	Rules       []string  `json:"rules" doc:"Rules that fit"`
	Trail       []string  `json:"trail"`
	Options     []Setting `json:"options" doc:"What the plan gives, with the level of each value and whether it is sent"`
	Reply       *Decoded  `json:"reply" doc:"The reply; null for silence"`
	Omitted     []string  `json:"omitted" doc:"Options that do not fit the message"`
}

// Decoded is a message in words.
type Decoded struct {
	Type    string    `json:"type"`
	Size    int       `json:"size" doc:"Octets, without IP and UDP headers"`
	Fields  []Field   `json:"fields"`
	Options []Setting `json:"options"`
	Bytes   string    `json:"bytes" doc:"In hexadecimal"`
}

// Field is one fixed field of a message.
type Field struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Exchange is one message with what was decided about it.
type Exchange struct {
	Seq       uint64    `json:"seq"`
	At        time.Time `json:"at"`
	Type      string    `json:"type"`
	Hardware  string    `json:"hardware"`
	Client    string    `json:"client" doc:"Identifier or hardware address that tells the client from others"`
	Hostname  string    `json:"hostname,omitempty"`
	Outcome   string    `json:"outcome"`
	Reason    string    `json:"reason,omitempty"`
	Text      string    `json:"text" doc:"Outcome and reason in words"`
	Fate      string    `json:"fate" enum:"sent,recording,undone,silent,withheld,dropped" doc:"What became of the reply"`
	Address   string    `json:"address,omitempty"`
	Scope     string    `json:"scope,omitempty"`
	Link      string    `json:"link,omitempty"`
	Relay     string    `json:"relay,omitempty"`
	Circuit   string    `json:"circuit,omitempty"`
	Interface string    `json:"interface,omitempty"`
	From      string    `json:"from"`
	To        string    `json:"to"`
	ReplyTo   string    `json:"replyTo,omitempty"`
	Millis    float64   `json:"millis" doc:"From arrival until the reply left, or until it was decided"`
	Trail     []string  `json:"trail"`
	Request   Decoded   `json:"request"`
	Reply     *Decoded  `json:"reply"`
}

// GivenOptions is what a client asked with and was last given.
type GivenOptions struct {
	Known bool      `json:"known" doc:"false if it was given before this was recorded"`
	Asked []Setting `json:"asked"`
	Given []Setting `json:"given"`
	Unmet []string  `json:"unmet" doc:"Options it asked for and was not given"`
}

// UnmetOption is one option that clients ask for and nobody set.
type UnmetOption struct {
	Code    uint16   `json:"code"`
	Name    string   `json:"name"`
	Clients int      `json:"clients"`
	Scopes  []string `json:"scopes" doc:"Scopes with most such clients first"`
	Vendors []string `json:"vendors" doc:"Vendor classes with most such clients first"`
}

// StaleLease is a client that still has other options than it would get now.
type StaleLease struct {
	Lease  Lease     `json:"lease"`
	Renews time.Time `json:"renews" doc:"When it should renew by itself"`
	Moves  bool      `json:"moves" doc:"It would not be given its address again"`
}

// StaleLeases says who still holds old options.
type StaleLeases struct {
	Page[StaleLease]
	Active   int `json:"active" doc:"Active leases looked at"`
	CanNudge int `json:"canNudge" doc:"Of the stale, how many can be nudged"`
}

// NudgeRequest asks for FORCERENEW: one client by address, or all whose options
// are stale.
type NudgeRequest struct {
	Address string `json:"address,omitempty"`
	Stale   bool   `json:"stale,omitempty"`
	Scope   string `json:"scope,omitempty" doc:"With stale: only this scope"`
	DryRun  bool   `json:"dryRun,omitempty"`
}

// Nudged says whom a nudge goes to.
type Nudged struct {
	Applied bool   `json:"applied"`
	Sent    int    `json:"sent"`
	Cannot  int    `json:"cannot" doc:"Clients that cannot be nudged"`
	Text    string `json:"text"`
}

// OtherServer is another DHCP server that was heard.
type OtherServer struct {
	Link   string    `json:"link"`
	Server string    `json:"server"`
	How    string    `json:"how"`
	First  time.Time `json:"first"`
	Last   time.Time `json:"last"`
	Count  int       `json:"count"`
}

// Agreement compares what another server gave a client with what this one would
// have given.
type Agreement struct {
	Hardware   string    `json:"hardware" doc:"Empty if it is not known"`
	DUID       string    `json:"duid" doc:"Of a client of IPv6"`
	Hostname   string    `json:"hostname"`
	Link       string    `json:"link"`
	Scope      string    `json:"scope"`
	Took       string    `json:"took"`
	Server     string    `json:"server"`
	Would      string    `json:"would" doc:"What this server would have offered"`
	Agrees     bool      `json:"agrees"`
	Options    bool      `json:"options" doc:"Options were compared, too"`
	Difference []string  `json:"difference"`
	At         time.Time `json:"at"`
	Count      int       `json:"count"`
}

// ScopeAgreement sums up a scope.
type ScopeAgreement struct {
	Scope    string `json:"scope" doc:"Empty for clients of no scope"`
	Link     string `json:"link"`
	Clients  int    `json:"clients"`
	Agree    int    `json:"agree"`
	Disagree int    `json:"disagree"`
}

// Listening is what listening beside another server showed.
type Listening struct {
	Whole        bool             `json:"whole" doc:"The whole server listens"`
	Links        []string         `json:"links" doc:"Links that are listened to"`
	Learned      int              `json:"learned" doc:"Addresses kept for clients of the other server"`
	Scopes       []ScopeAgreement `json:"scopes"`
	Clients      []Agreement      `json:"clients" doc:"Disagreements first; at most 1000"`
	OtherServers []OtherServer    `json:"otherServers"`
}

// Relay is a relay that forwards to this server.
type Relay struct {
	Address string     `json:"address"`
	Link    string     `json:"link"`
	Count   uint64     `json:"count"`
	Last    *time.Time `json:"last" doc:"null: never heard since the start"`
	Gap     float64    `json:"gap" doc:"Usual time between messages, in seconds"`
	Silent  bool       `json:"silent" doc:"Usually busy, and quiet for unusually long"`
	Named   bool       `json:"named" doc:"The plan names it: what it says of circuits counts"`
	Found   bool       `json:"found" doc:"The plan does not name it, but it answered a probe: clients are not given its address"`
}

// Forgotten says how many relays were forgotten.
type Forgotten struct {
	Count int `json:"count"`
}

// Check is one thing that preflight looked at.
type Check struct {
	Name   string `json:"name"`
	Status string `json:"status" enum:"good,warning,trouble,unknown"`
	Text   string `json:"text"`
	Mend   string `json:"mend,omitempty"`
}

// Warning is something that a person should look at.
type Warning struct {
	Code    string `json:"code"`
	Subject string `json:"subject"`
	Text    string `json:"text"`
	Mend    string `json:"mend"`
}

// Status is the state of the service.
type Status struct {
	Version   string    `json:"version"`
	Started   time.Time `json:"started"`
	Now       time.Time `json:"now"`
	Revision  int64     `json:"revision"`
	Name      string    `json:"name" doc:"What this server is called"`
	Pair      string    `json:"pair,omitempty" doc:"State of this server in its pair; left out if it is in none"`
	Partner   string    `json:"partner,omitempty" doc:"The other server of the pair"`
	Takeover  bool      `json:"takeover" doc:"The other server would carry on if this one died now"`
	Healthy   bool      `json:"healthy"`
	Problem   string    `json:"problem,omitempty" doc:"What is wrong, and what to do"`
	DHCP4     string    `json:"dhcp4" doc:"Where relayed clients are heard"`
	DHCP6     string    `json:"dhcp6,omitempty" doc:"The same for IPv6, if that is served"`
	DUID      string    `json:"duid" doc:"By what clients of IPv6 know this server"`
	Wires     []Wire    `json:"wires" doc:"Interfaces on which broadcast clients are served"`
	Scopes    int       `json:"scopes"`
	Active    int       `json:"active" doc:"Active leases"`
	Unserved  int       `json:"unserved" doc:"Clients that ask and get nothing"`
	Served5m  int       `json:"served5m" doc:"Requests acknowledged in the last five minutes"`
	Served24h int       `json:"served24h" doc:"Requests acknowledged in the last day"`
	Recorded  uint64    `json:"recorded" doc:"Leases recorded since the start"`
	Commits   uint64    `json:"commits" doc:"Commits these took"`
	Warnings  []Warning `json:"warnings" doc:"What a person should look at: other servers, silent relays, failed trials, preflight"`
}

// Wire is an interface on which broadcast clients are served.
type Wire struct {
	Name      string   `json:"name"`
	Addresses []string `json:"addresses"`
	Link      string   `json:"link" doc:"Link it belongs to, if any"`
}

// SignIn asks for a session.
type SignIn struct {
	Account  string `json:"account" maxLength:"64"`
	Password string `json:"password" maxLength:"256"`
}

// Session says who is signed in.
type Session struct {
	Account    string `json:"account"`
	MustChange bool   `json:"mustChange" doc:"The password was given once and has to be replaced now"`
}

// NewPassword replaces one's own password.
type NewPassword struct {
	Old string `json:"old" maxLength:"256"`
	New string `json:"new" maxLength:"256" doc:"Ten characters at least, and none that everybody tries first"`
}

// Token is an API token.
type Token struct {
	Name    string    `json:"name"`
	Account string    `json:"account" doc:"Whose it is"`
	Made    time.Time `json:"made"`
	Secret  string    `json:"secret,omitempty" doc:"Shown once, when it is made"`
}

// Program is a program with its version.
type Program struct {
	Name    string `json:"name"`
	Version string `json:"version"`
}

// Account is somebody who may sign in.
type Account struct {
	Name     string    `json:"name"`
	State    string    `json:"state" enum:"open,new,closed" doc:"new: its one-time password was not replaced yet"`
	Changed  time.Time `json:"changed" doc:"When its password was set, or it was closed"`
	Password string    `json:"password,omitempty" doc:"Of a new one, to sign in with once; it is shown this once"`
}

// NewAccount asks for an account.
type NewAccount struct {
	Name string `json:"name" minLength:"1" maxLength:"64" doc:"Small letters and digits, with dots, dashes and underscores between"`
}

// NewToken asks for an API token.
type NewToken struct {
	Name string `json:"name" minLength:"1" maxLength:"64" pattern:"^[\\p{L}\\p{N}]([\\p{L}\\p{N}._-]*[\\p{L}\\p{N}])?$" doc:"Where or for what it is used"`
}

// Ended says what became of an address that was ended or cleared.
type Ended struct {
	Applied bool   `json:"applied"`
	Lease   Lease  `json:"lease"`
	Text    string `json:"text"`
}

// ClearRequest names addresses to clear: some, or all abandoned ones of a scope,
// or of the whole table.
type ClearRequest struct {
	Addresses []string `json:"addresses,omitempty" maxItems:"1000"`
	Scope     string   `json:"scope,omitempty" doc:"All abandoned addresses of this scope"`
	All       bool     `json:"all,omitempty" doc:"All abandoned addresses"`
	DryRun    bool     `json:"dryRun,omitempty" doc:"Only say what would happen"`
}

// Cleared says what became of addresses that were to be cleared.
type Cleared struct {
	Applied bool     `json:"applied"`
	Cleared []Lease  `json:"cleared" doc:"Those that were, or would be, cleared"`
	Kept    []string `json:"kept" doc:"Those that were not, and why"`
	Text    string   `json:"text"`
}

// ActRequest names clients to act on: by their addresses, or all active ones of a scope.
type ActRequest struct {
	Addresses []string `json:"addresses,omitempty" maxItems:"1000"`
	Scope     string   `json:"scope,omitempty" doc:"All clients with an active lease in this scope, 1,000 at most"`
	Silent    bool     `json:"silent,omitempty" doc:"When leases are ended: only those at whose address nobody answers"`
	DryRun    bool     `json:"dryRun,omitempty" doc:"Only say what would happen"`
}

// ActedOn says what became, or would become, of clients that were acted on.
type ActedOn struct {
	Applied bool       `json:"applied"`
	Clients []ActedOne `json:"clients"`
	Text    string     `json:"text"`
}

// ActedOne is what became of one client.
type ActedOne struct {
	Address  string `json:"address"`
	Hardware string `json:"hardware,omitempty"`
	Hostname string `json:"hostname,omitempty"`
	Scope    string `json:"scope,omitempty"`
	Outcome  string `json:"outcome" enum:"answers,another,silent,unreachable,woken,nudged,ended,refused" doc:"another: another machine answers there; unreachable: no probe reaches it from this server"`
	Text     string `json:"text"`
}

// LeasesBrought says what became, or would become, of a sheet of leases that another server gave.
type LeasesBrought struct {
	Applied bool     `json:"applied"`
	Taken   int      `json:"taken" doc:"On record here now, so that their clients keep their addresses"`
	Known   int      `json:"known" doc:"That were on record already"`
	Over    int      `json:"over" doc:"That are over"`
	Left    []string `json:"left" doc:"Those that cannot be kept, each with its line and why; the first 1,000"`
	Text    string   `json:"text"`
}

// LiveLease is the live event of a changed lease.
type LiveLease struct {
	Lease Lease `json:"lease"`
}

// LivePair says that the pair stands elsewhere; ask for it.
type LivePair struct {
	Now time.Time `json:"now"`
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
	Level   string  `json:"level" enum:"defaults,supernet,scope,rule,reservation"`
	Item    string  `json:"item" doc:"Scope, rule or reservation it is set on"`
	Setting Setting `json:"setting"`
}

// Vendor is one vendor class seen on the network.
type Vendor struct {
	Class   string `json:"class"`
	Clients int    `json:"clients"`
}

// ReasonHeader is the header of a request that says why something is done, percent-encoded;
// it is kept in the trail.
const ReasonHeader = "Yarnpost-Reason"

// Deed is something that a person did.
type Deed struct {
	At      time.Time `json:"at"`
	Who     string    `json:"who"`
	From    string    `json:"from,omitempty" doc:"Address that it was asked from"`
	Server  string    `json:"server,omitempty" doc:"Which server of a pair was asked"`
	Deed    string    `json:"deed" doc:"Such as: ended a lease"`
	Subject string    `json:"subject,omitempty"`
	Reason  string    `json:"reason,omitempty"`
	Detail  string    `json:"detail,omitempty" doc:"What came of it"`
}

// AlertTried is what came of a message that was sent to try a target.
type AlertTried struct {
	Text string `json:"text"`
}
