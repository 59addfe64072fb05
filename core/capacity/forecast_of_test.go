package capacity

import "testing"

// What is expected of a pool of another size is what is predicted of one.
func TestForecastOfAnotherSize(t *testing.T) {
	s := made(42, func(d, _ int) float64 { return 200 + 10*float64(d) })
	for _, size := range []uint64{650, 700, 900, 5000} {
		of, own := Predict(s, 800).Of(size), Predict(s, float64(size))
		if of.Verdict != own.Verdict || !of.Date.Equal(own.Date) || !of.Early.Equal(own.Early) || of.Text() != own.Text() {
			t.Errorf("of %d addresses: %s; predicted: %s", size, of.Text(), own.Text())
		}
	}
	if f := Predict(Series{}, 200).Of(100); f.Verdict != HistoryThin {
		t.Errorf("without history: %v", f.Verdict)
	}
}
