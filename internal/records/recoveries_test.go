package records_test

import (
	"context"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/records"
	"kestrel/internal/support/memory"
)

// recoveries is what both databases keep of drills.
type recoveries interface {
	AddRecovery(ctx context.Context, r records.Recovery) error
	SaveRecovery(ctx context.Context, r records.Recovery) error
	Recoveries(ctx context.Context, since time.Time) ([]records.Recovery, error)
	PutScreen(ctx context.Context, recovery, machine string, png []byte) error
	Screen(ctx context.Context, recovery, machine string) ([]byte, error)
	AddEvidence(ctx context.Context, e records.Evidence) error
	AllEvidence(ctx context.Context) ([]records.Evidence, error)
	EvidenceNumber(ctx context.Context, number int64) (records.Evidence, error)
	DrillRounds(ctx context.Context) ([]records.DrillRound, error)
	AddDrillRound(ctx context.Context, r records.DrillRound) error
	BeginDrillRound(ctx context.Context, r records.DrillRound) error
	SaveDrillRound(ctx context.Context, r records.DrillRound) error
	DeleteDrillRound(ctx context.Context, id string) error
}

// Of a group one recovery is open, what is over never changes, evidence has numbers without
// gaps, and a round begins once for a time: in PostgreSQL, and in what stands in for it.
func TestRecoveriesAreKept(t *testing.T) {
	real, err := records.Open(ctx, newURL(t))
	require.NoError(t, err)
	defer func() { require.NoError(t, real.Close()) }()
	for name, db := range map[string]recoveries{"PostgreSQL": real, "memory": memory.New()} {
		t.Run(name, func(t *testing.T) {
			group := uuid.NewString()
			drill := func() records.Recovery {
				return records.Recovery{ID: uuid.NewString(), Kind: "drill", GroupID: group, GroupName: "Gates", Point: uuid.NewString(), State: "starting", StartedBy: "anna", StartedAt: now, Detail: []byte(`{}`)}
			}
			a, b := drill(), drill()
			require.NoError(t, db.AddRecovery(ctx, a))
			require.True(t, records.Taken(db.AddRecovery(ctx, b), records.RecoveryOpen), "one at a time")
			a.State, a.Result, a.EndedAt = "over", "passed", new(now.Add(time.Hour))
			a.Saves = 2
			require.NoError(t, db.SaveRecovery(ctx, a))
			require.ErrorIs(t, db.SaveRecovery(ctx, a), records.ErrStale, "the same save")
			a.Result, a.Saves = "failed", 3
			require.ErrorIs(t, db.SaveRecovery(ctx, a), records.ErrStale, "what is over stays as it is")
			open := drill()
			open.GroupID, open.Saves = uuid.NewString(), 5
			require.NoError(t, db.AddRecovery(ctx, open))
			open.State, open.Saves = "open", 4
			require.ErrorIs(t, db.SaveRecovery(ctx, open), records.ErrStale, "an older save")
			open.State, open.Saves = "over", 6
			require.NoError(t, db.SaveRecovery(ctx, open))
			require.NoError(t, db.AddRecovery(ctx, b), "that is over")
			all, err := db.Recoveries(ctx, now.Add(time.Minute))
			require.NoError(t, err)
			require.Len(t, all, 1, "what is open is never too old")
			all, err = db.Recoveries(ctx, now)
			require.NoError(t, err)
			require.Len(t, all, 3)
			for _, r := range all {
				require.Equal(t, map[string]string{a.ID: "passed", b.ID: ""}[r.ID], r.Result, "what is over stays as it is")
			}
			_, err = db.Screen(ctx, a.ID, "gate")
			require.ErrorIs(t, err, records.ErrNotFound)
			require.NoError(t, db.PutScreen(ctx, a.ID, "gate", []byte("one")))
			require.NoError(t, db.PutScreen(ctx, a.ID, "gate", []byte("two")))
			png, err := db.Screen(ctx, a.ID, "gate")
			require.NoError(t, err)
			require.Equal(t, "two", string(png))

			evidence := func(number int64, of string) error {
				return db.AddEvidence(ctx, records.Evidence{Number: number, RecoveryID: of, GroupID: group, GroupName: "Gates", Kind: "drill", Result: "passed", MadeAt: now, Hash: "h", File: []byte("file")})
			}
			require.ErrorIs(t, evidence(2, a.ID), records.ErrStale, "no gap")
			require.NoError(t, evidence(1, a.ID))
			require.ErrorIs(t, evidence(1, b.ID), records.ErrStale)
			require.ErrorIs(t, evidence(2, a.ID), records.ErrStale, "a drill has one")
			require.NoError(t, evidence(2, b.ID))
			list, err := db.AllEvidence(ctx)
			require.NoError(t, err)
			require.Equal(t, []int64{2, 1}, []int64{list[0].Number, list[1].Number})
			require.Empty(t, list[0].File)
			one, err := db.EvidenceNumber(ctx, 1)
			require.NoError(t, err)
			require.Equal(t, "file", string(one.File))
			_, err = db.EvidenceNumber(ctx, 3)
			require.ErrorIs(t, err, records.ErrNotFound)

			r := records.DrillRound{ID: uuid.NewString(), Name: "Night", Body: []byte(`{}`), MadeAt: now, BegunFor: &now, Pending: []byte(`["x"]`), Refused: []byte(`[]`)}
			require.NoError(t, db.AddDrillRound(ctx, r))
			require.True(t, records.Taken(db.AddDrillRound(ctx, records.DrillRound{ID: uuid.NewString(), Name: "night", Body: []byte(`{}`), MadeAt: now}), records.DrillRoundName))
			require.NoError(t, db.BeginDrillRound(ctx, r))
			require.ErrorIs(t, db.BeginDrillRound(ctx, r), records.ErrStale, "once for a time")
			r.Pending, r.Refused = []byte(`[]`), []byte(`[1]`)
			require.NoError(t, db.SaveDrillRound(ctx, r))
			rounds, err := db.DrillRounds(ctx)
			require.NoError(t, err)
			require.Len(t, rounds, 1)
			require.JSONEq(t, `[1]`, string(rounds[0].Refused))
			r.BegunFor = new(now.Add(time.Hour))
			require.NoError(t, db.BeginDrillRound(ctx, r))
			rounds, err = db.DrillRounds(ctx)
			require.NoError(t, err)
			require.JSONEq(t, `[]`, string(rounds[0].Refused), "what was refused before is of the last time")
			require.NoError(t, db.DeleteDrillRound(ctx, r.ID))
			rounds, err = db.DrillRounds(ctx)
			require.NoError(t, err)
			require.Empty(t, rounds)
		})
	}
}
