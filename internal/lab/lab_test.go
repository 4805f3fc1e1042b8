package lab_test

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/clock"
	"kestrel/internal/lab"
	"kestrel/internal/lab/wire"
	"kestrel/internal/lab/witness"
	"kestrel/internal/nbd"
)

func scenario() lab.Scenario {
	m := func(name, after string) lab.ScenarioMachine {
		return lab.ScenarioMachine{Name: name, Folder: "/", Disks: []lab.ScenarioDisk{{Label: "root", SizeMiB: 8, UsedMiB: 2, Noise: 0.5}, {Label: "data", SizeMiB: 10.5, UsedMiB: 2, Noise: 0.5}},
			Workload: lab.Workload{Seed: 9, HotPages: 8, HotPerSecond: 10, AppendKiBps: 200, RecordsPerS: 20, After: after},
			Agent:    &lab.Agent{RestMillis: 5, Commands: map[string]int{"spill": 3}}}
	}
	return lab.Scenario{Site: "test", Machines: []lab.ScenarioMachine{m("db", ""), m("app", "db")}}
}

// opened is a lab with its NBD server.
type opened struct {
	*lab.Lab
	close func()
}

func open(t *testing.T, dir string) opened {
	t.Helper()
	nl, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	l, err := lab.Open(dir, scenario(), clock.Wall{}, nl.Addr().String())
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- nbd.Serve(ctx, nl, l) }()
	return opened{l, func() { cancel(); require.NoError(t, <-done); require.NoError(t, l.Close()) }}
}

func content(t *testing.T, cp wire.Checkpoint, addr string, i int, contexts ...string) ([]byte, *nbd.Conn) {
	t.Helper()
	c, err := nbd.Dial(context.Background(), "tcp", addr, cp.Disks[i].Export, nbd.Options{Contexts: append(contexts, nbd.AllocationContext)})
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	b := make([]byte, cp.Disks[i].Size)
	_, err = c.ReadAt(b, 0)
	require.NoError(t, err)
	return b, c
}

// While a checkpoint is open its disks stand still, whatever the guests write,
// across a restart of the lab too; and the dirty bitmap of the next checkpoint
// covers every byte that differs.
func TestCheckpointsAreFixedInstants(t *testing.T) {
	dir := t.TempDir()
	l := open(t, dir)
	write := func(n int) {
		for i := range n {
			require.NoError(t, l.Step(time.Unix(1_790_000_000+int64(i), 0)))
		}
	}
	write(20)
	a, err := l.Checkpoint(wire.CheckpointRequest{Name: "a", Machines: []string{"db", "app"}})
	require.NoError(t, err)
	before := map[int][]byte{}
	for i := range a.Disks {
		before[i], _ = content(t, a, a.NBD, i)
	}
	write(20)
	for i := range a.Disks {
		now, _ := content(t, a, a.NBD, i)
		require.True(t, bytes.Equal(before[i], now), "disk %d moved under a checkpoint", i)
	}
	l.close()
	l = open(t, dir)
	defer func() { l.close() }()
	a, err = l.CheckpointNamed("a")
	require.NoError(t, err)
	write(20)
	b, err := l.Checkpoint(wire.CheckpointRequest{Name: "b", Machines: []string{"db", "app"}})
	require.NoError(t, err)
	again, err := l.Checkpoint(wire.CheckpointRequest{Name: "b", Machines: []string{"db", "app"}})
	require.NoError(t, err)
	require.Equal(t, b, again, "a name is one instant")
	// The address of the NBD server is a new one after the restart.
	addr := b.NBD
	changedAny := false
	for i := range b.Disks {
		old, _ := content(t, a, addr, i)
		require.True(t, bytes.Equal(before[i], old), "disk %d moved over a restart", i)
		now, c := content(t, b, addr, i, wire.DirtyContext("a"))
		ext, err := c.Extents(wire.DirtyContext("a"), 0, b.Disks[i].Size)
		require.NoError(t, err)
		off := int64(0)
		for _, e := range ext {
			if e.Flags&nbd.StateDirty == 0 {
				require.True(t, bytes.Equal(old[off:off+e.Length], now[off:off+e.Length]), "a change at disk %d was not tracked", i)
			} else {
				changedAny = true
			}
			off += e.Length
		}
	}
	require.True(t, changedAny)
	// What the lab remembers of the instant is what was read.
	require.NoError(t, l.Release("a"))
	for i, d := range l.Digests("a") {
		sum, err := lab.DigestOf(bytes.NewReader(before[i]))
		require.NoError(t, err)
		require.Equal(t, sum, d.SHA256)
	}
	require.Len(t, l.Digests("a"), 4)
	_, err = nbd.Dial(context.Background(), "tcp", addr, a.Disks[0].Export, nbd.Options{})
	require.Error(t, err, "released disks are not readable")
	require.NoError(t, l.Forget("a"))
	require.ErrorIs(t, l.Forget("a"), lab.ErrNotFound)
}

type image struct{ b []byte }

func (m *image) WriteAt(p []byte, off int64) (int, error) { return copy(m.b[off:], p), nil }
func (m *image) ReadAt(p []byte, off int64) (int, error)  { return copy(p, m.b[off:]), nil }

// The record tells a possible state from an impossible one.
func TestWitnessTellsTornDisks(t *testing.T) {
	first, last := &image{make([]byte, 4<<20)}, &image{make([]byte, 4<<20)}
	rec := witness.Record{Machine: witness.KeyOf("vm-1")}
	got, err := witness.Read(first, last)
	require.NoError(t, err)
	require.Zero(t, got.Seq)
	var older *image
	for n := range uint64(200) {
		if n == 150 {
			older = &image{bytes.Clone(last.b)}
		}
		rec.Seq = n + 1
		rec.At = time.Unix(int64(n), 0)
		require.NoError(t, rec.Write(first, last))
		got, err := witness.Read(first, last)
		require.NoError(t, err)
		require.Equal(t, rec.Seq, got.Seq)
	}
	_, err = witness.Read(first, older)
	require.ErrorIs(t, err, witness.ErrTorn, "a data disk of an earlier instant than the log is torn")
	r := rand.New(rand.NewPCG(1, 1))
	for range 50 {
		torn := &image{bytes.Clone(first.b)}
		torn.b[witness.RingOffset+r.IntN(64*512)] ^= 0x40
		_, err := witness.Read(torn, last)
		if bytes.Equal(torn.b[witness.RingOffset:witness.RingOffset+64*512], first.b[witness.RingOffset:witness.RingOffset+64*512]) {
			continue
		}
		require.ErrorIs(t, err, witness.ErrTorn)
	}
	app := witness.Record{Machine: 2, Seq: 1, Peer: rec.Machine, PeerSeq: rec.Seq + 1}
	require.ErrorIs(t, witness.Together([]witness.Record{rec, app}), witness.ErrTorn)
	app.PeerSeq = rec.Seq
	require.NoError(t, witness.Together([]witness.Record{rec, app}))
}

func TestHandlerWantsCredentialsAndSense(t *testing.T) {
	l := open(t, t.TempDir())
	defer l.close()
	srv := httptest.NewServer(l.Handler("lab", "secret"))
	defer srv.Close()
	ask := func(user, password, method, path, body string) (int, string) {
		req, err := http.NewRequest(method, srv.URL+path, strings.NewReader(body))
		require.NoError(t, err)
		req.SetBasicAuth(user, password)
		res, err := srv.Client().Do(req)
		require.NoError(t, err)
		defer func() { _ = res.Body.Close() }()
		b, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res.StatusCode, string(b)
	}
	for _, c := range [][2]string{{"", ""}, {"lab", ""}, {"lab", "secre"}, {"lab2", "secret"}} {
		code, body := ask(c[0], c[1], "GET", "/v1/inventory", "")
		require.Equal(t, http.StatusUnauthorized, code)
		require.NotContains(t, body, "vm-101")
	}
	code, body := ask("lab", "secret", "GET", "/v1/inventory", "")
	require.Equal(t, http.StatusOK, code)
	require.Contains(t, body, "vm-101")
	for _, bad := range []string{`{"name":"x"}`, `{"name":"../x","machines":["db"]}`, `{"name":"x","machines":["db"],"colour":1}`, `{`} {
		code, _ := ask("lab", "secret", "POST", "/v1/checkpoints", bad)
		require.Equal(t, http.StatusBadRequest, code, bad)
	}
	code, _ = ask("lab", "secret", "POST", "/v1/checkpoints", `{"name":"x","machines":["ghost"]}`)
	require.Equal(t, http.StatusNotFound, code)
	code, _ = ask("lab", "secret", "POST", "/v1/machines/db/power", `{"state":"off"}`)
	require.Equal(t, http.StatusOK, code)
	var inv struct {
		Machines []struct{ Name, Power string }
	}
	_, body = ask("lab", "secret", "GET", "/v1/inventory", "")
	require.NoError(t, json.Unmarshal([]byte(body), &inv))
	require.Equal(t, "off", inv.Machines[0].Power)
}

// The disk of a guest that was brought to rest says so at the instant, with its newest
// transaction; of one that was not, or could not be, it does not, and neither does the live
// disk afterwards.
func TestADiskSaysWhetherItsGuestWasAtRest(t *testing.T) {
	l := open(t, t.TempDir())
	defer l.close()
	rests := func(cp wire.Checkpoint, disk int) bool {
		t.Helper()
		first, _ := content(t, cp, cp.NBD, disk)
		last, _ := content(t, cp, cp.NBD, disk+1)
		newest, err := witness.Read(bytes.NewReader(first), bytes.NewReader(last))
		require.NoError(t, err)
		require.Positive(t, newest.Seq)
		at, err := witness.AtRest(bytes.NewReader(first), newest)
		require.NoError(t, err)
		return at
	}
	tick := time.Unix(1_790_000_000, 0)
	take := func(name string, quiesce ...wire.Rest) wire.Checkpoint {
		t.Helper()
		for range 4 {
			tick = tick.Add(lab.Tick)
			require.NoError(t, l.Step(tick))
		}
		cp, err := l.Checkpoint(wire.CheckpointRequest{Name: name, Machines: []string{"db", "app"}, Quiesce: quiesce})
		require.NoError(t, err)
		return cp
	}
	inv := l.Inventory()
	db, app := inv.Machines[0].ID, inv.Machines[1].ID
	plain := take("plain")
	require.False(t, rests(plain, 0))
	both := take("both", wire.Rest{Machine: db}, wire.Rest{Machine: app})
	require.True(t, rests(both, 0))
	require.True(t, rests(both, 2))
	one := take("one", wire.Rest{Machine: db, Before: "spill"}, wire.Rest{Machine: app, LimitMillis: 1})
	require.False(t, rests(one, 0), "its command failed")
	require.False(t, rests(one, 2), "it took too long")
	require.Equal(t, []string{"the command before: it ended with code 3", "its file systems were not at rest within 1ms"}, []string{one.Quiet[0].Why, one.Quiet[1].Why})
	require.False(t, rests(take("after"), 0), "it goes on")
}
