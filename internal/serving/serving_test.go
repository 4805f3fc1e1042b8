package serving_test

import (
	"bytes"
	"context"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/clock"
	"kestrel/internal/cycle"
	"kestrel/internal/directory"
	"kestrel/internal/inventory"
	"kestrel/internal/nbd"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/records"
	"kestrel/internal/serving"
	"kestrel/internal/support/rooms"
)

// rig is a recovery site that serves over a real NBD port.
type rig struct {
	*rooms.Side
	t    *testing.T
	dir  string
	s    *serving.Serving
	g    directory.Record
	stop func()
	gone map[string]bool // people who may serve no more
}

const diskSize = 4*points.BlockSize + 512

func newRig(t *testing.T) *rig {
	t.Helper()
	side, err := rooms.New(rooms.RecoveryID, rooms.RecoveryName, 1)
	require.NoError(t, err)
	r := &rig{Side: side, t: t, dir: t.TempDir(), g: rooms.Record(uuid.NewString(), rooms.Spec("Ticketing"))}
	r.g.Term, r.g.Revision, r.g.CreatedAt = 1, 1, time.Now()
	require.NoError(t, side.Mirror(t.Context(), r.g))
	r.start()
	t.Cleanup(func() {
		r.stop()
		require.NoError(t, side.Store.Close())
	})
	return r
}

// start serves, as a start of the service does.
func (r *rig) start() {
	r.t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(r.t, err)
	r.s, err = serving.Open(r.t.Context(), serving.Config{DB: r.DB, Store: r.Store, Keeper: r.Keeper, Trail: r.Trail, Clock: clock.Wall{}, Log: r.Log, StateDir: r.dir, Listener: l,
		Allowed: func(_ context.Context, x records.Served, _ string) (bool, error) {
			return x.Person == nil || !r.gone[*x.Person], nil
		}})
	require.NoError(r.t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- nbd.Serve(ctx, l, r.s) }()
	r.stop = func() {
		cancel()
		require.NoError(r.t, <-done)
		r.s.Close()
	}
}

// content is a disk with something in its first and last blocks.
func content(fill byte) []byte {
	b := make([]byte, diskSize)
	copy(b, bytes.Repeat([]byte{fill}, 700))
	copy(b[diskSize-100:], bytes.Repeat([]byte{fill + 1}, 100))
	return b
}

// seal makes a point of a disk.
func (r *rig) seal(disk []byte) *points.Seal {
	r.t.Helper()
	ctx, m := r.t.Context(), r.g.Spec.Machines[0]
	opened, err := r.Keeper.OpenIntake(ctx, r.g.HomeID, cycle.OpenRequest{ID: uuid.NewString(), Group: points.SealGroup{ID: r.g.ID, Name: r.g.Spec.Name, HomeSite: r.g.HomeID, HomeName: r.g.HomeName, Term: 1}, Disks: []cycle.OpenRequestDisk{{Machine: m.ID, Key: "vda", Size: diskSize}}})
	require.NoError(r.t, err)
	in, err := r.Store.Intake(opened.Intake)
	require.NoError(r.t, err)
	for i := int64(0); i*points.BlockSize < diskSize; i++ {
		block := make([]byte, points.BlockSize)
		copy(block, disk[i*points.BlockSize:])
		name := points.NameOf(block)
		if in.Missing([]points.Name{name})[0] {
			enc, stored := points.Encode(nil, block, points.EncodingRaw)
			require.NoError(r.t, in.Put(name, enc, points.BlockSize, stored))
		}
		require.NoError(r.t, in.Record([]points.Entry{{Index: i, Count: 1, Name: name}}))
	}
	x, err := r.Keeper.SealIntake(ctx, r.g.HomeID, 0, opened.Intake, points.Seal{CaptureAt: time.Now(), Consistency: "crash", Machines: []points.SealMachine{{ID: m.ID, Name: m.Name, Disks: []points.SealDisk{{Key: "vda", Size: diskSize}}}}})
	require.NoError(r.t, err)
	return x
}

func (r *rig) serve(point, mode string) api.Served {
	r.t.Helper()
	v, err := r.s.Serve(r.t.Context(), rooms.Anna(), api.NewServed{Point: point, Mode: &mode})
	require.NoError(r.t, err)
	require.Len(r.t, v.Disks, 1)
	require.Equal(r.t, mode, v.Mode)
	return v
}

// open is a client of a served disk, until the test ends.
func (r *rig) open(d api.ServedDisk) (*nbd.Conn, error) {
	r.t.Helper()
	u, err := url.Parse(d.URI)
	require.NoError(r.t, err)
	require.Equal(r.t, "nbd", u.Scheme)
	c, err := nbd.Dial(r.t.Context(), "tcp", u.Host, strings.TrimPrefix(u.Path, "/"), nbd.Options{Contexts: []string{nbd.AllocationContext}})
	if err == nil {
		r.t.Cleanup(func() { _ = c.Close() })
	}
	return c, err
}

func (r *rig) must(d api.ServedDisk) *nbd.Conn {
	r.t.Helper()
	c, err := r.open(d)
	require.NoError(r.t, err)
	return c
}

func (r *rig) read(c *nbd.Conn) []byte {
	r.t.Helper()
	b := make([]byte, c.Size())
	_, err := c.ReadAt(b, 0)
	require.NoError(r.t, err)
	return b
}

// write writes as a client does whose writes the service has taken, and flushes.
func (r *rig) write(d api.ServedDisk, b []byte, off int64) error {
	r.t.Helper()
	u, err := url.Parse(d.URI)
	require.NoError(r.t, err)
	e, err := r.s.Open(strings.TrimPrefix(u.Path, "/"))
	require.NoError(r.t, err)
	defer e.Close()
	if _, err := e.Writer.WriteAt(b, off); err != nil {
		return err
	}
	return e.Writer.Flush()
}

// now is a served point as it stands.
func (r *rig) now(id string) api.Served {
	r.t.Helper()
	for _, v := range r.s.Served(func(string) bool { return true }) {
		if v.ID == id {
			return v
		}
	}
	require.Fail(r.t, "it is not served", id)
	return api.Served{}
}

// status is what people are told an error is.
func status(t *testing.T, err error) int {
	t.Helper()
	p, ok := problem.Of(err)
	require.True(t, ok, "%v", err)
	return p.Status
}

// A served point reads as it was sealed, with its holes, by several clients, and is
// kept while anybody reads it.
func TestAServedPointReadsAsItWasSealed(t *testing.T) {
	r := newRig(t)
	want := content(7)
	x := r.seal(want)
	v := r.serve(x.Point, "read-only")
	require.Equal(t, "Ticketing", v.GroupName)
	require.EqualValues(t, 1, v.PointNumber)
	a, b := r.must(v.Disks[0]), r.must(v.Disks[0])
	require.EqualValues(t, diskSize, a.Size())
	require.Equal(t, want, r.read(a))
	require.Equal(t, want, r.read(b))
	ext, err := a.Extents(nbd.AllocationContext, 0, diskSize)
	require.NoError(t, err)
	holes := int64(0)
	for _, e := range ext {
		if e.Flags&nbd.StateZero != 0 {
			holes += e.Length
		}
	}
	require.EqualValues(t, 3*points.BlockSize, holes)
	e, err := r.s.Open(strings.SplitN(v.Disks[0].URI, "/", 4)[3])
	require.NoError(t, err)
	require.Nil(t, e.Writer, "it is read-only")
	e.Close()
	require.Equal(t, 2, r.now(v.ID).Clients)

	require.Equal(t, http.StatusConflict, status(t, r.Keeper.Delete(t.Context(), rooms.Anna(), x.Point)), "it is in use")
	require.NoError(t, r.s.Stop(t.Context(), rooms.Anna(), v.ID))
	_, err = r.open(v.Disks[0])
	require.Error(t, err)
	require.Equal(t, http.StatusConflict, status(t, r.Keeper.Delete(t.Context(), rooms.Anna(), x.Point)), "two still read it")
	require.NoError(t, a.Close())
	require.NoError(t, b.Close())
	require.Eventually(t, func() bool { return !r.Store.InUse(x.Point) }, time.Minute, time.Millisecond)
	lines, err := r.Trail.Lines(t.Context(), records.Sought{Limit: 10, Text: "serv"})
	require.NoError(t, err)
	require.Len(t, lines, 2)
	require.Contains(t, lines[0].Text, "anna stopped serving point 1 of Ticketing")
}

// What clients write is seen by them alone: the point stays as it was sealed. It is
// thrown away, or lasts over restarts, as was asked for.
func TestWhatIsWrittenOverAPoint(t *testing.T) {
	r := newRig(t)
	want := content(7)
	x := r.seal(want)
	away, lasting, plain := r.serve(x.Point, "throw-away"), r.serve(x.Point, "lasting"), r.serve(x.Point, "read-only")
	written := append([]byte(nil), want...)
	copy(written[points.BlockSize+300:], "the tide comes in at six")
	for _, v := range []api.Served{away, lasting} {
		require.NoError(t, r.write(v.Disks[0], written[points.BlockSize+300:points.BlockSize+324], points.BlockSize+300))
		c := r.must(v.Disks[0])
		require.Equal(t, written, r.read(c))
		ext, err := c.Extents(nbd.AllocationContext, 0, diskSize)
		require.NoError(t, err)
		var sum int64
		for _, e := range ext {
			sum += e.Length
		}
		require.EqualValues(t, diskSize, sum, "all of the disk is told of")
		require.Zero(t, ext[0].Flags&nbd.StateZero)
		require.NoError(t, c.Close())
		require.Positive(t, r.now(v.ID).WrittenBytes)
	}
	require.Equal(t, want, r.read(r.must(plain.Disks[0])), "the point stays as it is")

	r.stop()
	require.NoError(t, r.Open(t.Context()))
	r.start()
	all := r.s.Served(func(string) bool { return true })
	require.Len(t, all, 3, "what was served is served again")
	require.Equal(t, written, r.read(r.must(r.now(lasting.ID).Disks[0])))
	require.Equal(t, want, r.read(r.must(r.now(away.ID).Disks[0])))
	for _, v := range all {
		require.NoError(t, r.s.Stop(t.Context(), rooms.Anna(), v.ID))
	}
	left, err := os.ReadDir(filepath.Join(r.dir, "overlays"))
	require.NoError(t, err)
	require.Empty(t, left)
}

// Nobody opens what is not served, guesses a name, or is told what there is.
func TestNamesAreSecrets(t *testing.T) {
	r := newRig(t)
	v := r.serve(r.seal(content(7)).Point, "read-only")
	for _, change := range []func(string) string{
		func(string) string { return "" },
		func(s string) string { return s + "x" },
		func(s string) string { return strings.Repeat("0", 16) + s[16:] },
		func(s string) string { return "../" + s },
	} {
		d := v.Disks[0]
		u, err := url.Parse(d.URI)
		require.NoError(t, err)
		d.URI = "nbd://" + u.Host + "/" + change(strings.TrimPrefix(u.Path, "/"))
		_, err = r.open(d)
		require.Error(t, err, d.URI)
	}
	require.Empty(t, r.s.List())
	require.NotEqual(t, v.Disks[0].URI, r.serve(v.Point, "read-only").Disks[0].URI)
	require.Len(t, serving.NewToken(), 16)
}

// What cannot be served is refused by its field; what one may not see is not listed.
func TestWhatIsNotServed(t *testing.T) {
	r := newRig(t)
	x := r.seal(content(7))
	_, err := r.s.Serve(t.Context(), rooms.Anna(), api.NewServed{Point: x.Point, Mode: new("loud")})
	require.Equal(t, http.StatusUnprocessableEntity, status(t, err))
	_, err = r.s.Serve(t.Context(), rooms.Anna(), api.NewServed{Point: uuid.NewString()})
	require.Equal(t, http.StatusNotFound, status(t, err))
	require.Equal(t, http.StatusNotFound, status(t, r.s.Stop(t.Context(), rooms.Anna(), uuid.NewString())))
	_, err = r.s.GroupOf(uuid.NewString())
	require.Equal(t, http.StatusNotFound, status(t, err))
	v, err := r.s.Serve(t.Context(), rooms.Anna(), api.NewServed{Point: x.Point})
	require.NoError(t, err)
	require.Equal(t, "read-only", v.Mode, "the harmless way, if none is named")
	of, err := r.s.GroupOf(v.ID)
	require.NoError(t, err)
	require.Equal(t, r.g.ID, of)
	require.Empty(t, r.s.Served(func(group string) bool { return group != r.g.ID }))

	r.Store.SetFloor(1 << 50)
	_, err = r.s.Serve(t.Context(), rooms.Anna(), api.NewServed{Point: x.Point, Mode: new("lasting")})
	require.Equal(t, http.StatusConflict, status(t, err), "there is no room for what would be written")
	r.serve(x.Point, "read-only")
}

// A full store fails writes, and nothing else.
func TestWritesStopWhereTheRoomEnds(t *testing.T) {
	r := newRig(t)
	want := content(7)
	v := r.serve(r.seal(want).Point, "throw-away")
	r.Store.SetFloor(1 << 50)
	require.ErrorIs(t, r.write(v.Disks[0], []byte("no room"), 0), nbd.ErrNoSpace)
	require.Equal(t, want, r.read(r.must(v.Disks[0])))
}

// A served point whose files are gone at the next start is served no more, and the
// others are.
func TestARestartWithoutAPoint(t *testing.T) {
	r := newRig(t)
	one, two := r.seal(content(1)), r.seal(content(2))
	gone, stays := r.serve(one.Point, "read-only"), r.serve(two.Point, "lasting")
	r.stop()
	require.NoError(t, r.s.Stop(t.Context(), rooms.Anna(), gone.ID))
	require.NoError(t, r.DB.AddServed(t.Context(), records.Served{ID: gone.ID, Point: gone.Point, Token: serving.NewToken(), Mode: gone.Mode, CreatedBy: "anna", CreatedAt: time.Now()}))
	require.NoError(t, r.Keeper.Delete(t.Context(), rooms.Anna(), one.Point))
	r.start()
	all := r.s.Served(func(string) bool { return true })
	require.Len(t, all, 1)
	require.Equal(t, stays.ID, all[0].ID)
	recs, err := r.DB.Served(t.Context())
	require.NoError(t, err)
	require.Len(t, recs, 1)
}

// A machine that has landed reads its own disks of a point, and no others.
func TestLendingToAHypervisor(t *testing.T) {
	r := newRig(t)
	x := r.seal(content(9))
	m := r.g.Spec.Machines[0]
	token := serving.NewToken()
	seal, end, err := r.s.Lend(x.Point, m.ID, token)
	require.NoError(t, err)
	require.Equal(t, x.Point, seal.Point)
	host, port, secure, err := r.s.Reach()
	require.NoError(t, err)
	require.False(t, secure)
	address := net.JoinHostPort(host, strconv.Itoa(port))
	c, err := nbd.Dial(t.Context(), "tcp", address, serving.ExportName(token, m.Name, "vda"), nbd.Options{})
	require.NoError(t, err)
	require.Equal(t, content(9), r.read(c))
	end()
	end()
	_, err = nbd.Dial(t.Context(), "tcp", address, serving.ExportName(token, m.Name, "vda"), nbd.Options{})
	require.Error(t, err)
	require.True(t, r.Store.InUse(x.Point), "a client that reads still holds it")
	require.NoError(t, c.Close())
	_, _, err = r.s.Lend(uuid.NewString(), m.ID, token)
	require.ErrorIs(t, err, points.ErrNotFound)
	require.NoError(t, r.s.Reachable(inventory.Platform{}))
	require.Error(t, r.s.Reachable(inventory.Platform{Address: "qemu+tls://kvm1.skerry.example/system"}), "that host cannot reach loopback")
	require.NoError(t, r.s.Reachable(inventory.Platform{Address: "qemu:///session"}))
}

// Who may read points no longer is hung up on, and knows no address of them any more;
// what was written stays for whoever goes on with it. That a point is served no more
// hangs up as well.
func TestWhoMayServeNoMoreIsHungUpOn(t *testing.T) {
	r := newRig(t)
	x := r.seal(content(7))
	olaf := rooms.Anna()
	olaf.Name, olaf.PersonID = "olaf", uuid.NewString()
	v, err := r.s.Serve(t.Context(), olaf, api.NewServed{Point: x.Point, Mode: new("lasting")})
	require.NoError(t, err)
	others := r.serve(x.Point, "read-only")
	mine, theirs := r.must(v.Disks[0]), r.must(others.Disks[0])
	require.NoError(t, r.write(v.Disks[0], []byte("as olaf left it"), 0))
	require.NoError(t, r.s.Recheck(t.Context()))
	r.read(mine)

	r.gone = map[string]bool{olaf.PersonID: true}
	require.NoError(t, r.s.Recheck(t.Context()))
	_, err = mine.ReadAt(make([]byte, 512), 0)
	require.Error(t, err, "an open connection ends")
	_, err = r.open(v.Disks[0])
	require.Error(t, err, "and there is no other by the same address")
	r.read(theirs)
	require.NoError(t, r.s.Recheck(t.Context()))
	next := r.now(v.ID)
	require.NotEqual(t, v.Disks[0].URI, next.Disks[0].URI)
	require.Equal(t, "as olaf left it", string(r.read(r.must(next.Disks[0]))[:15]))
	require.Eventually(t, func() bool { return r.now(v.ID).Clients == 1 }, 10*time.Second, time.Millisecond, "the one that was hung up on is not counted")
	r.stop()
	r.start()
	require.Equal(t, strings.SplitN(next.Disks[0].URI, "/", 4)[3], strings.SplitN(r.now(v.ID).Disks[0].URI, "/", 4)[3], "after a restart, too")

	again := r.must(r.now(others.ID).Disks[0])
	require.NoError(t, r.s.Stop(t.Context(), rooms.Anna(), others.ID))
	_, err = again.ReadAt(make([]byte, 512), 0)
	require.Error(t, err)
}
