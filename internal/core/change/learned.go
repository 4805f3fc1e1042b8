package change

import (
	"cmp"
	"math"
	"slices"
	"time"
)

// Learned is a curve that is learned by looking, again and again, at how much has changed a
// while after a capture. The zero value knows nothing. It is not safe for use at the same
// time.
type Learned struct{ by map[int]*seen }

// seen is what was seen of lengths of about the same, smoothed.
type seen struct {
	n             int
	within, bytes float64 // seconds and bytes
}

const (
	// perDoubling is how finely lengths are told apart.
	perDoubling = 2
	// newest is the share of what was seen last in what is kept.
	newest = 0.2
	// seenOften is how often a length has to be seen before it counts.
	seenOften = 2
)

// See notes that so many bytes had changed a while after a capture.
func (l *Learned) See(after time.Duration, bytes int64) {
	if after < time.Second {
		return
	}
	k := int(math.Floor(perDoubling * math.Log2(after.Seconds())))
	if l.by == nil {
		l.by = map[int]*seen{}
	}
	s := l.by[k]
	if s == nil {
		l.by[k] = &seen{1, after.Seconds(), float64(bytes)}
		return
	}
	s.n++
	share := max(newest, 1/float64(s.n))
	s.within += share * (after.Seconds() - s.within)
	s.bytes += share * (float64(bytes) - s.bytes)
}

// Curve is what is known.
func (l *Learned) Curve() Curve {
	var out Curve
	for _, s := range l.by {
		if s.n >= seenOften {
			out = append(out, Stretch{time.Duration(s.within * float64(time.Second)), s.bytes})
		}
	}
	slices.SortFunc(out, func(a, b Stretch) int { return cmp.Compare(a.Within, b.Within) })
	for i := 1; i < len(out); i++ {
		out[i].Bytes = max(out[i].Bytes, out[i-1].Bytes)
	}
	return slices.CompactFunc(out, func(a, b Stretch) bool { return a.Within == b.Within })
}
