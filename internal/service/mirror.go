package service

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/link"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// Acted implements link.Local: a wish from the recovery site.
func (s *Service) Acted(ctx context.Context, pin []byte, id string, a link.Act) error {
	s.mu.Lock()
	l := s.linkByPin(pin)
	g := s.groups[id]
	ok := g != nil && g.rec.Direction == "out" && g.rec.Link != nil && *g.rec.Link == l.rec.ID
	s.mu.Unlock()
	if !ok {
		return problem.NotFound("group", id)
	}
	var err error
	switch a.Action {
	case "run":
		var w runWish
		if err = json.Unmarshal(a.Body, &w); err == nil {
			_, err = s.RunCycle(ctx, a.Who, id, w.Compare)
		}
	case "pause", "resume":
		_, err = s.SetPaused(ctx, a.Who, id, a.Action == "pause")
	case "patch":
		var p api.GroupPatch
		if err = json.Unmarshal(a.Body, &p); err == nil {
			_, err = s.UpdateGroup(ctx, a.Who, id, p)
		}
	case "delete":
		var d deleteWish
		if err = json.Unmarshal(a.Body, &d); err == nil {
			err = s.DeleteGroup(ctx, a.Who, id, d.Points, false)
		}
	default:
		err = problem.Invalid("action", "%q is not known.", a.Action)
	}
	return err
}

// GroupEnded implements link.Local.
func (s *Service) GroupEnded(ctx context.Context, pin []byte, id string, deletePoints bool) error {
	s.mu.Lock()
	l := s.linkByPin(pin)
	g := s.groups[id]
	ok := g != nil && g.rec.Direction != "out" && g.rec.HomeID == l.rec.PeerID
	s.mu.Unlock()
	if !ok {
		return nil // never heard of it: nothing to end
	}
	if deletePoints {
		for _, x := range s.store.Points(id) {
			if s.store.InUse(x.Point) {
				return problem.Conflict("Point %d of %s is being served or exported at %s. Stop that first.", x.Number, g.rec.Name, s.site.Name)
			}
		}
	}
	if err := s.endGroup(ctx, g); err != nil {
		return err
	}
	if deletePoints {
		return s.removeEnded(ctx, l.rec.PeerName, g)
	}
	return nil
}

// endGroup leaves a group's points without the group.
func (s *Service) endGroup(ctx context.Context, g *group) error {
	for _, in := range s.store.Intakes(g.rec.ID) {
		in.Drop()
	}
	s.mu.Lock()
	rec := g.rec
	rec.Direction = "ended"
	s.mu.Unlock()
	if err := s.db.SaveGroup(ctx, rec); err != nil {
		return err
	}
	s.mu.Lock()
	g.rec.Direction = "ended"
	s.mu.Unlock()
	s.note(ctx, rec.HomeName, "group", rec.Name, "The group %s has ended at %s; its points are still here", rec.Name, rec.HomeName)
	s.changed(g)
	return nil
}

// endUnreported ends the groups of a home site that no longer reports them.
func (s *Service) endUnreported(ctx context.Context, l *linkState, reported map[string]bool) error {
	s.mu.Lock()
	var gone []*group
	for _, g := range s.groups {
		if g.rec.Direction == "in" && g.rec.HomeID == l.rec.PeerID && !reported[g.rec.ID] {
			gone = append(gone, g)
		}
	}
	s.mu.Unlock()
	for _, g := range gone {
		if err := s.endGroup(ctx, g); err != nil {
			return err
		}
	}
	return nil
}

// takeReport mirrors a group from its home site.
func (s *Service) takeReport(ctx context.Context, l *linkState, r link.GroupReport) error {
	s.mu.Lock()
	g := s.groups[r.ID]
	s.mu.Unlock()
	var set settings
	if err := json.Unmarshal(r.Settings, &set); err != nil {
		return problem.Invalid("settings", "The settings of group %s are not understood: %v", r.Name, err)
	}
	if g != nil && (g.rec.HomeID != l.rec.PeerID || g.rec.Direction == "out") {
		return problem.Conflict("Group %s is home elsewhere.", r.Name)
	}
	fresh := g == nil
	if fresh {
		g = &group{set: set}
	}
	s.mu.Lock()
	if !fresh && r.Term < g.rec.Term {
		s.mu.Unlock()
		return problem.Conflict("Group %s has a higher term here; %s has to stand down.", r.Name, l.rec.PeerName)
	}
	rec := g.rec
	stale := fresh || rec.Revision != r.Revision || rec.Term != r.Term || rec.Direction != "in" || rec.Link == nil
	s.mu.Unlock()
	if stale {
		rec.ID, rec.Name, rec.Direction, rec.Link, rec.HomeID, rec.HomeName, rec.RecoveryName = r.ID, r.Name, "in", &l.rec.ID, l.rec.PeerID, r.HomeName, s.site.Name
		rec.Term, rec.Revision, rec.Settings, rec.Paused = r.Term, r.Revision, r.Settings, r.Paused
		s.mu.Lock()
		rec.Anchor, rec.CreatedAt = ours(l, r.Anchor), ours(l, r.CreatedAt)
		s.mu.Unlock()
		var err error
		if fresh {
			err = s.db.AddGroup(ctx, rec)
		} else {
			err = s.db.SaveGroup(ctx, rec)
		}
		if err != nil {
			return err
		}
		if fresh {
			s.note(ctx, l.rec.PeerName, "group", r.Name, "%s keeps the points of its group %s here", l.rec.PeerName, r.Name)
		}
	}
	s.mu.Lock()
	if stale {
		g.rec, g.set = rec, set
		s.groups[r.ID] = g
	}
	g.live, g.liveAt = r.Live, s.clk.Now()
	if len(r.Live.Cycles) > 0 {
		_ = json.Unmarshal(r.Live.Cycles, &g.cycles) // a display; the next beat brings it again
	}
	s.mu.Unlock()
	s.changed(g)
	return nil
}

// stateOf reports what this site holds of a group.
func (s *Service) stateOf(id string) link.GroupState {
	st := link.GroupState{ID: id}
	held := s.store.Points(id)
	if n := len(held); n > 0 {
		newest := held[n-1]
		st.NewestPoint, st.NewestAt, st.NewestSealed = newest.Point, newest.CaptureAt, newest.SealedAt
	}
	hurt := s.hurt(id)
	st.LostPoints, st.LostBytes = hurt.points, hurt.lost
	s.mu.Lock()
	defer s.mu.Unlock()
	marks := 0
	if g := s.groups[id]; g != nil {
		marks = g.marks
	}
	st.PointsMark = fmt.Sprintf("%d-%d-%s", marks, len(held), st.NewestPoint)
	return st
}

// takeState learns from the recovery site what it holds: exposure is judged by
// that alone.
func (s *Service) takeState(ctx context.Context, l *linkState, st link.GroupState) {
	s.mu.Lock()
	g := s.groups[st.ID]
	if g == nil || g.rec.Direction != "out" {
		s.mu.Unlock()
		return
	}
	g.newestAt, g.newestPoint, g.confirmedAt = st.NewestAt, st.NewestPoint, s.clk.Now()
	g.lost = damage{points: st.LostPoints, lost: st.LostBytes}
	fetch := g.pointsMark != st.PointsMark && s.clk.Now().Sub(g.fetchedAt) > 5*s.beatEvery()
	if fetch {
		g.fetchedAt = s.clk.Now()
	}
	s.mu.Unlock()
	if !fetch {
		return
	}
	if err := s.fetchPoints(ctx, l, g); err != nil {
		s.log.Warn("fetch points", "group", g.rec.Name, "err", err)
		return
	}
	s.mu.Lock()
	g.pointsMark = st.PointsMark
	s.mu.Unlock()
	s.changed(g)
}

func (s *Service) fetchPoints(ctx context.Context, l *linkState, g *group) error {
	held, err := l.peer.Points(ctx, g.rec.ID)
	if err != nil {
		return err
	}
	var recs []records.Point
	for _, h := range held {
		recs = append(recs, records.Point{ID: h.Seal.Point, GroupID: g.rec.ID, CaptureAt: h.Seal.CaptureAt, Pinned: h.Pinned, PinnedUntil: h.PinnedUntil, Seal: mustJSON(h.Seal)})
	}
	if err := s.db.MirrorPoints(ctx, g.rec.ID, recs); err != nil {
		return err
	}
	return s.countPoints(ctx, g)
}

// countPoints brings a group's totals up to date.
func (s *Service) countPoints(ctx context.Context, g *group) error {
	totals, err := s.db.PointTotals(ctx)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	g.points, g.oldestAt, g.nearPoints = 0, time.Time{}, 0
	for _, t := range totals {
		switch {
		case t.GroupID != g.rec.ID:
		case t.Held && g.rec.Direction == "out":
			g.nearPoints = t.Count
		default:
			g.points, g.oldestAt = t.Count, t.Oldest
		}
	}
	return nil
}
