// Package actor says who acts, and decides what they may do. It is the one place
// where that is decided: every request, from whatever interface, goes through
// May.
package actor

import "slices"

// Kind is what sort of actor it is.
type Kind string

// The kinds.
const (
	Person  Kind = "person"
	Token   Kind = "token" // a program, with the role that its token has
	Site    Kind = "site"  // a paired site, with what it was asked to pass on
	Service Kind = "service"
)

// Role is what an actor may do, each more than the one before.
type Role string

// The roles.
const (
	Viewer        Role = "viewer"        // looks
	Operator      Role = "operator"      // runs, pauses, pins, serves and starts from points
	Administrator Role = "administrator" // everything
)

// Roles lists them, least first.
func Roles() []Role { return []Role{Viewer, Operator, Administrator} }

// Rank orders roles, 0 the least; -1 is none of them and may do nothing.
func (r Role) Rank() int { return slices.Index(Roles(), r) }

// Actor is who acts, as the audit trail names them.
type Actor struct {
	Kind Kind
	// Name is what a person is called; of a token the token's name, of a site the
	// site's.
	Name string
	// For is the person that a token belongs to, or whom a site speaks for.
	For  string
	Role Role
	// Tags limit an actor to groups that carry one of them; none is no limit.
	Tags []string
	// From is where the request came from: an address, or a site's name.
	From string
	// PersonID and TokenID are the IDs of a person and of the token they came by, if
	// they came by one; empty of whoever is no person of this site.
	PersonID, TokenID string
	// Held says in a sentence what somebody has to do before they may do anything.
	Held string
}

// System is the service itself. Names of people cannot be like it: they are
// checked against reserved names, and it is a kind of its own in the trail.
func System() Actor { return Actor{Kind: Service, Name: "kestrel", Role: Administrator} }

// String names an actor for the trail. What stands before a colon is the site
// that speaks for somebody, which the service itself puts there.
func (a Actor) String() string {
	switch {
	case a.Kind == Token && a.For != "":
		return a.For + " (token " + a.Name + ")"
	case a.Kind == Site && a.For != "":
		return a.Name + ": " + a.For
	}
	return a.Name
}

// Need is what an act needs.
type Need struct {
	Role Role
	// Group says that the act is on one group, whose tags count. Without it the
	// act is on the site as a whole, which an actor limited to some groups may
	// look at but not change.
	Group bool
}

// Verdict is a decision, with the reason of a refusal in a sentence.
type Verdict struct {
	Allowed bool
	Why     string
	// Hidden says that the thing is to be treated as if it were not there: whoever
	// may not see a group must not learn that it exists.
	Hidden bool
}

// May decides whether an actor may do what has a need, on a group with tags.
func (a Actor) May(n Need, tags []string) Verdict {
	if a.Held != "" {
		return Verdict{Why: a.Held}
	}
	if a.Role.Rank() < 0 || n.Role.Rank() < 0 {
		return Verdict{Why: "This sign-in has no role here."}
	}
	if n.Group && !a.Sees(tags) {
		return Verdict{Why: "There is no such group for this sign-in.", Hidden: true}
	}
	if a.Role.Rank() < n.Role.Rank() {
		return Verdict{Why: "This needs the role " + string(n.Role) + "; " + a.String() + " is " + string(a.Role) + "."}
	}
	if !n.Group && len(a.Tags) > 0 && n.Role != Viewer {
		return Verdict{Why: a.String() + " is limited to some groups, and this concerns the whole site."}
	}
	return Verdict{Allowed: true}
}

// Sees tells whether an actor may see a group with tags.
func (a Actor) Sees(tags []string) bool {
	return len(a.Tags) == 0 || slices.ContainsFunc(a.Tags, func(t string) bool { return slices.Contains(tags, t) })
}
