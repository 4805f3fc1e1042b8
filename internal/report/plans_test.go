package report

import (
	"context"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/clock"
	"kestrel/internal/core/calendar"
	"kestrel/internal/records"
)

// What a report is of is whole days, weeks and months where the plan's people live, through
// changes of the clock and of the year.
func TestTheLastWholeOne(t *testing.T) {
	for _, c := range []struct{ over, zone, before, from, to string }{
		{"day", "UTC", "2026-11-26T07:00:00Z", "2026-11-25T00:00:00Z", "2026-11-26T00:00:00Z"},
		{"day", "Europe/Oslo", "2026-11-26T07:00:00Z", "2026-11-24T23:00:00Z", "2026-11-25T23:00:00Z"},
		{"day", "Europe/Oslo", "2026-03-30T07:00:00Z", "2026-03-28T23:00:00Z", "2026-03-29T22:00:00Z"}, // 23 hours
		{"day", "Europe/Oslo", "2026-10-26T07:00:00Z", "2026-10-24T22:00:00Z", "2026-10-25T23:00:00Z"}, // 25 hours
		{"week", "UTC", "2026-11-26T07:00:00Z", "2026-11-16T00:00:00Z", "2026-11-23T00:00:00Z"},
		{"week", "UTC", "2026-11-23T00:00:00Z", "2026-11-16T00:00:00Z", "2026-11-23T00:00:00Z"},
		{"week", "UTC", "2026-11-22T23:59:59Z", "2026-11-09T00:00:00Z", "2026-11-16T00:00:00Z"},
		{"month", "UTC", "2026-01-01T00:00:00Z", "2025-12-01T00:00:00Z", "2026-01-01T00:00:00Z"},
		{"month", "Pacific/Auckland", "2026-02-28T12:00:00Z", "2026-01-31T11:00:00Z", "2026-02-28T11:00:00Z"},
		{"month", "UTC", "2028-03-31T12:00:00Z", "2028-02-01T00:00:00Z", "2028-03-01T00:00:00Z"},
	} {
		before, err := time.Parse(time.RFC3339, c.before)
		require.NoError(t, err)
		from, to, err := plan{Over: c.over, At: calendar.Calendar{Zone: c.zone}}.last(before)
		require.NoError(t, err)
		require.Equal(t, []string{c.from, c.to}, []string{from.Format(time.RFC3339), to.Format(time.RFC3339)}, "%+v", c)
	}
}

// Of the times that passed while nobody looked, the last one counts, once.
func TestDue(t *testing.T) {
	at, err := calendar.Parse("daily at 07:00", "Europe/Oslo")
	require.NoError(t, err)
	body, err := json.Marshal(plan{Over: "day", At: at})
	require.NoError(t, err)
	madeAt := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	rec := records.ReportPlan{Name: "board", Body: body, MadeAt: madeAt}
	p, err := planOf(rec)
	require.NoError(t, err)
	due := func(now time.Time) (time.Time, bool) {
		at, ok, err := p.due(rec, now)
		require.NoError(t, err)
		return at.UTC(), ok
	}
	_, ok := due(madeAt.Add(time.Hour))
	require.False(t, ok, "not for what was before it was made")
	first := time.Date(2026, 11, 21, 6, 0, 0, 0, time.UTC)
	got, ok := due(first)
	require.True(t, ok)
	require.Equal(t, first, got)
	got, ok = due(first.AddDate(0, 0, 3).Add(time.Hour))
	require.True(t, ok)
	require.Equal(t, first.AddDate(0, 0, 3), got)
	rec.SentFor = &got
	_, ok = due(first.AddDate(0, 0, 3).Add(2 * time.Hour))
	require.False(t, ok)
}

// shelf keeps plans, and notes for which reports were added.
type shelf struct {
	Shelf
	plans []records.ReportPlan
	added []string
}

func (s *shelf) ReportPlans(context.Context) ([]records.ReportPlan, error) { return s.plans, nil }

func (s *shelf) AddReport(_ context.Context, plan string, at time.Time, _ []records.Message) error {
	for i := range s.plans {
		if s.plans[i].ID == plan {
			s.plans[i].SentFor = &at
			s.added = append(s.added, plan)
		}
	}
	return nil
}

type post struct{ Post }

func (post) Wake() {}

// A plan that cannot be read or made holds up no other, and is told of.
func TestABadPlanHoldsUpNoOther(t *testing.T) {
	madeAt := time.Now().AddDate(0, 0, -3)
	at, err := calendar.Parse("daily at 07:00", "")
	require.NoError(t, err)
	fine, err := json.Marshal(plan{Over: "day", At: at})
	require.NoError(t, err)
	s := &shelf{plans: []records.ReportPlan{{ID: "a", Name: "spoilt", Body: []byte(`{"at":7}`), MadeAt: madeAt}, {ID: "b", Name: "board", Body: fine, MadeAt: madeAt}}}
	r := New(Config{Sources: Sources{Clock: clock.Wall{}}, DB: s, Post: post{}})
	r.make = func(context.Context, records.ReportPlan, plan, time.Time) ([]records.Message, error) { return nil, nil }
	require.ErrorContains(t, r.look(t.Context()), "spoilt")
	require.Equal(t, []string{"b"}, s.added)
	require.Error(t, r.look(t.Context()))
	require.Equal(t, []string{"b"}, s.added, "once")
}
