package capacity

import (
	"cmp"
	"fmt"
	"math"
	"net/netip"
	"slices"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
)

// Help is one thing that would make a pool last longer, with its numbers.
type Help struct {
	Kind      string // shorten, widen, win-back, move
	Text      string
	Addresses int       // that it gives, at the peak
	Days      int       // by which the pool lasts longer; 0 if that is not known
	Until     time.Time // when the pool would run out then; zero: not within what can be seen
	Lease     time.Duration
	Renewals  float64 // a second, then
	Edit      string  // the command, where there is one
}

// Scene is what advice on a pool rests on.
type Scene struct {
	View     *plan.View
	Count    Count
	Forecast Forecast
	Users    *Users
	Unused   Winnable
	Beside   []Level // other serving scopes of the link, with room
}

// Level is a scope and how it is used.
type Level struct {
	Name string
	Count
}

// comfortDays is for how long a pool should last.
const comfortDays = 90

// Helps lists what would help most, the most useful first.
func Helps(s Scene) []Help {
	var out []Help
	f, v := s.Forecast, s.View
	add := func(h Help) {
		if h.Addresses > 0 {
			h.Days, h.Until = f.lasts(float64(h.Addresses))
			if h.Kind == "widen" && !f.Date.IsZero() && len(f.Bands) > 0 { // that is what it is worked out for
				h.Days = max(comfortDays-int(f.Date.Sub(f.Bands[0].Day)/(24*time.Hour)), 0)
			}
			out = append(out, h)
		}
	}
	if h, ok := s.shorten(); ok {
		add(h)
	}
	if n := s.wanted(); n > 0 {
		h := Help{Kind: "widen", Addresses: n, Text: fmt.Sprintf("widen the pools by %d addresses, which is enough for %d days", n, comfortDays)}
		if room := v.Reservable(); room < uint64(n) {
			h.Text += fmt.Sprintf("; the subnet %s has %d left outside them, so it needs a larger subnet or a second scope on link %s", v.Subnet, room, v.LinkName)
		}
		add(h)
	}
	if n := s.Unused.Total(); n > 0 {
		add(Help{Kind: "win-back", Addresses: n, Text: s.Unused.Text(), Edit: "yarnpost sweep list --scope " + v.Name})
	}
	if h, ok := s.move(); ok {
		add(h)
	}
	slices.SortStableFunc(out, func(a, b Help) int { return b.Addresses - a.Addresses })
	return out
}

// wanted is by how much the pool is too small for the days to come.
func (s Scene) wanted() int {
	high := s.Forecast.Peak
	for _, b := range s.Forecast.Bands[:min(comfortDays, len(s.Forecast.Bands))] {
		high = max(high, b.High)
	}
	return int(math.Ceil(high*1.02 - s.Forecast.Size))
}

// shorten works out a shorter lease time. Clients that left are seen by their
// missing renewal, which is in the last half of a lease; of what is left of a lease
// behind its client, that is two thirds.
func (s Scene) shorten() (h Help, ok bool) {
	now := s.Users.Granted()
	gone := float64(s.Users.Ghosts) * 1.5
	if now < 10*time.Minute || gone < 1 {
		return h, false
	}
	to := nice(now / 4)
	if s.Users.Ghosts*10 < s.Users.Active {
		to = nice(now / 2)
	}
	h = Help{Kind: "shorten", Lease: to, Addresses: int(gone * (1 - to.Seconds()/now.Seconds())),
		Renewals: float64(s.Users.Present) / (to.Seconds() / 2),
		Edit:     fmt.Sprintf("yarnpost scope edit %s --lease %s", s.View.Name, option.FormatDuration(to))}
	h.Text = fmt.Sprintf("shorten the lease time from %s to %s: about %d addresses are held for clients that left, and there would be %.1f renewals a second",
		option.FormatDuration(now.Truncate(time.Minute)), option.FormatDuration(to), int(gone), h.Renewals)
	return h, true
}

// nice is a duration as people set it.
func nice(d time.Duration) time.Duration {
	for _, n := range []time.Duration{5 * time.Minute, 10 * time.Minute, 15 * time.Minute, 30 * time.Minute, time.Hour,
		2 * time.Hour, 4 * time.Hour,
		8 * time.Hour, 12 * time.Hour, 24 * time.Hour, 2 * 24 * time.Hour} {
		if d <= n {
			return n
		}
	}
	return d.Truncate(24 * time.Hour)
}

func (s Scene) move() (h Help, ok bool) {
	vendors := s.Users.Vendors()
	if len(s.Beside) == 0 || len(vendors) < 2 {
		return h, false
	}
	to := slices.MaxFunc(s.Beside, func(a, b Level) int { return cmp.Compare(a.Headroom, b.Headroom) })
	i := slices.IndexFunc(vendors[1:], func(g Group) bool { return uint64(g.Clients) < to.Headroom/2 })
	if i < 0 {
		return h, false
	}
	g := vendors[1+i]
	return Help{Kind: "move", Addresses: g.Clients, Text: fmt.Sprintf("move the %d clients of vendor class %q to scope %s of the same link, which has %s left",
		g.Clients, g.Name, to.Name, addr.CountText(to.Headroom))}, true
}

// Gains is how many days longer the pool lasts with more addresses.
func (f Forecast) Gains(more int) int {
	if more <= 0 {
		return 0
	}
	days, _ := f.lasts(float64(more))
	return days
}

// lasts is how many days longer the pool lasts with more addresses, and when it
// runs out then.
func (f Forecast) lasts(more float64) (days int, until time.Time) {
	then := crossing(f.Bands, f.Size+more, middle)
	switch {
	case f.Verdict == HistoryThin || len(f.Bands) == 0:
		return 0, time.Time{}
	case f.Date.IsZero() || then.IsZero():
		if f.PerDay > 0.01 {
			days = int(min(more/f.PerDay, 3650))
		}
		if !f.Date.IsZero() {
			days = max(days, int(f.Until.Sub(f.Date)/(24*time.Hour)))
		}
		return days, time.Time{}
	}
	return int(then.Sub(f.Date) / (24 * time.Hour)), then
}

// Winnable is what of a scope could be had back.
type Winnable struct {
	Excluded  []addr.Range // parts of the pools that exclusions take and nobody is named for
	Unclaimed []*plan.Reservation
	Abandoned []netip.Addr
	counted   [3]int
}

// Total is how many addresses that is.
func (w Winnable) Total() int { return w.counted[0] + w.counted[1] + w.counted[2] }

// Plus is both together.
func (w Winnable) Plus(o Winnable) Winnable {
	for i := range w.counted {
		w.counted[i] += o.counted[i]
	}
	return Winnable{append(w.Excluded, o.Excluded...), append(w.Unclaimed, o.Unclaimed...), append(w.Abandoned, o.Abandoned...), w.counted}
}

// Text says it in a sentence.
func (w Winnable) Text() string {
	return fmt.Sprintf("win back %d addresses: %d excluded that nobody is named for, %d reserved that nobody claimed, %d abandoned",
		w.Total(), w.counted[0], w.counted[1], w.counted[2])
}

// Unseen is for how long a reservation may not be used before it counts as
// unclaimed.
const Unseen = 30 * 24 * time.Hour

// WinBack lists what of a scope could be had back, at a moment. The lookup gives the
// record of an address.
func WinBack(p *plan.Plan, v *plan.View, at func(netip.Addr) *lease.Lease, abandoned []netip.Addr, now lease.Time) (w Winnable) {
	for _, e := range v.Exclusions {
		if e.User != "" {
			continue
		}
		for _, pool := range v.Pools {
			if r := (addr.Range{From: later(pool.From, e.Range.From), To: earlier(pool.To, e.Range.To)}); r.Valid() {
				w.Excluded = append(w.Excluded, r)
				w.counted[0] += int(r.Size())
			}
		}
	}
	for _, r := range p.Reservations(v.ID) {
		if v.Allocatable(r.Address) && !Claimed(r, at(r.Address), now) {
			w.Unclaimed = append(w.Unclaimed, r)
			w.counted[1]++
		}
	}
	for _, a := range abandoned {
		if v.Allocatable(a) {
			w.Abandoned = append(w.Abandoned, a)
			w.counted[2]++
		}
	}
	return w
}

// Claimed reports whether a reservation's client had its address within Unseen, by
// the record of the address, or nil.
func Claimed(r *plan.Reservation, l *lease.Lease, now lease.Time) bool {
	return l != nil && l.Reserved && (l.HeldAt(now) || now.Sub(l.Heard) < Unseen)
}

func later(a, b netip.Addr) netip.Addr {
	if a.Less(b) {
		return b
	}
	return a
}

func earlier(a, b netip.Addr) netip.Addr {
	if a.Less(b) {
		return a
	}
	return b
}
