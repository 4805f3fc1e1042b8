package records

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
)

// LeftOut is a machine that is left out on purpose.
type LeftOut struct {
	Platform string    `db:"platform"`
	Machine  string    `db:"machine"` // ID on the platform
	Name     string    `db:"name"`
	Reason   string    `db:"reason"`
	LeftBy   string    `db:"left_by"`
	At       time.Time `db:"at"`
}

// LeftOut lists them.
func (db *DB) LeftOut(ctx context.Context) ([]LeftOut, error) {
	return list[LeftOut](ctx, db, "machines left out", `SELECT * FROM left_out`)
}

// LeaveOut stores some, all or none; of those that are there the reason is replaced.
func (db *DB) LeaveOut(ctx context.Context, ms []LeftOut) error {
	return db.together(ctx, "machines left out", func(tx *sqlx.Tx) error {
		_, err := named(ctx, tx, "machines left out", `INSERT INTO left_out (platform, machine, name, reason, left_by, at) VALUES (:platform, :machine, :name, :reason, :left_by, :at)
			ON CONFLICT (platform, machine) DO UPDATE SET name = excluded.name, reason = excluded.reason, left_by = excluded.left_by, at = excluded.at`, ms)
		return err
	})
}

// TakeBack forgets that some are left out, all or none.
func (db *DB) TakeBack(ctx context.Context, ms []LeftOut) error {
	return db.together(ctx, "machines left out", func(tx *sqlx.Tx) error {
		for _, m := range ms {
			if _, err := exec(ctx, tx, "machines left out", `DELETE FROM left_out WHERE platform = $1 AND machine = $2`, m.Platform, m.Machine); err != nil {
				return err
			}
		}
		return nil
	})
}

// Coverage is how many machines had which word at an instant.
type Coverage struct {
	At     time.Time
	Counts map[string]int
}

// AddCoverage stores one, and forgets those before an instant.
func (db *DB) AddCoverage(ctx context.Context, c Coverage, forget time.Time) error {
	counts, err := json.Marshal(c.Counts)
	if err != nil {
		return fmt.Errorf("coverage: %w", err)
	}
	return db.together(ctx, "coverage", func(tx *sqlx.Tx) error {
		if _, err := exec(ctx, tx, "coverage", `INSERT INTO coverage (at, counts) VALUES ($1, $2) ON CONFLICT (at) DO UPDATE SET counts = $2`, c.At, counts); err != nil {
			return err
		}
		_, err := exec(ctx, tx, "coverage", `DELETE FROM coverage WHERE at < $1`, forget)
		return err
	})
}

// CoverageSince lists them, oldest first.
func (db *DB) CoverageSince(ctx context.Context, from time.Time) ([]Coverage, error) {
	rows, err := list[struct {
		At     time.Time `db:"at"`
		Counts []byte    `db:"counts"`
	}](ctx, db, "coverage", `SELECT at, counts FROM coverage WHERE at >= $1 ORDER BY at`, from)
	if err != nil {
		return nil, err
	}
	out := []Coverage{}
	for _, r := range rows {
		c := Coverage{At: r.At}
		if err := json.Unmarshal(r.Counts, &c.Counts); err != nil {
			return nil, fmt.Errorf("coverage of %s: %w", r.At, err)
		}
		out = append(out, c)
	}
	return out, nil
}
