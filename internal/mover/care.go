package mover

import (
	"context"
	"encoding/json"
	"strings"
	"time"

	"kestrel/internal/clock"
	"kestrel/internal/directory"
)

// measure asks the platforms how much was written since the last sealed points,
// until ctx ends. One that hangs holds up only itself.
func (m *Mover) measure(ctx context.Context) {
	for clock.Sleep(ctx, m.Clock, 10*m.Pulse) == nil {
		by := map[string][]directory.Record{}
		for _, r := range m.Groups.All() {
			if r.Home() {
				by[r.Spec.Platform] = append(by[r.Spec.Platform], r)
			}
		}
		for id, rs := range by {
			src, ok := m.Source(id)
			m.mu.Lock()
			if !ok || !src.Up || m.asking[id] {
				m.mu.Unlock()
				continue
			}
			m.asking[id] = true
			m.mu.Unlock()
			m.wg.Go(func() {
				for _, r := range rs {
					if ctx.Err() == nil {
						m.backlog(ctx, r, src)
					}
				}
				m.mu.Lock()
				delete(m.asking, id)
				m.mu.Unlock()
			})
		}
	}
}

func (m *Mover) backlog(ctx context.Context, r directory.Record, src Source) {
	m.mu.Lock()
	s := m.of(r.ID)
	base := s.rep.BaseCheckpoint
	m.mu.Unlock()
	if base == "" {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, backlogAnswer)
	defer cancel()
	captured, _ := m.Points.Newest(r.ID)
	n, err := src.Driver.Changed(ctx, base)
	now := m.Clock.Now()
	m.mu.Lock()
	defer m.mu.Unlock()
	if s.rep.BaseCheckpoint != base {
		return // a point was sealed meanwhile; what was counted is not since then
	}
	s.backlogOK = err == nil
	if err == nil {
		s.backlog = n
		total := int64(0)
		for _, bytes := range n {
			total += bytes
		}
		if newest, _ := m.Points.Newest(r.ID); newest.Equal(captured) && !captured.IsZero() {
			s.learned.See(now.Sub(captured), total)
		}
	}
}

// tidy forgets leftover checkpoints now and then, until ctx ends.
func (m *Mover) tidy(ctx context.Context) {
	done := false
	var peaksAt time.Time
	for n := 0; ; n++ {
		if now := m.Clock.Now(); now.Sub(peaksAt) >= peaksEvery || now.Before(peaksAt) {
			peaksAt = now
			m.peaks(ctx)
		}
		if n%120 == 0 || !done && n%4 == 0 {
			done = m.forgetLeftovers(ctx)
		}
		if clock.Sleep(ctx, m.Clock, m.Pulse) != nil {
			return
		}
	}
}

// forgetLeftovers removes checkpoints of this site that no group needs: a crash or
// a lost platform may have left them. It reports whether all could be asked.
func (m *Mover) forgetLeftovers(ctx context.Context) bool {
	all := true
	for _, id := range m.Platforms() {
		src, ok := m.Source(id)
		if !ok || !src.Up {
			all = false
			continue
		}
		asked, cancel := context.WithTimeout(ctx, 4*backlogAnswer)
		names, err := src.Driver.Checkpoints(asked)
		cancel()
		if err != nil {
			all = false
			continue
		}
		for _, name := range names {
			if !strings.HasPrefix(name, m.Owner) || m.needed(ctx, name) {
				continue
			}
			if err := src.Driver.Forget(ctx, name); err != nil {
				m.Log.Warn("forget leftover checkpoint", "name", name, "err", err)
			} else {
				m.Log.Info("forgot leftover checkpoint", "name", name)
			}
		}
	}
	return all
}

// needed tells whether a checkpoint is a group's base or of an open cycle. What
// cannot be told counts as needed.
func (m *Mover) needed(ctx context.Context, checkpoint string) bool {
	m.mu.Lock()
	for _, s := range m.by {
		// A running cycle's checkpoint may be older than what was listed.
		if s.rep.BaseCheckpoint == checkpoint || s.run != nil && (s.run.detail.Checkpoint == checkpoint || s.run.detail.Checkpoint == "") {
			m.mu.Unlock()
			return true
		}
	}
	m.mu.Unlock()
	open, err := m.Records.OpenCycles(ctx)
	if err != nil {
		return true
	}
	for _, c := range open {
		var d detail
		if json.Unmarshal(c.Detail, &d) != nil || d.Checkpoint == checkpoint || d.BaseCheckpoint == checkpoint {
			return true
		}
	}
	return false
}

// Forget lets a platform forget a checkpoint; what is missed here is tidied up
// later.
func (m *Mover) Forget(ctx context.Context, platform, checkpoint string) {
	if src, ok := m.Source(platform); ok && checkpoint != "" {
		ctx, cancel := context.WithTimeout(ctx, 4*time.Second)
		defer cancel()
		_ = src.Driver.Forget(ctx, checkpoint)
	}
}
