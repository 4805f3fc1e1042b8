package memory

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"maps"
	"slices"
	"strings"
	"time"

	"kestrel/internal/records"
)

// AddArrival implements history.Store.
func (db *DB) AddArrival(_ context.Context, group string, a records.Arrival) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	if !slices.Contains(db.arrivals[group], a) {
		db.arrivals[group] = append(db.arrivals[group], a)
	}
	return nil
}

// TrimArrivals implements history.Store.
func (db *DB) TrimArrivals(_ context.Context, before time.Time) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	for id, as := range db.arrivals {
		db.arrivals[id] = slices.DeleteFunc(as, func(a records.Arrival) bool { return a.SealedAt.Before(before) })
	}
	return nil
}

// Arrivals implements history.Store.
func (db *DB) Arrivals(_ context.Context, group string, from, to time.Time) ([]records.Arrival, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	return within(db.arrivals[group], from, to), nil
}

func within(as []records.Arrival, from, to time.Time) []records.Arrival {
	var out []records.Arrival
	var last *records.Arrival
	for _, a := range as {
		switch {
		case a.SealedAt.Before(from):
			last = &a
		case !a.SealedAt.After(to):
			out = append(out, a)
		}
	}
	if last != nil {
		out = append([]records.Arrival{*last}, out...)
	}
	return out
}

// Crests implements history.Store.
func (db *DB) Crests(_ context.Context, group string, from, to time.Time, n int) ([]records.Crest, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	highest := map[int64]records.Crest{}
	var before *records.Arrival
	for _, a := range db.arrivals[group] {
		if a.SealedAt.Before(from) || a.SealedAt.After(to) {
			continue
		}
		if before != nil {
			bucket := int64(a.SealedAt.Sub(from)) / max(1, int64(to.Sub(from))/int64(n))
			if c, ok := highest[bucket]; !ok || a.SealedAt.Sub(before.CaptureAt) > c.SealedAt.Sub(c.Before) {
				highest[bucket] = records.Crest{Before: before.CaptureAt, Arrival: a}
			}
		}
		before = &a
	}
	var out []records.Crest
	for _, k := range slices.Sorted(maps.Keys(highest)) {
		out = append(out, highest[k])
	}
	return out, nil
}

// ArrivalsOf implements history.Store.
func (db *DB) ArrivalsOf(_ context.Context, groups []string, from, to time.Time) ([]records.GroupArrival, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	var out []records.GroupArrival
	for _, id := range groups {
		for _, a := range within(db.arrivals[id], from, to) {
			out = append(out, records.GroupArrival{GroupID: id, Arrival: a})
		}
	}
	return out, nil
}

// point finds one; the lock is held.
func (db *DB) point(id string) (records.Point, bool) {
	p, ok := db.points[db.groupOf[id]][id]
	return p, ok
}

// putPoint keeps one; the lock is held.
func (db *DB) putPoint(p records.Point) {
	if db.points[p.GroupID] == nil {
		db.points[p.GroupID] = map[string]records.Point{}
	}
	db.points[p.GroupID][p.ID], db.groupOf[p.ID] = p, p.GroupID
}

// dropPoint forgets one; the lock is held.
func (db *DB) dropPoint(id string) {
	delete(db.points[db.groupOf[id]], id)
	delete(db.groupOf, id)
}

// PutPoint implements keeper.Records.
func (db *DB) PutPoint(_ context.Context, p records.Point) error {
	if err := db.before("PutPoint"); err != nil {
		return err
	}
	db.mu.Lock()
	defer db.mu.Unlock()
	if _, ok := db.point(p.ID); !ok {
		db.putPoint(p)
	}
	return nil
}

// pointsOf gives the points of groups (nil: of all) that pass, newest first; the
// lock is held.
func (db *DB) pointsOf(groups []string, which func(records.Point) bool) []records.Point {
	if groups == nil {
		groups = slices.Collect(maps.Keys(db.points))
	}
	var out []records.Point
	for _, id := range groups {
		for _, p := range db.points[id] {
			if which == nil || which(p) {
				out = append(out, p)
			}
		}
	}
	slices.SortFunc(out, func(a, b records.Point) int {
		return cmp.Or(b.CaptureAt.Compare(a.CaptureAt), strings.Compare(a.ID, b.ID))
	})
	return out
}

// Points implements keeper.Records.
func (db *DB) Points(_ context.Context, f records.PointFilter) ([]records.Point, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	out := db.filtered(f)
	if f.Order == "" && !f.Up {
		return page(out, f), nil
	}
	size := func(p records.Point) int64 {
		var seal struct{ ChangedBytes, UsedBytes int64 }
		_ = json.Unmarshal(p.Seal, &seal)
		if f.Order == "whole" {
			return seal.UsedBytes
		}
		return seal.ChangedBytes
	}
	slices.SortStableFunc(out, func(a, b records.Point) int {
		c := a.CaptureAt.Compare(b.CaptureAt)
		if f.Order == "changed" || f.Order == "whole" {
			c = cmp.Compare(size(a), size(b))
		}
		if !f.Up {
			c = -c
		}
		return c
	})
	return page(out, f), nil
}

func page(ps []records.Point, f records.PointFilter) []records.Point {
	ps = ps[min(f.Skip, len(ps)):]
	if f.Limit > 0 {
		ps = ps[:min(f.Limit, len(ps))]
	}
	return ps
}

// CountPoints implements keeper.Records.
func (db *DB) CountPoints(_ context.Context, f records.PointFilter) (int, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	return len(db.filtered(f)), nil
}

// filtered lists the points that f lets pass, newest first; the lock is held.
func (db *DB) filtered(f records.PointFilter) []records.Point {
	return db.pointsOf(f.Groups, func(p records.Point) bool {
		var seal struct{ Consistency string }
		return (f.Before == nil || p.CaptureAt.Before(*f.Before)) && (f.After == nil || p.CaptureAt.After(*f.After)) &&
			(f.Consistency == "" || json.Unmarshal(p.Seal, &seal) == nil && seal.Consistency == f.Consistency)
	})
}

// Calms implements keeper.Records.
func (db *DB) Calms(_ context.Context, groups []string, since time.Time) ([]records.Calm, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	var out []records.Calm
	for _, g := range groups {
		all := db.pointsOf([]string{g}, nil) // newest first
		first := -1
		for i, p := range all {
			if p.CaptureAt.After(since) && bytes.Contains(p.Seal, []byte(`"unusual":"`)) {
				first = i
			}
		}
		if first < 0 {
			continue
		}
		c := records.Calm{GroupID: g, First: all[first].CaptureAt}
		if first+1 < len(all) {
			var x struct{ Number int64 }
			if err := json.Unmarshal(all[first+1].Seal, &x); err != nil {
				return nil, err
			}
			c.Number = &x.Number
		}
		out = append(out, c)
	}
	return out, nil
}

// Marks implements keeper.Records.
func (db *DB) Marks(_ context.Context, groups []string) ([]records.Point, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	out := db.pointsOf(append([]string{}, groups...), nil)
	for i := range out {
		out[i].Rests = bytes.Contains(out[i].Seal, []byte(`"consistency":"application"`))
		out[i].Seal = nil
	}
	return out, nil
}

// Point implements keeper.Records.
func (db *DB) Point(_ context.Context, id string) (records.Point, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	p, ok := db.point(id)
	if !ok {
		return p, missing("point")
	}
	return p, nil
}

// PointIDs implements keeper.Records.
func (db *DB) PointIDs(context.Context) (map[string]bool, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	out := map[string]bool{}
	for _, ps := range db.points {
		for id, p := range ps {
			out[id] = p.Held
		}
	}
	return out, nil
}

// PinPoint implements keeper.Records.
func (db *DB) PinPoint(_ context.Context, p records.Point, a records.Activity) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	was, ok := db.point(p.ID)
	if !ok {
		return missing("point")
	}
	was.Pinned, was.PinnedUntil, was.PinReason, was.PinnedBy = p.Pinned, p.PinnedUntil, p.PinReason, p.PinnedBy
	db.putPoint(was)
	if a.Text != "" {
		db.add(a)
	}
	return nil
}

// LockPoint implements keeper.Records.
func (db *DB) LockPoint(_ context.Context, id string, until time.Time, a records.Activity) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	if was, ok := db.point(id); ok {
		was.LockedUntil = &until
		db.putPoint(was)
	}
	if a.Text != "" {
		db.add(a)
	}
	return nil
}

// MirrorPoints implements keeper.Records.
func (db *DB) MirrorPoints(_ context.Context, group string, ids []string, changed []records.Point) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	for _, p := range changed {
		if was, ok := db.point(p.ID); !ok {
			db.putPoint(p)
		} else if !was.Held {
			was.Pinned, was.PinnedUntil, was.PinReason, was.PinnedBy, was.LockedUntil = p.Pinned, p.PinnedUntil, p.PinReason, p.PinnedBy, p.LockedUntil
			db.putPoint(was)
		}
	}
	stays := map[string]bool{}
	for _, id := range ids {
		stays[id] = true
	}
	for id, p := range db.points[group] {
		if !p.Held && !stays[id] {
			db.dropPoint(id)
		}
	}
	return nil
}

// totals counts a group's points, those held here and the others; the lock is held.
func (db *DB) totals(group string) (out []records.PointTotals) {
	for _, held := range []bool{true, false} {
		t := records.PointTotals{GroupID: group, Held: held}
		for _, p := range db.points[group] {
			if p.Held != held {
				continue
			}
			if t.Count++; t.Count == 1 || p.CaptureAt.Before(t.Oldest) {
				t.Oldest = p.CaptureAt
			}
			if p.CaptureAt.After(t.Newest) {
				t.Newest = p.CaptureAt
			}
		}
		if t.Count > 0 {
			out = append(out, t)
		}
	}
	return out
}

// PointTotals implements keeper.Records.
func (db *DB) PointTotals(context.Context) ([]records.PointTotals, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	var out []records.PointTotals
	for id := range db.points {
		out = append(out, db.totals(id)...)
	}
	return out, nil
}

// GroupTotals implements keeper.Records.
func (db *DB) GroupTotals(_ context.Context, group string) ([]records.PointTotals, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	return db.totals(group), nil
}

// DeletePoint implements keeper.Records.
func (db *DB) DeletePoint(_ context.Context, id string) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	db.dropPoint(id)
	return nil
}
