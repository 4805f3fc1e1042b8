package records_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/core/series"
	"kestrel/internal/core/span"
	"kestrel/internal/records"
)

// BenchmarkHistory fills 400 days of groups with a cycle every quarter of an hour, says how
// large that is, and reads what a chart of a group needs.
func BenchmarkHistory(b *testing.B) {
	const groups = 200
	url, err := cluster.Database(ctx, fmt.Sprintf("h%d", time.Now().UnixNano()))
	require.NoError(b, err)
	db, err := records.Open(ctx, url)
	require.NoError(b, err)
	defer func() { require.NoError(b, db.Close()) }()
	end := time.Now().UTC().Truncate(span.Day)
	for day := 400; day >= 0; day-- {
		if at := end.AddDate(0, 0, -day); at.Day() == 1 || day < 9 || day == 400 {
			require.NoError(b, db.KeepPartitions(ctx, at))
		}
	}
	var one string
	for i := range groups {
		g := group(fmt.Sprint("Group ", i), fmt.Sprint("m", i))
		require.NoError(b, db.AddGroups(ctx, []records.Group{g}, []records.Activity{{}}))
		one = g.ID
	}
	fill := func(what, q string, args ...any) {
		_, err := db.ExecContext(ctx, q, args...)
		require.NoError(b, err, what)
	}
	for _, s := range series.Steps() {
		fill(s.Name, `INSERT INTO measures SELECT $1, g.id, 'backlog', t, 90, 90 * random() * 1e9, random() * 1e6, random() * 1e10 FROM groups g, generate_series($2::timestamptz, $3, make_interval(secs => $4)) t`, s.Name, end.Add(-min(s.Kept, 399*span.Day)), end, s.Long.Seconds())
	}
	for step, kept := range map[string]time.Duration{records.ByHour: 92 * span.Day, records.ByDay: 399 * span.Day} {
		fill(step, `INSERT INTO tallies SELECT g.id, $1, t, 4, 0, 0, random() * 1e9, random() * 1e9, 40000, 1e9, 1e9, 40000, 300, 0, 0 FROM groups g, generate_series($2::timestamptz, $3, ('1 ' || $1)::interval) t`, step, end.Add(-kept), end)
	}
	fill("arrivals", `INSERT INTO arrivals SELECT g.id, t, t + interval '20 s' FROM groups g, generate_series($1::timestamptz, $2, interval '15 min') t`, end.Add(-399*span.Day), end)
	fill("days", `INSERT INTO attained_days SELECT generate_series($1::timestamptz, $2, interval '1 day')`, end.Add(-399*span.Day), end)
	fill("attained", `INSERT INTO attained SELECT d.at, g.id, 'gold', 86400e9, 1e9, 0, 0, 9e11, d.at FROM groups g, attained_days d`)
	fill("vacuum", `VACUUM ANALYZE`) // as autovacuum does in time
	var sizes []struct {
		Name string `db:"name"`
		Rows int64  `db:"rows"`
		Size int64  `db:"size"`
	}
	require.NoError(b, db.SelectContext(ctx, &sizes, `SELECT split_part(relname, '_', 1) || CASE WHEN relname ~ '_(quarter|hour|day)_' THEN ' by ' || split_part(relname, '_', 2) ELSE '' END AS name, sum(reltuples)::bigint AS rows, sum(pg_total_relation_size(oid))::bigint AS size
		FROM pg_class WHERE relkind = 'r' AND relname ~ '^(measures|tallies|arrivals|attained)' GROUP BY 1 ORDER BY 3 DESC`))
	for _, s := range sizes {
		b.Logf("%-22s %12d rows %10.1f MiB, of %d groups", s.Name, s.Rows, float64(s.Size)/(1<<20), groups)
	}
	for _, days := range []int{1, 8, 33, 92, 399} {
		b.Run(fmt.Sprintf("chart/days=%d", days), func(b *testing.B) {
			from := end.AddDate(0, 0, -days)
			step := series.Choose(from, end, end)
			n := 0
			for b.Loop() {
				ms, err := db.Measures(ctx, step.Name, one, from, end)
				require.NoError(b, err)
				n = len(ms)
				tally := records.ByHour
				if step.Long == span.Day {
					tally = records.ByDay
				}
				_, err = db.TalliesOf(ctx, tally, one, from, end)
				require.NoError(b, err)
			}
			b.ReportMetric(float64(n), "rows")
		})
	}
	for _, days := range []int{1, 30, 365} {
		b.Run(fmt.Sprintf("exposure/days=%d", days), func(b *testing.B) {
			for b.Loop() {
				_, err := db.Arrivals(ctx, one, end.AddDate(0, 0, -days), end)
				require.NoError(b, err)
			}
		})
		b.Run(fmt.Sprintf("crests/days=%d", days), func(b *testing.B) {
			n := 0
			for b.Loop() {
				cs, err := db.Crests(ctx, one, end.AddDate(0, 0, -days), end, 500)
				require.NoError(b, err)
				_, err = db.AttainedOf(ctx, one, end.AddDate(0, 0, -days), end)
				require.NoError(b, err)
				n = len(cs)
			}
			b.ReportMetric(float64(n), "rows")
		})
		b.Run(fmt.Sprintf("attained/groups=%d/days=%d", groups, days), func(b *testing.B) {
			for b.Loop() {
				_, err := db.Attained(ctx, end.AddDate(0, 0, -days), end)
				require.NoError(b, err)
			}
		})
	}
	b.Run(fmt.Sprintf("keep/groups=%d", groups), func(b *testing.B) {
		var ms []records.Measure
		for range groups {
			ms = append(ms, records.Measure{Subject: uuid.NewString(), What: "backlog", At: end, N: 6, Sum: 1, Most: 1})
		}
		for b.Loop() {
			require.NoError(b, db.AddMeasures(ctx, ms))
		}
	})
}
