package service

import (
	"context"
	"errors"

	"github.com/google/uuid"

	"kestrel/internal/cycle"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// nearby is this site's own store, for a group that keeps points at home too.
type nearby struct {
	cycle.At
	s    *Service
	g    *group
	base string // checkpoint that changes are counted from
}

// remoteOf is where a group's cycles go; the lock is held.
func (s *Service) remoteOf(g *group, far cycle.Remote, base string) cycle.Remote {
	if !g.set.KeepHere {
		return far
	}
	g.nearReason = ""
	return cycle.Both(far, nearby{cycle.At{Store: s.store}, s, g, base}, func(err error) {
		if errors.Is(err, context.Canceled) {
			return
		}
		s.mu.Lock()
		g.nearReason = sentence(err)
		s.mu.Unlock()
		s.log.Warn("points are not kept at home", "group", g.rec.Name, "err", err)
	})
}

// Open implements cycle.Remote.
func (n nearby) Open(ctx context.Context, r cycle.OpenRequest) (cycle.Opened, error) {
	r.BasePoint = uuid.Nil.String() // none, and the disks are sent whole
	for _, x := range n.s.store.Points(r.Group.ID) {
		if x.Checkpoint == n.base && n.base != "" {
			r.BasePoint = x.Point
		}
	}
	return n.At.Open(ctx, r)
}

// Seal implements cycle.Remote.
func (n nearby) Seal(ctx context.Context, intake string, x points.Seal) (*points.Seal, error) {
	out, err := n.At.Seal(ctx, intake, x)
	if err != nil {
		return nil, err
	}
	s, ctx := n.s, context.WithoutCancel(ctx)
	s.noteDamage(ctx)
	if err := s.db.PutPoint(ctx, records.Point{ID: out.Point, GroupID: n.g.rec.ID, CaptureAt: out.CaptureAt, Held: true, Seal: mustJSON(out)}); err != nil {
		// The point is sealed; the records follow from it at the next start.
		s.log.Error("note a point at home", "group", n.g.rec.Name, "err", err)
	}
	s.prune(ctx, n.g)
	s.hub.send(Event{Type: "point", ID: out.Point, Group: n.g.rec.ID})
	return out, nil
}

// endNearby settles what becomes of the points that a group which is deleted has
// kept at home. It reports whether the group stays for them.
func (s *Service) endNearby(ctx context.Context, g *group, deletePoints bool) (stays bool, err error) {
	for _, in := range s.store.Intakes(g.rec.ID) {
		in.Drop()
	}
	held := s.store.Points(g.rec.ID)
	if len(held) == 0 {
		return false, nil
	}
	if !deletePoints {
		s.mu.Lock()
		rec := g.rec
		rec.Direction, rec.RecoveryName = "ended", s.site.Name
		s.mu.Unlock()
		if err := errors.Join(s.db.MirrorPoints(ctx, rec.ID, nil), s.db.SaveGroup(ctx, rec)); err != nil {
			return false, err
		}
		s.mu.Lock()
		g.rec, g.ending, g.run = rec, false, nil
		s.mu.Unlock()
		return true, s.countPoints(ctx, g)
	}
	for _, x := range held {
		if err := s.dropPoint(ctx, x.Point); err != nil {
			return false, err
		}
	}
	s.mu.Lock()
	s.sweepDue = true
	s.mu.Unlock()
	return false, nil
}

// nearbyInUse refuses to delete points at home that are being read.
func (s *Service) nearbyInUse(g *group) error {
	for _, x := range s.store.Points(g.rec.ID) {
		if s.store.InUse(x.Point) {
			return problem.Conflict("Point %d of %s is being served or exported here. Stop that first.", x.Number, g.rec.Name)
		}
	}
	return nil
}
