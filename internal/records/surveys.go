package records

import (
	"context"
	"time"
)

// Survey watches how much machines change.
type Survey struct {
	ID        string     `db:"id"`
	Name      string     `db:"name"`
	StartedAt time.Time  `db:"started_at"`
	EndsAt    time.Time  `db:"ends_at"`
	EndedAt   *time.Time `db:"ended_at"`
	StartedBy string     `db:"started_by"`
	Machines  []byte     `db:"machines"` // JSON, of the room that watches
}

// SurveySample is what had changed of a machine a while after an instant.
type SurveySample struct {
	Survey       string    `db:"survey"`
	Machine      string    `db:"machine"`
	FromAt       time.Time `db:"from_at"`
	AfterSeconds int64     `db:"after_seconds"`
	Bytes        int64     `db:"bytes"`
}

// Surveys lists all, newest first.
func (db *DB) Surveys(ctx context.Context) ([]Survey, error) {
	return list[Survey](ctx, db, "surveys", `SELECT * FROM surveys ORDER BY started_at DESC, id`)
}

// PutSurvey stores one, anew or over what it was.
func (db *DB) PutSurvey(ctx context.Context, s Survey) error {
	return db.named(ctx, "survey", `INSERT INTO surveys (id, name, started_at, ends_at, ended_at, started_by, machines) VALUES (:id, :name, :started_at, :ends_at, :ended_at, :started_by, :machines)
		ON CONFLICT (id) DO UPDATE SET name = excluded.name, ends_at = excluded.ends_at, ended_at = excluded.ended_at, machines = excluded.machines`, s)
}

// DeleteSurvey forgets one with its samples.
func (db *DB) DeleteSurvey(ctx context.Context, id string) error {
	return db.exec(ctx, "survey", `DELETE FROM surveys WHERE id = $1`, id)
}

// AddSurveySample stores one; one that is there already stays.
func (db *DB) AddSurveySample(ctx context.Context, s SurveySample) error {
	return db.named(ctx, "survey", `INSERT INTO survey_samples (survey, machine, from_at, after_seconds, bytes) VALUES (:survey, :machine, :from_at, :after_seconds, :bytes) ON CONFLICT DO NOTHING`, s)
}

// SurveySamples lists those of a survey, oldest first.
func (db *DB) SurveySamples(ctx context.Context, survey string) ([]SurveySample, error) {
	return list[SurveySample](ctx, db, "survey", `SELECT * FROM survey_samples WHERE survey = $1 ORDER BY from_at, machine, after_seconds`, survey)
}
