package points_test

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/files"
	"kestrel/internal/files/bucket/buckettest"
	"kestrel/internal/points"
)

const diskSize = 9<<20 + 4096 // two leaves and a block cut short

var groupID = "0197a000-0000-7000-8000-000000000001"

func open(t testing.TB, dir string) *points.Store {
	t.Helper()
	s, err := points.Open(dir, points.Options{Now: time.Now})
	require.NoError(t, err)
	return s
}

// randomBlock gives content that is cheap to tell apart and partly compressible.
func randomBlock(r *rand.Rand) []byte {
	b := make([]byte, points.BlockSize)
	for i := range b[:points.BlockSize/2] {
		b[i] = byte(r.Uint32())
	}
	return b
}

// model is the plain copy of a disk that the store has to agree with.
type model struct {
	data []byte
	base *points.Seal
}

func (m *model) baseRoot() points.Name {
	if m.base == nil {
		return points.Name{}
	}
	return m.base.Machines[0].Disks[0].Root
}

func spec(m *model) points.IntakeSpec {
	return points.IntakeSpec{ID: uuid.NewString(), Group: points.SealGroup{ID: groupID, Name: "ticketing"},
		Disks: []points.IntakeDisk{{Machine: "m1", Key: "disk0", Size: diskSize, Base: m.baseRoot()}}}
}

// send writes a block to the model and through the intake.
func send(t require.TestingT, in *points.Intake, m *model, index int64, block []byte) {
	n := copy(m.data[index*points.BlockSize:], block)
	block = append(append([]byte(nil), block[:n]...), make([]byte, points.BlockSize-n)...)
	name := points.NameOf(block)
	if in.Missing([]points.Name{name})[0] {
		enc, stored := points.Encode(nil, block, points.Encoding(index%3))
		require.NoError(t, in.Put(name, enc, points.BlockSize, stored))
	}
	require.NoError(t, in.Record([]points.Entry{{Index: index, Count: 1, Name: name}}))
}

func seal(t require.TestingT, in *points.Intake, at time.Time) *points.Seal {
	x, err := in.Seal(points.Seal{CaptureAt: at, Consistency: "crash",
		Machines: []points.SealMachine{{ID: "m1", Name: "tick-db", Disks: []points.SealDisk{{Key: "disk0"}}}}})
	require.NoError(t, err)
	return x
}

func content(t require.TestingT, s *points.Store, x *points.Seal) []byte {
	d, ok := x.Disk("m1", "disk0")
	require.True(t, ok)
	b := make([]byte, d.Size)
	n, err := s.Disk(d.Root, d.Size).ReadAt(b, 0)
	require.NoError(t, err)
	require.Equal(t, len(b), n)
	return b
}

// Any order of writes, seals, drops, sweeps and restarts: every point that is
// listed reads back exactly, and a check finds nothing.
func TestEveryListedPointReadsBackExactly(t *testing.T) {
	t.Run("directory", func(t *testing.T) {
		everyListedPoint(t, func(*rapid.T, string) files.System { return files.OS{} })
	})
	t.Run("objects", func(t *testing.T) {
		s := buckettest.Start(t)
		checks := flag.Lookup("rapid.checks").Value
		was := checks.String()
		require.NoError(t, checks.Set("12")) // each makes a store over a network
		defer func() { require.NoError(t, checks.Set(was)) }()
		n := 0
		url := s.Config.URL
		everyListedPoint(t, func(t *rapid.T, dir string) files.System {
			n++
			s.Config.URL = fmt.Sprintf("%s-%d", url, n)
			return s.Open(t, dir)
		})
	})
}

func everyListedPoint(t *testing.T, system func(t *rapid.T, dir string) files.System) {
	rapid.Check(t, func(t *rapid.T) {
		dir, err := os.MkdirTemp("", "points")
		require.NoError(t, err)
		defer func() { _ = os.RemoveAll(dir) }()
		fs := system(t, dir)
		open := func() *points.Store {
			s, err := points.Open(dir, points.Options{Now: time.Now, Files: fs, PackBytes: 1 << 20})
			require.NoError(t, err)
			return s
		}
		s := open()
		r := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		m := &model{data: make([]byte, diskSize)}
		at := time.Unix(1_790_000_000, 0)
		want := map[string][]byte{}
		in, _, err := s.OpenIntake(spec(m))
		require.NoError(t, err)
		pool := [][]byte{randomBlock(r), randomBlock(r), make([]byte, points.BlockSize)}
		for range rapid.IntRange(5, 25).Draw(t, "steps") {
			switch rapid.IntRange(0, 9).Draw(t, "step") {
			case 0: // seal and begin the next
				at = at.Add(time.Second)
				m.base = seal(t, in, at)
				want[m.base.Point] = bytes.Clone(m.data)
				in, _, err = s.OpenIntake(spec(m))
				require.NoError(t, err)
			case 1: // restart
				require.NoError(t, s.Close())
				s = open()
				in, err = s.Intake(in.ID)
				require.NoError(t, err)
			case 2: // drop one that is not the newest
				for id := range want {
					if m.base.Point != id {
						require.NoError(t, s.Drop(id))
						delete(want, id)
						break
					}
				}
			case 3:
				_, err := s.Sweep(context.Background())
				require.NoError(t, err)
			case 4: // a run of zeros
				index := r.Int64N(points.Blocks(diskSize))
				count := 1 + r.Int64N(points.Blocks(diskSize)-index)
				clear(m.data[index*points.BlockSize : min(diskSize, (index+count)*points.BlockSize)])
				require.NoError(t, in.Record([]points.Entry{{Index: index, Count: uint32(count)}}))
			case 5, 6:
				send(t, in, m, r.Int64N(points.Blocks(diskSize)), pool[r.IntN(len(pool))])
			default:
				send(t, in, m, r.Int64N(points.Blocks(diskSize)), randomBlock(r))
			}
		}
		require.Len(t, s.Points(groupID), len(want))
		for _, x := range s.Points(groupID) {
			require.True(t, bytes.Equal(want[x.Point], content(t, s, x)), "point %s differs", x.Point)
		}
		rep, err := s.Verify(context.Background(), nil)
		require.NoError(t, err)
		require.Empty(t, rep.Faults)
		require.NoError(t, s.Close())
	})
}

// filled makes a store with one point of n random blocks.
func filled(t *testing.T, n int64) (string, *points.Store, *points.Seal, *model) {
	t.Helper()
	dir := t.TempDir()
	s := open(t, dir)
	r := rand.New(rand.NewPCG(7, 7))
	m := &model{data: make([]byte, diskSize)}
	in, _, err := s.OpenIntake(spec(m))
	require.NoError(t, err)
	for i := range n {
		send(t, in, m, i, randomBlock(r))
	}
	m.base = seal(t, in, time.Now())
	return dir, s, m.base, m
}

func flip(t *testing.T, path string, off int64) {
	t.Helper()
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	require.NoError(t, err)
	b := make([]byte, 1)
	_, err = f.ReadAt(b, off)
	require.NoError(t, err)
	b[0] ^= 0x10
	_, err = f.WriteAt(b, off)
	require.NoError(t, err)
	require.NoError(t, f.Close())
}

// A flipped bit anywhere in a pack, in a header or a payload, is found, its
// place named, and the point that loses by it listed, whether the pack's index
// is there or not and whether the service was restarted in between or not.
func TestFlippedBitIsFoundAndNamed(t *testing.T) {
	for _, restart := range []bool{false, true} {
		for _, off := range []int64{40, 32 + 20, 32 + 56 + 300, 32 + 54} {
			t.Run(fmt.Sprintf("restart=%v/offset=%d", restart, off), func(t *testing.T) {
				dir, s, x, m := filled(t, 6)
				packs, err := filepath.Glob(filepath.Join(dir, "packs", "*.pack"))
				require.NoError(t, err)
				require.Len(t, packs, 1)
				flip(t, packs[0], off)
				if restart {
					require.NoError(t, s.Close())
					s = open(t, dir)
				}
				rep, err := s.Verify(context.Background(), nil)
				require.NoError(t, err)
				require.NotEmpty(t, rep.Faults)
				var hit []string
				named := false
				for _, f := range rep.Faults {
					hit = append(hit, f.Points...)
					named = named || f.Where == fmt.Sprintf("packs/%s at 32", filepath.Base(packs[0]))
				}
				require.True(t, named, "%+v", rep.Faults)
				require.Contains(t, hit, x.Point)
				d, _ := x.Disk("m1", "disk0")
				_, err = s.Disk(d.Root, d.Size).ReadAt(make([]byte, points.BlockSize), 0)
				require.Error(t, err, "damaged bytes must never be handed out")
				// Once found bad the block counts as missing, and is healed by
				// the next one shipped with the same name.
				in, _, err := s.OpenIntake(spec(m))
				require.NoError(t, err)
				send(t, in, m, 0, bytes.Clone(m.data[:points.BlockSize]))
				require.Equal(t, m.data, content(t, s, x))
			})
		}
	}
}

func TestFlippedSealIsFoundAndNotListed(t *testing.T) {
	dir, s, x, _ := filled(t, 2)
	require.NoError(t, s.Close())
	seals, err := filepath.Glob(filepath.Join(dir, "seals", groupID, "*.seal"))
	require.NoError(t, err)
	require.Len(t, seals, 1)
	flip(t, seals[0], 60)
	s = open(t, dir)
	_, err = s.Point(x.Point)
	require.ErrorIs(t, err, points.ErrNotFound)
	rep, err := s.Verify(context.Background(), nil)
	require.NoError(t, err)
	require.Len(t, rep.Faults, 1)
	require.Contains(t, rep.Faults[0].Where, filepath.Base(seals[0]))
}

// An append cut short by a crash is no fault, hides nothing before it, and the
// intake goes on from what is whole.
func TestTornTailIsHarmless(t *testing.T) {
	dir, s, x, m := filled(t, 3)
	in, _, err := s.OpenIntake(spec(m))
	require.NoError(t, err)
	before := bytes.Clone(m.data)
	r := rand.New(rand.NewPCG(9, 9))
	send(t, in, m, 4, randomBlock(r))
	send(t, in, m, 5, randomBlock(r))
	require.NoError(t, s.Close())
	pack := filepath.Join(dir, "packs", "00000001.pack")
	st, err := os.Stat(pack)
	require.NoError(t, err)
	require.NoError(t, os.Truncate(pack, st.Size()-1000))
	_ = os.Remove(filepath.Join(dir, "packs", "00000001.index"))

	s = open(t, dir)
	require.Equal(t, before, content(t, s, x))
	rep, err := s.Verify(context.Background(), nil)
	require.NoError(t, err)
	require.Empty(t, rep.Faults)
	require.Positive(t, rep.Leftovers)
	in, err = s.Intake(in.ID)
	require.NoError(t, err)
	done := in.Recorded(0)
	require.NotZero(t, done[0]&(1<<4), "block 4 was whole")
	require.Zero(t, done[0]&(1<<5), "block 5 was cut and must be asked for again")
}

func TestRefusals(t *testing.T) {
	dir, s, x, m := filled(t, 2)
	in, _, err := s.OpenIntake(spec(m))
	require.NoError(t, err)
	block := randomBlock(rand.New(rand.NewPCG(3, 3)))
	name := points.NameOf(block)
	wrong := bytes.Clone(block)
	wrong[5]++
	require.ErrorIs(t, in.Put(name, points.EncodingRaw, points.BlockSize, wrong), points.ErrDamaged)
	require.False(t, s.Has(name))
	var missing *points.MissingError
	require.ErrorAs(t, in.Record([]points.Entry{{Index: 0, Count: 1, Name: name}}), &missing)
	require.Error(t, in.Record([]points.Entry{{Index: 1 << 40, Count: 1}}))
	require.Error(t, in.Record([]points.Entry{{Disk: 9, Count: 1}}))

	_, release, err := s.Use(x.Point)
	require.NoError(t, err)
	require.ErrorIs(t, s.Drop(x.Point), points.ErrInUse)
	release()
	release() // a second call counts for nothing
	require.NoError(t, s.Drop(x.Point))
	require.ErrorIs(t, s.Drop(x.Point), points.ErrNotFound)

	_, err = points.Open(dir, points.Options{Now: time.Now})
	require.ErrorContains(t, err, "another process")
}

// A cycle seals once: opening its intake again gives the point it made.
func TestSealedCycleIsNotSealedTwice(t *testing.T) {
	_, s, _, m := filled(t, 1)
	sp := spec(m)
	in, _, err := s.OpenIntake(sp)
	require.NoError(t, err)
	x := seal(t, in, time.Now())
	in, again, err := s.OpenIntake(sp)
	require.NoError(t, err)
	require.Nil(t, in)
	require.Equal(t, x.Point, again.Point)
}

// Room comes back when points go: after all but the newest of many points that
// overwrite each other are dropped, nearly all dead bytes are given back.
func TestSweepGivesRoomBack(t *testing.T) {
	_, s, _, m := filled(t, 8)
	r := rand.New(rand.NewPCG(5, 5))
	at := time.Now()
	for range 20 {
		in, _, err := s.OpenIntake(spec(m))
		require.NoError(t, err)
		for i := range int64(8) {
			send(t, in, m, i, randomBlock(r))
		}
		at = at.Add(time.Second)
		m.base = seal(t, in, at)
	}
	for _, x := range s.Points(groupID) {
		if x.Point != m.base.Point {
			require.NoError(t, s.Drop(x.Point))
		}
	}
	// The pack being written is never swept; a restart begins another.
	require.NoError(t, s.Close())
	s = open(t, s.Dir())
	before := s.Usage().PackBytes
	swept, err := s.Sweep(context.Background())
	require.NoError(t, err)
	require.Positive(t, swept.Freed)
	require.Less(t, float64(s.Usage().PackBytes), 0.1*float64(before))
	require.True(t, bytes.Equal(m.data, content(t, s, m.base)))
}

func TestExtentsTellHolesFromData(t *testing.T) {
	_, s, x, _ := filled(t, 3)
	d, _ := x.Disk("m1", "disk0")
	ext, err := s.Disk(d.Root, d.Size).Extents(0, d.Size)
	require.NoError(t, err)
	require.Equal(t, []points.Extent{{Length: 3 * points.BlockSize}, {Length: diskSize - 3*points.BlockSize, Zero: true}}, ext)
	_, err = s.Block(nil, points.Name{1})
	require.True(t, errors.Is(err, points.ErrNotFound))
}
