package foresight

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/change"
	"kestrel/internal/core/forecast"
	"kestrel/internal/core/group"
	"kestrel/internal/core/promise"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/directory"
	"kestrel/internal/peering"
	"kestrel/internal/problem"
)

// joined is the ID of a group that is not made yet.
const joined = "joined"

// scene is what a forecast is made from, with what is told of it.
type scene struct {
	in    forecast.Input
	specs []group.Spec
	from  []known
	links []peering.Link
}

// farthest is how far ahead a site can be foretold.
const farthest = 31 * span.Day

// Site foretells how all groups fare, or would if.
func (f *Foresight) Site(ctx context.Context, in api.SiteForecastRequest, see func(directory.Record) bool) (api.SiteForecast, error) {
	now := f.Clock.Now()
	long := span.Week
	if in.Hours != nil {
		long = span.Times(*in.Hours, time.Hour)
	}
	if long < time.Hour || long > farthest {
		return api.SiteForecast{}, problem.Invalid("hours", "It is looked 1 to %d hours ahead.", int(farthest/time.Hour))
	}
	s, err := f.scene(ctx, now, long)
	if err != nil {
		return api.SiteForecast{}, err
	}
	if in.Group != nil && see != nil {
		if r, err := f.Groups.Find(*in.Group); err != nil || !see(r) {
			return api.SiteForecast{}, problem.NotFound("group", *in.Group)
		}
	}
	if err := f.suppose(ctx, s, in, now); err != nil {
		return api.SiteForecast{}, err
	}
	only := ""
	if in.Link != nil && *in.Link != "" {
		l, err := f.Peering.Find(*in.Link)
		if err != nil {
			return api.SiteForecast{}, err
		}
		only = l.ID
	}
	out := forecast.Run(s.in)
	return f.view(s, out, only, see), nil
}

// scene gathers what is known.
func (f *Foresight) scene(ctx context.Context, now time.Time, long time.Duration) (*scene, error) {
	weeks, err := f.busy(ctx, now)
	if err != nil {
		return nil, err
	}
	s := &scene{in: forecast.Input{Now: now, For: long, Limits: f.Mover.Limits}}
	for _, l := range f.Peering.All() {
		s.links = append(s.links, l)
		s.in.Links = append(s.in.Links, forecast.Link{ID: l.ID, Plan: l.Pace(), Zone: time.Local})
	}
	for _, r := range f.Groups.All() {
		if r.Direction != directory.Out {
			continue
		}
		if err := f.add(ctx, s, r, r.Spec, weeks); err != nil {
			return nil, err
		}
	}
	return s, nil
}

func (f *Foresight) add(ctx context.Context, s *scene, r directory.Record, spec group.Spec, weeks map[string][]change.Hour) error {
	g, from, err := f.group(ctx, r, spec, s.in.Now, weeks)
	if err != nil {
		return err
	}
	s.in.Groups, s.specs, s.from = append(s.in.Groups, g), append(s.specs, spec), append(s.from, from)
	return nil
}

// suppose changes a scene to what is asked about.
func (f *Foresight) suppose(ctx context.Context, s *scene, in api.SiteForecastRequest, now time.Time) error {
	at := func(text, field string) (int, error) {
		l, err := f.Peering.Find(text)
		if err != nil {
			if p, is := problem.Of(err); is {
				return 0, problem.Invalid(field, "%s", p.Detail)
			}
			return 0, err
		}
		return slices.IndexFunc(s.links, func(o peering.Link) bool { return o.ID == l.ID }), nil
	}
	if in.Rates != nil {
		for i, x := range *in.Rates {
			k, err := at(x.Link, fmt.Sprintf("rates[%d].link", i))
			if err != nil {
				return err
			}
			p := &s.in.Links[k].Plan
			switch {
			case x.BytesPerSecond != nil:
				p.Rate, p.Windows = *x.BytesPerSecond, nil
			case x.Percent == nil:
				return problem.Invalid(fmt.Sprintf("rates[%d]", i), "Say bytesPerSecond or percent.")
			case p.Rate == 0:
				return problem.Invalid(fmt.Sprintf("rates[%d].percent", i), "No limit is set for the link to %s, and it is not known what it can carry: give bytesPerSecond.", s.links[k].Peer)
			default:
				p.Rate = max(1, p.Rate*int64(*x.Percent)/100)
				p.Windows = slices.Clone(p.Windows)
				for w := range p.Windows {
					p.Windows[w].Rate = p.Windows[w].Rate * int64(*x.Percent) / 100
				}
			}
		}
	}
	if in.Away != nil {
		for i, x := range *in.Away {
			k, err := at(x.Site, fmt.Sprintf("away[%d].site", i))
			if err != nil {
				return err
			}
			from := now
			if x.AfterSeconds != nil {
				from = now.Add(span.Times(*x.AfterSeconds, time.Second))
			}
			s.in.Links[k].Away = append(s.in.Links[k].Away, forecast.Span{From: from, To: from.Add(span.Times(x.Seconds, time.Second))})
		}
	}
	if in.Join != nil {
		spec, l, err := f.Draft(*in.Join)
		if err != nil {
			return err
		}
		if err := f.add(ctx, s, directory.Record{ID: joined, Link: l.ID, Anchor: now}, spec, nil); err != nil {
			return err
		}
	}
	if in.Change != nil {
		if in.Group == nil {
			return problem.Invalid("group", "Name the group that is changed.")
		}
		r, err := f.Groups.Find(*in.Group)
		if err != nil {
			return err
		}
		spec, err := f.Edited(r.ID, *in.Change)
		if err != nil {
			return err
		}
		weeks, err := f.busy(ctx, now)
		if err != nil {
			return err
		}
		k := slices.IndexFunc(s.in.Groups, func(g forecast.Group) bool { return g.ID == r.ID })
		if k < 0 {
			return problem.Invalid("group", "%s is not home here; ask its home site.", r.Spec.Name)
		}
		g, from, err := f.group(ctx, r, spec, now, weeks)
		if err != nil {
			return err
		}
		s.in.Groups[k], s.specs[k], s.from[k] = g, spec, from
	}
	return nil
}

func secs(d time.Duration) int64 { return int64(d / time.Second) }

func (f *Foresight) view(s *scene, out forecast.Output, only string, see func(directory.Record) bool) api.SiteForecast {
	v := api.SiteForecast{MadeAt: s.in.Now.UTC(), Until: out.Until.UTC(), Cycles: out.Cycles, Fits: out.Fits(), Groups: []api.GroupForecast{}, Links: []api.LinkForecast{}, Changes: []api.ForecastChange{}, Notes: []string{}}
	for i, o := range out.Groups {
		g := s.in.Groups[i]
		if r, there := f.Groups.Get(g.ID); only != "" && g.Link != only || there && see != nil && !see(r) {
			continue
		}
		v.Groups = append(v.Groups, f.groupView(s, i, o))
	}
	slices.SortStableFunc(v.Groups, func(a, b api.GroupForecast) int {
		return cmp.Or(cmp.Compare(order(a), order(b)), cmp.Compare(a.Within, b.Within), cmp.Compare(a.Name, b.Name))
	})
	for i, l := range out.Links {
		if only == "" || l.ID == only {
			v.Links = append(v.Links, f.linkView(s, i, l))
		}
	}
	if see != nil {
		return v // what follows names groups that may not be seen
	}
	v.Notes = s.notes(out)
	for _, c := range forecast.Suggest(s.in, out) {
		v.Changes = append(v.Changes, api.ForecastChange{Text: c.Text, Fits: c.Fits, Misses: c.Misses})
	}
	return v
}

func order(g api.GroupForecast) int {
	switch {
	case g.Misses:
		return 0
	case g.Seeding:
		return 1
	case g.Briefly:
		return 2
	case g.Paused:
		return 3
	case len(g.Unknown) > 0:
		return 4
	}
	return 5
}

func (f *Foresight) groupView(s *scene, i int, o forecast.Outcome) api.GroupForecast {
	g := s.in.Groups[i]
	v := api.GroupForecast{ID: g.ID, Name: g.Name, TargetSeconds: secs(g.Target), ChangeFrom: string(s.from[i]), Unknown: []string{}, Cycles: o.Cycles, Bytes: int64(o.Bytes), WorstSeconds: secs(o.Worst), MeanSeconds: secs(o.Mean),
		Within: math.Round(o.Within*1e4) / 1e4, Misses: o.Misses(), Briefly: !o.Misses() && !o.Paused && !o.Seeding && g.Target > 0 && o.Worst > g.Target, Seeding: o.Seeding, Paused: o.Paused, CycleSeconds: math.Round(o.Length.Seconds()*10) / 10, WaitSeconds: math.Round(o.Wait.Seconds()*10) / 10}
	k := slices.IndexFunc(s.links, func(l peering.Link) bool { return l.ID == g.Link })
	if k >= 0 {
		v.Link = s.links[k].Peer
	}
	if !o.Over.IsZero() {
		v.OverAt = new(o.Over.UTC())
	}
	if !o.Seeded.IsZero() {
		v.SeedFinishAt = new(o.Seeded.UTC())
	}
	if o.Unknown && !o.Paused {
		v.Unknown = append(v.Unknown, "How much it changes is not known: a survey of its machines, or its first few cycles, tell it.")
	}
	if k >= 0 && s.in.Links[k].Plan.Rate == 0 && len(s.in.Links[k].Plan.Windows) == 0 && g.ReadRate == 0 {
		v.Unknown = append(v.Unknown, "Nothing bounds how fast it is copied: neither a limit of the link nor a cycle that took long enough to be measured. Its cycles are taken to need no time for copying.")
	}
	return v
}

func (f *Foresight) linkView(s *scene, i int, l forecast.LinkLoad) api.LinkForecast {
	p := s.in.Links[i].Plan
	need, _ := s.in.Needs(l.ID)
	v := api.LinkForecast{ID: l.ID, Peer: s.links[i].Peer, Bytes: int64(l.Bytes), Hours: []int64{}, Limited: p.Rate > 0 || len(p.Windows) > 0, NeedBytesPerSecond: int64(need), Space: []api.SpaceAt{}}
	for _, h := range l.Hours {
		v.Hours = append(v.Hours, int64(h))
	}
	if v.Limited {
		v.Share, v.Busiest = new(math.Round(l.Share*1e4)/1e4), new(math.Round(l.Busiest*1e4)/1e4)
	}
	if rate := p.At(s.in.Now.In(time.Local)); rate > 0 {
		v.RateBytesPerSecond = &rate
	}
	if free := s.links[i].Free; free > 0 {
		v.FreeBytes = &free
	}
	f.space(s, i, &v)
	return v
}

// space tells what points at the other site take more than now, day by day.
func (f *Foresight) space(s *scene, i int, v *api.LinkForecast) {
	at := func(after time.Duration) (total float64) {
		for k, g := range s.in.Groups {
			if g.Link != s.in.Links[i].ID {
				continue
			}
			h := f.Keeper.Holding(g.ID)
			age := after
			if !h.OldestAt.IsZero() {
				age += max(0, s.in.Now.Sub(h.OldestAt))
			} else if after == 0 {
				continue
			}
			load := promise.Load{UsedBytes: g.SeedBytes, Change: g.Change}
			total += s.specs[k].Promise.Space(age, s.in.Now, load)
		}
		return total
	}
	now := at(0)
	for after := span.Day; after <= s.in.For; after += span.Day {
		more := at(after) - now
		v.Space = append(v.Space, api.SpaceAt{At: s.in.Now.Add(after).UTC(), MoreBytes: int64(more)})
		if v.FreeBytes != nil && v.FullAt == nil && more > float64(*v.FreeBytes) {
			v.FullAt = new(s.in.Now.Add(after).UTC())
		}
	}
}

// notes say what gives where it does not fit.
func (s *scene) notes(out forecast.Output) []string {
	notes := []string{}
	for i, l := range s.in.Links {
		need, most := s.in.Needs(l.ID)
		rate := l.Plan.At(s.in.Now.In(time.Local))
		var miss []string
		for k, g := range out.Groups {
			if s.in.Groups[k].Link == l.ID && g.Misses() {
				miss = append(miss, s.in.Groups[k].Name)
			}
		}
		switch peer := s.links[i].Peer; {
		case rate > 0 && need > float64(rate):
			var names []string
			for _, g := range most[:min(2, len(most))] {
				names = append(names, g.Name)
			}
			notes = append(notes, fmt.Sprintf("The link to %s carries %s/s, and its groups need %s/s, %s the most of it: lengthen a cadence, raise the limit or widen a window, or give priority.", peer, span.Bytes(float64(rate)), span.Bytes(need), words.Joined(names, 2)))
		case len(miss) > 0:
			notes = append(notes, fmt.Sprintf("%s would miss %s although the link to %s carries what is needed: their cycles take too long, wait for others, or start too seldom.", words.Joined(miss, 4), plural(len(miss), "its target", "their targets"), peer))
		}
		if out.Links[i].Busiest > 0.95 && out.Links[i].Share < 0.9 {
			notes = append(notes, fmt.Sprintf("The link to %s is full in its busiest hour, and used to %.0f %% on the whole: let cadences fall on other hours.", s.links[i].Peer, 100*out.Links[i].Share))
		}
	}
	return notes
}

func plural(n int, one, more string) string {
	if n == 1 {
		return one
	}
	return more
}
