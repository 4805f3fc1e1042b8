package libvirt_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	rpc "github.com/digitalocean/go-libvirt"
	"github.com/stretchr/testify/require"

	"kestrel/internal/platform"
	"kestrel/internal/platform/libvirt"
	"kestrel/internal/platform/platformtest"
	"kestrel/internal/support/realsite"
)

// deckhand is a guest of one test, to which anything may happen.
func deckhand(t *testing.T, ctx context.Context, g realsite.Guest) string {
	t.Helper()
	require.NoError(t, pair.Home.Add(ctx, pair.Image, g))
	t.Cleanup(func() {
		for _, d := range []*realsite.Daemon{pair.Home, pair.Away} {
			_ = d.Domain(g.Name, func(l *rpc.Libvirt, dom rpc.Domain) error {
				_ = l.DomainDestroy(dom)
				return l.DomainUndefineFlags(dom, rpc.DomainUndefineSnapshotsMetadata|rpc.DomainUndefineCheckpointsMetadata)
			})
		}
	})
	if !g.Off {
		_, err := pair.Home.Await(ctx, g.Name, "TX", 1, 0)
		require.NoError(t, err)
	}
	return ids(t, g.Name)[0]
}

func state(t *testing.T, name string) (s int32) {
	t.Helper()
	require.NoError(t, pair.Home.Domain(name, func(l *rpc.Libvirt, dom rpc.Domain) (err error) {
		s, _, err = l.DomainGetState(dom, 0)
		return err
	}))
	return s
}

// whole reads all disks of a capture.
func whole(ctx context.Context, t *testing.T, c *platform.Capture) (all []byte) {
	t.Helper()
	var size int64
	for _, x := range c.Disks {
		size += x.Size
	}
	all = make([]byte, 0, size) // grown by itself it would be had several times
	for _, x := range c.Disks {
		all = append(all, platformtest.Content(ctx, t, x)...)
	}
	return all
}

func TestGuestsAreBroughtToRestAndGoOn(t *testing.T) {
	p := need(t)
	ctx := within(t, 9*time.Minute)
	d := newDriver(t, libvirt.Settings{FreezeLimit: 4 * time.Second})
	id := deckhand(t, ctx, realsite.Guest{Name: "frozen"})
	two := append(ids(t, "gangway"), id)
	require.NoError(t, p.Home.Writes(ctx, "gangway", "frozen"))

	c, err := d.Capture(ctx, platform.CaptureRequest{Name: "kt-rest-1", Machines: two, Quiesce: platformtest.Resting(two)})
	require.NoError(t, err)
	require.True(t, c.Application)
	require.True(t, c.OneInstant)
	require.Len(t, c.Quiet, 2)
	for _, q := range c.Quiet {
		require.True(t, q.Done, q.Why)
		require.Positive(t, q.Held)
		require.Less(t, q.Held, 30*time.Second)
	}
	require.NoError(t, p.Home.Writes(ctx, "gangway", "frozen"))
	// A file system at rest needs no recovery when it is mounted: its journal
	// is empty and its state is clean.
	raw := filepath.Join(t.TempDir(), "disk")
	require.NoError(t, os.WriteFile(raw, platformtest.Content(ctx, t, c.Disks[2]), 0o600))
	out, err := exec.Command(tool("dumpe2fs"), "-h", raw).CombinedOutput()
	require.NoError(t, err, string(out))
	require.NotContains(t, string(out), "needs_recovery")
	require.NoError(t, d.Forget(ctx, "kt-rest-1"))

	// Only one is asked; the other is held still with it.
	c, err = d.Capture(ctx, platform.CaptureRequest{Name: "kt-rest-2", Machines: two, Quiesce: platformtest.Resting(two[1:])})
	require.NoError(t, err)
	require.True(t, c.OneInstant)
	require.False(t, c.Application)
	require.NoError(t, d.Forget(ctx, "kt-rest-2"))
	c, err = d.Capture(ctx, platform.CaptureRequest{Name: "kt-rest-3", Machines: two, Apart: true})
	require.NoError(t, err)
	require.False(t, c.OneInstant, "nobody was held")
	require.Empty(t, c.Quiet)
	require.NoError(t, d.Forget(ctx, "kt-rest-3"))

	// An agent that hangs wakes up later, finds the order to freeze, and must
	// not leave the guest frozen. Meanwhile the group is captured all the same.
	require.NoError(t, p.Home.Exec(ctx, "frozen", "(sleep 1; kill -STOP $(pidof qemu-ga); sleep 12; kill -CONT $(pidof qemu-ga)) >/dev/null 2>&1 </dev/null &"))
	time.Sleep(1500 * time.Millisecond) // the guest's own clock counts, which nobody here can await
	c, err = d.Capture(ctx, platform.CaptureRequest{Name: "kt-rest-4", Machines: two, Quiesce: platformtest.Resting(two)})
	require.NoError(t, err)
	require.True(t, c.OneInstant)
	require.False(t, c.Application)
	for _, q := range c.Quiet {
		require.Equal(t, q.Machine == two[0], q.Done)
		if !q.Done {
			require.Contains(t, q.Why, "did not answer")
		}
	}
	require.NoError(t, p.Home.Writes(ctx, "gangway", "frozen"))
	require.Eventually(t, func() bool { return !marked(t, "frozen") }, 120*time.Second, 100*time.Millisecond, "the thaw is insisted on")
	require.NoError(t, p.Home.Writes(ctx, "frozen"))
	require.NoError(t, d.Forget(ctx, "kt-rest-4"))
}

func tool(name string) string {
	if p, err := exec.LookPath(name); err == nil {
		return p
	}
	return "/usr/sbin/" + name
}

// marked tells whether a machine carries the mark of one that is held.
func marked(t *testing.T, name string) (yes bool) {
	t.Helper()
	_ = pair.Home.Domain(name, func(l *rpc.Libvirt, dom rpc.Domain) error {
		text, err := l.DomainGetXMLDesc(dom, 0)
		yes = err == nil && strings.Contains(text, "urn:kestrel-tide:hold")
		return err
	})
	return yes
}

// A service that is killed while it holds machines leaves them running: the
// guard is a process of its own.
func TestKilledWhileItHoldsMachines(t *testing.T) {
	p := need(t)
	ctx := within(t, 6*time.Minute)
	two := ids(t, "gangway", "purser")
	for _, quiesce := range []string{"", "quiesce"} {
		name := "kt-kill-1" + quiesce
		child := exec.Command(os.Args[0], append([]string{"hold", p.Home.URI, name, quiesce}, two...)...)
		child.Stderr = os.Stderr
		out, err := child.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, child.Start())
		_, err = out.Read(make([]byte, 1)) // it says when both are held
		require.NoError(t, err)
		require.True(t, marked(t, "gangway"))
		require.NoError(t, child.Process.Kill())
		_ = child.Wait()
		require.NoError(t, p.Home.Writes(ctx, "gangway", "purser"))
		require.Eventually(t, func() bool { return !marked(t, "gangway") && !marked(t, "purser") }, 60*time.Second, 50*time.Millisecond)
		d := newDriver(t, libvirt.Settings{})
		_, err = d.Reopen(ctx, name, "")
		require.ErrorIs(t, err, platform.ErrGone, "a capture that was cut off is none")
		require.NoError(t, d.Forget(ctx, name))
	}
	// Nor does a mark stay that nobody guards, such as after a power cut.
	require.NoError(t, p.Home.Domain("gangway", func(l *rpc.Libvirt, dom rpc.Domain) error {
		mark := `<hold xmlns="urn:kestrel-tide:hold" checkpoint="kt-old" since="2026-11-23T10:00:00Z" frozen="false" suspended="true" started="false"/>`
		if err := l.DomainSetMetadata(dom, int32(rpc.DomainMetadataElement), rpc.OptString{mark}, rpc.OptString{"kestrel"}, rpc.OptString{"urn:kestrel-tide:hold"}, rpc.DomainAffectLive); err != nil {
			return err
		}
		return l.DomainSuspend(dom)
	}))
	_, err := newDriver(t, libvirt.Settings{}).Inventory(ctx)
	require.NoError(t, err)
	require.NoError(t, p.Home.Writes(ctx, "gangway"))
}

func TestBackupJobsOfOthersAndOurOwn(t *testing.T) {
	need(t)
	ctx := within(t, 3*time.Minute)
	d := newDriver(t, libvirt.Settings{})
	machines := ids(t, "purser")
	_, err := d.Capture(ctx, platform.CaptureRequest{Name: "kt-jobs-1", Machines: machines})
	require.NoError(t, err)
	// The service was started anew and knows nothing of the capture.
	other := newDriver(t, libvirt.Settings{})
	c, err := other.Capture(ctx, platform.CaptureRequest{Name: "kt-jobs-2", Machines: machines, Base: "kt-jobs-1"})
	require.NoError(t, err)
	require.NotEmpty(t, c.Disks[0].Changed)
	require.NoError(t, other.Forget(ctx, "kt-jobs-1"))
	_, err = other.Reopen(ctx, "kt-jobs-2", "kt-jobs-1")
	require.NoError(t, err, "forgetting one capture does not end another")
	// A daemon that is restarted keeps the capture.
	before := whole(ctx, t, c)
	require.NoError(t, pair.Home.Restart(ctx))
	require.True(t, bytes.Equal(before, whole(ctx, t, c)), "the frozen disks are read from QEMU, not from the daemon")
	_, err = other.Reopen(ctx, "kt-jobs-2", "kt-jobs-1")
	require.NoError(t, err)
	require.NoError(t, other.Forget(ctx, "kt-jobs-2"))
	left, err := filepath.Glob(filepath.Join(pair.Home.Disks(), "*.scratch"))
	require.NoError(t, err)
	require.Empty(t, left)

	// Somebody else's job is left alone.
	scratch := filepath.Join(pair.Home.Disks(), "others")
	require.NoError(t, pair.Home.Domain("purser", func(l *rpc.Libvirt, dom rpc.Domain) error {
		return l.DomainBackupBegin(dom, fmt.Sprintf(`<domainbackup mode='pull'><server transport='tcp' name='127.0.0.1' port='%d'/><disks><disk name='vda' type='file' exportname='theirs'><scratch file='%s'/></disk><disk name='vdb' backup='no'/></disks></domainbackup>`, port(t), scratch), nil, 0)
	}))
	_, err = d.Capture(ctx, platform.CaptureRequest{Name: "kt-jobs-3", Machines: machines})
	require.ErrorContains(t, err, "another program's backup")
	require.NoError(t, pair.Home.Domain("purser", func(l *rpc.Libvirt, dom rpc.Domain) error { return l.DomainAbortJob(dom) }))
}

// port is one that is free on loopback.
func port(t *testing.T) (n int) {
	t.Helper()
	for n = 15809; n < 15999; n++ {
		if exec.Command("bash", "-c", fmt.Sprintf("exec 3<>/dev/tcp/127.0.0.1/%d", n)).Run() != nil {
			return n
		}
	}
	t.Fatal("no port is free")
	return 0
}

// A guard that comes late lets go of what it was told to guard, and of nothing
// that was held since.
func TestTheGuardKnowsWhoseHoldItIs(t *testing.T) {
	p := need(t)
	hold := func(l *rpc.Libvirt, dom rpc.Domain) error {
		mark := `<hold xmlns="urn:kestrel-tide:hold" checkpoint="kt-two" since="2026-11-23T10:00:00Z" frozen="false" suspended="true" started="false"/>`
		return errors.Join(l.DomainSetMetadata(dom, int32(rpc.DomainMetadataElement), rpc.OptString{mark}, rpc.OptString{"kestrel"}, rpc.OptString{"urn:kestrel-tide:hold"}, rpc.DomainAffectLive), l.DomainSuspend(dom))
	}
	require.NoError(t, p.Home.Domain("purser", hold))
	guard := func(checkpoint string) {
		order := fmt.Sprintf(`{"op":"hold","uri":%q,"machine":%q,"checkpoint":%q,"suspended":true,"limit":1}`+"\n", p.Home.URI, ids(t, "purser")[0], checkpoint)
		require.NoError(t, libvirt.Guard(strings.NewReader(order), io.Discard))
	}
	guard("kt-one")
	require.Equal(t, int32(rpc.DomainPaused), state(t, "purser"))
	require.True(t, marked(t, "purser"))
	guard("kt-two")
	require.Equal(t, int32(rpc.DomainRunning), state(t, "purser"))
	require.False(t, marked(t, "purser"))

	// Nor is a machine held again before the last hold is over for certain.
	require.NoError(t, p.Home.Domain("purser", hold))
	ctx := within(t, 2*time.Minute)
	_, err := newDriver(t, libvirt.Settings{Owner: "kt-other-"}).Capture(ctx, platform.CaptureRequest{Name: "kt-other-1", Machines: ids(t, "purser")})
	require.NoError(t, err, "a mark this old is of nobody")
	require.Equal(t, int32(rpc.DomainRunning), state(t, "purser"))
	require.False(t, marked(t, "purser"))
	require.NoError(t, newDriver(t, libvirt.Settings{}).Forget(ctx, "kt-other-1"))
}

// A port that others use is passed over before a job is begun at it.
func TestPortsInUse(t *testing.T) {
	need(t)
	ctx := within(t, 3*time.Minute)
	theirs, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = theirs.Close() }()
	n := theirs.Addr().(*net.TCPAddr).Port
	d := newDriver(t, libvirt.Settings{NBDPorts: fmt.Sprintf("%d-%d", n, n)})
	machines := ids(t, "purser")
	_, err = d.Capture(ctx, platform.CaptureRequest{Name: "kt-ports-1", Machines: machines})
	require.ErrorContains(t, err, fmt.Sprintf("none of the NBD ports %d-%d is free", n, n))
	d = newDriver(t, libvirt.Settings{NBDPorts: fmt.Sprintf("%d-%d", n, n+20)})
	c, err := d.Capture(ctx, platform.CaptureRequest{Name: "kt-ports-2", Machines: machines})
	require.NoError(t, err)
	require.NotEqual(t, theirs.Addr().String(), c.Disks[0].Address)
	require.NotEmpty(t, platformtest.Content(ctx, t, c.Disks[1]))
	require.NoError(t, d.Forget(ctx, "kt-ports-2"))
}

// What may happen to a machine between and during cycles, in the order in
// which one guest can suffer it.
func TestWhatHappensToMachines(t *testing.T) {
	t.Parallel()
	p := need(t)
	ctx := within(t, 12*time.Minute)
	d := newDriver(t, libvirt.Settings{})
	id := deckhand(t, ctx, realsite.Guest{Name: "deckhand"})
	n := 0
	// next captures, compares the changes with the whole, and releases.
	base := ""
	var content [][]byte
	next := func(why string) {
		t.Helper()
		n++
		name := fmt.Sprintf("kt-life-%d", n)
		c, err := d.Capture(ctx, platform.CaptureRequest{Name: name, Machines: []string{id}, Base: base})
		require.NoError(t, err)
		var now [][]byte
		for i, x := range c.Disks {
			now = append(now, platformtest.Content(ctx, t, x))
			switch {
			case why == "" || i < len(content) && why == "the disk is new":
				require.NotEmpty(t, x.Changed, "disk %s: %s", x.Disk, x.Why)
				old := append(bytes.Clone(content[i]), make([]byte, max(0, len(now[i])-len(content[i])))...)
				platformtest.Apply(ctx, t, x, old)
				require.True(t, bytes.Equal(old, now[i]), "changes of disk %s are not all that changed", x.Disk)
			default:
				require.Empty(t, x.Changed)
				require.Contains(t, x.Why, why)
			}
		}
		require.NoError(t, d.Release(ctx, name))
		if base != "" {
			require.NoError(t, d.Forget(ctx, base))
		}
		base, content = name, now
	}
	domain := func(f func(l *rpc.Libvirt, dom rpc.Domain) error) {
		t.Helper()
		require.NoError(t, p.Home.Domain("deckhand", f))
	}
	virsh := func(args ...string) {
		t.Helper()
		out, err := exec.Command("virsh", append([]string{"-q", "-c", p.Home.URI}, args...)...).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	next("first copy")
	require.NoError(t, p.Home.Writes(ctx, "deckhand"))
	next("")

	// Suspended by its administrator: copied, and left as it is.
	domain(func(l *rpc.Libvirt, dom rpc.Domain) error { return l.DomainSuspend(dom) })
	next("")
	require.EqualValues(t, rpc.DomainPaused, state(t, "deckhand"))
	domain(func(l *rpc.Libvirt, dom rpc.Domain) error { return l.DomainResume(dom) })

	// A clock that is wrong concerns the guest only.
	require.NoError(t, p.Home.Exec(ctx, "deckhand", "date -s 2031-05-06"))
	c, err := d.Capture(ctx, platform.CaptureRequest{Name: "kt-life-clock", Machines: []string{id}})
	require.NoError(t, err)
	require.WithinDuration(t, time.Now(), c.At, time.Minute)
	require.NoError(t, d.Forget(ctx, "kt-life-clock"))

	// A snapshot by somebody else puts a new layer over the disks.
	require.NoError(t, p.Home.Writes(ctx, "deckhand"))
	virsh("snapshot-create-as", "deckhand", "theirs", "--disk-only", "--no-metadata")
	require.NoError(t, p.Home.Writes(ctx, "deckhand"))
	next("")

	// A disk grows; another comes and goes.
	virsh("blockresize", "deckhand", "vdb", "160M")
	require.NoError(t, p.Home.Writes(ctx, "deckhand"))
	next("")
	extra := filepath.Join(p.Home.Disks(), "extra.qcow2")
	require.NoError(t, exec.Command("qemu-img", "create", "-q", "-f", "qcow2", extra, "8M").Run())
	require.NoError(t, os.Chmod(extra, 0o666))
	virsh("attach-disk", "deckhand", extra, "vdc", "--subdriver", "qcow2", "--live", "--config")
	next("the disk is new")
	require.Len(t, content, 3)
	virsh("detach-disk", "deckhand", "vdc", "--live", "--config")
	require.Eventually(t, func() bool {
		out, _ := exec.Command("virsh", "-q", "-c", p.Home.URI, "domblklist", "deckhand").CombinedOutput()
		return !strings.Contains(string(out), "vdc")
	}, 30*time.Second, 50*time.Millisecond)
	require.NoError(t, p.Home.Writes(ctx, "deckhand"))
	next("")
	require.Len(t, content, 2)

	// Stopped in order: the record of changes survives, and a machine that is
	// off is copied and stays off.
	_, end := p.Home.Newest("deckhand")
	domain(func(l *rpc.Libvirt, dom rpc.Domain) error {
		return l.DomainShutdownFlags(dom, rpc.DomainShutdownGuestAgent)
	})
	require.Eventually(t, func() bool { return state(t, "deckhand") == int32(rpc.DomainShutoff) }, 90*time.Second, 50*time.Millisecond)
	next("")
	require.EqualValues(t, rpc.DomainShutoff, state(t, "deckhand"))
	require.False(t, marked(t, "deckhand"))
	inv, err := d.Inventory(ctx)
	require.NoError(t, err)
	for _, m := range inv.Machines {
		if m.ID == id {
			require.Equal(t, platform.PowerOff, m.Power)
			require.EqualValues(t, 160<<20, m.Disks[1].SizeBytes)
		}
	}
	// It is renamed while it is off, as libvirt demands.
	virsh("domrename", "deckhand", "bosun")
	t.Cleanup(func() {
		_ = p.Home.Domain("bosun", func(l *rpc.Libvirt, dom rpc.Domain) error {
			_ = l.DomainDestroy(dom)
			return l.DomainUndefineFlags(dom, rpc.DomainUndefineCheckpointsMetadata)
		})
	})
	next("")
	require.Equal(t, "bosun", func() string {
		c, err := d.Capture(ctx, platform.CaptureRequest{Name: "kt-life-name", Machines: []string{id}})
		require.NoError(t, err)
		defer func() { require.NoError(t, d.Forget(ctx, "kt-life-name")) }()
		return c.Disks[0].Name
	}())
	virsh("domrename", "bosun", "deckhand")

	// Killed: what changed is not known any more, and is said.
	domain(func(l *rpc.Libvirt, dom rpc.Domain) error { return l.DomainCreate(dom) })
	found, err := p.Home.Await(ctx, "deckhand", "FOUND", 1, end)
	require.NoError(t, err, "%+v", found)
	next("")
	c, err = d.Capture(ctx, platform.CaptureRequest{Name: "kt-life-killed", Machines: []string{id}, Base: base})
	require.NoError(t, err)
	require.NoError(t, syscall.Kill(p.Home.Guests()["deckhand"], syscall.SIGKILL))
	require.Eventually(t, func() bool { return state(t, "deckhand") == int32(rpc.DomainShutoff) }, 30*time.Second, 20*time.Millisecond)
	_, err = d.Reopen(ctx, c.Name, base)
	require.ErrorIs(t, err, platform.ErrGone)
	require.NoError(t, d.Forget(ctx, c.Name))
	domain(func(l *rpc.Libvirt, dom rpc.Domain) error { return l.DomainCreate(dom) })
	next("lost the record of changes")
	require.NoError(t, p.Home.Writes(ctx, "deckhand"))
	next("")
}

// A machine that is off and open only for reading is switched on just when it is closed: it runs
// afterwards, whoever was first. Off again, it is removed with its disks.
func TestSwitchedOnWhileItIsRead(t *testing.T) {
	t.Parallel()
	need(t)
	ctx := within(t, 5*time.Minute)
	d := newDriver(t, libvirt.Settings{})
	id := deckhand(t, ctx, realsite.Guest{Name: "stoker", Off: true})
	for i := range 8 {
		name := fmt.Sprintf("kt-stoker-%d", i)
		_, err := d.Capture(ctx, platform.CaptureRequest{Name: name, Machines: []string{id}})
		require.NoError(t, err)
		released := make(chan error, 1)
		go func() { released <- d.Release(ctx, name) }()
		time.Sleep(time.Duration(i) * 10 * time.Millisecond) // different chances each time
		require.NoError(t, d.Switch(ctx, id, platform.SwitchOn))
		require.NoError(t, <-released)
		require.EqualValues(t, rpc.DomainRunning, state(t, "stoker"), "it was closed under whoever switched it on")
		_, err = d.Discard(ctx, id)
		require.ErrorIs(t, err, platform.ErrRuns)
		require.NoError(t, d.Forget(ctx, name))
		require.NoError(t, d.Switch(ctx, id, platform.SwitchOff))
	}
	left, err := d.Discard(ctx, id)
	require.NoError(t, err)
	require.Empty(t, left)
	left, err = d.Discard(ctx, id)
	require.NoError(t, err, "again, as after a crash")
	require.Empty(t, left)
	inv, err := d.Inventory(ctx)
	require.NoError(t, err)
	require.False(t, slices.ContainsFunc(inv.Machines, func(m platform.Machine) bool { return m.ID == id }))
}
