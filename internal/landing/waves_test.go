package landing_test

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/core/berth"
	"kestrel/internal/problem"
	"kestrel/internal/support/rooms"
)

// inWaves has tick-db arrive in the first wave, whose check is a port and which a command
// comes before, and tick-app in the second.
func inWaves(r *rig, in *api.NewLanding) {
	db, app := arrives("tick-db", berth.Leave), arrives("tick-app", berth.Leave)
	db.Wave, db.Before.Text, db.After.Text = 1, "open-gate", ""
	app.Wave, app.After.Text = 2, ""
	r.arrivals = []berth.Arrival{db, app}
	r.waves = []berth.Wave{{Number: 1, Check: "port 5432", Wait: 30 * time.Second, Limit: 2 * time.Minute}, {Number: 2, Check: berth.CheckAgent}}
	in.Machines, in.Berth = nil, new("live")
}

// begun starts both in waves.
func (r *rig) begun() (db, app string) {
	after(6 * time.Second)
	in := r.ask()
	inWaves(r, &in)
	return r.both(in)
}

func (r *rig) both(in api.NewLanding) (db, app string) {
	r.t.Helper()
	ls, err := r.l.Create(r.t.Context(), rooms.Anna(), in, false)
	require.NoError(r.t, err)
	require.Len(r.t, ls, 2)
	for _, l := range ls {
		if l.Machine == "tick-db" {
			db = l.ID
		} else {
			app = l.ID
		}
	}
	return db, app
}

func (h *hypervisor) answers(port string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.ports = map[string]bool{port: true}
}

// The second wave starts once the check of the first has passed and its wait is over, also
// if the service was restarted meanwhile; and what was to run before ran once.
func TestMachinesStartInWaves(t *testing.T) {
	for _, how := range []string{"at-once", "copied"} {
		virtual(t, func(t *testing.T, r *rig) {
			after(6 * time.Second)
			in := r.ask()
			in.How = &how
			inWaves(r, &in)
			db, app := r.both(in)
			after(time.Minute)
			require.Equal(t, []string{"open-gate for tick-db as tick-db-em"}, r.h.fitted)
			require.NotNil(t, r.get(db).StartedAt)
			require.Nil(t, r.get(app).StartedAt)
			require.Equal(t, "It waits until tick-db-em, of wave 1, takes connections on port 5432.", *r.get(app).Note)
			require.Equal(t, map[string]api.LandingState{"at-once": api.LandingStateWaiting, "copied": api.LandingStateCopying}[how], r.get(app).State)
			require.Equal(t, "Not yet: Nobody takes connections there: connection refused.", *r.get(db).Check)

			r.halt()
			r.start()
			r.h.answers(db + ":5432")
			after(20 * time.Second)
			require.Contains(t, *r.get(db).Check, "It takes connections on port 5432, ")
			require.Nil(t, r.get(app).StartedAt, "its wait is not over")
			require.Contains(t, *r.get(app).Note, "after wave 1.")
			after(20 * time.Second)
			require.NotNil(t, r.get(app).StartedAt)
			require.Contains(t, *r.get(app).Check, "It has an agent that answers, ")
			require.Nil(t, r.get(app).Note)
			require.Equal(t, 2, *r.get(app).Wave)
			require.Len(t, r.h.fitted, 1)
			after(time.Minute)
			require.Equal(t, api.LandingStateLocal, r.get(app).State)
		})
	}
}

// A check that does not pass within its limit is said so, and what comes after starts.
func TestACheckThatNeverPasses(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		db, app := r.begun()
		after(2*time.Minute + 20*time.Second)
		require.Equal(t, "Not within 2 min: Nobody takes connections there: connection refused. What comes after it was started all the same.", *r.get(db).Check)
		require.Nil(t, r.get(app).StartedAt)
		after(20 * time.Second)
		require.NotNil(t, r.get(app).StartedAt)
	})
}

// A machine that was removed holds up nobody.
func TestARemovedMachineHoldsUpNobody(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		db, app := r.begun()
		after(10 * time.Second)
		require.NoError(t, r.l.Remove(t.Context(), rooms.Anna(), db))
		after(time.Second)
		require.NotNil(t, r.get(app).StartedAt)
	})
}

// A command that fails keeps the machine from starting, and is tried again.
func TestACommandBeforeThatFails(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		r.h.broken = errors.New("open-gate: exit status 3: the gate is stuck")
		db, _ := r.begun()
		after(30 * time.Second)
		require.Nil(t, r.get(db).StartedAt)
		require.Equal(t, "The command before its start: open-gate: exit status 3: the gate is stuck", *r.get(db).Error)
		r.h.mu.Lock()
		r.h.broken = nil
		r.h.mu.Unlock()
		after(11 * time.Second)
		require.NotNil(t, r.get(db).StartedAt)
		require.Nil(t, r.get(db).Error)
	})
}

// A machine is switched once it runs, and what cannot be is refused.
func TestSwitchingALandedMachine(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		db, app := r.begun()
		after(10 * time.Second)
		refused := func(id, to, part string) {
			t.Helper()
			p, ok := problem.Of(r.l.Switch(t.Context(), rooms.Anna(), id, to))
			require.True(t, ok)
			require.Contains(t, p.Error(), part)
		}
		refused(app, "off", "starts by itself")
		refused(db, "sideways", "none of on, off, shut-down")
		refused("nobody", "off", "nobody")
		require.NoError(t, r.l.Switch(t.Context(), rooms.Anna(), db, "shut-down"))
		require.Equal(t, 1, r.h.times("switch shut-down"))
		_, err := r.l.Screen(t.Context(), db)
		require.ErrorContains(t, err, "shows nothing")
	})
}
