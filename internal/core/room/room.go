// Package room foretells when a point store is full.
package room

import "time"

// Sample is how many bytes a store held at an instant.
type Sample struct {
	At    time.Time
	Bytes int64
}

const (
	// Every is how far samples are apart at least.
	Every = 10 * time.Minute
	// Span is how far back the pace is measured.
	Span = 24 * time.Hour
	// least is how long has to be looked at before anything is said.
	least = 30 * time.Minute
)

// Add adds a sample to those of the last day, oldest first; one that comes too soon after
// the last is left out.
func Add(all []Sample, s Sample) []Sample {
	if n := len(all); n > 0 && s.At.Sub(all[n-1].At) < Every && !s.At.Before(all[n-1].At) {
		return all
	}
	for len(all) > 0 && (s.At.Sub(all[0].At) > Span || s.At.Before(all[0].At)) {
		all = all[1:]
	}
	return append(all, s)
}

// Fills foretells when room for so many more bytes is gone, at the pace since the oldest
// sample; false if it does not grow, or is not known well enough.
func Fills(all []Sample, bytes, room int64, now time.Time) (time.Time, bool) {
	if len(all) == 0 || room < 0 {
		return now, room < 0
	}
	took, grew := now.Sub(all[0].At), bytes-all[0].Bytes
	if took < least || grew <= 0 {
		return time.Time{}, false
	}
	left := float64(room) / float64(grew) * float64(took)
	if left > float64(3650*Span) {
		return time.Time{}, false
	}
	return now.Add(time.Duration(left)), true
}
