package records

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// Safeguards is what a site demands of its people.
type Safeguards struct {
	SecondFactor Tags       `db:"second_factor"` // roles that have to have one
	Consent      Tags       `db:"consent"`       // acts that need a second person
	ConsentHours int        `db:"consent_hours"`
	WaivedUntil  *time.Time `db:"waived_until"` // nobody has to consent until then
}

// Safeguards reads them.
func (db *DB) Safeguards(ctx context.Context) (Safeguards, error) {
	return get[Safeguards](ctx, db, "safeguards", `SELECT second_factor, consent, consent_hours, waived_until FROM safeguards`)
}

// SaveSafeguards writes them but for until when consent is waived.
func (db *DB) SaveSafeguards(ctx context.Context, s Safeguards) error {
	return db.named(ctx, "safeguards", `UPDATE safeguards SET second_factor = :second_factor, consent = :consent, consent_hours = :consent_hours`, s)
}

// WaiveConsent lets everybody act without a second person until a time.
func (db *DB) WaiveConsent(ctx context.Context, until time.Time) error {
	return db.exec(ctx, "safeguards", `UPDATE safeguards SET waived_until = $1`, until)
}

// Administrators counts the people who may do everything and sign in.
func (db *DB) Administrators(ctx context.Context) (int, error) {
	return get[int](ctx, db, "people", `SELECT count(*) FROM people WHERE role = 'administrator' AND tags = '{}' AND NOT disabled`)
}

// SecondFactor is the seed of somebody's one-time codes.
type SecondFactor struct {
	Person      string     `db:"person"`
	Seed        []byte     `db:"seed"` // encrypted
	ConfirmedAt *time.Time `db:"confirmed_at"`
	Step        int64      `db:"step"` // of the code that was used last
	Codes       int        `db:"codes"`
}

// SecondFactor finds somebody's, with how many recovery codes are left.
func (db *DB) SecondFactor(ctx context.Context, person string) (SecondFactor, error) {
	return get[SecondFactor](ctx, db, "second factor", `SELECT f.*, (SELECT count(*) FROM recovery_codes c WHERE c.person = f.person) AS codes FROM second_factors f WHERE f.person = $1`, person)
}

// PutSecondFactor stores one that is not confirmed yet. ErrStale says that there is a
// confirmed one.
func (db *DB) PutSecondFactor(ctx context.Context, person string, seed []byte) error {
	_, err := change[string](ctx, db, "second factor", `INSERT INTO second_factors (person, seed) VALUES ($1, $2)
		ON CONFLICT (person) DO UPDATE SET seed = $2 WHERE second_factors.confirmed_at IS NULL RETURNING person::text`, person, seed)
	return stale(err)
}

// ConfirmSecondFactor makes somebody's good, with the step of the code that showed it and
// the hashes of their recovery codes. ErrStale says that there is none to confirm.
func (db *DB) ConfirmSecondFactor(ctx context.Context, person string, now time.Time, step int64, codes [][]byte) error {
	return db.together(ctx, "second factor", func(tx *sqlx.Tx) error {
		n, err := exec(ctx, tx, "second factor", `UPDATE second_factors SET confirmed_at = $2, step = $3 WHERE person = $1 AND confirmed_at IS NULL`, person, now, step)
		if err != nil {
			return err
		}
		if n == 0 {
			return ErrStale
		}
		for _, c := range codes {
			if _, err := exec(ctx, tx, "recovery code", `INSERT INTO recovery_codes (person, hash) VALUES ($1, $2)`, person, c); err != nil {
				return err
			}
		}
		return nil
	})
}

// UseStep notes that a code was used; ErrStale says that it or a later one was before.
func (db *DB) UseStep(ctx context.Context, person string, step int64) error {
	_, err := change[string](ctx, db, "second factor", `UPDATE second_factors SET step = $2 WHERE person = $1 AND step < $2 RETURNING person::text`, person, step)
	return stale(err)
}

// UseRecoveryCode uses one up. ErrNotFound says that there is no such code.
func (db *DB) UseRecoveryCode(ctx context.Context, person string, hash []byte) error {
	_, err := change[string](ctx, db, "recovery code", `DELETE FROM recovery_codes WHERE person = $1 AND hash = $2 RETURNING person::text`, person, hash)
	return err
}

// DropSecondFactors removes somebody's codes and passkeys.
func (db *DB) DropSecondFactors(ctx context.Context, person string) error {
	return db.together(ctx, "second factors", func(tx *sqlx.Tx) error {
		if _, err := exec(ctx, tx, "passkeys", `DELETE FROM passkeys WHERE person = $1`, person); err != nil {
			return err
		}
		_, err := exec(ctx, tx, "second factor", `DELETE FROM second_factors WHERE person = $1`, person)
		return err
	})
}

// DeleteSecondFactor removes somebody's codes with their recovery codes.
func (db *DB) DeleteSecondFactor(ctx context.Context, person string) error {
	return db.exec(ctx, "second factor", `DELETE FROM second_factors WHERE person = $1`, person)
}

// WithSecondFactor lists the people who have one.
func (db *DB) WithSecondFactor(ctx context.Context) ([]string, error) {
	return list[string](ctx, db, "second factors", `SELECT person::text FROM second_factors WHERE confirmed_at IS NOT NULL UNION SELECT person::text FROM passkeys`)
}

// Consent is an act that waits for a second person, or may be done once since one
// consented.
type Consent struct {
	ID         string     `db:"id"`
	Kind       string     `db:"kind"`
	What       string     `db:"what"`
	Digest     []byte     `db:"digest"` // of what exactly was asked
	Tags       Tags       `db:"tags"`   // of the group that it is on
	OnGroup    bool       `db:"on_group"`
	Person     string     `db:"person"`
	AskedBy    string     `db:"asked_by"`
	AskedAt    time.Time  `db:"asked_at"`
	Until      time.Time  `db:"until"`
	Answer     string     `db:"answer"` // empty, given, refused, withdrawn, expired or used
	AnsweredBy string     `db:"answered_by"`
	AnsweredAt *time.Time `db:"answered_at"`
}

// Consents lists those that are open, and those that were answered after a time, newest
// first.
func (db *DB) Consents(ctx context.Context, after time.Time) ([]Consent, error) {
	return list[Consent](ctx, db, "consents", `SELECT * FROM consents WHERE answer IN ('', 'given') OR answered_at > $1 ORDER BY asked_at DESC`, after)
}

// AddConsent stores one.
func (db *DB) AddConsent(ctx context.Context, c Consent) error {
	return db.named(ctx, "consent", `INSERT INTO consents (id, kind, what, digest, tags, on_group, person, asked_by, asked_at, until)
		VALUES (:id, :kind, :what, :digest, :tags, :on_group, :person, :asked_by, :asked_at, :until)`, c)
}

// AnswerConsent answers one that has another answer now; of several who try it, one does.
// ErrStale says that it has that answer no more.
func (db *DB) AnswerConsent(ctx context.Context, c Consent, was string) error {
	_, err := change[string](ctx, db, "consent", `UPDATE consents SET answer = $2, answered_by = $3, answered_at = $4 WHERE id = $1 AND answer = $5 RETURNING id::text`, c.ID, c.Answer, c.AnsweredBy, c.AnsweredAt, was)
	return stale(err)
}
