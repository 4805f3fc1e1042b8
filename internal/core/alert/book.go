package alert

import (
	"cmp"
	"maps"
	"slices"
	"strings"
	"time"

	"kestrel/internal/core/span"
)

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
	// Takes tells whether somebody would be told by channels of these names, none being all,
	// of an alert of a level; nil is yes. Who cannot be told now is told when that is so.
	Takes func(channels []string, l Level) bool
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
	takes := func(channels []string) bool { return l.Takes == nil || l.Takes(channels, a.Level) }
	if a.ToldAt.IsZero() && a.AckedAt.IsZero() && takes(rule.Channels) {
		a.ToldAt = l.Now
		out = append(out, Telling{Raised, a, rule.Channels})
	}
	if rule.EscalateAfter > 0 && a.EscalatedAt.IsZero() && a.AckedAt.IsZero() && l.Now.Sub(a.RaisedAt) >= rule.EscalateAfter && takes([]string{rule.EscalateTo}) {
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
