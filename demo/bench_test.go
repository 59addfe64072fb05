package demo

import (
	"testing"

	"yarnpost/core/capacity"
)

func BenchmarkPredict(b *testing.B) {
	s := GrowingSeries("weekend", 1)
	s.Hours = s.Hours[:84*24]
	b.ReportAllocs()
	for b.Loop() {
		capacity.Predict(s, 1000)
	}
}
