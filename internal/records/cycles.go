package records

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// Replication is what a group's cycles have come to, at its home site.
type Replication struct {
	GroupID        string     `db:"group_id"`
	LastStart      *time.Time `db:"last_start"`
	BaseCheckpoint string     `db:"base_checkpoint"` // of the newest sealed cycle
	BasePoint      string     `db:"base_point"`
	// ComparedAt is when all of the disks were last read; nil if not since this is
	// noted.
	ComparedAt *time.Time `db:"compared_at"`
}

// ForgetReplication lets go of what a group's cycles have come to.
func (db *DB) ForgetReplication(ctx context.Context, group string) error {
	return db.exec(ctx, "replication", `DELETE FROM replications WHERE group_id = $1`, group)
}

// Replications lists those of all groups that have any.
func (db *DB) Replications(ctx context.Context) ([]Replication, error) {
	return list[Replication](ctx, db, "replications", `SELECT * FROM replications`)
}

// NoteStart writes when a group's newest cycle began.
func (db *DB) NoteStart(ctx context.Context, group string, at time.Time) error {
	return db.exec(ctx, "replication", `INSERT INTO replications (group_id, last_start) VALUES ($1, $2) ON CONFLICT (group_id) DO UPDATE SET last_start = $2`, group, at)
}

// Cycle is one pass over a group.
type Cycle struct {
	ID        string     `db:"id"`
	GroupID   string     `db:"group_id"`
	Number    int64      `db:"number"`
	State     string     `db:"state"`
	StartedAt time.Time  `db:"started_at"`
	EndedAt   *time.Time `db:"ended_at"`
	Detail    []byte     `db:"detail"`
}

// PutCycle stores a cycle.
func (db *DB) PutCycle(ctx context.Context, c Cycle) error {
	return db.named(ctx, "cycle", `INSERT INTO cycles (id, group_id, number, state, started_at, ended_at, detail)
		VALUES (:id, :group_id, :number, :state, :started_at, :ended_at, :detail)
		ON CONFLICT (id) DO UPDATE SET state = :state, ended_at = :ended_at, detail = :detail`, c)
}

// EndCycle stores a cycle that sealed together with the group's new base, so that
// no crash leaves one without the other.
func (db *DB) EndCycle(ctx context.Context, c Cycle, r Replication) error {
	return db.together(ctx, "end cycle", func(tx *sqlx.Tx) error {
		if _, err := named(ctx, tx, "cycle", `UPDATE cycles SET state = :state, ended_at = :ended_at, detail = :detail WHERE id = :id`, c); err != nil {
			return err
		}
		_, err := named(ctx, tx, "replication", `INSERT INTO replications (group_id, base_checkpoint, base_point, compared_at) VALUES (:group_id, :base_checkpoint, :base_point, :compared_at)
			ON CONFLICT (group_id) DO UPDATE SET base_checkpoint = :base_checkpoint, base_point = :base_point, compared_at = :compared_at`, r)
		return err
	})
}

// Cycles lists a group's newest, those with numbers below before (0: all).
func (db *DB) Cycles(ctx context.Context, group string, before int64, limit int) ([]Cycle, error) {
	if before <= 0 {
		before = 1 << 62
	}
	return list[Cycle](ctx, db, "cycles", `SELECT * FROM cycles WHERE group_id = $1 AND number < $2 ORDER BY number DESC LIMIT $3`, group, before, limit)
}

// NewestCycles lists the newest few of every group, newest first.
func (db *DB) NewestCycles(ctx context.Context, each int) ([]Cycle, error) {
	return list[Cycle](ctx, db, "cycles", `SELECT c.* FROM groups g CROSS JOIN LATERAL (SELECT * FROM cycles WHERE group_id = g.id ORDER BY number DESC LIMIT $1) c ORDER BY c.group_id, c.number DESC`, each)
}

// OpenCycle finds the cycle of a group that has not ended.
func (db *DB) OpenCycle(ctx context.Context, group string) (Cycle, error) {
	return get[Cycle](ctx, db, "cycle", `SELECT * FROM cycles WHERE group_id = $1 AND ended_at IS NULL ORDER BY number DESC LIMIT 1`, group)
}

// OpenCycles lists all that have not ended.
func (db *DB) OpenCycles(ctx context.Context) ([]Cycle, error) {
	return list[Cycle](ctx, db, "cycles", `SELECT * FROM cycles WHERE ended_at IS NULL`)
}

// TrimCycles keeps the newest cycles of a group: those above a number less keep.
func (db *DB) TrimCycles(ctx context.Context, group string, newest int64, keep int64) error {
	return db.exec(ctx, "cycles", `DELETE FROM cycles WHERE group_id = $1 AND number <= $2`, group, newest-keep)
}

// Arrival is one point's arrival, on this site's clock.
type Arrival struct {
	CaptureAt time.Time `db:"capture_at"`
	SealedAt  time.Time `db:"sealed_at"`
}

// AddArrival notes an arrival; the same one again counts once.
func (db *DB) AddArrival(ctx context.Context, group string, a Arrival) error {
	return db.exec(ctx, "arrival", `INSERT INTO arrivals (group_id, capture_at, sealed_at) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING`, group, a.CaptureAt, a.SealedAt)
}

// TrimArrivals forgets those sealed before an instant that are in no month's partition; the
// others go with theirs.
func (db *DB) TrimArrivals(ctx context.Context, before time.Time) error {
	return db.exec(ctx, "arrivals", `DELETE FROM arrivals_else WHERE sealed_at < $1`, before)
}

// Arrivals lists those sealed within a stretch, and the newest before it, in order.
func (db *DB) Arrivals(ctx context.Context, group string, from, to time.Time) ([]Arrival, error) {
	return list[Arrival](ctx, db, "arrivals", `(SELECT capture_at, sealed_at FROM arrivals WHERE group_id = $1 AND sealed_at < $2 ORDER BY sealed_at DESC LIMIT 1)
		UNION ALL (SELECT capture_at, sealed_at FROM arrivals WHERE group_id = $1 AND sealed_at >= $2 AND sealed_at <= $3 ORDER BY sealed_at)`, group, from, to)
}

// Crest is where exposure was highest in a stretch of time: a point arrived, and the newest
// before it had been captured at Before.
type Crest struct {
	Before time.Time `db:"before"`
	Arrival
}

// Crests gives, of each of so many equal stretches of time in which points of a group arrived,
// where its exposure was highest, in order. It is thinned where the rows are.
func (db *DB) Crests(ctx context.Context, group string, from, to time.Time, n int) ([]Crest, error) {
	return list[Crest](ctx, db, "arrivals", `SELECT DISTINCT ON (bucket) before, capture_at, sealed_at FROM (
		SELECT capture_at, sealed_at, lag(capture_at) OVER (ORDER BY sealed_at) AS before, floor(extract(epoch FROM sealed_at - $2::timestamptz) / $4::float8) AS bucket
		FROM arrivals WHERE group_id = $1 AND sealed_at >= $2 AND sealed_at <= $3) x WHERE before IS NOT NULL ORDER BY bucket, sealed_at - before DESC`, group, from, to, max(to.Sub(from).Seconds()/float64(n), 1e-6))
}

// GroupArrival is an arrival with its group.
type GroupArrival struct {
	GroupID string `db:"group_id"`
	Arrival
}

// ArrivalsOf is Arrivals of several groups, in one question.
func (db *DB) ArrivalsOf(ctx context.Context, groups []string, from, to time.Time) ([]GroupArrival, error) {
	return list[GroupArrival](ctx, db, "arrivals", `SELECT g.id AS group_id, a.capture_at, a.sealed_at FROM unnest($1::uuid[]) AS g(id) CROSS JOIN LATERAL (
		(SELECT capture_at, sealed_at FROM arrivals WHERE group_id = g.id AND sealed_at < $2 ORDER BY sealed_at DESC LIMIT 1)
		UNION ALL (SELECT capture_at, sealed_at FROM arrivals WHERE group_id = g.id AND sealed_at >= $2 AND sealed_at <= $3)) a ORDER BY a.sealed_at`, groups, from, to)
}
