package points_test

import (
	"bytes"
	"context"
	"math/rand/v2"
	"os"
	"testing"
	"time"

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
