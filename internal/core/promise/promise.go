// Package promise holds what a group promises, checks it, and foretells what
// comes out of it.
package promise

import (
	"fmt"
	"slices"
	"time"

	"kestrel/internal/core/cadence"
	"kestrel/internal/core/calendar"
	"kestrel/internal/core/change"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
)

// Promise is what an administrator undertakes for a group.
type Promise struct {
	Target  time.Duration // RPO target
	Cadence cadence.Cadence
	Keep    ladder.Ladder
	// Zone is the time zone of its times and dates, of the time zone database; empty is
	// UTC.
	Zone string
	// Least is how many of the newest points always stay.
	Least int
}

// Keeping is the ladder with what it is judged by besides.
func (p Promise) Keeping() ladder.Keep {
	return p.KeepingBy(p.Keep)
}

// KeepsAs tells whether two promises keep the same points.
func (p Promise) KeepsAs(o Promise) bool {
	return slices.Equal(p.Keep, o.Keep) && p.Zone == o.Zone && p.Least == o.Least
}

// KeepingBy is another ladder, judged as this promise is.
func (p Promise) KeepingBy(l ladder.Ladder) ladder.Keep {
	in, err := calendar.Location(p.Zone)
	if err != nil {
		in = time.UTC // refused by Check
	}
	return ladder.Keep{Ladder: l, In: in, Least: p.Least}
}

// ZoneName is the zone for people.
func (p Promise) ZoneName() string {
	if p.Zone == "" {
		return "UTC"
	}
	return p.Zone
}

// Limits of the fields.
const (
	MinTarget = 5 * time.Second
	MaxTarget = 100 * span.Day
	MinEvery  = time.Second
	MaxEvery  = 30 * span.Day
	MaxRungs  = 8
	MaxReach  = span.Max
	MaxPoints = 5000
	MaxLeast  = 100
)

// Finding is a fault of one field, with its mend. Warnings do not bar saving.
type Finding struct {
	Field   string // path in the API, such as "promise.cadenceSeconds"
	Message string // what is wrong and what to do
	Warning bool
}

// Check lists what is wrong with a promise, faults before warnings.
func (p Promise) Check() []Finding {
	var faults, warnings []Finding
	fault := func(field, format string, a ...any) {
		faults = append(faults, Finding{Field: "promise." + field, Message: fmt.Sprintf(format, a...)})
	}
	warn := func(field, format string, a ...any) {
		warnings = append(warnings, Finding{Field: "promise." + field, Message: fmt.Sprintf(format, a...), Warning: true})
	}
	if p.Target < MinTarget || p.Target > MaxTarget {
		fault("rpoTargetSeconds", "An RPO target lies between %s and %s.", span.Format(MinTarget), span.Format(MaxTarget))
	}
	p.checkCadence(fault, warn)
	p.checkKeep(fault)
	if p.Cadence.ByHand() {
		warn("cadenceSeconds", "Cycles run only by hand; the target holds only as long as somebody runs them.")
	}
	return append(faults, warnings...)
}

// reference is where the longest time between two starts is looked for from: a promise is
// judged alike whenever that is done.
var reference = time.Date(2026, 1, 5, 0, 0, 0, 0, time.UTC)

// checkCadence holds the cadence against its limits and the target.
func (p Promise) checkCadence(fault, warn func(field, format string, a ...any)) {
	c, every, f := p.Cadence, p.Cadence.Every, span.Format
	if err := c.Calendar.Check(); err != nil {
		fault("cadenceSeconds", "%s", words.Sentence(err.Error()))
		return
	}
	if err := c.Quiet.Check(); err != nil {
		fault("quiet", "%s", words.Sentence(err.Error()))
		return
	}
	kinds := 0
	for _, set := range []bool{every != 0, c.BackToBack, !c.Calendar.IsZero()} {
		if set {
			kinds++
		}
	}
	switch {
	case kinds > 1:
		fault("cadenceSeconds", "Cycles start every so long, back to back, or by a calendar: choose one.")
		return
	case every < 0 || every > 0 && every < MinEvery || every > MaxEvery:
		fault("cadenceSeconds", "A cadence lies between %s and %s, or is 0 for cycles run by hand.", f(MinEvery), f(MaxEvery))
		return
	case p.Target < MinTarget || kinds == 0:
		return
	}
	gap, at, quiet := c.Gap(reference)
	when := func(t time.Time) string { return t.In(c.Zone()).Format("Mon 2 Jan 15:04") }
	switch {
	case every >= p.Target:
		fault("cadenceSeconds", "Cycles every %s cannot keep an RPO target of %s: just before a point lands, exposure is the cadence plus the length of a cycle. Choose a cadence under %s, better %s, or raise the target.",
			f(every), f(p.Target), f(p.Target), f(max(MinEvery, (p.Target/2).Round(time.Second))))
	case gap >= p.Target && quiet:
		warn("quiet", "A quiet time holds cycles back for %s, such as from %s, so that exposure reaches that and the length of a cycle, above the target of %s. Shorten the quiet time or raise the target.", f(gap), when(at), f(p.Target))
	case gap >= p.Target:
		fault("cadenceSeconds", "Between two starts lie up to %s, such as from %s, which cannot keep an RPO target of %s. Add times, or raise the target above %s.", f(gap), when(at), f(p.Target), f(gap))
	case float64(gap) > 0.8*float64(p.Target):
		warn("cadenceSeconds", "Up to %s between two starts leave only %s for a cycle to finish within the target of %s.", f(gap), f(p.Target-gap), f(p.Target))
	}
}

// CheckKeep lists what is wrong with the ladder alone.
func (p Promise) CheckKeep() (out []Finding) {
	p.checkKeep(func(field, format string, a ...any) {
		out = append(out, Finding{Field: "promise." + field, Message: fmt.Sprintf(format, a...)})
	})
	return out
}

func (p Promise) checkKeep(fault func(field, format string, a ...any)) {
	if len(p.Keep) == 0 || len(p.Keep) > MaxRungs {
		fault("keep", `A keep ladder has 1 to %d rungs, such as "all 6h, 1h 2d".`, MaxRungs)
		return
	}
	for i, r := range p.Keep {
		field := fmt.Sprintf("keep[%d]", i)
		switch {
		case r.Months != 0 && r.Months != 1 && r.Months != 12:
			fault(field+".months", "A rung is of months (1) or of years (12) of the calendar, or of a length of time.")
		case r.For <= 0 || r.For > MaxReach:
			fault(field+".forSeconds", "A rung reaches back more than nothing and at most %s.", span.Format(MaxReach))
		case r.Each < 0 || r.Each > r.For:
			fault(field+".eachSeconds", "A rung keeps one point per stretch no longer than its reach (%s), or 0 for all.", span.Format(r.For))
		case i > 0 && r.For <= p.Keep[i-1].For:
			fault(field+".forSeconds", "Each rung reaches further back than the one before it (%s).", span.Format(p.Keep[i-1].For))
		case i > 0 && r.Each <= p.Keep[i-1].Each:
			fault(field+".eachSeconds", "Each rung is coarser than the one before it.")
		}
	}
	if p.Least < 0 || p.Least > MaxLeast {
		fault("leastPoints", "At least 0 to %d of the newest points stay whatever the ladder says.", MaxLeast)
	}
	total := 0
	for _, n := range p.Keep.Count(p.Cadence.Interval(reference)) {
		total += n
	}
	if total > MaxPoints {
		fault("keep", "This ladder would hold %d points; a group holds at most %d. Shorten a rung, make it coarser, or lengthen the cadence.", total, MaxPoints)
	}
}

// Faults tells the findings that bar saving from the warnings.
func Faults(fs []Finding) []Finding {
	var out []Finding
	for _, f := range fs {
		if !f.Warning {
			out = append(out, f)
		}
	}
	return out
}

// Forecast is what a promise leads to.
type Forecast struct {
	Starts        []cadence.Start // the next ones
	Interval      time.Duration   // from one start to the next, on the whole
	PointsPerRung []int           // in the steady state
	Points        int
	Oldest        time.Duration // how far back one can go
	Worst         time.Duration // highest exposure: cadence plus the length of a cycle; 0 by hand
	CycleLength   time.Duration // expected, with what the link lets through
	// SpaceBytes is the space at the recovery site before compression: the first copy
	// and, for every further point, what changed since the one before it. As far as
	// change is known by length of time, a block that changes twice between kept points
	// counts once; else this is a bound from above.
	SpaceBytes int64
	Warnings   []Finding
}

// Load is what is known or assumed about the machines.
type Load struct {
	UsedBytes   int64         // bytes the first copy holds
	Change      change.Curve  // how much changes within lengths of time
	CycleLength time.Duration // how long a cycle takes
	LinkRate    float64       // bytes a second that the link lets through; 0 for no limit
}

// Foretell computes the forecast from now; it does not check the promise.
func (p Promise) Foretell(anchor, now time.Time, load Load) Forecast {
	interval := p.Cadence.Interval(now)
	if p.Cadence.BackToBack {
		interval = max(load.CycleLength, time.Second)
	}
	f := Forecast{
		Starts:        p.Cadence.Starts(anchor, now, 5),
		PointsPerRung: p.Keep.Count(interval),
		Interval:      interval,
		Oldest:        p.Keep.Reach(),
		SpaceBytes:    load.UsedBytes,
	}
	for i, n := range f.PointsPerRung {
		f.Points += n
		apart := max(p.Keep[i].Each, interval)
		perPoint := min(float64(load.UsedBytes), load.Change.Within(apart))
		f.SpaceBytes += int64(perPoint * float64(n))
	}
	f.CycleLength = load.CycleLength
	if load.LinkRate > 0 && !p.Cadence.ByHand() {
		// What changes from one start to the next has to cross the link.
		crossing := load.Change.Within(interval) / load.LinkRate
		f.CycleLength = max(f.CycleLength, time.Duration(crossing*float64(time.Second)))
	}
	if !p.Cadence.ByHand() {
		gap, _, _ := p.Cadence.Gap(now)
		f.Worst = gap + f.CycleLength
		f.Warnings = p.warn(f, load)
	}
	return f
}

// warn says what a forecast bodes for the target.
func (p Promise) warn(f Forecast, load Load) []Finding {
	w := func(field, format string, a ...any) []Finding {
		return []Finding{{Field: "promise." + field, Message: fmt.Sprintf(format, a...), Warning: true}}
	}
	rate := load.Change.Rate(f.Interval)
	switch {
	case load.LinkRate > 0 && rate > load.LinkRate:
		return w("cadenceSeconds", "The machines change %s/s, and the link is limited to %s/s: cycles can never keep up. Raise the limit of the link.", span.Bytes(rate), span.Bytes(load.LinkRate))
	case f.Worst > p.Target && f.CycleLength > f.Interval && load.LinkRate > 0:
		return w("rpoTargetSeconds", "A cycle would take %s over the limited link, so that exposure reaches %s, above the target of %s. Raise the limit of the link or the target.", span.Format(f.CycleLength), span.Format(f.Worst), span.Format(p.Target))
	case f.Worst > p.Target:
		return w("cadenceSeconds", "A cycle takes %s, so that exposure reaches %s, above the target of %s. Choose a shorter cadence, or raise the target.", span.Format(f.CycleLength), span.Format(f.Worst), span.Format(p.Target))
	}
	return nil
}
