// Package records keeps a site's records in PostgreSQL.
package records

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"github.com/google/uuid"
	_ "github.com/jackc/pgx/v5/stdlib" // the driver "pgx"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNotFound is wrapped where no such record exists.
var ErrNotFound = errors.New("no such record")

// DB is a site's database.
type DB struct{ *sqlx.DB }

// Open connects to the database at url and brings its tables up to date.
func Open(ctx context.Context, url string) (*DB, error) {
	x, err := sqlx.Open("pgx", url)
	if err != nil {
		return nil, fmt.Errorf("open database: %w", err)
	}
	x.SetMaxOpenConns(16)
	x.SetMaxIdleConns(8)
	if err := x.PingContext(ctx); err != nil {
		_ = x.Close()
		return nil, fmt.Errorf("connect to database: %w", err)
	}
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	p, err := goose.NewProvider(goose.DialectPostgres, x.DB, files)
	if err != nil {
		return nil, fmt.Errorf("read migrations: %w", err)
	}
	if _, err := p.Up(ctx); err != nil {
		_ = x.Close()
		return nil, fmt.Errorf("migrate database: %w", err)
	}
	return &DB{x}, nil
}

// get reads one row.
func get[T any](ctx context.Context, db *DB, what, query string, args ...any) (T, error) {
	var v T
	err := db.GetContext(ctx, &v, query, args...)
	if errors.Is(err, sql.ErrNoRows) {
		return v, fmt.Errorf("%s: %w", what, ErrNotFound)
	}
	if err != nil {
		return v, fmt.Errorf("read %s: %w", what, err)
	}
	return v, nil
}

// list reads rows.
func list[T any](ctx context.Context, db *DB, what, query string, args ...any) ([]T, error) {
	out := []T{}
	if err := db.SelectContext(ctx, &out, query, args...); err != nil {
		return nil, fmt.Errorf("read %s: %w", what, err)
	}
	return out, nil
}

func (db *DB) exec(ctx context.Context, what, query string, args ...any) error {
	if _, err := db.ExecContext(ctx, query, args...); err != nil {
		return fmt.Errorf("write %s: %w", what, err)
	}
	return nil
}

func (db *DB) named(ctx context.Context, what, query string, v any) error {
	if _, err := db.NamedExecContext(ctx, query, v); err != nil {
		return fmt.Errorf("write %s: %w", what, err)
	}
	return nil
}

// Site is this site.
type Site struct {
	ID        string    `db:"id"`
	Name      string    `db:"name"`
	CreatedAt time.Time `db:"created_at"`
}

// Site gives this site's identity, making it on first use.
func (db *DB) Site(ctx context.Context, name string, now time.Time) (Site, error) {
	err := db.exec(ctx, "site", `INSERT INTO site (id, name, created_at) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING`, uuid.NewString(), name, now)
	if err != nil {
		return Site{}, err
	}
	return get[Site](ctx, db, "site", `SELECT id, name, created_at FROM site`)
}

// ErrNotEmpty says that a database belongs to a site already.
var ErrNotEmpty = errors.New("the database holds a site already")

// Adopt writes a site and its groups into an empty database, both or neither. A
// site without an ID gets one.
func (db *DB) Adopt(ctx context.Context, site Site, groups []Group) error {
	if site.ID == "" {
		site.ID = uuid.NewString()
	}
	tx, err := db.BeginTxx(ctx, nil)
	if err != nil {
		return fmt.Errorf("begin: %w", err)
	}
	defer func() { _ = tx.Rollback() }()
	var held int
	if err := tx.GetContext(ctx, &held, `SELECT (SELECT count(*) FROM site) + (SELECT count(*) FROM groups)`); err != nil {
		return fmt.Errorf("look into the database: %w", err)
	}
	if held > 0 {
		return ErrNotEmpty
	}
	if _, err := tx.NamedExecContext(ctx, `INSERT INTO site (id, name, created_at) VALUES (:id, :name, :created_at)`, site); err != nil {
		return fmt.Errorf("write site: %w", err)
	}
	for _, g := range groups {
		if _, err := tx.NamedExecContext(ctx, addGroup, g); err != nil {
			return fmt.Errorf("write group %s: %w", g.Name, err)
		}
	}
	return tx.Commit()
}

// Person may sign in.
type Person struct {
	ID           string    `db:"id"`
	Name         string    `db:"name"`
	PasswordHash string    `db:"password_hash"`
	CreatedAt    time.Time `db:"created_at"`
}

// AddPerson makes one.
func (db *DB) AddPerson(ctx context.Context, p Person) error {
	return db.named(ctx, "person", `INSERT INTO people (id, name, password_hash, created_at) VALUES (:id, :name, :password_hash, :created_at)`, p)
}

// PersonByName finds one.
func (db *DB) PersonByName(ctx context.Context, name string) (Person, error) {
	return get[Person](ctx, db, "person", `SELECT * FROM people WHERE name = $1`, name)
}

// Person finds one by ID.
func (db *DB) Person(ctx context.Context, id string) (Person, error) {
	return get[Person](ctx, db, "person", `SELECT * FROM people WHERE id = $1`, id)
}

// Secret is the hash of a session, a token or a one-time link.
type Secret struct {
	ID         string     `db:"id"`
	Kind       string     `db:"kind"`
	Hash       []byte     `db:"hash"`
	Person     *string    `db:"person"`
	Name       string     `db:"name"`
	CreatedAt  time.Time  `db:"created_at"`
	ExpiresAt  *time.Time `db:"expires_at"`
	LastUsedAt *time.Time `db:"last_used_at"`
}

// AddSecret stores one.
func (db *DB) AddSecret(ctx context.Context, s Secret) error {
	return db.named(ctx, "secret", `INSERT INTO secrets (id, kind, hash, person, name, created_at, expires_at, last_used_at)
		VALUES (:id, :kind, :hash, :person, :name, :created_at, :expires_at, :last_used_at)`, s)
}

// UseSecret finds a valid secret by its hash and notes the use, at most once a
// minute.
func (db *DB) UseSecret(ctx context.Context, kinds []string, hash []byte, now time.Time) (Secret, error) {
	s, err := get[Secret](ctx, db, "secret", `SELECT * FROM secrets WHERE kind = ANY($1) AND hash = $2 AND (expires_at IS NULL OR expires_at > $3)`, kinds, hash, now)
	if err == nil && (s.LastUsedAt == nil || now.Sub(*s.LastUsedAt) > time.Minute) {
		err = db.exec(ctx, "secret", `UPDATE secrets SET last_used_at = $2 WHERE id = $1`, s.ID, now)
	}
	return s, err
}

// TakeSecret removes a secret and gives it: of several callers one gets it.
func (db *DB) TakeSecret(ctx context.Context, kind string, hash []byte, now time.Time) (Secret, error) {
	return get[Secret](ctx, db, "secret", `DELETE FROM secrets WHERE kind = $1 AND hash = $2 AND (expires_at IS NULL OR expires_at > $3) RETURNING *`, kind, hash, now)
}

// Secrets lists those of a kind.
func (db *DB) Secrets(ctx context.Context, kind string, now time.Time) ([]Secret, error) {
	return list[Secret](ctx, db, "secrets", `SELECT * FROM secrets WHERE kind = $1 AND (expires_at IS NULL OR expires_at > $2) ORDER BY created_at`, kind, now)
}

// DeleteSecret removes one of a kind by ID.
func (db *DB) DeleteSecret(ctx context.Context, kind, id string) error {
	_, err := get[string](ctx, db, kind, `DELETE FROM secrets WHERE kind = $1 AND id = $2 RETURNING id::text`, kind, id)
	return err
}

// DeleteExpiredSecrets tidies up.
func (db *DB) DeleteExpiredSecrets(ctx context.Context, now time.Time) error {
	return db.exec(ctx, "secrets", `DELETE FROM secrets WHERE expires_at < $1`, now)
}

// Platform is a connection to a hypervisor manager.
type Platform struct {
	ID        string    `db:"id"`
	Name      string    `db:"name"`
	Kind      string    `db:"kind"`
	Address   string    `db:"address"`
	Username  string    `db:"username"`
	Password  []byte    `db:"password"` // encrypted
	Settings  []byte    `db:"settings"` // JSON, by kind
	CreatedAt time.Time `db:"created_at"`
}

// AddPlatform stores one.
func (db *DB) AddPlatform(ctx context.Context, p Platform) error {
	return db.named(ctx, "platform", `INSERT INTO platforms (id, name, kind, address, username, password, settings, created_at)
		VALUES (:id, :name, :kind, :address, :username, :password, :settings, :created_at)`, p)
}

// Platforms lists all.
func (db *DB) Platforms(ctx context.Context) ([]Platform, error) {
	return list[Platform](ctx, db, "platforms", `SELECT * FROM platforms ORDER BY name`)
}

// DeletePlatform removes one.
func (db *DB) DeletePlatform(ctx context.Context, id string) error {
	return db.exec(ctx, "platform", `DELETE FROM platforms WHERE id = $1`, id)
}

// Invitation lets one site pair with this one, once.
type Invitation struct {
	ID        string     `db:"id"`
	Hash      []byte     `db:"hash"`
	ForSite   string     `db:"for_site"`
	CreatedBy string     `db:"created_by"`
	CreatedAt time.Time  `db:"created_at"`
	ExpiresAt time.Time  `db:"expires_at"`
	UsedAt    *time.Time `db:"used_at"`
}

// AddInvitation stores one.
func (db *DB) AddInvitation(ctx context.Context, i Invitation) error {
	return db.named(ctx, "invitation", `INSERT INTO invitations (id, hash, for_site, created_by, created_at, expires_at)
		VALUES (:id, :hash, :for_site, :created_by, :created_at, :expires_at)`, i)
}

// Invitations lists those that can still be used.
func (db *DB) Invitations(ctx context.Context, now time.Time) ([]Invitation, error) {
	return list[Invitation](ctx, db, "invitations", `SELECT * FROM invitations WHERE used_at IS NULL AND expires_at > $1 ORDER BY created_at`, now)
}

// InvitationByHash finds one, used or not.
func (db *DB) InvitationByHash(ctx context.Context, hash []byte) (Invitation, error) {
	return get[Invitation](ctx, db, "invitation", `SELECT * FROM invitations WHERE hash = $1`, hash)
}

// UseInvitation marks one used; it fails with ErrNotFound if it was.
func (db *DB) UseInvitation(ctx context.Context, id string, now time.Time) error {
	_, err := get[string](ctx, db, "invitation", `UPDATE invitations SET used_at = $2 WHERE id = $1 AND used_at IS NULL RETURNING id::text`, id, now)
	return err
}

// DeleteInvitation withdraws one.
func (db *DB) DeleteInvitation(ctx context.Context, id string) error {
	_, err := get[string](ctx, db, "invitation", `DELETE FROM invitations WHERE id = $1 RETURNING id::text`, id)
	return err
}

// Link is a paired site.
type Link struct {
	ID        string    `db:"id"`
	PeerID    string    `db:"peer_id"`
	PeerName  string    `db:"peer_name"`
	Address   string    `db:"address"`
	PeerKey   []byte    `db:"peer_key"`
	CreatedAt time.Time `db:"created_at"`
	Settings  []byte    `db:"settings"` // JSON; how what we send is compressed and limited
}

// PutLink stores a link, or brings address and key of the peer up to date.
func (db *DB) PutLink(ctx context.Context, l Link) error {
	return db.named(ctx, "link", `INSERT INTO links (id, peer_id, peer_name, address, peer_key, created_at)
		VALUES (:id, :peer_id, :peer_name, :address, :peer_key, :created_at)
		ON CONFLICT (peer_id) DO UPDATE SET peer_name = :peer_name, address = :address, peer_key = :peer_key`, l)
}

// SaveLinkSettings writes what administrators decide of a link.
func (db *DB) SaveLinkSettings(ctx context.Context, id string, settings []byte) error {
	return db.exec(ctx, "link", `UPDATE links SET settings = $2 WHERE id = $1`, id, settings)
}

// Links lists all.
func (db *DB) Links(ctx context.Context) ([]Link, error) {
	return list[Link](ctx, db, "links", `SELECT * FROM links ORDER BY peer_name`)
}

// DeleteLink removes one.
func (db *DB) DeleteLink(ctx context.Context, id string) error {
	return db.exec(ctx, "link", `DELETE FROM links WHERE id = $1`, id)
}

// Activity is one line of the audit trail.
type Activity struct {
	ID      int64     `db:"id"`
	At      time.Time `db:"at"`
	Who     string    `db:"who"`
	Kind    string    `db:"kind"`
	Subject string    `db:"subject"`
	Text    string    `db:"text"`
}

// AddActivity writes a line.
func (db *DB) AddActivity(ctx context.Context, a Activity) error {
	return db.named(ctx, "activity", `INSERT INTO activity (at, who, kind, subject, text) VALUES (:at, :who, :kind, :subject, :text)`, a)
}

// Activity lists lines before an ID (0 for the newest), newest first.
func (db *DB) Activity(ctx context.Context, before int64, limit int, q string) ([]Activity, error) {
	return list[Activity](ctx, db, "activity", `SELECT * FROM activity WHERE ($1 = 0 OR id < $1)
		AND ($3 = '' OR text ILIKE '%' || $3 || '%' OR subject ILIKE '%' || $3 || '%' OR who ILIKE '%' || $3 || '%')
		ORDER BY id DESC LIMIT $2`, before, limit, q)
}

// Operation is long work that survives a restart in the list.
type Operation struct {
	ID        string     `db:"id"`
	Kind      string     `db:"kind"`
	Subject   string     `db:"subject"`
	State     string     `db:"state"`
	StartedAt time.Time  `db:"started_at"`
	EndedAt   *time.Time `db:"ended_at"`
	StartedBy string     `db:"started_by"`
	Detail    []byte     `db:"detail"`
}

// PutOperation stores one.
func (db *DB) PutOperation(ctx context.Context, o Operation) error {
	return db.named(ctx, "operation", `INSERT INTO operations (id, kind, subject, state, started_at, ended_at, started_by, detail)
		VALUES (:id, :kind, :subject, :state, :started_at, :ended_at, :started_by, :detail)
		ON CONFLICT (id) DO UPDATE SET state = :state, ended_at = :ended_at, detail = :detail`, o)
}

// Operations lists the newest.
func (db *DB) Operations(ctx context.Context, limit int) ([]Operation, error) {
	return list[Operation](ctx, db, "operations", `SELECT * FROM operations ORDER BY started_at DESC LIMIT $1`, limit)
}

// Share is a point that is served over NBD.
type Share struct {
	ID        string    `db:"id"`
	Point     string    `db:"point"`
	Token     string    `db:"token"`
	CreatedBy string    `db:"created_by"`
	CreatedAt time.Time `db:"created_at"`
	Mode      string    `db:"mode"` // read-only, throw-away or lasting
}

// AddShare stores one.
func (db *DB) AddShare(ctx context.Context, s Share) error {
	return db.named(ctx, "share", `INSERT INTO shares (id, point, token, mode, created_by, created_at) VALUES (:id, :point, :token, :mode, :created_by, :created_at)`, s)
}

// Shares lists all.
func (db *DB) Shares(ctx context.Context) ([]Share, error) {
	return list[Share](ctx, db, "shares", `SELECT * FROM shares ORDER BY created_at`)
}

// DeleteShare removes one.
func (db *DB) DeleteShare(ctx context.Context, id string) error {
	return db.exec(ctx, "share", `DELETE FROM shares WHERE id = $1`, id)
}
