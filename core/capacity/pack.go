package capacity

import (
	"encoding/binary"
	"errors"
	"math"
)

// table is rows of numbers, all of one width.
type table interface {
	cell(row, column int) *uint32
	width() int
}

type minuteTable []Row

func (t minuteTable) cell(r, c int) *uint32 { return &t[r][c] }

func (t minuteTable) width() int { return columns }

type hourTable []HourRow

func (t hourTable) cell(r, c int) *uint32 { return &t[r][c] }

func (t hourTable) width() int { return hourColumns }

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
