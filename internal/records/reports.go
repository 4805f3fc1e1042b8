package records

import (
	"context"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
)

// ReportPlanNameTaken is what a TakenError of a plan's name is about.
const ReportPlanNameTaken = "report_plans_name"

// ReportPlan is a report that is sent by calendar. Its body is in the form of the room that
// keeps it.
type ReportPlan struct {
	ID       string     `db:"id"`
	Name     string     `db:"name"`
	Revision int64      `db:"revision"`
	Body     []byte     `db:"body"`
	MadeAt   time.Time  `db:"made_at"`
	SentFor  *time.Time `db:"sent_for"` // the last time of its calendar that one was sent for
}

// ReportPlans lists all by name.
func (db *DB) ReportPlans(ctx context.Context) ([]ReportPlan, error) {
	return list[ReportPlan](ctx, db, "report plans", `SELECT * FROM report_plans ORDER BY lower(name)`)
}

// PutReportPlan stores one that follows the revision before, 0 of a new one. ErrStale says that
// there is another revision, a TakenError that its name is another's.
func (db *DB) PutReportPlan(ctx context.Context, p ReportPlan) error {
	return db.together(ctx, "report plan", func(tx *sqlx.Tx) error {
		query := `UPDATE report_plans SET name = :name, revision = :revision, body = :body WHERE id = :id AND revision = :revision - 1`
		if p.Revision == 1 {
			query = `INSERT INTO report_plans (id, name, revision, body, made_at) VALUES (:id, :name, :revision, :body, :made_at)`
		}
		n, err := named(ctx, tx, "report plan", query, p)
		if err == nil && n == 0 {
			err = fmt.Errorf("report plan %s: %w", p.Name, ErrStale)
		}
		return err
	})
}

// DeleteReportPlan forgets one.
func (db *DB) DeleteReportPlan(ctx context.Context, id string) error {
	return db.exec(ctx, "report plan", `DELETE FROM report_plans WHERE id = $1`, id)
}

// AddReport stores the messages that tell of a report for a time of a plan's calendar, once: it
// does nothing if one was sent for that time or a later one already.
func (db *DB) AddReport(ctx context.Context, plan string, at time.Time, ms []Message) error {
	return db.together(ctx, "report", func(tx *sqlx.Tx) error {
		n, err := exec(ctx, tx, "report", `UPDATE report_plans SET sent_for = $2 WHERE id = $1 AND (sent_for IS NULL OR sent_for < $2)`, plan, at)
		if err != nil || n == 0 {
			return err
		}
		return addMessages(ctx, tx, ms)
	})
}

// AddMessages stores some, all or none.
func (db *DB) AddMessages(ctx context.Context, ms []Message) error {
	return db.together(ctx, "messages", func(tx *sqlx.Tx) error { return addMessages(ctx, tx, ms) })
}
