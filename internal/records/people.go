package records

import (
	"context"
	"database/sql/driver"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jmoiron/sqlx"
)

// Tags is a list of words as PostgreSQL keeps it.
type Tags []string

// Scan implements sql.Scanner.
func (t *Tags) Scan(v any) error {
	var out []string
	if err := pgtype.NewMap().SQLScanner(&out).Scan(v); err != nil {
		return fmt.Errorf("read tags: %w", err)
	}
	*t = out
	return nil
}

// Value implements driver.Valuer.
func (t Tags) Value() (driver.Value, error) {
	quoted := make([]string, len(t))
	for i, x := range t {
		quoted[i] = `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(x) + `"`
	}
	return "{" + strings.Join(quoted, ",") + "}", nil
}

// Person may sign in.
type Person struct {
	ID           string    `db:"id"`
	Name         string    `db:"name"`
	PasswordHash string    `db:"password_hash"`
	Role         string    `db:"role"`
	Tags         Tags      `db:"tags"`
	CreatedAt    time.Time `db:"created_at"`
	// Issuer and Subject are who somebody is at the provider where they sign in, and
	// SignedOnAt when they did last; empty of those who have a password here.
	Issuer     string     `db:"issuer"`
	Subject    string     `db:"subject"`
	SignedOnAt *time.Time `db:"signed_on_at"`
	Disabled   bool       `db:"disabled"` // may not sign in, and their tokens are worth nothing meanwhile
}

// AddPerson makes one. Names are taken without regard to case.
func (db *DB) AddPerson(ctx context.Context, p Person) error {
	return db.named(ctx, "person", `INSERT INTO people (id, name, password_hash, role, tags, created_at, issuer, subject, signed_on_at)
		VALUES (:id, :name, :password_hash, :role, :tags, :created_at, :issuer, :subject, :signed_on_at)`, p)
}

// People lists all.
func (db *DB) People(ctx context.Context) ([]Person, error) {
	return list[Person](ctx, db, "people", `SELECT * FROM people ORDER BY lower(name)`)
}

// PersonByName finds one, without regard to case.
func (db *DB) PersonByName(ctx context.Context, name string) (Person, error) {
	return get[Person](ctx, db, "person", `SELECT * FROM people WHERE lower(name) = lower($1)`, name)
}

// PersonBySubject finds who somebody is at a provider.
func (db *DB) PersonBySubject(ctx context.Context, issuer, subject string) (Person, error) {
	return get[Person](ctx, db, "person", `SELECT * FROM people WHERE issuer = $1 AND subject = $2 AND subject <> ''`, issuer, subject)
}

// Person finds one by ID.
func (db *DB) Person(ctx context.Context, id string) (Person, error) {
	return get[Person](ctx, db, "person", `SELECT * FROM people WHERE id = $1`, id)
}

// DeletePerson removes one with their sessions and tokens. ErrStale says that
// nobody would be left who may do everything.
func (db *DB) DeletePerson(ctx context.Context, id string) error {
	return db.keepAnAdministrator(ctx, func(tx *sqlx.Tx) error {
		_, err := exec(ctx, tx, "person", `DELETE FROM people WHERE id = $1`, id)
		return err
	})
}

// ChangePerson writes role, limits and whether somebody is disabled; their sessions end
// if they are. ErrStale says that nobody would be left who may do everything.
func (db *DB) ChangePerson(ctx context.Context, p Person) error {
	return db.keepAnAdministrator(ctx, func(tx *sqlx.Tx) error {
		if p.Disabled {
			if _, err := exec(ctx, tx, "sessions", `DELETE FROM secrets WHERE kind IN ('session', 'reset') AND person = $1`, p.ID); err != nil {
				return err
			}
		}
		_, err := named(ctx, tx, "person", `UPDATE people SET role = :role, tags = :tags, disabled = :disabled, signed_on_at = :signed_on_at WHERE id = :id`, p)
		return err
	})
}

func (db *DB) keepAnAdministrator(ctx context.Context, f func(tx *sqlx.Tx) error) error {
	return db.together(ctx, "person", func(tx *sqlx.Tx) error {
		// Two at once would each see the other's administrator.
		if _, err := exec(ctx, tx, "people", `LOCK TABLE people IN SHARE ROW EXCLUSIVE MODE`); err != nil {
			return err
		}
		const all = `SELECT count(*) FROM people WHERE role = 'administrator' AND tags = '{}' AND NOT disabled`
		before, err := get[int](ctx, tx, "people", all)
		if err != nil {
			return err
		}
		if err := f(tx); err != nil {
			return err
		}
		n, err := get[int](ctx, tx, "people", all)
		if err == nil && n == 0 && before > 0 {
			return fmt.Errorf("the last administrator: %w", ErrStale)
		}
		return err
	})
}

// Secret is the hash of a session, a token or a one-time link, and what it lets do.
type Secret struct {
	ID         string     `db:"id"`
	Kind       string     `db:"kind"`
	Hash       []byte     `db:"hash"`
	Person     *string    `db:"person"`
	Name       string     `db:"name"`
	Role       string     `db:"role"` // of a token or of who uses the link; a session has its person's
	Tags       Tags       `db:"tags"`
	CreatedAt  time.Time  `db:"created_at"`
	ExpiresAt  *time.Time `db:"expires_at"`
	LastUsedAt *time.Time `db:"last_used_at"`
	Origin     string     `db:"origin"`    // where a session was begun from
	UsedFrom   string     `db:"used_from"` // where it was used from last
	Networks   Tags       `db:"networks"`  // a token is good from these only; none is from anywhere
	Parent     *string    `db:"parent"`    // the token that made a token, which goes with it
}

// AddSecret stores one.
func (db *DB) AddSecret(ctx context.Context, s Secret) error {
	if s.Role == "" {
		s.Role = "viewer"
	}
	return db.named(ctx, "secret", `INSERT INTO secrets (id, kind, hash, person, name, role, tags, created_at, expires_at, last_used_at, origin, networks, parent)
		VALUES (:id, :kind, :hash, :person, :name, :role, :tags, :created_at, :expires_at, :last_used_at, :origin, :networks, :parent)`, s)
}

// FindSecret finds a valid secret by its hash.
func (db *DB) FindSecret(ctx context.Context, kinds []string, hash []byte, now time.Time) (Secret, error) {
	return get[Secret](ctx, db, "secret", `SELECT * FROM secrets WHERE kind = ANY($1) AND hash = $2 AND (expires_at IS NULL OR expires_at > $3)`, kinds, hash, now)
}

// NoteUse notes that a secret was used, at most once a minute from one place.
func (db *DB) NoteUse(ctx context.Context, s Secret, from string, now time.Time) error {
	if s.LastUsedAt != nil && now.Sub(*s.LastUsedAt) <= time.Minute && s.UsedFrom == from {
		return nil
	}
	return db.exec(ctx, "secret", `UPDATE secrets SET last_used_at = $2, used_from = $3 WHERE id = $1`, s.ID, now, from)
}

// SetPassword gives somebody another password, and ends their sessions but the one that
// has a hash (nil: all of them). Links to reset the old one are worth nothing then.
func (db *DB) SetPassword(ctx context.Context, person, passwordHash string, stays []byte) error {
	return db.together(ctx, "password", func(tx *sqlx.Tx) error {
		if _, err := exec(ctx, tx, "person", `UPDATE people SET password_hash = $2 WHERE id = $1`, person, passwordHash); err != nil {
			return err
		}
		_, err := exec(ctx, tx, "sessions", `DELETE FROM secrets WHERE kind IN ('session', 'reset') AND person = $1 AND hash IS DISTINCT FROM $2`, person, stays)
		return err
	})
}

// EndSession ends one of somebody's sessions by ID.
func (db *DB) EndSession(ctx context.Context, person, id string) error {
	_, err := change[string](ctx, db, "session", `DELETE FROM secrets WHERE kind = 'session' AND person = $1 AND id = $2 RETURNING id::text`, person, id)
	return err
}

// HasSecret tells whether a secret is there and holds.
func (db *DB) HasSecret(ctx context.Context, kind string, hash []byte, now time.Time) (bool, error) {
	return get[bool](ctx, db, "secret", `SELECT EXISTS (SELECT FROM secrets WHERE kind = $1 AND hash = $2 AND (expires_at IS NULL OR expires_at > $3))`, kind, hash, now)
}

// TakeSecret removes a secret and gives it: of several callers one gets it.
func (db *DB) TakeSecret(ctx context.Context, kind string, hash []byte, now time.Time) (Secret, error) {
	return change[Secret](ctx, db, "secret", `DELETE FROM secrets WHERE kind = $1 AND hash = $2 AND (expires_at IS NULL OR expires_at > $3) RETURNING *`, kind, hash, now)
}

// Secrets lists those of a kind.
func (db *DB) Secrets(ctx context.Context, kind string, now time.Time) ([]Secret, error) {
	return list[Secret](ctx, db, "secrets", `SELECT * FROM secrets WHERE kind = $1 AND (expires_at IS NULL OR expires_at > $2) ORDER BY created_at`, kind, now)
}

// DeleteSecret removes one of a kind by ID.
func (db *DB) DeleteSecret(ctx context.Context, kind, id string) error {
	_, err := change[string](ctx, db, kind, `DELETE FROM secrets WHERE kind = $1 AND id = $2 RETURNING id::text`, kind, id)
	return err
}

// DeleteExpiredSecrets tidies up.
func (db *DB) DeleteExpiredSecrets(ctx context.Context, now time.Time) error {
	return db.exec(ctx, "secrets", `DELETE FROM secrets WHERE expires_at < $1`, now)
}
