package points_test

import (
	"bytes"
	"context"
	"math/rand/v2"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/stretchr/testify/require"

	"kestrel/internal/files/bucket"
	"kestrel/internal/files/bucket/buckettest"
	"kestrel/internal/points"
)

// A store on objects: what is sealed is there when the host with its cache is
// gone, another host is refused until it takes over, the cache stays within its
// limit, and while the service does not answer nothing is sealed or lost.
func TestStoreOnObjects(t *testing.T) {
	server := buckettest.Start(t)
	server.Config.Cache = 6 << 20 // about half of what is kept
	dir := t.TempDir()
	opened := func() (*points.Store, *bucket.FS) {
		fs := server.Open(t, dir)
		s, err := points.Open(dir, points.Options{Now: time.Now, Files: fs, PackBytes: 2 << 20, Secret: points.Secret{Key: bytes.Repeat([]byte{5}, 32)}})
		require.NoError(t, err)
		return s, fs
	}
	s, fs := opened()
	r := rand.New(rand.NewPCG(3, 4))
	m := &model{data: make([]byte, diskSize)}
	want := map[string][]byte{}
	pass := func(blocks int64) *points.Seal {
		in, _, err := s.OpenIntake(spec(m))
		require.NoError(t, err)
		for i := range blocks {
			send(t, in, m, r.Int64N(points.Blocks(diskSize)-1)/2*2+i%2, randomBlock(r))
		}
		m.base = seal(t, in, time.Now())
		want[m.base.Point] = bytes.Clone(m.data)
		return m.base
	}
	for range 3 {
		pass(60)
	}
	for range 20 {
		pass(1) // small packs, which are merged
	}
	before := s.Usage().Packs
	require.Greater(t, before, 20)
	swept, err := s.Sweep(context.Background())
	require.NoError(t, err)
	require.Greater(t, swept.Packs, 15)
	require.Less(t, s.Usage().Packs, before-15)
	all := func() {
		held := s.Points(groupID)
		require.Len(t, held, len(want))
		for i, x := range held {
			if i%6 != 0 && i < len(held)-1 {
				continue // through so small a cache each takes a second or more
			}
			require.True(t, bytes.Equal(want[x.Point], content(t, s, x)), "point %d", x.Number)
		}
		require.LessOrEqual(t, fs.CacheBytes(), server.Config.Cache+2<<20, "the limit, and the pack that is read")
	}
	all()

	// The host is gone, and all that it had.
	require.NoError(t, os.RemoveAll(dir))
	_, err = bucket.Open(context.Background(), dir, server.Config, nil)
	require.ErrorContains(t, err, "another host")
	server.Config.Take = true
	s, fs = opened()
	server.Config.Take = false
	all()
	rep, err := s.Verify(context.Background(), nil)
	require.NoError(t, err)
	require.Empty(t, rep.Faults)

	// The service does not answer for a while.
	in, _, err := s.OpenIntake(spec(m))
	require.NoError(t, err)
	data := bytes.Clone(m.data)
	send(t, in, m, 7, randomBlock(r))
	server.Stop()
	try := func() (*points.Seal, error) {
		return in.Seal(points.Seal{CaptureAt: time.Unix(2_000_000_000, 0), Consistency: "crash", Machines: []points.SealMachine{{ID: "m1", Name: "tick-db", Disks: []points.SealDisk{{Key: "disk0"}}}}})
	}
	_, err = try()
	require.Error(t, err)
	require.NotEqual(t, data, m.data)
	server.Run(t)
	x, err := try()
	require.NoError(t, err, "what had arrived is still here")
	want[x.Point] = bytes.Clone(m.data)
	all()
	require.NoError(t, s.Close())
	s, fs = opened()
	all()
	require.NoError(t, s.Close())
}

// What locked points need is kept from removal also at the object service: who has the
// store's keys to it removes and writes over what they like, and it comes back. What
// nobody locked gives its room back, with all versions.
func TestLockedObjectsComeBack(t *testing.T) {
	server := buckettest.StartLocking(t)
	dir := t.TempDir()
	ctx := context.Background()
	open := func() (*points.Store, *bucket.FS) {
		fs := server.Open(t, dir)
		s, err := points.Open(dir, points.Options{Now: time.Now, Files: fs, PackBytes: 2 << 20})
		require.NoError(t, err)
		return s, fs
	}
	s, _ := open()
	require.True(t, s.Retains())
	r := rand.New(rand.NewPCG(5, 6))
	m := &model{data: make([]byte, diskSize)}
	pass := func() (*points.Seal, []byte) {
		in, _, err := s.OpenIntake(spec(m))
		require.NoError(t, err)
		for range 40 {
			send(t, in, m, r.Int64N(points.Blocks(diskSize)-1), randomBlock(r))
		}
		m.base = seal(t, in, time.Now())
		return m.base, bytes.Clone(m.data)
	}
	first, want := pass()
	_, err := s.SetLock(first.Point, points.Lock{Until: time.Now().Add(time.Hour)})
	require.NoError(t, err)
	require.NoError(t, s.Retain(ctx))
	second, _ := pass()
	versions := func() (all []minio.ObjectInfo) {
		for v := range server.Client(t).ListObjects(ctx, "points", minio.ListObjectsOptions{WithVersions: true, Recursive: true}) {
			require.NoError(t, v.Err)
			all = append(all, v)
		}
		return all
	}

	// Of the other point nothing is left once it is dropped and swept: what it needed
	// alone was in packs of its own.
	before := len(versions())
	m.base = first
	require.NoError(t, s.Drop(second.Point))
	require.ErrorIs(t, s.Drop(first.Point), points.ErrLocked)
	_, err = s.Sweep(ctx)
	require.NoError(t, err)
	require.Less(t, len(versions()), before)
	require.NoError(t, s.Close())

	// Somebody with the keys: removes what is there, each version, and puts rubbish in
	// its place.
	c := server.Client(t)
	refused := 0
	for _, v := range versions() {
		_ = c.RemoveObject(ctx, "points", v.Key, minio.RemoveObjectOptions{})
		if c.RemoveObject(ctx, "points", v.Key, minio.RemoveObjectOptions{VersionID: v.VersionID, GovernanceBypass: true}) != nil {
			refused++
		}
		if strings.HasSuffix(v.Key, ".pack") {
			_, err := c.PutObject(ctx, "points", v.Key, strings.NewReader("rubbish"), 7, minio.PutObjectOptions{})
			require.NoError(t, err)
		}
	}
	require.GreaterOrEqual(t, refused, 3, "packs, the seal, the lock")
	require.NoError(t, os.RemoveAll(dir))
	server.Config.Take = true
	s, fs := open()
	require.Positive(t, fs.Raised)
	held := s.Points(groupID)
	require.Len(t, held, 1)
	require.Equal(t, first.Point, held[0].Point)
	disk := held[0].Machines[0].Disks[0]
	got := make([]byte, len(want))
	_, err = s.Disk(disk.Root, disk.Size).ReadAt(got, 0)
	require.NoError(t, err)
	require.True(t, bytes.Equal(want, got))
	_, holds := s.Locked(first.Point)
	require.True(t, holds)
	require.NoError(t, s.Close())
}
