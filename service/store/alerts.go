package store

import (
	"context"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"yarnpost/core/audit"
)

// Alert is a finding that fired.
type Alert struct {
	Key     string
	Since   time.Time
	Ended   time.Time // zero: it stands
	Finding audit.Finding
	Unsent  bool `json:"-"` // it fired while it was silenced
	Hovers  bool `json:"-"` // it had ended shortly before it came
}

// Silence keeps alerts from being sent.
type Silence struct {
	Key    string // of one, or the beginning of keys with * behind
	Until  time.Time
	By     string
	Reason string
}

// Target is where alerts go.
type Target struct {
	Name     string `json:"-"`
	URL      string `json:"url"`
	Severity string `json:"severity"` // that and worse
	CA       string `json:"ca,omitempty"`
	Secret   []byte `json:"-"`
}

// Queued is a message that is to be sent.
type Queued struct {
	ID     int64  `json:"-"`
	Target Target `json:"-"`
	Tries  int    `json:"-"`
	Failed string `json:"-"`
	At     time.Time
	What   string // fired, cleared, report, or test
	Server string
	Alert  Alert
	Report int64 `json:",omitempty"` // the number of the report that goes with it
}

// alertsKept is for how long alerts that ended are kept.
const alertsKept = 90 * 24 * time.Hour

// Alerts lists the alerts that stand, and those that ended lately.
func (s *Store) Alerts(ctx context.Context) ([]Alert, error) {
	rows, err := s.pool.Query(ctx, "select key, since, coalesce(ended, 'epoch'), body, unsent, hovers from alert")
	if err != nil {
		return nil, fmt.Errorf("read alerts: %w", err)
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (a Alert, err error) {
		var body []byte
		if err = row.Scan(&a.Key, &a.Since, &a.Ended, &body, &a.Unsent, &a.Hovers); err == nil {
			err = json.Unmarshal(body, &a.Finding)
		}
		if a.Ended.Unix() == 0 {
			a.Ended = time.Time{}
		}
		return a, err
	})
}

// SaveAlert records that an alert fired or cleared, and queues it for its targets,
// all at once.
func (s *Store) SaveAlert(ctx context.Context, a Alert, what, server string, targets []Target, now time.Time) error {
	body, err := json.Marshal(a.Finding)
	if err != nil {
		return err
	}
	message, err := json.Marshal(Queued{At: now, What: what, Server: server, Alert: a})
	if err != nil {
		return err
	}
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		var ended *time.Time
		if !a.Ended.IsZero() {
			ended = &a.Ended
		}
		if _, err := tx.Exec(ctx, `insert into alert (key, since, ended, body, unsent, hovers) values ($1, $2, $3, $4, $5, $6)
			on conflict (key) do update set since = excluded.since, ended = excluded.ended, body = excluded.body,
				unsent = excluded.unsent, hovers = excluded.hovers`, a.Key, a.Since, ended, body, a.Unsent, a.Hovers); err != nil {
			return err
		}
		for _, t := range targets {
			if _, err := tx.Exec(ctx, "insert into alert_queue (target, at, next, body) values ($1, $2, $2, $3)", t.Name, now,
				message); err != nil {
				return err
			}
		}
		_, err := tx.Exec(ctx, "delete from alert where ended < $1", now.Add(-alertsKept))
		return err
	})
	if err != nil {
		return fmt.Errorf("record an alert: %w", err)
	}
	return nil
}

// Silences lists what is silenced.
func (s *Store) Silences(ctx context.Context) ([]Silence, error) {
	rows, err := s.pool.Query(ctx, "select key, until, by_whom, reason from alert_silence order by until")
	if err != nil {
		return nil, fmt.Errorf("read silences: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Silence])
}

// SaveSilence records a silence, said at that time.
func (s *Store) SaveSilence(ctx context.Context, x Silence, said time.Time) error {
	return s.exec(ctx, "record a silence", putSilence, x.Key, x.Until, x.By, x.Reason, said.UTC().Truncate(time.Microsecond))
}

func scanTarget(row pgx.CollectableRow) (t Target, err error) {
	var body []byte
	if err = row.Scan(&t.Name, &body, &t.Secret); err == nil {
		err = json.Unmarshal(body, &t)
	}
	return t, err
}

// Targets lists where alerts go, by name.
func (s *Store) Targets(ctx context.Context) ([]Target, error) {
	rows, err := s.pool.Query(ctx, "select name, body, secret from alert_target order by name")
	if err != nil {
		return nil, fmt.Errorf("read targets: %w", err)
	}
	return pgx.CollectRows(rows, scanTarget)
}

// SaveTarget records a target, in place of one with its name, said at that time.
func (s *Store) SaveTarget(ctx context.Context, t Target, said time.Time) error {
	body, err := json.Marshal(t)
	if err != nil {
		return err
	}
	return s.exec(ctx, "record a target", putTarget, t.Name, body, append([]byte{}, t.Secret...),
		said.UTC().Truncate(time.Microsecond)) // none is no octets, not null
}

const (
	putSilence = `with new as (insert into alert_silence (key, until, by_whom, reason, changed) values ($1, $2, $3, $4, $5)
		on conflict (key) do update set until = excluded.until, by_whom = excluded.by_whom, reason = excluded.reason,
			changed = excluded.changed
		where alert_silence.changed < excluded.changed returning 1)
		delete from alert_gone where kind = 'silence' and key = $1 and at <= $5`
	putTarget = `with new as (insert into alert_target (name, body, secret, changed) values ($1, $2, $3, $4)
		on conflict (name) do update set body = excluded.body, secret = excluded.secret, changed = excluded.changed
		where alert_target.changed < excluded.changed returning 1)
		delete from alert_gone where kind = 'target' and key = $1 and at <= $4`
)

// AlertSettings are targets and silences as two servers tell each other.
type AlertSettings struct {
	Targets  []SharedTarget  `json:"targets"`
	Silences []SharedSilence `json:"silences"`
	Gone     []Gone          `json:"gone"`
	Reports  *Schedule       `json:"reports,omitempty"` // when reports are made
}

// SharedSilence is a silence with when it was last changed.
type SharedSilence struct {
	Silence
	Changed time.Time `json:"changed"`
}

// Gone is that a target or a silence was taken away.
type Gone struct {
	Kind string    `json:"kind"`
	Key  string    `json:"key"`
	At   time.Time `json:"at"`
}

// SharedTarget is a target with its secret.
type SharedTarget struct {
	Target
	Name    string    `json:"name"`
	Secret  []byte    `json:"secret,omitempty"`
	Changed time.Time `json:"changed"`
}

// AlertSettings gives targets and silences, and which were taken away.
func (s *Store) AlertSettings(ctx context.Context) (out AlertSettings, err error) {
	rows, err := s.pool.Query(ctx, "select name, body, secret, changed from alert_target order by name")
	if err == nil {
		out.Targets, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (t SharedTarget, err error) {
			var body []byte
			if err = row.Scan(&t.Name, &body, &t.Secret, &t.Changed); err == nil {
				err = json.Unmarshal(body, &t.Target)
			}
			return t, err
		})
	}
	if err == nil {
		rows, err = s.pool.Query(ctx, "select key, until, by_whom, reason, changed from alert_silence order by key")
	}
	if err == nil {
		out.Silences, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (x SharedSilence, err error) {
			return x, row.Scan(&x.Key, &x.Until, &x.By, &x.Reason, &x.Changed)
		})
	}
	if err == nil {
		rows, err = s.pool.Query(ctx, "select kind, key, at from alert_gone order by at desc limit 1000")
	}
	if err == nil {
		out.Gone, err = pgx.CollectRows(rows, pgx.RowToStructByPos[Gone])
	}
	if err != nil {
		return out, fmt.Errorf("read where alerts go: %w", err)
	}
	if c, err := s.Schedule(ctx); err != nil {
		return out, err
	} else if !c.Changed.IsZero() {
		out.Reports = &c
	}
	return out, nil
}

// TakeAlertSettings takes in what the partner knows of targets and silences: of each the
// newest word counts. It reports whether there was any.
func (s *Store) TakeAlertSettings(ctx context.Context, in AlertSettings) (taken bool, err error) {
	before, err := s.AlertSettings(ctx)
	if err != nil {
		return false, err
	}
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		gone := func(kind, key string, changed time.Time) bool { // here, later than that was said
			return slices.ContainsFunc(before.Gone, func(g Gone) bool { return g.Kind == kind && g.Key == key && g.At.After(changed) })
		}
		for _, t := range in.Targets {
			if gone("target", t.Name, t.Changed) {
				continue
			}
			body, err := json.Marshal(t.Target)
			if err != nil {
				return err
			}
			if _, err := tx.Exec(ctx, putTarget, t.Name, body, append([]byte{}, t.Secret...), t.Changed); err != nil {
				return err
			}
		}
		for _, x := range in.Silences {
			if gone("silence", x.Key, x.Changed) {
				continue
			}
			if _, err := tx.Exec(ctx, putSilence, x.Key, x.Until, x.By, x.Reason, x.Changed); err != nil {
				return err
			}
		}
		for _, g := range in.Gone {
			if err := takeAway(ctx, tx, g); err != nil {
				return err
			}
		}
		if in.Reports != nil {
			_, err := tx.Exec(ctx, putSchedule, in.Reports.row()...)
			return err
		}
		return nil
	})
	if err != nil {
		return false, fmt.Errorf("take in where alerts go: %w", err)
	}
	after, err := s.AlertSettings(ctx)
	return !reflect.DeepEqual(before, after), err
}

// takeAway takes a target or a silence away, unless something newer was said of it.
func takeAway(ctx context.Context, tx pgx.Tx, g Gone) error {
	of := map[string]string{"target": "alert_target where name", "silence": "alert_silence where key"}[g.Kind]
	if of == "" {
		return nil // of a newer version
	}
	if _, err := tx.Exec(ctx, "delete from "+of+" = $1 and changed < $2", g.Key, g.At); err != nil {
		return err
	}
	_, err := tx.Exec(ctx, `insert into alert_gone select $1, $2, $3 where not exists (select from `+of+` = $2 and changed >= $3)
		on conflict (kind, key) do update set at = greatest(alert_gone.at, excluded.at)`, g.Kind, g.Key, g.At)
	return err
}

// RemoveTarget takes a target away, with what is queued for it; ok is false if there
// is none.
func (s *Store) RemoveTarget(ctx context.Context, name string, said time.Time) (ok bool, err error) {
	if err := s.pool.QueryRow(ctx, "select exists (select from alert_target where name = $1)", name).Scan(&ok); err != nil || !ok {
		return false, err
	}
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		return takeAway(ctx, tx, Gone{"target", name,
			said.UTC().Truncate(time.Microsecond)})
	})
	if err != nil {
		return false, fmt.Errorf("remove a target: %w", err)
	}
	return true, nil
}

// DueAlerts gives for each target the message that is to be sent to it next, if that is
// due: what is told to one target stays in order, and one that is not reached holds up
// nobody else.
func (s *Store) DueAlerts(ctx context.Context, now time.Time) ([]Queued, error) {
	return s.queued(ctx, "where q.id in (select min(id) from alert_queue group by target) and q.next <= $1 order by q.id", now)
}

// TrimAlerts takes the oldest messages of a target out of the queue beyond a number, and
// tells how many.
func (s *Store) TrimAlerts(ctx context.Context, most int) (int64, error) {
	tag, err := s.pool.Exec(ctx, `delete from alert_queue where id in (select id from
		(select id, row_number() over (partition by target order by id desc) as n from alert_queue) q where n > $1)`, most)
	if err != nil {
		return 0, fmt.Errorf("trim the queue of alerts: %w", err)
	}
	return tag.RowsAffected(), nil
}

// QueuedAlerts lists all messages that are to be sent.
func (s *Store) QueuedAlerts(ctx context.Context) ([]Queued, error) {
	return s.queued(ctx, "order by q.id limit 10000")
}

func (s *Store) queued(ctx context.Context, which string, args ...any) ([]Queued, error) {
	rows, err := s.pool.Query(ctx,
		"select t.name, t.body, t.secret, q.id, q.tries, q.failed, q.body from alert_queue q join alert_target t on t.name = q.target "+which, args...)
	if err != nil {
		return nil, fmt.Errorf("read the queue of alerts: %w", err)
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (q Queued, err error) {
		var target, body []byte
		var t Target
		if err = row.Scan(&t.Name, &target, &t.Secret, &q.ID, &q.Tries, &q.Failed, &body); err != nil {
			return q, err
		}
		if err = json.Unmarshal(target, &t); err == nil {
			err = json.Unmarshal(body, &q)
		}
		q.Target = t
		return q, err
	})
}

// AlertSent takes a message out of the queue.
func (s *Store) AlertSent(ctx context.Context, id int64) error {
	return s.exec(ctx, "take an alert out of its queue", "delete from alert_queue where id = $1", id)
}

// AlertFailed puts a message off.
func (s *Store) AlertFailed(ctx context.Context, id int64, next time.Time, why string) error {
	return s.exec(ctx, "put an alert off", "update alert_queue set tries = tries + 1, next = $2, failed = $3 where id = $1", id, next, why)
}
