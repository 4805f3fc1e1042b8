package forecast

import (
	"math"
	"slices"
	"time"

	"kestrel/internal/core/pace"
)

// rates settles what each link carries now, and until when that holds.
func (r *run) rates() {
	changed := false
	for i := range r.links {
		l := &r.links[i]
		if r.now < l.until {
			continue
		}
		changed = true
		zone := l.Zone
		if zone == nil {
			zone = time.UTC
		}
		t := r.at
		l.until, l.down = never, false
		if len(l.Plan.Windows) > 0 {
			// Windows begin and end at whole minutes; looking at each quarter of an hour, and
			// at once where one ends sooner, keeps long forecasts fast.
			l.until = r.now + int64(untilChange(l.Plan, t.In(zone)))
		}
		for _, a := range l.Away {
			from, to := r.since(a.From), r.since(a.To)
			switch {
			case r.now >= from && r.now < to:
				l.down, l.until = true, min(l.until, to)
			case r.now < from:
				l.until = min(l.until, from)
			}
		}
		l.rate = math.Inf(1)
		if limit := l.Plan.At(t.In(zone)); limit > 0 {
			l.rate = float64(limit)
		}
		if l.Capacity > 0 {
			l.rate = min(l.rate, l.Capacity)
		}
		if l.known = !math.IsInf(l.rate, 1); l.down {
			l.rate = 0
		}
	}
	r.stale = r.stale || changed
}

// untilChange is how long a plan's rate holds.
func untilChange(p pace.Plan, t time.Time) time.Duration {
	minute := t.Hour()*60 + t.Minute()
	next := 24*60 - minute
	for _, w := range p.Windows {
		for _, edge := range []int{w.From, w.To % (24 * 60)} {
			if edge > minute {
				next = min(next, edge-minute)
			}
		}
	}
	into := time.Duration(t.Second())*time.Second + time.Duration(t.Nanosecond())
	return time.Duration(next)*time.Minute - into
}

// share divides each link among the cycles that cross it, by their weights; what one cannot
// use is for the others.
func (r *run) share() {
	for i := range r.links {
		on := r.on[:0]
		weight := 0.0
		for _, s := range r.active {
			if s.link == i && s.left > 0 {
				on = append(on, s)
				weight += s.heft
			}
		}
		r.on = on
		left := r.links[i].rate
		slices.SortFunc(on, func(a, b *state) int {
			switch {
			case a.most < b.most:
				return -1
			case a.most > b.most:
				return 1
			}
			return a.rank - b.rank
		})
		for _, s := range on {
			s.rate = min(s.most*s.heft, left*s.heft/weight)
			left -= s.rate
			weight -= s.heft
		}
	}
	for _, s := range r.active {
		if s.link < 0 && s.left > 0 {
			s.rate = s.bound()
		}
	}
}

func (g *Group) weight() float64 {
	if g.Weight <= 0 {
		return 1
	}
	return g.Weight
}

// bound is how fast a group's platform lets it cross a link.
func (g *Group) bound() float64 {
	if g.ReadRate <= 0 {
		return math.Inf(1)
	}
	if g.Wire > 0 {
		return g.ReadRate * g.Wire
	}
	return g.ReadRate
}
