package schedule_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/core/cadence"
	"kestrel/internal/core/schedule"
)

var now = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)

// due is a group whose cycle fell due a moment ago.
func due(id string, target, every time.Duration) schedule.Facts {
	return schedule.Facts{ID: id, Target: target, Cadence: cadence.Cadence{Every: every}, Anchor: now.Add(-100 * every), Last: now.Add(-every), Captured: now.Add(-every), Length: time.Second, PlatformUp: true, LinkUp: true}
}

// free is a site with so many free places, beside one that is taken.
func free(n int) schedule.Load {
	l := schedule.Load{Limits: schedule.Limits{Site: n + 1}}
	l.Add(schedule.Use{Link: "other"})
	return l
}

func ids(d schedule.Decision) []string {
	out := []string{}
	for _, s := range d.Start {
		out = append(out, s.ID)
	}
	return out
}

// With one place free, the group that is nearest to missing its target goes first,
// in whatever order groups are listed.
func TestTheNearestDeadlineGoesFirst(t *testing.T) {
	groups := []schedule.Facts{due("daily", 26*time.Hour, 24*time.Hour), due("hourly", 2*time.Hour, time.Hour), due("half a minute", 45*time.Second, 30*time.Second), due("five minutes", 10*time.Minute, 5*time.Minute)}
	for seed := range uint64(24) {
		rand.New(rand.NewPCG(seed, 1)).Shuffle(len(groups), func(i, j int) { groups[i], groups[j] = groups[j], groups[i] })
		d := schedule.Decide(now, groups, free(1))
		require.Equal(t, []string{"half a minute"}, ids(d))
		require.Len(t, d.Waiting, 3)
		require.Equal(t, []string{"half a minute", "five minutes", "hourly"}, ids(schedule.Decide(now, groups, free(3))))
		require.Empty(t, schedule.Decide(now, groups, free(0)).Start)
	}
}

func TestDecide(t *testing.T) {
	for name, c := range map[string]struct {
		change func(f *schedule.Facts)
		starts bool
		next   time.Duration // from now; 0 if none
		why    string        // of waiting
	}{
		"due":                        {func(*schedule.Facts) {}, true, 0, ""},
		"not due yet":                {func(f *schedule.Facts) { f.Last = now }, false, time.Minute, ""},
		"paused":                     {func(f *schedule.Facts) { f.Paused = true }, false, 0, ""},
		"running":                    {func(f *schedule.Facts) { f.Running = true }, false, 0, ""},
		"never ran":                  {func(f *schedule.Facts) { f.Last, f.Captured = time.Time{}, time.Time{} }, true, 0, ""},
		"by hand, never ran":         {func(f *schedule.Facts) { f.Cadence.Every, f.Last = 0, time.Time{} }, true, 0, ""},
		"by hand":                    {func(f *schedule.Facts) { f.Cadence.Every = 0 }, false, 0, ""},
		"by hand, asked for":         {func(f *schedule.Facts) { f.Cadence.Every, f.AskedAt = 0, now }, true, 0, ""},
		"asked for while paused":     {func(f *schedule.Facts) { f.Paused, f.AskedAt = true, now }, false, 0, ""},
		"cut off":                    {func(f *schedule.Facts) { f.Last, f.CutOff = now, true }, true, 0, ""},
		"platform down":              {func(f *schedule.Facts) { f.PlatformUp = false }, false, 0, "platform"},
		"link down":                  {func(f *schedule.Facts) { f.LinkUp = false }, false, 0, "recovery site"},
		"failed a moment ago":        {func(f *schedule.Facts) { f.RetryAt = now.Add(4 * time.Second) }, false, 4 * time.Second, "failed"},
		"failed, and it is time now": {func(f *schedule.Facts) { f.RetryAt = now }, true, 0, ""},
	} {
		t.Run(name, func(t *testing.T) {
			f := due("g", 5*time.Minute, time.Minute)
			c.change(&f)
			d := schedule.Decide(now, []schedule.Facts{f}, free(4))
			require.Equal(t, c.starts, len(d.Start) == 1)
			if c.next == 0 {
				require.Zero(t, d.Next)
			} else {
				require.Equal(t, c.next, d.Next.Sub(now))
			}
			if c.why == "" {
				require.Empty(t, d.Waiting)
			} else {
				require.Contains(t, d.Waiting[0].Why, c.why)
			}
		})
	}
}

// Whatever the groups: no more begin than there is room for, none that is not due,
// none twice, none that waits has an earlier deadline than one that begins, and
// the order in which groups are listed changes nothing.
func TestDecideHoldsItsWord(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(0, 20).Draw(t, "groups")
		var groups []schedule.Facts
		by := map[string]*schedule.Facts{}
		for i := range n {
			every := time.Duration(rapid.IntRange(1, 600).Draw(t, "every")) * time.Second
			f := due(fmt.Sprint(i), every*2, every)
			f.Last = now.Add(-time.Duration(rapid.IntRange(0, 1200).Draw(t, "since")) * time.Second)
			f.Captured, f.Length = f.Last, time.Duration(rapid.IntRange(0, 60).Draw(t, "length"))*time.Second
			f.Paused, f.Running, f.LinkUp = rapid.IntRange(0, 9).Draw(t, "paused") == 0, rapid.IntRange(0, 9).Draw(t, "running") == 0, rapid.IntRange(0, 9).Draw(t, "up") > 0
			groups = append(groups, f)
			by[f.ID] = &f
		}
		slots := rapid.IntRange(0, 5).Draw(t, "slots")
		d := schedule.Decide(now, groups, free(slots))
		require.LessOrEqual(t, len(d.Start), slots)
		seen := map[string]bool{}
		var latest time.Time
		for _, s := range d.Start {
			require.True(t, by[s.ID].Due(now))
			require.False(t, seen[s.ID])
			seen[s.ID] = true
			require.False(t, s.Deadline.Before(latest), "in the order of deadlines")
			latest = s.Deadline
			require.NotEmpty(t, s.Why())
		}
		for _, w := range d.Waiting {
			f := by[w.ID]
			if f.LinkUp && len(d.Start) > 0 {
				require.False(t, f.Deadline(now).Before(latest))
			}
		}
		other := append([]schedule.Facts(nil), groups...)
		for i, j := 0, len(other)-1; i < j; i, j = i+1, j-1 {
			other[i], other[j] = other[j], other[i]
		}
		require.Equal(t, d.Start, schedule.Decide(now, other, free(slots)).Start)
		require.Equal(t, d.Next, schedule.Decide(now, other, free(slots)).Next)
	})
}

func TestNextStart(t *testing.T) {
	f := due("g", 5*time.Minute, time.Minute)
	f.Last = now
	require.Equal(t, now.Add(time.Minute), f.NextStart(now))
	f.Running = true
	require.Equal(t, now.Add(time.Minute), f.NextStart(now))
	require.Zero(t, f.NextStart(now.Add(time.Hour)), "as soon as the running one ends")
	f.Paused = true
	require.Zero(t, f.NextStart(now))
}

func TestBackoff(t *testing.T) {
	require.Equal(t, []time.Duration{time.Second, time.Second, 2 * time.Second, 16 * time.Second, 30 * time.Second, 30 * time.Second},
		[]time.Duration{schedule.Backoff(0), schedule.Backoff(1), schedule.Backoff(2), schedule.Backoff(5), schedule.Backoff(6), schedule.Backoff(1 << 30)})
	require.False(t, schedule.CompareDue(0, time.Time{}, now))
	require.True(t, schedule.CompareDue(time.Hour, now.Add(-time.Hour), now))
	require.False(t, schedule.CompareDue(time.Hour, now.Add(-time.Minute), now))
}

// A whole look at the groups of a large site, many of them due, and all of which may start
// sooner than they fall due.
func BenchmarkPass(b *testing.B) {
	groups := make([]schedule.Facts, 2000)
	for i := range groups {
		groups[i] = due(fmt.Sprint(i), 15*time.Minute, 5*time.Minute)
		groups[i].Last = now.Add(-time.Duration(i%600) * time.Second)
		groups[i].Cadence.Sooner, groups[i].Link, groups[i].Platform, groups[i].Datastores = true, fmt.Sprint("link ", i%20), fmt.Sprint("platform ", i%5), []string{fmt.Sprint("store ", i%9)}
		groups[i].Work = 10 * time.Second
	}
	limits := schedule.Limits{Site: 32, Link: 4, Platform: 16, Datastore: 4}
	var worst time.Duration
	for b.Loop() {
		from := time.Now()
		look := schedule.Plan(now, groups, schedule.Outlook{})
		schedule.Ahead(now, groups, limits, time.UTC)
		d := schedule.Decide(now, groups, schedule.Load{Limits: limits, Short: look.Short})
		for _, s := range d.Start {
			_ = s.Why()
		}
		worst = max(worst, time.Since(from))
	}
	b.ReportMetric(float64(worst.Microseconds()), "worst-µs")
}
