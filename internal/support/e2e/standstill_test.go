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

	// The database ends all connections, and takes no new ones.
	u, err := url.Parse(w.home.db)
	require.NoError(t, err)
	name := strings.TrimPrefix(u.Path, "/")
	u.Path = "/postgres"
	db, err := sql.Open("pgx", u.String())
	require.NoError(t, err)
	defer func() { _ = db.Close() }()
	allow := func(is bool) {
		_, err := db.ExecContext(t.Context(), fmt.Sprintf(`ALTER DATABASE %q ALLOW_CONNECTIONS %v`, name, is))
		require.NoError(t, err)
	}
	allow(false)
	_, err = db.ExecContext(t.Context(), `SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = $1`, name)
	require.NoError(t, err)
	w.eventually("it says that it is not ready", func() bool {
		res, err := http.Get(w.home.url + "/readyz")
		if err != nil {
			return false
		}
		_ = res.Body.Close()
		return res.StatusCode == http.StatusServiceUnavailable
	})
	allow(true)
	goesOn("it goes on when the database is back")
	again := attained()
	require.GreaterOrEqual(t, again.Sealed, after.Sealed, "what was counted stays counted")
	require.GreaterOrEqual(t, again.WorstSeconds, after.WorstSeconds)
	m := must[api.Measures](w.home, http.MethodGet, "/groups/"+g.ID+"/measures?what=missed", nil)
	require.NotEmpty(t, m.Series)
}
