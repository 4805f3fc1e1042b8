package keeper

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/audit"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/group"
	"kestrel/internal/core/ident"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/span"
	"kestrel/internal/directory"
	"kestrel/internal/listing"
	"kestrel/internal/platform"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// Filter narrows and cuts a list of points.
type Filter struct {
	Groups        []string // IDs; nil for all
	Before, After *time.Time
	Consistent    string // application or crash
	Page          listing.Page
}

// List lists points, newest first if no other order is asked for, and tells how many there are in all.
func (k *Keeper) List(ctx context.Context, f Filter) ([]api.Point, int, error) {
	switch f.Consistent {
	case "", "application", "crash":
	default:
		return nil, 0, problem.Invalid("consistent", "%q is neither application nor crash.", f.Consistent)
	}
	order, down, err := f.Page.Named("captured", "changed", "whole")
	if err != nil {
		return nil, 0, err
	}
	if err := f.Page.Check(); err != nil {
		return nil, 0, err
	}
	which := records.PointFilter{Groups: f.Groups, Before: f.Before, After: f.After, Consistency: f.Consistent}
	total, err := k.Records.CountPoints(ctx, which)
	if err != nil {
		return nil, 0, err
	}
	which.Limit, which.Skip = f.Page.Limit, f.Page.Skip
	which.Order, which.Up = records.PointOrder(order), order != "" && !down
	recs, err := k.Records.Points(ctx, which)
	if err != nil {
		return nil, 0, err
	}
	out, err := k.views(ctx, recs)
	return out, total, err
}

// calmSpan is how long after an unusual change the newest point before it is named.
const calmSpan = 14 * span.Day

// views shows points of any groups, in their order.
func (k *Keeper) views(ctx context.Context, recs []records.Point) ([]api.Point, error) {
	var groups []string
	seen := map[string]bool{}
	for _, r := range recs {
		if !seen[r.GroupID] {
			seen[r.GroupID] = true
			groups = append(groups, r.GroupID)
		}
	}
	now := k.Clock.Now()
	marks, err := k.Records.Marks(ctx, groups)
	if err != nil {
		return nil, err
	}
	calms, err := k.Records.Calms(ctx, groups, now.Add(-calmSpan))
	if err != nil {
		return nil, err
	}
	calm := map[string]records.Calm{}
	for _, c := range calms {
		calm[c.GroupID] = c
	}
	rung, newest := k.rungs(marks, now)
	hurt := k.lostByPoint()
	out := []api.Point{}
	for _, r := range recs {
		g, ok := k.Groups.Get(r.GroupID)
		if !ok {
			continue
		}
		var x points.Seal
		if err := json.Unmarshal(r.Seal, &x); err != nil {
			return nil, fmt.Errorf("point record %s: %w", r.ID, err)
		}
		v := api.Point{ID: r.ID, Number: x.Number, Group: r.GroupID, GroupName: g.Spec.Name, CaptureAt: r.CaptureAt, SealedAt: x.SealedAt, Consistency: x.Consistency, OneInstant: !x.Apart, Held: r.Held, Newest: newest[r.ID],
			Pinned: pinned(r, now), InUse: k.InUse(r.ID), Rung: rung[r.ID], LosesSeconds: max(0, int64(now.Sub(r.CaptureAt)/time.Second)),
			UsedBytes: x.UsedBytes, ChangedBytes: x.ChangedBytes, ShippedBytes: x.ShippedBytes, Root: x.Root.String(), Checkpoint: x.Checkpoint, Machines: []api.PointMachine{}, LostBytes: hurt[r.ID], Where: []string{}}
		if r.Held {
			v.Where, v.AloneBytes = k.where(r.ID), k.alone(r.ID)
		}
		if k.Proved != nil {
			if at := k.Proved(r.ID); !at.IsZero() {
				v.ProvedAt = new(at.UTC())
			}
		}
		if x.Unusual != "" {
			v.Unusual = &x.Unusual
		}
		if c, ok := calm[r.GroupID]; ok && !r.CaptureAt.Before(c.First) {
			v.CalmPoint = new(int64)
			if c.Number != nil {
				v.CalmPoint = c.Number
			}
		}
		if k.locked(r) {
			v.LockedUntil = r.LockedUntil
		}
		if v.Pinned {
			v.PinnedUntil = r.PinnedUntil
			if r.PinReason != "" {
				v.PinReason = new(r.PinReason)
			}
			if r.PinnedBy != "" {
				v.PinnedBy = new(r.PinnedBy)
			}
		}
		for _, m := range x.Machines {
			pm := api.PointMachine{ID: m.ID, Name: m.Name, Kind: platform.KindOf(m.Config), Disks: []api.PointDisk{}, Quiesced: m.Quiesced, Nics: []api.Nic{}}
			for _, n := range MachineConfig(m).NICs {
				pm.Nics = append(pm.Nics, api.Nic{Mac: n.MAC, Network: n.Network, Address: n.Address})
			}
			for _, d := range m.Disks {
				pm.Disks = append(pm.Disks, api.PointDisk{Key: d.Key, SizeBytes: d.Size, Root: d.Root.String()})
			}
			if len(m.Left) > 0 {
				pm.LeftOut = &[]api.LeftDisk{}
				for _, d := range m.Left {
					*pm.LeftOut = append(*pm.LeftOut, api.LeftDisk{Key: d.Key, Label: d.Label, SizeBytes: d.Size})
				}
			}
			v.Machines = append(v.Machines, pm)
		}
		out = append(out, v)
	}
	return out, nil
}

// rungs tells which rung keeps each point, and which points are the newest of their
// groups. Points here and at the recovery site each have the ladder for themselves.
func (k *Keeper) rungs(marks []records.Point, now time.Time) (rung map[string]int, newest map[string]bool) {
	type shelf struct {
		group string
		held  bool
	}
	by := map[shelf][]ladder.Point{}
	for _, r := range marks {
		s := shelf{r.GroupID, r.Held}
		by[s] = append(by[s], ladder.Point{ID: r.ID, Capture: r.CaptureAt, Rests: r.Rests, Pinned: pinned(r, now) || k.locked(r)})
	}
	rung, newest = map[string]int{}, map[string]bool{}
	for s, ps := range by {
		g, ok := k.Groups.Get(s.group)
		if !ok {
			continue
		}
		keep := g.Spec.Promise.Keeping()
		if s.held && g.Direction == directory.Out {
			keep = g.Spec.KeepsHome()
		}
		for i, v := range keep.Judge(ps, now) {
			rung[v.Point.ID] = v.Rung
			newest[v.Point.ID] = i == 0 && (s.held || g.Direction != directory.In) // what home has from before is not
		}
	}
	return rung, newest
}

// MachineConfig is a machine as a point keeps it; one that is not understood has nothing
// to show.
func MachineConfig(m points.SealMachine) platform.Machine {
	var c platform.Machine
	if json.Unmarshal(m.Config, &c) != nil {
		return platform.Machine{}
	}
	return c
}

// record resolves a point by ID.
func (k *Keeper) record(ctx context.Context, id string) (records.Point, error) {
	if !ident.UUID(id) {
		return records.Point{}, problem.NotFound("point", id)
	}
	r, err := k.Records.Point(ctx, id)
	if errors.Is(err, records.ErrNotFound) {
		if r, listed := k.listed(ctx, id); listed {
			return r, nil
		}
		return r, problem.NotFound("point", id)
	}
	return r, err
}

// listed enters a point that is sealed already and not in the records yet.
func (k *Keeper) listed(ctx context.Context, id string) (records.Point, bool) {
	x, err := k.Seal(id)
	if err != nil {
		return records.Point{}, false
	}
	g, ok := k.Groups.Get(x.Group.ID)
	if !ok || k.list(ctx, g, x) != nil {
		return records.Point{}, false
	}
	r, err := k.Records.Point(ctx, id)
	return r, err == nil
}

// Mine is record for points of this site's own store.
func (k *Keeper) Mine(ctx context.Context, id string) (records.Point, error) {
	r, err := k.record(ctx, id)
	if err == nil && !r.Held {
		site := "the recovery site"
		if g, ok := k.Groups.Get(r.GroupID); ok {
			site = g.Other()
		}
		return r, problem.Conflict("This point is held at %s. Do it there.", site)
	}
	return r, err
}

// GroupOf tells which group a point is of.
func (k *Keeper) GroupOf(ctx context.Context, id string) (string, error) {
	r, err := k.record(ctx, id)
	return r.GroupID, err
}

// Point gives one.
func (k *Keeper) Point(ctx context.Context, id string) (api.Point, error) {
	r, err := k.record(ctx, id)
	if err != nil {
		return api.Point{}, err
	}
	vs, err := k.views(ctx, []records.Point{r})
	if err != nil {
		return api.Point{}, err
	}
	if len(vs) == 0 {
		return api.Point{}, problem.NotFound("point", id)
	}
	return vs[0], nil
}

func object(v api.Point) audit.Object {
	return audit.Object{Kind: "point", Name: v.GroupName, ID: v.Group}
}

// maxReason bounds why a point is pinned, in characters.
const maxReason = 200

// Pin pins or unpins a point.
func (k *Keeper) Pin(ctx context.Context, who actor.Actor, id string, in api.PointPatch) (api.Point, error) {
	r, err := k.Mine(ctx, id)
	if err != nil {
		return api.Point{}, err
	}
	reason := ""
	if in.Reason != nil {
		reason = strings.TrimSpace(*in.Reason)
	}
	switch {
	case in.Until != nil && !in.Until.After(k.Clock.Now()):
		return api.Point{}, problem.Invalid("until", "The pin would end in the past; give a later time or none.")
	case reason != "" && group.CheckName(reason, maxReason) != "":
		return api.Point{}, problem.Invalid("reason", "A reason is one line of at most %d characters.", maxReason)
	}
	r.Pinned, r.PinnedUntil, r.PinReason, r.PinnedBy = in.Pinned, in.Until, reason, who.String()
	var pin *points.Pin
	if in.Pinned {
		pin = &points.Pin{Until: in.Until, Reason: reason, By: who.String()}
	} else {
		r.PinnedUntil, r.PinReason, r.PinnedBy = nil, "", ""
	}
	// The store first: it is what is left if the database is lost.
	if err := k.setPin(r.ID, pin); err != nil {
		return api.Point{}, err
	}
	v, err := k.Point(ctx, id)
	if err != nil {
		return v, err
	}
	text := fmt.Sprintf("%s unpinned point %d of %s", who, v.Number, v.GroupName)
	if in.Pinned {
		text = fmt.Sprintf("%s pinned point %d of %s", who, v.Number, v.GroupName)
		if in.Until != nil {
			text += " until " + in.Until.UTC().Format(time.RFC3339)
		}
		if reason != "" {
			text += ": " + reason
		}
	}
	if err := k.Records.PinPoint(ctx, r, k.Trail.Line(who, object(v), 0, nil, text)); err != nil {
		return api.Point{}, err
	}
	k.Trail.Written()
	k.mu.Lock()
	k.holding(r.GroupID).marks++
	k.mu.Unlock()
	k.told(r.ID, r.GroupID)
	return k.Point(ctx, id)
}

// Delete deletes a point on somebody's word. The newest one of a group that lives,
// a pinned one and one in use stay.
func (k *Keeper) Delete(ctx context.Context, who actor.Actor, id string) error {
	if _, err := k.Mine(ctx, id); err != nil {
		return err
	}
	v, err := k.Point(ctx, id)
	if err != nil {
		return err
	}
	g, _ := k.Groups.Get(v.Group)
	switch {
	// A point that is kept at home besides protects from nothing.
	case v.Newest && g.Direction == directory.In:
		return problem.Conflict("This is the newest point of %s: without it, more would be lost. Delete the group if it is no longer wanted.", v.GroupName)
	case v.LockedUntil != nil:
		return problem.Conflict("Point %d is locked until %s, and nobody can delete it before.", v.Number, v.LockedUntil.UTC().Format(time.RFC3339))
	case v.Pinned:
		return problem.Conflict("Point %d is pinned. Unpin it first.", v.Number)
	case v.InUse:
		return problem.Conflict("Point %d is being served or exported. Stop that first.", v.Number)
	}
	if err := k.drop(ctx, id); err != nil {
		if errors.Is(err, points.ErrInUse) {
			return problem.Conflict("Point %d is being served or exported. Stop that first.", v.Number)
		}
		return err
	}
	k.Trail.Note(ctx, who, object(v), "%s deleted point %d of %s, captured %s", who, v.Number, v.GroupName, v.CaptureAt.UTC().Format(time.RFC3339))
	k.mu.Lock()
	k.sweepDue = true
	k.holding(v.Group).marks++
	k.mu.Unlock()
	k.told(id, v.Group)
	return k.recount(ctx, v.Group)
}
