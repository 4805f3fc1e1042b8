package libvirt_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	rpc "github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/nbd"
	"kestrel/internal/platform"
	"kestrel/internal/platform/libvirt"
	"kestrel/internal/platform/platformtest"
	"kestrel/internal/support/realsite"
)

// smallDisk mounts a file system of some MiB that the hypervisor may write to.
func smallDisk(t *testing.T, mib int) string {
	t.Helper()
	dir, err := os.MkdirTemp("/var/tmp", "kt-small-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, fmt.Sprintf("size=%dm,mode=0777", mib)); err != nil {
		t.Skipf("FULL SCRATCH SPACE IS NOT TESTED: only root can mount a small file system (%v)", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
	return dir
}

// Scratch space that runs full must cost the point, never the guest.
func TestScratchSpaceRunsFull(t *testing.T) {
	t.Parallel()
	p := need(t)
	ctx := within(t, 9*time.Minute)
	id := deckhand(t, ctx, realsite.Guest{Name: "stoker"})
	fill := func(mib int) error {
		return p.Home.Exec(ctx, "stoker", fmt.Sprintf("dd if=/dev/urandom of=/a/big bs=1M count=%d conv=notrunc,fsync 2>/dev/null", mib))
	}
	require.NoError(t, fill(48))
	capture := func(d *libvirt.Driver, name string) error {
		_, err := d.Capture(ctx, platform.CaptureRequest{Name: name, Machines: []string{id}})
		return err
	}
	t.Run("seen in time", func(t *testing.T) {
		dir := smallDisk(t, 96)
		pool(t, "narrow", dir)
		d := newDriver(t, libvirt.Settings{Scratch: dir})
		require.NoError(t, capture(d, "kt-full-1"))
		require.NoError(t, fill(48))
		require.Eventually(t, func() bool {
			_, err := d.Reopen(ctx, "kt-full-1", "")
			return err != nil
		}, 3*time.Minute, 200*time.Millisecond)
		_, err := d.Reopen(ctx, "kt-full-1", "")
		require.ErrorIs(t, err, platform.ErrGone)
		require.ErrorContains(t, err, "pool narrow")
		require.NoError(t, p.Home.Writes(ctx, "stoker"))
		require.NoError(t, d.Forget(ctx, "kt-full-1"))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "ballast"), make([]byte, 40<<20), 0o600))
		require.NoError(t, p.Home.With(func(l *rpc.Libvirt) error {
			x, err := l.StoragePoolLookupByName("narrow")
			if err == nil {
				err = l.StoragePoolRefresh(x, 0)
			}
			return err
		}))
		require.ErrorContains(t, capture(d, "kt-full-2"), "make room there")
	})
	t.Run("not seen", func(t *testing.T) {
		d := newDriver(t, libvirt.Settings{Scratch: smallDisk(t, 8)})
		require.NoError(t, capture(d, "kt-full-3"))
		require.NoError(t, fill(48), "the guest was held for a moment, and its writes went through")
		_, err := d.Reopen(ctx, "kt-full-3", "")
		require.ErrorIs(t, err, platform.ErrGone)
		require.NoError(t, p.Home.Writes(ctx, "stoker"))
		require.NoError(t, d.Forget(ctx, "kt-full-3"))
	})
}

func pool(t *testing.T, name, dir string) {
	t.Helper()
	require.NoError(t, pair.Home.With(func(l *rpc.Libvirt) error {
		x, err := l.StoragePoolCreateXML(fmt.Sprintf("<pool type='dir'><name>%s</name><target><path>%s</path></target></pool>", name, dir), 0)
		t.Cleanup(func() { _ = pair.Home.With(func(l *rpc.Libvirt) error { return l.StoragePoolDestroy(x) }) })
		return err
	}))
}

// A machine that migrates is found on its new host, and its disks are compared.
func TestMachinesMigrate(t *testing.T) {
	p := need(t)
	ctx := within(t, 6*time.Minute)
	d := newDriver(t, libvirt.Settings{Hosts: []string{p.Home.URI, p.Away.URI}})
	id := deckhand(t, ctx, realsite.Guest{Name: "pilot"})
	_, err := d.Capture(ctx, platform.CaptureRequest{Name: "kt-move-1", Machines: []string{id}})
	require.NoError(t, err)
	require.NoError(t, d.Release(ctx, "kt-move-1"))
	// libvirt moves no machine that has checkpoints; its administrator drops them.
	require.NoError(t, p.Home.Domain("pilot", func(l *rpc.Libvirt, dom rpc.Domain) error {
		all, _, err := l.DomainListAllCheckpoints(dom, 1, 0)
		for _, c := range all {
			err = l.DomainCheckpointDelete(c, 0)
		}
		return err
	}))
	out, err := exec.Command("virsh", "-c", p.Home.URI, "migrate", "pilot", p.Away.URI, "--live", "--p2p", "--persistent", "--undefinesource", "--unsafe").CombinedOutput()
	require.NoError(t, err, string(out))
	inv, err := d.Inventory(ctx)
	require.NoError(t, err)
	require.Len(t, inv.Hosts, 2)
	for _, m := range inv.Machines {
		if m.ID == id {
			require.Contains(t, p.Away.URI, m.Host)
			require.Equal(t, platform.PowerOn, m.Power)
		}
	}
	c, err := d.Capture(ctx, platform.CaptureRequest{Name: "kt-move-2", Machines: []string{id}, Base: "kt-move-1"})
	require.NoError(t, err)
	require.Empty(t, c.Disks[0].Changed)
	require.Contains(t, c.Disks[0].Why, "no longer tracks")
	require.NotEmpty(t, platformtest.Content(ctx, t, c.Disks[0]))
	require.NoError(t, d.Forget(ctx, "kt-move-2"))

	// One host of several is away: the other's machines are still listed.
	p.Away.Kill()
	inv, err = d.Inventory(ctx)
	require.NoError(t, err)
	require.Contains(t, inv.Trouble, "unreachable")
	require.NotEmpty(t, inv.Machines)
	require.NoError(t, p.Away.Restart(ctx))
	require.Eventually(t, func() bool {
		inv, err := d.Inventory(ctx)
		return err == nil && inv.Trouble == ""
	}, 30*time.Second, 100*time.Millisecond)
}

// kept hands out disks that are held in memory, as a site does its points.
type kept struct {
	mu    sync.Mutex
	disks map[string][]byte
}

func (k *kept) List() []string { return nil }
func (k *kept) Open(name string) (*nbd.Export, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	b, ok := k.disks[name]
	if !ok {
		return nil, fmt.Errorf("no export %q", name)
	}
	return &nbd.Export{Size: int64(len(b)), Device: bytes.NewReader(b)}, nil
}

// A machine is read under TLS at home, made again off an export under TLS at
// the other site, starved of it, and removed without trace.
func TestThereAndBackUnderTLS(t *testing.T) { // not beside others: it restarts the daemons
	p := need(t)
	ctx := within(t, 9*time.Minute)
	pki, err := os.MkdirTemp("/var/tmp", "kt-pki-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(pki) })
	require.NoError(t, os.Chmod(pki, 0o755))
	require.NoError(t, realsite.MakeCertificates(pki))
	for _, d := range []*realsite.Daemon{p.Home, p.Away} {
		require.NoError(t, d.UseCertificates(pki))
		require.NoError(t, d.Restart(ctx))
	}
	id := deckhand(t, ctx, realsite.Guest{Name: "signal"})
	home := newDriver(t, libvirt.Settings{Hosts: []string{p.Home.TLSURI}, Certificates: pki})
	for _, s := range home.Check(ctx) {
		require.True(t, s.OK, "%+v", s)
	}
	other := t.TempDir() // of an authority that this daemon does not know
	require.NoError(t, realsite.MakeCertificates(other))
	for _, s := range newDriver(t, libvirt.Settings{Hosts: []string{p.Home.TLSURI}, Certificates: other}).Check(ctx) {
		if !s.OK {
			require.Equal(t, "sign-in", s.Name, "the step that fails is named")
			break
		}
	}
	away := newDriver(t, libvirt.Settings{Hosts: []string{p.Away.URI}, Certificates: pki})
	said, _ := p.Home.Newest("signal")
	c, err := home.Capture(ctx, platform.CaptureRequest{Name: "kt-tls-1", Machines: []string{id}})
	require.NoError(t, err)
	k := &kept{disks: map[string][]byte{}}
	for _, x := range c.Disks {
		require.NotNil(t, x.TLS)
		k.disks["/"+x.Disk] = platformtest.Content(ctx, t, x)
		_, err := nbd.Dial(ctx, x.Network, x.Address, x.Export, nbd.Options{})
		require.Error(t, err, "nothing is told in the clear")
	}
	require.NoError(t, home.Forget(ctx, "kt-tls-1"))

	cfg, err := nbd.ServerTLS(pki)
	require.NoError(t, err)
	address := "127.0.0.1:0"
	serve := func() (stop func()) {
		l, err := net.Listen("tcp", address)
		require.NoError(t, err)
		address = l.Addr().String()
		ctx, cancel := context.WithCancel(context.Background())
		done := make(chan error, 1)
		go func() { done <- nbd.ServeTLS(ctx, l, k, cfg) }()
		return sync.OnceFunc(func() { cancel(); <-done })
	}
	stop := serve()
	t.Cleanup(func() { stop() })
	_, port, err := net.SplitHostPort(address)
	require.NoError(t, err)
	n, err := strconv.Atoi(port)
	require.NoError(t, err)
	before := trace(t, p.Away, "signal")
	var x libvirt.Config
	require.NoError(t, json.Unmarshal(c.Configs[id], &x))
	// Its console goes to a file, so that the test hears it.
	land := platform.Landing{ID: uuid.NewString(), Name: "signal-2", Config: c.Configs[id], Datastore: "disks"}
	for _, f := range c.Disks {
		land.Disks = append(land.Disks, platform.LandingDisk{Key: f.Disk, Size: f.Size, Host: "127.0.0.1", Port: n, Export: "/" + f.Disk, TLS: true})
	}
	require.NoError(t, away.Land(ctx, land))
	require.NoError(t, away.Land(ctx, land), "again, as after a crash")
	require.ErrorIs(t, away.Land(ctx, platform.Landing{ID: uuid.NewString(), Name: "signal-2", Config: c.Configs[id], Datastore: "disks"}), platform.ErrConfig, "the name is taken")
	require.NoError(t, away.StartLanded(ctx, land.ID, true))
	hear := listen(t, p.Away, "signal-2")
	require.NoError(t, away.ResumeLanded(ctx, land.ID))
	found := hear("FOUND")
	require.GreaterOrEqual(t, found, said.Seq, "what was durable before the capture is there")

	// The export goes away: the guest waits, and is told nothing.
	stop()
	require.NoError(t, p.Away.Domain("signal-2", func(l *rpc.Libvirt, dom rpc.Domain) error {
		return l.DomainBlockPull(dom, "vda", 0, 0)
	}))
	stop = serve()
	require.Eventually(t, func() bool {
		now, err := away.Landed(ctx, land.ID)
		require.NoError(t, err)
		if now.Starved {
			require.NoError(t, away.ResumeLanded(ctx, land.ID))
		}
		require.NoError(t, away.MakeLocal(ctx, land.ID, 0))
		local := true
		for _, k := range now.Disks {
			local = local && k.Local
		}
		return local
	}, 3*time.Minute, 200*time.Millisecond)
	stop() // nobody needs it any more
	now := hear("TX")
	require.Greater(t, now, found)
	require.NoError(t, away.RemoveLanded(ctx, land.ID))
	require.NoError(t, away.RemoveLanded(ctx, land.ID), "again, as after a crash")
	_, err = away.Landed(ctx, land.ID)
	require.ErrorIs(t, err, platform.ErrGone)
	require.Equal(t, before, trace(t, p.Away, "signal"), "no trace is left")
	require.NoError(t, away.RemoveLanded(ctx, id), "a machine that did not land is not touched")
	require.EqualValues(t, rpc.DomainRunning, state(t, "signal"))
}

// trace is what there is of a guest: machines and the files of their disks.
func trace(t *testing.T, d *realsite.Daemon, name string) []string {
	t.Helper()
	all, err := d.Traces()
	require.NoError(t, err)
	return slices.DeleteFunc(all, func(s string) bool { return !strings.Contains(s, name) })
}

// listen reads the console of a machine that waits, and gives the newest
// transaction of a kind that it says after the call.
func listen(t *testing.T, d *realsite.Daemon, name string) func(kind string) uint64 {
	t.Helper()
	ear, err := d.Listen(name)
	require.NoError(t, err)
	t.Cleanup(func() { _ = ear.Close() })
	return func(kind string) uint64 {
		t.Helper()
		l, err := ear.Await(within(t, 3*time.Minute), kind)
		require.NoError(t, err)
		return l.Seq
	}
}
