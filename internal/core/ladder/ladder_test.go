package ladder_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"
	_ "time/tzdata" // so that zones are known on every machine

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/core/ladder"
)

var now = time.Date(2026, 11, 23, 12, 30, 0, 0, time.UTC)

func usual(t require.TestingT) ladder.Ladder {
	l, err := ladder.Parse("all 6h, 1h 2d, 1d 14d")
	require.NoError(t, err)
	return l
}

func TestParseAndString(t *testing.T) {
	require.Equal(t, "all 6h, 1h 2d, 1d 2w", usual(t).String())
	for _, bad := range []string{"", "6h", "all", "all 6x", "1h -2d", "all 6h;1h 2d", "all 99999999d"} {
		_, err := ladder.Parse(bad)
		require.Error(t, err, bad)
	}
}

// A point every ten minutes for 20 days, judged every hour as the service does:
// what is left is what the rungs promise.
func TestLadderInTheSteadyState(t *testing.T) {
	l := usual(t)
	begin := now.Add(-20 * 24 * time.Hour)
	var kept []ladder.Point
	for at := begin; !at.After(now); at = at.Add(10 * time.Minute) {
		kept = append(kept, ladder.Point{ID: at.String(), Capture: at})
		if at.Minute() == 30 {
			var next []ladder.Point
			for _, v := range l.Judge(kept, at) {
				if v.Keep {
					next = append(next, v.Point)
				}
			}
			kept = next
		}
	}
	byRung := map[int]int{}
	for _, v := range l.Judge(kept, now) {
		require.True(t, v.Keep)
		byRung[v.Rung]++
	}
	want := l.Count(10 * time.Minute)
	for i, n := range want {
		require.InDelta(t, n, byRung[i], 1.01, "rung %d", i)
	}
	oldest := kept[len(kept)-1].Capture
	require.InDelta(t, (14 * 24 * time.Hour).Hours(), now.Sub(oldest).Hours(), 25)
}

// Whatever the points: the newest, pinned and used ones stay; judging twice
// changes nothing; and what is kept does not depend on when pruning ran before.
func TestVerdictsHold(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		l := usual(t)
		var ps []ladder.Point
		for i := range rapid.IntRange(1, 80).Draw(t, "n") {
			ps = append(ps, ladder.Point{ID: fmt.Sprint(i), Capture: now.Add(-time.Duration(rapid.Int64Range(0, int64(40*24*time.Hour)).Draw(t, "age"))),
				Pinned: rapid.Bool().Draw(t, "pinned"), InUse: rapid.Bool().Draw(t, "used")})
		}
		var kept []ladder.Point
		for i, v := range l.Judge(ps, now) {
			if i == 0 || v.Point.Pinned || v.Point.InUse {
				require.True(t, v.Keep, v.Why)
			}
			if v.Keep {
				kept = append(kept, v.Point)
			}
		}
		for _, v := range l.Judge(kept, now) {
			require.True(t, v.Keep)
		}
	})
}

func TestParseAsPeopleSayIt(t *testing.T) {
	h, d := time.Hour, 24*time.Hour
	for text, want := range map[string]ladder.Ladder{
		"all 6h, 1h 2d, 1d 14d":            {{For: 6 * h}, {Each: h, For: 2 * d}, {Each: d, For: 14 * d}},
		"ALL 1D":                           {{For: d}},
		"all 6h,":                          {{For: 6 * h}},
		"24 hourly, 7 daily":               {{Each: h, For: d}, {Each: d, For: 7 * d}},
		"3 a day for 5 days":               {{Each: 8 * h, For: 5 * d}},
		"4 per hour for 2 d":               {{Each: 15 * time.Minute, For: 2 * d}},
		"hourly for 2 days":                {{Each: h, For: 2 * d}},
		"everything for 6 h, then 1 h 2 d": {{For: 6 * h}, {Each: h, For: 2 * d}},
		"15min 6h":                         {{Each: 15 * time.Minute, For: 6 * h}},
		"5 weekly":                         {{Each: 7 * d, For: 35 * d}},
		"1d 1y":                            {{Each: d, For: 365 * d}},
	} {
		got, err := ladder.Parse(text)
		require.NoError(t, err, text)
		require.Equal(t, want, got, text)
		again, err := ladder.Parse(got.String())
		require.NoError(t, err)
		require.Equal(t, got, again, "what is written reads back")
	}
	for _, text := range []string{"", ",", "6h", "all", "often", "24 hourly for 2d", "3 a fortnight for 2d", "99999999 daily", "1h 2d 3", "all -1h", "0 daily", "1h for"} {
		_, err := ladder.Parse(text)
		require.Error(t, err, text)
	}
}

func TestLostByAShorterLadder(t *testing.T) {
	now := time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)
	var ps []ladder.Point
	for i := range 10 {
		ps = append(ps, ladder.Point{ID: string(rune('a' + i)), Capture: now.Add(-time.Duration(i) * time.Hour), Pinned: i == 7})
	}
	before, after := ladder.Ladder{{For: 24 * time.Hour}}, ladder.Ladder{{For: 3 * time.Hour}}
	loss := before.Lost(after, ps, now)
	require.Len(t, loss.Points, 5, "what is older than three hours, but for the pinned one")
	require.Equal(t, ps[7].Capture, loss.Oldest)
	require.Empty(t, after.Lost(before, ps, now).Points, "a longer ladder loses nothing")
}

// Whatever the ladders: slowing lets go of nothing that judging keeps, holds back only
// what the ladder before and one's own both keep, and only of the time before the cut.
func TestSlowedHoldsBackWhatOnesOwnLadderKeeps(t *testing.T) {
	rung := rapid.Custom(func(t *rapid.T) ladder.Rung {
		return ladder.Rung{Each: time.Duration(rapid.IntRange(0, 8).Draw(t, "each")) * time.Hour, For: time.Duration(rapid.IntRange(1, 100).Draw(t, "for")) * time.Hour}
	})
	some := rapid.SliceOfN(rung, 1, 3)
	rapid.Check(t, func(t *rapid.T) {
		var points []ladder.Point
		for i := range rapid.IntRange(0, 40).Draw(t, "points") {
			points = append(points, ladder.Point{ID: fmt.Sprint(i), Capture: now.Add(-time.Duration(rapid.IntRange(0, 120*60).Draw(t, "age")) * time.Minute), Pinned: rapid.IntRange(0, 9).Draw(t, "pinned") == 0})
		}
		to, before, least := ladder.Ladder(some.Draw(t, "to")), ladder.Ladder(some.Draw(t, "before")), ladder.Ladder(some.Draw(t, "least"))
		at := now.Add(-time.Duration(rapid.IntRange(0, 120).Draw(t, "cut")) * time.Hour)
		keeps := func(vs []ladder.Verdict) map[string]bool {
			out := map[string]bool{}
			for _, v := range vs {
				out[v.Point.ID] = v.Keep
			}
			return out
		}
		plain, then, own := keeps(to.Judge(points, now)), keeps(before.Judge(points, now)), keeps(least.Judge(points, now))
		require.Equal(t, plain, keeps(to.Slowed(points, now, nil, least)))
		require.Equal(t, plain, keeps(to.Slowed(points, now, []ladder.Cut{{At: at, Before: before}}, nil)))
		for _, v := range to.Slowed(points, now, []ladder.Cut{{At: at, Before: before}}, least) {
			id := v.Point.ID
			want := plain[id] || !v.Point.Capture.After(at) && then[id] && own[id]
			require.Equal(t, want, v.Keep, id)
			require.Equal(t, want && !plain[id], v.Why == "held back")
		}
	})
}

// A locked rung holds the newest of each stretch that is over, until it is as old as the
// rung reaches, and what it holds the ladder keeps that long.
func TestLockedRungs(t *testing.T) {
	l, err := ladder.Parse("all 6h, 1h 2d, 1d 14d locked")
	require.NoError(t, err)
	require.Equal(t, "all 6h, 1h 2d, 1d 2w locked", l.String())
	require.True(t, l[2].Locked)
	_, err = ladder.Parse("locked")
	require.Error(t, err)
	midnight := time.Date(2026, 11, 26, 0, 0, 0, 0, time.UTC)
	at := func(h int) time.Time { return midnight.Add(time.Duration(h) * time.Hour) }
	points := []ladder.Point{{ID: "old", Capture: at(-15 * 24)}, {ID: "tue", Capture: at(-30)}, {ID: "wed morning", Capture: at(-20)}, {ID: "wed", Capture: at(-2)}, {ID: "thu", Capture: at(1)}}
	require.Equal(t, []ladder.Hold{{ID: "tue", Until: at(-30 + 14*24)}, {ID: "wed", Until: at(-2 + 14*24)}}, l.Locks(points, at(2)), "today's is not over")
	require.Contains(t, l.Locks(points, at(24)), ladder.Hold{ID: "thu", Until: at(1 + 14*24)})
	all, err := ladder.Parse("all 6h locked, 1d 14d")
	require.NoError(t, err)
	require.Equal(t, []ladder.Hold{{ID: "thu", Until: at(7)}, {ID: "wed", Until: at(4)}}, all.Locks(points, at(2)))
	rapid.Check(t, func(t *rapid.T) {
		now := midnight
		var ps []ladder.Point
		for i := range rapid.IntRange(0, 60).Draw(t, "points") {
			ps = append(ps, ladder.Point{ID: fmt.Sprint(i), Capture: now.Add(-time.Duration(rapid.IntRange(0, 20*24*60).Draw(t, "age")) * time.Minute)})
		}
		kept := map[string]bool{}
		for _, v := range l.Judge(ps, now) {
			kept[v.Point.ID] = v.Keep
		}
		for _, h := range l.Locks(ps, now) {
			require.True(t, kept[h.ID], "what is held is kept as well")
			require.True(t, h.Until.After(now))
		}
	})
}

func keep(t require.TestingT, text, zone string, least int) ladder.Keep {
	l, err := ladder.Parse(text)
	require.NoError(t, err)
	again, err := ladder.Parse(l.String())
	require.NoError(t, err)
	require.Equal(t, l, again, "what is written reads back: %s", l)
	in, err := time.LoadLocation(zone)
	require.NoError(t, err)
	return ladder.Keep{Ladder: l, In: in, Least: least}
}

// Days, weeks, months and years begin by the wall clock of the zone, and of each the
// application-consistent point is preferred to a newer one.
func TestStretchesOfAZone(t *testing.T) {
	at := func(text string) time.Time {
		x, err := time.Parse("2006-01-02 15:04", text)
		require.NoError(t, err)
		return x
	}
	for name, c := range map[string]struct {
		ladder, zone, now string
		points            []string // with ! those that are application-consistent
		kept              []string
	}{
		"days of UTC":         {"1d 9d", "UTC", "2026-11-28 12:00", []string{"2026-11-26 22:30", "2026-11-26 23:30", "2026-11-27 10:00"}, []string{"2026-11-26 23:30", "2026-11-27 10:00"}},
		"days of Oslo":        {"1d 9d", "Europe/Oslo", "2026-11-28 12:00", []string{"2026-11-26 22:30", "2026-11-26 23:30", "2026-11-27 10:00"}, []string{"2026-11-26 22:30", "2026-11-27 10:00"}},
		"weeks from Monday":   {"weekly for 9w", "UTC", "2026-12-20 12:00", []string{"2026-11-22 23:00", "2026-11-23 01:00", "2026-11-29 23:00", "2026-11-30 01:00"}, []string{"2026-11-22 23:00", "2026-11-29 23:00", "2026-11-30 01:00"}},
		"months":              {"monthly for 1y", "UTC", "2027-03-20 12:00", []string{"2026-12-31 23:00", "2027-01-01 01:00", "2027-01-31 23:00", "2027-02-28 12:00"}, []string{"2026-12-31 23:00", "2027-01-31 23:00", "2027-02-28 12:00"}},
		"years":               {"yearly for 5y", "UTC", "2027-03-20 12:00", []string{"2025-05-01 00:00", "2025-12-31 23:00", "2026-01-01 01:00", "2027-01-01 00:00"}, []string{"2025-12-31 23:00", "2026-01-01 01:00", "2027-01-01 00:00"}},
		"hours of half a one": {"hourly for 2d", "Asia/Kolkata", "2026-11-26 12:00", []string{"2026-11-26 10:10", "2026-11-26 10:20", "2026-11-26 10:40"}, []string{"2026-11-26 10:20", "2026-11-26 10:40"}},
		"at rest goes first":  {"1d 9d", "UTC", "2026-11-28 12:00", []string{"2026-11-26 02:00!", "2026-11-26 03:00!", "2026-11-26 23:30", "2026-11-27 10:00"}, []string{"2026-11-26 03:00", "2026-11-27 10:00"}},
	} {
		var ps []ladder.Point
		for _, x := range c.points {
			text, rests := strings.CutSuffix(x, "!")
			ps = append(ps, ladder.Point{ID: text, Capture: at(text), Rests: rests})
		}
		var got []string
		for _, v := range keep(t, c.ladder, c.zone, 0).Judge(ps, at(c.now)) {
			if v.Keep {
				got = append(got, v.Point.ID)
			}
		}
		slices.Sort(got)
		require.Equal(t, c.kept, got, name)
	}
}

// Whatever the history, the ladder and the zone, over changes of the clock: the newest,
// pinned and used points and the least number stay; what was let go no later look at the
// whole of it wants back; and pruning on the way keeps what a look at the whole keeps.
func TestWhatIsLetGoIsNeverNeededAgain(t *testing.T) {
	zones := []string{"UTC", "Europe/Oslo", "Australia/Lord_Howe", "America/St_Johns", "Asia/Kathmandu"}
	ladders := []string{"all 6h, 1h 2d, 1d 14d", "1h 3d", "3 a day for 5 days, weekly for 5w", "all 1h, daily for 10d, monthly for 1y", "6h 2d, 1w 9w, yearly for 3y"}
	rapid.Check(t, func(t *rapid.T) {
		k := keep(t, rapid.SampledFrom(ladders).Draw(t, "ladder"), rapid.SampledFrom(zones).Draw(t, "zone"), rapid.IntRange(0, 4).Draw(t, "least"))
		begin := time.Date(2026, time.Month(rapid.SampledFrom([]int{3, 10}).Draw(t, "month")), 20, 0, 0, 0, 0, time.UTC)
		var all []ladder.Point
		for i := range rapid.IntRange(1, 60).Draw(t, "points") {
			all = append(all, ladder.Point{ID: fmt.Sprint(i), Capture: begin.Add(time.Duration(rapid.IntRange(0, 20*24*60).Draw(t, "at")) * time.Minute), Rests: rapid.IntRange(0, 2).Draw(t, "rests") == 0,
				Pinned: rapid.IntRange(0, 9).Draw(t, "pinned") == 0, InUse: rapid.IntRange(0, 19).Draw(t, "used") == 0})
		}
		slices.SortFunc(all, func(a, b ladder.Point) int { return a.Capture.Compare(b.Capture) })
		gone, pruned := map[string]bool{}, []ladder.Point{}
		seen := 0
		for day := range 30 {
			now := begin.Add(time.Duration(day) * 23 * time.Hour)
			for ; seen < len(all) && !all[seen].Capture.After(now); seen++ {
				pruned = append(pruned, all[seen])
			}
			kept := map[string]bool{}
			for i, v := range k.Judge(all[:seen], now) {
				kept[v.Point.ID] = v.Keep
				if i == 0 || i < k.Least || v.Point.Pinned || v.Point.InUse {
					require.True(t, v.Keep, v.Why)
				}
				if !v.Keep {
					gone[v.Point.ID] = true
				} else {
					require.False(t, gone[v.Point.ID], "point %s of %s is wanted back at %s", v.Point.ID, v.Point.Capture, now)
				}
			}
			var left []ladder.Point
			for _, v := range k.Judge(pruned, now) {
				if v.Keep {
					left = append(left, v.Point)
				}
				if kept[v.Point.ID] {
					require.True(t, v.Keep, "pruning on the way lost %s", v.Point.ID)
				}
			}
			pruned = left
		}
	})
}

// A long-term rung says where a point belongs, and not whether it is kept. What is kept is
// somewhere.
func TestLongTermRungs(t *testing.T) {
	l, err := ladder.Parse("all 2h, daily 30d long-term, yearly 3y locked long-term")
	require.NoError(t, err)
	require.Equal(t, "all 2h, 1d 30d long-term, yearly 3y long-term locked", l.String())
	again, err := ladder.Parse(l.String())
	require.NoError(t, err)
	require.Equal(t, l, again)
	rapid.Check(t, func(t *rapid.T) {
		now := time.Date(2026, 3, 29, 0, 30, 0, 0, time.UTC) // about a change of clocks
		var ps []ladder.Point
		for i := range rapid.IntRange(1, 40).Draw(t, "points") {
			ps = append(ps, ladder.Point{ID: fmt.Sprint(i), Capture: now.Add(-time.Duration(rapid.IntRange(0, 40*24*60).Draw(t, "age")) * time.Minute), Pinned: rapid.IntRange(0, 9).Draw(t, "pin") == 0, Rests: rapid.Bool().Draw(t, "rests")})
		}
		var far, plain ladder.Ladder
		for range rapid.IntRange(1, 4).Draw(t, "rungs") {
			r := ladder.Rung{Each: time.Duration(rapid.IntRange(0, 48).Draw(t, "each")) * time.Hour, For: time.Duration(rapid.IntRange(1, 900).Draw(t, "for")) * time.Hour}
			plain = append(plain, r)
			r.LongTerm = rapid.Bool().Draw(t, "long-term")
			far = append(far, r)
		}
		zone, err := time.LoadLocation("Australia/Lord_Howe")
		require.NoError(t, err)
		by := ladder.Keep{Ladder: far, In: zone, Least: rapid.IntRange(0, 3).Draw(t, "least")}
		as := ladder.Keep{Ladder: plain, In: zone, Least: by.Least}
		got, want := by.Judge(ps, now), as.Judge(ps, now)
		for i, v := range got {
			require.Equal(t, want[i].Keep, v.Keep)
			require.Equal(t, want[i].Why, v.Why)
			require.Equal(t, v.Keep, v.Near || v.Settled, "kept somewhere, and only if kept: %+v", v)
			require.False(t, v.Settled && !v.Far)
		}
		require.True(t, got[0].Near, "the newest is at hand")
	})
}
