package records

import (
	"context"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"
)

// Attained is how a group's promise was kept on a day of UTC, of the time in which it followed
// one tier.
type Attained struct {
	At         time.Time     `db:"at"` // beginning of the day
	GroupID    string        `db:"group_id"`
	Tier       string        `db:"tier"`
	Covered    time.Duration `db:"covered"`
	Over       time.Duration `db:"over"`
	Paused     time.Duration `db:"paused"`
	PausedOver time.Duration `db:"paused_over"`
	Worst      time.Duration `db:"worst"`
	WorstAt    time.Time     `db:"worst_at"`
}

// AddAttained enters a day with its sums, all or none. A day that is there already stays as it
// is.
func (db *DB) AddAttained(ctx context.Context, day time.Time, sums []Attained) error {
	return db.together(ctx, "attained", func(tx *sqlx.Tx) error {
		n, err := exec(ctx, tx, "attained", `INSERT INTO attained_days VALUES ($1) ON CONFLICT DO NOTHING`, day)
		if err != nil || n == 0 {
			return err
		}
		for part := range slices.Chunk(sums, 2000) { // PostgreSQL takes 65,535 parameters
			if _, err := named(ctx, tx, "attained", `INSERT INTO attained (at, group_id, tier, covered, over, paused, paused_over, worst, worst_at)
				VALUES (:at, :group_id, :tier, :covered, :over, :paused, :paused_over, :worst, :worst_at)`, part); err != nil {
				return err
			}
		}
		return nil
	})
}

// AttainedDays lists the days in [from, to) that are summed up, oldest first.
func (db *DB) AttainedDays(ctx context.Context, from, to time.Time) ([]time.Time, error) {
	return list[time.Time](ctx, db, "attained", `SELECT at FROM attained_days WHERE at >= $1 AND at < $2 ORDER BY at`, from, to)
}

// Attained lists the sums of days in [from, to), oldest first.
func (db *DB) Attained(ctx context.Context, from, to time.Time) ([]Attained, error) {
	return list[Attained](ctx, db, "attained", `SELECT * FROM attained WHERE at >= $1 AND at < $2 ORDER BY at`, from, to)
}

// AttainedOf is Attained of one group.
func (db *DB) AttainedOf(ctx context.Context, group string, from, to time.Time) ([]Attained, error) {
	return list[Attained](ctx, db, "attained", `SELECT * FROM attained WHERE group_id = $1 AND at >= $2 AND at < $3 ORDER BY at`, group, from, to)
}

// TrimAttained forgets days before a time.
func (db *DB) TrimAttained(ctx context.Context, before time.Time) error {
	return db.exec(ctx, "attained", `DELETE FROM attained_days WHERE at < $1`, before)
}
