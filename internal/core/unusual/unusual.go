// Package unusual tells changes of a group's disks that are not as usual: far more of them
// than ever at that hour, suddenly incompressible ones as after an encryption, or much that
// was emptied. It says what was seen, not why: a restored database is unusual as well.
package unusual

import (
	"fmt"
	"slices"
	"time"

	"kestrel/internal/core/span"
)

// Seen is what a cycle of changes found, in bytes.
type Seen struct {
	Gap     time.Duration // since the capture before
	Changed int64
	Zeroed  int64 // of them, what is empty now
	Shipped int64 // what the other side lacked
	Wire    int64 // what that took when it was compressed
}

// Dense is what crossed the link and could not be made smaller.
func (s Seen) Dense() int64 {
	if s.Shipped > 0 && float64(s.Wire) >= denseFrom*float64(s.Shipped) {
		return s.Wire
	}
	return 0
}

// Usual is what is usual for a group.
type Usual struct {
	// Lately is what cycles found lately that were as usual, in any order.
	Lately []Seen
	// Known is since how long the rest is known. Most, Dense and Zeroed are the most that one
	// cycle found about this hour of a day in that time.
	Known               time.Duration
	Most, Dense, Zeroed int64
}

const (
	// enough is how many cycles have to be known, and knownFor for how long, before anything
	// is said: what happens once a day must have been seen.
	enough   = 12
	knownFor = 25 * time.Hour
	// times is how many times the most that was ever seen is unusual.
	times = 6
	// share of what the disks hold has to be affected, and floor in bytes: small disks
	// change as a whole now and then.
	share = 0.05
	floor = 8 << 20
	// denseFrom is the share that is left of what cannot be compressed; usualRatio is what
	// the usual has to be below, for something to be sudden.
	denseFrom  = 0.95
	usualRatio = 0.85
)

// Judge says what is unusual of what a cycle found, of disks that hold so many bytes; empty
// if nothing is, or too little is known to tell.
func Judge(u Usual, s Seen, used int64) string {
	if len(u.Lately) < enough || u.Known < knownFor {
		return ""
	}
	much := max(floor, int64(share*float64(used)))
	most, zeroed := u.Most, u.Zeroed
	var ratios []float64
	for _, x := range u.Lately {
		most, zeroed = max(most, stretched(x.Changed, s.Gap, x.Gap)), max(zeroed, stretched(x.Zeroed, s.Gap, x.Gap))
		if x.Shipped >= 1<<20 {
			ratios = append(ratios, float64(x.Wire)/float64(x.Shipped))
		}
	}
	if dense := s.Dense(); dense > much && dense > times*max(1, u.Dense) && len(ratios) >= enough/2 && median(ratios) <= usualRatio {
		return fmt.Sprintf("%s that changed cannot be compressed, where %.0f %% was left of it before: encrypted data looks like that.", span.Bytes(float64(dense)), 100*median(ratios))
	}
	if s.Zeroed > much && s.Zeroed > times*max(1, zeroed) {
		return fmt.Sprintf("%s were emptied, and %s at most before.", span.Bytes(float64(s.Zeroed)), span.Bytes(float64(zeroed)))
	}
	if s.Changed > much && s.Changed > times*max(1, most) {
		return fmt.Sprintf("%s had changed, and %s at most before.", span.Bytes(float64(s.Changed)), span.Bytes(float64(most)))
	}
	return ""
}

// stretched is what a longer time would have found, if things went on as they did.
func stretched(bytes int64, gap, of time.Duration) int64 {
	if of <= 0 || gap <= of {
		return bytes
	}
	return int64(float64(bytes) * float64(gap) / float64(of))
}

func median(xs []float64) float64 {
	xs = slices.Sorted(slices.Values(xs))
	return xs[len(xs)/2]
}
