package cadence_test

import (
	"strings"
	"testing"
	"time"
	_ "time/tzdata" // so that zones are known on every machine

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/core/cadence"
)

var anchor = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func TestNext(t *testing.T) {
	c := cadence.Cadence{Every: 5 * time.Minute}
	next := func(last, now time.Duration) time.Duration {
		got, ok := c.Next(anchor, anchor.Add(last), anchor.Add(now))
		require.True(t, ok)
		return got.Sub(anchor)
	}
	require.Equal(t, 5*time.Minute, next(0, time.Minute))
	require.Equal(t, 5*time.Minute, next(3*time.Second, time.Minute), "a late start does not shift the grid")
	require.Equal(t, 5*time.Minute, next(0, 17*time.Minute), "missed starts are made up once, at once")
	first, ok := c.Next(anchor, time.Time{}, anchor.Add(time.Hour))
	require.True(t, ok)
	require.Equal(t, anchor.Add(time.Hour), first, "the first cycle is due at once")
	_, ok = cadence.Cadence{}.Next(anchor, anchor, anchor)
	require.False(t, ok, "by hand, none is ever due")
	require.Nil(t, cadence.Cadence{}.Starts(anchor, anchor, 3))
}

func TestStartsLieOnTheGrid(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := cadence.Cadence{Every: time.Duration(rapid.Int64Range(1, 1e15).Draw(t, "every"))}
		from := anchor.Add(time.Duration(rapid.Int64Range(-1e17, 1e17).Draw(t, "from")))
		last := from
		for i, s := range c.Starts(anchor, from, 4) {
			require.True(t, s.At.After(last))
			require.Zero(t, s.At.Sub(anchor)%c.Every)
			require.LessOrEqual(t, s.At.Sub(last), c.Every, "start %d", i)
			last = s.At
		}
	})
}

func TestParse(t *testing.T) {
	for text, want := range map[string]string{
		"5min": "every 5 min", "Every 90 s": "every 1 min 30 s", "hand": "by hand", "by hand": "by hand", "0": "by hand", "Back to back": "back to back", "15min or sooner": "every 15 min or sooner", "Every 1h or sooner": "every 1 h or sooner",
		"weekdays at 02:00": "weekdays at 02:00 (Europe/Oslo)", "at 02:00": "daily at 02:00 (Europe/Oslo)", "FREQ=DAILY;BYHOUR=3": "daily at 03:00 (Europe/Oslo)",
	} {
		c, err := cadence.Parse(text, "Europe/Oslo")
		require.NoError(t, err, text)
		require.Equal(t, want, c.String())
	}
	for text, says := range map[string]string{"": "back to back", "often": "back to back", "moondays at 02:00": "not known as days", "every": "back to back", "or sooner": "back to back", "hand or sooner": "back to back"} {
		_, err := cadence.Parse(text, "")
		require.ErrorContains(t, err, says, text)
	}
}

func quiet(t require.TestingT, text, zone string) cadence.Quiet {
	q, err := cadence.ParseQuiet(text, zone)
	require.NoError(t, err)
	again, err := cadence.ParseQuiet(q.String(), zone)
	require.NoError(t, err)
	require.True(t, q.IsZero() || q.Equal(again), "what is written reads back: %s", q)
	return q
}

func TestQuietTimes(t *testing.T) {
	at := func(text string) time.Time {
		x, err := time.Parse("2006-01-02 15:04", text)
		require.NoError(t, err)
		return x
	}
	for name, c := range map[string]struct{ text, zone, from, end string }{
		"none":                  {"none", "", "2026-11-26 09:00", "2026-11-26 09:00"},
		"before":                {"mon-fri 08:00-18:00", "", "2026-11-26 07:59", "2026-11-26 07:59"},
		"within":                {"weekdays 08:00-18:00", "", "2026-11-26 08:00", "2026-11-26 18:00"},
		"another day":           {"mon-fri 08:00-18:00", "", "2026-11-28 09:00", "2026-11-28 09:00"},
		"over midnight":         {"daily 22:00-02:00", "", "2026-11-26 23:30", "2026-11-27 02:00"},
		"one after another":     {"daily 08:00-12:00; daily 12:00-13:30", "", "2026-11-26 09:00", "2026-11-26 13:30"},
		"dates":                 {"2026-12-24 to 2026-12-26", "", "2026-12-24 00:00", "2026-12-27 00:00"},
		"a date, then a window": {"2026-12-24; daily 00:00-06:00", "", "2026-12-24 10:00", "2026-12-25 06:00"},
		"in a zone":             {"daily 08:00-18:00", "Europe/Oslo", "2026-11-26 07:00", "2026-11-26 17:00"},
		"the clock goes ahead":  {"daily 01:00-02:30", "Europe/Oslo", "2027-03-28 00:00", "2027-03-28 01:00"},
		"the clock goes back":   {"daily 01:00-02:30", "Europe/Oslo", "2026-10-24 23:00", "2026-10-25 00:30"},
		"the hour comes again":  {"daily 01:00-02:30", "Europe/Oslo", "2026-10-25 01:00", "2026-10-25 01:30"},
		"by half an hour":       {"daily 01:30-02:15", "Australia/Lord_Howe", "2026-10-03 15:05", "2026-10-03 15:30"},
	} {
		require.Equal(t, at(c.end), quiet(t, c.text, c.zone).End(at(c.from)).UTC(), name)
	}
	for text, says := range map[string]string{
		"noday 08:00-18:00": "no day", "mon 08:00": "no quiet time", "mon": "no quiet time", "mon 25:00-26:00": "no time of the day", "mon 08:00-08:00": "ends when it begins",
		"2026-12-24 2026-12-26": "no dates", "2026-13-24": "no date", "2026-12-26 to 2026-12-24": "before they begin", "daily 00:00-12:00; daily 12:00-24:00": "whole week",
	} {
		_, err := cadence.ParseQuiet(text, "")
		require.ErrorContains(t, err, says, text)
	}
	_, err := cadence.ParseQuiet("mon 08:00-18:00", "Mars/Olympus")
	require.ErrorContains(t, err, "no time zone")
}

// Whatever the cadence and the quiet times, in whatever zone: no start is quiet, starts
// rise, what is listed is what Next gives one after another, and no gap is longer than
// what was reckoned.
func TestStartsAndQuietTimes(t *testing.T) {
	zones := []string{"", "Europe/Oslo", "Australia/Lord_Howe", "America/St_Johns"}
	rapid.Check(t, func(t *rapid.T) {
		zone := rapid.SampledFrom(zones).Draw(t, "zone")
		c, err := cadence.Parse(rapid.SampledFrom([]string{"10min", "7h", "daily at 01:30, 02:30 and 09:00", "weekdays at 02:00", "last friday of the month at 22:00"}).Draw(t, "cadence"), zone)
		require.NoError(t, err)
		c.Quiet = quiet(t, rapid.SampledFrom([]string{"none", "daily 01:00-03:00", "mon-fri 08:00-18:00; sat 10:00-04:00", "2026-10-25; daily 22:00-02:15", "2026-12-24 to 2026-12-26"}).Draw(t, "quiet"), zone)
		from := anchor.AddDate(0, 0, rapid.IntRange(-60, 60).Draw(t, "day")).Add(time.Duration(rapid.IntRange(0, 86400).Draw(t, "second")) * time.Second)
		starts := c.Starts(anchor, from, 12)
		require.Len(t, starts, 12)
		gap, _, _ := c.Gap(from.AddDate(0, 0, -40))
		last := from
		for i, s := range starts {
			require.False(t, c.Quiet.Holds(s.At), "%s", s.At)
			require.True(t, s.At.After(last))
			if i > 0 {
				next, ok := c.Next(anchor, last, last)
				require.True(t, ok)
				require.Equal(t, next.UTC(), s.At.UTC())
				require.LessOrEqual(t, s.At.Sub(last), gap, "%s to %s", last, s.At)
			}
			require.Equal(t, strings.Contains(s.Note, "held back"), s.Note != "" && c.Quiet.Holds(s.At.Add(-time.Second)), s.Note)
			last = s.At
		}
	})
}
