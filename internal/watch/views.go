package watch

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/google/uuid"

	"kestrel/internal/api"
	"kestrel/internal/audit"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/alert"
	"kestrel/internal/core/cadence"
	"kestrel/internal/core/calendar"
	"kestrel/internal/core/health"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

func text(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

func value[T any](v *T) (out T) {
	if v != nil {
		out = *v
	}
	return out
}

func view(a alert.Alert) api.Alert {
	v := api.Alert{ID: a.ID, Kind: string(a.Kind), Thing: a.Thing.Kind, ThingID: a.Thing.ID, Name: a.Thing.Name, Level: api.AlertLevel(a.Level), Text: a.Text, Mend: text(a.Mend), Members: append([]string{}, a.Members...), Since: a.Since.UTC(), RaisedAt: a.RaisedAt.UTC(),
		GoneAt: orNil(a.GoneAt), ClearedAt: orNil(a.ClearedAt), ToldAt: orNil(a.ToldAt), EscalatedAt: orNil(a.EscalatedAt), AckedAt: orNil(a.AckedAt), AckedBy: text(a.AckedBy), AckNote: text(a.AckNote), Silenced: text(a.Silenced), PartOf: text(a.PartOf)}
	v.Page = text(pageOf(a))
	return v
}

// pageOf is where in the console something is seen to.
func pageOf(a alert.Alert) string {
	switch {
	case a.Kind == alert.NotReady:
		return "/groups/" + a.Thing.ID + "/berth"
	case a.Thing.Kind == Group:
		return "/groups/" + a.Thing.ID
	case a.Thing.Kind == Link:
		return "/sites?at=" + url.QueryEscape(a.Thing.ID)
	case a.Thing.Kind == Platform:
		return "/sites"
	case a.Thing.Kind == Store:
		return "/store"
	case a.Thing.Kind == "channel":
		return "/alerts?show=channels"
	}
	return ""
}

// sees tells whether somebody who sees some groups may see an alert: those of their groups.
// What concerns all is seen by all.
func visible(a alert.Alert, see func(group string) bool) bool {
	return a.Member.ID == "" || see == nil || see(a.Member.ID)
}

// Alerts lists the open ones, the worst first. The names of groups that somebody may not see
// are left out.
func (w *Watch) Alerts(see func(group string) bool) []api.Alert {
	out := []api.Alert{}
	for _, a := range w.open() {
		if visible(a, see) {
			v := view(a)
			v.Members = w.seen(v.Members, see)
			out = append(out, v)
		}
	}
	return out
}

func (w *Watch) seen(names []string, see func(group string) bool) []string {
	return slices.DeleteFunc(names, func(n string) bool {
		r, err := w.Groups.Find(n)
		return see != nil && (err != nil || !see(r.ID))
	})
}

// past is how far back cleared alerts are listed if nothing is said.
const past = 30 * span.Day

// Cleared lists those that were raised in a stretch of time and are over, newest first.
func (w *Watch) Cleared(ctx context.Context, from, to *time.Time, limit int, see func(group string) bool) ([]api.Alert, error) {
	now := w.Clock.Now()
	end := now
	if to != nil {
		end = *to
	}
	begin := end.Add(-past)
	if from != nil {
		begin = *from
	}
	if !begin.Before(end) {
		return nil, problem.Invalid("from", "The stretch ends before it begins; give an earlier time.")
	}
	recs, err := w.DB.ClearedAlerts(ctx, begin, end, cmp.Or(limit, 200))
	out := []api.Alert{}
	for _, r := range recs {
		if a := alertOf(r); visible(a, see) {
			v := view(a)
			v.Members = w.seen(v.Members, see)
			out = append(out, v)
		}
	}
	return out, err
}

// GroupOf tells which group an open alert is about; empty if it is about something else.
func (w *Watch) GroupOf(id string) (string, error) {
	for _, a := range w.open() {
		if a.ID == id {
			return a.Member.ID, nil
		}
	}
	return "", problem.NotFound("open alert", id)
}

// Acknowledge notes that somebody sees to an alert.
func (w *Watch) Acknowledge(ctx context.Context, who actor.Actor, id string, in api.Acknowledgement) (api.Alert, error) {
	all := w.open()
	i := slices.IndexFunc(all, func(a alert.Alert) bool { return a.ID == id })
	if i < 0 {
		return api.Alert{}, problem.NotFound("open alert", id)
	}
	a := all[i]
	if !a.AckedAt.IsZero() {
		return api.Alert{}, problem.Conflict("%s sees to it already, since %s.", a.AckedBy, a.AckedAt.UTC().Format("2006-01-02 15:04 MST"))
	}
	a.AckedAt, a.AckedBy, a.AckNote = w.Clock.Now().UTC(), who.String(), strings.TrimSpace(value(in.Note))
	said := a.Title()
	if a.AckNote != "" {
		said += ": " + a.AckNote
	}
	err := w.Trail.Do(ctx, who, audit.Object{Kind: "alert", Name: a.Thing.Name, ID: a.ID}, func(ctx context.Context) error {
		return w.DB.AckAlert(ctx, a.ID, a.AckedBy, a.AckNote, a.AckedAt)
	}, "%s sees to it that %s", who, said)
	if errors.Is(err, records.ErrStale) {
		return api.Alert{}, problem.Conflict("It is cleared, or somebody else sees to it already. Look again.")
	}
	if err != nil {
		return api.Alert{}, err
	}
	w.mu.Lock()
	if now, open := w.book.Open[a.Key()]; open && now.ID == a.ID {
		now.AckedAt, now.AckedBy, now.AckNote = a.AckedAt, a.AckedBy, a.AckNote
		w.book.Open[a.Key()] = now
	}
	w.mu.Unlock()
	return view(a), nil
}

// ConditionView is a condition as the contract shows it.
func ConditionView(c health.Condition) api.Condition {
	v := api.Condition{Word: api.ConditionWord(c.Word), Cause: text(c.Cause), Mend: text(c.Mend)}
	if c.Word != health.Fine {
		v.Since = orNil(c.Since)
	}
	return v
}

func (w *Watch) ruleView(r alert.Rule, usual bool) api.AlertRule {
	v := api.AlertRule{Kind: string(r.Kind), Group: text(w.named(r.For).Group), Tag: text(r.For.Tag), Tier: text(r.For.Tier), Level: text(string(r.Level)), AfterSeconds: new(int64(r.After / time.Second)), EscalateTo: text(r.EscalateTo), Quiet: text(quietText(r.Quiet)), Zone: text(r.Quiet.Zone)}
	if r.Off {
		v.Off = &r.Off
	}
	if r.Kind.HasThreshold() {
		v.WithinSeconds = new(int64(r.Within / time.Second))
	}
	if r.EscalateAfter > 0 {
		v.EscalateAfterSeconds = new(int64(r.EscalateAfter / time.Second))
	}
	if len(r.Channels) > 0 {
		v.Channels = &r.Channels
	}
	if usual {
		v.Usual = &usual
	}
	return v
}

func quietText(q cadence.Quiet) string {
	if q.IsZero() {
		return ""
	}
	return q.String()
}

// named is a scope with the name of its group.
func (w *Watch) named(s alert.Scope) alert.Scope {
	if r, ok := w.Groups.Get(s.Group); ok {
		s.Group = r.Spec.Name
	}
	return s
}

// Rules lists all that hold: those that were set, and the usual ones of which nothing else
// is said.
func (w *Watch) Rules() api.AlertRules {
	w.mu.Lock()
	rules, revision := w.rules, w.revision
	w.mu.Unlock()
	v := api.AlertRules{Revision: revision, Rules: []api.AlertRule{}}
	for _, usual := range alert.Defaults() {
		said := false
		for _, r := range rules {
			if r.Kind == usual.Kind {
				v.Rules = append(v.Rules, w.ruleView(r, false))
				said = said || r.For.IsZero()
			}
		}
		if !said {
			v.Rules = append(v.Rules, w.ruleView(usual, true))
		}
	}
	return v
}

// ruleOf reads a rule: what is left out is as usual.
func (w *Watch) ruleOf(in api.AlertRule) (r alert.Rule, field, why string) {
	r = alert.Of(nil, alert.Kind(in.Kind), alert.Member{})
	r.Kind, r.For = alert.Kind(in.Kind), alert.Scope{Group: value(in.Group), Tag: value(in.Tag), Tier: value(in.Tier)}
	r.Off, r.Channels = value(in.Off), value(in.Channels)
	if in.Level != nil {
		r.Level = alert.Level(*in.Level)
	}
	if in.AfterSeconds != nil {
		r.After = span.Times(*in.AfterSeconds, time.Second)
	}
	if in.WithinSeconds != nil {
		r.Within = span.Times(*in.WithinSeconds, time.Second)
	}
	r.EscalateAfter, r.EscalateTo = span.Times(value(in.EscalateAfterSeconds), time.Second), value(in.EscalateTo)
	q, err := cadence.ParseQuiet(value(in.Quiet), value(in.Zone))
	if err != nil {
		return r, "quiet", words.Sentence(err.Error())
	}
	r.Quiet = q
	if field, why := r.Check(); why != "" {
		return r, field, why
	}
	if g := r.For.Group; g != "" {
		known, err := w.Groups.Find(g)
		if p, is := problem.Of(err); is {
			return r, "group", p.Detail
		}
		r.For.Group = known.ID // whatever it is called later
	}
	for _, c := range append(slices.Clone(r.Channels), r.EscalateTo) {
		if c != "" && !slices.ContainsFunc(w.Out.Names(), func(n string) bool { return strings.EqualFold(n, c) }) {
			return r, "channels", fmt.Sprintf("There is no channel %q. Make it first, or choose one of %s.", c, cmp.Or(strings.Join(w.Out.Names(), ", "), "none"))
		}
	}
	return r, "", ""
}

// SetRules replaces the rules that are not the usual ones.
func (w *Watch) SetRules(ctx context.Context, who actor.Actor, in api.WriteAlertRules) (api.AlertRules, error) {
	rules := []alert.Rule{}
	for i, x := range in.Rules {
		r, field, why := w.ruleOf(x)
		if why != "" {
			return api.AlertRules{}, problem.Invalid(fmt.Sprintf("rules.%d.%s", i, field), "%s", why)
		}
		if !value(x.Usual) { // those hold as they are
			rules = append(rules, r)
		}
	}
	if at, field, why := alert.CheckAll(rules); why != "" {
		return api.AlertRules{}, problem.Invalid(fmt.Sprintf("rules.%d.%s", at, field), "%s", why)
	}
	text, err := json.Marshal(rules)
	if err != nil {
		return api.AlertRules{}, err
	}
	err = w.Trail.Do(ctx, who, audit.Object{Kind: "site", Name: w.Site}, func(ctx context.Context) error { return w.DB.PutAlertRules(ctx, text, in.Revision) }, "%s changed of what people are told: %s", who, w.difference(rules))
	if errors.Is(err, records.ErrStale) {
		return api.AlertRules{}, problem.Conflict("The rules were changed since you looked at them. Look again.")
	}
	if err == nil {
		err = w.readRules(ctx)
	}
	return w.Rules(), err
}

// difference says which rules are other than before.
func (w *Watch) difference(next []alert.Rule) string {
	w.mu.Lock()
	before := w.rules
	w.mu.Unlock()
	find := func(all []alert.Rule, r alert.Rule) (string, bool) {
		for _, x := range all {
			if x.Kind == r.Kind && x.For == r.For {
				b, err := json.Marshal(x)
				return string(b), err == nil
			}
		}
		return "", false
	}
	name := func(r alert.Rule) string {
		return strings.TrimSpace(fmt.Sprintf("%q %s", r.Kind, w.named(r.For)))
	}
	var out []string
	for _, r := range next {
		now, _ := find(next, r)
		if was, there := find(before, r); !there || was != now {
			out = append(out, "the rule "+name(r))
		}
	}
	for _, r := range before {
		if _, there := find(next, r); !there {
			out = append(out, name(r)+" is as usual again")
		}
	}
	return cmp.Or(words.Joined(out, 8), "nothing is different")
}

func (w *Watch) silenceView(s alert.Silence) api.Silence {
	v := api.Silence{ID: s.ID, Kind: text(string(s.Kind)), Group: text(w.named(s.For).Group), Tag: text(s.For.Tag), Tier: text(s.For.Tier), Until: orNil(s.Until), Reason: s.Reason, MadeBy: s.By, MadeAt: s.From.UTC(), Holds: s.Holds(w.Clock.Now())}
	if !s.Calendar.IsZero() {
		v.Calendar, v.Zone = text(s.Calendar.Words()), text(s.Calendar.Zone)
	}
	if s.Lasts > 0 {
		v.LastsSeconds = new(int64(s.Lasts / time.Second))
	}
	return v
}

// Silences lists those that are not over.
func (w *Watch) Silences() []api.Silence {
	w.mu.Lock()
	all := slices.Clone(w.silences)
	w.mu.Unlock()
	out := []api.Silence{}
	for _, s := range all {
		if now := w.Clock.Now(); s.Until.IsZero() || now.Before(s.Until) {
			out = append(out, w.silenceView(s))
		}
	}
	return out
}

const (
	maxSilences = 500 // at once
	maxReason   = 500 // characters
	maxCalendar = 1000
)

// Silence keeps people from being told.
func (w *Watch) Silence(ctx context.Context, who actor.Actor, in api.NewSilence) (api.Silence, error) {
	now := w.Clock.Now().UTC()
	s := alert.Silence{ID: uuid.NewString(), Kind: alert.Kind(value(in.Kind)), For: alert.Scope{Group: value(in.Group), Tag: value(in.Tag), Tier: value(in.Tier)}, From: now, Lasts: span.Times(value(in.LastsSeconds), time.Second), By: who.String(), Reason: strings.TrimSpace(in.Reason)}
	if s.Reason == "" {
		return api.Silence{}, problem.Invalid("reason", "Say why nobody is to be told; whoever looks for an alert that did not come reads it.")
	}
	if utf8.RuneCountInString(s.Reason) > maxReason {
		return api.Silence{}, problem.Invalid("reason", "At most %d characters.", maxReason)
	}
	if len(value(in.Calendar)) > maxCalendar {
		return api.Silence{}, problem.Invalid("calendar", "At most %d characters.", maxCalendar)
	}
	if s.Lasts < time.Minute || s.Lasts > span.Year {
		return api.Silence{}, problem.Invalid("lastsSeconds", "Say how long it lasts, a minute to a year. To be told never, change the rule.")
	}
	check := alert.Of(nil, cmp.Or(s.Kind, alert.Over), alert.Member{})
	check.Kind, check.For, check.Level = cmp.Or(s.Kind, alert.Over), s.For, alert.Urgent
	if field, why := check.Check(); why != "" {
		return api.Silence{}, problem.Invalid(field, "%s", why)
	}
	if g := s.For.Group; g != "" {
		r, err := w.Groups.Find(g)
		if err != nil {
			return api.Silence{}, err
		}
		s.For.Group = r.ID
	}
	rec := records.Silence{ID: s.ID, MadeBy: s.By, MadeAt: now}
	when := "for " + span.Format(s.Lasts)
	if c := value(in.Calendar); c != "" {
		cal, err := calendar.Parse(c, value(in.Zone))
		if err != nil {
			return api.Silence{}, problem.Invalid("calendar", "%s", words.Sentence(err.Error()))
		}
		s.Calendar = cal
		when += " from each start of: " + cal.Words()
	} else {
		s.Until = now.Add(s.Lasts)
		rec.OverAt = &s.Until
	}
	if len(w.Silences()) >= maxSilences {
		return api.Silence{}, problem.Conflict("There are %d silences, as many as there may be. End one first.", maxSilences)
	}
	var err error
	if rec.Body, err = json.Marshal(s); err != nil {
		return api.Silence{}, err
	}
	what := "alerts"
	if s.Kind != "" {
		what = fmt.Sprintf("alerts %q", s.Kind)
	}
	if !s.For.IsZero() {
		what += " of the " + w.named(s.For).String()
	}
	if err := w.Trail.Do(ctx, who, audit.Object{Kind: "site", Name: w.Site}, func(ctx context.Context) error { return w.DB.AddSilence(ctx, rec) }, "%s silenced %s %s: %s", who, what, when, s.Reason); err != nil {
		return api.Silence{}, err
	}
	return w.silenceView(s), w.readSilences(ctx)
}

// EndSilence ends one: what is open and was told to nobody is told at the next look.
func (w *Watch) EndSilence(ctx context.Context, who actor.Actor, id string) error {
	w.mu.Lock()
	i := slices.IndexFunc(w.silences, func(s alert.Silence) bool { return s.ID == id })
	reason := ""
	if i >= 0 {
		reason = w.silences[i].Reason
	}
	w.mu.Unlock()
	if i < 0 {
		return problem.NotFound("silence", id)
	}
	err := w.Trail.Do(ctx, who, audit.Object{Kind: "site", Name: w.Site}, func(ctx context.Context) error { return w.DB.EndSilence(ctx, id, w.Clock.Now().UTC()) }, "%s ended the silence %q", who, reason)
	if errors.Is(err, records.ErrNotFound) {
		return problem.NotFound("silence", id)
	}
	if err != nil {
		return err
	}
	return w.readSilences(ctx)
}

// Morning is what a summary of the day says, worst first.
func (w *Watch) Morning() []string {
	all := w.open()
	groups, kept, ready := 0, 0, 0
	for _, r := range w.Groups.All() {
		if r.Direction == "ended" {
			continue
		}
		groups++
		if s := w.Overview.Stand(r); s.Facts.Sealed && s.Facts.Exposure <= s.Facts.Target {
			kept++
		}
		if x, known := w.Lookout.Of(r); known && x.Ready {
			ready++
		}
	}
	out := []string{fmt.Sprintf("%s open. %d of %d groups would lose less than they promised, and %d would recover right now.", words.Upper(words.Are(len(all), "alert")), kept, groups, ready)}
	for i, a := range all {
		if i == 30 {
			out = append(out, fmt.Sprintf("And %d more.", len(all)-i))
			break
		}
		line := fmt.Sprintf("%s (%s, since %s): %s", words.Upper(a.Title()), a.Level, a.Since.UTC().Format("2006-01-02 15:04 MST"), a.Text)
		if a.AckedBy != "" {
			line += " " + a.AckedBy + " sees to it."
		}
		out = append(out, line)
	}
	return out
}
