package schedule

import "time"

const (
	// firstShare is what a first copy needs of a link, for want of a time by which it is
	// needed: enough to get on beside the others, all of which they do not use, and too
	// little to make them late.
	firstShare = 0.1
	leastShare = 0.001
)

// share is a cycle's weight where it shares a limited link: what it needs of the link to be
// sealed in time, times the weight of its group's priority. Cycles of which each gets at
// least what it needs are all in time, where that can be; equal shares would let a large
// cycle that has hours take the link from small ones that have minutes. Where it is not
// known how long it will copy, priority alone counts.
//
// One that takes longer than others can be kept waiting, which is short, gets less the longer
// it is, whatever it needs: better it is late than all of those.
func (f *Facts) share(now time.Time, short time.Duration) float64 {
	w := f.weight()
	switch {
	case f.behind():
		return w * leastShare * SlowLane
	case f.Captured.IsZero():
		return w * firstShare
	case f.Copy <= 0:
		return w
	}
	left := f.Captured.Add(f.Target).Sub(now) - f.Still
	need := float64(f.Copy) / float64(max(left, f.Copy))
	if short > 0 && f.Copy > short {
		need = min(need, float64(short)/float64(f.Copy))
	}
	return w * max(leastShare, need)
}
