package records

import (
	"context"
	"time"
)

// Forecast is what was foretold of a group for some time, and what came of it. Worst is
// exposure in seconds, Bytes what crosses the link.
type Forecast struct {
	GroupID    string     `db:"group_id"`
	MadeAt     time.Time  `db:"made_at"`
	Until      time.Time  `db:"until"`
	Worst      int64      `db:"worst"`
	Bytes      int64      `db:"bytes"`
	Within     float64    `db:"within"`
	SeededAt   *time.Time `db:"seeded_at"`
	CameWorst  *int64     `db:"came_worst"` // nil until it is known
	CameBytes  *int64     `db:"came_bytes"`
	CameWithin *float64   `db:"came_within"`
	CameSeeded *time.Time `db:"came_seeded"`
}

// PutForecast stores one, or what came of it.
func (db *DB) PutForecast(ctx context.Context, f Forecast) error {
	return db.named(ctx, "forecast", `INSERT INTO forecasts (group_id, made_at, until, worst, bytes, within, seeded_at, came_worst, came_bytes, came_within, came_seeded)
		VALUES (:group_id, :made_at, :until, :worst, :bytes, :within, :seeded_at, :came_worst, :came_bytes, :came_within, :came_seeded)
		ON CONFLICT (group_id, made_at) DO UPDATE SET came_worst = :came_worst, came_bytes = :came_bytes, came_within = :came_within, came_seeded = :came_seeded`, f)
}

// DueForecasts lists those whose time is over and of which it is not known what came.
func (db *DB) DueForecasts(ctx context.Context, now time.Time) ([]Forecast, error) {
	return list[Forecast](ctx, db, "forecasts", `SELECT * FROM forecasts WHERE came_worst IS NULL AND until <= $1`, now)
}

// Forecasts lists those of a group, newest first.
func (db *DB) Forecasts(ctx context.Context, group string, limit int) ([]Forecast, error) {
	return list[Forecast](ctx, db, "forecasts", `SELECT * FROM forecasts WHERE group_id = $1 ORDER BY made_at DESC LIMIT $2`, group, limit)
}

// NewestForecasts tells when the newest of each group was made, by group.
func (db *DB) NewestForecasts(ctx context.Context) (map[string]time.Time, error) {
	type made struct {
		GroupID string    `db:"group_id"`
		At      time.Time `db:"at"`
	}
	all, err := list[made](ctx, db, "forecasts", `SELECT group_id, max(made_at) AS at FROM forecasts GROUP BY group_id`)
	out := map[string]time.Time{}
	for _, m := range all {
		out[m.GroupID] = m.At
	}
	return out, err
}

// ForecastsMissed lists the newest of each group that is known to have come out, of those
// that ended since an instant and kept its target for less of the time than was foretold, by
// more than two in a hundred.
func (db *DB) ForecastsMissed(ctx context.Context, since time.Time) ([]Forecast, error) {
	return list[Forecast](ctx, db, "forecasts", `SELECT * FROM (SELECT DISTINCT ON (group_id) * FROM forecasts WHERE came_within IS NOT NULL AND until > $1 ORDER BY group_id, made_at DESC) newest WHERE came_within < within - 0.02`, since)
}

// TrimForecasts forgets those that were made before.
func (db *DB) TrimForecasts(ctx context.Context, before time.Time) error {
	return db.exec(ctx, "forecasts", `DELETE FROM forecasts WHERE made_at < $1`, before)
}

// ChangedInHour is how much changed of a group in an hour of the week, 0 being Monday from
// midnight UTC, and within how many seconds of it that was seen.
type ChangedInHour struct {
	GroupID string  `db:"group_id"`
	Hour    int     `db:"hour"`
	Bytes   float64 `db:"bytes"`
	Cycles  int     `db:"cycles"`
}

// ChangedByHour sums up what cycles found changed, by the hour of the week of their start.
func (db *DB) ChangedByHour(ctx context.Context, since time.Time) ([]ChangedInHour, error) {
	return list[ChangedInHour](ctx, db, "cycles", `SELECT group_id,
			((extract(isodow FROM started_at AT TIME ZONE 'UTC')::int - 1) * 24 + extract(hour FROM started_at AT TIME ZONE 'UTC')::int) AS hour,
			sum((detail->'progress'->>'changedBytes')::float8) AS bytes, count(*) AS cycles
		FROM cycles WHERE state = 'sealed' AND started_at > $1 AND detail->'progress'->>'kind' = 'changes'
		GROUP BY 1, 2 ORDER BY 1, 2`, since)
}

// ShippedBetween sums up what crossed the link for a group by cycles that ended in a time.
func (db *DB) ShippedBetween(ctx context.Context, group string, from, to time.Time) (int64, error) {
	out, err := list[int64](ctx, db, "cycles", `SELECT coalesce(sum((detail->'progress'->>'wireBytes')::float8), 0)::bigint FROM cycles WHERE group_id = $1 AND ended_at > $2 AND ended_at <= $3`, group, from, to)
	if err != nil || len(out) == 0 {
		return 0, err
	}
	return out[0], nil
}
