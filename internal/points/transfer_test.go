package points_test

import (
	"bytes"
	"context"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/points"
)

// growing is a store whose disk changes, point by point.
type growing struct {
	t    *testing.T
	s    *points.Store
	r    *rand.Rand
	m    *model
	want map[string][]byte
	at   time.Time
}

func grow(t *testing.T) *growing {
	t.Helper()
	return &growing{t: t, s: open(t, t.TempDir()), r: rand.New(rand.NewPCG(11, 5)), m: &model{data: make([]byte, diskSize)}, want: map[string][]byte{}, at: time.Unix(1_790_000_000, 0)}
}

// point seals one in which so many blocks have changed; some of them to zeros.
func (g *growing) point(blocks int64) *points.Seal {
	g.t.Helper()
	in, _, err := g.s.OpenIntake(spec(g.m))
	require.NoError(g.t, err)
	for range blocks {
		at := g.r.Int64N(points.Blocks(diskSize))
		if g.r.IntN(8) == 0 {
			n := copy(g.m.data[at*points.BlockSize:], make([]byte, points.BlockSize))
			require.Positive(g.t, n)
			require.NoError(g.t, in.Record([]points.Entry{{Index: at, Count: 1}}))
			continue
		}
		send(g.t, in, g.m, at, randomBlock(g.r))
	}
	g.at = g.at.Add(time.Hour)
	g.m.base = seal(g.t, in, g.at)
	g.want[g.m.base.Point] = bytes.Clone(g.m.data)
	return g.m.base
}

// A point that is copied to another store is the same point there: it reads the same, after
// a restart and without the store that it came from; and only what the other lacks is moved.
func TestAPointMovesToAnotherStore(t *testing.T) {
	g := grow(t)
	far := filepath.Join(t.TempDir(), "far")
	to := open(t, far)
	var all []*points.Seal
	var first int64
	for i := range 6 {
		x := g.point([]int64{120, 5, 5, 1, 0, 40}[i])
		all = append(all, x)
		if i%2 == 1 {
			continue // not every one is copied
		}
		var told int64
		moved, err := g.s.Transfer(t.Context(), to, x.Point, func(done int64) {
			require.GreaterOrEqual(t, done, told)
			told = done
		})
		require.NoError(t, err)
		require.LessOrEqual(t, told, int64(diskSize))
		switch i {
		case 0:
			first = moved
			require.Positive(t, first)
		case 2:
			require.Positive(t, moved)
			require.Less(t, moved, first/5, "what it has already is not moved again")
		case 4:
			require.Less(t, moved, first/20)
		}
		again, err := g.s.Transfer(t.Context(), to, x.Point, nil)
		require.NoError(t, err)
		require.Zero(t, again, "it is there already")
	}
	require.NoError(t, g.s.Close())
	require.NoError(t, to.Close())
	to = open(t, far)
	defer func() { require.NoError(t, to.Close()) }()
	held := to.Points(groupID)
	require.Len(t, held, 3)
	for i, x := range held {
		same := *all[2*i]
		require.Equal(t, same.Root, x.Root)
		require.Equal(t, same.Number, x.Number)
		require.True(t, same.SealedAt.Equal(x.SealedAt))
		require.Equal(t, g.want[x.Point], content(t, to, x))
	}
	rep, err := to.Verify(t.Context(), nil)
	require.NoError(t, err)
	require.Empty(t, rep.Faults)
	swept, err := to.Sweep(t.Context())
	require.NoError(t, err)
	require.Zero(t, swept.Packs, "nothing in it is for nothing")
	require.Empty(t, to.Intakes(groupID))
}

// A copy that is cut off, by its end or by the end of the service, lists nothing, and goes on
// where it was.
func TestAMoveThatIsCutOffGoesOn(t *testing.T) {
	g := grow(t)
	defer func() { require.NoError(t, g.s.Close()) }()
	x := g.point(140)
	// The disk again, and so large that a batch does not hold it all.
	far := filepath.Join(t.TempDir(), "far")
	to := open(t, far)
	ctx, cancel := context.WithCancel(t.Context())
	n := 0
	_, err := g.s.Transfer(ctx, to, x.Point, func(int64) {
		if n++; n == 60 {
			cancel()
		}
	})
	require.ErrorIs(t, err, context.Canceled)
	require.Empty(t, to.Points(""))
	require.Len(t, to.Intakes(groupID), 1)
	require.NoError(t, to.Close())
	to = open(t, far)
	defer func() { require.NoError(t, to.Close()) }()
	require.Empty(t, to.Points(""))
	_, err = g.s.Transfer(t.Context(), to, x.Point, nil)
	require.NoError(t, err)
	held := to.Points(groupID)
	require.Len(t, held, 1)
	require.Equal(t, g.want[x.Point], content(t, to, held[0]))

	_, err = g.s.Transfer(t.Context(), to, "0197a000-0000-7000-8000-00000000ffff", nil)
	require.ErrorIs(t, err, points.ErrNotFound)
}

// A block that is damaged where it comes from is not copied as if it were whole, and the
// point is not listed at the other end.
func TestADamagedPointIsNotMoved(t *testing.T) {
	dir := t.TempDir()
	g := grow(t)
	require.NoError(t, g.s.Close())
	g.s = open(t, dir)
	x := g.point(60)
	require.NoError(t, g.s.Close())
	packs, err := filepath.Glob(filepath.Join(dir, "packs", "*.pack"))
	require.NoError(t, err)
	require.NotEmpty(t, packs)
	b, err := os.ReadFile(packs[0])
	require.NoError(t, err)
	for i := len(b) / 3; i < len(b)/3+200; i++ {
		b[i] ^= 0x55
	}
	require.NoError(t, os.WriteFile(packs[0], b, 0o600))
	g.s = open(t, dir)
	defer func() { require.NoError(t, g.s.Close()) }()
	to := open(t, t.TempDir())
	defer func() { require.NoError(t, to.Close()) }()
	_, err = g.s.Transfer(t.Context(), to, x.Point, nil)
	require.ErrorIs(t, err, points.ErrNotFound, "what cannot be read is not there")
	require.Empty(t, to.Points(""))
}
