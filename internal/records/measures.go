package records

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"kestrel/internal/core/series"
)

// Measure is what was measured of something in a step of time.
type Measure struct {
	Subject string    `db:"subject"` // ID of a group, a link, or this site for its stores
	What    string    `db:"what"`
	At      time.Time `db:"at"` // beginning of the step, or within it when it is added
	N       int       `db:"n"`
	Sum     float64   `db:"sum"`
	Least   float64   `db:"least"`
	Most    float64   `db:"most"`
}

// Bucket is what was measured.
func (m Measure) Bucket() series.Bucket {
	return series.Bucket{N: m.N, Sum: m.Sum, Least: m.Least, Most: m.Most}
}

// AddMeasures enters some into all of their steps, all or none. There are partitions for
// that, which KeepPartitions makes in time.
func (db *DB) AddMeasures(ctx context.Context, ms []Measure) error {
	var subjects, whats []string
	var ats []time.Time
	var ns []int32
	var sums, leasts, mosts []float64
	for _, m := range ms {
		subjects, whats, ats, ns = append(subjects, m.Subject), append(whats, m.What), append(ats, m.At.UTC()), append(ns, int32(m.N))
		sums, leasts, mosts = append(sums, m.Sum), append(leasts, m.Least), append(mosts, m.Most)
	}
	return db.together(ctx, "measures", func(tx *sqlx.Tx) error {
		for _, s := range series.Steps() {
			// In one order, so that two that write at once do not wait for each other.
			if _, err := exec(ctx, tx, "measures", `INSERT INTO measures (step, subject, what, at, n, sum, least, most)
				SELECT $1, subject, what, date_bin(make_interval(secs => $2), at, timestamptz '2000-01-01 00:00Z') AS bin, sum(n), sum(sum), min(least), max(most)
				FROM unnest($3::uuid[], $4::text[], $5::timestamptz[], $6::int[], $7::float8[], $8::float8[], $9::float8[]) AS x (subject, what, at, n, sum, least, most)
				GROUP BY subject, what, bin ORDER BY subject, what, bin
				ON CONFLICT (step, subject, what, at) DO UPDATE SET n = measures.n + excluded.n, sum = measures.sum + excluded.sum, least = least(measures.least, excluded.least), most = greatest(measures.most, excluded.most)`,
				s.Name, s.Long.Seconds(), subjects, whats, ats, ns, sums, leasts, mosts); err != nil {
				return err
			}
		}
		return nil
	})
}

// Measures lists what was measured of something in [from, to), oldest first, by steps of a
// name.
func (db *DB) Measures(ctx context.Context, step, subject string, from, to time.Time) ([]Measure, error) {
	return list[Measure](ctx, db, "measures", `SELECT subject, what, at, n, sum, least, most FROM measures WHERE step = $1 AND subject = $2 AND at >= $3 AND at < $4 ORDER BY what, at`, step, subject, from, to)
}

// TalliesOf is Tallies of one group.
func (db *DB) TalliesOf(ctx context.Context, step, group string, from, to time.Time) ([]Tally, error) {
	return list[Tally](ctx, db, "tallies", `SELECT * FROM tallies WHERE step = $1 AND group_id = $2 AND at >= $3 AND at < $4 ORDER BY at`, step, group, from, to)
}
