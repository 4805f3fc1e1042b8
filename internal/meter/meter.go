// Package meter looks again and again at how much there is of what comes and goes: backlogs of
// groups, what links carry, how full stores are. It keeps that for long, with its peaks.
package meter

import (
	"context"
	"log/slog"
	"slices"
	"strings"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/clock"
	"kestrel/internal/core/series"
	"kestrel/internal/core/span"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// Names of what is measured and counted.
const (
	Backlog      = "backlog"        // bytes of a group that are not sealed yet
	Out          = "out"            // bytes a second that a link carries from here
	In           = "in"             // bytes a second that it carries to here
	Used         = "used"           // bytes that the point store takes up
	Free         = "free"           // bytes that are left for it
	LongTermUsed = "long-term used" // the same of the long-term store
	LongTermFree = "long-term free"
	Changed      = "changed" // bytes that cycles found changed
	Sent         = "sent"    // bytes that they sent across the link
	Length       = "cycle length"
	Waited       = "waited" // longest time that a cycle was due before it began
	Sealed       = "sealed" // cycles
	Failed       = "failed"
	Missed       = "missed" // starts of the cadence
)

// units of what is measured, as the contract has them.
func unit(what string) api.SeriesUnit {
	switch what {
	case Out, In:
		return api.BytesPerSecond
	case Length, Waited:
		return api.Seconds
	case Sealed, Failed, Missed:
		return api.Cycles
	}
	return api.Bytes
}

// Sight is something that was measured.
type Sight struct {
	Subject, What string
	Value         float64
}

// Store is where measures are kept; *records.DB is one.
type Store interface {
	AddMeasures(ctx context.Context, ms []records.Measure) error
	Measures(ctx context.Context, step, subject string, from, to time.Time) ([]records.Measure, error)
	TalliesOf(ctx context.Context, step, group string, from, to time.Time) ([]records.Tally, error)
}

// Config is what it is made of.
type Config struct {
	DB    Store
	Look  func() []Sight // measures everything now; what is not known is left out
	Clock clock.Clock
	Log   *slog.Logger
	Every time.Duration // between two looks
}

// Meter is that of one site.
type Meter struct {
	Config
	held map[key]*series.Bucket // not kept yet; only Run's own
}

type key struct {
	subject, what string
	at            time.Time // beginning of the finest step
}

// New makes it.
func New(cfg Config) *Meter { return &Meter{Config: cfg, held: map[key]*series.Bucket{}} }

const (
	// looks is how many looks are kept at once.
	looks = 6
	// mostHeld bounds what waits for a database that does not answer; then what is oldest
	// goes.
	mostHeld = 200_000
)

// Run measures until ctx ends.
func (m *Meter) Run(ctx context.Context) {
	for n := 1; ; n++ {
		m.look()
		if n%looks == 0 {
			if err := m.keep(ctx); err != nil && ctx.Err() == nil {
				m.Log.Warn("keep measures", "err", err)
			}
		}
		if clock.Sleep(ctx, m.Clock, m.Every) != nil {
			// What was measured last is kept as well, if the database still answers.
			last, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
			defer cancel()
			if err := m.keep(last); err != nil {
				m.Log.Info("the last measures are not kept", "err", err)
			}
			return
		}
	}
}

func (m *Meter) look() {
	at := m.Clock.Now().UTC().Truncate(series.Steps()[0].Long)
	for _, s := range m.Look() {
		k := key{s.Subject, s.What, at}
		if m.held[k] == nil {
			m.held[k] = &series.Bucket{}
		}
		m.held[k].Add(s.Value)
	}
}

// keep writes what is held; it is held on to until that is done.
func (m *Meter) keep(ctx context.Context) error {
	var ms []records.Measure
	for k, b := range m.held {
		if b.N > 0 {
			ms = append(ms, records.Measure{Subject: k.subject, What: k.what, At: k.at, N: b.N, Sum: b.Sum, Least: b.Least, Most: b.Most})
		}
	}
	if len(ms) == 0 {
		return nil
	}
	if err := m.DB.AddMeasures(ctx, ms); err != nil {
		m.forget()
		return err
	}
	clear(m.held)
	return nil
}

// forget lets go of what is oldest if too much is held.
func (m *Meter) forget() {
	if len(m.held) <= mostHeld {
		return
	}
	keys := make([]key, 0, len(m.held))
	for k := range m.held {
		keys = append(keys, k)
	}
	slices.SortFunc(keys, func(a, b key) int { return a.at.Compare(b.at) })
	for _, k := range keys[:len(keys)-mostHeld] {
		delete(m.held, k)
	}
}

// maxNames is how many series can be asked for.
const maxNames = 20

// Kind is what is measured.
type Kind string

// Kinds of what is measured.
const (
	Group  Kind = "group"
	Link   Kind = "link"
	Stores Kind = "stores"
)

// names are what can be asked for of a kind.
func (k Kind) names() []string {
	switch k {
	case Group:
		return []string{Backlog, Changed, Sent, Length, Waited, Sealed, Failed, Missed}
	case Link:
		return []string{Out, In}
	}
	return []string{Used, Free, LongTermUsed, LongTermFree}
}

// Of says what is asked for.
type Of struct {
	Subject  string // an ID
	Kind     Kind
	What     []string // names; empty is all
	From, To *time.Time
}

// View gives how something went over a stretch of time, the last day if it is left open, as
// finely as it is kept and can be shown. Steps in which nothing was measured are left out.
func (m *Meter) View(ctx context.Context, of Of) (api.Measures, error) {
	now := m.Clock.Now().UTC()
	to := now
	if of.To != nil && of.To.Before(now) {
		to = of.To.UTC()
	}
	from := to.Add(-span.Day)
	if of.From != nil {
		from = of.From.UTC()
	}
	all := series.Steps()
	switch kept := all[len(all)-1].Kept; {
	case !from.Before(to):
		return api.Measures{}, problem.Invalid("from", "The stretch ends before it begins; give an earlier time.")
	case now.Sub(from) > kept+span.Day:
		return api.Measures{}, problem.Invalid("from", "What was is kept for %s; give a later time.", span.Format(kept))
	}
	if len(of.What) > maxNames {
		return api.Measures{}, problem.Invalid("what", "Name at most %d series.", maxNames)
	}
	for _, w := range of.What {
		if names := of.Kind.names(); !slices.Contains(names, w) {
			return api.Measures{}, problem.Invalid("what", "%q is none of %s.", w, strings.Join(names, ", "))
		}
	}
	step := series.Choose(from, to, now)
	v := api.Measures{From: from, To: to, StepSeconds: int64(step.Long / time.Second), Series: []api.Series{}}
	ms, err := m.DB.Measures(ctx, step.Name, of.Subject, from.Truncate(step.Long), to)
	if err != nil {
		return v, err
	}
	at := map[string]int{}
	add := func(what string, long time.Duration, x api.Measured) {
		if len(of.What) > 0 && !slices.Contains(of.What, what) {
			return
		}
		i, there := at[what]
		if !there {
			i = len(v.Series)
			at[what] = i
			v.Series = append(v.Series, api.Series{Name: what, Unit: unit(what), StepSeconds: int64(long / time.Second), Values: []api.Measured{}})
		}
		v.Series[i].Values = append(v.Series[i].Values, x)
	}
	for _, x := range ms {
		b := x.Bucket()
		add(x.What, step.Long, api.Measured{At: x.At.UTC(), Mean: b.Mean(), Least: b.Least, Most: b.Most})
	}
	if of.Kind == Group {
		name, long := records.ByHour, max(step.Long, time.Hour)
		if long == span.Day {
			name = records.ByDay
		}
		ts, err := m.DB.TalliesOf(ctx, name, of.Subject, from.Truncate(long), to)
		if err != nil {
			return v, err
		}
		for _, t := range ts {
			count(t, func(what string, x api.Measured) { add(what, long, x) })
		}
	}
	slices.SortFunc(v.Series, func(a, b api.Series) int { return strings.Compare(a.Name, b.Name) })
	return v, nil
}

// count gives what cycles of a group did in a step: sums, and what one did at most.
func count(t records.Tally, add func(what string, x api.Measured)) {
	at := t.At.UTC()
	sum := func(what string, all, most float64) {
		mean := 0.0
		if t.Sealed > 0 {
			mean = all / float64(t.Sealed)
		}
		add(what, api.Measured{At: at, Mean: mean, Most: most, Sum: &all})
	}
	if t.Sealed > 0 {
		sum(Changed, float64(t.Changed), float64(t.ChangedMost))
		sum(Sent, float64(t.Wire), float64(t.WireMost))
		add(Length, api.Measured{At: at, Mean: float64(t.Took) / 1000 / float64(t.Sealed), Most: float64(t.TookMost) / 1000})
		add(Waited, api.Measured{At: at, Most: float64(t.WaitedMost) / 1000})
	}
	for what, n := range map[string]int{Sealed: t.Sealed, Failed: t.Failed, Missed: t.Missed} {
		add(what, api.Measured{At: at, Mean: float64(n), Least: float64(n), Most: float64(n), Sum: new(float64(n))})
	}
}
