package weigh

import (
	"testing"

	"uakari/internal/fact"
)

// BenchmarkAgain weighs a set again with one fact more, as a trace does after
// each batch that lands.
func BenchmarkAgain(b *testing.B) {
	names, sets := recorded(b)
	small, large := sets[names[0]], sets[names[0]]
	for _, name := range names {
		if len(sets[name].Facts) < len(small.Facts) {
			small = sets[name]
		}
		if len(sets[name].Facts) > len(large.Facts) {
			large = sets[name]
		}
	}
	for _, c := range []struct {
		name string
		set  fact.Set
	}{{"small", small}, {"large", large}} {
		b.Run(c.name, func(b *testing.B) {
			set := subset(c.set, func(int) bool { return true })
			b.ReportMetric(float64(len(set.Facts)), "facts")
			more := set.Facts[len(set.Facts)-1]
			for b.Loop() {
				Weigh(set.With(more))
			}
		})
	}
}
