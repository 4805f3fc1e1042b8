package service

import (
	"context"

	"kestrel/internal/problem"
)

type deleteWish struct {
	Points string `json:"points"`
}

// DeleteGroup ends a group. Points says what becomes of its points at the
// recovery site: "keep" or "delete". WithoutPeer ends it here although the
// recovery site cannot be told; its points stay there.
func (s *Service) DeleteGroup(ctx context.Context, who, id, pointsWish string, withoutPeer bool) error {
	if pointsWish != "keep" && pointsWish != "delete" {
		return problem.Invalid("points", `Say what becomes of the points: "keep" or "delete".`)
	}
	s.mu.Lock()
	g, err := s.findGroup(id)
	s.mu.Unlock()
	if err != nil {
		return err
	}
	if g.rec.Direction == "ended" {
		if pointsWish != "delete" {
			return problem.Conflict("The group %s has ended already; only deleting its points is left to do.", g.rec.Name)
		}
		return s.removeEnded(ctx, who, g)
	}
	_, err = s.atHome(ctx, who, id, "delete", deleteWish{pointsWish}, func(g *group) error { return s.deleteHome(ctx, who, g, pointsWish, withoutPeer) })
	if err != nil && g.rec.ID != "" {
		if p, ok := problem.Of(err); ok && p.Status == 404 {
			s.mu.Lock()
			_, still := s.groups[g.rec.ID]
			s.mu.Unlock()
			if !still {
				return nil // deleted, and so not found when it was to be shown
			}
		}
	}
	return err
}

func (s *Service) deleteHome(ctx context.Context, who string, g *group, pointsWish string, withoutPeer bool) error {
	if pointsWish == "delete" {
		if err := s.nearbyInUse(g); err != nil {
			return err
		}
	}
	s.mu.Lock()
	g.ending = true
	l := s.links[*g.rec.Link]
	r := g.run
	if r != nil {
		r.stop("the group is deleted")
	}
	s.mu.Unlock()
	if r != nil {
		<-r.done
	}
	undo := func() {
		s.mu.Lock()
		g.ending = false
		s.mu.Unlock()
	}
	if err := l.peer.EndGroup(ctx, g.rec.ID, pointsWish == "delete"); err != nil && !withoutPeer {
		undo()
		if p, ok := problem.Of(err); ok {
			return p
		}
		return problem.Unreachable("%s holds this group's points and cannot be told: %v. Try again, or delete it without %s (its points then stay there).", l.rec.PeerName, err, l.rec.PeerName)
	}
	base := g.rec.BaseCheckpoint
	stays, err := s.endNearby(ctx, g, pointsWish == "delete")
	if err == nil && !stays {
		err = s.db.DeleteGroup(ctx, g.rec.ID)
	}
	if err != nil {
		undo()
		return err
	}
	s.mu.Lock()
	if !stays {
		delete(s.groups, g.rec.ID)
	}
	p := s.platforms[g.set.Platform]
	s.mu.Unlock()
	if p != nil && base != "" {
		_ = p.driver.Forget(ctx, base) // what is missed here is tidied up later
	}
	s.note(ctx, who, "group", g.rec.Name, "%s deleted the group %s; points: %s", who, g.rec.Name, pointsWish)
	s.changed(g)
	return nil
}

// removeEnded deletes an ended group's points and then the group.
func (s *Service) removeEnded(ctx context.Context, who string, g *group) error {
	held := s.store.Points(g.rec.ID)
	for _, x := range held {
		if s.store.InUse(x.Point) {
			return problem.Conflict("Point %d of %s is being served or exported. Stop that first.", x.Number, g.rec.Name)
		}
	}
	for _, x := range held {
		if err := s.store.Drop(x.Point); err != nil {
			return err
		}
	}
	if err := s.db.DeleteGroup(ctx, g.rec.ID); err != nil {
		return err
	}
	s.mu.Lock()
	delete(s.groups, g.rec.ID)
	s.sweepDue = true
	s.mu.Unlock()
	s.note(ctx, who, "group", g.rec.Name, "%d points of %s were deleted", len(held), g.rec.Name)
	s.changed(g)
	return nil
}
