package records

import (
	"context"
	"fmt"

	"github.com/jmoiron/sqlx"
)

// Berth is what was said of how machines arrive: for a group, or as the default of a link
// or platform. Settings are in the form of the berths.
type Berth struct {
	Kind     string `db:"kind"` // group, link or platform
	Subject  string `db:"subject"`
	Revision int64  `db:"revision"`
	Settings []byte `db:"settings"`
}

// Berths lists all.
func (db *DB) Berths(ctx context.Context) ([]Berth, error) {
	return list[Berth](ctx, db, "berths", `SELECT kind, subject, revision, settings FROM berths ORDER BY kind, subject`)
}

// PutBerth stores one that follows the revision before, 0 of a new one. ErrStale says that
// there is another revision.
func (db *DB) PutBerth(ctx context.Context, b Berth) error {
	return db.together(ctx, "berth", func(tx *sqlx.Tx) error {
		query := `UPDATE berths SET revision = $3, settings = $4 WHERE kind = $1 AND subject = $2 AND revision = $3 - 1`
		if b.Revision == 1 {
			query = `INSERT INTO berths (kind, subject, revision, settings) VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING`
		}
		n, err := exec(ctx, tx, "berth", query, b.Kind, b.Subject, b.Revision, b.Settings)
		if err == nil && n == 0 {
			err = fmt.Errorf("berth of %s %s: %w", b.Kind, b.Subject, ErrStale)
		}
		return err
	})
}
