package demo

import (
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
			seeds := uint64(8)
			for seed := range seeds {
				r := capacity.BackTest(SeriesOf(kind, seed+1, 8))
				sum.Own += r.Own / float64(seeds)
				sum.Line += r.Line / float64(seeds)
				sum.Week += r.Week / float64(seeds)
				sum.Covered += r.Covered / float64(seeds)
			}
			t.Logf("%-15s own %6.2f  line %6.2f  week %6.2f  covered %.2f", kind, sum.Own, sum.Line, sum.Week, sum.Covered)
			if plain := kind == "flat" || kind == "line"; plain && sum.Own > 1.2*sum.Line || !plain && (sum.Own >= sum.Line || sum.Own >= sum.Week) {
				t.Errorf("%s: %.2f addresses wrong, a straight line %.2f, last week's value %.2f", kind, sum.Own, sum.Line, sum.Week)
			}
			if sum.Covered < 0.7 || sum.Covered > 0.9 {
				t.Errorf("%s: %.0f %% between low and high", kind, 100*sum.Covered)
			}
		})
	}
}
