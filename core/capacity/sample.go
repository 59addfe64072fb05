package capacity

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
)

// Count is how the addresses of something are used at a moment.
type Count struct {
	Size      uint64 // addresses that the pools may give, reserved ones included
	Excluded  uint64 // of the pools, taken away by exclusions
	Reserved  uint64 // reservations, inside and outside pools
	Claimed   uint64 // of those, held by their client
	Active    uint64
	Offered   uint64
	Released  uint64
	Kept      uint64 // released, and kept from others for a while
	Expired   uint64
	Abandoned uint64
	Headroom  uint64 // could be handed out here, now
	Partner   uint64 // could be handed out by the partner
}

// Used is how many addresses of the pools cannot be handed out by anybody.
func (c Count) Used() uint64 { return c.Size - min(c.Size, c.Headroom+c.Partner) }

// Share is the used part of the pools, 0 to 1; 0 if there are none.
func (c Count) Share() float64 {
	if c.Size == 0 {
		return 0
	}
	return float64(c.Used()) / float64(c.Size)
}

// Add is both together.
func (c Count) Add(o Count) Count {
	return Count{c.Size + o.Size, c.Excluded + o.Excluded, c.Reserved + o.Reserved, c.Claimed + o.Claimed, c.Active + o.Active,
		c.Offered + o.Offered, c.Released + o.Released, c.Kept + o.Kept, c.Expired + o.Expired, c.Abandoned + o.Abandoned,
		c.Headroom + o.Headroom, c.Partner + o.Partner}
}

func countOf(n lease.Counts) Count {
	return Count{Claimed: uint64(n.Claimed), Active: uint64(n.Active), Offered: uint64(n.Offered), Released: uint64(n.Released),
		Kept: uint64(n.Kept), Expired: uint64(n.Expired), Abandoned: uint64(n.Abandoned), Headroom: n.Headroom, Partner: n.Partner}
}

// OfScope counts a scope.
func OfScope(t *lease.Table, v *plan.View) Count {
	c := countOf(t.Count(v.ID))
	c.Size, c.Excluded, c.Reserved = v.Size, v.Excluded, uint64(t.Plan().ReservationCount(v.ID))
	return c
}

// OfPools counts a scope's pools, in the order of its view. Of reservations it
// tells those in the pools alone where there are few.
func OfPools(t *lease.Table, v *plan.View) []Count {
	counts := t.CountPools(v.ID)
	out := make([]Count, len(counts))
	for i, n := range counts {
		out[i] = countOf(n)
		part := v.Parts[i]
		out[i].Size = addr.Total(part.Ranges)
		for _, e := range v.Exclusions {
			if part.Pool.Overlaps(e.Range) {
				out[i].Excluded += part.Pool.Size() - addr.Total(addr.Subtract([]addr.Range{part.Pool}, []addr.Range{e.Range}))
			}
		}
		out[i].Reserved = reservedIn(t.Plan(), v, part)
	}
	return out
}

const reservedMost = 4096 // reservations of a scope that are looked at one by one

func reservedIn(p *plan.Plan, v *plan.View, part plan.Part) (n uint64) {
	if p.ReservationCount(v.ID) > reservedMost {
		return 0
	}
	for _, r := range p.Reservations(v.ID) {
		if part.Pool.Contains(r.Address) {
			n++
		}
	}
	return n
}

// Key names what a series is of: a scope, one of its pools, a link, or all.
type Key struct {
	Scope plan.ID
	Pool  addr.Range // of the scope; or not valid
	Link  plan.ID
}

// All is the key of the whole.
var All = Key{}

// String is the key as it is stored, such as "scope 12".
func (k Key) String() string {
	switch {
	case k.Pool.Valid():
		return fmt.Sprintf("pool %d %s", k.Scope, k.Pool)
	case k.Scope != 0:
		return fmt.Sprintf("scope %d", k.Scope)
	case k.Link != 0:
		return fmt.Sprintf("link %d", k.Link)
	}
	return "all"
}

// ParseKey is the inverse of String.
func ParseKey(text string) (k Key, err error) {
	kind, rest, _ := strings.Cut(text, " ")
	number, pool, _ := strings.Cut(rest, " ")
	id, bad := strconv.ParseInt(number, 10, 64)
	switch kind {
	case "all":
		return All, nil
	case "link":
		return Key{Link: plan.ID(id)}, bad
	case "scope":
		return Key{Scope: plan.ID(id)}, bad
	case "pool":
		r, err := addr.ParseRange(pool)
		return Key{Scope: plan.ID(id), Pool: r}, errors.Join(bad, err)
	}
	return k, fmt.Errorf("%q names no series", text)
}

// Columns of what is kept of a sample.
const (
	ColSize = iota
	ColUsed
	ColActive
	ColOffered
	ColAbandoned
	ColHeadroom
	ColPartner
	ColNew // clients since the sample before; so are the next two
	ColReturned
	ColLeft
	columns
)

// Row is what is kept of one sample.
type Row [columns]uint32

// RowOf is what is kept of a count, with who came and left since the sample
// before. Numbers stop at 2^32-1.
func RowOf(c Count, n, returned, left uint64) Row {
	r := Row{}
	for i, v := range [columns]uint64{c.Size, c.Used(), c.Active, c.Offered, c.Abandoned, c.Headroom, c.Partner, n, returned, left} {
		r[i] = uint32(min(v, math.MaxUint32))
	}
	return r
}

// Columns of an hour.
const (
	HourSize = iota // at its end
	HourLow         // of what is used, as are the next two
	HourMean
	HourPeak
	HourActive    // the most
	HourAbandoned // the most
	HourHeadroom  // the least, of this server
	HourNew       // all, as are the next two
	HourReturned
	HourLeft
	HourSamples // 0: nothing is known of this hour
	hourColumns
)

// HourRow is what is kept of an hour.
type HourRow [hourColumns]uint32

// Fold makes an hour of its samples; those without a size and without use still
// count, for the hour is known.
func Fold(rows []Row) (h HourRow) {
	sum := uint64(0)
	for i, r := range rows {
		if i == 0 {
			h[HourLow], h[HourHeadroom] = r[ColUsed], r[ColHeadroom]
		}
		h[HourSize] = r[ColSize]
		h[HourLow], h[HourPeak] = min(h[HourLow], r[ColUsed]), max(h[HourPeak], r[ColUsed])
		h[HourActive], h[HourAbandoned] = max(h[HourActive], r[ColActive]), max(h[HourAbandoned], r[ColAbandoned])
		h[HourHeadroom] = min(h[HourHeadroom], r[ColHeadroom])
		h[HourNew], h[HourReturned], h[HourLeft] = h[HourNew]+r[ColNew], h[HourReturned]+r[ColReturned], h[HourLeft]+r[ColLeft]
		sum += uint64(r[ColUsed])
	}
	if n := len(rows); n > 0 {
		h[HourMean], h[HourSamples] = uint32(sum/uint64(n)), uint32(n)
	}
	return h
}

// Hour is the hour as forecasts want it.
func (h HourRow) Hour() Hour {
	return Hour{float64(h[HourLow]), float64(h[HourMean]), float64(h[HourPeak]), h[HourSamples] > 0}
}

// table is rows of numbers, all of one width.
type table interface {
	cell(row, column int) *uint32
	width() int
}

type minuteTable []Row

func (t minuteTable) cell(r, c int) *uint32 { return &t[r][c] }
func (t minuteTable) width() int            { return columns }

type hourTable []HourRow

func (t hourTable) cell(r, c int) *uint32 { return &t[r][c] }
func (t hourTable) width() int            { return hourColumns }

// pack writes a number of rows, column by column: each value as what it differs
// from the one above, and runs of none as 0 and their length.
func pack(t table, rows int) []byte {
	out := binary.AppendUvarint(nil, uint64(rows))
	for c := range t.width() {
		before, run := int64(0), uint64(0)
		flush := func() {
			if run > 0 {
				out = binary.AppendUvarint(binary.AppendVarint(out, 0), run)
				run = 0
			}
		}
		for r := range rows {
			v := int64(*t.cell(r, c))
			if v == before {
				run++
				continue
			}
			flush()
			out = binary.AppendVarint(out, v-before)
			before = v
		}
		flush()
	}
	return out
}

var errPacked = errors.New("samples are damaged")

func unpack(body []byte, most int, make func(rows int) table) error {
	next := func() (v int64, ok bool) {
		v, n := binary.Varint(body)
		body = body[max(n, 0):]
		return v, n > 0
	}
	rows, n := binary.Uvarint(body)
	if n <= 0 || rows > uint64(most) {
		return errPacked
	}
	body = body[n:]
	t := make(int(rows))
	for c := range t.width() {
		v := int64(0)
		for r := 0; r < int(rows); {
			d, ok := next()
			if !ok {
				return errPacked
			}
			run := uint64(1)
			if d == 0 {
				k, n := binary.Uvarint(body)
				if n <= 0 || k == 0 || k > rows-uint64(r) {
					return errPacked
				}
				body, run = body[n:], k
			}
			if v += d; v < 0 || v > math.MaxUint32 {
				return errPacked
			}
			for range run {
				*t.cell(r, c) = uint32(v)
				r++
			}
		}
	}
	if len(body) != 0 {
		return errPacked
	}
	return nil
}

// PackRows writes samples, an hour of them at the most.
func PackRows(rows []Row) []byte { return pack(minuteTable(rows), len(rows)) }

// UnpackRows is the inverse of PackRows.
func UnpackRows(body []byte) (rows []Row, err error) {
	err = unpack(body, 3600, func(n int) table { rows = make([]Row, n); return minuteTable(rows) })
	return rows, err
}

// PackHours writes the hours of a day.
func PackHours(rows []HourRow) []byte { return pack(hourTable(rows), len(rows)) }

// UnpackHours is the inverse of PackHours.
func UnpackHours(body []byte) (rows []HourRow, err error) {
	err = unpack(body, 1000, func(n int) table { rows = make([]HourRow, n); return hourTable(rows) })
	return rows, err
}

// ParseSamples reads lines of a time, in a zone where it does not say otherwise, and how many addresses were used then, with a
// comma between, as CSV files have them; a head is passed over. Times are of RFC
// 3339, or dates with or without a time of day, in UTC. Errors name the line.
func ParseSamples(lines [][]string, zone *time.Location) ([]Sample, error) {
	var out []Sample
	at, used := 0, 1
	for i, cells := range lines {
		if i == 0 && len(cells) > 1 {
			if _, err := ParseTime(cells[0], zone); err != nil && !slices.ContainsFunc(cells, isNumber) {
				at, used = -1, -1
				for c, name := range cells {
					switch strings.ToLower(strings.TrimSpace(name)) {
					case "time", "at":
						at = c
					case "used":
						used = c
					}
				}
				if at < 0 || used < 0 {
					return nil, errors.New("line 1: columns time and used are needed")
				}
				continue
			}
		}
		if len(cells) <= max(at, used) {
			return nil, fmt.Errorf("line %d: a time and a number are needed", i+1)
		}
		t, err := ParseTime(cells[at], zone)
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", i+1, err)
		}
		n, err := strconv.ParseFloat(strings.TrimSpace(cells[used]), 64)
		if err != nil || !(n >= 0) || n > math.MaxUint32 {
			return nil, fmt.Errorf("line %d: %q is no number of addresses", i+1, cells[used])
		}
		out = append(out, Sample{t, n})
	}
	if len(out) == 0 {
		return nil, errors.New("there is no sample in it")
	}
	for _, s := range out {
		if d := s.At.Sub(out[0].At); d > spanMost || d < -spanMost {
			return nil, fmt.Errorf("samples of %s and %s are too far apart; ten years are the most", out[0].At.Format(time.DateOnly), s.At.Format(time.DateOnly))
		}
	}
	return out, nil
}

func isNumber(cell string) bool {
	_, err := strconv.ParseFloat(strings.TrimSpace(cell), 64)
	return err == nil
}

const spanMost = 10 * 366 * 24 * time.Hour

// ParseTime reads a moment as people and programs write it, in a zone where it does
// not say otherwise.
func ParseTime(text string, zone *time.Location) (time.Time, error) {
	text = strings.TrimSpace(text)
	for _, form := range []string{time.RFC3339, "2006-01-02T15:04:05", "2006-01-02 15:04:05", "2006-01-02T15:04", "2006-01-02 15:04", time.DateOnly,
		"02.01.2006 15:04:05", "02.01.2006 15:04", "02.01.2006"} {
		if t, err := time.ParseInLocation(form, text, zone); err == nil {
			return t.UTC(), nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no time; write 2026-06-01T14:00:00Z", text)
}
