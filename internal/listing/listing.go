// Package listing orders and cuts lists, with one set of rules for every list that
// the service gives.
package listing

import (
	"maps"
	"slices"
	"strings"

	"kestrel/internal/problem"
)

// MaxPage is the most entries that a page has.
const MaxPage = 10_000

// Page says which stretch of a list is wanted, in which order.
type Page struct {
	Sort        string // name of an order; "-" before it turns it round; empty is the list's own order
	Limit, Skip int    // at most so many (0: all), without the first so many
}

// Check refuses a stretch that cannot be, by the parameter's name.
func (p Page) Check() error {
	if p.Limit < 0 || p.Limit > MaxPage {
		return problem.Invalid("limit", "A page has 1 to %d entries; leave it out for all.", MaxPage)
	}
	if p.Skip < 0 {
		return problem.Invalid("skip", "Give 0 or more.")
	}
	return nil
}

// Named checks the order of p against those that there are, and tells its name
// (empty if none is asked for) and whether it is turned round.
func (p Page) Named(known ...string) (name string, down bool, err error) {
	name, down = strings.CutPrefix(p.Sort, "-")
	if p.Sort == "" || slices.Contains(known, name) {
		return name, down, nil
	}
	slices.Sort(known)
	return "", false, problem.Invalid("sort", "%q is none of %s; put - before it to turn it round.", p.Sort, strings.Join(known, ", "))
}

// Orders are the orders that a list has, by name.
type Orders[T any] map[string]func(a, b T) int

// Of sorts all as p asks, by own where p asks for nothing or leaves entries equal,
// and gives the stretch that p wants. A sort, limit or skip that cannot be is
// refused.
func (o Orders[T]) Of(all []T, own func(a, b T) int, p Page) ([]T, error) {
	name, down, err := p.Named(slices.Collect(maps.Keys(o))...)
	if err != nil {
		return nil, err
	}
	if err := p.Check(); err != nil {
		return nil, err
	}
	by := o[name]
	slices.SortStableFunc(all, func(a, b T) int {
		c := 0
		if by != nil {
			c = by(a, b)
		}
		if down {
			c = -c
		}
		if c == 0 {
			c = own(a, b)
		}
		return c
	})
	return Cut(all, p), nil
}

// Cut gives the stretch of all that p wants.
func Cut[T any](all []T, p Page) []T {
	all = all[min(p.Skip, len(all)):]
	if p.Limit > 0 {
		all = all[:min(p.Limit, len(all))]
	}
	return all
}

// Fold compares texts as people sort them: capitals and small letters alike.
func Fold(a, b string) int { return strings.Compare(strings.ToLower(a), strings.ToLower(b)) }

// Matches tells whether every word of query is in one of the texts.
func Matches(query string, texts ...string) bool {
	all := strings.ToLower(strings.Join(texts, "\n"))
	for _, word := range strings.Fields(strings.ToLower(query)) {
		if !strings.Contains(all, word) {
			return false
		}
	}
	return true
}
