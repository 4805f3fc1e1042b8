package records

import (
	"context"
	"fmt"
	"regexp"
	"time"

	"kestrel/internal/core/series"
)

// partitioned is a table that is cut by steps of time, and each step by months or days.
type partitioned struct {
	table string // with its step
	kept  time.Duration
	daily bool // a day in one partition: what is kept for a week only
}

func partitions() []partitioned {
	var out []partitioned
	for i, s := range series.Steps() {
		out = append(out, partitioned{"measures_" + s.Name, s.Kept, i == 0})
	}
	for _, s := range steps() {
		out = append(out, partitioned{"tallies_" + s.name, s.kept, false})
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
			// Names and bounds cannot be parameters; they are of our own making.
			q := fmt.Sprintf(`CREATE TABLE IF NOT EXISTS %s_%s PARTITION OF %s FOR VALUES FROM ('%s') TO ('%s')`, p.table, from.Format(form), p.table, from.Format(time.RFC3339), next(from, 1).Format(time.RFC3339))
			if err := db.exec(ctx, "partition", q); err != nil {
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
