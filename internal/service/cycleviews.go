package service

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/link"
	"kestrel/internal/platform"
	"kestrel/internal/records"
)

func (s *Service) readCycles(ctx context.Context, group string, limit int) ([]api.Cycle, error) {
	recs, err := s.db.Cycles(ctx, group, limit)
	out := []api.Cycle{}
	for _, r := range recs {
		var d cycleDetail
		if err := json.Unmarshal(r.Detail, &d); err != nil {
			return nil, fmt.Errorf("cycle record %s: %w", r.ID, err)
		}
		if r.State == stateRunning {
			r.State = stateWaiting // nothing runs that is not in memory
		}
		out = append(out, cycleView(r, d))
	}
	return out, err
}

// Cycles lists a group's cycles, newest first.
func (s *Service) Cycles(ctx context.Context, id string, limit int) ([]api.Cycle, error) {
	if limit <= 0 || limit > keptCycles {
		limit = 50
	}
	s.mu.Lock()
	g, err := s.findGroup(id)
	if err != nil {
		s.mu.Unlock()
		return nil, err
	}
	memory := append([]api.Cycle{}, g.cycles...)
	direction, gid := g.rec.Direction, g.rec.ID
	s.mu.Unlock()
	if direction != "out" {
		return memory, nil // the home site keeps the rest
	}
	out, err := s.readCycles(ctx, gid, limit)
	for i := range out {
		for _, m := range memory {
			if m.ID == out[i].ID {
				out[i] = m
			}
		}
	}
	return out, err
}

func cycleView(r records.Cycle, d cycleDetail) api.Cycle {
	p := d.Progress
	v := api.Cycle{ID: r.ID, Number: r.Number, Kind: p.Kind, State: r.State, StartedAt: r.StartedAt, EndedAt: r.EndedAt, CaptureAt: orNil(p.CaptureAt),
		Phases: []api.Phase{}, ChangedBytes: p.ChangedBytes, ShippedBytes: p.ShippedBytes, WireBytes: p.WireBytes, ReadBytes: p.ReadBytes, TotalBytes: p.TotalBytes, Attempts: d.Attempts, MissedBytes: p.MissedBytes}
	for _, x := range p.Phases {
		v.Phases = append(v.Phases, api.Phase{Name: x.Name, From: x.From, To: x.To})
	}
	if d.Point != "" {
		v.Point = &d.Point
	}
	if d.Error != "" {
		v.Error = &d.Error
	}
	if p.Note != "" {
		v.Note = &p.Note
	}
	if len(p.Quiet) > 0 {
		v.Quiet = &[]api.Quiet{}
		for _, q := range p.Quiet {
			*v.Quiet = append(*v.Quiet, quietView(q, q.Machine))
		}
	}
	return v
}

func quietView(q platform.Quiet, name string) api.Quiet {
	return api.Quiet{Machine: q.Machine, Name: name, Done: q.Done, HeldMillis: float64(q.Held.Microseconds()) / 1000, Why: strOrNil(q.Why)}
}

// replaceCycle puts the newest state of a cycle into a list, newest first.
func replaceCycle(cs []api.Cycle, c api.Cycle) []api.Cycle {
	out := []api.Cycle{c}
	for _, x := range cs {
		if x.ID != c.ID && len(out) < keptCyclesInMemory {
			out = append(out, x)
		}
	}
	return out
}

// liveOf reports what only home can see; the lock is held.
func (s *Service) liveOf(g *group) link.Live {
	p := s.platforms[g.set.Platform]
	v := link.Live{PlatformUp: p != nil && p.up(), DueSince: g.dueSince, NextStart: s.nextStart(g), Backlog: g.backlog, BacklogKnown: g.backlogOK, ChangeRate: g.changeRate, Reason: g.reason}
	if p != nil && p.err != nil {
		v.Reason = sentence(p.err)
	}
	if g.run != nil {
		v.Running = mustJSON(g.run.detail.Progress)
		v.Rate, v.FinishAt = g.run.rate(s.clk.Now())
	}
	v.NearPoints, v.NearReason = g.nearPoints, g.nearReason
	v.Cycles = mustJSON(g.cycles)
	if g.rec.ComparedAt != nil {
		v.ComparedAt = *g.rec.ComparedAt
	}
	return v
}

// nextStart is when the next cycle begins by itself; the lock is held.
func (s *Service) nextStart(g *group) time.Time {
	if g.rec.Paused || g.run != nil && g.rec.LastStart == nil {
		return time.Time{}
	}
	var last time.Time
	if g.rec.LastStart != nil {
		last = *g.rec.LastStart
	}
	next, ok := g.promise().Cadence.Next(g.rec.Anchor, last, s.clk.Now())
	if !ok || g.run != nil && !next.After(s.clk.Now()) {
		return time.Time{} // the next one begins when the running one ends
	}
	return next
}
