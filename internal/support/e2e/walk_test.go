package e2e

import (
	"encoding/json"
	"errors"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"

	_ "github.com/jackc/pgx/v5/stdlib" // the driver "pgx"
)

func openDB(t *testing.T, url string) *sqlx.DB {
	t.Helper()
	db, err := sqlx.Open("pgx", url)
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	return db
}

// Every step of a first day, from the command line.
func TestTheFirstDayOnTheCommandLine(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	k := func(code int, args ...string) string {
		t.Helper()
		out, err := w.home.kestrel(nil, args...)
		var exit *exec.ExitError
		got := 0
		if errors.As(err, &exit) {
			got = exit.ExitCode()
		}
		require.Equal(t, code, got, "kestrel %s: %s", strings.Join(args, " "), out)
		return out
	}
	k(3, "status") // not signed in yet
	k(6, "login", "http://"+freeAddr(t), "--user", person)
	k(0, "login", w.recovery.url, "--user", person)
	k(0, "login", w.home.url, "--user", person)
	require.Contains(t, k(0, "profile", "list"), "eastmole")
	require.Contains(t, k(0, "status"), "Nothing is protected yet")

	platform := func(code int, secret string, more ...string) string {
		cmd := exec.Command(binary, append([]string{"platform", "add", "harbour", w.lab.url, "--user", "lab"}, more...)...)
		cmd.Stdin = strings.NewReader(secret)
		cmd.Env = append(os.Environ(), "KESTREL_PROFILES="+filepath.Join(w.home.dir, "profiles.json"))
		out, _ := cmd.CombinedOutput()
		require.Equal(t, code, cmd.ProcessState.ExitCode(), "%s", out)
		return string(out)
	}
	require.Contains(t, platform(1, "wrong", "--test-only"), "✕  credentials")
	require.Contains(t, platform(0, "lab-password", "--test-only"), "✓  inventory")
	platform(0, "lab-password")
	require.Contains(t, k(0, "machine", "list", "--coverage", "cannot be"), "It has no disks")
	require.Contains(t, k(0, "machine", "list", "--search", "gold tick-app"), "tick-app")

	text := strings.Fields(k(0, "link", "invite", "--for", "Eastmole"))[0]
	require.Contains(t, k(0, "-p", "eastmole", "link", "accept", text), "Norhaven")
	k(5, "-p", "eastmole", "link", "accept", text) // one use
	require.Contains(t, k(0, "link", "test", "Eastmole"), "✓  clock")

	k(2, "group", "create", "Ticketing", "-m", "tick-db", "--to", "Eastmole")
	out := k(5, "group", "create", "Ticketing", "-m", "tick-db", "--to", "Eastmole", "--rpo", "1min", "--every", "1min", "--dry-run")
	require.Contains(t, out, "cannot keep")
	k(5, "group", "create", "Ticketing", "-m", "bare", "--to", "Eastmole", "--rpo", "2min", "--every", "1min")
	out = k(0, "group", "create", "Ticketing", "-m", "tick-db", "-m", "tick-app", "--to", "Eastmole", "--rpo", "10min", "--every", "5min", "--keep", "all 6h, 1h 2d", "--wait")
	require.Contains(t, out, "on target")
	require.Contains(t, k(0, "group", "run", "Ticketing", "--wait"), "changes")
	require.Contains(t, k(0, "group", "pause", "Ticketing"), "paused")
	k(5, "group", "run", "Ticketing")
	require.Contains(t, k(0, "-p", "eastmole", "group", "resume", "Ticketing"), "Ticketing") // asked at the other site
	require.False(t, must[[]api.Group](w.home, http.MethodGet, "/groups", nil)[0].Paused)
	require.Contains(t, k(0, "group", "edit", "Ticketing", "--every", "4min"), "every 4 min")
	require.Contains(t, k(0, "group", "cycles", "Ticketing"), "seed")
	require.Contains(t, k(0, "group", "exposure", "Ticketing"), "Kept its target")
	require.Contains(t, k(0, "tide", "--once"), "Ticketing")
	w.eventually("the edit is mirrored", func() bool {
		return strings.Contains(k(0, "-p", "eastmole", "group", "show", "Ticketing"), "every 4 min")
	})

	require.Contains(t, k(0, "point", "list", "-g", "Ticketing"), "there")
	k(5, "point", "export", "Ticketing", "--to", filepath.Join(w.home.files(), "x")) // held at the other site
	dir := filepath.Join(w.recovery.files(), "export")
	require.Contains(t, k(0, "-p", "eastmole", "point", "export", "Ticketing:1", "--to", dir, "-m", "tick-db"), "every block checked")
	files, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Len(t, files, 2)
	k(0, "-p", "eastmole", "point", "pin", "Ticketing:1", "--for", "30d")
	k(2, "-p", "eastmole", "point", "delete", "Ticketing:1")          // asks, and nobody answers
	k(5, "-p", "eastmole", "point", "delete", "Ticketing:1", "--yes") // pinned
	k(5, "-p", "eastmole", "point", "delete", "Ticketing", "--yes")   // the newest
	k(4, "-p", "eastmole", "point", "delete", "Ticketing:99", "--yes")
	k(0, "-p", "eastmole", "point", "unpin", "Ticketing:1")
	k(0, "-p", "eastmole", "point", "delete", "Ticketing:1", "--yes")
	require.Contains(t, k(0, "-p", "eastmole", "store", "verify"), "All good")
	var shares []api.Served
	k(0, "-p", "eastmole", "point", "serve", "Ticketing")
	require.NoError(t, json.Unmarshal([]byte(k(0, "-p", "eastmole", "point", "served", "-o", "json")), &shares))
	require.Len(t, shares, 1)
	k(0, "-p", "eastmole", "point", "stop-serving", shares[0].ID)

	k(2, "group", "delete", "Ticketing", "--points", "keep")
	k(0, "group", "delete", "Ticketing", "--points", "keep", "--confirm", "Ticketing")
	k(4, "group", "show", "Ticketing")
	require.Contains(t, k(0, "-p", "eastmole", "group", "list"), "ended")
	require.Len(t, must[[]api.Point](w.recovery, http.MethodGet, "/points", nil), 1, "the points were kept")
	w.eventually("the platform holds no checkpoint of ours", func() bool { return len(w.lab.Checkpoints()) == 0 })
	k(0, "-p", "eastmole", "group", "delete", "Ticketing", "--points", "delete", "--confirm", "Ticketing")
	require.Empty(t, must[[]api.Point](w.recovery, http.MethodGet, "/points", nil))
	k(0, "link", "remove", "Eastmole")
	require.Empty(t, must[[]api.Link](w.recovery, http.MethodGet, "/links", nil), "the other side knows")
	require.Contains(t, k(0, "activity"), "deleted the group Ticketing")
	require.Contains(t, k(0, "completion", "bash"), "kestrel")
}

// While the link is cut, exposure rises at both sites alike and both say so;
// when it is back, the backlog crosses.
func TestCutOffIsSeenAtBothSites(t *testing.T) {
	t.Parallel()
	w := paired(t)
	g := w.protect("Ticketing", promise(3600, 2), "tick-db")
	w.recovery.relay.setCut(true)
	w.home.relay.setCut(true)
	for _, s := range []*siteProc{w.home, w.recovery} {
		w.eventually(s.name+" sees that it is cut off", func() bool { return s.group(g.ID).Health == "cut off" })
	}
	a, b := w.home.group(g.ID), w.recovery.group(g.ID)
	require.InDelta(t, *a.ExposureSeconds, *b.ExposureSeconds, 2)
	require.NotEmpty(t, a.Reasons)
	require.Equal(t, "cut off", must[api.Board](w.home, http.MethodGet, "/board", nil).Needs[0].State)
	w.recovery.relay.setCut(false)
	w.home.relay.setCut(false)
	w.eventually("cycles go on", func() bool {
		x := w.home.group(g.ID)
		return x.Health == "on target" && x.NewestCaptureAt.After(a.NewestCaptureAt.Add(time.Second))
	})
}

// Only what changed is read and shipped, a second machine from the same
// template ships little, and what nothing needs any more is given back.
func TestCyclesShipOnlyWhatIsNew(t *testing.T) {
	t.Parallel()
	w := paired(t)
	g := w.protect("Ticketing", promise(3600, 0), "tick-app")
	seed := *w.home.group(g.ID).LastCycle
	require.Equal(t, "seed", seed.Kind)
	w.eventually("the guest writes", func() bool {
		cps := w.lab.Checkpoints()
		require.Len(t, cps, 1)
		cp, err := w.lab.CheckpointNamed(cps[0].Name)
		return err == nil && cp.Disks[0].DirtyBytes > 0
	})
	must[api.Group](w.home, http.MethodPost, "/groups/"+g.ID+"/run", nil)
	w.eventually("a second cycle seals", func() bool { return w.home.group(g.ID).LastCycle.Number == 2 && w.home.group(g.ID).Running == nil })
	c := *w.home.group(g.ID).LastCycle
	require.Equal(t, "changes", c.Kind)
	require.Positive(t, c.ChangedBytes)
	require.Less(t, c.ReadBytes, seed.ReadBytes)
	require.LessOrEqual(t, c.ShippedBytes, c.ChangedBytes)
	second := w.protect("Second", promise(3600, 0), "spare")
	twin := *w.home.group(second.ID).LastCycle
	require.Less(t, twin.ShippedBytes, twin.ReadBytes*3/4, "the template was there already")
	_, p := call[struct{}](w.home, http.MethodDelete, "/groups/"+g.ID+"?points=delete", nil)
	require.Nil(t, p)
	w.eventually("the points are gone at the other site", func() bool { return len(must[[]api.Point](w.recovery, http.MethodGet, "/points", nil)) == 1 })
	ps := w.recovery.points(second.ID)
	w.served(ps[0])
}

// A lost dirty bitmap makes the next cycle compare by hash: everything is
// read, little is shipped, the cycle says why, and the point is right.
func TestLostBitmapIsComparedByHash(t *testing.T) {
	t.Parallel()
	w := paired(t)
	g := w.protect("Ticketing", promise(3600, 0), "tick-db", "tick-app")
	w.eventually("the base is released", func() bool { cps := w.lab.Checkpoints(); return len(cps) == 1 && !cps[0].Open })
	require.NoError(t, w.lab.Forget(w.lab.Checkpoints()[0].Name))
	must[api.Group](w.home, http.MethodPost, "/groups/"+g.ID+"/run", nil)
	w.eventually("a second cycle seals", func() bool { return w.home.group(g.ID).LastCycle.Number == 2 && w.home.group(g.ID).Running == nil })
	c := *w.home.group(g.ID).LastCycle
	require.Equal(t, "compare", c.Kind)
	require.Contains(t, *c.Note, "no longer tracks changes")
	require.Less(t, c.ShippedBytes, c.ReadBytes/2)
	w.eventually("the instant is known", func() bool {
		p := w.recovery.points(g.ID)[0]
		_, ok := w.lab.sum(p.Checkpoint, p.Machines[0].ID, "disk-0")
		return ok
	})
	require.Equal(t, 3, w.served(w.recovery.points(g.ID)[0]))
}
