package service

import (
	"context"
	"errors"

	"kestrel/internal/core/exposure"
	"kestrel/internal/cycle"
	"kestrel/internal/points"
	"kestrel/internal/records"
)

// OpenIntake implements link.Local.
func (s *Service) OpenIntake(ctx context.Context, pin []byte, r cycle.OpenRequest) (cycle.Opened, error) {
	if err := s.mayBring(pin, r.Group.ID, r.Group.Term); err != nil {
		return cycle.Opened{}, err
	}
	return cycle.Receive(ctx, s.store, r)
}

// mayBring refuses blocks of groups that the caller is not home of.
func (s *Service) mayBring(pin []byte, id string, term int64) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	l, g := s.linkByPin(pin), s.groups[id]
	if g == nil || l == nil || g.rec.Direction != "in" || g.rec.HomeID != l.rec.PeerID {
		return notHome
	}
	if term != g.rec.Term {
		return staleTerm
	}
	return nil
}

// Intake implements link.Local.
func (s *Service) Intake(pin []byte, id string) (*points.Intake, error) {
	in, err := s.store.Intake(id)
	if err != nil {
		return nil, noIntake
	}
	return in, s.mayBring(pin, in.Group.ID, in.Group.Term)
}

// SealIntake implements link.Local.
func (s *Service) SealIntake(ctx context.Context, pin []byte, id string, seal points.Seal) (*points.Seal, error) {
	in, err := s.Intake(pin, id)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	g, l := s.groups[in.Group.ID], s.linkByPin(pin)
	seal.HomeAhead = l.ahead
	s.mu.Unlock()
	x, err := in.Seal(seal)
	if err != nil {
		return nil, err
	}
	s.noteDamage(context.WithoutCancel(ctx))
	ctx = context.WithoutCancel(ctx)
	capture := exposure.Shift(x.CaptureAt, x.HomeAhead)
	err = errors.Join(
		s.db.PutPoint(ctx, records.Point{ID: x.Point, GroupID: g.rec.ID, CaptureAt: capture, Held: true, Seal: mustJSON(x)}),
		s.db.AddDrop(ctx, g.rec.ID, records.Drop{CaptureAt: capture, SealedAt: x.SealedAt}))
	if err != nil {
		// The point is sealed; the records follow from it at the next start.
		s.log.Error("note a landing", "group", g.rec.Name, "err", err)
	}
	s.mu.Lock()
	if capture.After(g.newestAt) {
		g.newestAt, g.newestPoint = capture, x.Point
	}
	s.mu.Unlock()
	s.prune(ctx, g)
	s.hub.send(Event{Type: "point", ID: x.Point, Group: g.rec.ID})
	s.changed(g)
	return x, nil
}
