package history_test

import (
	"testing"
	"testing/synctest"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

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
		strips, err := s.History.Strips(t.Context(), time.Now().Add(-span.Day))
		require.NoError(t, err)
		require.Len(t, strips[g.ID], 1)
		time.Sleep(500 * span.Day)
		arrives(t, s, g, time.Second)
		require.NoError(t, s.History.Tidy(t.Context()))
		strips, err = s.History.Strips(t.Context(), time.Now().Add(-600*span.Day))
		require.NoError(t, err)
		require.Len(t, strips[g.ID], 1, "the old row is gone")
	})
}
