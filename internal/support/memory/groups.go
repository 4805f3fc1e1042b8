package memory

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"kestrel/internal/core/chain"
	"kestrel/internal/records"
)

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
	if g.Direction != "out" || g.Turned != "" {
		for i, c := range db.cycles[g.ID] {
			if c.EndedAt == nil {
				db.cycles[g.ID][i].State, db.cycles[g.ID][i].EndedAt = "failed", &at
			}
		}
	}
	if g.Direction != "out" {
		delete(db.replications, g.ID)
	}
	if g.Direction == "out" {
		for _, m := range g.Machines {
			db.machines[g.Platform+"/"+m] = g.ID
		}
	}
	next := records.Target{GroupID: g.ID, Since: at, Seconds: g.Target, Tier: g.Tier, Paused: g.Paused, PausedUntil: g.PausedUntil}
	if ts := db.targets[g.ID]; g.Target > 0 && (len(ts) == 0 || !samePromise(ts[len(ts)-1], next)) {
		db.targets[g.ID] = append(ts, next)
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
	var prev []byte
	if n := len(db.activity); n > 0 {
		prev = db.activity[n-1].Hash
	}
	a.At, a.Number = a.At.UTC().Truncate(time.Microsecond), &a.ID
	hash, err := chain.Next(prev, a.Chained(a.ID))
	if err != nil {
		panic(err) // who adds lines makes their JSON
	}
	a.Hash = hash
	db.activity = append(db.activity, a)
}

// TrailEnd implements audit.Ledger.
func (db *DB) TrailEnd(context.Context) (records.TrailEnd, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	n := len(db.activity)
	if n == 0 {
		return records.TrailEnd{}, nil
	}
	return records.TrailEnd{Number: int64(n), Hash: db.activity[n-1].Hash}, nil
}

// Trail implements audit.Ledger.
func (db *DB) Trail(_ context.Context, after int64, limit int) ([]records.Activity, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	from := min(int(after), len(db.activity))
	return slices.Clone(db.activity[from:min(from+limit, len(db.activity))]), nil
}

// Unchained implements audit.Ledger.
func (db *DB) Unchained(context.Context) (int64, error) { return 0, nil }

// AddTrailHead implements audit.Ledger.
func (db *DB) AddTrailHead(_ context.Context, h records.TrailHead) error {
	return db.set(func() {
		if !slices.ContainsFunc(db.heads, func(x records.TrailHead) bool { return x.Site == h.Site && x.Number == h.Number }) {
			db.heads = append(db.heads, h)
		}
	})
}

// TrailHeads implements audit.Ledger.
func (db *DB) TrailHeads(_ context.Context, site string) ([]records.TrailHead, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	out := []records.TrailHead{}
	for _, h := range db.heads {
		if h.Site == site {
			out = append(out, h)
		}
	}
	slices.SortFunc(out, func(a, b records.TrailHead) int { return cmp.Compare(b.Number, a.Number) })
	return out, nil
}

// AddGroups implements directory.Store.
func (db *DB) AddGroups(_ context.Context, gs []records.Group, as []records.Activity) error {
	if err := db.before("AddGroups"); err != nil {
		return err
	}
	db.mu.Lock()
	defer db.mu.Unlock()
	for _, g := range gs {
		if err := db.guard(g); err != nil {
			return err
		}
	}
	for i, g := range gs {
		db.put(g, g.CreatedAt, as[i])
	}
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
	if !ok || (was.Revision != from || was.Term != g.Term || was.Turned != g.Turned) && !db.Careless {
		return fmt.Errorf("group %s: %w", g.Name, records.ErrStale)
	}
	if err := db.guard(g); err != nil {
		return err
	}
	db.put(g, a.At, a)
	return nil
}

// TurnGroup implements directory.Store.
func (db *DB) TurnGroup(_ context.Context, g, was records.Group, a records.Activity) error {
	if err := db.before("TurnGroup"); err != nil {
		return err
	}
	db.mu.Lock()
	defer db.mu.Unlock()
	if is, ok := db.groups[g.ID]; !ok || is.Revision != was.Revision || is.Term != was.Term || is.Turned != was.Turned {
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
	delete(db.deletions, id)
	db.shortenings = slices.DeleteFunc(db.shortenings, func(s records.Shortening) bool { return s.GroupID == id })
	for p := range db.points[id] {
		db.dropPoint(p)
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
func (db *DB) Activity(_ context.Context, f records.Sought) ([]records.Activity, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	var out []records.Activity
	for _, a := range slices.Backward(db.activity) {
		if (f.Before == 0 || a.ID < f.Before) && strings.Contains(strings.ToLower(a.Text+a.Subject+a.Who), strings.ToLower(f.Text)) && len(out) < f.Limit {
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

// AllTargets implements history.Store.
func (db *DB) AllTargets(context.Context) ([]records.Target, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	var out []records.Target
	for _, ts := range db.targets {
		out = append(out, ts...)
	}
	return out, nil
}

func samePromise(a, b records.Target) bool {
	return a.Seconds == b.Seconds && a.Tier == b.Tier && (a.Paused == nil) == (b.Paused == nil) && (a.Paused == nil || *a.Paused == *b.Paused) &&
		(a.PausedUntil == nil) == (b.PausedUntil == nil) && (a.PausedUntil == nil || a.PausedUntil.Equal(*b.PausedUntil))
}
