package records

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// Deletion is of the points of a group, as another site wants it.
type Deletion struct {
	GroupID string    `db:"group_id"`
	AskedAt time.Time `db:"asked_at"`
	AskedBy string    `db:"asked_by"`
	DueAt   time.Time `db:"due_at"`
}

// Deletions lists all that are waiting.
func (db *DB) Deletions(ctx context.Context) ([]Deletion, error) {
	return list[Deletion](ctx, db, "deletions", `SELECT * FROM deletions ORDER BY due_at, group_id`)
}

// AddDeletion notes one with its line of the trail; one that waits already stays as
// it is, and is told of no more.
func (db *DB) AddDeletion(ctx context.Context, d Deletion, a Activity) error {
	return db.together(ctx, "deletion", func(tx *sqlx.Tx) error {
		n, err := named(ctx, tx, "deletion", `INSERT INTO deletions (group_id, asked_at, asked_by, due_at) VALUES (:group_id, :asked_at, :asked_by, :due_at) ON CONFLICT DO NOTHING`, d)
		if err != nil || n == 0 {
			return err
		}
		return addActivity(ctx, tx, a)
	})
}

// DropDeletion forgets one with its line of the trail.
func (db *DB) DropDeletion(ctx context.Context, group string, a Activity) error {
	return db.together(ctx, "deletion", func(tx *sqlx.Tx) error {
		n, err := exec(ctx, tx, "deletion", `DELETE FROM deletions WHERE group_id = $1`, group)
		if err != nil || n == 0 {
			return err
		}
		return addActivity(ctx, tx, a)
	})
}

// Shortening is a ladder that another site made shorter.
type Shortening struct {
	GroupID string    `db:"group_id"`
	At      time.Time `db:"at"`
	Before  string    `db:"before"` // as it is typed
}

// Shortenings lists all, oldest first.
func (db *DB) Shortenings(ctx context.Context) ([]Shortening, error) {
	return list[Shortening](ctx, db, "shortenings", `SELECT * FROM shortenings ORDER BY at`)
}

// AddShortening notes one.
func (db *DB) AddShortening(ctx context.Context, s Shortening) error {
	return db.named(ctx, "shortening", `INSERT INTO shortenings (group_id, at, before) VALUES (:group_id, :at, :before) ON CONFLICT DO NOTHING`, s)
}

// DropShortening forgets one that holds nothing back any more.
func (db *DB) DropShortening(ctx context.Context, s Shortening) error {
	return db.exec(ctx, "shortening", `DELETE FROM shortenings WHERE group_id = $1 AND at = $2`, s.GroupID, s.At)
}
