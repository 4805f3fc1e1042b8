// Package memory keeps records as PostgreSQL would, in memory: for tests of rooms
// that take milliseconds, and for simulated sites. It compares revisions, guards
// names and machines, and writes lines of the trail with what they tell of, as the
// real one does; the tests of records hold both to that.
package memory

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"kestrel/internal/records"
)

// DB is a database. The zero value is not ready; use New.
type DB struct {
	mu           sync.Mutex
	groups       map[string]records.Group
	machines     map[string]string // platform/machine → group
	targets      map[string][]records.Target
	activity     []records.Activity
	points       map[string]records.Point
	arrivals     map[string][]records.Arrival
	cycles       map[string][]records.Cycle // by group, oldest first
	replications map[string]records.Replication
	operations   map[string]records.Operation

	// Before, if set, is called before each write of a group with the method's name;
	// what it returns fails the write. It is where a test lets others come between.
	Before func(method string) error
	// Careless makes writes of groups forget to compare revisions, as a fault that a
	// simulation has to find.
	Careless bool
}

// New makes an empty one.
func New() *DB {
	return &DB{groups: map[string]records.Group{}, machines: map[string]string{}, targets: map[string][]records.Target{}, points: map[string]records.Point{}, arrivals: map[string][]records.Arrival{},
		cycles: map[string][]records.Cycle{}, replications: map[string]records.Replication{}, operations: map[string]records.Operation{}}
}

func (db *DB) before(method string) error {
	if db.Before != nil {
		return db.Before(method)
	}
	return nil
}

func missing(what string) error { return fmt.Errorf("%s: %w", what, records.ErrNotFound) }

// Groups implements directory.Store.
func (db *DB) Groups(context.Context) ([]records.Group, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	var out []records.Group
	for _, g := range db.groups {
		out = append(out, g)
	}
	slices.SortFunc(out, func(a, b records.Group) int {
		return cmp.Or(strings.Compare(a.Name, b.Name), strings.Compare(a.ID, b.ID))
	})
	return out, nil
}

// guard refuses a name or a machine that is another's; the lock is held.
func (db *DB) guard(g records.Group) error {
	for _, o := range db.groups {
		if o.ID != g.ID && o.HomeID == g.HomeID && o.Direction != "ended" && g.Direction != "ended" && strings.EqualFold(o.Name, g.Name) {
			return &records.TakenError{Constraint: records.GroupNameTaken}
		}
	}
	if g.Direction == "out" {
		for _, m := range g.Machines {
			if of, ok := db.machines[g.Platform+"/"+m]; ok && of != g.ID {
				return &records.TakenError{Constraint: records.MachineTaken}
			}
		}
	}
	return nil
}

// put writes a group and what goes with it; the lock is held.
func (db *DB) put(g records.Group, at time.Time, a records.Activity) {
	for k, of := range db.machines {
		if of == g.ID {
			delete(db.machines, k)
		}
	}
	if g.Direction == "out" {
		for _, m := range g.Machines {
			db.machines[g.Platform+"/"+m] = g.ID
		}
	}
	if ts := db.targets[g.ID]; g.Target > 0 && (len(ts) == 0 || ts[len(ts)-1].Seconds != g.Target) {
		db.targets[g.ID] = append(ts, records.Target{GroupID: g.ID, Since: at, Seconds: g.Target})
	}
	db.groups[g.ID] = g
	if a.Text != "" {
		db.add(a)
	}
}

func (db *DB) add(a records.Activity) {
	a.ID = int64(len(db.activity) + 1)
	if a.Changes == nil {
		a.Changes = []byte("[]")
	}
	db.activity = append(db.activity, a)
}

// AddGroup implements directory.Store.
func (db *DB) AddGroup(_ context.Context, g records.Group, a records.Activity) error {
	if err := db.before("AddGroup"); err != nil {
		return err
	}
	db.mu.Lock()
	defer db.mu.Unlock()
	if err := db.guard(g); err != nil {
		return err
	}
	db.put(g, g.CreatedAt, a)
	return nil
}

// SwapGroup implements directory.Store.
func (db *DB) SwapGroup(_ context.Context, g records.Group, from int64, a records.Activity) error {
	if err := db.before("SwapGroup"); err != nil {
		return err
	}
	db.mu.Lock()
	defer db.mu.Unlock()
	was, ok := db.groups[g.ID]
	if !ok || was.Revision != from && !db.Careless {
		return fmt.Errorf("group %s: %w", g.Name, records.ErrStale)
	}
	if err := db.guard(g); err != nil {
		return err
	}
	db.put(g, a.At, a)
	return nil
}

// MirrorGroup implements directory.Store.
func (db *DB) MirrorGroup(_ context.Context, g records.Group, at time.Time, a records.Activity) (bool, error) {
	if err := db.before("MirrorGroup"); err != nil {
		return false, err
	}
	db.mu.Lock()
	defer db.mu.Unlock()
	if was, ok := db.groups[g.ID]; ok && (was.Term > g.Term || was.Term == g.Term && was.Revision > g.Revision) {
		return false, nil
	}
	if err := db.guard(g); err != nil {
		return false, err
	}
	db.put(g, at, a)
	return true, nil
}

// DeleteGroup implements directory.Store.
func (db *DB) DeleteGroup(_ context.Context, id string, a records.Activity) error {
	if err := db.before("DeleteGroup"); err != nil {
		return err
	}
	db.mu.Lock()
	defer db.mu.Unlock()
	g := db.groups[id]
	g.Direction, g.Machines, g.ID = "ended", nil, id
	db.put(g, a.At, records.Activity{})
	delete(db.groups, id)
	delete(db.targets, id)
	delete(db.arrivals, id)
	delete(db.cycles, id)
	delete(db.replications, id)
	for p, x := range db.points {
		if x.GroupID == id {
			delete(db.points, p)
		}
	}
	db.add(a)
	return nil
}

// Edits implements directory.Store.
func (db *DB) Edits(_ context.Context, object string, after int64) ([]records.Activity, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	var out []records.Activity
	for _, a := range db.activity {
		if a.Object == object && a.Revision != nil && *a.Revision > after {
			out = append(out, a)
		}
	}
	return out, nil
}

// AddActivity implements audit.Store.
func (db *DB) AddActivity(_ context.Context, a records.Activity) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	db.add(a)
	return nil
}

// Activity implements audit.Store.
func (db *DB) Activity(_ context.Context, before int64, limit int, q string) ([]records.Activity, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	var out []records.Activity
	for _, a := range slices.Backward(db.activity) {
		if (before == 0 || a.ID < before) && strings.Contains(strings.ToLower(a.Text+a.Subject+a.Who), strings.ToLower(q)) && len(out) < limit {
			out = append(out, a)
		}
	}
	return out, nil
}

// Targets implements history.Store.
func (db *DB) Targets(_ context.Context, group string) ([]records.Target, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	return slices.Clone(db.targets[group]), nil
}

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

// Replications implements mover.Records.
func (db *DB) Replications(context.Context) ([]records.Replication, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	var out []records.Replication
	for _, r := range db.replications {
		out = append(out, r)
	}
	return out, nil
}

// NoteStart implements mover.Records.
func (db *DB) NoteStart(_ context.Context, group string, at time.Time) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	r := db.replications[group]
	r.GroupID, r.LastStart = group, &at
	db.replications[group] = r
	return nil
}

// NewestCycles implements mover.Records.
func (db *DB) NewestCycles(_ context.Context, each int) ([]records.Cycle, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	var out []records.Cycle
	for _, cs := range db.cycles {
		for i := range min(each, len(cs)) {
			out = append(out, cs[len(cs)-1-i])
		}
	}
	return out, nil
}

// Cycles implements mover.Records.
func (db *DB) Cycles(_ context.Context, group string, before int64, limit int) ([]records.Cycle, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	var out []records.Cycle
	for _, c := range slices.Backward(db.cycles[group]) {
		if (before <= 0 || c.Number < before) && len(out) < limit {
			out = append(out, c)
		}
	}
	return out, nil
}

// OpenCycle implements mover.Records.
func (db *DB) OpenCycle(_ context.Context, group string) (records.Cycle, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	for _, c := range slices.Backward(db.cycles[group]) {
		if c.EndedAt == nil {
			return c, nil
		}
	}
	return records.Cycle{}, missing("cycle")
}

// OpenCycles implements mover.Records.
func (db *DB) OpenCycles(context.Context) ([]records.Cycle, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	var out []records.Cycle
	for _, cs := range db.cycles {
		for _, c := range cs {
			if c.EndedAt == nil {
				out = append(out, c)
			}
		}
	}
	return out, nil
}

// PutCycle implements mover.Records.
func (db *DB) PutCycle(_ context.Context, c records.Cycle) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	db.putCycle(c)
	return nil
}

func (db *DB) putCycle(c records.Cycle) {
	cs := db.cycles[c.GroupID]
	for i := len(cs) - 1; i >= 0; i-- {
		if cs[i].ID == c.ID {
			cs[i].State, cs[i].EndedAt, cs[i].Detail = c.State, c.EndedAt, c.Detail
			return
		}
	}
	db.cycles[c.GroupID] = append(cs, c)
}

// EndCycle implements mover.Records.
func (db *DB) EndCycle(_ context.Context, c records.Cycle, r records.Replication) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	db.putCycle(c)
	was := db.replications[r.GroupID]
	was.GroupID, was.BaseCheckpoint, was.BasePoint, was.ComparedAt = r.GroupID, r.BaseCheckpoint, r.BasePoint, r.ComparedAt
	db.replications[r.GroupID] = was
	return nil
}

// TrimCycles implements mover.Records.
func (db *DB) TrimCycles(_ context.Context, group string, newest, keep int64) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	cs := db.cycles[group]
	n := 0
	for n < len(cs) && cs[n].Number <= newest-keep {
		n++
	}
	db.cycles[group] = slices.Clone(cs[n:])
	return nil
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

// AddOperation implements operation.Store.
func (db *DB) AddOperation(_ context.Context, o records.Operation) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	if _, ok := db.operations[o.ID]; ok {
		return &records.TakenError{Constraint: "operations_pkey"}
	}
	db.operations[o.ID] = o
	return nil
}

// TakeOperation implements operation.Store.
func (db *DB) TakeOperation(_ context.Context, id, holder string, now, until time.Time) (records.Operation, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	o, ok := db.operations[id]
	if !ok || o.EndedAt != nil || o.LeaseUntil != nil && o.LeaseUntil.After(now) {
		return o, missing("operation")
	}
	o.Holder, o.LeaseUntil = holder, &until
	o.Epoch++
	db.operations[id] = o
	return o, nil
}

// held changes an operation whose epoch is still its holder's.
func (db *DB) held(o records.Operation, f func(was *records.Operation)) (records.Operation, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	was, ok := db.operations[o.ID]
	if !ok || was.Epoch != o.Epoch || was.EndedAt != nil {
		return was, fmt.Errorf("operation %s: %w", o.ID, records.ErrLost)
	}
	if !json.Valid(o.Progress) {
		return was, fmt.Errorf("operation %s: progress is no JSON", o.ID)
	}
	was.Progress = bytes.Clone(o.Progress)
	f(&was)
	db.operations[o.ID] = was
	return was, nil
}

// HoldOperation implements operation.Store.
func (db *DB) HoldOperation(_ context.Context, o records.Operation) (bool, error) {
	is, err := db.held(o, func(was *records.Operation) { was.LeaseUntil = o.LeaseUntil })
	return is.StopAsked, err
}

// EndOperation implements operation.Store.
func (db *DB) EndOperation(_ context.Context, o records.Operation) error {
	_, err := db.held(o, func(was *records.Operation) {
		was.State, was.EndedAt, was.Message, was.LeaseUntil = o.State, o.EndedAt, o.Message, nil
	})
	return err
}

// LetGoOperation implements operation.Store.
func (db *DB) LetGoOperation(_ context.Context, o records.Operation) error {
	_, err := db.held(o, func(was *records.Operation) { was.LeaseUntil = nil })
	return err
}

// StopOperation implements operation.Store.
func (db *DB) StopOperation(_ context.Context, id string) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	o, ok := db.operations[id]
	if !ok || o.EndedAt != nil {
		return missing("operation")
	}
	o.StopAsked = true
	db.operations[id] = o
	return nil
}

// Operation implements operation.Store.
func (db *DB) Operation(_ context.Context, id string) (records.Operation, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	o, ok := db.operations[id]
	if !ok {
		return o, missing("operation")
	}
	return o, nil
}

// OpenOperations implements operation.Store.
func (db *DB) OpenOperations(context.Context) ([]records.Operation, error) {
	return db.list(func(o records.Operation) bool { return o.EndedAt == nil }), nil
}

// Operations implements operation.Store.
func (db *DB) Operations(_ context.Context, limit, skip int) ([]records.Operation, error) {
	out := db.list(func(records.Operation) bool { return true })
	slices.Reverse(out)
	out = out[min(skip, len(out)):]
	return out[:min(limit, len(out))], nil
}

func (db *DB) list(which func(o records.Operation) bool) []records.Operation {
	db.mu.Lock()
	defer db.mu.Unlock()
	var out []records.Operation
	for _, o := range db.operations {
		if which(o) {
			out = append(out, o)
		}
	}
	slices.SortFunc(out, func(a, b records.Operation) int {
		return cmp.Or(a.StartedAt.Compare(b.StartedAt), strings.Compare(a.ID, b.ID))
	})
	return out
}
