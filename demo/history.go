package demo

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"net/netip"
	"slices"
	"sync"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/capacity"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/service/store"
)

// historyDays is how much of the mill's past is made up.
const historyDays = 42

// afternoon is what the mill's clock shows while its clients play.
const afternoon = 14 * time.Hour

// Days ago on which something happened at the mill.
const (
	outageAgo  = 17 // both servers stood still from 9 to 14
	loomsAgo   = 24 // sixty new looms came at once
	leaseAgo   = 12 // the scanners' lease time was cut from 8 h to 2 h
	openDayAgo = 9  // an open day: the visitors' wireless was full
)

// habit is how a place was used over the weeks: what part of its clients at an
// hour, so many days ago.
type habit func(at time.Time, ago float64) float64

func steady(time.Time, float64) float64        { return 1 }
func shifts(at time.Time, ago float64) float64 { return 0.3 + 0.7*WorkingWeek(at) }

var habits = map[string]habit{
	"offices":   shifts,
	"dye-house": func(_ time.Time, ago float64) float64 { return 1 - 0.0022*ago },
	"looms": func(at time.Time, ago float64) float64 {
		if ago > loomsAgo {
			return 0.85
		}
		return 1
	},
	"scanners": func(at time.Time, ago float64) float64 {
		if ago > leaseAgo { // a lease of eight hours goes on behind its client
			return 0.75 + 0.25*WorkingWeek(at)
		}
		return 0.35 + 0.65*WorkingWeek(at)
	},
	"phones":        steady,
	"access-points": func(_ time.Time, ago float64) float64 { return 1 - 0.012*ago },
	"cameras":       func(_ time.Time, ago float64) float64 { return 1 - 0.002*ago },
	"carding-shed":  func(_ time.Time, ago float64) float64 { return 1 + 0.12*ago },
	"visitors": func(at time.Time, ago float64) float64 {
		x := (0.45 + 0.55*opening(at)) * (1 - 0.0095*ago)
		if int(ago) == openDayAgo {
			x *= 1.25
		}
		return x
	},
}

// opening is how busy the mill's museum is: most in the afternoon and at the weekend.
func opening(at time.Time) float64 {
	h := float64(at.Hour()) + float64(at.Minute())/60
	x := math.Exp(-(h - 14.5) * (h - 14.5) / 18)
	if d := at.Weekday(); d == time.Saturday || d == time.Sunday {
		return x
	}
	return 0.9 * x
}

// past is what a server has on record of the mill's weeks.
type past struct {
	days   []time.Time
	series map[string][][]capacity.HourRow // by scope, by day
	events []store.Event
}

// Visitors is the use of the visitors' wireless, as the mill remembers it.
func Visitors(seed uint64) capacity.Series {
	random := rand.New(rand.NewPCG(seed, 42))
	end := time.Date(2026, 6, 8, 0, 0, 0, 0, time.UTC)
	s := capacity.Series{Start: end.AddDate(0, 0, -historyDays), Hours: make([]capacity.Hour, historyDays*24)}
	wander := 0.0
	for i := range s.Hours {
		if i%24 == 0 {
			wander = 0.6*wander + 0.01*random.NormFloat64()
		}
		if at := s.At(i); !outage(at, end) {
			s.Hours[i] = madeHour(random, 3640*habits["visitors"](at, end.Sub(at).Hours()/24)*(1+wander), 4081, true).Hour()
		}
	}
	return s
}

// makeUp makes up six weeks, the same for each seed but for the day it is.
func (m *mill) makeUp(now time.Time, sizes map[string]int) past {
	random := rand.New(rand.NewPCG(seed, 42))
	now = now.UTC().Truncate(time.Hour)
	// The clients that play now are there as on an afternoon: so the mill's clock is
	// that at which it is one.
	local := func(at time.Time) time.Time { return at.Add(afternoon - now.Sub(now.Truncate(24*time.Hour))) }
	today := now.Truncate(24 * time.Hour)
	p := past{series: map[string][][]capacity.HourRow{}}
	for d := historyDays; d >= 0; d-- {
		p.days = append(p.days, today.AddDate(0, 0, -d))
	}
	series := func(name string, clients int, how habit, turn bool) {
		wander := 0.0
		scale := float64(clients) / how(local(now), 0)
		for _, day := range p.days {
			wander = 0.6*wander + 0.01*random.NormFloat64()
			var hours []capacity.HourRow
			for h := range 24 {
				hour := day.Add(time.Duration(h) * time.Hour)
				if ago := now.Sub(hour).Hours() / 24; hour.Before(now) && !outage(hour, today) {
					hours = append(hours, madeHour(random, scale*how(local(hour), ago)*(1+wander), sizes[name], turn))
				} else {
					hours = append(hours, capacity.HourRow{})
				}
			}
			p.series[name] = append(p.series[name], hours)
		}
	}
	for _, at := range places() {
		how := habits[at.scope]
		if how == nil || sizes[at.scope] == 0 {
			continue
		}
		series(at.scope, at.clients, how, at.turn)
		p.events = append(p.events, m.stays(at, how, random, p.days, now, local)...)
	}
	if n := len(m.clients6[workshops]); n > 0 {
		series(delegated, n, func(_ time.Time, ago float64) float64 { return 1 - 0.0155*ago }, false)
	}
	return p
}

// The prefixes that workshops were given have a series of their own.
const (
	workshops = "workshops"
	delegated = workshops + "/prefixes"
)

func outage(hour, today time.Time) bool {
	return hour.Truncate(24*time.Hour).Equal(today.AddDate(0, 0, -outageAgo)) && hour.Hour() >= 9 && hour.Hour() < 14
}

func madeHour(random *rand.Rand, used float64, size int, turn bool) (h capacity.HourRow) {
	noisy := func(x float64) uint32 {
		return uint32(min(max(x+math.Sqrt(x)*0.4*random.NormFloat64(), 0), float64(size)))
	}
	mean := noisy(used)
	h[capacity.HourSize], h[capacity.HourMean] = uint32(size), mean
	h[capacity.HourLow], h[capacity.HourPeak] = mean-min(mean, mean/50+1), min(mean+mean/50+1, uint32(size))
	if mean == 0 {
		h[capacity.HourPeak] = 0
	}
	h[capacity.HourActive], h[capacity.HourHeadroom] = h[capacity.HourPeak], uint32(size)-h[capacity.HourPeak]
	if turn {
		h[capacity.HourNew], h[capacity.HourReturned], h[capacity.HourLeft] = mean/40, mean/12, mean/11
	} else {
		h[capacity.HourReturned], h[capacity.HourLeft] = mean/90, mean/90
	}
	h[capacity.HourSamples] = 60
	return h
}

// stays are the lease events of a place: who came, and until when it renewed.
func (m *mill) stays(at place, how habit, random *rand.Rand, days []time.Time, now time.Time,
	local func(time.Time) time.Time) (out []store.Event) {
	span, err := time.ParseDuration(leaseOf(at))
	if err != nil {
		return nil
	}
	for n, c := range m.clients[at.scope] {
		if !c.Wish.IsValid() {
			continue
		}
		for _, day := range days {
			day := day.Add(-local(day).Sub(day)) // as the mill has it
			noon := day.Add(13 * time.Hour)
			ago := now.Sub(noon).Hours() / 24
			there := min(how(local(noon), max(ago, 0)), 1)
			if at.turn {
				there *= 0.4
			}
			if ago < 0 || random.Float64() > there || m.others(n, at, ago) {
				continue
			}
			begin := day.Add(time.Duration(7*60+random.IntN(120)) * time.Minute)
			end := begin.Add(time.Duration(6*60+random.IntN(180)) * time.Minute)
			if at.turn {
				begin = day.Add(time.Duration(9*60+random.IntN(9*60)) * time.Minute)
				end = begin.Add(time.Duration(20+150*random.ExpFloat64()) * time.Minute)
			}
			if end.After(now) || outage(begin.Truncate(time.Hour), now.Truncate(24*time.Hour)) {
				continue
			}
			l := lease.Lease{Prefix: lease.Host(c.Wish), Status: lease.Active, Client: lease.ByHardware(1, c.Hardware), Hardware: c.Hardware,
				Hostname: c.Hostname, Vendor: c.Vendor, Circuit: c.Circuit, Relay: c.Relay.Address(), Since: lease.At(begin), By: lease.Primary}
			if c.ID != nil {
				l.Client = lease.ByIdentifier(c.ID)
			}
			l.Expires = lease.At(begin.Add(span))
			out = append(out, store.Event{At: begin, Lease: l})
			if end.Sub(begin) > span/2 {
				l.Expires = lease.At(end.Add(span))
				out = append(out, store.Event{At: end, Lease: l})
			}
			if random.IntN(5) == 0 {
				l.Status, l.Expires = lease.Released, lease.At(end)
				out = append(out, store.Event{At: end.Add(time.Minute), Lease: l})
			}
		}
	}
	return out
}

// others reports whether a client was not there yet so many days ago.
func (m *mill) others(n int, at place, ago float64) bool {
	return at.scope == "looms" && n >= 350 && ago > loomsAgo
}

func leaseOf(p place) string {
	if p.lease == "1d" {
		return "24h"
	}
	return p.lease
}

// wishes gives each client the address that it remembers.
func (m *mill) wishes() {
	for _, p := range places() {
		if len(p.pools) == 0 || p.mode != "serving" {
			continue
		}
		pool, err := addr.ParseRange(p.pools[0])
		if err != nil {
			continue
		}
		var out []addr.Range
		for _, e := range p.exclude {
			if r, err := addr.ParseRange(e.Range); err == nil {
				out = append(out, r)
			}
		}
		next := pool.From
		for i, c := range m.clients[p.scope] {
			if i < p.reserve {
				c.Wish = netip.MustParseAddr(reservedAddress(p, i))
				continue
			}
			for addr.In(out, next) {
				next = next.Next()
			}
			if !pool.Contains(next) {
				break
			}
			c.Wish, next = next, next.Next()
		}
	}
}

// remember writes the mill's past into the records of its servers.
func (m *mill) remember(ctx context.Context) error {
	scopes, err := m.API.Scopes(ctx, "", "")
	if err != nil {
		return err
	}
	supernets, err := m.API.Supernets(ctx, "")
	if err != nil {
		return err
	}
	sizes, keys, around := map[string]int{}, map[string]string{}, map[string][]string{}
	for _, s := range scopes {
		sizes[s.Name] = int(s.Usage.Size)
		keys[s.Name] = fmt.Sprintf("scope %d", s.ID)
		for _, n := range supernets {
			if slices.Contains(s.Supernets, n.Name) {
				key := fmt.Sprintf("supernet %d", n.ID)
				around[key] = append(around[key], s.Name)
			}
		}
	}
	for _, s := range scopes {
		if s.Name != workshops {
			continue
		}
		pool, err := addr.ParseRange(workshopPrefixes)
		if err != nil {
			return err
		}
		keys[delegated], sizes[delegated] = capacity.Key{Scope: plan.ID(s.ID), Pool: pool}.String(), 16
	}
	fmt.Fprintf(m.Out, "Remembering %d days …\n", historyDays)
	p := m.makeUp(time.Now(), sizes)
	failed := make([]error, len(m.Records))
	var wg sync.WaitGroup
	for i, dsn := range m.Records {
		wg.Go(func() { failed[i] = p.write(ctx, dsn, keys, around) })
	}
	wg.Wait()
	for _, err := range failed {
		if err != nil {
			return fmt.Errorf("write the mill's past: %w", err)
		}
	}
	return nil
}

// sum is a day of several scopes together.
func (p past) sum(day int, of func(scope string) bool) []capacity.HourRow {
	whole := make([]capacity.HourRow, 24)
	for scope, days := range p.series {
		if !of(scope) {
			continue
		}
		for h, row := range days[day] {
			for c := range row {
				whole[h][c] += row[c]
			}
		}
	}
	for h := range whole {
		whole[h][capacity.HourSamples] = min(whole[h][capacity.HourSamples], 60)
	}
	return whole
}

// write records the past. Keys are the series of scopes by name, around those of supernets with
// the scopes in them.
func (p past) write(ctx context.Context, dsn string, keys map[string]string, around map[string][]string) error {
	s, err := store.OpenBeside(ctx, dsn)
	if err != nil {
		return err
	}
	defer s.Close()
	list := []string{capacity.All.String()}
	for scope := range p.series {
		list = append(list, keys[scope])
	}
	for key := range around {
		list = append(list, key)
	}
	numbers, err := s.SeriesNumbers(ctx, list)
	if err != nil {
		return err
	}
	for d, day := range p.days {
		all := map[int32][]capacity.HourRow{}
		for scope, days := range p.series {
			all[numbers[keys[scope]]] = days[d]
		}
		all[numbers[capacity.All.String()]] = p.sum(d, func(scope string) bool { return scope != delegated })
		for key, scopes := range around {
			all[numbers[key]] = p.sum(d, func(scope string) bool { return slices.Contains(scopes, scope) })
		}
		if err := s.SaveDay(ctx, day, all); err != nil {
			return err
		}
	}
	return s.AddPast(ctx, p.events, p.days[len(p.days)-1])
}
