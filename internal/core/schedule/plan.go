package schedule

import (
	"cmp"
	"slices"
	"strings"
	"time"
)

// Planned is a start that is foretold, and how long its cycle is expected to take.
type Planned struct {
	Group  string // ID
	Link   string // that it crosses
	From   string // platform that it reads
	At     time.Time
	Length time.Duration // expected; zero if that is not known
	Note   string
	// Clash names the groups whose cycles run at the same time over the same link or from
	// the same platform.
	Clash []string
}

// Clashes puts starts into order and marks those that are in each other's way: their
// cycles run at the same time, over the same link or from the same platform. A cycle of
// which nothing is known is taken to last no time, and clashes with what starts at the
// same instant.
func Clashes(all []Planned) []Planned {
	out := slices.Clone(all)
	slices.SortFunc(out, func(a, b Planned) int {
		return cmp.Or(a.At.Compare(b.At), strings.Compare(a.Group, b.Group))
	})
	note := func(p *Planned, other string) {
		if !slices.Contains(p.Clash, other) {
			p.Clash = append(p.Clash, other)
		}
	}
	var longest time.Duration
	for _, p := range out {
		longest = max(longest, p.Length)
	}
	for i := range out {
		a := &out[i]
		a.Clash = slices.Clone(a.Clash)
		for j := i - 1; j >= 0 && a.At.Sub(out[j].At) <= longest; j-- {
			b := &out[j]
			together := a.At.Equal(b.At) || a.At.Before(b.At.Add(b.Length))
			if a.Group != b.Group && together && (a.Link == b.Link || a.From == b.From) {
				note(a, b.Group)
				note(b, a.Group)
			}
		}
	}
	return out
}
