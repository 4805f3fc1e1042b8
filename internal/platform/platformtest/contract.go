// Package platformtest holds what every driver must keep, as one test that
// runs against each of them.
package platformtest

import (
	"bytes"
	"context"
	"encoding/json"
	"slices"
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
		why, _ := m.Barrier()
		require.Empty(t, why)
		for _, k := range m.Disks {
			require.Positive(t, k.SizeBytes)
		}
	}

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

	// A capture that nobody released is ended by Forget, too.
	_, err = d.Capture(ctx, request("kt-contract-5", ""))
	require.NoError(t, err)
	require.NoError(t, d.Forget(ctx, "kt-contract-5"))
	_, err = f.New().Reopen(ctx, "kt-contract-5", "")
	require.ErrorIs(t, err, platform.ErrGone)
	f.AwaitWrites(t)
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
