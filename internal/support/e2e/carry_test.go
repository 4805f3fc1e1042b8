package e2e

import (
	"net/http"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/lab"
)

// An image that was carried over by hand, in an open format, leaves little to
// ship for the first copy; it goes when its time is over.
func TestFirstCopyFromAnImageCarriedOver(t *testing.T) {
	t.Parallel()
	// Its guest writes little, however long the test takes.
	calm := lab.ScenarioMachine{Name: "calm", Folder: "/test", Guest: "Linux", CPUs: 1, MemGiB: 1, Network: "lan", Address: "10.0.0.9",
		Disks: []lab.ScenarioDisk{{Label: "root", SizeMiB: 12.25, UsedMiB: 8, Noise: 0.5}}, Workload: lab.Workload{Seed: 7, RecordsPerS: 1}}
	w := &world{t: t, lab: newLab(t, "lab-password", calm), home: newSite(t, "Norhaven"), recovery: newSite(t, "Eastmole")}
	w.pair()
	g := w.protect("Ticketing", promise(3600, 0), "calm")
	p := w.recovery.points(g.ID)[0]
	whole := must[[]api.Cycle](w.home, http.MethodGet, "/groups/"+g.ID+"/cycles", nil)[0].ShippedBytes
	dir := filepath.Join(w.recovery.files(), "carried")
	end := func(op api.Operation) api.Operation {
		w.eventually("the work ends", func() bool {
			op = must[api.Operation](w.recovery, http.MethodGet, "/operations/"+op.ID, nil)
			return op.State != api.OperationStateRunning
		})
		return op
	}
	op := end(must[api.Operation](w.recovery, http.MethodPost, "/points/"+p.ID+"/export", api.ExportRequest{Directory: dir, Format: new("qcow2")}))
	require.Equal(t, api.OperationStateDone, op.State, "%v", op.Message)
	images, err := filepath.Glob(filepath.Join(dir, "*.qcow2"))
	require.NoError(t, err)
	require.Len(t, images, len(p.Machines[0].Disks))
	for i, d := range p.Machines[0].Disks {
		qemu(t, "qemu-img", "check", "-f", "qcow2", images[i])
		raw := images[i] + ".raw"
		qemu(t, "qemu-img", "convert", "-f", "qcow2", "-O", "raw", images[i], raw)
		want, ok := w.lab.sum(p.Checkpoint, p.Machines[0].ID, d.Key)
		require.True(t, ok)
		require.Equal(t, want, sumFile(t, raw))
	}
	_, pr := call[struct{}](w.home, http.MethodDelete, "/groups/"+g.ID+"?points=delete", nil)
	require.Nil(t, pr)
	w.recovery.kill() // the pack that is written to is not swept
	w.recovery.start()
	w.eventually("its room is given back", func() bool {
		w.do(w.recovery, http.MethodPost, "/store/sweep")
		s := must[api.Store](w.recovery, http.MethodGet, "/store", nil)
		return s.Points == 0 && s.Records == 0
	})

	bad := filepath.Join(dir, "bad.qcow2")
	require.NoError(t, os.WriteFile(bad, []byte("QFI\xfbnonsense"), 0o600))
	for _, path := range []string{bad, "relative.raw", filepath.Join(dir, "none.raw"), dir} {
		_, pr := call[api.Operation](w.recovery, http.MethodPost, "/copies", api.NewCopy{Path: path})
		require.NotNil(t, pr, path)
		require.Equal(t, "path", pr.Errors[0].Field)
	}
	for _, image := range images {
		op = end(must[api.Operation](w.recovery, http.MethodPost, "/copies", api.NewCopy{Path: image}))
		require.Equal(t, api.OperationStateDone, op.State, "%v", op.Message)
	}
	copies := must[[]api.Copy](w.recovery, http.MethodGet, "/copies", nil)
	require.Len(t, copies, len(images))
	w.do(w.recovery, http.MethodPost, "/store/sweep") // takes nothing of it
	require.Zero(t, must[api.Store](w.recovery, http.MethodGet, "/store", nil).Points)

	again := w.protect("Ticketing again", promise(3600, 0), "calm")
	c := must[[]api.Cycle](w.home, http.MethodGet, "/groups/"+again.ID+"/cycles", nil)[0]
	require.Equal(t, "seed", c.Kind)
	require.Less(t, c.ShippedBytes, whole/5, "only what the guest has written since")
	require.Positive(t, w.served(w.recovery.points(again.ID)[0]))
	for _, c := range copies {
		_, pr := call[struct{}](w.recovery, http.MethodDelete, "/copies/"+c.ID, nil)
		require.Nil(t, pr)
	}
	w.do(w.recovery, http.MethodPost, "/store/sweep")
	require.Empty(t, must[[]api.Copy](w.recovery, http.MethodGet, "/copies", nil))
	require.Positive(t, w.served(w.recovery.points(again.ID)[0]), "what points share with it stays")
}
