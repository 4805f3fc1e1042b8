package pace_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/core/pace"
)

// simulate lets backlogged flows send for a time on a link, waking up late by
// up to late, and tells what each sent.
func simulate(q *pace.Queue, weights map[string]float64, rate func(time.Time) int64, from time.Time, d, late time.Duration) map[string]int64 {
	r := rand.New(rand.NewPCG(1, 1))
	sent := map[string]int64{}
	for f, w := range weights {
		q.Add(f, w, pace.PieceSize(rate(from)))
	}
	for now := from; now.Before(from.Add(d)); {
		p, wait := q.Next(now, rate(now))
		if p == nil {
			now = now.Add(wait + time.Duration(r.Int64N(int64(late)+1)))
			continue
		}
		sent[p.Flow] += p.Bytes
		q.Add(p.Flow, weights[p.Flow], pace.PieceSize(rate(now)))
	}
	return sent
}

var monday = time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)

func TestTheRateIsKeptAndSharedByWeight(t *testing.T) {
	for _, rate := range []int64{16 << 10, 300_000, 5 << 20, 400 << 20} {
		for _, late := range []time.Duration{0, 4 * time.Millisecond} {
			sent := simulate(&pace.Queue{}, map[string]float64{"high": 4, "normal": 2, "low": 1}, func(time.Time) int64 { return rate }, monday, 10*time.Second, late)
			total := float64(sent["high"] + sent["normal"] + sent["low"])
			require.InEpsilon(t, float64(10*rate), total, 0.02, "rate %d, late %s", rate, late)
			require.InEpsilon(t, 4.0/7, float64(sent["high"])/total, 0.03)
			require.InEpsilon(t, 1.0/7, float64(sent["low"])/total, 0.06)
		}
	}
}

func TestAFlowThatComesLateOwesNothing(t *testing.T) {
	q := &pace.Queue{}
	rate := func(time.Time) int64 { return 1 << 20 }
	simulate(q, map[string]float64{"first": 1}, rate, monday, time.Minute, 0)
	sent := simulate(q, map[string]float64{"first": 1, "second": 1}, rate, monday.Add(time.Minute), 10*time.Second, 0)
	require.InEpsilon(t, sent["first"], sent["second"], 0.03)
}

func TestAChangeOfTheRateHoldsAtOnce(t *testing.T) {
	noon := monday.Add(12 * time.Hour)
	rate := func(now time.Time) int64 {
		if now.Before(noon) {
			return 1 << 20
		}
		return 8 << 20
	}
	sent := simulate(&pace.Queue{}, map[string]float64{"a": 1}, rate, noon.Add(-5*time.Second), 10*time.Second, time.Millisecond)
	require.InEpsilon(t, 5*(1<<20)+5*(8<<20), sent["a"], 0.02)
}

func TestNobodyWaitsWithoutALimit(t *testing.T) {
	q := &pace.Queue{}
	a, b := q.Add("a", 1, 1<<20), q.Add("b", 1, 1<<20)
	q.Remove(a)
	p, wait := q.Next(monday, 0)
	require.Equal(t, b, p)
	require.Zero(t, wait)
	q.Remove(b) // it waits no more
	p, wait = q.Next(monday, 0)
	require.Nil(t, p)
	require.Zero(t, wait)
}

func TestWindows(t *testing.T) {
	office, err := pace.ParseDays("mon-fri")
	require.NoError(t, err)
	plan := pace.Plan{Rate: 10 << 20, Windows: []pace.Window{
		{Days: office, From: 8 * 60, To: 18 * 60, Rate: 1 << 20},
		{Days: pace.AllDays, From: 22 * 60, To: 4 * 60},
	}}
	require.NoError(t, plan.Check())
	for at, want := range map[time.Duration]int64{
		7*time.Hour + 59*time.Minute:  10 << 20,
		8 * time.Hour:                 1 << 20,
		17*time.Hour + 59*time.Minute: 1 << 20,
		18 * time.Hour:                10 << 20,
		23 * time.Hour:                0,
		24*time.Hour + 3*time.Hour:    0, // of the night before
		24*time.Hour + 4*time.Hour:    10 << 20,
		5*24*time.Hour + 9*time.Hour:  10 << 20, // Saturday
	} {
		require.Equal(t, want, plan.At(monday.Add(at)), "%s", at)
	}
	sunday := pace.Plan{Windows: []pace.Window{{Days: 1 << 6, From: 23 * 60, To: 60, Rate: 1 << 20}}}
	require.Equal(t, int64(1<<20), sunday.At(monday.Add(30*time.Minute)), "Sunday's ends on Monday")

	for name, bad := range map[string]pace.Plan{
		"at least":      {Rate: 100},
		"no day":        {Windows: []pace.Window{{From: 1, To: 2}}},
		"00:00 to":      {Windows: []pace.Window{{Days: 1, From: 1440, To: 2}}},
		"when it begin": {Windows: []pace.Window{{Days: 1, From: 5, To: 5}}},
		"at most":       {Windows: make([]pace.Window, 21)},
	} {
		require.ErrorContains(t, bad.Check(), name)
	}
}

func TestDaysAndTimesAreReadAsTheyAreWritten(t *testing.T) {
	for d := pace.Days(1); d <= pace.AllDays; d++ {
		got, err := pace.ParseDays(d.String())
		require.NoError(t, err)
		require.Equal(t, d, got, d.String())
	}
	d, err := pace.ParseDays("sat-mon")
	require.NoError(t, err)
	require.Equal(t, "mon,sat,sun", d.String())
	for m := 0; m <= 1440; m++ {
		got, err := pace.ParseMinute(pace.FormatMinute(m))
		require.NoError(t, err)
		require.Equal(t, m, got)
	}
	for _, bad := range []string{"", "8", "25:00", "24:01", "08:60", "08:3x", "x"} {
		_, err := pace.ParseMinute(bad)
		require.Error(t, err, bad)
	}
	for _, bad := range []string{"", "noday", "mon-", "mon,,tue"} {
		_, err := pace.ParseDays(bad)
		require.Error(t, err, bad)
	}
}
