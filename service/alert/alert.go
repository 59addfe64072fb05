// Package alert has alerts: a finding that a person has to hear of fires
// once and clears once, shows on Today and in the metrics, and goes by syslog and
// webhook to where the administrator wants it, from a queue that survives restarts.
package alert

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"yarnpost/core/audit"
	"yarnpost/service/engine"
	"yarnpost/service/lock"
	"yarnpost/service/partner"
	"yarnpost/service/store"
)

// codes are the findings that fire.
var codes = map[string]bool{"pool-out": true, "pool-runs-out": true, "pool-full": true, "pair-takeover": true, "pair-conflict": true,
	"pair-plan": true, "database-down": true, "disk-full": true, "clients-unserved": true, "other-server": true, "relay-silent": true,
	"trial-failed":     true,
	"certificate-ends": true, "backup-missing": true, "change-failed": true, "clock-stepped": true, "database-set-back": true, "host-claims-addresses": true}

// Fires reports whether findings of a code fire.
func Fires(code string) bool { return codes[code] }

// Alert is a finding that fired.
type Alert struct {
	audit.Finding // as it was seen last
	Since         time.Time
	Ended         time.Time // zero: it stands
	Silenced      *store.Silence
	missed        int       // looks at which it was not there
	gone          time.Time // since when it is not there
	unsaved       bool
	unsent        bool // it fired while it was silenced
	hovers        bool // it had ended shortly before it came
}

// clearAfter is how many looks in a row an alert must not be there to clear.
const clearAfter = 3

// hovering is within what time of its end an alert that comes back hovers at its
// threshold, and calm is how long it must be over then before it clears again.
const (
	hovering = time.Hour
	calm     = 15 * time.Minute
)

// slowToFire is how long what an alert is of must be so before it fires: what passes by
// itself in a moment is no news.
var slowToFire = map[string]time.Duration{"pair-takeover": 20 * time.Second, "pair-plan": 20 * time.Second}

// Manager watches.
type Manager struct {
	server  func() string // name of this server
	sends   func(area audit.Area) bool
	store   *store.Store
	clock   engine.Clock
	log     *slog.Logger
	allowed []netip.Prefix
	tell    func(context.Context, store.AlertSettings) error

	mu       sync.Mutex
	standing map[string]*Alert
	begun    map[string]time.Time // since when what has not fired yet is so
	ended    map[string]time.Time // when what cleared within the hour did
	silences []store.Silence
	targets  []store.Target // as last read
	loaded   bool
	wake     chan struct{}
}

// Config says what alerts are of, and where they may go.
type Config struct {
	Server  func() string
	Sends   func(audit.Area) bool // whether this server of a pair sends them
	Allowed []netip.Prefix        // addresses that targets may have
	// Tell tells the other server of a pair, if there is one, where alerts go.
	Tell func(context.Context, store.AlertSettings) error
}

// New makes the manager.
func New(c Config, s *store.Store, clock engine.Clock, log *slog.Logger) *Manager {
	return &Manager{server: c.Server, sends: c.Sends, allowed: c.Allowed, tell: c.Tell, store: s, clock: clock, log: log,
		standing: map[string]*Alert{},
		begun:    map[string]time.Time{}, ended: map[string]time.Time{},
		wake: make(chan struct{}, 1)}
}

// load reads what stood at the last stop, so that nothing fires twice.
func (r *Manager) load(ctx context.Context) error {
	list, err := r.store.Alerts(ctx)
	if err != nil {
		return err
	}
	silences, err := r.store.Silences(ctx)
	if err != nil {
		return err
	}
	targets, err := r.store.Targets(ctx)
	if err != nil {
		return err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.recall(list)
	r.silences, r.targets, r.loaded = silences, targets, true
	return nil
}

// recall takes in what is on record: what stands, and when the rest ended, so that what
// hovered before a stop does so after it.
func (r *Manager) recall(list []store.Alert) {
	for _, a := range list {
		if a.Ended.IsZero() {
			r.standing[a.Key] = alertOf(a)
		} else {
			r.ended[a.Key] = a.Ended
		}
	}
}

func alertOf(a store.Alert) *Alert {
	return &Alert{Finding: a.Finding, Since: a.Since, Ended: a.Ended, unsent: a.Unsent, hovers: a.Hovers}
}

func (a *Alert) row() store.Alert {
	return store.Alert{Key: a.Key(), Since: a.Since, Ended: a.Ended, Finding: a.Finding, Unsent: a.unsent, Hovers: a.hovers}
}

// Look takes in what is there now: what is new fires, what is gone clears. Of a code
// that is not known yet nothing clears.
func (r *Manager) Look(ctx context.Context, list []audit.Finding, unknown func(code string) bool) {
	if !r.loaded {
		if err := r.load(ctx); err != nil {
			return // the database is away; what stands shows all the same once it is back
		}
	}
	now := r.clock.Now().UTC().Truncate(time.Microsecond)
	fired, again, late, cleared := r.judge(now, list, unknown)
	for _, a := range late {
		if a.Ended.IsZero() && r.store.SaveAlert(ctx, a.row(), "fired", r.server(), nil, now) == nil {
			a.unsaved = false
		}
	}
	for _, a := range again {
		if r.silence(a) == nil && !slices.Contains(fired, a) {
			fired = append(fired, a)
		}
	}
	for _, a := range append(fired, cleared...) {
		r.enqueue(ctx, a)
	}
}

// judge compares what is there now with what stands. It returns what fires, what fired
// while it was silenced and is to be told now, what fired while nothing could be put on
// record, and what clears. What comes back within an hour.hovers: it clears no more
// before it was away for long, so that it is news twice and not each time.
func (r *Manager) judge(now time.Time, list []audit.Finding, unknown func(code string) bool) (fired, again, late, cleared []*Alert) {
	seen := map[string]bool{}
	r.mu.Lock()
	defer r.mu.Unlock()
	maps.DeleteFunc(r.ended, func(_ string, at time.Time) bool { return now.Sub(at) >= hovering })
	for i := range list {
		f := &list[i]
		if !codes[f.ID] {
			continue
		}
		seen[f.Key()] = true
		a := r.standing[f.Key()]
		if a == nil {
			if _, known := r.begun[f.Key()]; !known {
				r.begun[f.Key()] = now
			}
			if now.Sub(r.begun[f.Key()]) < slowToFire[f.ID] {
				continue
			}
			_, hovers := r.ended[f.Key()]
			a = &Alert{Since: now, hovers: hovers}
			r.standing[f.Key()] = a
			fired = append(fired, a)
		}
		a.Finding, a.missed, a.gone = *f, 0, time.Time{}
	}
	maps.DeleteFunc(r.begun, func(key string, _ time.Time) bool { return !seen[key] })
	for key, a := range r.standing {
		if a.unsaved {
			late = append(late, a)
		}
		if a.unsent && seen[key] {
			again = append(again, a)
		}
		if seen[key] || unknown(a.ID) || outgrown(a, seen) {
			continue
		}
		if a.gone.IsZero() {
			a.gone = now
		}
		if a.missed++; a.missed < clearAfter || a.hovers && now.Sub(a.gone) < calm {
			continue
		}
		a.Ended, r.ended[key] = now, now
		delete(r.standing, key)
		cleared = append(cleared, a)
	}
	return fired, again, late, cleared
}

// outgrown reports whether something worse of the same is there instead of an alert, so
// that it is not over.
func outgrown(a *Alert, seen map[string]bool) bool {
	return (a.ID == "pool-full" || a.ID == "pool-runs-out") && seen["pool-out "+a.Subject]
}

// enqueue records an alert that fired or cleared, with what is to be sent of it, in one
// piece. While the database is away it is sent at once, and once: that it is away is
// what somebody has to hear of.
func (r *Manager) enqueue(ctx context.Context, a *Alert) {
	what := "fired"
	if !a.Ended.IsZero() {
		what = "cleared"
	}
	r.log.Info("alert "+what, "code", a.ID, "subject", a.Subject, "text", a.Text)
	var targets []store.Target
	a.unsent = a.Ended.IsZero() && r.silence(a) != nil
	if r.silence(a) == nil && r.sends(a.Area) {
		_ = r.Reload(ctx) // while the database is away, what was read last holds
		var all []store.Target
		lock.While(&r.mu, func() { all = slices.Clone(r.targets) })
		for _, t := range all {
			if a.Severity >= severityOf(t.Severity) {
				targets = append(targets, t)
			}
		}
	}
	if err := r.store.SaveAlert(ctx, a.row(), what, r.server(), targets, r.clock.Now()); err != nil {
		r.log.Warn("an alert is not on record; it is sent at once", "err", err)
		a.unsaved = true
		q := store.Queued{At: r.clock.Now(), What: what, Server: r.server(), Alert: a.row()}
		for _, t := range targets {
			if err := r.Send(ctx, t, q); err != nil {
				r.log.Warn("an alert could not be sent", "target", t.Name, "err", err)
			}
		}
		return
	}
	a.unsaved = false
	r.Wake()
}

func severityOf(word string) audit.Severity {
	s, err := audit.ParseSeverity(word)
	if err != nil {
		return audit.Note
	}
	return s
}

// Wake has what is queued sent.
func (r *Manager) Wake() {
	select {
	case r.wake <- struct{}{}:
	default:
	}
}

// silence is what silences an alert now, or nil.
func (r *Manager) silence(a *Alert) *store.Silence {
	r.mu.Lock()
	defer r.mu.Unlock()
	for i := range r.silences {
		s := &r.silences[i]
		begin, wild := strings.CutSuffix(s.Key, "*")
		if s.Until.After(r.clock.Now()) && (s.Key == a.Key() || wild && strings.HasPrefix(a.Key(), begin)) {
			return s
		}
	}
	return nil
}

// Standing lists the alerts that stand, the worst first.
func (r *Manager) Standing() []Alert {
	var list []*Alert
	lock.While(&r.mu, func() { list = slices.Collect(maps.Values(r.standing)) })
	out := make([]Alert, 0, len(list))
	for _, a := range list {
		c := *a
		c.Silenced = r.silence(a)
		out = append(out, c)
	}
	slices.SortFunc(out, func(a, b Alert) int {
		return cmp.Or(int(b.Severity)-int(a.Severity), b.Since.Compare(a.Since), strings.Compare(a.Key(), b.Key()))
	})
	return out
}

// Past lists alerts that cleared, newest first.
func (r *Manager) Past(ctx context.Context) ([]Alert, error) {
	list, err := r.store.Alerts(ctx)
	if err != nil {
		return nil, err
	}
	var out []Alert
	for _, a := range list {
		if !a.Ended.IsZero() {
			out = append(out, *alertOf(a))
		}
	}
	slices.SortFunc(out, func(a, b Alert) int { return b.Ended.Compare(a.Ended) })
	return out, nil
}

// Reload reads targets and silences anew.
func (r *Manager) Reload(ctx context.Context) error {
	targets, err := r.store.Targets(ctx)
	if err != nil {
		return err
	}
	silences, err := r.store.Silences(ctx)
	if err != nil {
		return err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.targets, r.silences = targets, silences
	return nil
}

// Share tells the partner where alerts go and what is silenced, now; what it misses it asks
// for at its next audit.
func (r *Manager) Share(ctx context.Context) {
	all, err := r.store.AlertSettings(ctx)
	if err == nil {
		err = r.tell(ctx, all)
	}
	if err != nil {
		r.log.Warn("the partner does not know yet where alerts go", "err", err)
	}
}

// Take takes in what the partner knows of where alerts go.
func (r *Manager) Take(ctx context.Context, in store.AlertSettings) error {
	taken, err := r.store.TakeAlertSettings(ctx, in)
	if err == nil && taken {
		err = r.Reload(ctx)
	}
	return err
}

// Answers answer the questions of a partner that sends alerts, too.
func (r *Manager) Answers() map[string]partner.Answer {
	return map[string]partner.Answer{"alerts.take": partner.Takes(r.Take), "alerts": partner.Gives(r.store.AlertSettings)}
}

// ErrAlert is wrapped when something about alerts is refused.
var ErrAlert = errors.New("alerts")

// Silence keeps alerts from being sent until a moment: one by its key, or all whose
// keys begin so, with * behind. A moment that has passed ends that.
func (r *Manager) Silence(ctx context.Context, s store.Silence) error {
	s.Key, s.Reason = strings.TrimSpace(s.Key), strings.TrimSpace(s.Reason)
	code, _, _ := strings.Cut(strings.TrimSuffix(s.Key, "*"), " ")
	switch {
	case s.Key == "" || len(s.Key) > 500:
		return fmt.Errorf("%w: name an alert, as alert list has them, or the beginning of some with * behind", ErrAlert)
	case s.Key != "*" && !strings.HasSuffix(s.Key, "*") && !codes[code]:
		return fmt.Errorf("%w: %q is no alert; alert list shows those that stand, and a code with * behind is all of that code", ErrAlert,
			s.Key)
	case s.Until.Sub(r.clock.Now()) > 366*24*time.Hour:
		return fmt.Errorf("%w: a year is the most that an alert can be silenced for", ErrAlert)
	}
	if err := r.store.SaveSilence(ctx, s, r.clock.Now()); err != nil {
		return err
	}
	if err := r.Reload(ctx); err != nil {
		return err
	}
	r.log.Info("alerts silenced", "which", s.Key, "until", s.Until, "by", s.By, "reason", s.Reason)
	return nil
}

// Silences lists what is silenced now.
func (r *Manager) Silences() (out []store.Silence) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, s := range r.silences {
		if s.Until.After(r.clock.Now()) {
			out = append(out, s)
		}
	}
	return out
}
