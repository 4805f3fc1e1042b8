package records

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// Activity is one line of the audit trail.
type Activity struct {
	ID       int64     `db:"id"`
	At       time.Time `db:"at"`
	Who      string    `db:"who"`
	Actor    string    `db:"actor"`  // person, token, site or service
	Origin   string    `db:"origin"` // where it came from
	Kind     string    `db:"kind"`
	Subject  string    `db:"subject"`  // what it is about, by name
	Object   string    `db:"object"`   // the same by ID; empty where it has none
	Revision *int64    `db:"revision"` // of the object, after it
	Changes  []byte    `db:"changes"`  // JSON: from what to what
	Text     string    `db:"text"`
}

// AddActivity writes a line.
func (db *DB) AddActivity(ctx context.Context, a Activity) error { return addActivity(ctx, db, a) }

func addActivity(ctx context.Context, x sqlx.ExtContext, a Activity) error {
	if a.Changes == nil {
		a.Changes = []byte("[]")
	}
	_, err := named(ctx, x, "activity", `INSERT INTO activity (at, who, actor, origin, kind, subject, object, revision, changes, text)
		VALUES (:at, :who, :actor, :origin, :kind, :subject, :object, :revision, :changes, :text)`, a)
	return err
}

// Activity lists lines before an ID (0 for the newest), newest first.
func (db *DB) Activity(ctx context.Context, before int64, limit int, q string) ([]Activity, error) {
	if before <= 0 {
		before = 1 << 62
	}
	if q == "" {
		return list[Activity](ctx, db, "activity", `SELECT * FROM activity WHERE id < $1 ORDER BY id DESC LIMIT $2`, before, limit)
	}
	return list[Activity](ctx, db, "activity", `SELECT * FROM activity WHERE id < $1
		AND (text ILIKE '%' || $3 || '%' OR subject ILIKE '%' || $3 || '%' OR who ILIKE '%' || $3 || '%') ORDER BY id DESC LIMIT $2`, before, limit, q)
}

// Edits lists the lines of an object that led to revisions after one, oldest first.
func (db *DB) Edits(ctx context.Context, object string, after int64) ([]Activity, error) {
	return list[Activity](ctx, db, "activity", `SELECT * FROM activity WHERE object = $1 AND object <> '' AND revision > $2 ORDER BY revision, id`, object, after)
}
