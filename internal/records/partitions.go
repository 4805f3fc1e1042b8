package records

import (
	"context"
	"fmt"
	"regexp"
	"time"

	"github.com/jmoiron/sqlx"

	"kestrel/internal/core/series"
)

// partitioned is a table, or a step of one, that is cut by months or days.
type partitioned struct {
	table string
	kept  time.Duration
	daily bool   // a day in one partition: what is kept for a week only
	by    string // column that it is cut by, if what falls into no partition is in one of its own
}

// arrivalsKept is how long exposure can be told exactly.
const arrivalsKept = 400 * 24 * time.Hour

func partitions() []partitioned {
	out := []partitioned{{table: "arrivals", kept: arrivalsKept, by: "sealed_at"}}
	for i, s := range series.Steps() {
		out = append(out, partitioned{table: "measures_" + s.Name, kept: s.Kept, daily: i == 0})
	}
	for _, s := range counted() {
		out = append(out, partitioned{table: "tallies_" + s.Name, kept: s.Kept})
	}
	return out
}

var ending = regexp.MustCompile(`_(\d{4}(?:_\d{2}){1,2})$`)

// KeepPartitions makes the partitions for now and for what comes next, and drops those that
// are over for longer than is kept.
func (db *DB) KeepPartitions(ctx context.Context, now time.Time) error {
	now = now.UTC()
	for _, p := range partitions() {
		form, first, next := "2006_01", time.Date(now.Year(), now.Month(), 1, 0, 0, 0, 0, time.UTC), func(t time.Time, n int) time.Time { return t.AddDate(0, n, 0) }
		if p.daily {
			form, first, next = "2006_01_02", time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, time.UTC), func(t time.Time, n int) time.Time { return t.AddDate(0, 0, n) }
		}
		// The one before as well: a clock may be set back, and cycles end that began in it.
		for n := -1; n <= 1; n++ {
			from := next(first, n)
			if err := db.makePartition(ctx, p, p.table+"_"+from.Format(form), from.Format(time.RFC3339), next(from, 1).Format(time.RFC3339)); err != nil {
				return err
			}
		}
		all, err := list[string](ctx, db, "partitions", `SELECT c.relname FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid WHERE i.inhparent = $1::regclass`, p.table)
		if err != nil {
			return err
		}
		for _, name := range all {
			m := ending.FindStringSubmatch(name)
			if m == nil {
				continue
			}
			from, err := time.Parse(form, m[1])
			if err == nil && now.Sub(next(from, 1)) > p.kept {
				if err := db.exec(ctx, "partition", `DROP TABLE `+name); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// makePartition makes one if it is not there. What lies elsewhere of its time moves into it.
func (db *DB) makePartition(ctx context.Context, p partitioned, name, from, to string) error {
	// Names and bounds cannot be parameters; they are of our own making.
	if p.by == "" {
		return db.exec(ctx, "partition", fmt.Sprintf(`CREATE TABLE IF NOT EXISTS %s PARTITION OF %s FOR VALUES FROM ('%s') TO ('%s')`, name, p.table, from, to))
	}
	var there bool
	if err := db.GetContext(ctx, &there, `SELECT to_regclass($1) IS NOT NULL`, name); err != nil || there {
		return err
	}
	return db.together(ctx, "partition", func(tx *sqlx.Tx) error {
		for _, q := range []string{
			`LOCK TABLE %[2]s`,
			`CREATE TABLE %[1]s (LIKE %[2]s INCLUDING ALL)`,
			`WITH moved AS (DELETE FROM %[2]s_else WHERE %[3]s >= '%[4]s' AND %[3]s < '%[5]s' RETURNING *) INSERT INTO %[1]s SELECT * FROM moved`,
			`ALTER TABLE %[2]s ATTACH PARTITION %[1]s FOR VALUES FROM ('%[4]s') TO ('%[5]s')`,
		} {
			if _, err := exec(ctx, tx, "partition", fmt.Sprintf(q, name, p.table, p.by, from, to)); err != nil {
				return err
			}
		}
		return nil
	})
}
