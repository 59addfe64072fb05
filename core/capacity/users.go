package capacity

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"
	"time"
	"unicode"

	"yarnpost/core/addr"
	"yarnpost/core/lease"
)

// Group is how many clients have something in common.
type Group struct {
	Name    string
	Clients int
}

// Many is a client that holds several addresses.
type Many struct {
	Hardware  addr.Hardware
	Hostname  string
	Addresses []netip.Addr
}

// Users says who uses addresses. Leases are added one by one.
type Users struct {
	now                    lease.Time
	vendors, relays, names map[string]int
	held                   map[addr.Hardware]holder
	ages                   [len(ageSteps) + 1]int
	Active, Records        int
	Once                   int // records of clients that came, were there for one lease and never again
	Ghosts                 int // active leases whose client should have renewed and did not
	Present                int // active leases whose client is heard as it should be
	granted                time.Duration
}

// holder is what a hardware address has.
type holder struct {
	hostname  string
	addresses []netip.Addr
}

// ageSteps are bounds of how long leases are held.
var ageSteps = [...]time.Duration{time.Hour, 8 * time.Hour, 24 * time.Hour, 7 * 24 * time.Hour, 30 * 24 * time.Hour}

// NewUsers begins to count, at a moment.
func NewUsers(now lease.Time) *Users {
	return &Users{now: now, vendors: map[string]int{}, relays: map[string]int{}, names: map[string]int{},
		held: map[addr.Hardware]holder{}}
}

// Add counts a lease.
func (u *Users) Add(l *lease.Lease) {
	if l.Status == lease.Abandoned || !l.Client.Known() || !l.Prefix.IsSingleIP() { // a prefix is no second address
		return
	}
	u.Records++
	if l.Status != lease.Active && l.Heard <= l.Since.Add(5*time.Second) && l.Since > 0 {
		u.Once++
	}
	if !l.HeldAt(u.now) {
		return
	}
	u.Active++
	u.vendors[cmp.Or(l.Vendor, "no vendor class")]++
	relay := "none, on the server's own link"
	if l.Relay.IsValid() {
		relay = l.Relay.String()
	}
	u.relays[relay]++
	u.names[Pattern(l.Hostname)]++
	h := u.held[l.Hardware]
	u.held[l.Hardware] = holder{cmp.Or(h.hostname, l.Hostname), append(h.addresses, l.Address())}
	age := u.now.Sub(l.Since)
	i := 0
	for i < len(ageSteps) && age >= ageSteps[i] {
		i++
	}
	u.ages[i]++
	switch {
	case l.Expires == lease.Never: // it need not renew
	case u.now.Sub(l.Heard) > l.Granted*55/100:
		u.Ghosts++
	default:
		u.Present++
	}
	if l.Expires != lease.Never {
		u.granted += l.Granted
	}
}

// Granted is the mean lease time of what is active and ends.
func (u *Users) Granted() time.Duration {
	if n := u.Ghosts + u.Present; n > 0 {
		return u.granted / time.Duration(n)
	}
	return 0
}

// Vendors lists the clients by vendor class, the largest group first; so do the
// others.
func (u *Users) Vendors() []Group { return groups(u.vendors) }

// Relays lists the clients by relay.
func (u *Users) Relays() []Group { return groups(u.relays) }

// Names lists the clients by the pattern of their host names.
func (u *Users) Names() []Group { return groups(u.names) }

// Ages lists the active leases by how long they are held.
func (u *Users) Ages() []Group {
	words := []string{"less than 1 h", "1 h to 8 h", "8 h to a day", "a day to a week", "a week to 30 days", "more than 30 days"}
	out := make([]Group, len(words))
	for i, w := range words {
		out[i] = Group{w, u.ages[i]}
	}
	return out
}

const manyMost = 100 // clients with several addresses that are listed

// Many lists the clients with several addresses, those with most first, and says
// how many there are.
func (u *Users) Many() (out []Many, all int) {
	for hw, h := range u.held {
		if len(h.addresses) > 1 && hw != "" {
			slices.SortFunc(h.addresses, netip.Addr.Compare)
			out = append(out, Many{hw, h.hostname, h.addresses})
		}
	}
	slices.SortFunc(out, func(a, b Many) int {
		return cmp.Or(len(b.Addresses)-len(a.Addresses), cmp.Compare(a.Hardware, b.Hardware))
	})
	return out[:min(len(out), manyMost)], len(out)
}

func groups(of map[string]int) []Group {
	out := make([]Group, 0, len(of))
	for name, n := range of {
		out = append(out, Group{name, n})
	}
	slices.SortFunc(out, func(a, b Group) int { return cmp.Or(b.Clients-a.Clients, strings.Compare(a.Name, b.Name)) })
	return out
}

// Pattern is what host names have in common: runs of digits are one #.
func Pattern(name string) string {
	if name == "" {
		return "no host name"
	}
	var b strings.Builder
	digit := false
	for _, r := range name {
		if !unicode.IsDigit(r) {
			b.WriteRune(r)
		} else if !digit {
			b.WriteByte('#')
		}
		digit = unicode.IsDigit(r)
	}
	return b.String()
}
