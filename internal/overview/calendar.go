package overview

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/schedule"
	"kestrel/internal/core/span"
	"kestrel/internal/cycle"
	"kestrel/internal/directory"
	"kestrel/internal/problem"
)

const (
	// maxCalendar is the longest stretch of time that starts are listed of.
	maxCalendar = 62 * span.Day
	// often is from how many starts a day on a group is told as steady, and its starts are
	// not listed one by one.
	often = 24
	// maxStarts bounds what is listed of one group.
	maxStarts = often * int(maxCalendar/span.Day)
)

// CalendarOf says of which stretch of time and of what starts are listed.
type CalendarOf struct {
	From, To    time.Time
	Group, Link string                        // names or IDs; empty is all
	See         func(r directory.Record) bool // nil: all
}

// Calendar lists the starts that are foretold, with those that are in each other's way.
// Groups whose cycles start oftener than hourly are told as steady.
func (o *Overview) Calendar(q CalendarOf) (api.Calendar, error) {
	now := o.Clock.Now()
	if q.From.IsZero() {
		q.From = now
	}
	if q.To.IsZero() {
		q.To = q.From.Add(7 * span.Day)
	}
	v := api.Calendar{From: q.From.UTC(), To: q.To.UTC(), Starts: []api.CalendarStart{}, Steady: []api.SteadyGroup{}}
	if !q.To.After(q.From) || q.To.Sub(q.From) > maxCalendar {
		return v, problem.Invalid("to", "Starts are listed of at most %s, and the end comes after the beginning.", span.Format(maxCalendar))
	}
	link := ""
	if q.Link != "" {
		l, err := o.Peering.Find(q.Link)
		if err != nil {
			return v, err
		}
		link = l.ID
	}
	only := ""
	if q.Group != "" {
		r, err := o.Groups.Find(q.Group)
		if err != nil {
			return v, err
		}
		only = r.ID
	}
	names := map[string]string{}
	var all []schedule.Planned
	for _, r := range o.Groups.All() {
		if r.Direction == directory.Ended || link != "" && r.Link != link || q.See != nil && !q.See(r) {
			continue
		}
		names[r.ID] = r.Spec.Name
		c := r.Spec.Promise.Cadence
		if every := c.Interval(now); !c.ByHand() && (c.BackToBack || every < span.Day/often) {
			if only == "" || only == r.ID {
				s := api.SteadyGroup{Group: r.ID, GroupName: r.Spec.Name, Cadence: c.String()}
				if !c.Quiet.IsZero() {
					s.Quiet = new(c.Quiet.String())
				}
				v.Steady = append(v.Steady, s)
			}
			continue
		}
		// Of a group alone, others are looked at all the same: for what is in its way.
		all = append(all, o.planned(r, q.From, q.To, now)...)
	}
	for _, p := range schedule.Clashes(all) {
		if only != "" && p.Group != only {
			continue
		}
		x := api.CalendarStart{At: p.At.UTC(), Group: p.Group, GroupName: names[p.Group]}
		if p.Length > 0 {
			x.LengthSeconds = new(seconds(p.Length))
		}
		if p.Note != "" {
			x.Note = &p.Note
		}
		if len(p.Clash) > 0 {
			var with []string
			for _, id := range p.Clash {
				with = append(with, names[id])
			}
			slices.Sort(with)
			x.Clash = &with
		}
		v.Starts = append(v.Starts, x)
	}
	slices.SortStableFunc(v.Starts, func(a, b api.CalendarStart) int {
		return cmp.Or(a.At.Compare(b.At), strings.Compare(a.GroupName, b.GroupName))
	})
	return v, nil
}

// planned are the starts of a group that are foretold, without those that a pause holds.
func (o *Overview) planned(r directory.Record, from, to, now time.Time) []schedule.Planned {
	length := o.length(r)
	var out []schedule.Planned
	for _, s := range r.Spec.Promise.Cadence.Between(r.Anchor, later(from, now), to, maxStarts) {
		if !r.Spec.PausedAt(s.At) {
			out = append(out, schedule.Planned{Group: r.ID, Link: r.Link, From: r.HomeID + r.Spec.Platform, At: s.At, Length: length, Note: s.Note})
		}
	}
	return out
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// length is how long the next cycle of a group is expected to take.
func (o *Overview) length(r directory.Record) time.Duration {
	var newest []schedule.Measured
	for _, c := range o.look(r).live.Cycles {
		if c.State == cycle.Sealed && c.Kind == cycle.KindChanges {
			newest = append(newest, schedule.Measured{Took: c.Took()})
		}
	}
	return schedule.Expect(newest, 0, 0)
}
