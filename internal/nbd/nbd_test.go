package nbd_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/nbd"
)

type disks map[string]*nbd.Export

func (d disks) Open(name string) (*nbd.Export, error) {
	if e, ok := d[name]; ok {
		return e, nil
	}
	return nil, fmt.Errorf("no export of that name")
}
func (d disks) List() []string { return []string{"pier"} }

const size = 3<<20 + 512

// serve hands out a disk with a hole in its middle and a dirty area.
func serve(t *testing.T) (addr string, data []byte) {
	t.Helper()
	data = make([]byte, size)
	r := rand.New(rand.NewPCG(1, 2))
	for i := range data {
		if i < 1<<20 || i >= 2<<20 {
			data[i] = byte(r.Uint32())
		}
	}
	e := &nbd.Export{Size: size, Device: bytes.NewReader(data), Contexts: []nbd.Context{
		{Name: nbd.AllocationContext, Status: runs(nbd.Extent{Length: 1 << 20}, nbd.Extent{Length: 1 << 20, Flags: nbd.StateHole | nbd.StateZero}, nbd.Extent{Length: 1<<20 + 512})},
		{Name: "lab:dirty-bitmap:a", Status: runs(nbd.Extent{Length: 64 << 10}, nbd.Extent{Length: 128 << 10, Flags: nbd.StateDirty}, nbd.Extent{Length: size - 192<<10})},
	}}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- nbd.Serve(ctx, l, disks{"pier": e}) }()
	t.Cleanup(func() { cancel(); require.NoError(t, <-done) })
	return l.Addr().String(), data
}

// runs answers a status request from a fixed list of extents.
func runs(all ...nbd.Extent) func(off, length int64) ([]nbd.Extent, error) {
	return func(off, length int64) ([]nbd.Extent, error) {
		var out []nbd.Extent
		at := int64(0)
		for _, e := range all {
			from, to := max(at, off), min(at+e.Length, off+length)
			if from < to {
				out = append(out, nbd.Extent{Length: to - from, Flags: e.Flags})
			}
			at += e.Length
		}
		return out, nil
	}
}

func TestClientReadsAndAsksWhatChanged(t *testing.T) {
	addr, data := serve(t)
	c, err := nbd.Dial(context.Background(), "tcp", addr, "pier", nbd.Options{Contexts: []string{nbd.AllocationContext, "lab:dirty-bitmap:a", "lab:dirty-bitmap:gone"}})
	require.NoError(t, err)
	defer func() { _ = c.Close() }()
	require.EqualValues(t, size, c.Size())
	got := make([]byte, size)
	_, err = c.ReadAt(got, 0)
	require.NoError(t, err)
	require.True(t, bytes.Equal(data, got))
	require.True(t, c.Has("lab:dirty-bitmap:a"))
	require.False(t, c.Has("lab:dirty-bitmap:gone"))
	ext, err := c.Extents("lab:dirty-bitmap:a", 32<<10, 256<<10)
	require.NoError(t, err)
	require.Equal(t, []nbd.Extent{{Length: 32 << 10}, {Length: 128 << 10, Flags: nbd.StateDirty}, {Length: 96 << 10}}, ext)
	// A refused request does not break the connection.
	_, err = c.ReadAt(make([]byte, 10), size-5)
	require.Error(t, err)
	_, err = c.ReadAt(got[:16], 8)
	require.NoError(t, err)
	require.Equal(t, data[8:24], got[:16])
}

func TestUnknownExportIsRefused(t *testing.T) {
	addr, _ := serve(t)
	_, err := nbd.Dial(context.Background(), "tcp", addr, "quay", nbd.Options{})
	require.ErrorContains(t, err, "no export of that name")
}

// A server that stops answering is noticed, and a cancelled context ends a read.
func TestStalledServerIsNoticed(t *testing.T) {
	hold := make(chan struct{})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- nbd.Serve(ctx, l, disks{"pier": {Size: 1 << 20, Device: stuck{hold}}}) }()
	defer func() { close(hold); cancel(); require.NoError(t, <-done) }()
	c, err := nbd.Dial(ctx, "tcp", l.Addr().String(), "pier", nbd.Options{Timeout: 200 * time.Millisecond})
	require.NoError(t, err)
	_, err = c.ReadAt(make([]byte, 512), 0)
	require.ErrorContains(t, err, "connection lost")
	_ = c.Close()
}

type stuck struct{ hold chan struct{} }

func (s stuck) ReadAt(p []byte, _ int64) (int, error) { <-s.hold; return len(p), nil }

func tool(t *testing.T, name string, args ...string) []byte {
	t.Helper()
	if _, err := exec.LookPath(name); err != nil {
		t.Skipf("%s is not installed: ./dev test installs it", name)
	}
	out, err := exec.Command(name, args...).CombinedOutput()
	require.NoError(t, err, "%s: %s", name, out)
	return out
}

// Public NBD clients read our server and see the same bytes and holes.
func TestPublicClientsReadOurServer(t *testing.T) {
	addr, data := serve(t)
	uri := "nbd://" + addr + "/pier"
	var info struct {
		Exports []struct {
			Size     int64 `json:"export-size"`
			ReadOnly bool  `json:"is_read_only"`
			Contexts []string
		}
	}
	require.NoError(t, json.Unmarshal(tool(t, "nbdinfo", "--json", uri), &info))
	require.EqualValues(t, size, info.Exports[0].Size)
	require.True(t, info.Exports[0].ReadOnly)
	require.Contains(t, info.Exports[0].Contexts, "lab:dirty-bitmap:a")
	require.Contains(t, string(tool(t, "nbdinfo", "--list", "nbd://"+addr)), "pier")
	raw := filepath.Join(t.TempDir(), "out.raw")
	tool(t, "qemu-img", "convert", "-O", "raw", uri, raw)
	got, err := os.ReadFile(raw)
	require.NoError(t, err)
	require.True(t, bytes.Equal(data, got))
	tool(t, "nbdcopy", uri, raw)
	got, err = os.ReadFile(raw)
	require.NoError(t, err)
	require.True(t, bytes.Equal(data, got))
}

// Our client reads public servers.
func TestOurClientReadsPublicServer(t *testing.T) {
	_, data := serve(t)
	dir := t.TempDir()
	raw := filepath.Join(dir, "disk.raw")
	require.NoError(t, os.WriteFile(raw, data, 0o600))
	sock := filepath.Join(dir, "sock")
	tool(t, "qemu-nbd", "--fork", "--persistent", "-r", "-f", "raw", "-x", "pier", "-k", sock, "--pid-file", filepath.Join(dir, "pid"), raw)
	t.Cleanup(func() { _ = exec.Command("sh", "-c", "kill $(cat "+filepath.Join(dir, "pid")+")").Run() })
	c, err := nbd.Dial(context.Background(), "unix", sock, "pier", nbd.Options{Contexts: []string{nbd.AllocationContext}})
	require.NoError(t, err)
	defer func() { _ = c.Close() }()
	got := make([]byte, size)
	_, err = c.ReadAt(got, 0)
	require.NoError(t, err)
	require.True(t, bytes.Equal(data, got))
	_, err = c.Extents(nbd.AllocationContext, 0, size)
	require.NoError(t, err)
}

// Whatever bytes a client sends, the server ends that session only: it goes on
// serving others.
func TestServerOutlivesNonsense(t *testing.T) {
	addr, data := serve(t)
	r := rand.New(rand.NewPCG(4, 4))
	hello := []byte{0, 0, 0, 3}
	option := func(opt byte, n uint32) []byte {
		b := append([]byte("IHAVEOPT"), 0, 0, 0, opt)
		return append(b, byte(n>>24), byte(n>>16), byte(n>>8), byte(n))
	}
	for i := range 200 {
		c, err := net.Dial("tcp", addr)
		require.NoError(t, err)
		b := append([]byte(nil), hello...)
		for range r.IntN(4) {
			n := r.IntN(40)
			b = append(b, option(byte(r.IntN(12)), uint32(n))...)
			for range n {
				b = append(b, byte(r.Uint32()))
			}
		}
		if i%3 == 0 {
			b = append(b, option(7, 1<<31)...) // an option that is far too long
		}
		_, _ = c.Write(b)
		require.NoError(t, c.Close())
	}
	c, err := nbd.Dial(context.Background(), "tcp", addr, "pier", nbd.Options{})
	require.NoError(t, err)
	defer func() { _ = c.Close() }()
	got := make([]byte, 4096)
	_, err = c.ReadAt(got, 0)
	require.NoError(t, err)
	require.Equal(t, data[:4096], got)
}

// failing is a listener that cannot take clients for a while.
type failing struct {
	net.Listener
	left atomic.Int32
}

func (f *failing) Accept() (net.Conn, error) {
	if f.left.Add(-1) >= 0 {
		return nil, &net.OpError{Op: "accept", Err: syscall.EMFILE}
	}
	return f.Listener.Accept()
}

// A client that could not be taken, as with too many open files, ends nothing: the
// next ones are served.
func TestServingOutlivesFailedAccepts(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	f := &failing{Listener: l}
	f.left.Store(3)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- nbd.Serve(ctx, f, disks{}) }()
	c, err := net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	require.NoError(t, c.SetDeadline(time.Now().Add(20*time.Second)))
	hello := make([]byte, 8)
	_, err = io.ReadFull(c, hello)
	require.NoError(t, err)
	require.Equal(t, "NBDMAGIC", string(hello))
	require.NoError(t, c.Close())
	cancel()
	require.NoError(t, <-done)
}

// door is a server with limits, until the test ends.
func door(t *testing.T, limits nbd.Limits) (addr string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() {
		done <- nbd.ServeWithin(ctx, l, disks{"pier": {Size: 4096, Device: bytes.NewReader(make([]byte, 4096))}}, nil, limits)
	}()
	t.Cleanup(func() {
		cancel()
		require.NoError(t, <-done)
	})
	return l.Addr().String()
}

// Clients that say nothing take no more places than one host has, the others wait for
// theirs, and who has an export open takes none.
func TestSilentClientsKeepNobodyOut(t *testing.T) {
	const places = 8
	addr := door(t, nbd.Limits{Greeting: places, Patience: time.Hour})
	var now, most atomic.Int32
	greeted := make(chan net.Conn)
	for range 5 * places {
		c, err := net.Dial("tcp", addr)
		require.NoError(t, err)
		go func() {
			if _, err := io.ReadFull(c, make([]byte, 8)); err != nil {
				t.Error(err)
			}
			if n := now.Add(1); n > most.Load() {
				most.Store(n)
			}
			greeted <- c
		}()
	}
	for range 5 * places {
		c := <-greeted
		now.Add(-1)
		require.NoError(t, c.Close())
	}
	require.LessOrEqual(t, most.Load(), int32(places))
	for range 2 * places {
		c, err := nbd.Dial(t.Context(), "tcp", addr, "pier", nbd.Options{})
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		_, err = c.ReadAt(make([]byte, 512), 0)
		require.NoError(t, err)
	}
}

// A client that says nothing is hung up on, and so is one more than there may be.
func TestClientsAreHungUpOn(t *testing.T) {
	addr := door(t, nbd.Limits{Clients: 2, Patience: 300 * time.Millisecond})
	for range 4 {
		c, err := net.Dial("tcp", addr)
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		require.NoError(t, c.SetReadDeadline(time.Now().Add(time.Minute)))
		_, err = io.ReadAll(c)
		require.False(t, errors.Is(err, os.ErrDeadlineExceeded))
	}
}

// A client that has waited longer than a greeting may take is still served.
func TestAnOpenExportHasNoDeadline(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() {
		done <- nbd.ServeWithin(ctx, l, disks{"pier": {Size: 4096, Device: bytes.NewReader(make([]byte, 4096))}}, nil, nbd.Limits{Patience: 50 * time.Millisecond})
	}()
	var c *nbd.Conn
	require.Eventually(t, func() bool {
		c, err = nbd.Dial(ctx, "tcp", l.Addr().String(), "pier", nbd.Options{})
		return err == nil
	}, time.Minute, time.Millisecond)
	<-time.After(100 * time.Millisecond)
	_, err = c.ReadAt(make([]byte, 512), 0)
	require.NoError(t, err)
	require.NoError(t, c.Close())
	cancel()
	require.NoError(t, <-done)
}
