// Package consent decides which acts need a second person, and who may be that.
package consent

import (
	"slices"
	"time"

	"kestrel/internal/core/actor"
)

// Kind is a sort of act that a site may want two people for.
type Kind string

// The kinds.
const (
	DeletePoints Kind = "delete-points" // delete points, or keep fewer of them
	EndGroups    Kind = "end-groups"    // end groups and delete their points
	Unpair       Kind = "unpair"        // remove links, or let a site come with another key
	People       Kind = "people"        // make or remove administrators, or what they sign in with
	Safeguards   Kind = "safeguards"    // change what needs a second person
)

// Kinds lists them.
func Kinds() []Kind { return []Kind{DeletePoints, EndGroups, Unpair, People, Safeguards} }

// Complete adds what needs a second person where anything does: one person could change
// the rules first, or make the one who consents, and then act alone. The order is that of
// Kinds.
func Complete(kinds []string) []string {
	out := []string{}
	for _, k := range Kinds() {
		if slices.Contains(kinds, string(k)) || len(kinds) > 0 && (k == People || k == Safeguards) {
			out = append(out, string(k))
		}
	}
	return out
}

// Rules is what a site wants.
type Rules struct {
	Kinds       []Kind
	WaivedUntil time.Time // nobody has to consent until then
}

// Needed tells whether an act needs a second person now, also where the rules were not
// completed.
func (r Rules) Needed(k Kind, now time.Time) bool {
	if len(r.Kinds) == 0 || now.Before(r.WaivedUntil) {
		return false
	}
	return k == Safeguards || k == People || slices.Contains(r.Kinds, k)
}

// Asked is an act that waits.
type Asked struct {
	PersonID string // who asks, themselves or by a token
	Until    time.Time
	Tags     []string // of the group that it is on
	Group    bool     // whether it is on one
}

// Verdict is a decision, with the reason of a refusal in a sentence.
type Verdict struct {
	Allowed bool
	Why     string
}

// MayGive decides whether somebody may consent to what another asks: an administrator who
// could do it themselves and is somebody else, by whatever token either came.
func MayGive(a Asked, who actor.Actor, now time.Time) Verdict {
	switch {
	case who.PersonID == "":
		return Verdict{Why: "Only people consent."}
	case who.PersonID == a.PersonID:
		return Verdict{Why: "This takes a second person: " + who.String() + " asked for it."}
	case !now.Before(a.Until):
		return Verdict{Why: "It was to be answered before; it has to be asked for again."}
	}
	if v := who.May(actor.Need{Role: actor.Administrator, Group: a.Group}, a.Tags); !v.Allowed {
		return Verdict{Why: v.Why}
	}
	return Verdict{Allowed: true}
}
