package memory

import (
	"context"
	"slices"

	"kestrel/internal/records"
)

// Deletions implements keeper.Records.
func (db *DB) Deletions(context.Context) ([]records.Deletion, error) { return all(db, db.deletions) }

// AddDeletion implements keeper.Records.
func (db *DB) AddDeletion(_ context.Context, d records.Deletion, a records.Activity) error {
	return db.set(func() {
		if _, ok := db.deletions[d.GroupID]; !ok {
			db.deletions[d.GroupID] = d
			db.add(a)
		}
	})
}

// DropDeletion implements keeper.Records.
func (db *DB) DropDeletion(_ context.Context, group string, a records.Activity) error {
	return db.set(func() {
		if _, ok := db.deletions[group]; ok {
			delete(db.deletions, group)
			db.add(a)
		}
	})
}

// Shortenings implements keeper.Records.
func (db *DB) Shortenings(context.Context) ([]records.Shortening, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	return slices.Clone(db.shortenings), nil
}

// AddShortening implements keeper.Records.
func (db *DB) AddShortening(_ context.Context, s records.Shortening) error {
	return db.set(func() { db.shortenings = append(db.shortenings, s) })
}

// DropShortening implements keeper.Records.
func (db *DB) DropShortening(_ context.Context, s records.Shortening) error {
	return db.set(func() {
		db.shortenings = slices.DeleteFunc(db.shortenings, func(x records.Shortening) bool { return x.GroupID == s.GroupID && x.At.Equal(s.At) })
	})
}
