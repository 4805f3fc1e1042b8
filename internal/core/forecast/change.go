package forecast

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"time"

	"kestrel/internal/core/cadence"
	"kestrel/internal/core/span"
)

// Change is something that could be done where a forecast does not fit, and what the same
// forecast says with it.
type Change struct {
	Text string // what to do
	// Fits says that all groups would keep their targets; if not, fewer would miss them.
	Fits   bool
	Misses int // groups that still would
	// Group and Cadence, or Link and Rate, or Group and Target are what is changed.
	Group   string
	Cadence time.Duration
	Target  time.Duration
	Link    string
	Rate    int64
}

// maxChanges is how many are given: more is no help in deciding.
const maxChanges = 3

// Needs is what the groups of a link need of it on the whole, in bytes a second, and those
// that need the most, first.
func (in Input) Needs(id string) (rate float64, groups []Group) {
	for _, g := range in.Groups {
		if g.Link != id || g.Paused && g.Until.IsZero() {
			continue
		}
		if r := g.needs(in.Now); r > 0 {
			rate += r
			groups = append(groups, g)
		}
	}
	slices.SortStableFunc(groups, func(a, b Group) int { return cmp.Compare(b.needs(in.Now), a.needs(in.Now)) })
	return rate, groups
}

// needs is what a group needs of a link in the long run.
func (g Group) needs(now time.Time) float64 {
	wire := g.Wire
	if wire <= 0 {
		wire = 1
	}
	every := g.Cadence.Interval(now)
	if g.Cadence.BackToBack {
		every = time.Minute
	}
	return g.Change.Rate(every) * wire
}

func misses(o Output) (n int) {
	for _, g := range o.Groups {
		if g.Misses() {
			n++
		}
	}
	return n
}

// Suggest gives changes that would make a forecast fit where it does not, or come nearer to
// it, each tried by the same forecast. Of a forecast that fits there are none.
func Suggest(in Input, out Output) []Change {
	before := misses(out)
	if before == 0 {
		return nil
	}
	var found []Change
	try := func(c Change, next Input) bool {
		n := misses(Run(next))
		c.Misses, c.Fits = n, n == 0
		if n < before {
			found = append(found, c)
		}
		return n == 0
	}
	for _, id := range tight(in, out) {
		suggestRate(in, id, try)
	}
	for _, i := range worst(out) {
		suggestCadence(in, out, i, try)
		suggestPriority(in, i, try)
		suggestTarget(in, out, i, try)
		if len(found) >= 2*maxChanges {
			break
		}
	}
	slices.SortStableFunc(found, func(a, b Change) int { return cmp.Compare(a.Misses, b.Misses) })
	return found[:min(maxChanges, len(found))]
}

// tight are the links of groups that miss their targets.
func tight(in Input, out Output) []string {
	var ids []string
	for i, g := range out.Groups {
		if id := in.Groups[i].Link; g.Misses() && id != "" && !slices.Contains(ids, id) {
			ids = append(ids, id)
		}
	}
	return ids
}

// worst are the groups that miss their targets, the farthest first.
func worst(out Output) []int {
	var at []int
	for i, g := range out.Groups {
		if g.Misses() {
			at = append(at, i)
		}
	}
	slices.SortStableFunc(at, func(a, b int) int { return cmp.Compare(out.Groups[a].Within, out.Groups[b].Within) })
	return at[:min(len(at), 2)]
}

// round makes a rate one that people set: two digits of MiB a second.
func round(rate float64) int64 {
	unit := float64(1 << 20)
	if rate < 10*unit {
		unit /= 16
	}
	return int64(math.Ceil(rate/unit) * unit)
}

// suggestRate raises what a link carries, where it is a limit that was set.
func suggestRate(in Input, id string, try func(Change, Input) bool) {
	at := slices.IndexFunc(in.Links, func(l Link) bool { return l.ID == id })
	if at < 0 || in.Links[at].Plan.Rate == 0 && len(in.Links[at].Plan.Windows) == 0 {
		return
	}
	need, _ := in.Needs(id)
	for _, factor := range []float64{1.2, 1.6, 2.5, 4} {
		rate := round(need * factor)
		if c := in.Links[at].Capacity; c > 0 && float64(rate) > c || rate <= in.Links[at].Plan.Rate && len(in.Links[at].Plan.Windows) == 0 {
			continue
		}
		next := in
		next.Links = slices.Clone(in.Links)
		next.Links[at].Plan.Rate, next.Links[at].Plan.Windows = rate, nil
		if try(Change{Text: fmt.Sprintf("Let the link carry %s/s at all hours", span.Bytes(float64(rate))), Link: id, Rate: rate}, next) {
			return
		}
	}
}

// edited is the input with one group changed.
func (in Input) edited(i int, change func(*Group)) Input {
	in.Groups = slices.Clone(in.Groups)
	change(&in.Groups[i])
	return in
}

// suggestCadence runs cycles of a group less often where that copies less, or lets others
// through; or more often where its target needs it.
func suggestCadence(in Input, out Output, i int, try func(Change, Input) bool) {
	g := in.Groups[i]
	if g.Cadence.Every <= 0 {
		return
	}
	if shorter := nice(g.Target/2 - out.Groups[i].Length); shorter >= time.Second && shorter < g.Cadence.Every {
		if try(Change{Text: fmt.Sprintf("Let cycles of %s start every %s", g.Name, span.Format(shorter)), Group: g.ID, Cadence: shorter}, in.edited(i, func(x *Group) { x.Cadence.Every = shorter })) {
			return
		}
	}
	// Whoever needs most of the link, and has room below its target.
	_, all := in.Needs(g.Link)
	for _, o := range all[:min(len(all), 3)] {
		k := slices.IndexFunc(in.Groups, func(x Group) bool { return x.ID == o.ID })
		longer := nice(min(o.Cadence.Every*4, o.Target*8/10-out.Groups[k].Length))
		if o.Cadence.Every <= 0 || longer <= o.Cadence.Every {
			continue
		}
		if try(Change{Text: fmt.Sprintf("Let cycles of %s start every %s instead of %s", o.Name, span.Format(longer), o.Cadence), Group: o.ID, Cadence: longer}, in.edited(k, func(x *Group) { x.Cadence = cadence.Cadence{Every: longer, Quiet: x.Cadence.Quiet} })) {
			return
		}
	}
}

// highest is the weight of the highest priority.
const highest = 4

func suggestPriority(in Input, i int, try func(Change, Input) bool) {
	if g := in.Groups[i]; g.Weight > 0 && g.Weight < highest && g.Link != "" {
		try(Change{Text: fmt.Sprintf("Give %s a high priority", g.Name), Group: g.ID}, in.edited(i, func(x *Group) { x.Weight = highest }))
	}
}

// mostTarget is how much longer a target is suggested at most: more is another promise.
const mostTarget = 8

// suggestTarget promises what can be kept.
func suggestTarget(in Input, out Output, i int, try func(Change, Input) bool) {
	g := in.Groups[i]
	target := nice(out.Groups[i].Worst * 11 / 10)
	if target < out.Groups[i].Worst {
		target *= 2
	}
	if out.Groups[i].Worst > 0 && target > g.Target && target <= mostTarget*g.Target {
		try(Change{Text: fmt.Sprintf("Promise %s instead of %s for %s", span.Format(target), span.Format(g.Target), g.Name), Group: g.ID, Target: target}, in.edited(i, func(x *Group) { x.Target = target }))
	}
}

// nice makes a length of time one that people choose, not longer.
func nice(d time.Duration) time.Duration {
	steps := []time.Duration{time.Second, 2 * time.Second, 5 * time.Second, 10 * time.Second, 15 * time.Second, 30 * time.Second, time.Minute, 2 * time.Minute, 3 * time.Minute, 5 * time.Minute, 10 * time.Minute, 15 * time.Minute, 20 * time.Minute, 30 * time.Minute,
		time.Hour, 2 * time.Hour, 3 * time.Hour, 4 * time.Hour, 6 * time.Hour, 8 * time.Hour, 12 * time.Hour, span.Day, 2 * span.Day, 4 * span.Day, span.Week, 2 * span.Week, 30 * span.Day}
	out := time.Duration(0)
	for _, s := range steps {
		if s <= d {
			out = s
		}
	}
	return out
}
