package alert_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/core/alert"
	"kestrel/internal/core/cadence"
	"kestrel/internal/core/calendar"
)

var start = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func group(kind alert.Kind, name string, causes ...alert.Key) alert.Sign {
	return alert.Sign{Kind: kind, Thing: alert.Thing{Kind: "group", ID: "id-" + name, Name: name}, Member: alert.Member{ID: "id-" + name, Name: name, Tier: "Harbour-1", Tags: []string{"sea"}}, Text: "so it is", Causes: causes}
}

var down = alert.Sign{Kind: alert.LinkDown, Thing: alert.Thing{Kind: "link", ID: "l", Name: "Eastmole"}, Text: "no answer"}

// run looks every ten seconds at what see says, and gives what was told, with when.
type told struct {
	at    time.Duration
	event alert.Event
	what  string
	to    string
}

type run struct {
	book     *alert.Book
	rules    []alert.Rule
	silences []alert.Silence
	n        int
	said     []told
	changed  []alert.Alert
}

func newRun() *run { return &run{book: alert.NewBook(nil)} }

func (r *run) look(at time.Duration, signs ...alert.Sign) []alert.Alert {
	changed, tell := r.book.Step(alert.Look{Now: start.Add(at), Signs: signs, Rules: r.rules, Silences: r.silences, NewID: func() string { r.n++; return fmt.Sprint(r.n) }})
	for _, t := range tell {
		r.said = append(r.said, told{at, t.Event, string(t.Alert.Kind) + " " + t.Alert.Thing.Name, fmt.Sprint(t.Channels)})
	}
	r.changed = append(r.changed, changed...)
	return changed
}

func (r *run) during(from, to time.Duration, signs ...alert.Sign) {
	for at := from; at < to; at += 10 * time.Second {
		r.look(at, signs...)
	}
}

// Each kind is raised after its time and not before, told once, and cleared when it has not
// been so for a while.
func TestEveryKindIsRaisedAndCleared(t *testing.T) {
	for _, rule := range alert.Defaults() {
		t.Run(string(rule.Kind), func(t *testing.T) {
			s := group(rule.Kind, "Ticketing")
			if !rule.Kind.OfGroups() {
				s.Member = alert.Member{}
			}
			s.Left = rule.Within
			r := newRun()
			r.during(0, rule.After, s)
			require.Empty(t, r.said, "it has not been so for long")
			r.during(rule.After, rule.After+time.Minute, s)
			require.Equal(t, []told{{rule.After, alert.Raised, string(rule.Kind) + " Ticketing", "[]"}}, r.said)
			end := rule.After + time.Minute
			r.during(end, end+time.Hour)
			require.Equal(t, told{end + alert.Hold, alert.Cleared, string(rule.Kind) + " Ticketing", "[]"}, r.said[1])
			require.Len(t, r.said, 2)
			require.Empty(t, r.book.Open)
			require.NotEmpty(t, r.changed[0].Title())
			if rule.Kind.HasThreshold() {
				beyond := s
				if beyond.Left++; rule.Kind == alert.Clock {
					beyond.Left -= 2
				}
				r.during(end+2*time.Hour, end+2*time.Hour+rule.After+time.Minute, beyond)
				require.Len(t, r.said, 2, "it is not beyond the threshold")
			}
		})
	}
}

// What comes and goes is one alert, and one message.
func TestFlapping(t *testing.T) {
	r := newRun()
	s := group(alert.Over, "Ticketing")
	s.Since = start.Add(-time.Hour)
	for at := time.Duration(0); at < time.Hour; at += 10 * time.Second {
		if int(at/(30*time.Second))%2 == 0 {
			r.look(at, s)
		} else {
			r.look(at)
		}
	}
	require.Equal(t, []told{{0, alert.Raised, "over target Ticketing", "[]"}}, r.said)
	require.Len(t, r.book.Open, 1)
}

// A link that is down is one alert, which names its groups; those that are late when it is
// back have a while to catch up before they are told of.
func TestOneAlertForOneCause(t *testing.T) {
	r := newRun()
	a, b := group(alert.Over, "Ticketing", down.Key()), group(alert.Stalled, "Pier cameras", down.Key())
	a.Since = start
	r.during(0, 2*time.Minute, a) // over already, before the link is seen to be down
	r.during(2*time.Minute, time.Hour, a, b, down)
	require.Equal(t, []told{{time.Minute, alert.Raised, "over target Ticketing", "[]"}, {3 * time.Minute, alert.Raised, "link down Eastmole", "[]"}}, r.said)
	require.Len(t, r.book.Open, 1, "the group's alert is part of the link's")
	link := r.book.Open[down.Key()]
	require.Equal(t, []string{"Pier cameras", "Ticketing"}, link.Members)
	var part *alert.Alert
	for i, x := range r.changed {
		if x.Kind == alert.Over && !x.Open() {
			part = &r.changed[i]
		}
	}
	require.NotNil(t, part)
	require.Equal(t, "link down", part.PartOf)

	r.said = nil
	r.during(time.Hour, time.Hour+90*time.Second, a) // the link is back, and the group late still
	require.Equal(t, []told{{time.Hour + alert.Hold, alert.Cleared, "link down Eastmole", "[]"}}, r.said)
	r.during(time.Hour+90*time.Second, time.Hour+3*time.Minute, a)
	require.Equal(t, alert.Raised, r.said[1].event)
	require.Equal(t, "over target Ticketing", r.said[1].what)
}

// The rule for a group counts before that for a tag, that before that for a tier.
func TestRules(t *testing.T) {
	m := group(alert.Over, "Ticketing").Member
	rules := []alert.Rule{{Kind: alert.Over, For: alert.Scope{Tier: "harbour-1"}, After: 1}, {Kind: alert.Over, For: alert.Scope{Tag: "sea"}, After: 2}, {Kind: alert.Over, For: alert.Scope{Group: "Ticketing"}, After: 3}, {Kind: alert.Over, After: 4}}
	require.EqualValues(t, 3, alert.Of(rules, alert.Over, m).After)
	require.EqualValues(t, 2, alert.Of(rules[:2], alert.Over, m).After)
	require.EqualValues(t, 1, alert.Of(rules[:1], alert.Over, m).After)
	require.EqualValues(t, 4, alert.Of(rules, alert.Over, alert.Member{ID: "x"}).After)
	require.Equal(t, time.Minute, alert.Of(nil, alert.Over, m).After)
	require.Equal(t, time.Minute, alert.Of([]alert.Rule{{Kind: alert.LinkDown, For: alert.Scope{Tag: "sea"}, After: 9}}, alert.LinkDown, alert.Member{}).After)

	for name, c := range map[string]struct {
		rule  alert.Rule
		field string
	}{
		"kind":           {alert.Rule{Kind: "weather"}, "kind"},
		"level":          {alert.Rule{Kind: alert.Over, Level: "dire"}, "level"},
		"scope":          {alert.Rule{Kind: alert.LinkDown, Level: alert.Urgent, For: alert.Scope{Tag: "sea"}}, "for"},
		"two scopes":     {alert.Rule{Kind: alert.Over, Level: alert.Urgent, For: alert.Scope{Tag: "sea", Tier: "x"}}, "for"},
		"after":          {alert.Rule{Kind: alert.Over, Level: alert.Urgent, After: 8 * 24 * time.Hour}, "afterSeconds"},
		"threshold":      {alert.Rule{Kind: alert.Over, Level: alert.Urgent, Within: time.Hour}, "withinSeconds"},
		"no threshold":   {alert.Rule{Kind: alert.Filling, Level: alert.Urgent}, "withinSeconds"},
		"escalate where": {alert.Rule{Kind: alert.Over, Level: alert.Urgent, EscalateAfter: time.Hour}, "escalateTo"},
		"escalate never": {alert.Rule{Kind: alert.Over, Level: alert.Urgent, EscalateAfter: -1}, "escalateAfterSeconds"},
	} {
		field, why := c.rule.Check()
		require.Equal(t, c.field, field, name)
		require.NotEmpty(t, why, name)
	}
	at, field, _ := alert.CheckAll([]alert.Rule{alert.Defaults()[0], alert.Defaults()[0]})
	require.Equal(t, 1, at)
	require.Equal(t, "for", field)
	for _, r := range alert.Defaults() {
		_, why := r.Check()
		require.Empty(t, why, r.Kind)
	}
}

// Nobody is told in quiet hours or of what is silenced, and is when that is over if it is so
// still.
func TestQuietAndSilenced(t *testing.T) {
	s := group(alert.Over, "Ticketing")
	quiet, err := cadence.ParseQuiet("daily 11:00-12:30", "UTC")
	require.NoError(t, err)
	r := newRun()
	r.rules = []alert.Rule{{Kind: alert.Over, Level: alert.Urgent, Quiet: quiet}}
	r.during(0, 31*time.Minute, s)
	require.Equal(t, []told{{30 * time.Minute, alert.Raised, "over target Ticketing", "[]"}}, r.said)

	r = newRun()
	r.silences = []alert.Silence{{By: "anna", Reason: "array swap", From: start, Until: start.Add(20 * time.Minute), For: alert.Scope{Group: "id-Ticketing"}}}
	r.during(0, 10*time.Minute, s, group(alert.Over, "Payroll"))
	require.Equal(t, []told{{time.Minute, alert.Raised, "over target Payroll", "[]"}}, r.said, "the other one is not silenced")
	require.Equal(t, "anna: array swap", r.book.Open[s.Key()].Silenced)
	r.during(10*time.Minute, 21*time.Minute, s, group(alert.Over, "Payroll"))
	require.Equal(t, told{20 * time.Minute, alert.Raised, "over target Ticketing", "[]"}, r.said[1])

	r = newRun()
	r.silences = []alert.Silence{{By: "anna", From: start, Until: start.Add(20 * time.Minute)}}
	r.during(0, 10*time.Minute, s)
	r.during(10*time.Minute, 30*time.Minute)
	require.Empty(t, r.said, "it came and went while it was silenced")

	weekly, err := calendar.Parse("mon at 12:10", "UTC")
	require.NoError(t, err)
	window := alert.Silence{From: start, Calendar: weekly, Lasts: time.Hour}
	for at, want := range map[time.Duration]bool{0: false, 10 * time.Minute: true, 69 * time.Minute: true, 70 * time.Minute: false, 7*24*time.Hour + 30*time.Minute: true, 8 * 24 * time.Hour: false} {
		require.Equal(t, want, window.Holds(start.Add(at)), at)
	}
}

// Where nobody sees to it, others are told, once; whoever acknowledges it ends that.
func TestEscalation(t *testing.T) {
	s := group(alert.Over, "Ticketing")
	r := newRun()
	r.rules = []alert.Rule{{Kind: alert.Over, Level: alert.Urgent, Channels: []string{"desk"}, EscalateAfter: 15 * time.Minute, EscalateTo: "on-call"}}
	r.during(0, time.Hour, s)
	r.during(time.Hour, 2*time.Hour)
	require.Equal(t, []told{{0, alert.Raised, "over target Ticketing", "[desk]"}, {15 * time.Minute, alert.Escalated, "over target Ticketing", "[on-call]"}, {time.Hour + alert.Hold, alert.Cleared, "over target Ticketing", "[desk on-call]"}}, r.said)

	r.said = nil
	r.look(3*time.Hour, s)
	a := r.book.Open[s.Key()]
	a.AckedAt, a.AckedBy = start.Add(3*time.Hour), "anna"
	mine := r.book.Clone()
	mine.Open[s.Key()] = a
	r.book.TakeAcks(mine)
	r.during(3*time.Hour, 5*time.Hour, s)
	require.Len(t, r.said, 1, "anna sees to it")
}

// After a restart nothing is told again, nothing is lost, and what cannot be known stays.
func TestRestart(t *testing.T) {
	s := group(alert.Over, "Ticketing")
	r := newRun()
	r.during(0, 5*time.Minute, s)
	require.Len(t, r.said, 1)
	var open []alert.Alert
	for _, a := range r.book.Open {
		open = append(open, a)
	}
	r.book = alert.NewBook(open)
	r.during(5*time.Minute, time.Hour, s)
	require.Len(t, r.said, 1)
	for at := time.Hour; at < 2*time.Hour; at += time.Minute {
		r.book.Step(alert.Look{Now: start.Add(at), Unknown: func(k alert.Key) bool { return k == s.Key() }})
	}
	require.Len(t, r.book.Open, 1, "nothing is known of it, so it stays")
	r.during(-time.Hour, 0) // the clock is set back: it is not cleared at once
	require.Len(t, r.book.Open, 0, "it has not been so for an hour by whatever clock")
}

// Whatever comes and goes: an alert is told raised before it is told cleared, each once, and
// of one cause one is open.
func TestOnceEach(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r := newRun()
		signs := []alert.Sign{down, group(alert.Over, "a", down.Key()), group(alert.Stalled, "a", down.Key()), group(alert.Over, "b"), group(alert.NotReady, "b", down.Key())}
		at := time.Duration(0)
		events := map[string][]alert.Event{}
		for range rapid.IntRange(1, 60).Draw(t, "looks") {
			at += time.Duration(rapid.IntRange(1, 400).Draw(t, "seconds")) * time.Second
			var now []alert.Sign
			for _, s := range signs {
				if rapid.Bool().Draw(t, "seen") {
					now = append(now, s)
				}
			}
			if rapid.IntRange(0, 5).Draw(t, "restart") == 0 {
				var open []alert.Alert
				for _, a := range r.book.Open {
					open = append(open, a)
				}
				r.book = alert.NewBook(open)
			}
			_, tell := r.book.Step(alert.Look{Now: start.Add(at), Signs: now, NewID: func() string { r.n++; return fmt.Sprint(r.n) }})
			for _, x := range tell {
				events[x.Alert.ID] = append(events[x.Alert.ID], x.Event)
			}
			for k, a := range r.book.Open {
				if !a.Open() || a.Key() != k || a.ID == "" {
					t.Fatalf("%+v", a)
				}
			}
		}
		for id, es := range events {
			if len(es) > 2 || es[0] != alert.Raised || len(es) == 2 && es[1] != alert.Cleared {
				t.Fatalf("alert %s: %v", id, es)
			}
		}
	})
}

// Where nobody can be told nobody counts as told, and they are as soon as they can be.
func TestNobodyToTell(t *testing.T) {
	s, can := group(alert.Over, "Ticketing"), false
	b := alert.NewBook(nil)
	told, changes := 0, 0
	for at := time.Duration(0); at < time.Hour; at += 10 * time.Second {
		can = at >= 30*time.Minute
		changed, tell := b.Step(alert.Look{Now: start.Add(at), Signs: []alert.Sign{s}, NewID: func() string { return "1" }, Takes: func([]string, alert.Level) bool { return can }})
		if told, changes = told+len(tell), changes+len(changed); !can {
			require.True(t, b.Open[s.Key()].ToldAt.IsZero())
		}
	}
	require.Equal(t, []int{1, 2}, []int{told, changes})
}
