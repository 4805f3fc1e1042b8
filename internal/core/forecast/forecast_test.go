package forecast_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/core/cadence"
	"kestrel/internal/core/calendar"
	"kestrel/internal/core/change"
	"kestrel/internal/core/forecast"
	"kestrel/internal/core/pace"
	"kestrel/internal/core/schedule"
	"kestrel/internal/core/span"
)

var now = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)

const mib = 1 << 20

func group(id string, every, target time.Duration, rate float64) forecast.Group {
	return forecast.Group{ID: id, Name: id, Link: "l", Target: target, Cadence: cadence.Cadence{Every: every}, Anchor: now, Weight: 2, Last: now.Add(-every / 2), Captured: now.Add(-every / 2), Change: change.Steady(rate), SeedBytes: 100 * mib}
}

func input(rate int64, days int, gs ...forecast.Group) forecast.Input {
	return forecast.Input{Now: now, For: time.Duration(days) * span.Day, Limits: schedule.Limits{Site: 4}, Groups: gs, Links: []forecast.Link{{ID: "l", Plan: pace.Plan{Rate: rate}}}}
}

// One group alone: what comes out can be reckoned by hand.
func TestOneGroup(t *testing.T) {
	g := group("a", 10*time.Minute, 15*time.Minute, mib) // 600 MiB a cycle, at 4 MiB/s for 150 s
	g.Lead, g.Tail = time.Second, 4*time.Second
	g.Captured = g.Last.Add(g.Lead)
	out := forecast.Run(input(4*mib, 1, g))
	a := out.Groups[0]
	require.True(t, out.Fits())
	require.InDelta(t, 144, a.Cycles, 1)
	require.InDelta(t, 144*600*mib, a.Bytes, 700*mib)
	require.InDelta(t, 155, a.Length.Seconds(), 2)
	require.InDelta(t, 754, a.Worst.Seconds(), 2, "one cadence, and what a cycle takes after the capture")
	require.InDelta(t, 454, a.Mean.Seconds(), 3)
	require.EqualValues(t, 1, a.Within)
	require.InDelta(t, 0.25, out.Links[0].Share, 0.01)
	require.Len(t, out.Links[0].Hours, 25)

	g.Target = 10 * time.Minute
	a = forecast.Run(input(4*mib, 1, g)).Groups[0]
	require.InDelta(t, 1-154.0/600, a.Within, 0.01)
	require.False(t, a.Over.IsZero())

	g.Captured, g.Last, g.SeedBytes = time.Time{}, time.Time{}, 4*3600*mib // an hour at 4 MiB/s
	a = forecast.Run(input(4*mib, 1, g)).Groups[0]
	require.WithinDuration(t, now.Add(time.Hour), a.Seeded, 10*time.Second)
	require.Greater(t, a.Worst, time.Hour, "what changed during the first copy has to follow")

	g.SeedBytes = 1 << 50
	require.True(t, forecast.Run(input(4*mib, 1, g)).Groups[0].Seeding)
	g.Paused = true
	require.Zero(t, forecast.Run(input(4*mib, 1, g)).Groups[0].Cycles)
	g.Paused, g.Cadence, g.Change = false, cadence.Cadence{}, nil
	require.Equal(t, 1, forecast.Run(input(0, 1, g)).Groups[0].Cycles, "by hand, only the first copy")
}

// What is known of the world counts: times of the week, absence of the other site, busy
// hours, quiet times, calendars.
func TestWhatIsKnownCounts(t *testing.T) {
	g := group("a", 10*time.Minute, 30*time.Minute, mib)
	in := input(8*mib, 2, g)
	calm := forecast.Run(in).Groups[0]
	require.Less(t, calm.Worst, 15*time.Minute)

	in.Links[0].Away = []forecast.Span{{now.Add(5 * time.Hour), now.Add(11 * time.Hour)}}
	away := forecast.Run(in).Groups[0]
	require.InDelta(t, 6*time.Hour.Minutes(), away.Worst.Minutes(), 60)
	require.WithinDuration(t, now.Add(5*time.Hour+30*time.Minute), away.Over, 15*time.Minute)

	in = input(8*mib, 2, g)
	in.Links[0].Plan.Windows = []pace.Window{{Days: pace.AllDays, From: 20 * 60, To: 22 * 60, Rate: mib / 2}}
	slow := forecast.Run(in).Groups[0]
	require.Greater(t, slow.Worst, 30*time.Minute, "in two hours half of what changes crosses")
	require.Equal(t, 20, slow.Over.Hour())

	in = input(2*mib, 7, g)
	in.Groups[0].Busy = []change.Hour{{Hour: 4*24 + 9, Share: 6}} // Friday from nine
	busy := forecast.Run(in).Groups[0]
	require.Equal(t, time.Friday, busy.Over.Weekday())

	in = input(8*mib, 2, g)
	in.Groups[0].Cadence.Quiet, _ = cadence.ParseQuiet("daily 02:00-05:00", "UTC")
	quiet := forecast.Run(in).Groups[0]
	require.InDelta(t, 3*60, quiet.Worst.Minutes(), 45)
	require.Equal(t, 2, quiet.Over.Hour())

	c, err := calendar.Parse("daily at 03:00, 15:00", "Europe/Oslo")
	require.NoError(t, err)
	in = input(8*mib, 4, g)
	in.Groups[0].Cadence = cadence.Cadence{Calendar: c}
	require.Equal(t, 8, forecast.Run(in).Groups[0].Cycles)

	in = input(8*mib, 1, g)
	in.Groups[0].ReadRate = 1.25 * mib
	bound := forecast.Run(in).Groups[0]
	require.InDelta(t, 480, bound.Length.Seconds(), 5, "the platform is slower than the link")
	in.Groups[0].Wire = 0.5
	require.InDelta(t, bound.Bytes/2, forecast.Run(in).Groups[0].Bytes, bound.Bytes/50)
	in.Groups[0].Change = nil
	require.True(t, forecast.Run(in).Groups[0].Unknown)
}

// Groups that share a link: nobody gets more than the link has, all of it is used while
// somebody waits, and a longer look begins like a shorter one.
func TestSharing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var gs []forecast.Group
		for i := range rapid.IntRange(1, 12).Draw(t, "groups") {
			every := time.Duration(rapid.IntRange(60, 3600).Draw(t, "every")) * time.Second
			g := group(fmt.Sprint("g", i), every, 2*every, float64(rapid.IntRange(1, 400).Draw(t, "rate"))*1024)
			g.Weight = rapid.SampledFrom([]float64{1, 2, 4}).Draw(t, "weight")
			if rapid.Bool().Draw(t, "slow") {
				g.ReadRate = float64(rapid.IntRange(50, 4000).Draw(t, "read")) * 1024
			}
			gs = append(gs, g)
		}
		in := input(int64(rapid.IntRange(100, 4000).Draw(t, "link"))*1024, 1, gs...)
		out := forecast.Run(in)
		l := out.Links[0]
		if l.Share > 1.001 || l.Busiest > 1.01 {
			t.Fatalf("the link carries %f, at most %f of itself", l.Share, l.Busiest)
		}
		total := 0.0
		for _, g := range out.Groups {
			total += g.Bytes
			if g.Within < 0 || g.Within > 1 || g.Mean > g.Worst {
				t.Fatalf("%+v", g)
			}
		}
		if total < l.Bytes*0.999 || total > l.Bytes*1.001 {
			t.Fatalf("groups sent %f, and the link carried %f", total, l.Bytes)
		}
		in.For /= 2
		half := forecast.Run(in)
		for i := range half.Links[0].Hours[:12] {
			if a, b := half.Links[0].Hours[i], l.Hours[i]; a < b-1 || a > b+1 {
				t.Fatalf("hour %d: %f looked at for half as long, %f else", i, a, b)
			}
		}
	})
}

// Where it does not fit, each change that is named would make it fit, or nearly.
func TestSuggestions(t *testing.T) {
	a, b := group("Ticketing", 5*time.Minute, 15*time.Minute, 1.7*mib), group("Pier cameras", 10*time.Minute, 30*time.Minute, 3*mib)
	b.Change = change.Curve{{Within: time.Minute, Bytes: 180 * mib}, {Within: time.Hour, Bytes: 600 * mib}, {Within: span.Day, Bytes: 1900 * mib}}
	in := input(2*mib, 2, a, b)
	out := forecast.Run(in)
	require.False(t, out.Fits())
	need, groups := in.Needs("l")
	require.Greater(t, need, 2.0*mib)
	require.Len(t, groups, 2)
	cs := forecast.Suggest(in, out)
	require.NotEmpty(t, cs)
	require.True(t, cs[0].Fits)
	byKind := map[string]bool{}
	for _, c := range cs {
		require.True(t, c.Fits || c.Misses < 2, "%+v", c)
		next := input(2*mib, 2, a, b)
		switch {
		case c.Rate > 0:
			next.Links[0].Plan.Rate = c.Rate
			byKind["rate"] = true
		case c.Cadence > 0 || c.Target > 0 || c.Group != "":
			for i := range next.Groups {
				if next.Groups[i].ID != c.Group {
					continue
				}
				if c.Cadence > 0 {
					next.Groups[i].Cadence.Every = c.Cadence
				}
				if c.Target > 0 {
					next.Groups[i].Target = c.Target
				}
			}
			byKind["group"] = true
		}
		require.Equal(t, c.Fits, forecast.Run(next).Fits(), "%+v", c)
	}
	require.Len(t, byKind, 2, "%+v", cs)
	require.Empty(t, forecast.Suggest(input(100*mib, 1, a), forecast.Run(input(100*mib, 1, a))))
}

// estate is groups as they are at a large site: cadences from a quarter of an hour to a day.
func estate(n int, load float64) forecast.Input {
	in := input(400*mib, 7)
	everies := []time.Duration{15 * time.Minute, 30 * time.Minute, time.Hour, 2 * time.Hour, 4 * time.Hour, 12 * time.Hour, span.Day}
	for i := range n {
		every := everies[i%len(everies)]
		g := group(fmt.Sprintf("g%04d", i), every, 2*every, load*400*mib/float64(n))
		g.Anchor = now.Add(time.Duration(i*7919%86400) * time.Second)
		g.Last = now.Add(-every).Add(time.Duration(i) * time.Millisecond)
		g.Captured, g.Lead, g.Tail = g.Last, time.Second, time.Second
		in.Groups = append(in.Groups, g)
	}
	in.Limits.Site = 4
	return in
}

func BenchmarkWeek(b *testing.B) {
	for _, n := range []int{500, 2000} {
		for _, load := range []float64{0.5, 0.95, 1.2} {
			b.Run(fmt.Sprintf("groups=%d/load=%.2f", n, load), func(b *testing.B) {
				in := estate(n, load)
				var out forecast.Output
				for b.Loop() {
					out = forecast.Run(in)
				}
				b.ReportMetric(float64(out.Cycles), "cycles")
			})
		}
	}
}

// Where many wait for a place and hardly any may begin, a forecast ends before people would stop
// waiting for it, and says how far it came.
func TestAForecastOfManyThatWaitEnds(t *testing.T) {
	var gs []forecast.Group
	for i := range 500 {
		g := group(fmt.Sprint(i), 10*time.Minute, 15*time.Minute, 1)
		g.Last, g.Captured = time.Time{}, time.Time{} // a first copy, of 100 s each
		gs = append(gs, g)
	}
	in := input(mib, 30, gs...)
	in.Most = 100
	out := forecast.Run(in)
	require.Positive(t, out.Cycles)
	require.Less(t, out.Cycles, in.Most, "not for the cycles that it looked at")
	require.True(t, out.Until.After(now))
	require.True(t, out.Until.Before(now.Add(in.For)), out.Until)
}
