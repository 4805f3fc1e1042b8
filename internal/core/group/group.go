// Package group is the specification of a protection group: everything that
// people decide about it, at its home site. It is a value: an edit is a Patch that
// gives a new value, and Diff says in words what has changed. How it is stored,
// sent and shown is for others.
package group

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"kestrel/internal/core/cadence"
	"kestrel/internal/core/ident"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/promise"
	"kestrel/internal/core/span"
)

// Limits of a specification.
const (
	MaxName     = 80 // characters
	MaxMachines = 256
	// MaxLock is how long points may be locked at most.
	MaxLock    = 400 * span.Day
	MaxTags    = 16
	MaxTag     = 40
	MaxReason  = 200
	MinCompare = time.Hour
	MaxCompare = 10 * 365 * span.Day
	MaxPause   = 365 * span.Day
)

// Priority is a group's share of a limited link beside others'.
type Priority string

// The priorities, with their shares.
const (
	High   Priority = "high"   // 4
	Normal Priority = "normal" // 2
	Low    Priority = "low"    // 1
)

// Weight is the share.
func (p Priority) Weight() float64 {
	switch p {
	case High:
		return 4
	case Low:
		return 1
	}
	return 2
}

// Destination is a site that keeps the points.
type Destination struct {
	SiteID string
	Site   string // name
}

// Pause holds cycles.
type Pause struct {
	By     string
	Reason string
	Since  time.Time
	Until  time.Time // zero: until it is resumed
}

// Spec is all that people decide about a group.
type Spec struct {
	Name     string
	Tags     []string // sorted; whoever is limited to a tag sees groups that carry it
	Platform string   // ID at home
	Machines []Machine
	// Rule lets machines that match it join by themselves; nil is none.
	Rule    *Rule
	Promise promise.Promise
	// Tier is the one that the group follows; nil is none. All of its settings are in the
	// group's own as well.
	Tier *Follows
	// RTO is the target for how long a recovery may take; zero is none.
	RTO time.Duration
	// DrillEvery is how often a recovery is to be tried; zero is never.
	DrillEvery time.Duration
	// RestMode is how file systems are brought to rest of machines of which nothing is
	// said.
	RestMode Mode
	// Apart captures machines one by one instead of at one instant.
	Apart    bool
	Priority Priority
	// CompareEvery is after what time a cycle reads all of the disks; 0 is never
	// by itself.
	CompareEvery time.Duration
	// HomePoints keeps points at the home site as well.
	HomePoints bool
	// HomeKeep is the ladder of points at home; nil is the same as over there.
	HomeKeep ladder.Ladder
	NewDisks NewDisks
	// LockFor is how long nobody may delete a point after it was sealed; 0 for not at
	// all.
	LockFor      time.Duration
	Pause        *Pause
	Destinations []Destination // one today
}

// PausedAt tells whether cycles are held at an instant.
func (s Spec) PausedAt(now time.Time) bool {
	return s.Pause != nil && (s.Pause.Until.IsZero() || now.Before(s.Pause.Until))
}

// MachineNames lists the machines' names.
func (s Spec) MachineNames() []string {
	var out []string
	for _, m := range s.Machines {
		out = append(out, m.Name)
	}
	return out
}

// KeptAt tells whether points of the group are sent to a site.
func (s Spec) KeptAt(site string) bool {
	return slices.ContainsFunc(s.Destinations, func(d Destination) bool { return d.SiteID == site })
}

// Has tells whether a machine is of the group.
func (s Spec) Has(machine string) bool {
	return slices.ContainsFunc(s.Machines, func(m Machine) bool { return m.ID == machine })
}

// Clone is a copy that shares nothing.
func (s Spec) Clone() Spec {
	s.Tags, s.Machines, s.Destinations = slices.Clone(s.Tags), cloneMachines(s.Machines), slices.Clone(s.Destinations)
	s.Promise.Keep, s.HomeKeep = slices.Clone(s.Promise.Keep), slices.Clone(s.HomeKeep)
	if s.Pause != nil {
		p := *s.Pause
		s.Pause = &p
	}
	if s.Rule != nil {
		r := *s.Rule
		s.Rule = &r
	}
	if s.Tier != nil {
		f := *s.Tier
		f.Own = slices.Clone(f.Own)
		s.Tier = &f
	}
	return s
}

// Patch is an edit: what is nil stays as it is.
type Patch struct {
	Name         *string
	Tags         *[]string
	Machines     *[]Machine       // chosen and checked before; all of them
	Rest         *map[string]Rest // by the machine's ID, of all that are brought to rest
	Without      *[]DiskRef       // all disks that are left out
	NewDisks     *NewDisks
	Rule         *Rule
	NoRule       bool      // none from now on
	ByHand       *[]string // IDs of machines that stay whatever the rule says
	Tier         *Follows  // the tier, without what differs
	NoTier       bool      // none from now on; settings stay
	Reason       string    // why what is changed differs from the tier
	Like         []string  // settings that are to be the tier's again
	RTO          *time.Duration
	DrillEvery   *time.Duration
	RestMode     *Mode
	Target       *time.Duration
	Cadence      *cadence.Cadence // but for quiet times
	Quiet        *cadence.Quiet
	Zone         *string // of times and dates
	Keep         *ladder.Ladder
	Least        *int // points
	Apart        *bool
	Priority     *Priority
	CompareEvery *time.Duration
	HomePoints   *bool
	HomeKeep     *ladder.Ladder // empty is the same as over there
	LockFor      *time.Duration
	Pause        *Pause
	Resume       bool
}

// Apply gives the specification after an edit. Of machines that stay, what was
// chosen for them stays.
func (p Patch) Apply(s Spec) Spec {
	s = s.Clone()
	if p.NoTier {
		s.Tier = nil
	}
	if p.Tier != nil {
		f := *p.Tier
		f.Own = nil
		if s.Tier != nil && s.Tier.ID == f.ID {
			f.Own = slices.Clone(s.Tier.Own)
		}
		s.Tier = &f
	}
	before := s.Clone()
	set(&s.Name, p.Name)
	set(&s.RTO, p.RTO)
	set(&s.DrillEvery, p.DrillEvery)
	set(&s.RestMode, p.RestMode)
	set(&s.Promise.Target, p.Target)
	set(&s.Promise.Keep, p.Keep)
	set(&s.Promise.Least, p.Least)
	set(&s.Apart, p.Apart)
	set(&s.Priority, p.Priority)
	set(&s.CompareEvery, p.CompareEvery)
	set(&s.HomePoints, p.HomePoints)
	if p.HomeKeep != nil {
		s.HomeKeep = slices.Clone(*p.HomeKeep)
	}
	if len(s.HomeKeep) == 0 {
		s.HomeKeep = nil
	}
	set(&s.NewDisks, p.NewDisks)
	set(&s.LockFor, p.LockFor)
	if p.Cadence != nil {
		quiet := s.Promise.Cadence.Quiet
		s.Promise.Cadence = *p.Cadence
		s.Promise.Cadence.Quiet = quiet
	}
	set(&s.Promise.Cadence.Quiet, p.Quiet)
	set(&s.Promise.Zone, p.Zone)
	s.Promise.Cadence = s.Promise.Cadence.In(s.Promise.Zone)
	s.Name = strings.TrimSpace(s.Name)
	if p.Tags != nil {
		s.Tags = tidyTags(*p.Tags)
	}
	if p.Machines != nil {
		// Who says which disks are left out has decided about the new ones.
		s.Machines = carry(s.Machines, *p.Machines, s.NewDisks == FlagNew && p.Without == nil)
	}
	if p.Rule != nil {
		s.Rule = &Rule{slices.Clone(p.Rule.Match), p.Rule.Order}
	}
	if p.NoRule {
		s.Rule = nil
	}
	for i, m := range s.Machines {
		if s.Rule == nil || p.ByHand != nil && slices.Contains(*p.ByHand, m.ID) {
			s.Machines[i].ByRule = false
		}
	}
	if p.Rest != nil {
		for i, m := range s.Machines {
			s.Machines[i].Rest = (*p.Rest)[m.ID]
		}
	}
	if p.Without != nil {
		for i, m := range s.Machines {
			for k, d := range m.Disks {
				s.Machines[i].Disks[k].LeftOut = slices.Contains(*p.Without, DiskRef{m.ID, d.Key})
			}
		}
	}
	if p.Pause != nil {
		s.Pause = p.Pause
	}
	if p.Resume {
		s.Pause = nil
	}
	s.settle(p, before)
	return s
}

func set[T any](to *T, from *T) {
	if from != nil {
		*to = *from
	}
}

func tidyTags(in []string) []string {
	var out []string
	for _, t := range in {
		if t = strings.TrimSpace(t); t != "" && !slices.Contains(out, t) {
			out = append(out, t)
		}
	}
	slices.Sort(out)
	return out
}

// Finding is a fault of one field, with its mend.
type Finding = promise.Finding

// Validate lists what is wrong, warnings included.
func (s Spec) Validate() []Finding {
	var out []Finding
	fault := func(field, format string, a ...any) {
		out = append(out, Finding{Field: field, Message: fmt.Sprintf(format, a...)})
	}
	if why := CheckName(s.Name, MaxName); why != "" {
		fault("name", "%s", why)
	} else if strings.Contains(s.Name, ":") {
		fault("name", "A group's name has no colon: GROUP:NUMBER names a point.")
	}
	if len(s.Tags) > MaxTags {
		fault("tags", "A group has at most %d tags.", MaxTags)
	}
	for i, t := range s.Tags {
		if why := CheckName(t, MaxTag); why != "" || strings.ContainsAny(t, ", ") {
			fault(fmt.Sprintf("tags[%d]", i), "A tag is one word of up to %d characters.", MaxTag)
		}
	}
	s.checkMachines(fault)
	s.checkTimes(fault)
	if len(s.HomeKeep) > 0 {
		home := s.Promise
		home.Keep = s.HomeKeep
		for _, f := range promise.Faults(home.CheckKeep()) {
			fault("homeKeep", "%s", f.Message)
		}
	}
	if !slices.Contains([]Priority{High, Normal, Low}, s.Priority) {
		fault("priority", "%q is no priority; choose high, normal or low.", s.Priority)
	}
	if s.CompareEvery != 0 && s.CompareEvery < MinCompare || s.CompareEvery > MaxCompare {
		fault("compareEverySeconds", "Comparing reads all of the disks: give an hour or more, such as 30d, or 0 for only when asked.")
	}
	if s.LockFor < 0 || s.LockFor > MaxLock {
		fault("lockSeconds", "Points are locked for at most %s, or 0 for not at all.", span.Format(MaxLock))
	}
	if p := s.Pause; p != nil {
		if len([]rune(p.Reason)) > MaxReason {
			fault("reason", "A reason has at most %d characters.", MaxReason)
		}
		if !p.Until.IsZero() && (!p.Until.After(p.Since) || p.Until.Sub(p.Since) > MaxPause) {
			fault("forSeconds", "A pause lasts more than nothing and at most %s; leave it out for until it is resumed.", span.Format(MaxPause))
		}
	}
	return append(out, s.Promise.Check()...)
}

// CheckName says what is wrong with a name that people give; nothing if it is
// good. Marks that turn the direction of text, or cannot be seen, could make one
// name look like another.
func CheckName(name string, most int) string {
	n := len([]rune(name))
	if strings.TrimSpace(name) == "" || n > most {
		return fmt.Sprintf("Give a name of 1 to %d characters.", most)
	}
	if r, found := ident.Unseen(name); found {
		return fmt.Sprintf("The name has a character that cannot be seen (U+%04X); type it again without it.", r)
	}
	return ""
}

// Change is one thing that an edit changed, in words.
type Change struct {
	Field string `json:"field"` // as the contract names it
	From  string `json:"from"`
	To    string `json:"to"`
}

// String writes it for people.
func (c Change) String() string {
	label := c.Field
	for _, f := range fields() {
		if f.name == c.Field {
			label = f.label
		}
	}
	return fmt.Sprintf("%s: %s → %s", label, c.From, c.To)
}

// Words writes several.
func Words(cs []Change) string {
	var out []string
	for _, c := range cs {
		out = append(out, c.String())
	}
	return strings.Join(out, "; ")
}

// field is one setting as people read it. A new setting gets a line here, and is
// then compared, told and kept in the trail.
type field struct {
	name  string // in the contract
	label string // for people
	text  func(Spec) string
}

func fields() []field {
	return []field{
		{"name", "name", func(s Spec) string { return s.Name }},
		{"tags", "tags", func(s Spec) string { return list(s.Tags) }},
		{"machines", "machines", func(s Spec) string { return list(s.MachineNames()) }},
		{"rule", "rule", func(s Spec) string { return s.Rule.String() }},
		{"byHand", "whatever the rule says", func(s Spec) string {
			var out []string
			for _, m := range s.Machines {
				if s.Rule != nil && !m.ByRule {
					out = append(out, m.Name)
				}
			}
			return list(out)
		}},
		{"withoutDisks", "disks left out", func(s Spec) string {
			var out []string
			for _, m := range s.Machines {
				out = append(out, m.leftOut()...)
			}
			return list(out)
		}},
		{"disks", "disks", func(Spec) string { return "" }}, // compared by Diff: of some machines only
		{"newDisks", "new disks", func(s Spec) string { return map[NewDisks]string{CopyNew: "copied", FlagNew: "flagged"}[s.NewDisks] }},
		{"quiesce", "brought to rest", func(s Spec) string {
			var out []string
			for _, m := range s.Machines {
				if m.Rest != (Rest{}) {
					out = append(out, m.Name+" ("+m.Rest.String()+")")
				}
			}
			return list(out)
		}},
		{"rpoTargetSeconds", "RPO target", func(s Spec) string { return span.Format(s.Promise.Target) }},
		{"cadence", "cadence", func(s Spec) string { return s.Promise.Cadence.String() }},
		{"quiet", "quiet times", func(s Spec) string { return s.Promise.Cadence.Quiet.String() }},
		{"zone", "time zone", func(s Spec) string { return s.Promise.ZoneName() }},
		{"keep", "keep ladder", func(s Spec) string { return s.Promise.Keep.String() }},
		{"leastPoints", "always kept", func(s Spec) string { return fmt.Sprintf("the newest %d", max(1, s.Promise.Least)) }},
		{"together", "one instant", func(s Spec) string { return yes(!s.Apart) }},
		{"tier", "tier", func(s Spec) string { return s.Tier.String() }},
		{"rtoTargetSeconds", "RTO target", func(s Spec) string { return orNone(s.RTO, "none") }},
		{"rest", "file systems", func(s Spec) string {
			if text, ok := map[Mode]string{RestTry: "at rest if they can be", RestRequired: "at rest or no point"}[s.RestMode]; ok {
				return text
			}
			return "as they are"
		}},
		{"drillEverySeconds", "drill", func(s Spec) string { return orNone(s.DrillEvery, "never") }},
		{"priority", "priority", func(s Spec) string { return string(s.Priority) }},
		{"compareEverySeconds", "compared", func(s Spec) string {
			if s.CompareEvery == 0 {
				return "only when asked"
			}
			return span.Format(s.CompareEvery)
		}},
		{"lockSeconds", "locked for", func(s Spec) string {
			if s.LockFor == 0 {
				return "not at all"
			}
			return span.Format(s.LockFor)
		}},
		{"homePoints", "points at home", func(s Spec) string { return yes(s.HomePoints) }},
		{"homeKeep", "ladder at home", func(s Spec) string {
			if len(s.HomeKeep) == 0 {
				return "the same"
			}
			return s.HomeKeep.String()
		}},
		{"paused", "paused", func(s Spec) string { return s.Pause.String() }},
		{"destinations", "recovery site", func(s Spec) string {
			var out []string
			for _, d := range s.Destinations {
				out = append(out, d.Site)
			}
			return list(out)
		}},
	}
}

func orNone(d time.Duration, none string) string {
	if d == 0 {
		return none
	}
	return span.Format(d)
}

// String says a pause in words; nil is none.
func (p *Pause) String() string {
	if p == nil {
		return "no"
	}
	out := "yes"
	if !p.Until.IsZero() {
		out += " until " + p.Until.UTC().Format(time.RFC3339)
	}
	if p.Reason != "" {
		out += " (" + p.Reason + ")"
	}
	return out
}

func list(xs []string) string {
	if len(xs) == 0 {
		return "none"
	}
	return strings.Join(xs, ", ")
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// Diff lists what is different between two specifications, in words.
func Diff(from, to Spec) []Change {
	var out []Change
	for _, f := range fields() {
		if a, b := f.text(from), f.text(to); a != b {
			out = append(out, Change{f.name, a, b})
		}
	}
	if was, now := disksApart(from, to); len(was) > 0 {
		out = append(out, Change{"disks", list(was), list(now)})
	}
	// Machines of the same names may be others.
	if !SameMachines(from, to) && !slices.ContainsFunc(out, func(c Change) bool { return c.Field == "machines" }) {
		out = append(out, Change{"machines", list(from.IDs()), list(to.IDs())})
	}
	return out
}

// IDs lists the machines by their IDs.
func (s Spec) IDs() []string {
	var out []string
	for _, m := range s.Machines {
		out = append(out, m.ID)
	}
	return out
}

// Clash lists the fields that two edits of the same specification both change,
// to different values: whoever comes second has to look first.
func Clash(base, theirs, ours Spec) []Change {
	var out []Change
	for _, f := range fields() {
		b, t, o := f.text(base), f.text(theirs), f.text(ours)
		if t != b && o != b && t != o {
			out = append(out, Change{f.name, b, t})
		}
	}
	return out
}

// SameMachines tells whether two specifications are of the same machines.
func SameMachines(a, b Spec) bool {
	x, y := a.IDs(), b.IDs()
	slices.Sort(x)
	slices.Sort(y)
	return a.Platform == b.Platform && slices.Equal(x, y)
}
