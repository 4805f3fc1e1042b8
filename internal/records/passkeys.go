package records

import (
	"context"
	"time"
)

// Passkey is what somebody signs in with in place of a password.
type Passkey struct {
	ID           string     `db:"id"`
	Person       string     `db:"person"`
	Name         string     `db:"name"`
	CredentialID []byte     `db:"credential_id"`
	Credential   []byte     `db:"credential"` // JSON
	CreatedAt    time.Time  `db:"created_at"`
	LastUsedAt   *time.Time `db:"last_used_at"`
}

// AddPasskey stores one.
func (db *DB) AddPasskey(ctx context.Context, p Passkey) error {
	return db.named(ctx, "passkey", `INSERT INTO passkeys (id, person, name, credential_id, credential, created_at) VALUES (:id, :person, :name, :credential_id, :credential, :created_at)`, p)
}

// Passkeys lists somebody's.
func (db *DB) Passkeys(ctx context.Context, person string) ([]Passkey, error) {
	return list[Passkey](ctx, db, "passkeys", `SELECT * FROM passkeys WHERE person = $1 ORDER BY created_at`, person)
}

// UsePasskey writes what has changed with a use.
func (db *DB) UsePasskey(ctx context.Context, p Passkey) error {
	return db.named(ctx, "passkey", `UPDATE passkeys SET credential = :credential, last_used_at = :last_used_at WHERE id = :id`, p)
}

// DeletePasskey removes one of somebody's.
func (db *DB) DeletePasskey(ctx context.Context, person, id string) error {
	_, err := change[string](ctx, db, "passkey", `DELETE FROM passkeys WHERE person = $1 AND id = $2 RETURNING id::text`, person, id)
	return err
}
