package peering

import (
	"slices"
	"strings"
	"time"

	"kestrel/internal/core/scope"
)

// maxMachines bounds what a site may say of how many machines it has.
const maxMachines = 10_000_000

// covered notes what a site says of its own machines: words that are known, with counts
// that can be.
func (p *Peering) covered(s *state, said map[string]int) {
	counts := scope.Counts{}
	for word, n := range said {
		if slices.Contains(scope.States(), word) && n >= 0 && n <= maxMachines {
			counts[word] = n
		}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	s.covered, s.coveredAt = counts, p.Clock.Now()
}

// Covered is what a paired site last said of its own machines.
type Covered struct {
	Site   string
	Counts scope.Counts
	At     time.Time
}

// Covered lists them by name.
func (p *Peering) Covered() []Covered {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := []Covered{}
	for _, s := range p.byID {
		if !s.coveredAt.IsZero() {
			out = append(out, Covered{Site: s.rec.PeerName, Counts: s.covered, At: s.coveredAt.UTC()})
		}
	}
	slices.SortFunc(out, func(a, b Covered) int { return strings.Compare(a.Site, b.Site) })
	return out
}
