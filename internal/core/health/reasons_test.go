package health_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/core/health"
)

func TestReasons(t *testing.T) {
	f := health.Facts{Now: now, Target: time.Minute, Sealed: true, Exposure: 90 * time.Second, LinkUp: true, PlatformUp: true}
	d := health.Detail{Home: "Norhaven", Recovery: "Eastmole", AtHome: true, Every: 20 * time.Second}
	slow := health.Pass{Took: 50 * time.Second, ReadBytes: 2 << 20, ChangedBytes: 2 << 20, WireBytes: 2000 << 10, Read: 50 * time.Second, Ship: 50 * time.Second}
	for name, c := range map[string]struct {
		change func(f *health.Facts, d *health.Detail)
		want   []string
	}{
		"calm":                 {func(f *health.Facts, _ *health.Detail) { f.Exposure = time.Second }, []string{}},
		"the platform is slow": {func(_ *health.Facts, d *health.Detail) { d.Last = &slow }, []string{"The last cycle took 50 s: the platform gave 41 KiB/s, and 2.0 MiB had changed."}},
		"the link is limited":  {func(_ *health.Facts, d *health.Detail) { x := slow; x.Limit = 40 << 10; d.Last = &x }, []string{"The last cycle took 50 s: the link is limited to 40 KiB/s, and 2.0 MiB had to cross it."}},
		"a limit that is far":  {func(_ *health.Facts, d *health.Detail) { x := slow; x.Limit = 4 << 20; d.Last = &x }, []string{"The last cycle took 50 s: the platform gave 41 KiB/s, and 2.0 MiB had changed."}},
		"the link is slow":     {func(_ *health.Facts, d *health.Detail) { x := slow; x.Read = 5 * time.Second; d.Last = &x }, []string{"The last cycle took 50 s: the link carried 40 KiB/s, and 2.0 MiB had to cross it."}},
		"too seldom": {func(_ *health.Facts, d *health.Detail) {
			d.Every = 55 * time.Second
			d.Last = &health.Pass{Took: time.Second}
		}, []string{"Cycles every 55 s leave little of the target of 1 min."}},
		"silent":                 {func(f *health.Facts, d *health.Detail) { f.LinkUp, d.Silence = false, 2*time.Minute }, []string{"Eastmole has not answered for 2 min."}},
		"silent, seen from here": {func(f *health.Facts, d *health.Detail) { f.LinkUp, d.AtHome, d.Silence = false, false, -1 }, []string{"Norhaven has not answered."}},
		"paused for a while": {func(f *health.Facts, d *health.Detail) {
			f.Paused, d.PausedUntil, d.PauseReason = true, now.Add(time.Hour), "array swap"
		}, []string{"Cycles are paused for another 1 h: array swap."}},
		"not at rest": {func(_ *health.Facts, d *health.Detail) {
			d.Restless = []health.Restless{{"tick-db", "its agent does not answer"}}
		},
			[]string{"tick-db was not brought to rest at the last capture: its agent does not answer. Its disks are as after a power cut."}},
		"lost": {func(_ *health.Facts, d *health.Detail) { d.LostPoints, d.LostBytes = 1, 65536 }, []string{"One point at Eastmole cannot be read whole: 64 KiB of bad blocks are not at Norhaven any more. Other points are not affected."}},
	} {
		t.Run(name, func(t *testing.T) {
			f, d := f, d
			c.change(&f, &d)
			require.Equal(t, c.want, texts(health.Reasons(f, health.Judge(f), d)))
		})
	}
}

func texts(rs []health.Reason) []string {
	out := []string{}
	for _, r := range rs {
		out = append(out, r.Text)
	}
	return out
}

// What holds a late group up is what its newest cycle spent its time on.
func TestCulprit(t *testing.T) {
	f := health.Facts{Now: now, Target: time.Minute, Sealed: true, Exposure: 90 * time.Second, LinkUp: true, PlatformUp: true}
	pass := func(change func(p *health.Pass)) *health.Pass {
		p := &health.Pass{Took: 50 * time.Second, ReadBytes: 2 << 20, ChangedBytes: 2 << 20, WireBytes: 2000 << 10, Read: 50 * time.Second, Ship: 50 * time.Second}
		change(p)
		return p
	}
	for name, c := range map[string]struct {
		change func(f *health.Facts, d *health.Detail)
		want   health.Culprit
	}{
		"source":    {func(_ *health.Facts, d *health.Detail) { d.Last = pass(func(*health.Pass) {}) }, health.Source},
		"link":      {func(_ *health.Facts, d *health.Detail) { d.Last = pass(func(p *health.Pass) { p.Read = time.Second }) }, health.Link},
		"its limit": {func(_ *health.Facts, d *health.Detail) { d.Last = pass(func(p *health.Pass) { p.Limit = 40 << 10 }) }, health.Limit},
		"the store": {func(_ *health.Facts, d *health.Detail) {
			d.Last = pass(func(p *health.Pass) { p.Seal = 40 * time.Second })
		}, health.Store},
		"places, before": {func(_ *health.Facts, d *health.Detail) {
			d.Last = pass(func(p *health.Pass) { p.Waited = 80 * time.Second })
		}, health.Places},
		"places, now":      {func(_ *health.Facts, d *health.Detail) { d.Waiting = "four cycles run at this site" }, health.Places},
		"cadence":          {func(_ *health.Facts, d *health.Detail) { d.Every = time.Hour }, health.Cadence},
		"the link is down": {func(f *health.Facts, _ *health.Detail) { f.LinkUp = false }, health.Link},
		"the platform":     {func(f *health.Facts, _ *health.Detail) { f.PlatformUp = false }, health.Platform},
		"the last try":     {func(_ *health.Facts, d *health.Detail) { d.Failure = "refused" }, health.Attempt},
		"a pause":          {func(f *health.Facts, _ *health.Detail) { f.Paused = true }, health.Pause},
		"the clock":        {func(_ *health.Facts, d *health.Detail) { d.ClocksApart = time.Minute }, health.Clock},
		"a read that hangs": {func(f *health.Facts, d *health.Detail) {
			f.Exposure, f.Running, f.LastProgress, d.Phase = 0, true, now.Add(-time.Hour), "read"
		}, health.Source},
		"a link that hangs": {func(f *health.Facts, d *health.Detail) {
			f.Exposure, f.Running, f.LastProgress, d.Phase = 0, true, now.Add(-time.Hour), "ship"
		}, health.Link},
		"a store that hangs": {func(f *health.Facts, d *health.Detail) {
			f.Exposure, f.Running, f.LastProgress, d.Phase = 0, true, now.Add(-time.Hour), "seal"
		}, health.Store},
		"nobody knows, it moves": {func(f *health.Facts, _ *health.Detail) { f.Running = true }, ""},
	} {
		t.Run(name, func(t *testing.T) {
			f, d := f, health.Detail{Home: "Norhaven", Recovery: "Eastmole", AtHome: true, Every: 20 * time.Second, Silence: -1}
			c.change(&f, &d)
			rs := health.Reasons(f, health.Judge(f), d)
			require.NotEmpty(t, rs)
			require.Equal(t, c.want, rs[0].Culprit, "%+v", rs)
			require.NotEmpty(t, rs[0].Text)
		})
	}
}

// Since when something has been so follows from instants that are kept.
func TestSince(t *testing.T) {
	seen := now.Add(-time.Hour)
	f := health.Facts{Now: now, Target: 10 * time.Minute, Sealed: true, Exposure: 12 * time.Minute, LinkSeen: seen, PlatformSeen: seen.Add(1), PausedAt: seen.Add(2), CreatedAt: seen.Add(3), DueSince: seen.Add(4)}
	for state, want := range map[health.State]time.Time{
		health.Over: now.Add(-2 * time.Minute), health.Tight: now.Add(-4 * time.Minute), health.CutOff: seen, health.Paused: seen.Add(2), health.Seeding: seen.Add(3), health.Stalled: seen.Add(4), health.OnTarget: {},
	} {
		require.Equal(t, want, f.Since(state), state)
	}
	f.LinkUp = true
	require.Equal(t, seen.Add(1), f.Since(health.CutOff), "it is the platform")
	f.Running, f.LastProgress = true, seen.Add(5)
	require.Equal(t, seen.Add(5), f.Since(health.Stalled))
}
