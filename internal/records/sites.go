package records

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"
)

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

// Adopt writes a site and its groups into an empty database, both or neither. A
// site without an ID gets one.
func (db *DB) Adopt(ctx context.Context, site Site, groups []Group, berths []Berth) error {
	if site.ID == "" {
		site.ID = uuid.NewString()
	}
	return db.together(ctx, "adopt", func(tx *sqlx.Tx) error {
		held, err := get[int](ctx, tx, "database", `SELECT (SELECT count(*) FROM site) + (SELECT count(*) FROM groups)`)
		if err != nil {
			return err
		}
		if held > 0 {
			return ErrNotEmpty
		}
		if _, err := named(ctx, tx, "site", `INSERT INTO site (id, name, created_at) VALUES (:id, :name, :created_at)`, site); err != nil {
			return err
		}
		for _, g := range groups {
			if _, err := named(ctx, tx, "group "+g.Name, addGroup, g); err != nil {
				return err
			}
		}
		for _, b := range berths {
			if _, err := exec(ctx, tx, "berth", `INSERT INTO berths (kind, subject, revision, settings) VALUES ($1, $2, $3, $4)`, b.Kind, b.Subject, b.Revision, b.Settings); err != nil {
				return err
			}
		}
		return nil
	})
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
	NewKey    bool       `db:"new_key"` // a known site may come with another key
	CreatedBy string     `db:"created_by"`
	CreatedAt time.Time  `db:"created_at"`
	ExpiresAt time.Time  `db:"expires_at"`
	UsedAt    *time.Time `db:"used_at"`
}

// AddInvitation stores one.
func (db *DB) AddInvitation(ctx context.Context, i Invitation) error {
	return db.named(ctx, "invitation", `INSERT INTO invitations (id, hash, for_site, new_key, created_by, created_at, expires_at)
		VALUES (:id, :hash, :for_site, :new_key, :created_by, :created_at, :expires_at)`, i)
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
	_, err := change[string](ctx, db, "invitation", `UPDATE invitations SET used_at = $2 WHERE id = $1 AND used_at IS NULL RETURNING id::text`, id, now)
	return err
}

// DeleteInvitation withdraws one.
func (db *DB) DeleteInvitation(ctx context.Context, id string) error {
	_, err := change[string](ctx, db, "invitation", `DELETE FROM invitations WHERE id = $1 RETURNING id::text`, id)
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

// PutLink stores a link, or brings name and address of the peer up to date. It
// never changes the key that a site was paired with: ErrStale says that the site
// is known by another.
func (db *DB) PutLink(ctx context.Context, l Link) error {
	n, err := named(ctx, db, "link", `INSERT INTO links (id, peer_id, peer_name, address, peer_key, created_at)
		VALUES (:id, :peer_id, :peer_name, :address, :peer_key, :created_at)
		ON CONFLICT (peer_id) DO UPDATE SET peer_name = :peer_name, address = :address WHERE links.peer_key = :peer_key`, l)
	if err == nil && n == 0 {
		return fmt.Errorf("link: %w", ErrStale)
	}
	return err
}

// RekeyLink gives a known site another key, which somebody has asked for by an
// invitation that says so.
func (db *DB) RekeyLink(ctx context.Context, l Link) error {
	return db.named(ctx, "link", `UPDATE links SET peer_key = :peer_key, peer_name = :peer_name, address = :address WHERE peer_id = :peer_id`, l)
}

// SaveLinkSettings writes what administrators decide of a link.
func (db *DB) SaveLinkSettings(ctx context.Context, id string, settings []byte) error {
	return db.exec(ctx, "link", `UPDATE links SET settings = $2 WHERE id = $1`, id, settings)
}

// Links lists all.
func (db *DB) Links(ctx context.Context) ([]Link, error) {
	return list[Link](ctx, db, "links", `SELECT * FROM links ORDER BY peer_name`)
}

// DeleteLink removes one; groups that have ended let go of it.
func (db *DB) DeleteLink(ctx context.Context, id string) error {
	return db.together(ctx, "link", func(tx *sqlx.Tx) error {
		if _, err := exec(ctx, tx, "groups", `UPDATE groups SET link = NULL WHERE link = $1`, id); err != nil {
			return err
		}
		_, err := exec(ctx, tx, "link", `DELETE FROM links WHERE id = $1`, id)
		return err
	})
}
