// Package samples samples use over time: each minute it counts every pool
// and records that, gathers hours and days, and keeps forecasts up to date. What
// any of it means is worked out in core/capacity.
package samples

import (
	"context"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"yarnpost/core/capacity"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/service/engine"
	"yarnpost/service/store"
)

// Sampler samples one service.
type Sampler struct {
	engine *engine.Engine
	store  *store.Store
	clock  engine.Clock
	zone   *time.Location // whose days and weeks are those of a scope that names none
	log    *slog.Logger

	work    sync.Mutex // one sampling, one refresh at a time
	numbers map[string]int32
	churn   map[plan.ID]lease.Churn
	hour    time.Time

	mu       sync.Mutex
	outlooks map[capacity.Key]Outlook
	failed   error
	refresh  time.Time
}

// Outlook is what is expected of a pool, and when that was worked out.
type Outlook struct {
	At    time.Time
	Trend []int // of the last 28 days
	capacity.Forecast
	series capacity.Series
}

// Busy is how busy each hour of the week is.
func (o Outlook) Busy() [][]int { return o.series.Busy() }

// Zone is the name of the time zone of the site.
func (o Outlook) Zone() string {
	if name := o.series.Start.Location().String(); name != "Local" {
		return name
	}
	name, _ := o.At.Zone()
	return name
}

// New makes the sampler. Days and weeks are those of the zone, unless a scope names
// another.
func New(e *engine.Engine, s *store.Store, c engine.Clock, zone *time.Location, log *slog.Logger) *Sampler {
	return &Sampler{engine: e, store: s, clock: c, zone: zone, log: log, numbers: map[string]int32{}, churn: map[plan.ID]lease.Churn{},
		outlooks: map[capacity.Key]Outlook{}}
}

// Level is how something is used now.
type Level struct {
	Key   capacity.Key
	Name  string // of the scope, the link or the supernet; "" for the whole
	Scope *plan.View
	capacity.Count
	lease.Churn
}

// part is how many scopes are counted while the table is held.
const part = 128

// Levels counts everything: scopes, pools where a scope has several, links that
// have several scopes, supernets around any, and the whole. Where two things are the same, the smaller is
// left out. What is in room is used again.
func (r *Sampler) Levels(room []Level) []Level {
	p := r.engine.Plan()
	scopes := p.Scopes()
	out := slices.Grow(room[:0], len(scopes)+1)
	all, vast := Level{Key: capacity.All}, Level{} // vast: of scopes that nobody can fill up
	sums := map[capacity.Key]*Level{}              // of links with several scopes, and of supernets
	add := func(t *Level, l *Level) {
		t.Count = t.Add(l.Count)
		t.New, t.Returned, t.Left = t.New+l.New, t.Returned+l.Returned, t.Left+l.Left
	}
	for list := range slices.Chunk(scopes, part) {
		r.engine.With(func(t *lease.Table) {
			for _, v := range list {
				if v = t.Plan().Scope(v.ID); v == nil {
					continue
				}
				l := Level{Key: capacity.Key{Scope: v.ID}, Name: v.Name, Scope: v, Count: capacity.OfScope(t, v), Churn: t.Churn(v.ID)}
				out = append(out, l)
				if len(v.Parts) > 1 || len(v.PrefixPools) > 0 {
					for i, c := range capacity.OfPools(t, v) {
						out = append(out, Level{Key: capacity.Key{Scope: v.ID, Pool: v.Parts[i].Pool}, Name: v.Name, Scope: v, Count: c})
					}
				}
				if l.Size >= capacity.Most {
					add(&vast, &l)
				} else {
					add(&all, &l)
				}
				for _, of := range sumsOf(p, v) {
					if sums[of.Key] == nil {
						sums[of.Key] = &of
					}
					add(sums[of.Key], &l)
				}
			}
		})
	}
	for _, key := range slices.SortedFunc(maps.Keys(sums), func(a, b capacity.Key) int { return strings.Compare(a.String(), b.String()) }) {
		out = append(out, *sums[key])
	}
	if all.Size > 0 { // what can run out counts; what is given of the rest is in use as well
		vast.Size, vast.Excluded, vast.Headroom, vast.Partner = 0, 0, 0, 0
	}
	add(&all, &vast)
	return append(out, all)
}

// sumsOf are the sums that a scope is a part of, still empty: of its link, if that has other
// scopes of its family, and of the supernets around it. Of a link that has several of both
// families those of IPv4 are summed, which are the ones that run out.
func sumsOf(p *plan.Plan, v *plan.View) (out []Level) {
	summed := option.V4
	if len(p.Serving(v.Link, option.V4)) < 2 {
		summed = option.V6
	}
	if v.Family() == summed && len(p.Beside(v)) > 1 {
		out = append(out, Level{Key: capacity.Key{Link: v.Link}, Name: v.LinkName})
	}
	for _, n := range v.Around {
		out = append(out, Level{Key: capacity.Key{Supernet: n.ID}, Name: n.Name})
	}
	return out
}

// Emptied says that the database has no series any more: what was numbered and foretold
// is of before.
func (r *Sampler) Emptied() {
	r.work.Lock()
	defer r.work.Unlock()
	clear(r.numbers)
	clear(r.churn)
	r.mu.Lock()
	defer r.mu.Unlock()
	r.outlooks, r.refresh = map[capacity.Key]Outlook{}, time.Time{}
}

// Sample counts everything and records it.
func (r *Sampler) Sample(ctx context.Context) {
	r.work.Lock()
	defer r.work.Unlock()
	err := r.sample(ctx)
	r.mu.Lock()
	defer r.mu.Unlock()
	if (err != nil) != (r.failed != nil) && ctx.Err() == nil {
		if err != nil {
			r.log.Warn("samples of use are not recorded", "err", err)
		} else {
			r.log.Info("samples of use are recorded again")
		}
	}
	r.failed = err
}

// Failed is why the last sample was not recorded, or nil.
func (r *Sampler) Failed() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.failed
}

func (r *Sampler) sample(ctx context.Context) error {
	at := r.clock.Now().UTC().Truncate(time.Minute)
	levels := r.Levels(nil)
	keys := make([]string, len(levels))
	var missing []string
	for i := range levels {
		keys[i] = levels[i].Key.String()
		if _, ok := r.numbers[keys[i]]; !ok {
			missing = append(missing, keys[i])
		}
	}
	if len(missing) > 0 {
		more, err := r.store.SeriesNumbers(ctx, missing)
		if err != nil {
			return err
		}
		maps.Copy(r.numbers, more)
	}
	rows := make([]store.SampleRow, 0, len(levels))
	for i := range levels {
		l := &levels[i]
		rows = append(rows, store.SampleRow{Series: r.numbers[keys[i]], Row: capacity.RowOf(l.Count, 0, 0, 0)})
	}
	r.turnover(levels, rows)
	if err := r.store.SaveSample(ctx, at, rows); err != nil {
		return err
	}
	if hour := at.Truncate(time.Hour); !hour.Equal(r.hour) {
		if err := r.store.CloseHours(ctx, hour); err != nil {
			return err
		}
		if err := r.store.CloseDays(ctx, at); err != nil {
			return err
		}
		r.hour = hour
	}
	return nil
}

// turnover puts in who came and left since the sample before. The first time, and
// where a counter went back, nothing is known.
func (r *Sampler) turnover(levels []Level, rows []store.SampleRow) {
	since := func(now, before uint64) uint32 { return uint32(now - min(now, before)) }
	all, sums := lease.Churn{}, map[capacity.Key]lease.Churn{}
	p := r.engine.Plan()
	for i := range levels {
		l := &levels[i]
		switch {
		case l.Key.Pool.Valid():
		case l.Key.Scope != 0:
			before, known := r.churn[l.Key.Scope]
			r.churn[l.Key.Scope] = l.Churn
			if !known {
				continue
			}
			n := lease.Churn{New: uint64(since(l.New, before.New)), Returned: uint64(since(l.Returned, before.Returned)),
				Left: uint64(since(l.Left, before.Left))}
			put(&rows[i].Row, n)
			all = plus(all, n)
			for _, of := range sumsOf(p, l.Scope) {
				sums[of.Key] = plus(sums[of.Key], n)
			}
		case l.Key == capacity.All:
			put(&rows[i].Row, all)
		default:
			put(&rows[i].Row, sums[l.Key])
		}
	}
}

func plus(a, b lease.Churn) lease.Churn {
	return lease.Churn{New: a.New + b.New, Returned: a.Returned + b.Returned, Left: a.Left + b.Left}
}

func put(r *capacity.Row, n lease.Churn) {
	r[capacity.ColNew], r[capacity.ColReturned], r[capacity.ColLeft] = uint32(n.New), uint32(n.Returned), uint32(n.Left)
}

const trendDays = 28

// historyDays is how much history a forecast looks at.
const historyDays = 84

// Series is the use of something by the hour, as forecasts want it. The hour that
// is not over is left out.
func (r *Sampler) Series(ctx context.Context, l Level) (capacity.Series, []capacity.HourRow, error) {
	now := r.clock.Now().UTC()
	start, rows, err := r.store.Hours(ctx, l.Key.String(), now.AddDate(0, 0, -historyDays))
	if err != nil {
		return capacity.Series{}, nil, err
	}
	if n := int(now.Truncate(time.Hour).Sub(start) / time.Hour); n >= 0 && n < len(rows) {
		rows = rows[:n]
	}
	s := capacity.Series{Start: start.In(r.zoneOf(l)), Hours: make([]capacity.Hour, len(rows))}
	for i, h := range rows {
		s.Hours[i] = h.Hour()
	}
	return s, rows, nil
}

// zoneOf is the time zone in which a scope's people live: the one that its clients are
// told of by option 101 (RFC 4833), or the service's.
func (r *Sampler) zoneOf(l Level) *time.Location {
	if l.Scope == nil {
		return r.zone
	}
	for _, v := range l.Scope.Values {
		if v.Key == option.Std(option.TimeZone) {
			if zone, err := time.LoadLocation(string(v.Data)); err == nil && len(v.Data) > 0 {
				return zone
			}
		}
	}
	return r.zone
}

// Refresh works out what is expected of every pool anew, gently.
func (r *Sampler) Refresh(ctx context.Context) {
	fresh := map[capacity.Key]Outlook{}
	for _, l := range r.Levels(nil) {
		if l.Size == 0 || ctx.Err() != nil {
			continue
		}
		begin := r.clock.Now()
		o, err := r.Outlook(ctx, l)
		if err != nil {
			r.log.Warn("use could not be forecast", "of", l.Key.String(), "err", err)
			return
		}
		o.series = capacity.Series{} // a year of ten thousand would be much
		fresh[l.Key] = o
		select { // most of the processor is for packets
		case <-ctx.Done():
		case <-time.After(min(4*r.clock.Now().Sub(begin), time.Second)):
		}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.outlooks, r.refresh = fresh, r.clock.Now()
}

// Outlook works out what is expected of a pool now.
func (r *Sampler) Outlook(ctx context.Context, l Level) (Outlook, error) {
	s, _, err := r.Series(ctx, l)
	if err != nil {
		return Outlook{}, err
	}
	f := capacity.Predict(s, float64(l.Size))
	now := r.clock.Now().In(s.Start.Location())
	f.Now(now, l.Used() >= l.Size)
	return Outlook{now, s.Trend(trendDays), f, s}, nil
}

// Outlooks gives what was last expected of every pool, and when that was.
func (r *Sampler) Outlooks() (map[capacity.Key]Outlook, time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.outlooks, r.refresh
}

// Series is what the outlook rests on.
func (o Outlook) Series() capacity.Series { return o.series }
