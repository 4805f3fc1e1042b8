package records

import (
	"context"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
)

// Point is a recovery point: of this site's own store, or as the recovery site
// last reported it.
type Point struct {
	ID          string     `db:"id"`
	GroupID     string     `db:"group_id"`
	CaptureAt   time.Time  `db:"capture_at"`
	Held        bool       `db:"held"` // in this site's own store
	Pinned      bool       `db:"pinned"`
	PinnedUntil *time.Time `db:"pinned_until"`
	PinReason   string     `db:"pin_reason"`
	PinnedBy    string     `db:"pinned_by"`
	LockedUntil *time.Time `db:"locked_until"`
	Seal        []byte     `db:"seal"`
	// Rests says that it is application-consistent; it is told by Marks only.
	Rests bool `db:"rests"`
}

const addPoint = `INSERT INTO points (id, group_id, capture_at, held, pinned, pinned_until, pin_reason, pinned_by, locked_until, seal)
		VALUES (:id, :group_id, :capture_at, :held, :pinned, :pinned_until, :pin_reason, :pinned_by, :locked_until, :seal)`

// PutPoint stores a point; what is known of its pin stays.
func (db *DB) PutPoint(ctx context.Context, p Point) error {
	return db.named(ctx, "point", addPoint+` ON CONFLICT (id) DO NOTHING`, p)
}

// MirrorPoints makes the points known of a group those that the recovery site
// reports, pins included. Of those that are known as they are, their IDs do.
func (db *DB) MirrorPoints(ctx context.Context, group string, ids []string, changed []Point) error {
	if ids == nil {
		ids = []string{} // NULL would let all stay
	}
	return db.together(ctx, "mirror points", func(tx *sqlx.Tx) error {
		for _, p := range changed {
			if _, err := named(ctx, tx, "point", addPoint+` ON CONFLICT (id) DO UPDATE SET pinned = :pinned, pinned_until = :pinned_until, pin_reason = :pin_reason, pinned_by = :pinned_by, locked_until = :locked_until
				WHERE NOT points.held`, p); err != nil {
				return err
			}
		}
		_, err := exec(ctx, tx, "points", `DELETE FROM points WHERE group_id = $1 AND NOT held AND NOT id = ANY($2::uuid[])`, group, ids)
		return err
	})
}

// PointFilter narrows a list of points; the zero value lets all pass.
type PointFilter struct {
	Groups        []string   // none: of every group
	Before, After *time.Time // of the capture, both exclusive
	Consistency   string     // crash or application
	Order         PointOrder
	Up            bool // oldest or least first, not last
	Limit         int  // 0: no limit
	Skip          int
}

// PointOrder is what a list of points is ordered by; empty is by their capture.
type PointOrder string

// by is the order's expression.
func (o PointOrder) by() string {
	switch o {
	case "changed":
		return `(seal->>'changedBytes')::bigint`
	case "whole":
		return `(seal->>'usedBytes')::bigint`
	default:
		return `capture_at`
	}
}

// where is the condition of a filter, with its arguments.
func (f PointFilter) where() (q string, args []any) {
	q = ` WHERE true`
	and := func(cond string, v any) {
		args = append(args, v)
		q += fmt.Sprintf(cond, len(args))
	}
	if f.Groups != nil {
		and(` AND group_id = ANY($%d::uuid[])`, f.Groups)
	}
	if f.Before != nil {
		and(` AND capture_at < $%d`, *f.Before)
	}
	if f.After != nil {
		and(` AND capture_at > $%d`, *f.After)
	}
	if f.Consistency != "" {
		and(` AND seal->>'consistency' = $%d`, f.Consistency)
	}
	return q, args
}

// CountPoints counts the points that f lets pass, whatever stretch it asks for.
func (db *DB) CountPoints(ctx context.Context, f PointFilter) (int, error) {
	q, args := f.where()
	return get[int](ctx, db, "points", `SELECT count(*) FROM points`+q, args...)
}

// Points lists points in the order that f asks for, the newest first if it asks for none.
func (db *DB) Points(ctx context.Context, f PointFilter) ([]Point, error) {
	q, args := f.where()
	q = `SELECT * FROM points` + q + ` ORDER BY ` + f.Order.by()
	if !f.Up {
		q += ` DESC`
	}
	q += `, capture_at DESC, id`
	if f.Limit > 0 {
		q += fmt.Sprintf(` LIMIT %d`, f.Limit)
	}
	if f.Skip > 0 {
		q += fmt.Sprintf(` OFFSET %d`, f.Skip)
	}
	return list[Point](ctx, db, "points", q, args...)
}

// Calm is the newest point before an unusual change of a group.
type Calm struct {
	GroupID string    `db:"group_id"`
	First   time.Time `db:"first"` // capture of the first point with that change
	Number  *int64    `db:"number"`
}

// Calms lists, for those of the groups that had an unusual change since an instant, the
// newest point before it; none if it is gone.
func (db *DB) Calms(ctx context.Context, groups []string, since time.Time) ([]Calm, error) {
	return list[Calm](ctx, db, "points", `SELECT u.group_id, u.first, (SELECT (seal->>'number')::bigint FROM points p WHERE p.group_id = u.group_id AND p.capture_at < u.first ORDER BY p.capture_at DESC LIMIT 1) AS number
		FROM (SELECT group_id, min(capture_at) AS first FROM points WHERE group_id = ANY($1::uuid[]) AND capture_at > $2 AND seal->>'unusual' <> '' GROUP BY group_id) u`, groups, since)
}

// Marks lists the points of groups without their seals, newest first: what a
// ladder judges by.
func (db *DB) Marks(ctx context.Context, groups []string) ([]Point, error) {
	return list[Point](ctx, db, "points", `SELECT id, group_id, capture_at, held, pinned, pinned_until, pin_reason, pinned_by, locked_until, COALESCE(seal->>'consistency' = 'application', false) AS rests FROM points WHERE group_id = ANY($1::uuid[]) ORDER BY capture_at DESC, id`, groups)
}

// Point finds one.
func (db *DB) Point(ctx context.Context, id string) (Point, error) {
	return get[Point](ctx, db, "point", `SELECT * FROM points WHERE id = $1`, id)
}

// PointIDs lists those that are known, with whether each is held here.
func (db *DB) PointIDs(ctx context.Context) (map[string]bool, error) {
	xs, err := list[Point](ctx, db, "points", `SELECT id, held FROM points`)
	out := map[string]bool{}
	for _, x := range xs {
		out[x.ID] = x.Held
	}
	return out, err
}

// PinPoint writes a point's pin, with its line of the trail.
func (db *DB) PinPoint(ctx context.Context, p Point, a Activity) error {
	return db.together(ctx, "pin", func(tx *sqlx.Tx) error {
		if _, err := named(ctx, tx, "point", `UPDATE points SET pinned = :pinned, pinned_until = :pinned_until, pin_reason = :pin_reason, pinned_by = :pinned_by WHERE id = :id`, p); err != nil {
			return err
		}
		if a.Text == "" {
			return nil
		}
		return addActivity(ctx, tx, a)
	})
}

// LockPoint notes until when one is locked, with its line of the trail if that has a
// text.
func (db *DB) LockPoint(ctx context.Context, id string, until time.Time, a Activity) error {
	return db.together(ctx, "lock", func(tx *sqlx.Tx) error {
		if _, err := exec(ctx, tx, "point", `UPDATE points SET locked_until = $2 WHERE id = $1`, id, until); err != nil {
			return err
		}
		if a.Text == "" {
			return nil
		}
		return addActivity(ctx, tx, a)
	})
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

const totals = `SELECT group_id, held, count(*) AS count, min(capture_at) AS oldest, max(capture_at) AS newest FROM points`

// PointTotals lists the totals of all groups that have points.
func (db *DB) PointTotals(ctx context.Context) ([]PointTotals, error) {
	return list[PointTotals](ctx, db, "points", totals+` GROUP BY group_id, held`)
}

// GroupTotals lists the totals of one group.
func (db *DB) GroupTotals(ctx context.Context, group string) ([]PointTotals, error) {
	return list[PointTotals](ctx, db, "points", totals+` WHERE group_id = $1 GROUP BY group_id, held`, group)
}

// Served is a point that is served over NBD.
type Served struct {
	ID        string    `db:"id"`
	Point     string    `db:"point"`
	Token     string    `db:"token"`
	CreatedBy string    `db:"created_by"`
	CreatedAt time.Time `db:"created_at"`
	Mode      string    `db:"mode"`     // read-only, throw-away or lasting
	Person    *string   `db:"person"`   // whose it is; nil of those from before that was kept
	ByToken   *string   `db:"by_token"` // the token that they served it by, if it was one
}

// AddServed stores one.
func (db *DB) AddServed(ctx context.Context, s Served) error {
	return db.named(ctx, "served point", `INSERT INTO served (id, point, token, mode, created_by, created_at, person, by_token) VALUES (:id, :point, :token, :mode, :created_by, :created_at, :person, :by_token)`, s)
}

// SaveServed writes the secret of a served point's addresses and whose it is.
func (db *DB) SaveServed(ctx context.Context, s Served) error {
	return db.named(ctx, "served point", `UPDATE served SET token = :token, person = :person, by_token = :by_token WHERE id = :id`, s)
}

// Served lists all.
func (db *DB) Served(ctx context.Context) ([]Served, error) {
	return list[Served](ctx, db, "served points", `SELECT * FROM served ORDER BY created_at`)
}

// DeleteServed removes one.
func (db *DB) DeleteServed(ctx context.Context, id string) error {
	return db.exec(ctx, "served point", `DELETE FROM served WHERE id = $1`, id)
}
