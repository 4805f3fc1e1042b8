package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"sort"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/exposure"
	"kestrel/internal/core/ladder"
	"kestrel/internal/link"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// What the link port answers to cycles that have no right to go on.
var (
	notHome   = &problem.Problem{Status: http.StatusForbidden, Title: "This group does not come from there"}
	staleTerm = &problem.Problem{Status: http.StatusConflict, Title: "This group has another term here"}
	noIntake  = &problem.Problem{Status: http.StatusGone, Title: "The intake is not open (any more)"}
)

// reconcilePoints makes the records agree with the store, which is the truth:
// a crash may have come between a seal and its record.
func (s *Service) reconcilePoints(ctx context.Context) error {
	recs, err := s.db.Points(ctx, "")
	if err != nil {
		return err
	}
	known := map[string]bool{}
	for _, r := range recs {
		known[r.ID] = true
		if _, err := s.store.Point(r.ID); r.Held && err != nil {
			if err := s.db.DeletePoint(ctx, r.ID); err != nil {
				return err
			}
			s.note(ctx, "kestrel", "point", r.ID, "A point in the records is not in the store and was taken off the list")
		}
	}
	for _, x := range s.store.Points("") {
		if known[x.Point] || s.groups[x.Group.ID] == nil {
			continue
		}
		capture := exposure.Shift(x.CaptureAt, x.HomeAhead)
		err := s.db.PutPoint(ctx, records.Point{ID: x.Point, GroupID: x.Group.ID, CaptureAt: capture, Held: true, Seal: mustJSON(x)})
		if err == nil && s.groups[x.Group.ID].rec.Direction != "out" { // what is kept at home protects from nothing there
			err = s.db.AddDrop(ctx, x.Group.ID, records.Drop{CaptureAt: capture, SealedAt: x.SealedAt})
		}
		if err != nil {
			return err
		}
		if p, err := s.store.Pin(x); err != nil {
			s.log.Error("read a pin", "point", x.Point, "err", err)
		} else if p != nil {
			if err := s.db.PinPoint(ctx, x.Point, true, p.Until); err != nil {
				return err
			}
		}
	}
	for _, g := range s.groups {
		if err := s.countPoints(ctx, g); err != nil {
			return err
		}
	}
	return nil
}

// HeldPoints implements link.Local.
func (s *Service) HeldPoints(ctx context.Context, pin []byte, group string) ([]link.PointState, error) {
	s.mu.Lock()
	l, g := s.linkByPin(pin), s.groups[group]
	ok := g != nil && l != nil && g.rec.HomeID == l.rec.PeerID && g.rec.Direction != "out"
	s.mu.Unlock()
	if !ok {
		return nil, problem.NotFound("group", group)
	}
	recs, err := s.db.Points(ctx, group)
	if err != nil {
		return nil, err
	}
	out := []link.PointState{}
	for _, r := range recs {
		if x, err := s.store.Point(r.ID); err == nil {
			light := *x
			light.Machines = withoutConfigs(x.Machines)
			out = append(out, link.PointState{Seal: &light, Pinned: r.Pinned, PinnedUntil: r.PinnedUntil})
		}
	}
	return out, nil
}

// pinned tells whether a pin holds at now.
func pinned(r records.Point, now time.Time) bool {
	return r.Pinned && (r.PinnedUntil == nil || r.PinnedUntil.After(now))
}

// prune drops the points here that a group's ladder lets go.
func (s *Service) prune(ctx context.Context, g *group) {
	recs, err := s.db.Points(ctx, g.rec.ID)
	if err != nil {
		s.log.Error("prune", "group", g.rec.Name, "err", err)
		return
	}
	s.mu.Lock()
	keep := g.promise().Keep
	in := g.rec.Direction != "ended"
	s.mu.Unlock()
	now := s.clk.Now()
	var ps []ladder.Point
	for _, r := range recs {
		if r.Held {
			ps = append(ps, ladder.Point{ID: r.ID, Capture: r.CaptureAt, Pinned: pinned(r, now), InUse: s.store.InUse(r.ID)})
		}
	}
	dropped := 0
	for _, v := range keep.Judge(ps, now) {
		if v.Keep || !in || len(keep) == 0 {
			continue
		}
		if err := s.dropPoint(ctx, v.Point.ID); err != nil {
			s.log.Error("prune", "group", g.rec.Name, "point", v.Point.ID, "err", err)
			continue
		}
		dropped++
	}
	s.mu.Lock()
	g.marks++
	if dropped > 0 {
		s.sweepDue = true
	}
	s.mu.Unlock()
	if err := s.countPoints(ctx, g); err != nil {
		s.log.Error("count points", "group", g.rec.Name, "err", err)
	}
}

func (s *Service) dropPoint(ctx context.Context, id string) error {
	if err := s.store.Drop(id); err != nil && !errors.Is(err, points.ErrNotFound) {
		return err
	}
	return s.db.DeletePoint(ctx, id)
}

func (s *Service) pruneAll(ctx context.Context) {
	s.mu.Lock()
	var in []*group
	for _, g := range s.groups {
		if g.rec.Direction == "in" || g.rec.Direction == "out" && g.nearPoints > 0 {
			in = append(in, g)
		}
	}
	s.mu.Unlock()
	for _, g := range in {
		s.prune(ctx, g)
	}
}

// sweep gives room back after points were dropped.
func (s *Service) sweep(ctx context.Context) {
	s.mu.Lock()
	due := s.sweepDue
	s.sweepDue = false
	s.mu.Unlock()
	if !due {
		return
	}
	x, err := s.store.Sweep(ctx)
	if err != nil && ctx.Err() == nil {
		s.log.Warn("sweep", "err", err)
	} else if x.Packs > 0 {
		s.log.Info("swept the point store", "packs", x.Packs, "freedBytes", x.Freed)
	}
}

// Points lists the points of a group, or of all, newest first.
func (s *Service) Points(ctx context.Context, groupText string) ([]api.Point, error) {
	id := ""
	if groupText != "" {
		s.mu.Lock()
		g, err := s.findGroup(groupText)
		s.mu.Unlock()
		if err != nil {
			return nil, err
		}
		id = g.rec.ID
	}
	recs, err := s.db.Points(ctx, id)
	if err != nil {
		return nil, err
	}
	by := map[string][]records.Point{}
	for _, r := range recs {
		by[r.GroupID] = append(by[r.GroupID], r)
	}
	out := []api.Point{}
	for _, rs := range by {
		vs, err := s.pointViews(rs)
		if err != nil {
			return nil, err
		}
		out = append(out, vs...)
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].CaptureAt.After(out[j].CaptureAt) })
	return out, nil
}

// pointViews shows the points of one group.
func (s *Service) pointViews(recs []records.Point) ([]api.Point, error) {
	now := s.clk.Now()
	s.mu.Lock()
	g := s.groups[recs[0].GroupID]
	s.mu.Unlock()
	if g == nil {
		return nil, nil
	}
	s.mu.Lock()
	keep, name := g.promise().Keep, g.rec.Name
	s.mu.Unlock()
	rung := map[string]int{}
	newest := map[string]bool{}
	for _, held := range []bool{true, false} { // each site's points have their own ladder
		var ps []ladder.Point
		for _, r := range recs {
			if r.Held == held {
				ps = append(ps, ladder.Point{ID: r.ID, Capture: r.CaptureAt, Pinned: pinned(r, now)})
			}
		}
		for i, v := range keep.Judge(ps, now) {
			rung[v.Point.ID], newest[v.Point.ID] = v.Rung, i == 0
		}
	}
	hurt := s.lostByPoint()
	var out []api.Point
	for _, r := range recs {
		var x points.Seal
		if err := json.Unmarshal(r.Seal, &x); err != nil {
			return nil, fmt.Errorf("point record %s: %w", r.ID, err)
		}
		v := api.Point{ID: r.ID, Number: x.Number, Group: r.GroupID, GroupName: name, CaptureAt: r.CaptureAt, SealedAt: x.SealedAt, Consistency: x.Consistency, OneInstant: !x.Apart, Held: r.Held, Newest: newest[r.ID],
			Pinned: pinned(r, now), PinnedUntil: r.PinnedUntil, InUse: s.store.InUse(r.ID), Rung: rung[r.ID], LosesSeconds: max(0, seconds(now.Sub(r.CaptureAt))),
			UsedBytes: x.UsedBytes, ChangedBytes: x.ChangedBytes, ShippedBytes: x.ShippedBytes, Root: x.Root.String(), Checkpoint: x.Checkpoint, Machines: []api.PointMachine{}, LostBytes: hurt[r.ID]}
		for _, m := range x.Machines {
			pm := api.PointMachine{ID: m.ID, Name: m.Name, Disks: []api.PointDisk{}, Quiesced: m.Quiesced, Nics: nicsOf(m)}
			for _, d := range m.Disks {
				pm.Disks = append(pm.Disks, api.PointDisk{Key: d.Key, SizeBytes: d.Size, Root: d.Root.String()})
			}
			v.Machines = append(v.Machines, pm)
		}
		out = append(out, v)
	}
	return out, nil
}

// pointRec resolves a point by ID.
func (s *Service) pointRec(ctx context.Context, id string) (records.Point, error) {
	r, err := s.db.Point(ctx, id)
	if errors.Is(err, records.ErrNotFound) {
		return r, problem.NotFound("point", id)
	}
	return r, err
}

// heldRec is pointRec for points of this site's own store.
func (s *Service) heldRec(ctx context.Context, id string) (records.Point, error) {
	r, err := s.pointRec(ctx, id)
	if err == nil && !r.Held {
		s.mu.Lock()
		site := "the recovery site"
		if g := s.groups[r.GroupID]; g != nil {
			site = g.rec.RecoveryName
		}
		s.mu.Unlock()
		return r, problem.Conflict("This point is held at %s. Do it there.", site)
	}
	return r, err
}

// Point gives one.
func (s *Service) Point(ctx context.Context, id string) (api.Point, error) {
	r, err := s.pointRec(ctx, id)
	if err != nil {
		return api.Point{}, err
	}
	all, err := s.Points(ctx, r.GroupID)
	for _, v := range all {
		if v.ID == r.ID {
			return v, nil
		}
	}
	return api.Point{}, errors.Join(err, problem.NotFound("point", id))
}

// PinPoint pins or unpins a point.
func (s *Service) PinPoint(ctx context.Context, who, id string, in api.PointPatch) (api.Point, error) {
	r, err := s.heldRec(ctx, id)
	if err != nil {
		return api.Point{}, err
	}
	if in.Until != nil && !in.Until.After(s.clk.Now()) {
		return api.Point{}, problem.Invalid("until", "The pin would end in the past; give a later time or none.")
	}
	if !in.Pinned {
		in.Until = nil
	}
	// The store first: it is what is left if the database is lost.
	var pin *points.Pin
	if in.Pinned {
		pin = &points.Pin{Until: in.Until}
	}
	if err := s.store.SetPin(r.ID, pin); err != nil {
		return api.Point{}, err
	}
	if err := s.db.PinPoint(ctx, r.ID, in.Pinned, in.Until); err != nil {
		return api.Point{}, err
	}
	v, err := s.Point(ctx, id)
	if err == nil {
		s.mu.Lock()
		if g := s.groups[r.GroupID]; g != nil {
			g.marks++
		}
		s.mu.Unlock()
		s.note(ctx, who, "point", v.GroupName, "%s %s point %d of %s", who, map[bool]string{true: "pinned", false: "unpinned"}[in.Pinned], v.Number, v.GroupName)
		s.hub.send(Event{Type: "point", ID: r.ID, Group: r.GroupID})
	}
	return v, err
}

// DeletePoint deletes a point on an administrator's word. The newest one of a
// living group, a pinned one and one in use stay.
func (s *Service) DeletePoint(ctx context.Context, who, id string) error {
	if _, err := s.heldRec(ctx, id); err != nil {
		return err
	}
	v, err := s.Point(ctx, id)
	if err != nil {
		return err
	}
	s.mu.Lock()
	g := s.groups[v.Group]
	// A point that is kept at home besides protects from nothing.
	ended := g == nil || g.rec.Direction != "in"
	s.mu.Unlock()
	switch {
	case v.Newest && !ended:
		return problem.Conflict("This is the newest point of %s: without it, more would be lost. Delete the group if it is no longer wanted.", v.GroupName)
	case v.Pinned:
		return problem.Conflict("Point %d is pinned. Unpin it first.", v.Number)
	case v.InUse:
		return problem.Conflict("Point %d is being served or exported. Stop that first.", v.Number)
	}
	if err := s.dropPoint(ctx, id); err != nil {
		if errors.Is(err, points.ErrInUse) {
			return problem.Conflict("Point %d is being served or exported. Stop that first.", v.Number)
		}
		return err
	}
	s.note(ctx, who, "point", v.GroupName, "%s deleted point %d of %s, captured %s", who, v.Number, v.GroupName, v.CaptureAt.UTC().Format(time.RFC3339))
	s.mu.Lock()
	s.sweepDue = true
	if g != nil {
		g.marks++
	}
	s.mu.Unlock()
	s.hub.send(Event{Type: "point", ID: id, Group: v.Group})
	if g != nil {
		return s.countPoints(ctx, g)
	}
	return nil
}
