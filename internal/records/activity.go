package records

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"kestrel/internal/core/chain"
)

// Activity is one line of the audit trail.
type Activity struct {
	ID       int64     `db:"id"`
	At       time.Time `db:"at"`
	Who      string    `db:"who"`
	Actor    string    `db:"actor"`  // person, token, site or service
	Origin   string    `db:"origin"` // where it came from
	Kind     string    `db:"kind"`
	Subject  string    `db:"subject"`  // what it is about, by name
	Object   string    `db:"object"`   // the same by ID; empty where it has none
	Revision *int64    `db:"revision"` // of the object, after it
	Changes  []byte    `db:"changes"`  // JSON: from what to what
	Text     string    `db:"text"`
	// Number and Hash are its place in the chain; nil and empty of lines from before
	// there was one.
	Number *int64 `db:"number"`
	Hash   []byte `db:"hash"`
}

// Chained is a line as it is hashed; number is what it gets, or has.
func (a Activity) Chained(number int64) chain.Line {
	l := chain.Line{Number: number, At: a.At, Who: a.Who, Actor: a.Actor, Origin: a.Origin, Kind: a.Kind, Subject: a.Subject, Object: a.Object, Changes: a.Changes, Text: a.Text, Hash: a.Hash}
	if a.Revision != nil {
		l.Revision = *a.Revision
	}
	return l
}

// AddActivity writes a line.
func (db *DB) AddActivity(ctx context.Context, a Activity) error {
	return db.together(ctx, "activity", func(tx *sqlx.Tx) error { return addActivity(ctx, tx, a) })
}

// TrailEnd is the newest line of the trail; number 0 if there is none.
type TrailEnd struct {
	Number int64  `db:"number"`
	Hash   []byte `db:"hash"`
}

// addActivity writes a line after the newest. Lines take turns: it comes last in its
// transaction, so that none waits for another longer than for its end.
func addActivity(ctx context.Context, tx *sqlx.Tx, a Activity) error {
	return addActivities(ctx, tx, []Activity{a})
}

// addActivities writes lines in their order, without those that say nothing.
func addActivities(ctx context.Context, tx *sqlx.Tx, as []Activity) error {
	as = slices.DeleteFunc(slices.Clone(as), func(a Activity) bool { return a.Text == "" })
	if len(as) == 0 {
		return nil
	}
	end, err := get[TrailEnd](ctx, tx, "end of the trail", `SELECT number, hash FROM trail_end FOR UPDATE`)
	if err != nil {
		return err
	}
	for i := range as {
		a := &as[i]
		if a.Changes == nil {
			a.Changes = []byte("[]")
		}
		a.At = a.At.UTC().Truncate(time.Microsecond) // as the database keeps it
		end.Number++
		a.Number = new(end.Number)
		if a.Hash, err = chain.Next(end.Hash, a.Chained(*a.Number)); err != nil {
			return err
		}
		end.Hash = a.Hash
	}
	for some := range slices.Chunk(as, fresh) {
		if _, err = named(ctx, tx, "activity", `INSERT INTO activity (at, who, actor, origin, kind, subject, object, revision, changes, text, number, hash)
			VALUES (:at, :who, :actor, :origin, :kind, :subject, :object, :revision, :changes, :text, :number, :hash)`, some); err != nil {
			return err
		}
	}
	_, err = exec(ctx, tx, "end of the trail", `UPDATE trail_end SET number = $1, hash = $2`, end.Number, end.Hash)
	return err
}

// TrailEnd gives the newest line.
func (db *DB) TrailEnd(ctx context.Context) (TrailEnd, error) {
	return get[TrailEnd](ctx, db, "end of the trail", `SELECT number, hash FROM trail_end`)
}

// Trail lists lines in the order of their numbers, after one, at most so many.
func (db *DB) Trail(ctx context.Context, after int64, limit int) ([]Activity, error) {
	return list[Activity](ctx, db, "activity", `SELECT * FROM activity WHERE number > $1 ORDER BY number LIMIT $2`, after, limit)
}

// Unchained counts the lines from before there was a chain.
func (db *DB) Unchained(ctx context.Context) (int64, error) {
	return get[int64](ctx, db, "activity", `SELECT count(*) FROM activity WHERE number IS NULL`)
}

// TrailHead is the newest line of a site's trail as that site signed it.
type TrailHead struct {
	Site      string    `db:"site"`
	Number    int64     `db:"number"`
	Hash      []byte    `db:"hash"`
	At        time.Time `db:"at"`
	Signature []byte    `db:"signature"`
}

// keptHeads is how many heads of a trail are kept: a day each, three years and more.
const keptHeads = 1200

// AddTrailHead keeps one; the first of a number stays.
func (db *DB) AddTrailHead(ctx context.Context, h TrailHead) error {
	return db.together(ctx, "head of a trail", func(tx *sqlx.Tx) error {
		if _, err := named(ctx, tx, "head", `INSERT INTO trail_heads (site, number, hash, at, signature) VALUES (:site, :number, :hash, :at, :signature) ON CONFLICT DO NOTHING`, h); err != nil {
			return err
		}
		_, err := exec(ctx, tx, "heads", `DELETE FROM trail_heads WHERE site = $1 AND number < (SELECT min(number) FROM (SELECT number FROM trail_heads WHERE site = $1 ORDER BY number DESC LIMIT $2) newest)`, h.Site, keptHeads)
		return err
	})
}

// TrailHeads lists those of a site's trail, newest first.
func (db *DB) TrailHeads(ctx context.Context, site string) ([]TrailHead, error) {
	return list[TrailHead](ctx, db, "heads of a trail", `SELECT * FROM trail_heads WHERE site = $1 ORDER BY number DESC`, site)
}

// Sent is the number of the last line that was sent to a log server; 0 for none.
func (db *DB) Sent(ctx context.Context, address string) (int64, error) {
	return get[int64](ctx, db, "what was sent", `SELECT coalesce((SELECT number FROM trail_sent WHERE address = $1), 0)`, address)
}

// SaveSent notes it.
func (db *DB) SaveSent(ctx context.Context, address string, number int64) error {
	return db.exec(ctx, "what was sent", `INSERT INTO trail_sent (address, number) VALUES ($1, $2) ON CONFLICT (address) DO UPDATE SET number = $2`, address, number)
}

// Sought says which lines of the trail are looked for; what is zero does not narrow.
type Sought struct {
	Before       int64 // of lines before this ID
	Limit        int   // the newest so many; 100
	Text         string
	Kind         string    // of what they are about
	By           string    // who begins with this, or the kind of actor
	Since, Until time.Time // at or after, and before
}

// Activity lists lines, newest first.
func (db *DB) Activity(ctx context.Context, f Sought) ([]Activity, error) {
	query, args := `SELECT * FROM activity WHERE true`, []any{}
	add := func(sql string, v any) {
		args = append(args, v)
		query += " AND " + strings.ReplaceAll(sql, "?", fmt.Sprintf("$%d", len(args)))
	}
	if f.Before > 0 {
		add(`id < ?`, f.Before)
	}
	if f.Text != "" {
		add(`(text ILIKE ? OR subject ILIKE ? OR who ILIKE ?)`, "%"+literally(f.Text)+"%")
	}
	if f.Kind != "" {
		add(`kind = ?`, f.Kind)
	}
	if f.By != "" {
		args = append(args, strings.ToLower(f.By))
		add(fmt.Sprintf(`(lower(who) LIKE ? OR actor = $%d)`, len(args)), literally(strings.ToLower(f.By))+"%")
	}
	if !f.Since.IsZero() {
		add(`at >= ?`, f.Since)
	}
	if !f.Until.IsZero() {
		add(`at < ?`, f.Until)
	}
	if f.Limit <= 0 {
		f.Limit = 100
	}
	args = append(args, f.Limit)
	return list[Activity](ctx, db, "activity", query+fmt.Sprintf(` ORDER BY id DESC LIMIT $%d`, len(args)), args...)
}

// literally keeps what people type from being a pattern.
func literally(text string) string {
	return strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(text)
}

// Edits lists the lines of an object that led to revisions after one, oldest first.
func (db *DB) Edits(ctx context.Context, object string, after int64) ([]Activity, error) {
	return list[Activity](ctx, db, "activity", `SELECT * FROM activity WHERE object = $1 AND object <> '' AND revision > $2 ORDER BY revision, id`, object, after)
}
