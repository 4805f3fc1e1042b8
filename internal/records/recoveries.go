package records

import (
	"context"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
)

// RecoveryOpen is what a TakenError of a second recovery of a group is about.
const RecoveryOpen = "recoveries_open"

// Recovery is a drill or a failover. Its detail is in the form of the room that keeps it.
type Recovery struct {
	ID        string     `db:"id"`
	Kind      string     `db:"kind"`
	GroupID   string     `db:"group_id"`
	GroupName string     `db:"group_name"`
	Point     string     `db:"point"`
	State     string     `db:"state"`
	Result    string     `db:"result"` // empty while it is not known
	StartedBy string     `db:"started_by"`
	StartedAt time.Time  `db:"started_at"`
	EndedAt   *time.Time `db:"ended_at"`
	Detail    []byte     `db:"detail"`
	Saves     int64      `db:"saves"` // counts how often it was saved
}

// AddRecovery stores one. A TakenError says that another of its group is open.
func (db *DB) AddRecovery(ctx context.Context, r Recovery) error {
	return db.named(ctx, "recovery", `INSERT INTO recoveries (id, kind, group_id, group_name, point, state, result, started_by, started_at, ended_at, detail, saves)
		VALUES (:id, :kind, :group_id, :group_name, :point, :state, :result, :started_by, :started_at, :ended_at, :detail, :saves)`, r)
}

// SaveRecovery stores how far one is. One that is over never changes. ErrStale says that a
// save that counts as much is there already.
func (db *DB) SaveRecovery(ctx context.Context, r Recovery) error {
	return db.alone(ctx, "recovery", func(x sqlx.ExtContext) error {
		n, err := named(ctx, x, "recovery", `UPDATE recoveries SET state = :state, point = :point, result = :result, ended_at = :ended_at, detail = :detail, saves = :saves WHERE id = :id AND state <> 'over' AND saves < :saves`, r)
		if err == nil && n == 0 {
			err = fmt.Errorf("recovery of %s: %w", r.GroupName, ErrStale)
		}
		return err
	})
}

// Recoveries lists all that are open or began since an instant, newest first.
func (db *DB) Recoveries(ctx context.Context, since time.Time) ([]Recovery, error) {
	return list[Recovery](ctx, db, "recoveries", `SELECT * FROM recoveries WHERE started_at >= $1 OR state <> 'over' ORDER BY started_at DESC, id`, since)
}

// PutScreen stores what a machine of a recovery showed, as a PNG.
func (db *DB) PutScreen(ctx context.Context, recovery, machine string, png []byte) error {
	return db.exec(ctx, "screen", `INSERT INTO recovery_screens (recovery_id, machine, png) VALUES ($1, $2, $3) ON CONFLICT (recovery_id, machine) DO UPDATE SET png = $3`, recovery, machine, png)
}

// Screen is what a machine of a recovery showed; ErrNotFound if that is not kept.
func (db *DB) Screen(ctx context.Context, recovery, machine string) ([]byte, error) {
	return get[[]byte](ctx, db, "screen", `SELECT png FROM recovery_screens WHERE recovery_id = $1 AND machine = $2`, recovery, machine)
}

// Evidence is the signed record of a recovery.
type Evidence struct {
	Number     int64     `db:"number"`
	RecoveryID string    `db:"recovery_id"`
	GroupID    string    `db:"group_id"`
	GroupName  string    `db:"group_name"`
	Kind       string    `db:"kind"`
	Result     string    `db:"result"`
	MadeAt     time.Time `db:"made_at"`
	Hash       string    `db:"hash"`
	File       []byte    `db:"file"` // only of one that is asked for by itself
}

// AddEvidence stores one that follows on the newest. ErrStale says that there is another by
// now, or one of its recovery.
func (db *DB) AddEvidence(ctx context.Context, e Evidence) error {
	n, err := named(ctx, db, "evidence", `INSERT INTO evidence (number, recovery_id, group_id, group_name, kind, result, made_at, hash, file)
		SELECT :number, :recovery_id, :group_id, :group_name, :kind, :result, :made_at, :hash, :file
		WHERE CAST(:number AS bigint) = (SELECT COALESCE(max(number), 0) + 1 FROM evidence) ON CONFLICT DO NOTHING`, e)
	if err == nil && n == 0 {
		return fmt.Errorf("evidence %d: %w", e.Number, ErrStale)
	}
	return err
}

// AllEvidence lists all without their files, newest first.
func (db *DB) AllEvidence(ctx context.Context) ([]Evidence, error) {
	return list[Evidence](ctx, db, "evidence", `SELECT number, recovery_id, group_id, group_name, kind, result, made_at, hash, ''::bytea AS file FROM evidence ORDER BY number DESC`)
}

// EvidenceNumber finds one with its file.
func (db *DB) EvidenceNumber(ctx context.Context, number int64) (Evidence, error) {
	return get[Evidence](ctx, db, "evidence", `SELECT * FROM evidence WHERE number = $1`, number)
}
