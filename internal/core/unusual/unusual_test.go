package unusual_test

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/core/unusual"
)

const (
	mib  = 1 << 20
	used = 200 * 1024 * mib
)

// machine is a file server with days and nights: changes with noise, a busy hour, a nightly
// dump of compressed archives, and a weekly rebuild of indexes.
type machine struct {
	r     *rand.Rand
	every time.Duration
}

func (m machine) at(t time.Time) unusual.Seen {
	noise := math.Exp(0.6 * m.r.NormFloat64())
	per := 0.4 * mib * m.every.Seconds() * noise // a lognormal rate about 0.4 MiB/s
	hour := t.Hour()
	if hour >= 8 && hour < 18 {
		per *= 3
	}
	if hour == 12 {
		per *= 3
	}
	ratio := 0.45 + 0.08*m.r.NormFloat64()
	zero := per * 0.02
	if hour == 2 {
		per += 15 * mib * m.every.Seconds() // the dump
		ratio = 0.99
	}
	if t.Weekday() == time.Sunday && hour == 4 {
		per += 6 * mib * m.every.Seconds()
	}
	ratio = min(1, max(0.2, ratio))
	return unusual.Seen{Gap: m.every, Changed: int64(per), Zeroed: int64(zero), Shipped: int64(0.9 * per), Wire: int64(0.9 * per * ratio)}
}

// history remembers as the service does: the newest cycles that were as usual, and the most
// of each hour of the day in two weeks.
type history struct {
	lately []unusual.Seen
	hours  map[time.Time]unusual.Usual
	first  time.Time
}

func (h *history) usual(t time.Time) unusual.Usual {
	u := unusual.Usual{Lately: h.lately, Known: t.Sub(h.first)}
	for day := range 15 {
		for d := -1; d <= 1; d++ {
			x := h.hours[t.Truncate(time.Hour).Add(time.Duration(d-24*day)*time.Hour)]
			u.Most, u.Dense, u.Zeroed = max(u.Most, x.Most), max(u.Dense, x.Dense), max(u.Zeroed, x.Zeroed)
		}
	}
	return u
}

func (h *history) see(t time.Time, s unusual.Seen) (why string) {
	if h.hours == nil {
		h.hours, h.first = map[time.Time]unusual.Usual{}, t
	}
	why = unusual.Judge(h.usual(t), s, used)
	at := t.Truncate(time.Hour)
	x := h.hours[at]
	x.Most, x.Dense, x.Zeroed = max(x.Most, s.Changed), max(x.Dense, s.Dense()), max(x.Zeroed, s.Zeroed)
	h.hours[at] = x
	if why == "" {
		h.lately = append(h.lately, s)
		h.lately = h.lately[max(0, len(h.lately)-24):]
	}
	return why
}

var begin = time.Date(2026, 11, 2, 0, 0, 0, 0, time.UTC)

// Over months of a machine with bursts, dumps and rebuilds hardly anything is told that is
// none.
func TestFalseAlarms(t *testing.T) {
	cycles, alarms := 0, 0
	for seed := range uint64(6) {
		for _, every := range []time.Duration{5 * time.Minute, 30 * time.Minute, 4 * time.Hour} {
			m, h := machine{rand.New(rand.NewPCG(seed, uint64(every))), every}, history{}
			for at := begin; at.Before(begin.AddDate(0, 2, 0)); at = at.Add(every) {
				cycles++
				if why := h.see(at, m.at(at)); why != "" {
					alarms++
				}
			}
		}
	}
	t.Logf("%d false alarms in %d cycles", alarms, cycles)
	require.Greater(t, cycles, 100_000)
	require.LessOrEqual(t, float64(alarms)/float64(cycles), 1e-4)
}

// What is unusual is told of at once, and a burst that is usual is not.
func TestWhatIsUnusual(t *testing.T) {
	for _, every := range []time.Duration{5 * time.Minute, 30 * time.Minute} {
		m := machine{rand.New(rand.NewPCG(7, uint64(every))), every}
		settled := history{}
		for at := begin; at.Before(begin.AddDate(0, 0, 17)); at = at.Add(every) {
			settled.see(at, m.at(at))
		}
		now := begin.AddDate(0, 0, 17).Add(10 * time.Hour) // a Thursday
		burst := m.at(now)
		burst.Changed, burst.Shipped, burst.Wire = 3*burst.Changed, 3*burst.Shipped, 3*burst.Wire
		gib := int64(1024 * mib)
		for name, c := range map[string]struct {
			seen unusual.Seen
			want string
		}{
			"a disk is encrypted":               {unusual.Seen{Changed: 60 * gib, Shipped: 60 * gib, Wire: 60 * gib}, "cannot be compressed"},
			"a part of it":                      {unusual.Seen{Changed: 40 * gib, Shipped: 38 * gib, Wire: 38 * gib}, "cannot be compressed"},
			"much is deleted and trimmed":       {unusual.Seen{Changed: 90 * gib, Zeroed: 80 * gib, Shipped: 9 * gib, Wire: 4 * gib}, "were emptied"},
			"a database is loaded again":        {unusual.Seen{Changed: 150 * gib, Shipped: 140 * gib, Wire: 60 * gib}, "had changed, and"},
			"a burst of thrice the usual":       {burst, ""},
			"an archive of some hundred MiB":    {unusual.Seen{Changed: 300 * mib, Shipped: 300 * mib, Wire: 300 * mib}, ""},
			"nothing at all":                    {unusual.Seen{}, ""},
			"a link without compression, usual": {unusual.Seen{Changed: 100 * mib, Shipped: 90 * mib, Wire: 91 * mib}, ""},
		} {
			t.Run(every.String()+" "+name, func(t *testing.T) {
				c.seen.Gap = every
				why := unusual.Judge(settled.usual(now), c.seen, used)
				if c.want == "" {
					require.Empty(t, why)
				} else {
					require.Contains(t, why, c.want)
				}
			})
		}
	}
	require.Empty(t, unusual.Judge(unusual.Usual{}, unusual.Seen{Changed: used, Shipped: used, Wire: used}, used), "of what is not known yet nothing is said")
}
