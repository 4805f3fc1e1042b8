package meter_test

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/clock"
	"kestrel/internal/core/span"
	"kestrel/internal/meter"
	"kestrel/internal/records"
)

// ledger keeps what it is given, and may refuse to.
type ledger struct {
	mu      sync.Mutex
	away    bool
	kept    []records.Measure
	tallies []records.Tally
	step    string
	tried   chan struct{}
}

func (l *ledger) AddMeasures(_ context.Context, ms []records.Measure) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	defer func() {
		select {
		case l.tried <- struct{}{}:
		default:
		}
	}()
	if l.away {
		return errors.New("the database is away")
	}
	l.kept = append(l.kept, ms...)
	return nil
}

func (l *ledger) Measures(_ context.Context, step, subject string, _, _ time.Time) ([]records.Measure, error) {
	l.step = step
	var out []records.Measure
	for _, m := range l.kept {
		if m.Subject == subject {
			out = append(out, m)
		}
	}
	return out, nil
}

func (l *ledger) TalliesOf(context.Context, string, string, time.Time, time.Time) ([]records.Tally, error) {
	return l.tallies, nil
}

func (l *ledger) set(away bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.away = away
}

// What was measured while the database was away is kept when it is back, once; what is
// measured last is kept when the service stops.
func TestMeasuresOutlastTheDatabase(t *testing.T) {
	db := &ledger{away: true, tried: make(chan struct{}, 1)}
	ctx, stop := context.WithCancel(t.Context())
	var mu sync.Mutex
	n := 0
	m := meter.New(meter.Config{DB: db, Clock: clock.Wall{}, Log: slog.New(slog.DiscardHandler), Every: time.Millisecond, Look: func() []meter.Sight {
		mu.Lock()
		defer mu.Unlock()
		n++
		return []meter.Sight{{Subject: "g", What: meter.Backlog, Value: float64(n)}}
	}})
	done := make(chan struct{})
	go func() { m.Run(ctx); close(done) }()
	<-db.tried
	<-db.tried
	db.set(false)
	<-db.tried
	<-db.tried
	stop()
	<-done
	count, most := 0, 0.0
	for _, x := range db.kept {
		count += x.N
		most = max(most, x.Most)
	}
	require.Equal(t, n, count, "each once")
	require.InDelta(t, float64(n), most, 0)
}

// A stretch of time is read as finely as it is kept; what cannot be asked for is refused with
// what can.
func TestView(t *testing.T) {
	now := time.Now().UTC()
	db := &ledger{kept: []records.Measure{{Subject: "g", What: meter.Backlog, At: now.Add(-time.Hour), N: 4, Sum: 40, Least: 2, Most: 20}},
		tallies: []records.Tally{{At: now.Add(-time.Hour), Sealed: 2, Failed: 1, Missed: 3, Changed: 100, ChangedMost: 70, Wire: 50, WireMost: 30, Took: 9000, TookMost: 6000, WaitedMost: 1500}}}
	m := meter.New(meter.Config{DB: db, Clock: clock.Wall{}})
	ask := func(of meter.Of, back time.Duration) (map[string][3]float64, error) {
		of.From = new(now.Add(-back))
		v, err := m.View(t.Context(), of)
		out := map[string][3]float64{}
		for _, s := range v.Series {
			x := s.Values[0]
			sum := -1.0
			if x.Sum != nil {
				sum = *x.Sum
			}
			out[s.Name] = [3]float64{x.Mean, x.Most, sum}
		}
		return out, err
	}
	all, err := ask(meter.Of{Subject: "g", Kind: meter.Group}, span.Day)
	require.NoError(t, err)
	require.Equal(t, map[string][3]float64{"backlog": {10, 20, -1}, "changed": {50, 70, 100}, "sent": {25, 30, 50}, "cycle length": {4.5, 6, -1}, "waited": {0, 1.5, -1}, "sealed": {2, 2, 2}, "failed": {1, 1, 1}, "missed": {3, 3, 3}}, all)
	require.Equal(t, "quarter", db.step)
	one, err := ask(meter.Of{Subject: "g", Kind: meter.Group, What: []string{"backlog"}}, 100*span.Day)
	require.NoError(t, err)
	require.Len(t, one, 1)
	require.Equal(t, "day", db.step)
	_, err = ask(meter.Of{Subject: "g", Kind: meter.Group, What: []string{"out"}}, span.Day)
	require.ErrorContains(t, err, `"out" is none of backlog, changed, sent`)
	_, err = ask(meter.Of{Subject: "g", Kind: meter.Link}, 500*span.Day)
	require.ErrorContains(t, err, "kept for 400 d")
	_, err = ask(meter.Of{Subject: "g", Kind: meter.Link}, -time.Hour)
	require.ErrorContains(t, err, "ends before it begins")
}
