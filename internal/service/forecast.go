package service

import (
	"context"
	"strings"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/promise"
	"kestrel/internal/platform"
)

// Forecast foretells what a promise leads to, with what is known of the machines.
func (s *Service) Forecast(ctx context.Context, in api.ForecastRequest) (api.Forecast, error) {
	p := promiseOf(in.Promise)
	out := api.Forecast{Starts: []time.Time{}, PointsPerRung: []int{}, Faults: []api.FieldError{}, Warnings: []api.FieldError{}}
	for _, f := range p.Check() {
		e := api.FieldError{Field: f.Field, Message: f.Message}
		if f.Warning {
			out.Warnings = append(out.Warnings, e)
		} else {
			out.Faults = append(out.Faults, e)
		}
	}
	var load promise.Load
	s.mu.Lock()
	now := s.clk.Now()
	anchor := now
	except := ""
	if in.Group != nil {
		g, err := s.findGroup(*in.Group)
		if err != nil {
			s.mu.Unlock()
			return out, err
		}
		anchor, load.ChangeRate, except = g.rec.Anchor, g.changeRate, g.rec.ID
		for _, c := range g.cycles {
			if c.State == stateSealed && c.EndedAt != nil {
				load.CycleLength = c.EndedAt.Sub(c.StartedAt)
				break
			}
		}
		if l := s.links[deref(g.rec.Link)]; l != nil && l.peerFS > 0 {
			out.SpaceFreeBytes = ptr(l.peerFS)
		}
	}
	if in.Machines != nil {
		_, _, faults := s.resolveMachines(*in.Machines, except)
		for _, f := range faults {
			out.Faults = append(out.Faults, api.FieldError{Field: f.Field, Message: f.Message})
		}
		for _, t := range *in.Machines {
			if _, m, err := s.findMachine(t); err == nil {
				load.UsedBytes += usedBytes(m)
			}
		}
	}
	s.mu.Unlock()
	if load.ChangeRate > 0 {
		out.ChangeBytesPerSecond = ptr(load.ChangeRate)
	}
	out.UsedBytes = load.UsedBytes
	if len(out.Faults) > 0 && anyPromise(out.Faults) {
		return out, nil // numbers from a promise that cannot be would mislead
	}
	f := p.Foretell(anchor, now, load)
	out.Starts = append(out.Starts, f.Starts...)
	out.Points, out.PointsPerRung = f.Points, f.PointsPerRung
	out.OldestSeconds, out.WorstSeconds, out.SpaceBytes = seconds(f.Oldest), seconds(f.Worst), f.SpaceBytes
	return out, nil
}

func anyPromise(fs []api.FieldError) bool {
	for _, f := range fs {
		if strings.HasPrefix(f.Field, "promise.") {
			return true
		}
	}
	return false
}

func usedBytes(m platform.Machine) int64 {
	var n int64
	for _, d := range m.Disks {
		n += d.UsedBytes
	}
	return n
}
