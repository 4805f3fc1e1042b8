package schedule

import (
	"hash/fnv"
	"slices"
	"time"
)

// Measured is a cycle that has sealed.
type Measured struct {
	Took  time.Duration
	Copy  time.Duration // of it, reading and shipping
	Bytes int64         // that crossed the link
}

// Expect tells how long the next cycle will take, from the newest ones, newest first, and
// the bytes that it is expected to send; bytes is 0 if that is not known. What is not
// copying is taken as it was lately; bytes as fast as they crossed lately, or as the link
// now allows, in bytes a second (0: no limit). It is never less than the middle of the last
// three, so that one that was short by chance does not make the next start too late.
func Expect(newest []Measured, bytes, limit float64) time.Duration {
	if len(newest) == 0 {
		return 0
	}
	var took, still []time.Duration
	var sent, seconds float64
	for i, m := range newest {
		if i < 3 {
			took = append(took, m.Took)
		}
		if i < 8 {
			still = append(still, max(0, m.Took-m.Copy))
			sent, seconds = sent+float64(m.Bytes), seconds+m.Copy.Seconds()
		}
	}
	least := middle(took)
	if bytes <= 0 || sent <= 0 || seconds <= 0 {
		return max(least, slices.Max(took))
	}
	rate := sent / seconds
	if limit > 0 {
		rate = min(rate, limit)
	}
	return max(least, middle(still)+time.Duration(bytes/rate*float64(time.Second)))
}

// Still is how much of a cycle is not copying, in the middle of the newest ones.
func Still(newest []Measured) time.Duration {
	if len(newest) == 0 {
		return 0
	}
	var out []time.Duration
	for _, m := range newest[:min(8, len(newest))] {
		out = append(out, max(0, m.Took-m.Copy))
	}
	return middle(out)
}

// Work is how long a link would be taken by what changes in the longest time between two
// captures that keeps a target: of is how long it is taken by what changes within a gap. The
// gap is the target less the cycle's own time, work included: the work that fits is found by
// halving, since it falls as its gap does.
func Work(target, still time.Duration, of func(gap time.Duration) time.Duration) time.Duration {
	low, high := time.Duration(0), target-still
	for range 12 {
		if middle := (low + high) / 2; of(target-still-middle) > middle {
			low = middle
		} else {
			high = middle
		}
	}
	return max(0, (low+high)/2)
}

// middle is the upper median.
func middle(ds []time.Duration) time.Duration {
	s := slices.Clone(ds)
	slices.Sort(s)
	return s[len(s)/2]
}

// spreadOver is how far the grids of groups lie apart at most; what divides a day or an hour
// divides it, so that all phases of a cadence come up alike.
const spreadOver = 30 * 24 * time.Hour

// together is how many groups of one cadence may start at about the same time: as many as a
// site usually has places.
const together = 4

// Anchor is where the grid of a group's starts lies. That is when it was made, unless several
// others of its cadence, whose anchors are given, start within a tenth of it from there: then
// it is at a place that depends on the group's ID, so that groups that were made at the same
// moment do not all start at the same moments.
func Anchor(id string, made time.Time, every time.Duration, others []time.Time) time.Time {
	if every <= 0 {
		return made
	}
	near := 0
	for _, o := range others {
		apart := made.Sub(o) % every
		if apart = min(apart.Abs(), every-apart.Abs()); apart < every/10 {
			near++
		}
	}
	if near < together {
		return made
	}
	return spread(id, made)
}

// spread is an instant before another, in whole seconds, that depends on an ID.
func spread(id string, made time.Time) time.Time {
	h := fnv.New64a()
	_, _ = h.Write([]byte(id))
	x := h.Sum64()
	x ^= x >> 33 // the low bits of FNV are its worst (MurmurHash3's finalizer)
	x *= 0xff51afd7ed558ccd
	x ^= x >> 33
	return made.Add(-time.Duration(x%uint64(spreadOver/time.Second)) * time.Second)
}
