package mover

import (
	"time"

	"kestrel/internal/core/change"
	"kestrel/internal/core/schedule"
	"kestrel/internal/cycle"
	"kestrel/internal/directory"
)

// reckon keeps up to date what a group's next cycle is expected to take; the lock is held.
func (s *state) reckon(m *Mover, r *directory.Record, seen looked, now time.Time) {
	if !s.reckoned.IsZero() && now.Sub(s.reckoned) < reckonEvery && !now.Before(s.reckoned) {
		return
	}
	s.reckoned = now
	if seen.source.Datastores != nil {
		s.datastores = seen.source.Datastores(r.Spec.Machines)
	}
	var newest []schedule.Measured
	var read, wire int64
	for _, a := range s.accounts {
		if a.State != cycle.Sealed || a.Kind != cycle.KindChanges {
			continue
		}
		newest = append(newest, schedule.Measured{Took: a.Took(), Copy: max(a.Lasted("ship"), a.Lasted("read")), Bytes: a.WireBytes})
		read, wire = read+a.ReadBytes, wire+a.WireBytes
	}
	limit := float64(seen.way.Limit)
	share := 1.0
	if read > 0 && wire > 0 {
		share = float64(wire) / float64(read)
	}
	curve := s.learned.Curve()
	if len(curve) == 0 && s.changeRate > 0 {
		curve = change.Steady(s.changeRate)
	}
	bytes := 0.0
	if len(curve) > 0 && !seen.captured.IsZero() {
		bytes = curve.Within(max(0, now.Sub(seen.captured))) * share
		if m.Hourly != nil {
			bytes *= m.Hourly(r.ID, now)
		}
	}
	s.length, s.still = schedule.Expect(newest, bytes, limit), schedule.Still(newest)
	s.work, s.copying = 0, 0
	if limit > 0 {
		s.copying = time.Duration(bytes / limit * float64(time.Second))
	}
	if target := r.Spec.Promise.Target; limit > 0 && target > 0 && len(curve) > 0 {
		s.work = schedule.Work(target, s.still, func(gap time.Duration) time.Duration {
			return time.Duration(curve.Within(gap) * share / limit * float64(time.Second))
		})
	}
}

// plan finds, for what is to be decided upon, which groups are more than their links carry
// and which have to begin before they fall due; the lock is held.
func (m *Mover) plan(facts []schedule.Facts, now time.Time) {
	look := schedule.Plan(now, facts, m.outlook)
	m.outlook = look
	for i := range facts {
		f := &facts[i]
		f.Spilled = look.Spilled[f.ID]
		m.of(f.ID).spilled = f.Spilled
	}
	if now.Sub(m.ahead) < m.Pulse && !now.Before(m.ahead) {
		return
	}
	m.ahead = now
	early := schedule.Ahead(now, facts, m.Limits, time.UTC)
	for i := range facts {
		f := &facts[i]
		f.Early = early[f.ID]
		m.of(f.ID).early = f.Early
	}
}

// busy is what the cycles that run use; the lock is held.
func (m *Mover) busy() schedule.Load {
	l := schedule.Load{Limits: m.Limits, Short: m.outlook.Short}
	for _, s := range m.by {
		if s.run != nil {
			l.Add(s.run.uses)
		}
	}
	return l
}
