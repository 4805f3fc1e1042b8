// Package series says how measures are kept for long: by steps of time, the finer ones for
// less long, each with its mean and its extremes, so that no peak is lost as steps get longer.
package series

import (
	"math"
	"time"

	"kestrel/internal/core/span"
)

// Step is a length of time by which measures are summed up.
type Step struct {
	Name string
	Long time.Duration
	Kept time.Duration // how long they are kept so
}

// Steps are the steps, the finest first. Each divides the next; days are of UTC.
func Steps() []Step {
	return []Step{{"quarter", 15 * time.Minute, 8 * span.Day}, {"hour", time.Hour, 92 * span.Day}, {"day", span.Day, 400 * span.Day}}
}

// most is how many steps a chart can show: more than it has pixels for are no use.
const most = 800

// Choose is the finest step of which all of a stretch of time is kept, and which is not too
// many for a chart; coarsest if none is.
func Choose(from, to, now time.Time) Step {
	all := Steps()
	for _, s := range all {
		if now.Sub(from) <= s.Kept && to.Sub(from) <= most*s.Long {
			return s
		}
	}
	return all[len(all)-1]
}

// Bucket is what was measured in a step. The zero value is nothing.
type Bucket struct {
	N           int // how often
	Sum         float64
	Least, Most float64
}

// Add enters a measure. What is no number is left out.
func (b *Bucket) Add(v float64) {
	if math.IsNaN(v) || math.IsInf(v, 0) {
		return
	}
	if b.N == 0 || v < b.Least {
		b.Least = v
	}
	if b.N == 0 || v > b.Most {
		b.Most = v
	}
	b.N++
	b.Sum += v
}

// Mean is that of what was measured; 0 if nothing was.
func (b Bucket) Mean() float64 {
	if b.N == 0 {
		return 0
	}
	return b.Sum / float64(b.N)
}
