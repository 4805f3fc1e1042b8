package records

import (
	"context"
	"fmt"

	"github.com/jmoiron/sqlx"
)

// DNSServerName is what a TakenError of a second DNS server of a name is about.
const DNSServerName = "dns_servers_name"

// DNSServer is one whose names steps of runbooks change. Its secret is sealed.
type DNSServer struct {
	ID        string `db:"id"`
	Name      string `db:"name"`
	Address   string `db:"address"` // HOST:PORT
	KeyName   string `db:"key_name"`
	Algorithm string `db:"algorithm"`
	Secret    []byte `db:"secret"`
	Names     string `db:"names"` // that may be changed, between spaces
}

// DNSServers lists all, by name.
func (db *DB) DNSServers(ctx context.Context) ([]DNSServer, error) {
	return list[DNSServer](ctx, db, "DNS servers", `SELECT * FROM dns_servers ORDER BY lower(name)`)
}

// AddDNSServer stores one. A TakenError says that there is another of its name.
func (db *DB) AddDNSServer(ctx context.Context, s DNSServer) error {
	return db.named(ctx, "DNS server", `INSERT INTO dns_servers (id, name, address, key_name, algorithm, secret, names) VALUES (:id, :name, :address, :key_name, :algorithm, :secret, :names)`, s)
}

// DeleteDNSServer removes one; ErrNotFound if it is not there.
func (db *DB) DeleteDNSServer(ctx context.Context, id string) error {
	return db.alone(ctx, "DNS server", func(x sqlx.ExtContext) error {
		n, err := exec(ctx, x, "DNS server", `DELETE FROM dns_servers WHERE id = $1`, id)
		if err == nil && n == 0 {
			err = fmt.Errorf("DNS server %s: %w", id, ErrNotFound)
		}
		return err
	})
}
