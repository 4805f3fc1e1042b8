// Package term decides at which of two sites a group is home. A group's term is a
// number that only rises; whoever holds the higher one is home. The machine here
// is pure: it is told what happens and gives the new state, so that any order of
// messages, restarts and cuts of the link can be tried.
package term

import "fmt"

// Role is what a site is to a group.
type Role string

// The roles.
const (
	Home     Role = "home"     // runs it, and sends its points
	Recovery Role = "recovery" // keeps its points
	Ceded    Role = "ceded"    // was home, and has given it away for good in this term
	Ended    Role = "ended"    // the group is no more; only points are left
)

// State is what one site knows. The zero value knows nothing of the group.
type State struct {
	Role Role
	Term int64
}

// Grant lets the other site become home in a term. Home gives it after it has
// ceded, so that of two sites at most one is ever home.
type Grant struct{ Term int64 }

// Report is what a site that is home says of itself.
type Report struct{ Term int64 }

// Outcome of hearing a report.
type Outcome string

// The outcomes.
const (
	Followed Outcome = "followed" // the sender is home, and we are its recovery site
	Refused  Outcome = "refused"  // the sender has a lower term; it has to stand down
	Yielded  Outcome = "yielded"  // the sender has a higher term; we have stood down
)

// New is the state of a site where a group is made.
func New() State { return State{Role: Home, Term: 1} }

// Hear takes the report of a site that says it is home.
func (s State) Hear(r Report) (State, Outcome) {
	switch {
	case r.Term <= 0 || r.Term < s.Term:
		return s, Refused
	case s.Role == Home || s.Role == Ceded:
		if r.Term == s.Term {
			return s, Refused // two never have the same; this one is not to be believed
		}
		return State{Recovery, r.Term}, Yielded
	case s.Role == Recovery && r.Term > s.Term:
		return State{Recovery, r.Term}, Followed
	}
	return State{Recovery, r.Term}, Followed
}

// Cede gives a group away: home stops, and the grant lets the other site take it.
// It may be asked for again, and gives the same grant.
func (s State) Cede() (State, Grant, error) {
	if s.Role != Home && s.Role != Ceded {
		return s, Grant{}, fmt.Errorf("only the home site gives a group away, and this is its %s site", s.Role)
	}
	return State{Ceded, s.Term}, Grant{s.Term + 1}, nil
}

// Take makes the recovery site home, with a grant. A grant of an earlier term, or
// one that was used, is refused.
func (s State) Take(g Grant) (State, error) {
	if s.Role != Recovery {
		return s, fmt.Errorf("only the recovery site takes a group over, and this is its %s site", s.Role)
	}
	if g.Term != s.Term+1 {
		return s, fmt.Errorf("the grant is for term %d, and the next is %d", g.Term, s.Term+1)
	}
	return State{Home, g.Term}, nil
}

// Seize makes the recovery site home without asking: home is gone, or cannot be reached. If
// it lives, two sites run the group until it hears of the higher term and stands down.
func (s State) Seize() (State, error) {
	if s.Role != Recovery && s.Role != Ended {
		return s, fmt.Errorf("only the recovery site takes a group over, and this is its %s site", s.Role)
	}
	return State{Home, s.Term + 1}, nil
}

// Return gives a group back to the site that was home before: that may be home in the term
// that is granted, in which this one is its recovery site from now on. It may be done of a
// group that was never taken: home may have ceded it, and that grant may still be on its way.
// The term in between is the one that it was for, and is skipped: of two sites each is only
// ever home in every other term, and so two are never home in the same.
func (s State) Return() (State, Grant, error) {
	switch s.Role {
	case Home:
		return State{Recovery, s.Term + 1}, Grant{s.Term + 1}, nil
	case Recovery:
		return State{Recovery, s.Term + 2}, Grant{s.Term + 2}, nil
	}
	return s, Grant{}, fmt.Errorf("only who holds a group, or keeps its points, gives it back, and this is its %s site", s.Role)
}

// Resume makes a site home again to which the group was returned. A return of the past is
// refused.
func (s State) Resume(g Grant) (State, error) {
	if s.Role == Ended || s.Role == "" || g.Term <= s.Term {
		return s, fmt.Errorf("the group was returned for term %d, and this is its %s site in term %d", g.Term, s.Role, s.Term)
	}
	return State{Home, g.Term}, nil
}

// End is the end of a group at a site.
func (s State) End() State { return State{Ended, s.Term} }

// MayBring tells whether blocks of a group may come from a site with a term.
func (s State) MayBring(term int64) bool { return s.Role == Recovery && s.Term == term }
