package memory

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
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

// AllArrivals implements history.Store.
func (db *DB) AllArrivals(_ context.Context, from, to time.Time) ([]records.GroupArrival, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	var out []records.GroupArrival
	for id, as := range db.arrivals {
		for _, a := range within(as, from, to) {
			out = append(out, records.GroupArrival{GroupID: id, Arrival: a})
		}
	}
	return out, nil
}

// PutPoint implements keeper.Records.
func (db *DB) PutPoint(_ context.Context, p records.Point) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	if _, ok := db.points[p.ID]; !ok {
		db.points[p.ID] = p
	}
	return nil
}

// pointsOf gives the points that pass, newest first; the lock is held.
func (db *DB) pointsOf(which func(records.Point) bool) []records.Point {
	var out []records.Point
	for _, p := range db.points {
		if which(p) {
			out = append(out, p)
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
	out = out[min(f.Skip, len(out)):]
	if f.Limit > 0 {
		out = out[:min(f.Limit, len(out))]
	}
	return out, nil
}

// CountPoints implements keeper.Records.
func (db *DB) CountPoints(_ context.Context, f records.PointFilter) (int, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	return len(db.filtered(f)), nil
}

// filtered lists the points that f lets pass, newest first; the lock is held.
func (db *DB) filtered(f records.PointFilter) []records.Point {
	return db.pointsOf(func(p records.Point) bool {
		var seal struct{ Consistency string }
		return (f.Groups == nil || slices.Contains(f.Groups, p.GroupID)) && (f.Before == nil || p.CaptureAt.Before(*f.Before)) && (f.After == nil || p.CaptureAt.After(*f.After)) &&
			(f.Consistency == "" || json.Unmarshal(p.Seal, &seal) == nil && seal.Consistency == f.Consistency)
	})
}

// Marks implements keeper.Records.
func (db *DB) Marks(_ context.Context, groups []string) ([]records.Point, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	out := db.pointsOf(func(p records.Point) bool { return slices.Contains(groups, p.GroupID) })
	for i := range out {
		out[i].Seal = nil
	}
	return out, nil
}

// Point implements keeper.Records.
func (db *DB) Point(_ context.Context, id string) (records.Point, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	p, ok := db.points[id]
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
	for id, p := range db.points {
		out[id] = p.Held
	}
	return out, nil
}

// PinPoint implements keeper.Records.
func (db *DB) PinPoint(_ context.Context, p records.Point, a records.Activity) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	was, ok := db.points[p.ID]
	if !ok {
		return missing("point")
	}
	was.Pinned, was.PinnedUntil, was.PinReason, was.PinnedBy = p.Pinned, p.PinnedUntil, p.PinReason, p.PinnedBy
	db.points[p.ID] = was
	if a.Text != "" {
		db.add(a)
	}
	return nil
}

// MirrorPoints implements keeper.Records.
func (db *DB) MirrorPoints(_ context.Context, group string, ps []records.Point) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	reported := map[string]bool{}
	for _, p := range ps {
		reported[p.ID] = true
		if was, ok := db.points[p.ID]; !ok {
			db.points[p.ID] = p
		} else if !was.Held {
			was.Pinned, was.PinnedUntil, was.PinReason, was.PinnedBy = p.Pinned, p.PinnedUntil, p.PinReason, p.PinnedBy
			db.points[p.ID] = was
		}
	}
	for id, p := range db.points {
		if p.GroupID == group && !p.Held && !reported[id] {
			delete(db.points, id)
		}
	}
	return nil
}

// totals counts points; the lock is held.
func (db *DB) totals(which func(records.Point) bool) []records.PointTotals {
	by := map[string]records.PointTotals{}
	for _, p := range db.points {
		if !which(p) {
			continue
		}
		k := fmt.Sprint(p.GroupID, p.Held)
		t, ok := by[k]
		if !ok {
			t = records.PointTotals{GroupID: p.GroupID, Held: p.Held, Oldest: p.CaptureAt, Newest: p.CaptureAt}
		}
		t.Count++
		if p.CaptureAt.Before(t.Oldest) {
			t.Oldest = p.CaptureAt
		}
		if p.CaptureAt.After(t.Newest) {
			t.Newest = p.CaptureAt
		}
		by[k] = t
	}
	return slices.Collect(maps.Values(by))
}

// PointTotals implements keeper.Records.
func (db *DB) PointTotals(context.Context) ([]records.PointTotals, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	return db.totals(func(records.Point) bool { return true }), nil
}

// GroupTotals implements keeper.Records.
func (db *DB) GroupTotals(_ context.Context, group string) ([]records.PointTotals, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	return db.totals(func(p records.Point) bool { return p.GroupID == group }), nil
}

// DeletePoint implements keeper.Records.
func (db *DB) DeletePoint(_ context.Context, id string) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	delete(db.points, id)
	return nil
}
