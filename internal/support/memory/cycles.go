package memory

import (
	"context"
	"slices"
	"time"

	"kestrel/internal/records"
)

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

// ForgetReplication implements mover.Records.
func (db *DB) ForgetReplication(_ context.Context, group string) error {
	return db.set(func() { delete(db.replications, group) })
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

// AddTally implements mover.Records: what was is not kept here.
func (db *DB) AddTally(context.Context, records.Tally) error { return nil }

// Peaks implements mover.Records: what was is not kept here.
func (db *DB) Peaks(context.Context, time.Time) ([]records.Peak, error) { return nil, nil }

// Tallies implements history.Store.
func (db *DB) Tallies(context.Context, string, time.Time, time.Time) ([]records.Tally, error) {
	return nil, nil
}

// AddAttained implements history.Store.
func (db *DB) AddAttained(_ context.Context, day time.Time, sums []records.Attained) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	if !slices.ContainsFunc(db.attainedDays, day.Equal) {
		db.attainedDays, db.attained = append(db.attainedDays, day), append(db.attained, sums...)
	}
	return nil
}

// AttainedDays implements history.Store.
func (db *DB) AttainedDays(_ context.Context, from, to time.Time) (out []time.Time, _ error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	for _, d := range db.attainedDays {
		if !d.Before(from) && d.Before(to) {
			out = append(out, d)
		}
	}
	slices.SortFunc(out, time.Time.Compare)
	return out, nil
}

// Attained implements history.Store.
func (db *DB) Attained(_ context.Context, from, to time.Time) (out []records.Attained, _ error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	for _, a := range db.attained {
		if !a.At.Before(from) && a.At.Before(to) {
			out = append(out, a)
		}
	}
	return out, nil
}

// AttainedOf implements history.Store.
func (db *DB) AttainedOf(ctx context.Context, group string, from, to time.Time) ([]records.Attained, error) {
	all, err := db.Attained(ctx, from, to)
	return slices.DeleteFunc(all, func(a records.Attained) bool { return a.GroupID != group }), err
}

// TrimAttained implements history.Store.
func (db *DB) TrimAttained(_ context.Context, before time.Time) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	db.attainedDays = slices.DeleteFunc(db.attainedDays, func(d time.Time) bool { return d.Before(before) })
	db.attained = slices.DeleteFunc(db.attained, func(a records.Attained) bool { return a.At.Before(before) })
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
