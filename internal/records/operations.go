package records

import (
	"context"
	"fmt"
	"time"
)

// Operation is long work. Whoever works on it holds a lease; the epoch rises with
// each holder, and what is written under an older one is refused.
type Operation struct {
	ID         string     `db:"id"`
	Kind       string     `db:"kind"`
	Subject    string     `db:"subject"`
	State      string     `db:"state"` // running, done, failed or stopped
	StartedAt  time.Time  `db:"started_at"`
	EndedAt    *time.Time `db:"ended_at"`
	StartedBy  string     `db:"started_by"`
	Input      []byte     `db:"input"`    // JSON: what was asked for; never changes
	Progress   []byte     `db:"progress"` // JSON: steps done, bytes, log
	Message    string     `db:"message"`
	Holder     string     `db:"holder"`
	Epoch      int64      `db:"epoch"`
	LeaseUntil *time.Time `db:"lease_until"`
	StopAsked  bool       `db:"stop_asked"`
}

// AddOperation stores one, with its line of the trail.
func (db *DB) AddOperation(ctx context.Context, o Operation) error {
	return db.named(ctx, "operation", `INSERT INTO operations (id, kind, subject, state, started_at, started_by, input, progress)
		VALUES (:id, :kind, :subject, :state, :started_at, :started_by, :input, :progress)`, o)
}

// TakeOperation gives somebody the lease of work that has not ended and that nobody
// else holds, or holds any more. The epoch it comes with is theirs alone.
func (db *DB) TakeOperation(ctx context.Context, id, holder string, now, until time.Time) (Operation, error) {
	return get[Operation](ctx, db, "operation", `UPDATE operations SET holder = $2, epoch = epoch + 1, lease_until = $4
		WHERE id = $1 AND ended_at IS NULL AND (lease_until IS NULL OR lease_until <= $3 OR holder = $2) RETURNING *`, id, holder, now, until)
}

// HoldOperation writes how far work is and holds its lease on. ErrLost says that
// somebody else has it. It tells whether somebody asked for the work to stop.
func (db *DB) HoldOperation(ctx context.Context, o Operation) (stop bool, err error) {
	rows, err := db.NamedQueryContext(ctx, `UPDATE operations SET progress = :progress, lease_until = :lease_until WHERE id = :id AND epoch = :epoch AND ended_at IS NULL RETURNING stop_asked`, o)
	if err != nil {
		return false, fmt.Errorf("write operation: %w", err)
	}
	defer func() { _ = rows.Close() }()
	if !rows.Next() {
		return false, fmt.Errorf("operation %s: %w", o.ID, ErrLost)
	}
	return stop, rows.Scan(&stop)
}

// EndOperation writes how work ended.
func (db *DB) EndOperation(ctx context.Context, o Operation) error {
	n, err := named(ctx, db, "operation", `UPDATE operations SET state = :state, ended_at = :ended_at, progress = :progress, message = :message, lease_until = NULL WHERE id = :id AND epoch = :epoch AND ended_at IS NULL`, o)
	if err == nil && n == 0 {
		return fmt.Errorf("operation %s: %w", o.ID, ErrLost)
	}
	return err
}

// LetGoOperation gives a lease back without an end: it goes on later, or elsewhere.
func (db *DB) LetGoOperation(ctx context.Context, o Operation) error {
	return db.named(ctx, "operation", `UPDATE operations SET progress = :progress, lease_until = NULL WHERE id = :id AND epoch = :epoch AND ended_at IS NULL`, o)
}

// StopOperation asks whoever works on it to stop. ErrNotFound says that it has ended.
func (db *DB) StopOperation(ctx context.Context, id string) error {
	_, err := change[string](ctx, db, "operation", `UPDATE operations SET stop_asked = true WHERE id = $1 AND ended_at IS NULL RETURNING id::text`, id)
	return err
}

// Operation finds one.
func (db *DB) Operation(ctx context.Context, id string) (Operation, error) {
	return get[Operation](ctx, db, "operation", `SELECT * FROM operations WHERE id = $1`, id)
}

// OpenOperations lists those that have not ended, oldest first.
func (db *DB) OpenOperations(ctx context.Context) ([]Operation, error) {
	return list[Operation](ctx, db, "operations", `SELECT * FROM operations WHERE ended_at IS NULL ORDER BY started_at`)
}

// Operations lists the newest.
func (db *DB) Operations(ctx context.Context, limit, skip int) ([]Operation, error) {
	return list[Operation](ctx, db, "operations", `SELECT * FROM operations ORDER BY started_at DESC, id LIMIT $1 OFFSET $2`, limit, skip)
}
