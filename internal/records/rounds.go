package records

import (
	"context"
	"fmt"
	"time"
)

// DrillRoundName is what a TakenError of a round's name is about.
const DrillRoundName = "drill_rounds_name"

// DrillRound is drills that begin by themselves. Its body, what is pending and what was
// refused are in the form of the room that keeps it.
type DrillRound struct {
	ID       string     `db:"id"`
	Name     string     `db:"name"`
	Body     []byte     `db:"body"`
	MadeAt   time.Time  `db:"made_at"`
	BegunFor *time.Time `db:"begun_for"` // the last time of its calendar that it began for
	Pending  []byte     `db:"pending"`
	Refused  []byte     `db:"refused"`
}

// DrillRounds lists all by name.
func (db *DB) DrillRounds(ctx context.Context) ([]DrillRound, error) {
	return list[DrillRound](ctx, db, "rounds", `SELECT * FROM drill_rounds ORDER BY lower(name)`)
}

// AddDrillRound stores one. A TakenError says that its name is another's.
func (db *DB) AddDrillRound(ctx context.Context, r DrillRound) error {
	return db.named(ctx, "round", `INSERT INTO drill_rounds (id, name, body, made_at) VALUES (:id, :name, :body, :made_at)`, r)
}

// BeginDrillRound notes that a round begins for a time, and with what, once: ErrStale says that
// it began for that time or a later one already.
func (db *DB) BeginDrillRound(ctx context.Context, r DrillRound) error {
	n, err := named(ctx, db, "round", `UPDATE drill_rounds SET begun_for = :begun_for, pending = :pending, refused = '[]' WHERE id = :id AND (begun_for IS NULL OR begun_for < :begun_for)`, r)
	if err == nil && n == 0 {
		return fmt.Errorf("round %s: %w", r.Name, ErrStale)
	}
	return err
}

// SaveDrillRound keeps how far a round is.
func (db *DB) SaveDrillRound(ctx context.Context, r DrillRound) error {
	return db.named(ctx, "round", `UPDATE drill_rounds SET pending = :pending, refused = :refused WHERE id = :id`, r)
}

// DeleteDrillRound forgets one.
func (db *DB) DeleteDrillRound(ctx context.Context, id string) error {
	return db.exec(ctx, "round", `DELETE FROM drill_rounds WHERE id = $1`, id)
}
