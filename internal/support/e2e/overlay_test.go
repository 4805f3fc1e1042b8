package e2e

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
)

func qemu(t *testing.T, tool string, args ...string) string {
	t.Helper()
	out, err := exec.Command(tool, args...).CombinedOutput()
	require.NoError(t, err, "%s %s: %s", tool, strings.Join(args, " "), out)
	return string(out)
}

// A point is served read-only, or writable over an overlay that is thrown away
// or that lasts: to several public clients at once, with zero areas told, and
// the point itself never changes.
func TestServedPointsAreWrittenOver(t *testing.T) {
	t.Parallel()
	w := paired(t)
	g := w.protect("Ticketing", promise(3600, 0), "tick-app")
	p := w.recovery.points(g.ID)[0]
	serve := func(mode string) (string, api.ServedDisk) {
		sh := must[api.Served](w.recovery, http.MethodPost, "/served", api.NewServed{Point: p.ID, Mode: &mode})
		require.Equal(t, mode, sh.Mode)
		return sh.ID, sh.Disks[0]
	}
	written := func(id string) int64 {
		for _, s := range must[[]api.Served](w.recovery, http.MethodGet, "/served", nil) {
			if s.ID == id {
				return s.WrittenBytes
			}
		}
		return -1
	}
	_, pr := call[api.Served](w.recovery, http.MethodPost, "/served", api.NewServed{Point: p.ID, Mode: new("sticky")})
	require.Equal(t, "mode", pr.Errors[0].Field)

	_, reading := serve("read-only")
	_, err := exec.Command("qemu-io", "-f", "raw", "-c", "write -P 0x5a 64k 4k", reading.URI).CombinedOutput()
	require.Error(t, err)
	whole := filepath.Join(t.TempDir(), "whole.raw")
	qemu(t, "qemu-img", "convert", "-f", "raw", "-O", "raw", reading.URI, whole)
	want, ok := w.lab.sum(p.Checkpoint, p.Machines[0].ID, reading.Disk)
	require.True(t, ok)
	require.Equal(t, want, sumFile(t, whole))
	var areas []struct {
		Length int64
		Zero   bool
	}
	require.NoError(t, json.Unmarshal([]byte(qemu(t, "qemu-img", "map", "-f", "raw", "--output=json", reading.URI)), &areas))
	var zero int64
	for _, a := range areas {
		if a.Zero {
			zero += a.Length
		}
	}
	require.Positive(t, zero, "zero areas are told, so that they can be skipped")

	lastingID, lasting := serve("lasting")
	awayID, away := serve("throw-away")
	for _, d := range []api.ServedDisk{lasting, away} {
		qemu(t, "qemu-io", "-f", "raw", "-c", "write -P 0x5a 100k 5000", "-c", "write -z 2M 1M", "-c", "discard 4M 64k", "-c", "flush", d.URI)
		// Another client, at the same time as a third one, sees it.
		hold := exec.Command("qemu-io", "-f", "raw", "-r", d.URI)
		in, err := hold.StdinPipe()
		require.NoError(t, err)
		require.NoError(t, hold.Start())
		require.Contains(t, qemu(t, "qemu-io", "-f", "raw", "-r", "-c", "read -P 0x5a 100k 5000", "-c", "read -P 0 2M 1M", d.URI), "read 5000/5000")
		require.NoError(t, in.Close())
		require.NoError(t, hold.Wait())
	}
	require.Positive(t, written(awayID))
	kept := written(lastingID)
	require.Positive(t, kept)

	w.recovery.kill()
	w.recovery.start()
	require.Zero(t, written(awayID), "thrown away with the restart")
	require.Equal(t, kept, written(lastingID))
	require.NotContains(t, qemu(t, "qemu-io", "-f", "raw", "-r", "-c", "read -P 0x5a 100k 5000", lasting.URI), "Pattern verification failed")
	changed := filepath.Join(t.TempDir(), "changed.raw")
	qemu(t, "qemu-img", "convert", "-f", "raw", "-O", "raw", lasting.URI, changed)
	b, err := os.ReadFile(whole)
	require.NoError(t, err)
	copy(b[100<<10:], strings.Repeat("\x5a", 5000))
	clear(b[2<<20 : 3<<20])
	clear(b[4<<20 : 4<<20+64<<10])
	got, err := os.ReadFile(changed)
	require.NoError(t, err)
	require.True(t, string(b) == string(got), "what was written and what was not")
	again := filepath.Join(t.TempDir(), "again.raw")
	qemu(t, "qemu-img", "convert", "-f", "raw", "-O", "raw", reading.URI, again)
	require.Equal(t, want, sumFile(t, again), "the point is as it was")

	_, pr = call[struct{}](w.recovery, http.MethodDelete, "/served/"+lastingID, nil)
	require.Nil(t, pr)
	left, err := os.ReadDir(filepath.Join(w.recovery.dir, "state", "overlays", lastingID))
	require.True(t, os.IsNotExist(err), "%v", left)
}

func sumFile(t *testing.T, path string) string {
	t.Helper()
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}
