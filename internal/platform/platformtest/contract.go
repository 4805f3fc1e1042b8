// Package platformtest holds what every driver must keep, as one test that
// runs against each of them.
package platformtest

import (
	"bytes"
	"context"
	"encoding/json"
	"net"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/nbd"
	"kestrel/internal/platform"
)

// Fixture is a platform with two machines that are on and write.
type Fixture struct {
	// New makes a driver, as a service does when it starts.
	New      func() platform.Driver
	Machines []string // platform IDs
	Names    []string
	// AwaitWrites returns once all machines have written more.
	AwaitWrites func(t *testing.T)
	// Works and Fails are commands of the guests: the second ends with code 3.
	Works, Fails string
}

// Run tests the contract of platform.Driver.
func Run(t *testing.T, f Fixture) {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Minute)
	defer cancel()
	d := f.New()
	request := func(name, base string) platform.CaptureRequest {
		return platform.CaptureRequest{Name: name, Machines: f.Machines, Base: base}
	}

	for _, s := range d.Check(ctx) {
		require.True(t, s.OK, "step %s: %s %s", s.Name, s.Note, s.Mend)
		require.NotEmpty(t, s.Note, "a step that is passed says what it found")
	}
	inv, err := d.Inventory(ctx)
	require.NoError(t, err)
	require.NotEmpty(t, inv.Hosts)
	require.NotEmpty(t, inv.Datastores)
	for i, id := range f.Machines {
		at := slices.IndexFunc(inv.Machines, func(m platform.Machine) bool { return m.ID == id })
		require.GreaterOrEqual(t, at, 0)
		m := inv.Machines[at]
		require.Equal(t, f.Names[i], m.Name)
		require.Equal(t, platform.PowerOn, m.Power)
		require.Positive(t, m.MemoryBytes)
		require.NotEmpty(t, m.Disks)
		why, _ := m.Barrier(nil)
		require.Empty(t, why)
		for _, k := range m.Disks {
			require.Positive(t, k.SizeBytes)
		}
	}

	berths(t, inv, f)

	f.AwaitWrites(t)
	before := time.Now()
	first, err := d.Capture(ctx, request("kt-contract-1", ""))
	require.NoError(t, err)
	require.True(t, first.OneInstant)
	require.False(t, first.At.Before(before) || first.At.After(time.Now()), "captured within the call")
	for i, id := range f.Machines {
		require.Contains(t, string(first.Configs[id]), f.Names[i])
		require.True(t, json.Valid(first.Configs[id]))
	}
	content := read(ctx, t, first)
	for _, x := range first.Disks {
		require.Empty(t, x.Changed)
		require.NotEmpty(t, x.Why, "a disk that is read whole says why")
	}
	f.AwaitWrites(t)
	require.Equal(t, content, read(ctx, t, first), "a frozen disk must not change while its machine writes")

	other := f.New()
	again, err := other.Reopen(ctx, "kt-contract-1", "")
	require.NoError(t, err)
	require.Equal(t, content, read(ctx, t, again))
	require.NoError(t, other.Release(ctx, "kt-contract-1"))
	_, err = d.Reopen(ctx, "kt-contract-1", "")
	require.ErrorIs(t, err, platform.ErrGone)

	f.AwaitWrites(t)
	changed, err := d.Changed(ctx, "kt-contract-1")
	require.NoError(t, err)
	for _, id := range f.Machines {
		require.Positive(t, changed[id])
	}
	second, err := d.Capture(ctx, request("kt-contract-2", "kt-contract-1"))
	require.NoError(t, err)
	whole := read(ctx, t, second)
	for i, x := range second.Disks {
		require.NotEmpty(t, x.Changed, x.Why)
		key := x.Machine + "/" + x.Disk
		require.Equal(t, first.Disks[i].Machine+"/"+first.Disks[i].Disk, key, "disks keep their order")
		old := slices.Clone(content[key])
		n := Apply(ctx, t, x, old)
		require.Less(t, n, x.Size, "not everything has changed")
		require.True(t, bytes.Equal(whole[key], old), "the changes of %s, put over what was before, give what is", key)
	}
	require.NoError(t, d.Release(ctx, "kt-contract-2"))
	require.NoError(t, d.Release(ctx, "kt-contract-2"), "releasing twice is no error")

	lost, err := d.Capture(ctx, request("kt-contract-3", "kt-contract-0"))
	require.NoError(t, err)
	for _, x := range lost.Disks {
		require.Empty(t, x.Changed)
		require.Contains(t, x.Why, "no longer tracks")
	}
	require.NoError(t, d.Release(ctx, "kt-contract-3"))

	_, err = d.Capture(ctx, platform.CaptureRequest{Name: "kt-contract-4", Machines: append(slices.Clone(f.Machines), "6b0f6bd4-0000-4000-8000-000000000000")})
	require.Error(t, err, "a machine that is not there")
	names, err := d.Checkpoints(ctx)
	require.NoError(t, err)
	require.Subset(t, names, []string{"kt-contract-1", "kt-contract-2", "kt-contract-3"})
	require.NotContains(t, names, "kt-contract-4", "a capture that failed leaves nothing")
	_, err = d.Changed(ctx, "kt-contract-4")
	require.ErrorIs(t, err, platform.ErrGone)
	for _, n := range []string{"kt-contract-1", "kt-contract-3", "kt-contract-2", "kt-contract-2"} {
		require.NoError(t, d.Forget(ctx, n))
	}
	names, err = d.Checkpoints(ctx)
	require.NoError(t, err)
	for _, n := range names {
		require.NotContains(t, n, "kt-contract-")
	}

	atRest(ctx, t, d, f)
	without(ctx, t, d, f)

	// A capture that nobody released is ended by Forget, too.
	_, err = d.Capture(ctx, request("kt-contract-5", ""))
	require.NoError(t, err)
	require.NoError(t, d.Forget(ctx, "kt-contract-5"))
	_, err = f.New().Reopen(ctx, "kt-contract-5", "")
	require.ErrorIs(t, err, platform.ErrGone)
	f.AwaitWrites(t)
}

// berths tests what arrivals of machines are decided by: networks that can be told apart and
// whose addresses can be read, names that are accepted, and that every card is on a network.
func berths(t *testing.T, inv platform.Inventory, f Fixture) {
	t.Helper()
	names := map[string]bool{}
	for _, n := range inv.Networks {
		require.NotEmpty(t, n.Name)
		require.False(t, names[strings.ToLower(n.Name)], "network %s is listed once", n.Name)
		names[strings.ToLower(n.Name)] = true
		require.NotEmpty(t, n.Kind, "network %s", n.Name)
		var inside bool
		for _, text := range []string{n.Subnet, n.Subnet6} {
			if text == "" {
				continue
			}
			p, err := netip.ParsePrefix(text)
			require.NoError(t, err, "network %s", n.Name)
			require.Equal(t, p.Masked(), p)
			if g, err := netip.ParseAddr(n.Gateway); err == nil {
				inside = inside || p.Contains(g)
			}
		}
		require.True(t, n.Gateway == "" || inside, "the gateway of %s is inside it", n.Name)
		require.False(t, n.Isolated && n.Gateway != "", "%s leads nowhere", n.Name)
	}
	cards := 0
	for _, m := range inv.Machines {
		why, _ := inv.Names.Refuses(m.Name)
		require.Empty(t, why, "it has a machine of the name %s", m.Name)
		if !slices.Contains(f.Machines, m.ID) {
			continue
		}
		require.Positive(t, m.CPUs)
		if len(inv.Folders) > 0 {
			require.Contains(t, inv.Folders, m.Folder)
		}
		for _, n := range m.NICs {
			cards++
			_, err := net.ParseMAC(n.MAC)
			require.NoError(t, err)
			require.True(t, names[strings.ToLower(n.Network)], "the network %s of %s is listed", n.Network, m.Name)
		}
	}
	require.Positive(t, cards)
	for _, long := range []string{strings.Repeat("x", 1000), "a/b", " "} {
		if why, instead := inv.Names.Refuses(long); why != "" && instead != "" {
			again, _ := inv.Names.Refuses(instead)
			require.Empty(t, again, "what is suggested for %q is accepted", long)
		}
	}
}

// Resting asks that machines are brought to rest.
func Resting(machines []string) []platform.Rest {
	var out []platform.Rest
	for _, m := range machines {
		out = append(out, platform.Rest{Machine: m})
	}
	return out
}

// atRest tests that guests come to rest through their agents, with commands before and
// after, and that one whose command fails is captured as it is.
func atRest(ctx context.Context, t *testing.T, d platform.Driver, f Fixture) {
	t.Helper()
	quiesce := Resting(f.Machines)
	quiesce[0].Before, quiesce[0].After = f.Works, f.Works
	quiesce[0].Limit = 20 * time.Second
	c, err := d.Capture(ctx, platform.CaptureRequest{Name: "kt-contract-rest-1", Machines: f.Machines, Quiesce: quiesce})
	require.NoError(t, err)
	require.True(t, c.Application)
	require.Len(t, c.Quiet, len(f.Machines))
	for _, q := range c.Quiet {
		require.True(t, q.Done, q.Why)
		require.Empty(t, q.After)
		require.Positive(t, q.Held)
		require.Positive(t, q.Took)
	}
	f.AwaitWrites(t) // they go on
	require.NoError(t, d.Forget(ctx, "kt-contract-rest-1"))

	quiesce[0].Before, quiesce[0].After = f.Fails, f.Fails
	c, err = d.Capture(ctx, platform.CaptureRequest{Name: "kt-contract-rest-2", Machines: f.Machines, Quiesce: quiesce})
	require.NoError(t, err)
	require.False(t, c.Application)
	for _, q := range c.Quiet {
		if q.Machine == f.Machines[0] {
			require.False(t, q.Done)
			require.Contains(t, q.Why, "code 3")
			require.Contains(t, q.After, "code 3", "what comes after is done whatever came of what was before")
		} else {
			require.True(t, q.Done, q.Why)
		}
	}
	f.AwaitWrites(t)
	require.NoError(t, d.Forget(ctx, "kt-contract-rest-2"))
}

// without tests that disks are left out of a capture, and read whole when they are in one
// again.
func without(ctx context.Context, t *testing.T, d platform.Driver, f Fixture) {
	t.Helper()
	inv, err := d.Inventory(ctx)
	require.NoError(t, err)
	at := slices.IndexFunc(inv.Machines, func(m platform.Machine) bool { return m.ID == f.Machines[0] })
	disks := inv.Machines[at].Disks
	require.True(t, disks[0].Boot, "the disk that it starts from is known")
	last := disks[len(disks)-1]
	leaves := func(machine, disk string) bool { return machine == f.Machines[0] && disk == last.Key }
	c, err := d.Capture(ctx, platform.CaptureRequest{Name: "kt-contract-left-1", Machines: f.Machines, Leaves: leaves})
	require.NoError(t, err)
	for name, seen := range map[string]func() (*platform.Capture, error){
		"captured": func() (*platform.Capture, error) { return c, nil },
		"reopened": func() (*platform.Capture, error) { return f.New().Reopen(ctx, "kt-contract-left-1", "") },
	} {
		c, err := seen()
		require.NoError(t, err, name)
		require.Equal(t, []platform.LeftDisk{{Machine: f.Machines[0], Disk: last.Key, Label: last.Label, Size: last.SizeBytes}}, c.Left, name)
		for _, x := range c.Disks {
			require.False(t, leaves(x.Machine, x.Disk), name)
		}
		require.Contains(t, string(c.Configs[f.Machines[0]]), last.Key, "how the machine was made is kept whole")
	}
	require.NoError(t, d.Release(ctx, "kt-contract-left-1"))
	f.AwaitWrites(t)
	again, err := d.Capture(ctx, platform.CaptureRequest{Name: "kt-contract-left-2", Machines: f.Machines, Base: "kt-contract-left-1"})
	require.NoError(t, err)
	require.Empty(t, again.Left)
	for _, x := range again.Disks {
		require.Equal(t, leaves(x.Machine, x.Disk), x.Changed == "", "only the one that was left out is read whole: %s", x.Why)
	}
	require.NoError(t, d.Forget(ctx, "kt-contract-left-2"))
	require.NoError(t, d.Forget(ctx, "kt-contract-left-1"))
}

// read gives the content of all disks of a capture, by machine and disk.
func read(ctx context.Context, t *testing.T, c *platform.Capture) map[string][]byte {
	t.Helper()
	out := map[string][]byte{}
	for _, x := range c.Disks {
		out[x.Machine+"/"+x.Disk] = Content(ctx, t, x)
	}
	return out
}

// Content reads a frozen disk.
func Content(ctx context.Context, t *testing.T, x platform.FrozenDisk) []byte {
	t.Helper()
	c, err := nbd.Dial(ctx, x.Network, x.Address, x.Export, nbd.Options{TLS: x.TLS})
	require.NoError(t, err)
	defer func() { _ = c.Close() }()
	require.Equal(t, x.Size, c.Size())
	b := make([]byte, x.Size)
	_, err = c.ReadAt(b, 0)
	require.NoError(t, err)
	return b
}

// Apply puts what changed of a frozen disk over content, and tells how much it was.
func Apply(ctx context.Context, t *testing.T, x platform.FrozenDisk, content []byte) (n int64) {
	t.Helper()
	c, err := nbd.Dial(ctx, x.Network, x.Address, x.Export, nbd.Options{TLS: x.TLS, Contexts: []string{x.Changed}})
	require.NoError(t, err)
	defer func() { _ = c.Close() }()
	ext, err := c.Extents(x.Changed, 0, x.Size)
	require.NoError(t, err)
	off := int64(0)
	for _, e := range ext {
		if e.Flags&nbd.StateDirty != 0 {
			_, err := c.ReadAt(content[off:off+e.Length], off)
			require.NoError(t, err)
			n += e.Length
		}
		off += e.Length
	}
	require.Equal(t, x.Size, off)
	return n
}
