package demo

import (
	"fmt"
	"hash/fnv"
	"time"

	"kestrel/internal/core/change"
	"kestrel/internal/core/forecast"
	"kestrel/internal/core/group"
	"kestrel/internal/core/pace"
	"kestrel/internal/core/schedule"
	"kestrel/internal/core/span"
)

// The days before the hours that the service itself runs through are stepped through by the
// scheduler's own decisions, as forecasts are, with what went wrong in them.

// usual is how much a group of the story changes in a second, in bytes, and what is left of a
// byte on the link.
type usual struct{ rate, wire float64 }

func usuals() map[string]usual {
	return map[string]usual{
		"Vessel tracking": {9700, 0.49}, "Timetable": {2500, 0.42}, "Fuel ledger": {620, 0.5}, "Harbour gates": {3300, 0.45},
		"Freight desk": {2700, 0.51}, "Radio archive": {600, 0.48}, "Crew rota": {190, 0.4},
	}
}

// days are how busy the hours of a day are, as a share of the mean hour: ferries sail from
// six to midnight.
func days() []change.Hour {
	day := [24]float64{0.4, 0.35, 0.3, 0.3, 0.5, 0.8, 1.2, 1.5, 1.6, 1.5, 1.4, 1.3, 1.3, 1.3, 1.3, 1.4, 1.5, 1.5, 1.3, 1.1, 0.9, 0.7, 0.6, 0.5}
	var out []change.Hour
	for h := range 7 * 24 {
		share := day[h%24]
		if h/24 >= 5 { // at weekends there are more passengers, and fewer in offices
			share = (share + 0.7) / 1.7
		}
		out = append(out, change.Hour{Hour: h, Share: share})
	}
	return out
}

// Kinds of what went wrong.
type trouble int

const (
	slowLink trouble = iota // carries Amount bytes a second
	cutLink                 // carries nothing
	burst                   // a group changes Amount times as much
	paused                  // a group was, on purpose
	restless                // machines of a group were not brought to rest
	odd                     // one cycle of a group found Amount times as much, and none of it shrinks
	edited                  // a group's target was Amount seconds before From
	slowed                  // a group's cadence was Amount seconds before From
)

// incident is something that went wrong, or was done, between two instants.
type incident struct {
	trouble
	From, To time.Time
	A, B     string // the sites of a link
	Group    string
	Amount   float64
	Text     string
}

// incidents are those of two weeks, told from their end.
func incidents(end time.Time) []incident {
	at := func(day, hour, minute int) time.Time {
		return end.UTC().Truncate(span.Day).Add(-time.Duration(day)*span.Day + time.Duration(hour)*time.Hour + time.Duration(minute)*time.Minute)
	}
	return []incident{
		{trouble: edited, From: at(11, 9, 12), Group: "Harbour gates", Amount: 1200},
		{trouble: slowLink, From: at(9, 10, 5), To: at(9, 13, 20), A: "Norhaven", B: "Eastmole", Amount: 1900},
		{trouble: paused, From: at(8, 22, 4), To: at(7, 5, 31), Group: "Harbour gates", Text: "the gates' controllers get new firmware"},
		{trouble: cutLink, From: at(6, 2, 9), To: at(6, 3, 17), A: "Norhaven", B: "Skarholt"},
		{trouble: burst, From: at(4, 8, 30), To: at(4, 10, 15), Group: "Freight desk", Amount: 45},
		{trouble: restless, From: at(3, 13, 1), To: at(3, 15, 40), Group: "Timetable", Text: "time-web-1: the agent in the guest did not answer within 10 s"},
		{trouble: slowed, From: at(1, 9, 40), Group: "Crew rota", Amount: 4.5 * 3600},
		{trouble: odd, From: at(2, 2, 0), To: at(2, 4, 0), Group: "Radio archive", Amount: 130},
	}
}

// over tells whether an incident is under way at an instant.
func (i incident) over(t time.Time) bool { return !t.Before(i.From) && t.Before(i.To) }

// gone is a group of the story on its way through the days.
type gone struct {
	id, name       string
	home, recovery string
	link           string // ID at home
	platform       string
	spec           group.Spec
	anchor         time.Time
	last, captured time.Time // of the newest cycle
	cycles         []forecast.Cycle
	left           []float64 // on the link of a byte that changed, for each of them
}

// linkRate is what the link between two of the story's sites carries, in bytes a second.
const linkRate = 96 << 10

// live steps groups of one home site through the days, from one change of the weather to the
// next, and notes their cycles.
func live(groups []*gone, from, to time.Time, all []incident) {
	cuts := []time.Time{from, to}
	for _, i := range all {
		for _, t := range []time.Time{i.From, i.To} {
			if t.After(from) && t.Before(to) {
				cuts = append(cuts, t)
			}
		}
	}
	for day := from.UTC().Truncate(span.Day).Add(span.Day); day.Before(to); day = day.Add(span.Day) {
		cuts = append(cuts, day)
	}
	sortTimes(cuts)
	for n := range len(cuts) - 1 {
		stretch(groups, cuts[n], cuts[n+1], all)
	}
}

// stretch is live between two changes of the weather.
func stretch(groups []*gone, from, to time.Time, all []incident) {
	in := weather(groups, from, to, all)
	in.Each = func(c forecast.Cycle) {
		g := groups[c.Group]
		g.cycles, g.left, g.last, g.captured = append(g.cycles, c), append(g.left, in.Groups[c.Group].Wire), c.Start, c.Capture
	}
	forecast.Run(in)
}

// foretold is what a forecast for the day from an instant on would have been, when nobody knew
// of what would go wrong.
func foretold(groups []*gone, from time.Time) []forecast.Outcome {
	var then []*gone
	for _, g := range groups {
		x := *g
		for _, c := range g.cycles {
			if c.Sealed.Before(from) {
				x.last, x.captured = c.Start, c.Capture
			}
		}
		then = append(then, &x)
	}
	return forecast.Run(weather(then, from, from.Add(span.Day), nil)).Groups
}

// weather is what a stretch is stepped through with, as it is at its beginning.
func weather(groups []*gone, from, to time.Time, all []incident) forecast.Input {
	in := forecast.Input{Now: from, For: to.Sub(from), Limits: schedule.Limits{Site: 4}}
	links := map[string]bool{}
	for _, g := range groups {
		u := usuals()[g.name]
		f := forecast.Group{ID: g.id, Name: g.name, Link: g.link, Platform: g.platform, Target: g.spec.Promise.Target, Cadence: g.spec.Promise.Cadence, Anchor: g.anchor, Weight: g.spec.Priority.Weight(),
			Last: g.last, Captured: g.captured, Busy: days(), Zone: time.UTC, Lead: 700 * time.Millisecond, Tail: 1300 * time.Millisecond}
		shrinks := u.wire
		if all != nil {
			u.rate *= mood(g.name, from)
		}
		rate, carries, away := u.rate, int64(linkRate), []forecast.Span(nil)
		for _, i := range all {
			switch mine := i.Group == g.name; {
			case i.trouble == slowed && mine && from.Before(i.From):
				f.Cadence.Every = time.Duration(i.Amount) * time.Second
			case !i.over(from):
			case i.trouble == paused && mine:
				f.Paused, f.Until = true, i.To
			case (i.trouble == burst || i.trouble == odd) && mine:
				rate *= i.Amount
				if i.trouble == odd {
					shrinks = 1
				}
			case i.trouble == slowLink && i.between(g):
				carries = int64(i.Amount)
			case i.trouble == cutLink && i.between(g):
				away = []forecast.Span{{From: i.From, To: i.To}}
			}
		}
		f.Change, f.Wire = change.Steady(rate), shrinks
		in.Groups = append(in.Groups, f)
		if !links[g.link] {
			links[g.link] = true
			in.Links = append(in.Links, forecast.Link{ID: g.link, Plan: pace.Plan{Rate: carries}, Zone: time.UTC, Away: away})
		}
	}
	return in
}

// mood is how much more or less than usual a group changes on the day of an instant.
func mood(name string, t time.Time) float64 {
	h := fnv.New32a()
	_, _ = fmt.Fprintf(h, "%s %d", name, t.Unix()/int64(span.Day.Seconds()))
	return 0.85 + 0.3*float64(h.Sum32()%1000)/1000
}

// between tells whether a group's points cross the link that an incident is about.
func (i incident) between(g *gone) bool {
	return i.A == g.home && i.B == g.recovery || i.B == g.home && i.A == g.recovery
}
