// Package records keeps a site's records in PostgreSQL. What the database can
// guarantee it guarantees: that names and machines are taken once, that an edit
// rests on the revision it was made of, that a line of the trail is written with
// what it tells of.
package records

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Errors that are wrapped.
var (
	// ErrNotFound says that no such record exists.
	ErrNotFound = errors.New("no such record")
	// ErrStale says that a record has changed since it was read.
	ErrStale = errors.New("it has changed meanwhile")
	// ErrNotEmpty says that a database belongs to a site already.
	ErrNotEmpty = errors.New("the database holds a site already")
	// ErrLost says that somebody else has taken up the work.
	ErrLost = errors.New("somebody else works on it")
)

// TakenError says that something that may exist once exists already.
type TakenError struct{ Constraint string }

// Error implements error.
func (e *TakenError) Error() string { return "taken already (" + e.Constraint + ")" }

// Taken tells whether an error says so of a constraint.
func Taken(err error, constraint string) bool {
	var t *TakenError
	return errors.As(err, &t) && t.Constraint == constraint
}

// Constraints that callers ask about.
const (
	GroupNameTaken   = "groups_name"
	MachineTaken     = "group_machines_pkey"
	LinkKeyTaken     = "links_key"
	PlatformNameUsed = "platforms_name_key"
)

const uniqueViolation = "23505"

func mapped(err error) error {
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == uniqueViolation {
		return &TakenError{pg.ConstraintName}
	}
	return err
}

// Away tells that an error came of a database that does not answer, or is shutting
// down: what was asked may be asked again.
func Away(err error) bool {
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		// Class 08 is of connections, 57P of a server that stops or starts, 53300 of
		// too many clients (PostgreSQL, appendix A).
		return strings.HasPrefix(pg.Code, "08") || strings.HasPrefix(pg.Code, "57P") || pg.Code == "53300"
	}
	var connecting *pgconn.ConnectError
	return errors.As(err, &connecting) || errors.Is(err, driver.ErrBadConn) || errors.Is(err, sql.ErrConnDone) || pgconn.SafeToRetry(err)
}

// DB is a site's database.
type DB struct{ *sqlx.DB }

// Open connects to the database at url and brings its tables up to date; of
// several services that start at once, one does that.
func Open(ctx context.Context, url string) (*DB, error) {
	cfg, err := pgx.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("open database: %w", err)
	}
	// Questions here are short, and touch many partitions: to compile them takes longer than to
	// answer them.
	cfg.RuntimeParams["jit"] = "off"
	x := sqlx.NewDb(stdlib.OpenDB(*cfg), "pgx")
	x.SetMaxOpenConns(16)
	x.SetMaxIdleConns(8)
	if err := x.PingContext(ctx); err != nil {
		_ = x.Close()
		return nil, fmt.Errorf("connect to database: %w", err)
	}
	if err := migrate(ctx, x.DB); err != nil {
		_ = x.Close()
		return nil, fmt.Errorf("migrate database: %w", err)
	}
	return &DB{x}, nil
}

func migrate(ctx context.Context, db *sql.DB) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	locker, err := lock.NewPostgresSessionLocker()
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectPostgres, db, files, goose.WithSessionLocker(locker))
	if err != nil {
		return err
	}
	_, err = p.Up(ctx)
	return err
}

// get reads one row.
func get[T any](ctx context.Context, q sqlx.QueryerContext, what, query string, args ...any) (T, error) {
	var v T
	err := sqlx.GetContext(ctx, q, &v, query, args...)
	if errors.Is(err, sql.ErrNoRows) {
		return v, fmt.Errorf("%s: %w", what, ErrNotFound)
	}
	if err != nil {
		return v, fmt.Errorf("read %s: %w", what, err)
	}
	return v, nil
}

// list reads rows.
func list[T any](ctx context.Context, q sqlx.QueryerContext, what, query string, args ...any) ([]T, error) {
	out := []T{}
	if err := sqlx.SelectContext(ctx, q, &out, query, args...); err != nil {
		return nil, fmt.Errorf("read %s: %w", what, err)
	}
	return out, nil
}

// exec writes, and tells how many rows that touched.
func exec(ctx context.Context, x sqlx.ExecerContext, what, query string, args ...any) (int64, error) {
	res, err := x.ExecContext(ctx, query, args...)
	if err != nil {
		return 0, fmt.Errorf("write %s: %w", what, mapped(err))
	}
	return res.RowsAffected()
}

// named writes a record by its fields' names, and tells how many rows that touched.
func named(ctx context.Context, x sqlx.ExtContext, what, query string, v any) (int64, error) {
	res, err := sqlx.NamedExecContext(ctx, x, query, v)
	if err != nil {
		return 0, fmt.Errorf("write %s: %w", what, mapped(err))
	}
	return res.RowsAffected()
}

func (db *DB) exec(ctx context.Context, what, query string, args ...any) error {
	return db.alone(ctx, what, func(x sqlx.ExtContext) error {
		_, err := exec(ctx, x, what, query, args...)
		return err
	})
}

func (db *DB) named(ctx context.Context, what, query string, v any) error {
	return db.alone(ctx, what, func(x sqlx.ExtContext) error {
		_, err := named(ctx, x, what, query, v)
		return err
	})
}

// change writes one row and gives what the statement returns of it.
func change[T any](ctx context.Context, db *DB, what, query string, args ...any) (v T, err error) {
	err = db.alone(ctx, what, func(x sqlx.ExtContext) (err error) {
		v, err = get[T](ctx, x, what, query, args...)
		return err
	})
	return v, err
}

// together runs f in a transaction: all of it is written or none, with the line of the
// trail that waits for it.
func (db *DB) together(ctx context.Context, what string, f func(tx *sqlx.Tx) error) error {
	tx, err := db.BeginTxx(ctx, nil)
	if err != nil {
		return fmt.Errorf("%s: begin: %w", what, err)
	}
	defer func() { _ = tx.Rollback() }()
	if err := f(tx); err != nil {
		return err
	}
	line := due(ctx)
	if line != nil {
		if err := addActivity(ctx, tx, line.line); err != nil {
			return err
		}
	}
	if err := tx.Commit(); err != nil {
		return fmt.Errorf("%s: commit: %w", what, mapped(err))
	}
	if line != nil {
		line.told = true
	}
	return nil
}

// stale says that a row which a change needs is not as it has to be.
func stale(err error) error {
	if errors.Is(err, ErrNotFound) {
		return ErrStale
	}
	return err
}
