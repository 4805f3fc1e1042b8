package words_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/core/health"
	"kestrel/internal/core/words"
)

var now = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)

func said(ps []words.Phrase) string {
	var out []string
	for _, p := range ps {
		out = append(out, p.Text)
	}
	return strings.Join(out, " ")
}

func live(name string, st health.State, exposure time.Duration) words.Group {
	return words.Group{ID: name, Name: name, State: st, Out: true, Sealed: true, Exposure: exposure, Target: 15 * time.Minute, Points: 3}
}

func TestHeadlineSaysTheWorstThingFirst(t *testing.T) {
	ended := words.Group{Name: "Crew rota", Ended: true, Points: 4, Newest: now.Add(-2 * time.Hour)}
	for name, c := range map[string]struct {
		groups []words.Group
		links  int
		want   string
	}{
		"nothing at all":                {nil, 0, "Nothing is protected yet. Pair this site with another to begin."},
		"paired":                        {nil, 1, "Nothing is protected yet. Make the first protection group."},
		"calm":                          {[]words.Group{live("A", health.OnTarget, time.Minute), live("B", health.OnTarget, time.Minute)}, 1, "All 2 groups would lose less than they promised."},
		"over, and one is tight":        {[]words.Group{live("A", health.Over, 21*time.Minute), live("B", health.Tight, 14*time.Minute)}, 1, "A is 6 min over its 15 min target. B is close. 1 of 2 groups would lose less than they promised."},
		"only points, after a disaster": {[]words.Group{ended}, 0, "Points are kept here of a group that has no home now: Crew rota (4 points, newest 2 h old). Start their machines here from a point, on the group's page or with: kestrel landing create 'Crew rota'"},
		"points without a home besides": {[]words.Group{live("A", health.OnTarget, time.Minute), ended}, 1, "The one group would lose less than it promised. Points are kept here of a group that has no home now: Crew rota (4 points, newest 2 h old)."},
		"an ended group with no points": {[]words.Group{{Name: "X", Ended: true}}, 1, "Nothing is protected yet. Make the first protection group."},
	} {
		t.Run(name, func(t *testing.T) { require.Equal(t, c.want, said(words.Headline(c.groups, c.links, now))) })
	}
	require.Equal(t, words.Over, words.Headline([]words.Group{live("A", health.Over, time.Hour)}, 1, now)[0].Tone)
}

func TestDark(t *testing.T) {
	require.Empty(t, words.Dark("Norhaven", nil))
	in := live("A", health.OnTarget, time.Minute)
	in.Out = false
	require.Equal(t, "No group goes out from Norhaven yet · 3 recovery points", words.Dark("Norhaven", []words.Group{in}))
	require.Equal(t, "If Norhaven went dark now: worst loss 21 min (B), typical 1 min · 6 recovery points", words.Dark("Norhaven", []words.Group{live("A", health.OnTarget, time.Minute), live("B", health.Over, 21*time.Minute)}))
}

func TestNeeds(t *testing.T) {
	lost := live("C", health.OnTarget, time.Second)
	lost.LostPoints = 1
	var got []words.Need
	for _, g := range []words.Group{live("A", health.Over, time.Hour), live("B", health.OnTarget, time.Second), lost, {Name: "D", Ended: true, State: health.Paused}} {
		if n, ok := g.Need(); ok {
			got = append(got, n)
		}
	}
	require.Len(t, got, 2)
	require.Equal(t, "A is over target", got[0].Title)
	require.Equal(t, "Exposure 1 h of 15 min.", got[0].Text)
	require.Equal(t, "C has points that cannot be read whole", got[1].Title)
}

func TestNearest(t *testing.T) {
	known := []string{"Ticketing", "Crew rota", "Pier cameras"}
	for typed, want := range map[string]string{"Tiketing": "Ticketing", "ticketign": "Ticketing", "crew-rota": "Crew rota", "pier": "Pier cameras", "x": "", "Fuel ledger": ""} {
		got, ok := words.Nearest(typed, known)
		require.Equal(t, want, got, typed)
		require.Equal(t, want != "", ok)
	}
}

func TestSmallWords(t *testing.T) {
	require.Equal(t, "a, b and 3 more", words.Joined([]string{"a", "b", "c", "d", "e"}, 2))
	require.Equal(t, "a, b and c", words.Joined([]string{"a", "b", "c"}, 2))
	require.Equal(t, "1 point", words.Count(1, "point"))
	require.Equal(t, "Ünten.", words.Sentence("ünten. "))
	require.Empty(t, words.Sentence(" "))
	require.Equal(t, "it [31mfail", words.LastLine("first\nit \x1b[31mfailed\xff\r\n", 11))
	require.Empty(t, words.LastLine(" \n", 10))
}
