package scope

// Words for what protects a machine, or why nothing does.
const (
	Protected   = "protected"   // chosen by hand for a group
	ByRule      = "by rule"     // in a group by its rule
	OnPurpose   = "left out"    // on purpose, with a reason
	Impossible  = "cannot be"   // with a reason and a mend
	LandedCopy  = "landed copy" // made from a point here
	Unprotected = "unprotected"
)

// States lists the words, the worst first.
func States() []string {
	return []string{Unprotected, Impossible, ByRule, Protected, OnPurpose, LandedCopy}
}

// Facts is what a machine's word follows from.
type Facts struct {
	Group   string // ID; empty if it is in none
	ByRule  bool
	LeftOut bool
	Barrier string
	Landed  bool
}

// State gives the word. What protects a machine goes before what is said of it.
func (f Facts) State() string {
	switch {
	case f.Group != "" && f.ByRule:
		return ByRule
	case f.Group != "":
		return Protected
	case f.LeftOut:
		return OnPurpose
	case f.Landed:
		return LandedCopy
	case f.Barrier != "":
		return Impossible
	}
	return Unprotected
}

// Counts is how many machines have which word.
type Counts map[string]int

// Total is of how many.
func (c Counts) Total() (n int) {
	for _, k := range c {
		n += k
	}
	return n
}

// Share is the coverage of a site: of the machines that are neither left out on purpose
// nor landed copies, the part that a group protects, from 0 to 1. It is 1 where there are
// none.
func (c Counts) Share() float64 {
	of := c.Total() - c[OnPurpose] - c[LandedCopy]
	if of == 0 {
		return 1
	}
	return float64(c[Protected]+c[ByRule]) / float64(of)
}
