package group

import (
	"fmt"
	"slices"
	"time"

	"kestrel/internal/core/promise"
	"kestrel/internal/core/span"
)

// Limits of what a tier promises besides.
const (
	MinRTO   = time.Minute
	MaxRTO   = 30 * span.Day
	MinDrill = span.Day
	MaxDrill = 2 * span.Year
)

// Tier is a named promise that groups follow.
type Tier struct {
	Name    string
	Promise promise.Promise
	// RTO is the target for how long a recovery may take; zero is none.
	RTO      time.Duration
	Priority Priority
	// Rest is how file systems are brought to rest where nothing is said of a machine.
	Rest Mode
	// LockFor is how long nobody may delete a point; zero is not at all.
	LockFor time.Duration
	// DrillEvery is how often a recovery is to be tried; zero is never.
	DrillEvery time.Duration
}

// Follows is that a group follows a tier: all that the tier says is the group's, but for
// what differs.
type Follows struct {
	ID       string
	Revision int64 // of the tier, that the group is at
	Tier     Tier  // as it is at that revision
	Own      []Own // what differs
}

// Own is a setting of a group that differs from its tier's on purpose.
type Own struct {
	Field  string // as the contract names it
	Reason string
}

// tierField is a setting that a tier has a say in.
type tierField struct {
	name string
	copy func(to *Spec, from Spec)
}

func tierFields() []tierField {
	return []tierField{
		{"rpoTargetSeconds", func(to *Spec, from Spec) { to.Promise.Target = from.Promise.Target }},
		{"rtoTargetSeconds", func(to *Spec, from Spec) { to.RTO = from.RTO }},
		{"cadence", func(to *Spec, from Spec) {
			quiet := to.Promise.Cadence.Quiet
			to.Promise.Cadence = from.Promise.Cadence
			to.Promise.Cadence.Quiet = quiet
		}},
		{"quiet", func(to *Spec, from Spec) { to.Promise.Cadence.Quiet = from.Promise.Cadence.Quiet }},
		{"zone", func(to *Spec, from Spec) {
			to.Promise.Zone = from.Promise.Zone
			to.Promise.Cadence = to.Promise.Cadence.In(from.Promise.Zone)
		}},
		{"keep", func(to *Spec, from Spec) { to.Promise.Keep = slices.Clone(from.Promise.Keep) }},
		{"leastPoints", func(to *Spec, from Spec) { to.Promise.Least = from.Promise.Least }},
		{"priority", func(to *Spec, from Spec) { to.Priority = from.Priority }},
		{"rest", func(to *Spec, from Spec) { to.RestMode = from.RestMode }},
		{"lockSeconds", func(to *Spec, from Spec) { to.LockFor = from.LockFor }},
		{"drillEverySeconds", func(to *Spec, from Spec) { to.DrillEvery = from.DrillEvery }},
	}
}

// Spec is the tier as if it were a group.
func (t Tier) Spec() Spec {
	return Spec{Name: t.Name, Promise: t.Promise, RTO: t.RTO, Priority: t.Priority, RestMode: t.Rest, LockFor: t.LockFor, DrillEvery: t.DrillEvery, NewDisks: CopyNew}
}

// TierOf makes a tier of a group's settings.
func TierOf(s Spec) Tier {
	return Tier{Name: s.Name, Promise: s.Promise, RTO: s.RTO, Priority: s.Priority, Rest: s.RestMode, LockFor: s.LockFor, DrillEvery: s.DrillEvery}
}

// ApplyTier gives the tier after an edit, of which only what a tier has a say in counts.
func (p Patch) ApplyTier(t Tier) Tier {
	p.Machines, p.Rest, p.Without, p.Tier, p.NoTier = nil, nil, nil, nil, false
	return TierOf(p.Apply(t.Spec()))
}

// DiffTiers says in words what is different between two tiers.
func DiffTiers(from, to Tier) []Change { return Diff(from.Spec(), to.Spec()) }

// Validate lists what is wrong with a tier, warnings included.
func (t Tier) Validate() []Finding {
	s := t.Spec()
	s.Machines = []Machine{{ID: "x", Name: "x"}}
	return s.Validate()
}

// checkTimes holds the targets for recoveries against their limits.
func (s Spec) checkTimes(fault func(field, format string, a ...any)) {
	if s.RTO != 0 && (s.RTO < MinRTO || s.RTO > MaxRTO) {
		fault("rtoTargetSeconds", "An RTO target lies between %s and %s, or is 0 for none.", span.Format(MinRTO), span.Format(MaxRTO))
	}
	if s.DrillEvery != 0 && (s.DrillEvery < MinDrill || s.DrillEvery > MaxDrill) {
		fault("drillEverySeconds", "A drill falls due after %s to %s, or never with 0.", span.Format(MinDrill), span.Format(MaxDrill))
	}
	if !slices.Contains([]Mode{"", RestOff, RestTry, RestRequired}, s.RestMode) {
		fault("rest", "%q is none of off, try, required.", s.RestMode)
	}
	if s.Tier == nil {
		return
	}
	for _, o := range s.Tier.Own {
		if CheckName(o.Reason, MaxReason) != "" {
			fault("reason", "%s follows the tier %s. Say in one line why its %s differs, or change the tier.", s.Name, s.Tier.Tier.Name, labelOf(o.Field))
			return
		}
	}
}

// labelOf is a field's name for people.
func labelOf(field string) string {
	for _, f := range fields() {
		if f.name == field {
			return f.label
		}
	}
	return field
}

// Differs tells which settings of a group are other than its tier's.
func (s Spec) Differs() []Change {
	if s.Tier == nil {
		return nil
	}
	return differing(s, s.Tier.Tier.Spec())
}

// differing lists what a tier has a say in and is different, from the tier's to the
// group's.
func differing(s, tier Spec) []Change {
	var out []Change
	for _, f := range tierFields() {
		like := s.Clone()
		f.copy(&like, tier)
		for _, c := range Diff(like, s) {
			if c.Field == f.name {
				out = append(out, c)
			}
		}
	}
	return out
}

// settle makes a group that follows a tier what the tier says, but for what differs on
// purpose: what was named by an edit, and what differed before. Like are settings that are
// to be the tier's again.
func (s *Spec) settle(p Patch, before Spec) {
	if s.Tier == nil {
		return
	}
	tier := s.Tier.Tier.Spec()
	own := map[string]string{}
	for _, o := range s.Tier.Own {
		own[o.Field] = o.Reason
	}
	// What this edit changed is the group's own from now on.
	for _, f := range tierFields() {
		changed := before.Clone()
		f.copy(&changed, *s)
		if len(Diff(before, changed)) > 0 {
			if _, known := own[f.name]; !known || p.Reason != "" {
				own[f.name] = p.Reason
			}
		}
	}
	s.Tier.Own = nil
	for _, f := range tierFields() {
		if reason, is := own[f.name]; is && !slices.Contains(p.Like, f.name) {
			s.Tier.Own = append(s.Tier.Own, Own{f.name, reason})
			continue
		}
		f.copy(s, tier)
	}
	// What is the tier's anyway does not differ.
	differs := s.Differs()
	s.Tier.Own = slices.DeleteFunc(s.Tier.Own, func(o Own) bool {
		return !slices.ContainsFunc(differs, func(c Change) bool { return c.Field == o.Field })
	})
	if len(s.Tier.Own) == 0 {
		s.Tier.Own = nil
	}
}

// TierFields lists what a tier has a say in, as the contract names it.
func TierFields() []string {
	var out []string
	for _, f := range tierFields() {
		out = append(out, f.name)
	}
	return out
}

// String says which tier a group follows, and what differs; nil is none.
func (f *Follows) String() string {
	if f == nil {
		return "none"
	}
	out := fmt.Sprintf("%s (revision %d)", f.Tier.Name, f.Revision)
	for _, o := range f.Own {
		out += fmt.Sprintf("; %s differs: %s", labelOf(o.Field), o.Reason)
	}
	return out
}
