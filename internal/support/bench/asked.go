package bench

import (
	"context"
	"fmt"

	"github.com/jmoiron/sqlx"
)

// asks is what a site has asked of its database so far, as PostgreSQL counts it
// (pg_stat_statements, pg_stat_user_tables).
type asks struct {
	Statements int64
	Cycles     int64 // of groups that are home there, begun so far
	// Whole is how many rows of tables were read from end to end, by table.
	Whole map[string]int64
}

// asks reads them.
func (w *world) asks(ctx context.Context, s *site) (asks, error) {
	out := asks{Whole: map[string]int64{}}
	db, err := sqlx.ConnectContext(ctx, "pgx", w.pg.URL(s.role))
	if err != nil {
		return out, fmt.Errorf("count what %s asks of PostgreSQL: %w", s.role, err)
	}
	defer func() { _ = db.Close() }()
	if _, err := db.ExecContext(ctx, `CREATE EXTENSION IF NOT EXISTS pg_stat_statements`); err != nil {
		return out, fmt.Errorf("count statements: %w", err)
	}
	err = db.GetContext(ctx, &out.Statements, `SELECT coalesce(sum(calls), 0)::bigint FROM pg_stat_statements
		WHERE dbid = (SELECT oid FROM pg_database WHERE datname = current_database()) AND toplevel AND query NOT IN ('BEGIN', 'COMMIT', 'begin', 'commit', 'ROLLBACK', 'rollback')`)
	if err != nil {
		return out, fmt.Errorf("count statements: %w", err)
	}
	if err := db.GetContext(ctx, &out.Cycles, `SELECT coalesce(sum(n), 0)::bigint FROM (SELECT max(number) AS n FROM cycles GROUP BY group_id) AS newest`); err != nil {
		return out, fmt.Errorf("count cycles: %w", err)
	}
	var tables []struct {
		Name string `db:"relname"`
		Rows int64  `db:"seq_tup_read"`
	}
	if err := db.SelectContext(ctx, &tables, `SELECT relname, coalesce(seq_tup_read, 0) AS seq_tup_read FROM pg_stat_user_tables`); err != nil {
		return out, fmt.Errorf("count rows that were read: %w", err)
	}
	for _, t := range tables {
		out.Whole[t.Name] += t.Rows
	}
	return out, nil
}

// mostRead is the table of which most rows were read from end to end since before, with how many.
func (a asks) mostRead(before asks) (table string, rows int64) {
	for t, n := range a.Whole {
		if n -= before.Whole[t]; n > rows || n == rows && t < table {
			table, rows = t, n
		}
	}
	return table, rows
}
