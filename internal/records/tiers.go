package records

import (
	"context"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
)

// TierNameTaken is what a TakenError of a tier's name is about.
const TierNameTaken = "tiers_name"

// Tier is a named promise as it is now. Settings are in the form of the directory.
type Tier struct {
	ID       string `db:"id"`
	Name     string `db:"name"`
	Revision int64  `db:"revision"`
	Settings []byte `db:"settings"`
}

// TierRevision is what a tier was from an instant on.
type TierRevision struct {
	Tier     string    `db:"tier"`
	Revision int64     `db:"revision"`
	Settings []byte    `db:"settings"`
	At       time.Time `db:"at"`
	Who      string    `db:"who"`
}

// Tiers lists all.
func (db *DB) Tiers(ctx context.Context) ([]Tier, error) {
	return list[Tier](ctx, db, "tiers", `SELECT * FROM tiers ORDER BY lower(name)`)
}

// PutTier stores a tier that follows the revision before, 0 of a new one, with what it was
// from then on. ErrStale says that there is another revision, a TakenError that its name
// is another's.
func (db *DB) PutTier(ctx context.Context, t Tier, at time.Time, who string) error {
	return db.together(ctx, "tier", func(tx *sqlx.Tx) error {
		query := `UPDATE tiers SET name = $2, revision = $3, settings = $4 WHERE id = $1 AND revision = $3 - 1`
		if t.Revision == 1 {
			query = `INSERT INTO tiers (id, name, revision, settings) VALUES ($1, $2, $3, $4)`
		}
		n, err := exec(ctx, tx, "tier", query, t.ID, t.Name, t.Revision, t.Settings)
		if err != nil {
			return err
		}
		if n == 0 {
			return fmt.Errorf("tier %s: %w", t.Name, ErrStale)
		}
		_, err = exec(ctx, tx, "tier", `INSERT INTO tier_history (tier, revision, settings, at, who) VALUES ($1, $2, $3, $4, $5)`, t.ID, t.Revision, t.Settings, at, who)
		return err
	})
}

// DeleteTier forgets one.
func (db *DB) DeleteTier(ctx context.Context, id string) error {
	return db.exec(ctx, "tier", `DELETE FROM tiers WHERE id = $1`, id)
}

// TierHistory lists what a tier was, newest first.
func (db *DB) TierHistory(ctx context.Context, id string) ([]TierRevision, error) {
	return list[TierRevision](ctx, db, "tier", `SELECT * FROM tier_history WHERE tier = $1 ORDER BY revision DESC`, id)
}
