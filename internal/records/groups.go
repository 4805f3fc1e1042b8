package records

import (
	"context"
	"fmt"
	"time"
)

// Group is a protection group as this site knows it. Settings is the JSON that
// the home site owns and mirrors.
type Group struct {
	ID             string     `db:"id"`
	Name           string     `db:"name"`
	Direction      string     `db:"direction"` // out, in or ended
	Link           *string    `db:"link"`
	HomeID         string     `db:"home_id"`
	HomeName       string     `db:"home_name"`
	RecoveryName   string     `db:"recovery_name"`
	Term           int64      `db:"term"`
	Revision       int64      `db:"revision"`
	Settings       []byte     `db:"settings"`
	Paused         bool       `db:"paused"`
	Anchor         time.Time  `db:"anchor"`
	LastStart      *time.Time `db:"last_start"`
	BaseCheckpoint string     `db:"base_checkpoint"`
	BasePoint      string     `db:"base_point"`
	CreatedAt      time.Time  `db:"created_at"`
	// ComparedAt is when all of the disks were last read; nil if not since
	// this is noted.
	ComparedAt *time.Time `db:"compared_at"`
}

const addGroup = `INSERT INTO groups (id, name, direction, link, home_id, home_name, recovery_name, term, revision, settings, paused, anchor, last_start, base_checkpoint, base_point, created_at)
		VALUES (:id, :name, :direction, :link, :home_id, :home_name, :recovery_name, :term, :revision, :settings, :paused, :anchor, :last_start, :base_checkpoint, :base_point, :created_at)`

// AddGroup stores a new group.
func (db *DB) AddGroup(ctx context.Context, g Group) error {
	return db.named(ctx, "group", addGroup, g)
}

// SaveGroup writes what administrators and the home site change of a group.
// What its cycles change is written by NoteStart and EndCycle alone, so that
// neither overwrites the other.
func (db *DB) SaveGroup(ctx context.Context, g Group) error {
	return db.named(ctx, "group", `UPDATE groups SET name = :name, direction = :direction, link = :link, home_name = :home_name, recovery_name = :recovery_name,
		term = :term, revision = :revision, settings = :settings, paused = :paused, anchor = :anchor WHERE id = :id`, g)
}

// NoteStart writes when a group's newest cycle began.
func (db *DB) NoteStart(ctx context.Context, id string, at time.Time) error {
	return db.exec(ctx, "group", `UPDATE groups SET last_start = $2 WHERE id = $1`, id, at)
}

// Groups lists all.
func (db *DB) Groups(ctx context.Context) ([]Group, error) {
	return list[Group](ctx, db, "groups", `SELECT * FROM groups ORDER BY name`)
}

// DeleteGroup removes a group with its cycles and points.
func (db *DB) DeleteGroup(ctx context.Context, id string) error {
	tx, err := db.BeginTxx(ctx, nil)
	if err != nil {
		return fmt.Errorf("delete group: %w", err)
	}
	defer func() { _ = tx.Rollback() }()
	for _, q := range []string{`DELETE FROM drops WHERE group_id = $1`, `DELETE FROM groups WHERE id = $1`} {
		if _, err := tx.ExecContext(ctx, q, id); err != nil {
			return fmt.Errorf("delete group: %w", err)
		}
	}
	return tx.Commit()
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

// EndCycle stores a cycle that sealed together with the group's new base, so
// that no crash leaves one without the other.
func (db *DB) EndCycle(ctx context.Context, c Cycle, g Group) error {
	tx, err := db.BeginTxx(ctx, nil)
	if err != nil {
		return fmt.Errorf("end cycle: %w", err)
	}
	defer func() { _ = tx.Rollback() }()
	if _, err := tx.NamedExecContext(ctx, `UPDATE cycles SET state = :state, ended_at = :ended_at, detail = :detail WHERE id = :id`, c); err != nil {
		return fmt.Errorf("end cycle: %w", err)
	}
	if _, err := tx.NamedExecContext(ctx, `UPDATE groups SET base_checkpoint = :base_checkpoint, base_point = :base_point, compared_at = :compared_at WHERE id = :id`, g); err != nil {
		return fmt.Errorf("end cycle: %w", err)
	}
	return tx.Commit()
}

// Cycles lists a group's newest.
func (db *DB) Cycles(ctx context.Context, group string, limit int) ([]Cycle, error) {
	return list[Cycle](ctx, db, "cycles", `SELECT * FROM cycles WHERE group_id = $1 ORDER BY number DESC LIMIT $2`, group, limit)
}

// OpenCycle finds the cycle of a group that has not ended.
func (db *DB) OpenCycle(ctx context.Context, group string) (Cycle, error) {
	return get[Cycle](ctx, db, "cycle", `SELECT * FROM cycles WHERE group_id = $1 AND ended_at IS NULL ORDER BY number DESC LIMIT 1`, group)
}

// TrimCycles keeps the newest cycles of a group.
func (db *DB) TrimCycles(ctx context.Context, group string, keep int) error {
	return db.exec(ctx, "cycles", `DELETE FROM cycles WHERE group_id = $1 AND number <= (SELECT max(number) FROM cycles WHERE group_id = $1) - $2`, group, keep)
}

// Drop is one landing, on this site's clock.
type Drop struct {
	CaptureAt time.Time `db:"capture_at"`
	SealedAt  time.Time `db:"sealed_at"`
}

// AddDrop notes a landing; the same one again counts once.
func (db *DB) AddDrop(ctx context.Context, group string, d Drop) error {
	return db.exec(ctx, "drop", `INSERT INTO drops (group_id, capture_at, sealed_at) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING`, group, d.CaptureAt, d.SealedAt)
}

// TrimDrops forgets the landings sealed before an instant.
func (db *DB) TrimDrops(ctx context.Context, before time.Time) error {
	return db.exec(ctx, "drops", `DELETE FROM drops WHERE sealed_at < $1`, before)
}

// Drops lists landings sealed within a stretch, and the newest before it, in
// order.
func (db *DB) Drops(ctx context.Context, group string, from, to time.Time) ([]Drop, error) {
	return list[Drop](ctx, db, "drops", `(SELECT capture_at, sealed_at FROM drops WHERE group_id = $1 AND sealed_at < $2 ORDER BY sealed_at DESC LIMIT 1)
		UNION ALL (SELECT capture_at, sealed_at FROM drops WHERE group_id = $1 AND sealed_at >= $2 AND sealed_at <= $3 ORDER BY sealed_at)`, group, from, to)
}

// Point is a recovery point: of this site's own store, or as the recovery site
// last reported it.
type Point struct {
	ID          string     `db:"id"`
	GroupID     string     `db:"group_id"`
	CaptureAt   time.Time  `db:"capture_at"`
	Held        bool       `db:"held"`
	Pinned      bool       `db:"pinned"`
	PinnedUntil *time.Time `db:"pinned_until"`
	Seal        []byte     `db:"seal"`
}

// PutPoint stores a point; what is known of its pin stays.
func (db *DB) PutPoint(ctx context.Context, p Point) error {
	return db.named(ctx, "point", `INSERT INTO points (id, group_id, capture_at, held, pinned, pinned_until, seal)
		VALUES (:id, :group_id, :capture_at, :held, :pinned, :pinned_until, :seal) ON CONFLICT (id) DO NOTHING`, p)
}

// MirrorPoints makes the points known of a group those that the recovery site
// reports, pins included.
func (db *DB) MirrorPoints(ctx context.Context, group string, ps []Point) error {
	tx, err := db.BeginTxx(ctx, nil)
	if err != nil {
		return fmt.Errorf("mirror points: %w", err)
	}
	defer func() { _ = tx.Rollback() }()
	ids := make([]string, len(ps))
	for i, p := range ps {
		ids[i] = p.ID
		if _, err := tx.NamedExecContext(ctx, `INSERT INTO points (id, group_id, capture_at, held, pinned, pinned_until, seal)
			VALUES (:id, :group_id, :capture_at, :held, :pinned, :pinned_until, :seal)
			ON CONFLICT (id) DO UPDATE SET pinned = :pinned, pinned_until = :pinned_until`, p); err != nil {
			return fmt.Errorf("mirror points: %w", err)
		}
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM points WHERE group_id = $1 AND NOT held AND NOT id = ANY($2::uuid[])`, group, ids); err != nil {
		return fmt.Errorf("mirror points: %w", err)
	}
	return tx.Commit()
}

// Points lists those of a group, or of all if it is empty, newest first.
func (db *DB) Points(ctx context.Context, group string) ([]Point, error) {
	return list[Point](ctx, db, "points", `SELECT * FROM points WHERE $1 = '' OR group_id::text = $1 ORDER BY capture_at DESC`, group)
}

// Point finds one.
func (db *DB) Point(ctx context.Context, id string) (Point, error) {
	return get[Point](ctx, db, "point", `SELECT * FROM points WHERE id::text = $1`, id)
}

// PinPoint pins or unpins a point.
func (db *DB) PinPoint(ctx context.Context, id string, pinned bool, until *time.Time) error {
	return db.exec(ctx, "point", `UPDATE points SET pinned = $2, pinned_until = $3 WHERE id = $1`, id, pinned, until)
}

// DeletePoint removes one.
func (db *DB) DeletePoint(ctx context.Context, id string) error {
	return db.exec(ctx, "point", `DELETE FROM points WHERE id = $1`, id)
}

// PointTotals counts points and their oldest and newest capture, by group.
type PointTotals struct {
	GroupID string    `db:"group_id"`
	Held    bool      `db:"held"` // here
	Count   int       `db:"count"`
	Oldest  time.Time `db:"oldest"`
	Newest  time.Time `db:"newest"`
}

// PointTotals lists the totals of all groups that have points.
func (db *DB) PointTotals(ctx context.Context) ([]PointTotals, error) {
	return list[PointTotals](ctx, db, "points", `SELECT group_id, held, count(*) AS count, min(capture_at) AS oldest, max(capture_at) AS newest FROM points GROUP BY group_id, held`)
}
