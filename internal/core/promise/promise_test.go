package promise_test

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/core/cadence"
	"kestrel/internal/core/change"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/promise"
	"kestrel/internal/core/span"
)

func good() promise.Promise {
	return promise.Promise{Target: 15 * time.Minute, Cadence: cadence.Cadence{Every: 5 * time.Minute},
		Keep: ladder.Ladder{{For: 6 * time.Hour}, {Each: time.Hour, For: 2 * span.Day}}}
}

func TestCheckNamesTheFieldAndTheMend(t *testing.T) {
	require.Empty(t, good().Check())
	for name, c := range map[string]struct {
		change func(p *promise.Promise)
		field  string
	}{
		"interval as long as the target": {func(p *promise.Promise) { p.Cadence.Every = p.Target }, "promise.cadenceSeconds"},
		"negative interval":              {func(p *promise.Promise) { p.Cadence.Every = -1 }, "promise.cadenceSeconds"},
		"no target":                      {func(p *promise.Promise) { p.Target = 0 }, "promise.rpoTargetSeconds"},
		"huge target":                    {func(p *promise.Promise) { p.Target = math.MaxInt64 }, "promise.rpoTargetSeconds"},
		"no ladder":                      {func(p *promise.Promise) { p.Keep = nil }, "promise.keep"},
		"rungs out of order":             {func(p *promise.Promise) { p.Keep[1].For = time.Hour }, "promise.keep[1].forSeconds"},
		"a finer rung after a coarser":   {func(p *promise.Promise) { p.Keep[0].Each = 2 * time.Hour }, "promise.keep[1].eachSeconds"},
		"too many points": {func(p *promise.Promise) {
			p.Target, p.Cadence.Every, p.Keep = time.Minute, time.Second, ladder.Ladder{{For: 30 * span.Day}}
		}, "promise.keep"},
	} {
		t.Run(name, func(t *testing.T) {
			p := good()
			c.change(&p)
			faults := promise.Faults(p.Check())
			require.NotEmpty(t, faults)
			require.Equal(t, c.field, faults[0].Field)
			require.NotEmpty(t, faults[0].Message)
		})
	}
	tight := good()
	tight.Cadence.Every = 13 * time.Minute
	require.Empty(t, promise.Faults(tight.Check()))
	require.Len(t, tight.Check(), 1, "little room for a cycle is a warning")
}

func TestForetell(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 1, 0, 0, time.UTC)
	f := good().Foretell(now.Add(-time.Minute), now, promise.Load{UsedBytes: 1000, Change: change.Steady(1), CycleLength: 30 * time.Second})
	require.Equal(t, now.Add(4*time.Minute), f.Starts[0].At)
	require.Equal(t, []int{73, 42}, f.PointsPerRung) // 6 h / 5 min + newest; (48 h - 6 h) / 1 h
	require.Equal(t, 115, f.Points)
	require.Equal(t, 5*time.Minute+30*time.Second, f.Worst)
	require.Equal(t, int64(1000+73*300+42*1000), f.SpaceBytes, "a point never needs more than a whole copy")
}

func TestSpans(t *testing.T) {
	for text, want := range map[string]string{"90s": "1 min 30 s", "15 min": "15 min", "1h22min": "1 h 22 min", "2d": "2 d", "1.5h": "1 h 30 min", "21min 4s": "21 min", "1w": "7 d"} {
		d, err := span.Parse(text)
		require.NoError(t, err)
		require.Equal(t, want, span.Format(d))
	}
	for _, bad := range []string{"", "5", "min", "5 parsecs", "-5min", "1e9d", "9999999w", "5min 3"} {
		_, err := span.Parse(bad)
		require.Error(t, err, bad)
	}
	require.Equal(t, "-6 min", span.Format(-6*time.Minute))
	require.Equal(t, "0 s", span.Format(time.Millisecond))
}

// A calendar whose times lie further apart than the target is refused with the arithmetic,
// as an interval is; a quiet time that breaks the target is warned of.
func TestCalendarsAndQuietTimesAgainstTheTarget(t *testing.T) {
	for name, c := range map[string]struct {
		cadence, quiet string
		target         time.Duration
		fault, warning string
	}{
		"nights":              {"weekdays at 02:00", "none", 80 * time.Hour, "", "leave only 8 h"},
		"nights, too rarely":  {"weekdays at 02:00", "none", 48 * time.Hour, "Between two starts lie up to 3 d, such as from Fri", ""},
		"quiet days":          {"10min", "mon-fri 08:00-18:00", 2 * time.Hour, "", "holds cycles back for 10 h 10 min, such as from Mon 5 Jan 08:00"},
		"quiet, and it holds": {"10min", "daily 02:00-02:30", 2 * time.Hour, "", ""},
		"month by month":      {"last friday of the month at 22:00", "none", 40 * span.Day, "", "leave only"},
		"back to back":        {"back to back", "none", time.Minute, "", ""},
	} {
		p := good()
		p.Target = c.target
		var err error
		p.Cadence, err = cadence.Parse(c.cadence, "")
		require.NoError(t, err)
		p.Cadence.Quiet, err = cadence.ParseQuiet(c.quiet, "")
		require.NoError(t, err)
		var fault, warning string
		for _, f := range p.Check() {
			if f.Warning {
				warning += f.Message
			} else {
				fault += f.Message
			}
		}
		require.Contains(t, fault, c.fault, name)
		require.Contains(t, warning, c.warning, name)
		require.Equal(t, c.fault == "", fault == "", "%s: %s", name, fault)
		require.Equal(t, c.warning == "", warning == "", "%s: %s", name, warning)
	}
}
