package protection

import (
	"context"
	"slices"
	"strings"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/change"
	"kestrel/internal/core/group"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/promise"
	"kestrel/internal/directory"
	"kestrel/internal/inventory"
	"kestrel/internal/peering"
	"kestrel/internal/problem"
)

// Forecast foretells what a group that could be made, or changed, would lead to. It
// finds the same faults that saving would.
func (x *Protection) Forecast(ctx context.Context, in api.ForecastRequest) (api.Forecast, error) {
	if in.Group != nil && *in.Group != "" {
		r, err := x.Groups.Find(*in.Group)
		if err != nil {
			return api.Forecast{}, err
		}
		w, faults := wishOf(api.GroupPatch{Name: in.Name, Machines: in.Machines, Tier: in.Tier, Reason: in.Reason, Rule: in.Rule, WithoutDisks: in.WithoutDisks, WithoutBootDisks: in.WithoutBootDisks, Quiesce: in.Quiesce, Promise: in.Promise, PromiseText: in.PromiseText})
		p := w.Patch
		if r.Direction == directory.Out {
			var more []problem.Field
			p, _, more = x.resolve(w, r.Spec)
			faults = append(faults, more...)
		}
		next := p.Apply(r.Spec)
		if len(faults) == 0 && r.Direction == directory.Out {
			faults = x.Groups.Check(next, r.ID)
		}
		return x.foretell(ctx, r, next, fieldErrors(faults)), nil
	}
	w, faults := wishOf(api.GroupPatch{Name: in.Name, Machines: in.Machines, Tier: in.Tier, Reason: in.Reason, Rule: in.Rule, WithoutDisks: in.WithoutDisks, WithoutBootDisks: in.WithoutBootDisks, Quiesce: in.Quiesce, Promise: in.Promise, PromiseText: in.PromiseText})
	if w.Machines == nil {
		w.Machines = &[]string{}
	}
	to := ""
	if in.Link != nil {
		to = *in.Link
	}
	given := map[string]bool{"promise": true, "name": in.Name != nil, "machines": in.Machines != nil, "rule": in.Rule != nil, "tier": in.Tier != nil, "reason": in.Tier != nil, "withoutDisks": in.WithoutDisks != nil, "quiesce": in.Quiesce != nil, "link": in.Link != nil}
	s, l, faults := x.draft(w, faults, to)
	var told []problem.Field
	for _, f := range faults {
		// What has not been filled in yet is not a fault yet.
		if given[strings.FieldsFunc(f.Field, func(r rune) bool { return r == '.' || r == '[' })[0]] {
			told = append(told, f)
		}
	}
	now := x.Clock.Now()
	return x.foretell(ctx, directory.Record{Link: l.ID, Anchor: now, Direction: directory.Out}, s, fieldErrors(told)), nil
}

// foretell computes a forecast of a specification of a group.
func (x *Protection) foretell(ctx context.Context, r directory.Record, s group.Spec, faults []api.FieldError) api.Forecast {
	now := x.Clock.Now()
	var shown api.Group
	Show(s, &shown, now)
	out := api.Forecast{Promise: shown.Promise, Starts: []api.ForetoldStart{}, PointsPerRung: []int{}, Faults: faults, Warnings: []api.FieldError{}}
	for _, f := range s.Promise.Check() {
		if f.Warning {
			out.Warnings = append(out.Warnings, api.FieldError{Field: f.Field, Message: f.Message})
		}
	}
	var load promise.Load
	if r.ID != "" && r.Direction == directory.Out {
		var rate float64
		rate, load.CycleLength = x.Mover.ChangeRate(r.ID)
		load.Change = change.Steady(rate)
	}
	if live, ok := x.Peering.Reported(r.ID); ok && r.Direction == directory.In {
		load.Change = change.Steady(live.ChangeRate)
	}
	from := "cycles"
	if len(load.Change) == 0 && x.Surveyed != nil {
		from = "survey"
		if c, ok, err := x.Surveyed(ctx, s.Platform, s.IDs()); err == nil && ok {
			load.Change = c
		}
	}
	if l, ok := x.Peering.Get(r.Link); ok {
		if l.Free > 0 {
			out.SpaceFreeBytes = &l.Free
			if far := slices.ContainsFunc(s.Promise.Keep, func(r ladder.Rung) bool { return r.LongTerm }); far && !l.LongTerm {
				out.Warnings = append(out.Warnings, api.FieldError{Field: "promise.keep", Message: l.Peer + " has no long-term store, so what the long-term rungs keep stays in its point store."})
			}
		}
		load.LinkRate = float64(l.Limit)
	}
	if p, ok := x.Inventory.Get(s.Platform); ok {
		for _, m := range s.Machines {
			if pm, ok := p.Machine(m.ID); ok {
				load.UsedBytes += inventory.Used(pm, func(disk string) bool { return s.Leaves(m.ID, disk) })
			}
		}
	}
	if rate := load.Change.Rate(s.Promise.Cadence.Interval(now)); rate > 0 {
		out.ChangeBytesPerSecond, out.ChangeFrom = &rate, &from
	}
	out.UsedBytes = load.UsedBytes
	for _, f := range faults {
		if strings.HasPrefix(f.Field, "promise.") {
			return out // numbers from a promise that cannot be would mislead
		}
	}
	f := s.Promise.Foretell(r.Anchor, now, load)
	for _, x := range f.Starts {
		y := api.ForetoldStart{At: x.At.UTC()}
		if x.Note != "" {
			y.Note = &x.Note
		}
		out.Starts = append(out.Starts, y)
	}
	out.Points, out.PointsPerRung = f.Points, f.PointsPerRung
	out.OldestSeconds, out.SpaceBytes = seconds(f.Oldest), f.SpaceBytes
	out.Later = x.later(ctx, r, s, now, load)
	if f.Worst > 0 {
		out.WorstSeconds = new(seconds(f.Worst))
	}
	if f.CycleLength > 0 {
		out.CycleSeconds = new(f.CycleLength.Seconds())
	}
	for _, w := range f.Warnings {
		out.Warnings = append(out.Warnings, api.FieldError{Field: w.Field, Message: w.Message})
	}
	return out
}

// drawn is how many marks a stretch of time is drawn with: more lie over each other.
const drawn = 240

// later tells which points there would be, those of today among them.
func (x *Protection) later(ctx context.Context, r directory.Record, s group.Spec, now time.Time, load promise.Load) *[]api.LaterPoints {
	var have []ladder.Point
	if r.ID != "" {
		var err error
		if have, err = x.Keeper.Marks(ctx, r); err != nil {
			return nil // a drawing less
		}
	}
	out := []api.LaterPoints{}
	for _, l := range s.Promise.Foresee(r.Anchor, now, have, load) {
		v := api.LaterPoints{AfterSeconds: seconds(l.After), Points: len(l.Points), Marks: []api.PointMark{}, SpaceBytes: l.SpaceBytes}
		if len(l.Points) > 0 {
			v.OldestAt = new(l.Points[0].Capture.UTC())
			apart := now.Add(l.After).Sub(l.Points[0].Capture) / drawn
			for i, p := range l.Points {
				if n := len(v.Marks); n > 0 && i < len(l.Points)-1 && p.Capture.Sub(v.Marks[n-1].At) < apart {
					continue
				}
				m := api.PointMark{At: p.Capture.UTC()}
				if p.ID != "" {
					m.Exists = new(true)
				}
				v.Marks = append(v.Marks, m)
			}
		}
		out = append(out, v)
	}
	return &out
}

// Draft is a group as it would be made; what is wrong with it is the error.
func (x *Protection) Draft(in api.NewGroup) (group.Spec, peering.Link, error) {
	w, faults := newWish(in)
	s, l, faults := x.draft(w, faults, in.Link)
	if len(faults) > 0 {
		return group.Spec{}, peering.Link{}, problem.InvalidFields(faults...)
	}
	return s, l, nil
}

// Edited is a group that is home here as an edit would leave it.
func (x *Protection) Edited(id string, in api.GroupPatch) (group.Spec, error) {
	r, err := x.Groups.Find(id)
	if err != nil {
		return group.Spec{}, err
	}
	w, faults := wishOf(in)
	p, _, more := x.resolve(w, r.Spec)
	next := p.Apply(r.Spec)
	if faults = append(faults, more...); len(faults) == 0 {
		faults = x.Groups.Check(next, r.ID)
	}
	if len(faults) > 0 {
		return group.Spec{}, problem.InvalidFields(faults...)
	}
	return next, nil
}
