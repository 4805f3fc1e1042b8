// Package alert decides what somebody has to be told of: one alert for one cause, raised
// when it has been so for a while, cleared when it has not been so for a while.
package alert

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"kestrel/internal/core/cadence"
	"kestrel/internal/core/calendar"
	"kestrel/internal/core/span"
)

// Kind is what is watched for.
type Kind string

// The kinds.
const (
	Over           Kind = "over target"
	Tight          Kind = "tight"
	Stalled        Kind = "stalled"
	LinkDown       Kind = "link down"
	PlatformAway   Kind = "platform away"
	Filling        Kind = "store filling"
	Full           Kind = "store full"
	NotReady       Kind = "not ready"
	NotWhole       Kind = "not whole"
	NotAtRest      Kind = "not at rest"
	Clock          Kind = "clock"
	Certificate    Kind = "certificate ends"
	ForecastMissed Kind = "forecast missed"
	Undelivered    Kind = "not delivered"
)

// Level is how much it matters.
type Level string

// The levels.
const (
	Urgent  Level = "urgent"
	Warning Level = "warning"
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
		{Kind: NotWhole, Level: Urgent},
		{Kind: NotAtRest, Level: Warning, After: 30 * time.Minute},
		{Kind: Clock, Level: Warning, After: 5 * time.Minute, Within: 5 * time.Second},
		{Kind: Certificate, Level: Warning, Within: 14 * span.Day},
		{Kind: ForecastMissed, Level: Warning},
		{Kind: Undelivered, Level: Warning, After: 10 * time.Minute},
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
	return slices.Contains([]Kind{Over, Tight, Stalled, NotReady, NotWhole, NotAtRest, ForecastMissed}, k)
}

// Limits of rules.
const (
	MaxRules = 200
	maxAfter = 7 * span.Day
)

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

// Member is a group as rules and silences see it; the zero value is none.
type Member struct {
	ID, Name, Tier string
	Tags           []string
}

// Thing is what an alert is about.
type Thing struct{ Kind, ID, Name string }

// Key is a cause: there is one alert for it.
type Key struct {
	Kind  Kind
	Thing string // its kind and ID
}

// KeyOf makes one.
func KeyOf(k Kind, t Thing) Key { return Key{k, t.Kind + "/" + t.ID} }

// Sign is something that is seen at a look.
type Sign struct {
	Kind
	Thing  Thing
	Member Member // the group that it is about, if it is about one
	Since  time.Time
	Text   string
	Mend   string
	// Left is how much is left or by how much it is off, of kinds that have a threshold.
	Left time.Duration
	// Causes are what it may follow from: while there is a sign or an alert of one of them,
	// the group belongs to that, and there is no alert of its own.
	Causes []Key
}

// Key is the cause that it stands for.
func (s Sign) Key() Key { return KeyOf(s.Kind, s.Thing) }

// Alert is one.
type Alert struct {
	ID     string
	Kind   Kind
	Thing  Thing
	Member Member
	Level  Level
	Text   string
	Mend   string
	// Members are the names of the groups that it explains.
	Members  []string
	Since    time.Time // when it began to be so
	RaisedAt time.Time
	// GoneAt is since when it is not so any more; ClearedAt when that had lasted.
	GoneAt, ClearedAt time.Time
	// ToldAt is when people were told first, EscalatedAt when others were.
	ToldAt, EscalatedAt time.Time
	AckedAt             time.Time
	AckedBy, AckNote    string
	// Silenced is who silenced it, and why; empty if nobody did.
	Silenced string
	// PartOf is the cause that took it over, when it was cleared for that.
	PartOf string
}

// Key is the cause that it stands for.
func (a Alert) Key() Key { return KeyOf(a.Kind, a.Thing) }

// Open tells whether it has not been cleared.
func (a Alert) Open() bool { return a.ClearedAt.IsZero() }

// Silence keeps people from being told, once or again and again.
type Silence struct {
	ID   string
	Kind Kind  // empty is every
	For  Scope // the zero value is everything
	// From and Until bound it; with a calendar each of its starts lasts for Lasts.
	From, Until time.Time
	Calendar    calendar.Calendar
	Lasts       time.Duration
	By, Reason  string
}

// Holds tells whether it holds at a time.
func (s Silence) Holds(now time.Time) bool {
	if now.Before(s.From) || !s.Until.IsZero() && !now.Before(s.Until) {
		return false
	}
	if s.Calendar.IsZero() {
		return true
	}
	starts, err := s.Calendar.Between(now.Add(-s.Lasts), now.Add(time.Second))
	return err == nil && slices.ContainsFunc(starts, func(x calendar.Start) bool {
		return !x.At.After(now) && now.Before(x.At.Add(s.Lasts))
	})
}

func (s Silence) matches(a Alert) bool {
	return (s.Kind == "" || s.Kind == a.Kind) && (s.For.IsZero() || a.Member.ID != "" && s.For.covers(a.Member))
}

// Event is something that people are told of.
type Event string

// The events.
const (
	Raised    Event = "raised"
	Escalated Event = "escalated"
	Cleared   Event = "cleared"
)

// Telling is an event, and the names of the channels that are told; none is all.
type Telling struct {
	Event    Event
	Alert    Alert
	Channels []string
}

// Hold is how long something must not be so any more before its alert is cleared.
const Hold = time.Minute

// Book is what is remembered from look to look. Its Open alerts are kept by whoever has it;
// the rest may be lost, and then waits count anew.
type Book struct {
	Open    map[Key]Alert
	waiting map[Key]time.Time // since when there are signs that are no alert yet
	taken   map[Key]time.Time // when a sign last belonged to another cause
}

// NewBook makes one with the alerts that are open.
func NewBook(open []Alert) *Book {
	b := &Book{map[Key]Alert{}, map[Key]time.Time{}, map[Key]time.Time{}}
	for _, a := range open {
		b.Open[a.Key()] = a
	}
	return b
}

// Look is what is seen and said at one moment.
type Look struct {
	Now      time.Time
	Signs    []Sign
	Unknown  func(k Key) bool // nothing can be told of it now, so it stays as it is; nil is never
	Rules    []Rule
	Silences []Silence
	NewID    func() string // for alerts that are raised
}

// Step goes one look further. It gives the alerts that changed, with those that are new,
// and who is to be told of what.
func (b *Book) Step(l Look) (changed []Alert, tell []Telling) {
	seen := b.sort(l)
	touched := map[Key]bool{}
	put := func(a Alert) {
		if was, there := b.Open[a.Key()]; !there || !same(was, a) {
			touched[a.Key()] = true
		}
		b.Open[a.Key()] = a
	}
	for k, s := range seen.own {
		a, open := b.Open[k]
		rule := Of(l.Rules, s.Kind, s.Member)
		if !open {
			if l.Now.Sub(b.first(k, s, l.Now)) < rule.After {
				continue
			}
			a = Alert{ID: l.NewID(), Kind: s.Kind, Thing: s.Thing, Since: b.first(k, s, l.Now), RaisedAt: l.Now}
			delete(b.waiting, k)
		}
		a.Member, a.Level, a.Text, a.Mend, a.GoneAt = s.Member, rule.Level, s.Text, s.Mend, time.Time{}
		a.Members = seen.members[k]
		put(a)
	}
	for k, a := range b.Open {
		if _, there := seen.own[k]; there {
			continue
		}
		cause, taken := seen.taken[k]
		switch {
		case taken:
			a.ClearedAt, a.PartOf = l.Now, string(cause.Kind)
		case l.Unknown != nil && l.Unknown(k):
			continue
		case a.GoneAt.IsZero():
			a.GoneAt = l.Now
		case l.Now.Sub(a.GoneAt) >= Hold:
			a.ClearedAt = a.GoneAt
		default:
			continue
		}
		put(a)
	}
	for k, a := range b.Open {
		next, t := told(l, a)
		tell = append(tell, t...)
		put(next)
		if touched[k] {
			changed = append(changed, next)
		}
		if !next.Open() {
			delete(b.Open, k)
		}
	}
	byAge := func(x, y Alert) int {
		return cmp.Or(x.RaisedAt.Compare(y.RaisedAt), cmp.Compare(x.Kind, y.Kind), cmp.Compare(x.Thing.ID, y.Thing.ID))
	}
	slices.SortFunc(changed, byAge)
	slices.SortFunc(tell, func(x, y Telling) int { return byAge(x.Alert, y.Alert) })
	return changed, tell
}

// Clone is a copy that can go on by itself.
func (b *Book) Clone() *Book {
	return &Book{maps.Clone(b.Open), maps.Clone(b.waiting), maps.Clone(b.taken)}
}

// TakeAcks takes over who has acknowledged alerts of another book that are open here.
func (b *Book) TakeAcks(o *Book) {
	for k, a := range b.Open {
		if x, open := o.Open[k]; open && x.ID == a.ID && a.AckedAt.IsZero() {
			a.AckedAt, a.AckedBy, a.AckNote = x.AckedAt, x.AckedBy, x.AckNote
			b.Open[k] = a
		}
	}
}

// Worse orders alerts: urgent ones first, then those that nobody has acknowledged, then the
// oldest.
func Worse(a, b Alert) int {
	rank := func(is bool) int {
		if is {
			return 0
		}
		return 1
	}
	return cmp.Or(cmp.Compare(rank(a.Level == Urgent), rank(b.Level == Urgent)), cmp.Compare(rank(a.AckedAt.IsZero()), rank(b.AckedAt.IsZero())), a.RaisedAt.Compare(b.RaisedAt), cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Thing.ID, b.Thing.ID))
}

// sorted is what is seen, by cause.
type sorted struct {
	own     map[Key]Sign
	members map[Key][]string
	taken   map[Key]Key // signs that belong to another cause
}

// sort drops what no rule asks for, and gives signs that follow from others to those.
func (b *Book) sort(l Look) sorted {
	out := sorted{map[Key]Sign{}, map[Key][]string{}, map[Key]Key{}}
	for _, s := range l.Signs {
		r := Of(l.Rules, s.Kind, s.Member)
		if r.Off || s.Kind == Clock && s.Left < r.Within || s.Kind.HasThreshold() && s.Kind != Clock && s.Left > r.Within {
			continue
		}
		out.own[s.Key()] = s
	}
	for k, s := range out.own {
		for _, c := range s.Causes {
			_, seen := out.own[c]
			if _, open := b.Open[c]; seen || open {
				out.taken[k] = c
				break
			}
		}
	}
	for k, c := range out.taken {
		for range len(Kinds()) { // a cause may itself follow from another
			if next, more := out.taken[c]; more {
				c = next
			}
		}
		if m := out.own[k].Member.Name; m != "" && !slices.Contains(out.members[c], m) {
			out.members[c] = append(out.members[c], m)
		}
		b.taken[k] = l.Now
	}
	for k := range out.taken {
		delete(out.own, k)
		delete(b.waiting, k)
	}
	for _, m := range out.members {
		slices.Sort(m)
	}
	for k := range b.waiting {
		if _, there := out.own[k]; !there {
			delete(b.waiting, k)
		}
	}
	for k, at := range b.taken {
		if l.Now.Sub(at) > span.Day {
			delete(b.taken, k)
		}
	}
	return out
}

// first is since when there is a sign: since when it says, but not before it stopped to
// belong to another cause, for what follows from that takes a while to mend.
func (b *Book) first(k Key, s Sign, now time.Time) time.Time {
	from, known := b.waiting[k]
	if !known {
		from = now
		if !s.Since.IsZero() && s.Since.Before(now) {
			from = s.Since
		}
		if t := b.taken[k]; t.After(from) {
			from = t
		}
		b.waiting[k] = from
	}
	return from
}

// told decides who is told of an alert at this look.
func told(l Look, a Alert) (Alert, []Telling) {
	rule := Of(l.Rules, a.Kind, a.Member)
	a.Silenced = ""
	for _, s := range l.Silences {
		if s.matches(a) && s.Holds(l.Now) {
			a.Silenced = strings.TrimSuffix(s.By+": "+s.Reason, ": ")
			break
		}
	}
	if !a.Open() {
		if a.ToldAt.IsZero() || a.PartOf != "" {
			return a, nil
		}
		to := rule.Channels
		if !a.EscalatedAt.IsZero() && len(to) > 0 && !slices.Contains(to, rule.EscalateTo) {
			to = append(slices.Clone(to), rule.EscalateTo)
		}
		return a, []Telling{{Cleared, a, to}}
	}
	var out []Telling
	if a.Silenced != "" || rule.Quiet.Holds(l.Now) || !a.GoneAt.IsZero() {
		return a, nil
	}
	if a.ToldAt.IsZero() && a.AckedAt.IsZero() {
		a.ToldAt = l.Now
		out = append(out, Telling{Raised, a, rule.Channels})
	}
	if rule.EscalateAfter > 0 && a.EscalatedAt.IsZero() && a.AckedAt.IsZero() && l.Now.Sub(a.RaisedAt) >= rule.EscalateAfter {
		a.EscalatedAt = l.Now
		out = append(out, Telling{Escalated, a, []string{rule.EscalateTo}})
	}
	return a, out
}

// same tells whether two hold the same, but for what may change with every second, as texts
// with spans do.
func same(a, b Alert) bool {
	return a.Level == b.Level && slices.Equal(a.Members, b.Members) && a.GoneAt.Equal(b.GoneAt) && a.ClearedAt.Equal(b.ClearedAt) && a.ToldAt.Equal(b.ToldAt) &&
		a.EscalatedAt.Equal(b.EscalatedAt) && a.Silenced == b.Silenced && a.PartOf == b.PartOf && a.RaisedAt.Equal(b.RaisedAt)
}

// Title says in a few words what is wrong with what.
func (a Alert) Title() string {
	name := a.Thing.Name
	switch a.Kind {
	case Over:
		return name + " is over its target"
	case Tight:
		return name + " has been close to its target for long"
	case Stalled:
		return name + " has stalled"
	case LinkDown:
		return "the link with " + name + " is down"
	case PlatformAway:
		return "the platform " + name + " cannot be used"
	case Filling:
		return name + " is filling"
	case Full:
		return name + " is full"
	case NotReady:
		return name + " would not recover now"
	case NotWhole:
		return name + " has points that are not whole"
	case NotAtRest:
		return "machines of " + name + " are not brought to rest"
	case Clock:
		return "the clock of " + name + " is off"
	case Certificate:
		return "a certificate of " + name + " ends"
	case ForecastMissed:
		return name + " fared worse than foretold"
	case Undelivered:
		return name + " is not told of alerts"
	}
	return string(a.Kind) + ": " + name
}
