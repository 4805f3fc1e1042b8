package records

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"kestrel/internal/core/series"
)

// Steps of tallies.
const (
	ByHour = "hour"
	ByDay  = "day"
)

// Tally is what cycles of a group did in an hour or a day: sums, and the most of one. Times
// are milliseconds, the rest bytes.
type Tally struct {
	GroupID     string    `db:"group_id"`
	Step        string    `db:"step"`
	At          time.Time `db:"at"`
	Sealed      int       `db:"sealed"`
	Failed      int       `db:"failed"`
	Missed      int       `db:"missed"`
	Changed     int64     `db:"changed"`
	Wire        int64     `db:"wire"`
	Took        int64     `db:"took"`
	ChangedMost int64     `db:"changed_most"`
	WireMost    int64     `db:"wire_most"`
	TookMost    int64     `db:"took_most"`
	WaitedMost  int64     `db:"waited_most"`
	DenseMost   int64     `db:"dense_most"`
	ZeroedMost  int64     `db:"zeroed_most"`
}

// counted are the steps by which cycles are counted: of measures, all but the finest.
func counted() []series.Step { return series.Steps()[1:] }

// AddTally enters one cycle into its hour and its day, both or neither. There is a partition
// for that, which KeepPartitions makes in time.
func (db *DB) AddTally(ctx context.Context, t Tally) error {
	return db.together(ctx, "tally", func(tx *sqlx.Tx) error { return addTally(ctx, tx, t) })
}

func addTally(ctx context.Context, x sqlx.ExtContext, t Tally) error {
	at := t.At.UTC()
	for _, s := range counted() {
		t.Step, t.At = s.Name, at.Truncate(s.Long)
		if _, err := named(ctx, x, "tally", `INSERT INTO tallies (group_id, step, at, sealed, failed, missed, changed, wire, took, changed_most, wire_most, took_most, waited_most, dense_most, zeroed_most)
			VALUES (:group_id, :step, :at, :sealed, :failed, :missed, :changed, :wire, :took, :changed, :wire, :took, :waited_most, :dense_most, :zeroed_most)
			ON CONFLICT (step, at, group_id) DO UPDATE SET sealed = tallies.sealed + :sealed, failed = tallies.failed + :failed, missed = tallies.missed + :missed, changed = tallies.changed + :changed, wire = tallies.wire + :wire, took = tallies.took + :took,
			changed_most = greatest(tallies.changed_most, :changed), wire_most = greatest(tallies.wire_most, :wire), took_most = greatest(tallies.took_most, :took), waited_most = greatest(tallies.waited_most, :waited_most),
			dense_most = greatest(tallies.dense_most, :dense_most), zeroed_most = greatest(tallies.zeroed_most, :zeroed_most)`, t); err != nil {
			return err
		}
	}
	return nil
}

// Tallies lists those of all groups that begin in [from, to), by hours or by days.
func (db *DB) Tallies(ctx context.Context, step string, from, to time.Time) ([]Tally, error) {
	return list[Tally](ctx, db, "tallies", `SELECT * FROM tallies WHERE step = $1 AND at >= $2 AND at < $3 ORDER BY at`, step, from, to)
}

// Peak is the most that one cycle of a group found about an hour of the day, in UTC, in
// bytes, and since when it has been counted.
type Peak struct {
	GroupID string    `db:"group_id"`
	Hour    int       `db:"hour"`
	Since   time.Time `db:"since"`
	Changed int64     `db:"changed_most"`
	Dense   int64     `db:"dense_most"`
	Zeroed  int64     `db:"zeroed_most"`
}

// Peaks lists those of all groups since an instant.
func (db *DB) Peaks(ctx context.Context, since time.Time) ([]Peak, error) {
	return list[Peak](ctx, db, "tallies", `SELECT group_id, extract(hour FROM at AT TIME ZONE 'UTC')::int AS hour, min(at) AS since, max(changed_most) AS changed_most, max(dense_most) AS dense_most, max(zeroed_most) AS zeroed_most
		FROM tallies WHERE step = 'hour' AND at >= $1 GROUP BY 1, 2`, since)
}
