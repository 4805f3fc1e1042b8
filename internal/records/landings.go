package records

import (
	"context"
	"time"
)

// Landing is a machine made from a point on a platform of this site.
type Landing struct {
	ID        string    `db:"id"`
	Point     string    `db:"point"`
	Platform  string    `db:"platform"`
	Machine   string    `db:"machine"` // ID at home
	Token     string    `db:"token"`
	State     string    `db:"state"`
	CreatedBy string    `db:"created_by"`
	CreatedAt time.Time `db:"created_at"`
	Detail    []byte    `db:"detail"` // JSON
}

// AddLanding stores one.
func (db *DB) AddLanding(ctx context.Context, l Landing) error {
	return db.named(ctx, "landing", `INSERT INTO landings (id, point, platform, machine, token, state, created_by, created_at, detail)
		VALUES (:id, :point, :platform, :machine, :token, :state, :created_by, :created_at, :detail)`, l)
}

// SaveLanding stores state and detail.
func (db *DB) SaveLanding(ctx context.Context, l Landing) error {
	return db.named(ctx, "landing", `UPDATE landings SET state = :state, detail = :detail WHERE id = :id`, l)
}

// Landings lists all.
func (db *DB) Landings(ctx context.Context) ([]Landing, error) {
	return list[Landing](ctx, db, "landings", `SELECT * FROM landings ORDER BY created_at`)
}

// DeleteLanding removes one.
func (db *DB) DeleteLanding(ctx context.Context, id string) error {
	return db.exec(ctx, "landing", `DELETE FROM landings WHERE id = $1`, id)
}
