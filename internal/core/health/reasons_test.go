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
			require.Equal(t, c.want, health.Reasons(f, health.Judge(f), d))
		})
	}
}
