package e2e

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/lab/witness"
	"kestrel/internal/nbd"
	"kestrel/internal/points"
)

// served reads every disk of a point over NBD, compares it with what the
// source held at that instant, and the guests' records with each other.
func (w *world) served(p api.Point) (compared int) { return w.servedAt(w.recovery, p) }

func (w *world) servedAt(s *siteProc, p api.Point) (compared int) {
	w.t.Helper()
	sh := must[api.Served](s, http.MethodPost, "/served", api.NewServed{Point: p.ID})
	var records []witness.Record
	disks := map[string][]*nbd.Conn{}
	for _, d := range sh.Disks {
		u, err := url.Parse(d.URI)
		require.NoError(w.t, err)
		c, err := nbd.Dial(context.Background(), "tcp", u.Host, u.Path[1:], nbd.Options{Contexts: []string{nbd.AllocationContext}})
		require.NoError(w.t, err)
		defer func() { _ = c.Close() }()
		disks[d.Machine] = append(disks[d.Machine], c)
		h := sha256.New()
		_, err = io.Copy(h, io.NewSectionReader(c, 0, c.Size()))
		require.NoError(w.t, err)
		var id string
		for _, m := range p.Machines {
			if m.Name == d.Machine {
				id = m.ID
			}
		}
		if want, ok := w.lab.sum(p.Checkpoint, id, d.Disk); ok {
			require.Equal(w.t, want, hex.EncodeToString(h.Sum(nil)), "point %d, %s %s", p.Number, d.Machine, d.Disk)
			compared++
		}
	}
	for name, cs := range disks {
		r, err := witness.Read(cs[0], cs[len(cs)-1])
		require.NoError(w.t, err, "point %d, %s", p.Number, name)
		records = append(records, r)
	}
	require.NoError(w.t, witness.Together(records), "point %d", p.Number)
	_, pr := call[struct{}](s, http.MethodDelete, "/served/"+sh.ID, nil)
	require.Nil(w.t, pr)
	return compared
}

// A long random run: guests write, cycles run every second, either service is
// killed, the link is cut, both at random moments. In the end every listed
// point is the source at its instant, bit for bit, no point that was ever
// listed is missing, and a check of the store finds nothing.
func TestEveryPointIsTheSourceAtItsInstant(t *testing.T) {
	t.Parallel()
	w := paired(t)
	g := w.protect("Ticketing", promise(60, 1), "tick-db", "tick-app", "tick-web")
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	listed := map[string]bool{}
	note := func() {
		for _, p := range w.recovery.points(g.ID) {
			listed[p.ID] = true
		}
	}
	for i := range 14 {
		// Between the blows cycles run; the wait is what is random, not a
		// condition.
		<-time.After(time.Duration(200+r.IntN(2200)) * time.Millisecond)
		switch what := r.IntN(4); what {
		case 0, 1:
			s := []*siteProc{w.home, w.recovery}[what]
			s.kill()
			s.start()
			t.Logf("blow %d: killed %s", i, s.name)
		case 2:
			w.recovery.relay.setCut(true)
			<-time.After(time.Duration(r.IntN(1500)) * time.Millisecond)
			w.recovery.relay.setCut(false)
			t.Logf("blow %d: cut the link", i)
		default:
			note()
		}
	}
	note()
	newest := w.home.group(g.ID).NewestCaptureAt
	w.eventually("cycles go on after all that", func() bool {
		n := w.home.group(g.ID).NewestCaptureAt
		return n != nil && n.After(*newest) && len(w.recovery.points(g.ID)) > 8
	})
	must[api.Group](w.home, http.MethodPost, "/groups/"+g.ID+"/pause", nil)
	w.eventually("the last cycle has ended", func() bool { return w.home.group(g.ID).Running == nil })

	// Of every byte it is told whose it was, over all that the services and the link went through.
	var cycles, disks [3]int64
	for _, c := range must[[]api.Cycle](w.home, http.MethodGet, "/groups/"+g.ID+"/cycles?limit=500", nil) {
		cycles[0], cycles[1], cycles[2] = cycles[0]+c.ChangedBytes, cycles[1]+c.ShippedBytes, cycles[2]+c.WireBytes
	}
	v := must[api.Carried](w.home, http.MethodGet, "/groups/"+g.ID+"/carried", nil)
	for _, d := range v.Disks {
		disks[0], disks[1], disks[2] = disks[0]+d.ChangedBytes, disks[1]+d.ShippedBytes, disks[2]+d.WireBytes
		require.NotEqual(t, d.Disk, d.Label, "disks are called as people call them")
	}
	require.Equal(t, cycles, disks)
	require.Greater(t, len(v.Disks), len(g.Machines))

	ps := w.recovery.points(g.ID)
	have := map[string]bool{}
	compared := 0
	for _, p := range ps {
		have[p.ID] = true
		require.True(t, p.Held)
		compared += w.served(p)
	}
	for id := range listed {
		require.True(t, have[id], "a point that was listed is missing")
	}
	t.Logf("%d points, %d disks compared bit for bit", len(ps), compared)
	require.Greater(t, compared, 3*len(ps), "nearly every disk has to be compared")
	w.recovery.stop()
	out, err := w.recovery.kestrel(nil, "store", "verify", filepath.Join(w.recovery.dir, "state", "store"))
	require.NoError(t, err, out)
	require.Contains(t, out, "0 faults")
}

// A first copy that is cut off by kills of both sides goes on where it was: the
// disk that reads slowly is not read again from the start.
func TestSeedGoesOnAfterKills(t *testing.T) {
	t.Parallel()
	w := paired(t)
	g := must[api.Group](w.home, http.MethodPost, "/groups", api.NewGroup{Name: "Slow", Machines: []string{"slow"}, Link: "Eastmole", Promise: promised(600, 300)})
	for _, s := range []*siteProc{w.home, w.recovery, w.home} {
		var before int64
		w.eventually("it moves", func() bool {
			x := w.home.group(g.ID)
			if x.Running == nil {
				return x.NewestCaptureAt != nil
			}
			before = x.Running.ReadBytes
			return before > 1<<20
		})
		s.kill()
		s.start()
		w.eventually("it goes on", func() bool {
			x := w.home.group(g.ID)
			return x.NewestCaptureAt != nil || x.Running != nil && x.Running.TotalBytes > 0 && x.Running.ReadBytes >= before/2
		})
	}
	// The point may be known before its cycle is: a kill between the seal and
	// its answer leaves the cycle to find out when it goes on.
	var cs []api.Cycle
	w.eventually("the first copy is sealed", func() bool {
		cs = must[[]api.Cycle](w.home, http.MethodGet, "/groups/"+g.ID+"/cycles", nil)
		return w.home.group(g.ID).NewestCaptureAt != nil && len(cs) > 0 && cs[len(cs)-1].State == "sealed"
	})
	require.Equal(t, int64(1), cs[len(cs)-1].Number, "it is still the first cycle")
	require.Greater(t, cs[len(cs)-1].Attempts, 1)
	ps := w.recovery.points(g.ID)
	require.Positive(t, w.served(ps[len(ps)-1]))
}

// What a person does with a point: export it, check it, serve it to a public
// NBD client.
func TestExportAndPublicClients(t *testing.T) {
	t.Parallel()
	w := paired(t)
	g := w.protect("Ticketing", promise(60, 0), "tick-db", "tick-app")
	p := w.recovery.points(g.ID)[0]
	dir := filepath.Join(w.recovery.files(), "export")
	op := must[api.Operation](w.recovery, http.MethodPost, "/points/"+p.ID+"/export", api.ExportRequest{Directory: dir})
	w.eventually("the export ends", func() bool {
		op = must[api.Operation](w.recovery, http.MethodGet, "/operations/"+op.ID, nil)
		return op.State != api.OperationStateRunning
	})
	require.Equal(t, api.OperationStateDone, op.State, "%+v", op)
	for _, m := range p.Machines {
		for _, d := range m.Disks {
			b, err := os.ReadFile(filepath.Join(dir, fmt.Sprintf("%s.%s.raw", m.Name, d.Key)))
			require.NoError(t, err)
			sum := sha256.Sum256(b)
			want, ok := w.lab.sum(p.Checkpoint, m.ID, d.Key)
			require.True(t, ok)
			require.Equal(t, want, hex.EncodeToString(sum[:]))
		}
	}
	out, err := w.home.kestrel([]string{"KESTREL_LAB_PASSWORD=lab-password"}, "lab", "check", dir, "--lab", w.lab.url, "--checkpoint", p.Checkpoint)
	require.NoError(t, err, out)
	require.Contains(t, out, "consistent up to transaction")
	// Exporting again into the same folder overwrites nothing.
	_, pr := call[api.Operation](w.recovery, http.MethodPost, "/points/"+p.ID+"/export", api.ExportRequest{Directory: dir})
	require.Equal(t, "directory", pr.Errors[0].Field)
	// A byte changed by hand is noticed.
	raw := filepath.Join(dir, "tick-db.disk-1.raw")
	f, err := os.OpenFile(raw, os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte{0x5a, 0xa5, 1, 2, 3}, 9<<20)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	out, err = w.home.kestrel([]string{"KESTREL_LAB_PASSWORD=lab-password"}, "lab", "check", dir, "--lab", w.lab.url, "--checkpoint", p.Checkpoint)
	require.Error(t, err)
	require.Contains(t, out, "differs")

	sh := must[api.Served](w.recovery, http.MethodPost, "/served", api.NewServed{Point: p.ID})
	if _, err := exec.LookPath("qemu-img"); err == nil {
		for _, d := range sh.Disks {
			raw := filepath.Join(t.TempDir(), "out.raw")
			out, err := exec.Command("qemu-img", "convert", "-O", "raw", d.URI, raw).CombinedOutput()
			require.NoError(t, err, "%s", out)
			b, err := os.ReadFile(raw)
			require.NoError(t, err)
			sum := sha256.Sum256(b)
			var id string
			for _, m := range p.Machines {
				if m.Name == d.Machine {
					id = m.ID
				}
			}
			want, _ := w.lab.sum(p.Checkpoint, id, d.Disk)
			require.Equal(t, want, hex.EncodeToString(sum[:]))
		}
	}
	// While it is served it is in use, and a restart goes on serving it.
	_, pr = call[struct{}](w.recovery, http.MethodDelete, "/points/"+p.ID, nil)
	require.Equal(t, http.StatusConflict, pr.Status)
	w.recovery.kill()
	w.recovery.start()
	again := must[[]api.Served](w.recovery, http.MethodGet, "/served", nil)
	require.Equal(t, sh.Disks, again[0].Disks)
}

// A flipped bit in a pack is found and named by the command, with the points
// that lose by it, and its exit code says so.
func TestFlippedBitIsNamedByTheCommand(t *testing.T) {
	t.Parallel()
	w := paired(t)
	g := w.protect("Ticketing", promise(60, 0), "tick-app")
	id := w.recovery.points(g.ID)[0].ID
	w.recovery.kill()
	store := filepath.Join(w.recovery.dir, "state", "store")
	packs, err := filepath.Glob(filepath.Join(store, "packs", "*.pack"))
	require.NoError(t, err)
	f, err := os.OpenFile(packs[0], os.O_RDWR, 0)
	require.NoError(t, err)
	b := make([]byte, 1)
	_, err = f.ReadAt(b, 100_000)
	require.NoError(t, err)
	b[0] ^= 4
	_, err = f.WriteAt(b, 100_000)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	out, err := w.recovery.kestrel(nil, "store", "verify", store)
	var exit *exec.ExitError
	require.ErrorAs(t, err, &exit)
	require.Equal(t, 1, exit.ExitCode())
	require.Contains(t, out, filepath.Base(packs[0]))
	require.Contains(t, out, id)
	s, err := points.OpenForReading(store, points.Options{Now: time.Now})
	require.NoError(t, err)
	rep, err := s.Verify(context.Background(), nil)
	require.NoError(t, err)
	require.Len(t, rep.Faults, 1)
	w.recovery.start()
}
