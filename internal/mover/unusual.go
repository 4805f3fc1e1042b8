package mover

import (
	"context"
	"time"

	"kestrel/internal/core/span"
	"kestrel/internal/core/unusual"
	"kestrel/internal/cycle"
)

const (
	// peaksSpan is how far back the most of each hour of the day is looked for, peaksEvery how
	// often.
	peaksSpan  = 14 * span.Day
	peaksEvery = time.Hour
)

// seenOf is what a cycle found.
func seenOf(a cycle.Account, gap time.Duration) unusual.Seen {
	return unusual.Seen{Gap: gap, Changed: a.ChangedBytes, Zeroed: a.ZeroedBytes, Shipped: a.ShippedBytes, Wire: a.WireBytes}
}

// unusual says what is unusual of a cycle that is about to seal.
func (m *Mover) unusual(s *state, run *running) string {
	now := m.Clock.Now().UTC()
	m.mu.Lock()
	defer m.mu.Unlock()
	a := account(run.rec, run.detail)
	if a.Kind != cycle.KindChanges {
		return "" // what it finds is not since the capture before
	}
	var u unusual.Usual
	before := time.Time{} // the capture that this one follows
	for i, x := range s.accounts {
		if x.ID == a.ID || x.State != cycle.Sealed {
			continue
		}
		if before.IsZero() {
			before = x.CaptureAt
		}
		if x.Kind == cycle.KindChanges && x.Unusual == "" && i+1 < len(s.accounts) {
			u.Lately = append(u.Lately, seenOf(x, x.CaptureAt.Sub(s.accounts[i+1].CaptureAt)))
		}
	}
	for _, p := range s.peaks {
		u.Known = max(u.Known, now.Sub(p.Since))
		// The hour, and those beside it: what happens by the clock is not on the minute.
		if d := (p.Hour - now.Hour() + 24) % 24; d <= 1 || d == 23 {
			u.Most, u.Dense, u.Zeroed = max(u.Most, p.Changed), max(u.Dense, p.Dense), max(u.Zeroed, p.Zeroed)
		}
	}
	return unusual.Judge(u, seenOf(a, a.CaptureAt.Sub(before)), run.detail.Progress.UsedBytes)
}

// peaks reads what is usual at each hour.
func (m *Mover) peaks(ctx context.Context) {
	ps, err := m.Records.Peaks(ctx, m.Clock.Now().Add(-peaksSpan))
	if err != nil {
		if ctx.Err() == nil {
			m.Log.Warn("read what is usual", "err", err)
		}
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, s := range m.by {
		s.peaks = nil
	}
	for _, p := range ps {
		if s, ok := m.by[p.GroupID]; ok {
			s.peaks = append(s.peaks, p)
		}
	}
}
