package demo

import (
	"slices"
	"testing"

	"yarnpost/core/capacity"
)

// Forecasts are better than a straight line and than last week's value, or hardly
// worse where a straight line is all there is, and are as sure as they say.
func TestForecastsAreWorthIt(t *testing.T) {
	for _, kind := range SeriesKinds {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			var sum capacity.Score
			seeds := uint64(6)
			for seed := range seeds {
				r := capacity.BackTest(SeriesOf(kind, seed+1, 8))
				sum.Own += r.Own / float64(seeds)
				sum.Line += r.Line / float64(seeds)
				sum.Week += r.Week / float64(seeds)
				sum.Covered += r.Covered / float64(seeds)
			}
			t.Logf("%-15s own %6.2f  line %6.2f  week %6.2f  covered %.2f", kind, sum.Own, sum.Line, sum.Week, sum.Covered)
			if plain := kind == "flat" || kind == "line"; plain && sum.Own > 1.2*sum.Line || !plain && (sum.Own >= sum.Line ||
				sum.Own >= sum.Week) {
				t.Errorf("%s: %.2f addresses wrong, a straight line %.2f, last week's value %.2f", kind, sum.Own, sum.Line, sum.Week)
			}
			if sum.Covered < 0.7 || sum.Covered > 0.9 {
				t.Errorf("%s: %.0f %% between low and high", kind, 100*sum.Covered)
			}
		})
	}
}

// The date on which a pool runs out is better than a line through the weekly peaks, and
// as sure as it says.
func TestDatesAreWorthIt(t *testing.T) {
	for _, kind := range GrowingKinds {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			r := ScoreDates(kind, 16)
			t.Logf("%-15s %2d: in %4.1f days  own %5.2f  line %5.2f (%.2f)  covered %.2f  width %.2f", kind, r.Series, r.Days, r.Own,
				r.Line, r.Own/r.Line, r.Covered, r.Width)
			if r.Own > 1.15*r.Line { // two dozen series are not many
				t.Errorf("%.1f days off, a line through the weekly peaks %.1f", r.Own, r.Line)
			}
			if r.Covered < 0.7 || r.Covered > 0.97 {
				t.Errorf("%.0f %% between early and late", 100*r.Covered)
			}
			if slices.Index(GrowingKinds, kind) < ClearKinds && r.Width > 0.34 {
				t.Errorf("nothing is in doubt, and early to late is %.0f %% of what can be seen", 100*r.Width)
			}
		})
	}
}
