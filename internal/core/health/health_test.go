package health_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/core/health"
)

var now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func TestJudge(t *testing.T) {
	good := health.Facts{Now: now, Target: 10 * time.Minute, Sealed: true, Exposure: time.Minute, LinkUp: true, PlatformUp: true}
	for name, c := range map[string]struct {
		change func(f *health.Facts)
		want   health.State
	}{
		"calm":                                {func(*health.Facts) {}, health.OnTarget},
		"at 80 % it is not tight yet":         {func(f *health.Facts) { f.Exposure = 8 * time.Minute }, health.OnTarget},
		"above 80 %":                          {func(f *health.Facts) { f.Exposure = 8*time.Minute + time.Second }, health.Tight},
		"at the target it is not over":        {func(f *health.Facts) { f.Exposure = 10 * time.Minute }, health.Tight},
		"over":                                {func(f *health.Facts) { f.Exposure = 10*time.Minute + 1 }, health.Over},
		"over is worse than cut off":          {func(f *health.Facts) { f.Exposure = time.Hour; f.LinkUp = false }, health.Over},
		"over although paused":                {func(f *health.Facts) { f.Exposure = time.Hour; f.Paused = true }, health.Over},
		"link down":                           {func(f *health.Facts) { f.LinkUp = false }, health.CutOff},
		"platform down":                       {func(f *health.Facts) { f.PlatformUp = false; f.Exposure = 9 * time.Minute }, health.CutOff},
		"paused and link down is paused":      {func(f *health.Facts) { f.Paused = true; f.LinkUp = false }, health.Paused},
		"paused but tight":                    {func(f *health.Facts) { f.Paused = true; f.Exposure = 9 * time.Minute }, health.Tight},
		"first copy under way":                {func(f *health.Facts) { f.Sealed = false; f.Running = true; f.LastProgress = now }, health.Seeding},
		"first copy moves nothing":            {func(f *health.Facts) { f.Sealed = false; f.Running = true; f.LastProgress = now.Add(-3 * time.Minute) }, health.Stalled},
		"first copy paused":                   {func(f *health.Facts) { f.Sealed = false; f.Paused = true }, health.Paused},
		"a due cycle does not begin":          {func(f *health.Facts) { f.DueSince = now.Add(-3 * time.Minute) }, health.Stalled},
		"a due cycle waits a moment":          {func(f *health.Facts) { f.DueSince = now.Add(-time.Minute) }, health.OnTarget},
		"it cannot begin while cut off":       {func(f *health.Facts) { f.DueSince = now.Add(-time.Hour); f.LinkUp = false }, health.CutOff},
		"it runs elsewhere since a failover":  {func(f *health.Facts) { f.FailedOver = true; f.Exposure = time.Hour }, health.FailedOver},
		"a long cycle that moves is no stall": {func(f *health.Facts) { f.Running = true; f.LastProgress = now.Add(-time.Second) }, health.OnTarget},
	} {
		t.Run(name, func(t *testing.T) {
			f := good
			c.change(&f)
			require.Equal(t, c.want, health.Judge(f))
		})
	}
	require.Less(t, health.Over.Rank(), health.OnTarget.Rank())
	require.Less(t, health.FailedOver.Rank(), health.Over.Rank(), "somebody has to decide")
	require.Equal(t, 8, health.State("?").Rank())
}
