package capacity

import "math"

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
