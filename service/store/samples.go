package store

import (
	"context"
	"encoding/binary"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"yarnpost/core/capacity"
)

// How long samples are kept.
const (
	MinuteDays = 3   // by the minute
	HourDays   = 370 // by the hour
)

// SampleRow is one sample of one series, by the series' number.
type SampleRow struct {
	Series int32
	capacity.Row
}

// SeriesNumbers gives the numbers of series, and makes them for those that are new.
func (s *Store) SeriesNumbers(ctx context.Context, keys []string) (map[string]int32, error) {
	out := make(map[string]int32, len(keys))
	_, err := s.pool.Exec(ctx, `insert into capacity_series (key) select k from unnest($1::text[]) k
		where not exists (select from capacity_series where key = k) on conflict do nothing`, keys)
	if err != nil {
		return nil, fmt.Errorf("number series: %w", err)
	}
	rows, err := s.pool.Query(ctx, "select key, id from capacity_series where key = any($1)", keys)
	if err != nil {
		return nil, fmt.Errorf("number series: %w", err)
	}
	var key string
	var id int32
	_, err = pgx.ForEachRow(rows, []any{&key, &id}, func() error { out[key] = id; return nil })
	return out, err
}

// SaveSample records a sample of all series, until its hour is over.
func (s *Store) SaveSample(ctx context.Context, at time.Time, rows []SampleRow) error {
	body := make([]byte, 0, len(rows)*16)
	for _, r := range rows {
		body = binary.AppendUvarint(body, uint64(r.Series))
		for _, v := range r.Row {
			body = binary.AppendUvarint(body, uint64(v))
		}
	}
	return s.exec(ctx, "record a sample", "insert into capacity_open (at, body) values ($1, $2) on conflict do nothing", at, body)
}

// openRows reads the samples of hours that are not over, of one series or of all
// for 0.
func (s *Store) openRows(ctx context.Context, only int32, from, until time.Time, each func(at time.Time, r SampleRow)) error {
	rows, err := s.pool.Query(ctx, "select at, body from capacity_open where at >= $1 and at < $2 order by at", from, until)
	if err != nil {
		return err
	}
	var at time.Time
	var body []byte
	_, err = pgx.ForEachRow(rows, []any{&at, &body}, func() error {
		for len(body) > 0 {
			var r SampleRow
			v, n := binary.Uvarint(body)
			for i := -1; i < len(r.Row); i++ {
				if n <= 0 {
					return fmt.Errorf("the sample of %s is damaged", at)
				}
				if body = body[n:]; i < 0 {
					r.Series = int32(v)
				} else {
					r.Row[i] = uint32(v)
				}
				if i+1 < len(r.Row) {
					v, n = binary.Uvarint(body)
				}
			}
			if only == 0 || only == r.Series {
				each(at, r)
			}
		}
		return nil
	})
	return err
}

// minuteBody is an hour's samples behind a mask of the minutes that they are of.
func minuteBody(known [60]bool, rows []capacity.Row) []byte {
	mask := uint64(0)
	for i, k := range known {
		if k {
			mask |= 1 << i
		}
	}
	return append(binary.BigEndian.AppendUint64(nil, mask), capacity.PackRows(rows)...)
}

func minutesOf(body []byte) (minutes []int, rows []capacity.Row, err error) {
	if len(body) < 8 {
		return nil, nil, fmt.Errorf("samples of an hour are damaged")
	}
	mask := binary.BigEndian.Uint64(body)
	for i := range 60 {
		if mask&(1<<i) != 0 {
			minutes = append(minutes, i)
		}
	}
	if rows, err = capacity.UnpackRows(body[8:]); err == nil && len(rows) != len(minutes) {
		err = fmt.Errorf("samples of an hour are damaged")
	}
	return minutes, rows, err
}

// CloseHours gathers what was sampled in hours before a moment, a row for each
// series and hour, and gives those hours. It is safe to repeat.
func (s *Store) CloseHours(ctx context.Context, before time.Time) error {
	before = before.UTC().Truncate(time.Hour)
	type key struct {
		hour   time.Time
		series int32
	}
	type hour struct {
		known [60]bool
		rows  []capacity.Row
	}
	all := map[key]*hour{}
	err := s.openRows(ctx, 0, time.Time{}, before, func(at time.Time, r SampleRow) {
		at = at.UTC()
		k := key{at.Truncate(time.Hour), r.Series}
		h := all[k]
		if h == nil {
			h = &hour{}
			all[k] = h
		}
		if !h.known[at.Minute()] {
			h.known[at.Minute()] = true
			h.rows = append(h.rows, r.Row)
		}
	})
	if err != nil || len(all) == 0 {
		return err
	}
	hours, series, bodies := make([]time.Time, 0, len(all)), make([]int32, 0, len(all)), make([][]byte, 0, len(all))
	for k, h := range all {
		hours, series, bodies = append(hours, k.hour), append(series, k.series), append(bodies, minuteBody(h.known, h.rows))
	}
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `insert into capacity_minutes (hour, series, body) select * from unnest($1::timestamptz[], $2::int[], $3::bytea[])
			on conflict do nothing`, hours, series, bodies); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, "delete from capacity_open where at < $1", before)
		return err
	})
}

// CloseDays makes a row by the hour of each day before one that has none yet, and
// drops what is too old.
func (s *Store) CloseDays(ctx context.Context, now time.Time) error {
	today := now.UTC().Truncate(24 * time.Hour)
	rows, err := s.pool.Query(ctx, `select distinct date_trunc('day', hour at time zone 'UTC') from capacity_minutes m where hour < $1
		and not exists (select from capacity_days d where d.series = m.series and d.day = (m.hour at time zone 'UTC')::date) order by 1`, today)
	if err != nil {
		return err
	}
	days, err := pgx.CollectRows(rows, pgx.RowTo[time.Time])
	if err != nil {
		return err
	}
	for _, day := range days {
		if err := s.closeSampledDay(ctx, day); err != nil {
			return fmt.Errorf("close the samples of %s: %w", day.Format(time.DateOnly), err)
		}
	}
	for _, drop := range []struct {
		query string
		days  int
	}{{"delete from capacity_minutes where hour < $1", MinuteDays}, {"delete from capacity_days where day < $1", HourDays}} {
		if _, err := s.pool.Exec(ctx, drop.query, today.AddDate(0, 0, -drop.days)); err != nil {
			return err
		}
	}
	return nil
}

func (s *Store) closeSampledDay(ctx context.Context, day time.Time) error {
	rows, err := s.pool.Query(ctx, "select series, hour, body from capacity_minutes where hour >= $1 and hour < $2", day, day.AddDate(0, 0, 1))
	if err != nil {
		return err
	}
	all := map[int32][]capacity.HourRow{}
	var series int32
	var hour time.Time
	var body []byte
	if _, err = pgx.ForEachRow(rows, []any{&series, &hour, &body}, func() error {
		if all[series] == nil {
			all[series] = make([]capacity.HourRow, 24)
		}
		_, rows, err := minutesOf(body)
		all[series][hour.UTC().Hour()] = capacity.Fold(rows)
		return err
	}); err != nil {
		return err
	}
	return s.SaveDay(ctx, day, all)
}

// SaveDay records a day by the hour, of some series.
func (s *Store) SaveDay(ctx context.Context, day time.Time, all map[int32][]capacity.HourRow) error {
	series, bodies := make([]int32, 0, len(all)), make([][]byte, 0, len(all))
	for id, hours := range all {
		series, bodies = append(series, id), append(bodies, capacity.PackHours(hours))
	}
	return s.exec(ctx, "record a day's samples", `insert into capacity_days (day, series, body) select $1::date, * from unnest($2::int[], $3::bytea[])
		on conflict (series, day) do update set body = excluded.body`, day.UTC().Format(time.DateOnly), series, bodies)
}

// Sampled is one sample of a series.
type Sampled struct {
	At time.Time
	capacity.Row
}

// Minutes reads the samples of a series, as far back as they are kept.
func (s *Store) Minutes(ctx context.Context, key string, from time.Time) (out []Sampled, err error) {
	id, err := s.seriesNumber(ctx, key)
	if err != nil || id == 0 {
		return nil, err
	}
	if out, err = s.closedMinutes(ctx, id, from); err != nil {
		return nil, err
	}
	err = s.openRows(ctx, id, from, farAhead, func(at time.Time, r SampleRow) { out = append(out, Sampled{at.UTC(), r.Row}) })
	return out, err
}

// closedMinutes is Minutes without the hour that is not over: that is one row of all
// series for each minute.
func (s *Store) closedMinutes(ctx context.Context, id int32, from time.Time) (out []Sampled, err error) {
	rows, err := s.pool.Query(ctx, "select hour, body from capacity_minutes where series = $1 and hour >= $2 order by hour", id,
		from.UTC().Truncate(time.Hour))
	if err != nil {
		return nil, err
	}
	var hour time.Time
	var body []byte
	if _, err = pgx.ForEachRow(rows, []any{&hour, &body}, func() error {
		minutes, rows, err := minutesOf(body)
		for i := range rows {
			if at := hour.UTC().Add(time.Duration(minutes[i]) * time.Minute); !at.Before(from) {
				out = append(out, Sampled{at, rows[i]})
			}
		}
		return err
	}); err != nil {
		return nil, err
	}
	return out, nil
}

var farAhead = time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC)

func (s *Store) seriesNumber(ctx context.Context, key string) (id int32, err error) {
	err = s.pool.QueryRow(ctx, "select coalesce((select id from capacity_series where key = $1), 0)", key).Scan(&id)
	return id, err
}

// Hours reads a series by the hour, from a day on, to the last hour that is over. It
// begins with the first day that there is.
func (s *Store) Hours(ctx context.Context, key string, from time.Time) (start time.Time, hours []capacity.HourRow, err error) {
	id, err := s.seriesNumber(ctx, key)
	if err != nil || id == 0 {
		return start, nil, err
	}
	put := func(at time.Time, h capacity.HourRow) {
		if at = at.UTC(); hours == nil {
			start = at.Truncate(24 * time.Hour)
		}
		n := int(at.Sub(start) / time.Hour)
		if n < 0 || n > (HourDays+10)*24 {
			return
		}
		for len(hours) <= n {
			hours = append(hours, capacity.HourRow{})
		}
		if hours[n][capacity.HourSamples] == 0 {
			hours[n] = h
		}
	}
	day0 := from.UTC().Truncate(24 * time.Hour)
	rows, err := s.pool.Query(ctx, "select day, body from capacity_days where series = $1 and day >= $2 order by day", id, day0)
	if err != nil {
		return start, nil, err
	}
	var at time.Time
	var body []byte
	if _, err = pgx.ForEachRow(rows, []any{&at, &body}, func() error {
		list, err := capacity.UnpackHours(body)
		for i, h := range list {
			put(at.Add(time.Duration(i)*time.Hour), h)
		}
		return err
	}); err != nil {
		return start, nil, err
	}
	last := day0
	if len(hours) > 0 {
		last = start.Add(time.Duration(len(hours)) * time.Hour)
	}
	minutes, err := s.closedMinutes(ctx, id, last)
	if err != nil {
		return start, nil, err
	}
	for i := 0; i < len(minutes); {
		hour := minutes[i].At.Truncate(time.Hour)
		var rows []capacity.Row
		for ; i < len(minutes) && minutes[i].At.Truncate(time.Hour).Equal(hour); i++ {
			rows = append(rows, minutes[i].Row)
		}
		put(hour, capacity.Fold(rows))
	}
	return start, hours, nil
}
