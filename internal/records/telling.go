package records

import (
	"context"

	"github.com/jmoiron/sqlx"
)

type tellingKey struct{}

// pending is a line of the trail that waits for what it tells of.
type pending struct {
	line Activity
	told bool
}

// Telling gives a context under which the next thing that is written is written
// together with a line of the trail: both or neither. Told says whether that was done;
// it is for one caller at a time.
func Telling(ctx context.Context, a Activity) (_ context.Context, told func() bool) {
	p := &pending{line: a}
	return context.WithValue(ctx, tellingKey{}, p), func() bool { return p.told }
}

// due is the line that waits under a context, if there is one.
func due(ctx context.Context) *pending {
	p, _ := ctx.Value(tellingKey{}).(*pending)
	if p == nil || p.told {
		return nil
	}
	return p
}

// alone runs one statement, in a transaction if a line of the trail waits for it.
func (db *DB) alone(ctx context.Context, what string, f func(x sqlx.ExtContext) error) error {
	if due(ctx) == nil {
		return f(db)
	}
	return db.together(ctx, what, func(tx *sqlx.Tx) error { return f(tx) })
}
