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
func (s *Service) OpenIntake(_ context.Context, pin []byte, r cycle.OpenRequest) (cycle.Opened, error) {
	if err := s.mayBring(pin, r.Group.ID, r.Group.Term); err != nil {
		return cycle.Opened{}, err
	}
	spec := points.IntakeSpec{ID: r.ID, Group: r.Group}
	base, err := s.store.Point(r.BasePoint)
	var out cycle.Opened
	for i, d := range r.Disks {
		x := points.IntakeDisk{Machine: d.Machine, Key: d.Key, Size: d.Size}
		if d.UseBase {
			var bd points.SealDisk
			ok := err == nil && base.Group.ID == r.Group.ID
			if ok {
				bd, ok = base.Disk(d.Machine, d.Key)
			}
			if ok && bd.Size == d.Size && s.store.Has(bd.Root) {
				x.Base = bd.Root
			} else {
				out.NoBase = append(out.NoBase, i)
			}
		}
		spec.Disks = append(spec.Disks, x)
	}
	// Another cycle's intake of this group is a leftover: a group has one
	// cycle at a time.
	for _, in := range s.store.Intakes(r.Group.ID) {
		if in.ID != r.ID || !sameDisks(in.Disks, spec.Disks) {
			in.Drop()
		}
	}
	in, sealed, err := s.store.OpenIntake(spec)
	if err != nil {
		return out, err
	}
	if sealed != nil {
		return cycle.Opened{Sealed: sealed}, nil
	}
	for i := range in.Disks {
		out.Recorded = append(out.Recorded, in.Recorded(i))
	}
	return out, nil
}

func sameDisks(a, b []points.IntakeDisk) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i] != b[i] {
			return false
		}
	}
	return true
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
