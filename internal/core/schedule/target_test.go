package schedule_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/core/cadence"
	"kestrel/internal/core/schedule"
)

// Limits are of each link, platform and datastore by itself; who waits for one of them holds
// up nobody who does not need it, and is told what is taken.
func TestLimits(t *testing.T) {
	at := func(id string, target time.Duration, link, platform string, stores ...string) schedule.Facts {
		f := due(id, target, time.Minute)
		f.Link, f.Platform, f.Datastores = link, platform, stores
		return f
	}
	groups := []schedule.Facts{
		at("a", 2*time.Minute, "Eastmole", "quay", "array-a"), at("b", 3*time.Minute, "Eastmole", "quay", "array-a", "array-b"),
		at("c", 4*time.Minute, "Eastmole", "pier", "array-a"), at("d", 5*time.Minute, "Skarholt", "quay", "array-c"), at("e", 6*time.Minute, "Skarholt", "pier", "array-b"),
	}
	for name, c := range map[string]struct {
		limits schedule.Limits
		starts []string
		why    map[string]string
	}{
		"none":      {schedule.Limits{}, []string{"a", "b", "c", "d", "e"}, nil},
		"site":      {schedule.Limits{Site: 2}, []string{"a", "b"}, map[string]string{"c": "two cycles run at this site"}},
		"link":      {schedule.Limits{Link: 1}, []string{"a", "d"}, map[string]string{"b": "one cycle runs over the link with Eastmole", "e": "one cycle runs over the link with Skarholt"}},
		"platform":  {schedule.Limits{Platform: 2}, []string{"a", "b", "c", "e"}, map[string]string{"d": "two cycles run on quay"}},
		"datastore": {schedule.Limits{Datastore: 1}, []string{"a", "c", "d", "e"}, map[string]string{"b": "one cycle runs on array-a"}},
	} {
		d := schedule.Decide(now, groups, schedule.Load{Limits: c.limits})
		require.Equal(t, c.starts, ids(d), name)
		for _, w := range d.Waiting {
			if want, said := c.why[w.ID]; said {
				require.Equal(t, want, w.Why, name)
			}
		}
	}
}

// What is taken out again leaves room as before, whatever else is entered.
func TestALoadForgets(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		l := schedule.Load{Limits: schedule.Limits{Site: 4, Link: 2, Platform: 3, Datastore: 1}}
		var in []schedule.Use
		draw := func() schedule.Use {
			return schedule.Use{Link: rapid.SampledFrom([]string{"x", "y"}).Draw(t, "link"), Platform: rapid.SampledFrom([]string{"p", "q"}).Draw(t, "platform"),
				Datastores: rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"s", "t"}), 0, 2, func(s string) string { return s }).Draw(t, "stores"), Slow: rapid.Bool().Draw(t, "slow"), Long: rapid.Bool().Draw(t, "long")}
		}
		for range rapid.IntRange(1, 20).Draw(t, "steps") {
			if u := draw(); l.Room(u) {
				before := l.Clone()
				l.Add(u)
				in = append(in, u)
				require.True(t, before.Room(u), "the copy is as it was")
			} else if len(in) > 0 {
				at := rapid.IntRange(0, len(in)-1).Draw(t, "at")
				l.Remove(in[at])
				in = append(in[:at], in[at+1:]...)
			}
			count := map[string]int{}
			for _, u := range in {
				count[u.Link]++
				count[u.Platform]++
				for _, d := range u.Datastores {
					count[u.Platform+"/"+d]++
				}
				if u.Slow {
					count["slow "+u.Link]++
				}
				if u.Long {
					count["long"]++
				}
			}
			u := draw()
			want := len(in) < 4 && count[u.Link] < 2 && count[u.Platform] < 3 && !(u.Slow && count["slow "+u.Link] > 0) && !(u.Long && count["long"] >= 3)
			for _, d := range u.Datastores {
				want = want && count[u.Platform+"/"+d] < 1
			}
			require.Equal(t, want, l.Room(u))
		}
	})
}

// One place is kept from first copies and long cycles, and is not lost to them; nor do short
// ones, however many there are, keep a long one out for good.
func TestAPlaceForShortCycles(t *testing.T) {
	l := schedule.Load{Limits: schedule.Limits{Site: 3}, Short: time.Minute}
	first, long, short, cut, asked := due("first", time.Hour, time.Minute), due("long", time.Hour, time.Minute), due("short", 9*time.Hour, time.Minute), due("cut", time.Hour, time.Minute), due("asked", time.Hour, time.Minute)
	first.Captured, first.Last = time.Time{}, time.Time{}
	for _, f := range []*schedule.Facts{&long, &cut, &asked} {
		f.Length = 2 * time.Minute
	}
	cut.CutOff, asked.AskedAt = true, now
	for name, c := range map[string]struct {
		f    schedule.Facts
		long bool
	}{"a first copy": {first, true}, "a long one": {long, true}, "a short one": {short, false}, "one that goes on": {cut, false}, "one that was asked for": {asked, false}} {
		require.Equal(t, c.long, l.Of(&c.f).Long, name)
	}
	other := long
	other.ID = "other"
	d := schedule.Decide(now, []schedule.Facts{first, long, other, short}, l)
	require.Equal(t, []string{"long", "other", "short"}, ids(d), "two long ones, and the last place for a short one, whose deadline is later")
	require.Equal(t, "two cycles run at this site that may take longer than 1 min, and the last place is kept for shorter ones", d.Waiting[0].Why)
	for range 2 {
		l.Add(l.Of(&short))
	}
	require.Equal(t, []string{"long"}, ids(schedule.Decide(now, []schedule.Facts{long, short}, l)), "beside two short ones")
	alone := schedule.Load{Limits: schedule.Limits{Site: 1}, Short: time.Minute}
	require.Equal(t, []string{"long"}, ids(schedule.Decide(now, []schedule.Facts{long}, alone)), "a site of one place has none to keep")
}

// Of the same deadline, the higher priority goes first.
func TestPriorityBreaksTies(t *testing.T) {
	low, high := due("a", 5*time.Minute, time.Minute), due("b", 5*time.Minute, time.Minute)
	low.Weight, high.Weight = 1, 4
	require.Equal(t, []string{"b"}, ids(schedule.Decide(now, []schedule.Facts{low, high}, free(1))))
}

func crowd(n int, load float64) []schedule.Facts {
	var out []schedule.Facts
	for i := range n {
		f := due(fmt.Sprintf("g%03d", i), time.Hour, 20*time.Minute)
		f.Link, f.Length = "Eastmole", time.Minute
		share := load / float64(n)
		f.Work = time.Duration(share / (1 + share) * float64(time.Hour))
		out = append(out, f)
	}
	return out
}

// A link that carries all spills nobody; one that does not keeps as many as it can, those of
// high priority and those that cost least first, and the others in one slow lane.
func TestMoreThanALinkCarries(t *testing.T) {
	require.Empty(t, schedule.Plan(now, crowd(40, 0.97), schedule.Outlook{}).Spilled)
	groups := crowd(40, 1.2)
	spilled := schedule.Plan(now, groups, schedule.Outlook{}).Spilled
	require.Len(t, spilled, 8, "of 40, each a fortieth of 1.2, a link carries 32")
	groups[39].Weight = 4
	groups[38].Work /= 3
	groups[37].Target = 0 // which nothing could keep
	spilled = schedule.Plan(now, groups, schedule.Outlook{}).Spilled
	require.False(t, spilled["g039"] || spilled["g038"])
	require.True(t, spilled["g037"])
	for i := range groups {
		groups[i].Spilled = spilled[groups[i].ID]
	}
	d := schedule.Decide(now, groups, schedule.Load{})
	slow := 0
	for i, s := range d.Start {
		if spilled[s.ID] {
			slow++
			require.Equal(t, len(d.Start)-1, i, "after all others")
			require.Contains(t, s.Why(), "slow lane")
		}
	}
	require.Equal(t, 1, slow)
	require.Contains(t, d.Waiting[0].Why, "more is promised over the link with Eastmole than that carries")
	for i := range groups {
		if groups[i].Spilled {
			groups[i].AskedAt = now
		}
	}
	require.Empty(t, schedule.Decide(now, groups, schedule.Load{}).Waiting, "who asks is not spilled")

	unknown := crowd(40, 5)
	for i := range unknown {
		unknown[i].Work = 0
	}
	require.Empty(t, schedule.Plan(now, unknown, schedule.Outlook{}).Spilled, "of what is not known nothing is said")
	require.InDelta(t, 1, schedule.Bound(crowd(40, 0.9)), 1e-9)
	require.InDelta(t, 1/1.2, schedule.Bound(crowd(40, 1.2)), 0.02)
	require.EqualValues(t, 1, schedule.Bound(nil))
}

// Whatever the groups: those that are kept fit, and no plan keeps more than the bound.
func TestPlansFit(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var groups []schedule.Facts
		for i := range rapid.IntRange(1, 30).Draw(t, "n") {
			f := due(fmt.Sprint(i), time.Duration(rapid.IntRange(60, 7200).Draw(t, "target"))*time.Second, time.Minute)
			f.Work, f.Length = time.Duration(rapid.IntRange(1, 600).Draw(t, "work"))*time.Second, time.Duration(rapid.IntRange(1, 50).Draw(t, "length"))*time.Second
			f.Link, f.Weight = rapid.SampledFrom([]string{"x", "y"}).Draw(t, "link"), float64(rapid.SampledFrom([]int{1, 2, 4}).Draw(t, "weight"))
			groups = append(groups, f)
		}
		spilled := schedule.Plan(now, groups, schedule.Outlook{}).Spilled
		used := map[string]float64{}
		for _, f := range groups {
			if !spilled[f.ID] {
				used[f.Link] += float64(f.Work) / float64(f.Target-f.Work)
			}
		}
		for _, u := range used {
			require.LessOrEqual(t, u, 0.98+1e-9)
		}
		for i := range groups {
			groups[i].Length = groups[i].Work // as the bound has it
		}
		again := schedule.Plan(now, groups, schedule.Outlook{}).Spilled
		require.LessOrEqual(t, float64(len(groups)-len(again))/float64(len(groups)), schedule.Bound(groups)+1e-9)
	})
}

// A group that may start sooner does, where the last place would be taken before it falls
// due and until it is too late; and says who takes it.
func TestStartsBeforeAPlaceIsTaken(t *testing.T) {
	group := func(id string, last, every, length time.Duration) schedule.Facts {
		f := due(id, 2*every, every)
		f.Name, f.Link, f.Last, f.Captured, f.Length = id, "Eastmole", now.Add(-last), now.Add(-last), length
		f.Cadence.Sooner = true
		return f
	}
	ticketing := group("Ticketing", 9*time.Minute, 10*time.Minute, time.Minute) // due in a minute
	ticketing.Target = 12 * time.Minute                                         // at latest in 2 min
	cameras := group("Pier cameras", 59*time.Minute+30*time.Second, time.Hour, 20*time.Minute)
	cameras.Cadence = cadence.Cadence{Every: time.Hour} // due in half a minute, for 20 min
	cameras.Anchor = cameras.Last
	all := []schedule.Facts{ticketing, cameras}
	one := schedule.Limits{Site: 1}
	early := schedule.Ahead(now, all, one, time.UTC)
	require.Len(t, early, 1)
	e := early["Ticketing"]
	require.Equal(t, now.Add(29*time.Second), e.At)
	require.Equal(t, "because Pier cameras will hold the link from 12:00:30 UTC", e.Why)
	all[0].Early = e
	d := schedule.Decide(now, all, schedule.Load{Limits: one})
	require.Empty(t, d.Start)
	require.Equal(t, e.At, d.Next)
	require.Equal(t, e.At, all[0].NextStart(now))
	d = schedule.Decide(e.At, all, schedule.Load{Limits: one})
	require.Equal(t, []string{"Ticketing"}, ids(d))
	require.Equal(t, "31 s early, because Pier cameras will hold the link from 12:00:30 UTC", d.Start[0].Why())

	for name, c := range map[string]func(all []schedule.Facts, l *schedule.Limits){
		"there is another place":    func(_ []schedule.Facts, l *schedule.Limits) { l.Site = 2 },
		"there is no limit":         func(_ []schedule.Facts, l *schedule.Limits) { l.Site = 0 },
		"it may not start sooner":   func(all []schedule.Facts, _ *schedule.Limits) { all[0].Cadence.Sooner = false },
		"the other ends in time":    func(all []schedule.Facts, _ *schedule.Limits) { all[1].Length = time.Minute },
		"the other begins later":    func(all []schedule.Facts, _ *schedule.Limits) { all[1].Last, all[1].Anchor = now, now },
		"it has begun not long ago": func(all []schedule.Facts, _ *schedule.Limits) { all[0].Last = now },
		"the other is held":         func(all []schedule.Facts, _ *schedule.Limits) { all[1].Paused = true },
		"the other runs already":    func(all []schedule.Facts, _ *schedule.Limits) { all[1].Running, all[1].Last = true, now },
		"the limit is another link's": func(all []schedule.Facts, l *schedule.Limits) {
			*l = schedule.Limits{Link: 1}
			all[1].Link = "Skarholt"
		},
	} {
		all := []schedule.Facts{ticketing, cameras}
		limits := one
		c(all, &limits)
		require.Empty(t, schedule.Ahead(now, all, limits, time.UTC)["Ticketing"], name)
	}
	quiet := ticketing
	quiet.Early = &schedule.Early{At: now, Why: "x"}
	q, err := cadence.ParseQuiet("daily 11:00-12:30", "UTC")
	require.NoError(t, err)
	quiet.Cadence.Quiet = q
	require.False(t, quiet.Due(now), "not in a quiet time")
}

func TestExpect(t *testing.T) {
	m := func(took, copied time.Duration, bytes int64) schedule.Measured {
		return schedule.Measured{Took: took * time.Second, Copy: copied * time.Second, Bytes: bytes}
	}
	newest := []schedule.Measured{m(12, 10, 1000), m(22, 20, 2000), m(7, 5, 500)}
	for name, c := range map[string]struct {
		newest       []schedule.Measured
		bytes, limit float64
		want         time.Duration
	}{
		"nothing is known":          {nil, 1000, 0, 0},
		"the bytes are not known":   {newest, 0, 0, 22 * time.Second},
		"as usual":                  {newest, 1500, 0, 17 * time.Second},
		"three times as much":       {newest, 4500, 0, 47 * time.Second},
		"little":                    {newest, 10, 0, 12 * time.Second},
		"a limit that is lower now": {newest, 1500, 50, 32 * time.Second},
		"a limit that is higher":    {newest, 1500, 1e9, 17 * time.Second},
		"one that lasted by chance": {append([]schedule.Measured{m(600, 2, 100)}, newest[:2]...), 0, 0, 600 * time.Second},
	} {
		require.Equal(t, c.want, schedule.Expect(c.newest, c.bytes, c.limit), name)
	}
}

// What never changes twice takes the same share of a link however late it is copied; what is
// written again and again takes less the later.
func TestWork(t *testing.T) {
	steady := func(share float64) func(time.Duration) time.Duration {
		return func(gap time.Duration) time.Duration { return time.Duration(float64(gap) * share) }
	}
	for _, share := range []float64{0.01, 0.5, 0.99, 3} {
		work := schedule.Work(time.Hour, time.Minute, steady(share))
		require.InEpsilon(t, share, float64(work)/float64(59*time.Minute-work), 0.01)
	}
	work := schedule.Work(time.Hour, 0, func(time.Duration) time.Duration { return time.Minute })
	require.InDelta(t, 60, work.Seconds(), 1)
	require.Zero(t, schedule.Work(time.Minute, time.Hour, steady(1)).Truncate(time.Second), "nothing fits")
}

// Groups of one cadence that were made at once start all over it; a few start as they were
// made.
func TestStartsAreSpread(t *testing.T) {
	for _, every := range []time.Duration{time.Minute, 15 * time.Minute, time.Hour, 24 * time.Hour, 7 * 24 * time.Hour} {
		tenth := map[int]int{}
		var anchors []time.Time
		for i := range 1000 {
			made := now.Add(time.Duration(i) * time.Millisecond)
			anchor := schedule.Anchor(fmt.Sprintf("group-%d", i), made, every, anchors)
			require.False(t, anchor.After(made))
			if i < 4 {
				require.Equal(t, made, anchor)
			}
			anchors = append(anchors, anchor)
			next, ok := cadence.Cadence{Every: every}.Next(anchor, made, made)
			require.True(t, ok)
			tenth[int((next.Sub(made)-1)*10/every)]++
		}
		for k, n := range tenth {
			require.InDelta(t, 100, n, 60, "every %s: %d tenths", every, k)
		}
	}
	require.Equal(t, now, schedule.Anchor("x", now, 0, nil))
}
