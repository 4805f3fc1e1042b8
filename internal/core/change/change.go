// Package change is how much machines change: what was seen of them in windows of time,
// and what it makes expect of others.
package change

import (
	"cmp"
	"slices"
	"time"
)

// Sample is how many bytes of a machine's disks, each counted once however often it
// changed, had changed a while after an instant.
type Sample struct {
	From  time.Time
	After time.Duration
	Bytes int64
}

// Curve tells how many bytes, each counted once, change within a length of time. What is
// written again and again makes it flatter the longer it is.
type Curve []Stretch // from the shortest

// Stretch is a point of a curve.
type Stretch struct {
	Within time.Duration
	Bytes  float64
}

// Steady is the curve of what changes all the time, so many bytes a second, and never the
// same twice: a bound from above, where no more is known.
func Steady(rate float64) Curve {
	if rate <= 0 {
		return nil
	}
	return Curve{{time.Hour, rate * time.Hour.Seconds()}}
}

// Typical is the curve of the mean over samples, and Busiest of the most that was seen.
// Samples of the same stretch are taken together; a longer stretch never has less than a
// shorter one, since what changed has changed.
func Typical(all []Sample) Curve {
	return over(all, func(bytes []float64) float64 {
		sum := 0.0
		for _, b := range bytes {
			sum += b
		}
		return sum / float64(len(bytes))
	})
}

// Busiest is the curve of the most that was seen in any window.
func Busiest(all []Sample) Curve {
	return over(all, slices.Max[[]float64])
}

func over(all []Sample, f func([]float64) float64) Curve {
	by := map[time.Duration][]float64{}
	for _, s := range all {
		if s.After > 0 {
			by[s.After] = append(by[s.After], float64(s.Bytes))
		}
	}
	var out Curve
	for d, bytes := range by {
		out = append(out, Stretch{d, f(bytes)})
	}
	slices.SortFunc(out, func(a, b Stretch) int { return cmp.Compare(a.Within, b.Within) })
	for i := 1; i < len(out); i++ {
		out[i].Bytes = max(out[i].Bytes, out[i-1].Bytes)
	}
	return out
}

// Within is how many bytes change within a length of time: along the curve where it is
// known; below it by the rate of its beginning, which never is too little; beyond it by
// the rate of its last stretch, which is what is still new there.
func (c Curve) Within(d time.Duration) float64 {
	if len(c) == 0 || d <= 0 {
		return 0
	}
	before := Stretch{}
	for _, s := range c {
		if d <= s.Within {
			return before.Bytes + (s.Bytes-before.Bytes)*float64(d-before.Within)/float64(s.Within-before.Within)
		}
		before = s
	}
	last, prior := c[len(c)-1], Stretch{}
	if len(c) > 1 {
		prior = c[len(c)-2]
	}
	rate := (last.Bytes - prior.Bytes) / float64(last.Within-prior.Within)
	return last.Bytes + rate*float64(d-last.Within)
}

// Rate is what has to be copied in bytes a second where cycles start so often.
func (c Curve) Rate(every time.Duration) float64 {
	if every <= 0 {
		return 0
	}
	return c.Within(every) / every.Seconds()
}

// Sum adds curves of machines that are captured together. Where one has no stretch that
// another has, it is reckoned along its curve.
func Sum(cs ...Curve) Curve {
	lengths := map[time.Duration]bool{}
	for _, c := range cs {
		for _, s := range c {
			lengths[s.Within] = true
		}
	}
	var out Curve
	for d := range lengths {
		total := 0.0
		for _, c := range cs {
			total += c.Within(d)
		}
		out = append(out, Stretch{d, total})
	}
	slices.SortFunc(out, func(a, b Stretch) int { return cmp.Compare(a.Within, b.Within) })
	return out
}

// Hour is what changed in an hour of the week, 0 being Monday from midnight, as a share of
// the mean hour: 1 is as usual.
type Hour struct {
	Hour  int
	Share float64
}

// Week tells which hours of the week are busier than others, from whole hours that were
// seen, in a zone. Hours that were not seen are not in it.
func Week(all []Sample, in *time.Location) []Hour {
	sum, n := map[int]float64{}, map[int]float64{}
	total, count := 0.0, 0.0
	for _, s := range all {
		if s.After != time.Hour {
			continue
		}
		at := s.From.In(in)
		h := (int(at.Weekday())+6)%7*24 + at.Hour()
		sum[h] += float64(s.Bytes)
		n[h]++
		total += float64(s.Bytes)
		count++
	}
	var out []Hour
	for h := range 24 * 7 {
		if n[h] > 0 && total > 0 {
			out = append(out, Hour{h, sum[h] / n[h] / (total / count)})
		}
	}
	return out
}

// Share is how busy the hour of the week is that an instant is in, in the instant's zone: 1 is
// as usual, and what is taken for an hour that was not seen.
func Share(hours []Hour, t time.Time) float64 {
	if len(hours) == 0 {
		return 1
	}
	hour := (int(t.Weekday())+6)%7*24 + t.Hour()
	for _, b := range hours {
		if b.Hour == hour {
			return b.Share
		}
	}
	return 1
}
