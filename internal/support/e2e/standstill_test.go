package e2e

import (
	"database/sql"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
)

// A site whose process stands still for a minute, and then loses its database for a while, goes
// on by itself: what was missed is shown as missed, what was exposed as exposed, and nothing
// that came before or after is lost.
func TestAStandstillIsShownAsMissed(t *testing.T) {
	t.Parallel()
	w := paired(t)
	g := w.protect("Ticketing", promise(20, 5), "tick-db")
	w.eventually("some cycles have sealed", func() bool { return w.home.group(g.ID).Points > 2 })
	attained := func() api.AttainmentRow {
		return must[api.Attainment](w.home, http.MethodGet, "/attainment", nil).Total
	}
	before := attained()
	const still = time.Minute
	began := time.Now()
	require.NoError(t, w.home.cmd.Process.Signal(syscall.SIGSTOP))
	w.eventually("the other site says so", func() bool { return w.recovery.group(g.ID).Health == "cut off" })
	time.Sleep(still - time.Since(began)) // it stands still for that long by the clock of the host
	require.NoError(t, w.home.cmd.Process.Signal(syscall.SIGCONT))
	goesOn := func(what string) {
		t.Helper()
		since := time.Now()
		w.eventually(what, func() bool {
			x, refused := call[api.Group](w.home, http.MethodGet, "/groups/"+g.ID, nil)
			return refused == nil && x.Health == "on target" && x.NewestCaptureAt != nil && x.NewestCaptureAt.After(since)
		})
	}
	goesOn("it goes on")
	w.eventually("what was missed is counted", func() bool { return attained().Missed >= before.Missed+int(still/(5*time.Second))-4 })
	after := attained()
	require.GreaterOrEqual(t, after.WorstSeconds, int64(still/time.Second))
	require.GreaterOrEqual(t, after.OverSeconds-before.OverSeconds, int64(still/time.Second)-25)
	require.Greater(t, after.Sealed, before.Sealed)
	x := must[api.Exposure](w.home, http.MethodGet, "/groups/"+g.ID+"/exposure", nil)
	require.Equal(t, after.WorstSeconds, x.WorstSeconds, "the curve says the same")

	back := w.home.loseDatabase()
	w.eventually("it says that it is not ready", func() bool {
		res, err := http.Get(w.home.url + "/readyz")
		if err != nil {
			return false
		}
		_ = res.Body.Close()
		return res.StatusCode == http.StatusServiceUnavailable
	})
	back()
	goesOn("it goes on when the database is back")
	again := attained()
	require.GreaterOrEqual(t, again.Sealed, after.Sealed, "what was counted stays counted")
	require.GreaterOrEqual(t, again.WorstSeconds, after.WorstSeconds)
	m := must[api.Measures](w.home, http.MethodGet, "/groups/"+g.ID+"/measures?what=missed", nil)
	require.NotEmpty(t, m.Series)
}

// loseDatabase has a site's database end all connections and take no new ones, until it is called
// back.
func (s *siteProc) loseDatabase() (back func()) {
	t := s.t
	t.Helper()
	u, err := url.Parse(s.db)
	require.NoError(t, err)
	name := strings.TrimPrefix(u.Path, "/")
	u.Path = "/postgres"
	db, err := sql.Open("pgx", u.String())
	require.NoError(t, err)
	allow := func(is bool) {
		_, err := db.ExecContext(t.Context(), fmt.Sprintf(`ALTER DATABASE %q ALLOW_CONNECTIONS %v`, name, is))
		require.NoError(t, err)
	}
	allow(false)
	_, err = db.ExecContext(t.Context(), `SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = $1`, name)
	require.NoError(t, err)
	return func() {
		t.Helper()
		allow(true)
		require.NoError(t, db.Close())
	}
}

// A failover goes its way whatever its databases go through: each site's is lost in every state
// that comes by, for some looks of the service.
func TestAFailoverWhoseDatabasesAreLost(t *testing.T) {
	t.Parallel()
	w := paired(t)
	mole := w.mole()
	g := w.protect("Ticketing", promise(600, 2), "tick-db", "tick-app")
	must[api.BerthView](w.recovery, http.MethodPut, "/groups/"+g.ID+"/berth", api.WriteBerth{Berth: toRun("mole", "vault", "quay", "{name}")})
	f := must[api.Failover](w.recovery, http.MethodPost, "/groups/"+g.ID+"/failovers", api.NewFailover{Planned: new(true), Confirm: new("Ticketing")})
	until := func(state string) (seen []string) {
		t.Helper()
		last := ""
		w.eventually("the failover is "+state, func() bool {
			x, lost := call[api.Failover](w.recovery, http.MethodGet, "/failovers/"+f.ID, nil)
			if lost != nil || x.State == last {
				return lost == nil && x.State == state
			}
			f, last = x, x.State
			seen = append(seen, last)
			for _, s := range []*siteProc{w.recovery, w.home} {
				back := s.loseDatabase()
				time.Sleep(1500 * time.Millisecond) // some looks without it
				back()
			}
			return false
		})
		return seen
	}
	seen := until("open")
	require.Greater(t, len(seen), 2, "%v", seen)
	w.eventually("it can be asked again", func() bool {
		_, lost := call[api.Failover](w.recovery, http.MethodGet, "/failovers/"+f.ID, nil)
		return lost == nil
	})
	require.Equal(t, 2, mole.landed(), "each once")
	require.Zero(t, w.lab.on("tick-db", "tick-app"))
	require.Zero(t, f.LosesSeconds)
	must[api.Failover](w.recovery, http.MethodPost, "/failovers/"+f.ID+"/back-out", api.FailoverBackOut{Confirm: "Ticketing"})
	until("over")
	w.eventually("home runs again, and nothing is left", func() bool {
		return w.lab.on("tick-db", "tick-app") == 2 && mole.landed() == 0
	})
	w.eventually("there is one evidence of it", func() bool {
		r, lost := call[api.EvidenceRegister](w.recovery, http.MethodGet, "/evidence", nil)
		return lost == nil && len(r.Items) == 1
	})
}
