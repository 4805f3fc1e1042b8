package alert

import (
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"kestrel/internal/core/cadence"
	"kestrel/internal/core/span"
)

// Rule says when an alert of a kind is raised, and who is told.
type Rule struct {
	Kind  Kind
	For   Scope // whose; the zero value is all
	Off   bool
	Level Level
	// After is how long it has to be so before an alert is raised.
	After time.Duration
	// Within is the threshold of kinds that have one: how long before a store is full or a
	// certificate ends, or from which difference on clocks.
	Within time.Duration
	// Channels are the names of those that are told; none is all.
	Channels []string
	// Quiet is when nobody is told; they are when it is over.
	Quiet cadence.Quiet
	// EscalateAfter is how long after it was raised EscalateTo is told as well if nobody has
	// acknowledged it; 0 is never.
	EscalateAfter time.Duration
	EscalateTo    string
}

// Scope is some of all groups, by one of its fields; the zero value is everything.
type Scope struct{ Group, Tag, Tier string }

// IsZero tells whether it is everything.
func (s Scope) IsZero() bool { return s == Scope{} }

// covers tells whether a group is in it. Names are compared as people write them.
func (s Scope) covers(m Member) bool {
	switch {
	case s.Group != "":
		return s.Group == m.ID || strings.EqualFold(s.Group, m.Name)
	case s.Tag != "":
		return slices.ContainsFunc(m.Tags, func(t string) bool { return strings.EqualFold(t, s.Tag) })
	case s.Tier != "":
		return strings.EqualFold(s.Tier, m.Tier)
	}
	return true
}

// String says it in words; empty for everything.
func (s Scope) String() string {
	switch {
	case s.Group != "":
		return "group " + s.Group
	case s.Tag != "":
		return "tag " + s.Tag
	case s.Tier != "":
		return "tier " + s.Tier
	}
	return ""
}

// Defaults are the rules where nothing else is said.
func Defaults() []Rule {
	return []Rule{
		{Kind: Over, Level: Urgent, After: time.Minute},
		{Kind: Tight, Level: Warning, After: 15 * time.Minute},
		{Kind: Stalled, Level: Urgent, After: time.Minute},
		{Kind: LinkDown, Level: Urgent, After: time.Minute},
		{Kind: PlatformAway, Level: Urgent, After: 2 * time.Minute},
		{Kind: Full, Level: Urgent},
		{Kind: Filling, Level: Warning, After: time.Hour, Within: 14 * span.Day},
		{Kind: NotReady, Level: Warning, After: 2 * time.Minute},
		{Kind: DrillDue, Level: Warning},
		{Kind: NotWhole, Level: Urgent},
		{Kind: Unusual, Level: Urgent},
		{Kind: NotAtRest, Level: Warning, After: 30 * time.Minute},
		{Kind: Clock, Level: Warning, After: 5 * time.Minute, Within: 5 * time.Second},
		{Kind: Certificate, Level: Warning, Within: 14 * span.Day},
		{Kind: ForecastMissed, Level: Warning},
		{Kind: Undelivered, Level: Warning, After: 10 * time.Minute},
		{Kind: FailedOver, Level: Warning},
		{Kind: TwoCopies, Level: Urgent},
		{Kind: Unprotected, Level: Warning},
	}
}

// Kinds lists all, in the order of their defaults.
func Kinds() []Kind {
	var out []Kind
	for _, r := range Defaults() {
		out = append(out, r.Kind)
	}
	return out
}

// HasThreshold tells whether Within means something to a kind.
func (k Kind) HasThreshold() bool { return k == Filling || k == Certificate || k == Clock }

// OfGroups tells whether alerts of a kind are about groups, so that rules for some of them
// make sense.
func (k Kind) OfGroups() bool {
	return slices.Contains([]Kind{Over, Tight, Stalled, NotReady, DrillDue, NotWhole, Unusual, NotAtRest, ForecastMissed, FailedOver, TwoCopies, Unprotected}, k)
}

// Limits of rules.
const (
	MaxRules = 200
	maxAfter = 7 * span.Day
)

// Bounds of what is named.
const (
	maxName     = 200 // characters of a group, tag or tier
	maxChannel  = 60  // characters of a channel
	maxChannels = 20
)

// long tells whether any text is longer than so many characters.
func long(most int, texts ...string) bool {
	return slices.ContainsFunc(texts, func(t string) bool { return utf8.RuneCountInString(t) > most })
}

// Check says what is wrong with a rule, by its field; empty if nothing is.
func (r Rule) Check() (field, why string) {
	switch {
	case !slices.Contains(Kinds(), r.Kind):
		var ks []string
		for _, k := range Kinds() {
			ks = append(ks, string(k))
		}
		return "kind", fmt.Sprintf("%q is none of %s.", r.Kind, strings.Join(ks, ", "))
	case r.Level != Urgent && r.Level != Warning:
		return "level", fmt.Sprintf("%q is neither urgent nor warning.", r.Level)
	case !r.For.IsZero() && !r.Kind.OfGroups():
		return "for", fmt.Sprintf("%q is not about a group, so it has one rule for all; leave out tier, tag and group.", r.Kind)
	case r.For != (Scope{}) && r.For != (Scope{Group: r.For.Group}) && r.For != (Scope{Tag: r.For.Tag}) && r.For != (Scope{Tier: r.For.Tier}):
		return "for", "A rule is for a tier, a tag or a group; give one of them."
	case long(maxName, r.For.Group, r.For.Tag, r.For.Tier):
		return "for", fmt.Sprintf("Names have at most %d characters.", maxName)
	case len(r.Channels) > maxChannels || long(maxChannel, slices.Concat(r.Channels, []string{r.EscalateTo})...):
		return "channels", fmt.Sprintf("Name at most %d channels, whose names have at most %d characters.", maxChannels, maxChannel)
	case r.After < 0 || r.After > maxAfter:
		return "afterSeconds", "It may be so for at most 7 days before anybody is told."
	case !r.Kind.HasThreshold() && r.Within != 0:
		return "withinSeconds", fmt.Sprintf("%q has no threshold; leave it out.", r.Kind)
	case r.Kind.HasThreshold() && (r.Within < time.Second || r.Within > 365*span.Day):
		return "withinSeconds", "Give a threshold of a second to a year."
	case r.EscalateAfter < 0 || r.EscalateAfter > maxAfter:
		return "escalateAfterSeconds", "Give at most 7 days; 0 is never."
	case (r.EscalateAfter > 0) != (r.EscalateTo != ""):
		return "escalateTo", "Give both after how long and which channel, or neither."
	}
	return "", ""
}

// CheckAll says what is wrong with rules together: two of the same, by their position.
func CheckAll(rs []Rule) (at int, field, why string) {
	type of struct {
		Kind
		Scope
	}
	seen := map[of]bool{}
	for i, r := range rs {
		if field, why := r.Check(); why != "" {
			return i, field, why
		}
		if seen[of{r.Kind, r.For}] {
			return i, "for", fmt.Sprintf("There are two rules for %q of the same; leave one.", r.Kind)
		}
		seen[of{r.Kind, r.For}] = true
	}
	return 0, "", ""
}

// Of gives the rule that counts for a sign: for its group before its tags, those before its
// tier, that before all.
func Of(rules []Rule, k Kind, m Member) Rule {
	best, rank := Rule{Kind: k, Off: true}, -1
	for _, r := range append(slices.Clone(rules), Defaults()...) {
		if r.Kind != k || !r.For.covers(m) || !r.For.IsZero() && m.ID == "" {
			continue
		}
		at := 0
		switch {
		case r.For.Group != "":
			at = 3
		case r.For.Tag != "":
			at = 2
		case r.For.Tier != "":
			at = 1
		}
		if at > rank {
			best, rank = r, at
		}
	}
	return best
}
