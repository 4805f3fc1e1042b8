package health_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/core/health"
)

func TestThings(t *testing.T) {
	link := health.LinkFacts{Now: now, Peer: "Eastmole", Reached: true, Called: true, Seen: now, Room: true}
	l := func(change func(f *health.LinkFacts)) health.Condition {
		f := link
		change(&f)
		return health.OfLink(f)
	}
	peer := func(change func(f *health.LinkFacts)) health.Condition {
		f := link
		change(&f)
		return health.OfPeer(f)
	}
	platform := health.PlatformFacts{Now: now, Name: "quay", Up: true, Seen: now}
	p := func(change func(f *health.PlatformFacts)) health.Condition {
		f := platform
		change(&f)
		return health.OfPlatform(f)
	}
	store := health.StoreFacts{Now: now, Free: 10 << 30, Floor: 1 << 30}
	s := func(change func(f *health.StoreFacts)) health.Condition {
		f := store
		change(&f)
		return health.OfStore(f)
	}
	machine := health.MachineFacts{Name: "tick-db", GroupName: "Ticketing", Group: health.OnTarget, There: true, Platform: health.Condition{Word: health.Fine}}
	m := func(change func(f *health.MachineFacts)) health.Condition {
		f := machine
		change(&f)
		return health.OfMachine(f)
	}
	for name, c := range map[string]struct {
		got   health.Condition
		want  health.Word
		cause string
	}{
		"link":         {l(func(*health.LinkFacts) {}), health.Fine, ""},
		"link, silent": {l(func(f *health.LinkFacts) { f.Reached, f.Called, f.Seen = false, false, now.Add(-time.Hour) }), health.Down, "Eastmole has not answered for 1 h."},
		"link, never":  {l(func(f *health.LinkFacts) { f.Reached, f.Called, f.Seen = false, false, time.Time{} }), health.Down, "Eastmole has not answered since this service started."},
		"link, just started": {l(func(f *health.LinkFacts) {
			f.Reached, f.Called, f.Seen, f.Looked = false, false, time.Time{}, now.Add(-time.Second)
		}), health.Unknown, "Nothing has been heard of Eastmole"},
		"link, one way":          {l(func(f *health.LinkFacts) { f.Reached = false }), health.Down, "does not reach it: groups that go out are cut off"},
		"link, the other way":    {l(func(f *health.LinkFacts) { f.Called = false }), health.Strained, "groups that come in are cut off"},
		"link, clocks":           {l(func(f *health.LinkFacts) { f.Apart = -time.Minute }), health.Strained, "The clocks differ by 1 min"},
		"link, no room":          {l(func(f *health.LinkFacts) { f.Room = false }), health.Strained, "The point store of Eastmole is full."},
		"link, full":             {l(func(f *health.LinkFacts) { f.Carries, f.Limit, f.Late = 95, 100, 2 }), health.Strained, "Its limit of 100 B/s is taken up, and 2 groups are late."},
		"link, full, none late":  {l(func(f *health.LinkFacts) { f.Carries, f.Limit = 95, 100 }), health.Fine, ""},
		"site":                   {peer(func(*health.LinkFacts) {}), health.Fine, ""},
		"site, silent":           {peer(func(f *health.LinkFacts) { f.Reached, f.Called = false, false }), health.Unknown, "Nothing is known of Eastmole since it was last heard."},
		"platform":               {p(func(*health.PlatformFacts) {}), health.Fine, ""},
		"platform, away":         {p(func(f *health.PlatformFacts) { f.Up, f.Seen, f.Err = false, now.Add(-time.Minute), "refused" }), health.Down, "quay has not answered for 1 min: refused."},
		"platform, never":        {p(func(f *health.PlatformFacts) { f.Up, f.Seen, f.Err = false, time.Time{}, "refused." }), health.Down, "quay has never answered: refused."},
		"platform, not asked":    {p(func(f *health.PlatformFacts) { f.Up, f.Seen = false, time.Time{} }), health.Unknown, "quay has not been asked yet."},
		"platform, in part":      {p(func(f *health.PlatformFacts) { f.Trouble = "host b does not answer" }), health.Strained, "host b does not answer."},
		"store":                  {s(func(*health.StoreFacts) {}), health.Fine, ""},
		"store, full":            {s(func(f *health.StoreFacts) { f.Free = 1 }), health.Down, "It is full"},
		"store, bad":             {s(func(f *health.StoreFacts) { f.Bad = 1 }), health.Strained, "One record cannot be read."},
		"store, fills":           {s(func(f *health.StoreFacts) { f.Fills = now.Add(30 * time.Hour) }), health.Strained, "it is full in 1 d 6 h"},
		"store, fills in a year": {s(func(f *health.StoreFacts) { f.Fills = now.Add(9000 * time.Hour) }), health.Fine, ""},
		"machine":                {m(func(*health.MachineFacts) {}), health.Fine, ""},
		"machine, gone":          {m(func(f *health.MachineFacts) { f.There = false }), health.Down, "does not have it any more"},
		"machine, group over":    {m(func(f *health.MachineFacts) { f.Group = health.Over }), health.Down, "Ticketing is over its target."},
		"machine, group tight":   {m(func(f *health.MachineFacts) { f.Group = health.Tight }), health.Strained, "Ticketing is close to its target."},
		"machine, disk":          {m(func(f *health.MachineFacts) { f.Undecided = 1 }), health.Strained, "a new disk"},
		"machine, at rest":       {m(func(f *health.MachineFacts) { f.Restless = "no agent" }), health.Strained, "not brought to rest at the last capture: no agent."},
		"machine, nothing known": {m(func(f *health.MachineFacts) {
			f.Platform, f.There = health.Condition{Word: health.Down, Cause: "quay is away"}, false
		}), health.Unknown, "quay is away"},
	} {
		t.Run(name, func(t *testing.T) {
			require.Equal(t, c.want, c.got.Word)
			require.Contains(t, c.got.Cause, c.cause)
			require.Equal(t, c.want == health.Fine, c.got.Cause == "")
		})
	}
}

// What is worse counts at once, what is better when it has held: a thing that comes and goes
// is as bad as at its worst, since when that began; a clock that was set back loses nothing.
func TestSteady(t *testing.T) {
	down, fine := health.Condition{Word: health.Down, Cause: "it is away"}, health.Condition{Word: health.Fine}
	var s health.Steady
	at := func(d time.Duration) time.Time { return now.Add(d) }
	for i, c := range []struct {
		after time.Duration
		see   health.Condition
		want  health.Word
		since time.Duration
	}{
		{0, fine, health.Fine, 0},
		{10 * time.Second, down, health.Down, 10 * time.Second},
		{20 * time.Second, fine, health.Down, 10 * time.Second},
		{30 * time.Second, down, health.Down, 10 * time.Second}, // it flaps
		{40 * time.Second, fine, health.Down, 10 * time.Second},
		{60 * time.Second, fine, health.Down, 10 * time.Second},
		{70 * time.Second, fine, health.Fine, 70 * time.Second},
		{80 * time.Second, health.Condition{Word: health.Strained, Since: at(-time.Hour)}, health.Strained, -time.Hour},
		{90 * time.Second, down, health.Down, 90 * time.Second},
		{-time.Hour, fine, health.Down, 90 * time.Second}, // the clock is set back
		{-time.Hour + health.Hold, fine, health.Fine, -time.Hour + health.Hold},
	} {
		s = s.Next(c.see, at(c.after))
		require.Equal(t, c.want, s.Word, "step %d", i)
		require.Equal(t, at(c.since), s.Since, "step %d", i)
	}
}
