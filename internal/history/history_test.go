package history_test

import (
	"cmp"
	"math/rand/v2"
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/core/group"
	"kestrel/internal/core/span"
	"kestrel/internal/directory"
	"kestrel/internal/problem"
	"kestrel/internal/support/rooms"
)

// virtual runs a test at home, with a group whose target is five minutes.
func virtual(t *testing.T, f func(t *testing.T, s *rooms.Side, g directory.Record)) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		s, err := rooms.New(rooms.HomeID, rooms.HomeName, 1)
		require.NoError(t, err)
		defer func() { require.NoError(t, s.Store.Close()) }()
		g, err := s.Groups.Create(t.Context(), rooms.Anna(), rooms.Record(uuid.NewString(), rooms.Spec("Ticketing")))
		require.NoError(t, err)
		f(t, s, g)
	})
}

// arrives is a point that is captured now and sealed after so long.
func arrives(t *testing.T, s *rooms.Side, g directory.Record, took time.Duration) {
	t.Helper()
	at := time.Now()
	time.Sleep(took)
	require.NoError(t, s.History.Arrived(t.Context(), g.ID, at, time.Now()))
}

// What was promised then judges what was then: a sharper target makes no breach of
// the past, and a wider one hides none.
func TestThePastKeepsItsPromise(t *testing.T) {
	virtual(t, func(t *testing.T, s *rooms.Side, g directory.Record) {
		begin := time.Now()
		for range 30 { // a sawtooth up to 4 min 10 s
			arrives(t, s, g, 10*time.Second)
			time.Sleep(230 * time.Second)
		}
		x, err := s.History.Exposure(t.Context(), g, &begin, nil)
		require.NoError(t, err)
		require.InDelta(t, 1, x.KeptShare, 1e-9)
		require.Zero(t, x.OverSeconds)
		edit := func(target time.Duration) {
			_, _, err := s.Groups.Update(t.Context(), rooms.Anna(), g.ID, group.Patch{Target: &target}, nil, func(directory.Record, []group.Change) string { return "target" })
			require.NoError(t, err)
			g, _ = s.Groups.Get(g.ID)
		}
		edit(2 * time.Minute)
		changed := time.Now()
		x, err = s.History.Exposure(t.Context(), g, &begin, nil)
		require.NoError(t, err)
		require.InDelta(t, 1, x.KeptShare, 1e-9, "it was kept, whatever is promised now")
		require.EqualValues(t, 120, x.TargetSeconds)
		require.Len(t, x.Targets, 2)
		require.EqualValues(t, 300, x.Targets[0].Seconds)
		require.WithinDuration(t, changed, x.Targets[1].Since, time.Second)

		for range 15 {
			arrives(t, s, g, 10*time.Second)
			time.Sleep(230 * time.Second)
		}
		x, err = s.History.Exposure(t.Context(), g, &changed, nil)
		require.NoError(t, err)
		over := x.OverSeconds
		require.Positive(t, over)
		edit(time.Hour)
		x, err = s.History.Exposure(t.Context(), g, &changed, nil)
		require.NoError(t, err)
		require.InDelta(t, over, x.OverSeconds, 1, "what was a breach stays one")
	})
}

// Rows are kept for 400 days, and the one before a stretch tells what it begins with.
func TestWhatAStretchBeginsWith(t *testing.T) {
	virtual(t, func(t *testing.T, s *rooms.Side, g directory.Record) {
		arrives(t, s, g, time.Second)
		time.Sleep(3 * time.Hour)
		from := time.Now().Add(-time.Hour)
		x, err := s.History.Exposure(t.Context(), g, &from, nil)
		require.NoError(t, err)
		require.InDelta(t, 2*3600, x.Vertices[0].Seconds, 2, "it had risen for two hours already")
		require.InDelta(t, 3*3600, x.WorstSeconds, 2)
		_, err = s.History.Exposure(t.Context(), g, new(time.Now().Add(time.Minute)), nil)
		p, ok := problem.Of(err)
		require.True(t, ok)
		require.Equal(t, "from", p.Errors[0].Field)
		require.NoError(t, s.History.Tidy(t.Context()))
		strips, err := s.History.Strips(t.Context(), []string{g.ID}, time.Now().Add(-span.Day))
		require.NoError(t, err)
		require.Len(t, strips[g.ID], 1)
		time.Sleep(500 * span.Day)
		arrives(t, s, g, time.Second)
		require.NoError(t, s.History.Tidy(t.Context()))
		strips, err = s.History.Strips(t.Context(), []string{g.ID}, time.Now().Add(-600*span.Day))
		require.NoError(t, err)
		require.Len(t, strips[g.ID], 1, "the old row is gone")
	})
}

// Days that are summed up say the same as the arrivals that they were summed up from, whatever
// was promised meanwhile; and go on saying so when the arrivals are gone.
func TestDaysSayWhatArrivalsSay(t *testing.T) {
	virtual(t, func(t *testing.T, s *rooms.Side, g directory.Record) {
		r := rand.New(rand.NewPCG(7, 7))
		begin := time.Now()
		for i := range 600 {
			arrives(t, s, g, time.Duration(5+r.IntN(60))*time.Second)
			time.Sleep(time.Duration(r.IntN(1700)) * time.Second)
			p := group.Patch{}
			switch i {
			case 100, 400:
				p.Target = new(20 * time.Minute)
			case 300:
				p.Target = new(2 * time.Minute)
			case 350:
				p.Pause = &group.Pause{Since: time.Now(), Until: time.Now().Add(7 * time.Hour), Reason: "the array is moved"}
			default:
				continue
			}
			_, _, err := s.Groups.Update(t.Context(), rooms.Anna(), g.ID, p, nil, func(directory.Record, []group.Change) string { return "edit" })
			require.NoError(t, err)
			g, _ = s.Groups.Get(g.ID)
		}
		ask := func(from, to time.Time) api.AttainmentRow {
			v, err := s.History.Attainment(t.Context(), s.Groups.All(), "", &from, &to)
			require.NoError(t, err)
			return v.Total
		}
		now := time.Now()
		require.Greater(t, now.Sub(begin), 5*span.Day)
		stretches := [][2]time.Time{{begin, now}, {begin.Add(30 * time.Hour), now.Add(-26 * time.Hour)}, {begin.Add(30 * time.Hour), begin.Add(31 * time.Hour)}, {now.Truncate(span.Day).Add(-2 * span.Day), now.Truncate(span.Day)}}
		var before []api.AttainmentRow
		for _, x := range stretches {
			before = append(before, ask(x[0], x[1]))
		}
		require.Positive(t, before[0].OverSeconds)
		require.Positive(t, before[0].PausedSeconds)
		for range 3 {
			require.NoError(t, s.History.CloseDays(t.Context(), s.Groups.All()))
		}
		days, err := s.DB.AttainedDays(t.Context(), begin.Add(-span.Day), now)
		require.NoError(t, err)
		require.GreaterOrEqual(t, len(days), 5)
		require.True(t, days[len(days)-1].Add(span.Day).Before(now))
		for i, x := range stretches {
			after := ask(x[0], x[1])
			require.InDelta(t, before[i].KeptShare, after.KeptShare, 1e-9)
			before[i].KeptShare = after.KeptShare
			require.Equal(t, before[i], after, "stretch %d", i)
		}
		whole := ask(days[0], days[len(days)-1].Add(span.Day))
		require.NoError(t, s.DB.TrimArrivals(t.Context(), time.Now()))
		require.Equal(t, whole, ask(days[0], days[len(days)-1].Add(span.Day)))
	})
}

// A long curve is drawn by its crests, none of which is lost, and judged as exactly as a short
// one.
func TestALongCurve(t *testing.T) {
	virtual(t, func(t *testing.T, s *rooms.Side, g directory.Record) {
		begin := time.Now()
		peak := time.Time{}
		for i := range 60 * 24 {
			arrives(t, s, g, 20*time.Second)
			if i == 700 {
				time.Sleep(5 * time.Hour) // longer than ever
				arrives(t, s, g, 20*time.Second)
				peak = time.Now()
			}
			time.Sleep(time.Hour)
		}
		for range 15 {
			require.NoError(t, s.History.CloseDays(t.Context(), s.Groups.All()))
		}
		now := time.Now()
		require.Greater(t, now.Sub(begin), 60*span.Day)
		v, err := s.History.Exposure(t.Context(), g, &begin, &now)
		require.NoError(t, err)
		require.Less(t, len(v.Vertices), 1200, "of 1,441 arrivals, each a corner and a fall")
		top := slices.MaxFunc(v.Vertices, func(a, b api.Vertex) int { return cmp.Compare(a.Seconds, b.Seconds) })
		require.InDelta(t, v.WorstSeconds, top.Seconds, 1, "the crest is drawn")
		require.WithinDuration(t, peak, top.At, time.Second)
		require.InDelta(t, now.Sub(v.Vertices[len(v.Vertices)-1].At).Seconds(), 0, 1)
		require.True(t, slices.IsSortedFunc(v.Vertices, func(a, b api.Vertex) int { return a.At.Compare(b.At) }))
		over := int64(0)
		for at := begin; at.Before(now); at = at.Add(30 * span.Day) {
			part, err := s.History.Exposure(t.Context(), g, &at, new(minTime(now, at.Add(30*span.Day))))
			require.NoError(t, err)
			over += part.OverSeconds
		}
		require.InDelta(t, over, v.OverSeconds, 3)
	})
}

func minTime(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

// What was so long ago that nothing is kept of it is refused, whichever end is named.
func TestBeforeAllThatIsKept(t *testing.T) {
	virtual(t, func(t *testing.T, s *rooms.Side, g directory.Record) {
		long := time.Date(0, 1, 1, 0, 0, 0, 0, time.UTC)
		field := func(err error) string {
			p, ok := problem.Of(err)
			require.True(t, ok, "%v", err)
			return p.Errors[0].Field
		}
		_, err := s.History.Attainment(t.Context(), s.Groups.All(), "", nil, &long)
		require.Equal(t, "to", field(err))
		_, err = s.History.Attainment(t.Context(), s.Groups.All(), "", &long, nil)
		require.Equal(t, "from", field(err))
		_, err = s.History.Exposure(t.Context(), g, nil, &long)
		require.Equal(t, "to", field(err))
		_, err = s.History.Exposure(t.Context(), g, &long, nil)
		require.NoError(t, err, "all that there is")
	})
}
