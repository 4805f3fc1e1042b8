package memory

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"kestrel/internal/records"
)

// Recoveries implements recovery.Records.
func (db *DB) Recoveries(_ context.Context, since time.Time) ([]records.Recovery, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	var out []records.Recovery
	for _, r := range db.recoveries {
		if r.State != "over" || !r.StartedAt.Before(since) {
			out = append(out, r)
		}
	}
	slices.SortFunc(out, func(a, b records.Recovery) int { return b.StartedAt.Compare(a.StartedAt) })
	return out, nil
}

// AddRecovery implements recovery.Records.
func (db *DB) AddRecovery(_ context.Context, r records.Recovery) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	for _, o := range db.recoveries {
		if o.GroupID == r.GroupID && o.State != "over" {
			return &records.TakenError{Constraint: records.RecoveryOpen}
		}
	}
	db.recoveries[r.ID] = r
	return nil
}

// SaveRecovery implements recovery.Records.
func (db *DB) SaveRecovery(_ context.Context, r records.Recovery) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	if was := db.recoveries[r.ID]; was.State == "over" || was.Saves >= r.Saves {
		return fmt.Errorf("recovery of %s: %w", r.GroupName, records.ErrStale)
	}
	db.recoveries[r.ID] = r
	return nil
}

// PutScreen implements recovery.Records.
func (db *DB) PutScreen(_ context.Context, recovery, machine string, png []byte) error {
	return db.set(func() { db.screens[recovery+"/"+machine] = png })
}

// Screen implements recovery.Records.
func (db *DB) Screen(_ context.Context, recovery, machine string) ([]byte, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	png, ok := db.screens[recovery+"/"+machine]
	if !ok {
		return nil, missing("screen")
	}
	return png, nil
}

// AddEvidence implements recovery.Records.
func (db *DB) AddEvidence(_ context.Context, e records.Evidence) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	for _, o := range db.evidence {
		if o.RecoveryID == e.RecoveryID {
			return records.ErrStale
		}
	}
	if e.Number != int64(len(db.evidence))+1 {
		return records.ErrStale
	}
	db.evidence = append(db.evidence, e)
	return nil
}

// AllEvidence implements recovery.Records.
func (db *DB) AllEvidence(context.Context) ([]records.Evidence, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	var out []records.Evidence
	for _, e := range slices.Backward(db.evidence) {
		e.File = nil
		out = append(out, e)
	}
	return out, nil
}

// EvidenceNumber implements recovery.Records.
func (db *DB) EvidenceNumber(_ context.Context, number int64) (records.Evidence, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	if number < 1 || number > int64(len(db.evidence)) {
		return records.Evidence{}, missing("evidence")
	}
	return db.evidence[number-1], nil
}

// DrillRounds implements recovery.Records.
func (db *DB) DrillRounds(context.Context) ([]records.DrillRound, error) { return all(db, db.rounds) }

// AddDrillRound implements recovery.Records.
func (db *DB) AddDrillRound(_ context.Context, r records.DrillRound) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	for _, o := range db.rounds {
		if strings.EqualFold(o.Name, r.Name) {
			return &records.TakenError{Constraint: records.DrillRoundName}
		}
	}
	r.BegunFor, r.Pending, r.Refused = nil, []byte("[]"), []byte("[]")
	db.rounds[r.ID] = r
	return nil
}

// BeginDrillRound implements recovery.Records.
func (db *DB) BeginDrillRound(_ context.Context, r records.DrillRound) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	was, ok := db.rounds[r.ID]
	if !ok || was.BegunFor != nil && !was.BegunFor.Before(*r.BegunFor) {
		return records.ErrStale
	}
	was.BegunFor, was.Pending, was.Refused = new(*r.BegunFor), r.Pending, []byte("[]")
	db.rounds[r.ID] = was
	return nil
}

// SaveDrillRound implements recovery.Records.
func (db *DB) SaveDrillRound(_ context.Context, r records.DrillRound) error {
	return db.set(func() {
		was := db.rounds[r.ID]
		was.Pending, was.Refused = r.Pending, r.Refused
		db.rounds[r.ID] = was
	})
}

// DeleteDrillRound implements recovery.Records.
func (db *DB) DeleteDrillRound(_ context.Context, id string) error {
	return db.set(func() { delete(db.rounds, id) })
}
