package points

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/cockroachdb/pebble/v2/vfs"
	"github.com/stretchr/testify/require"
)

// indexed is an index beside what it has to tell: packs with their records, and where the newest
// record of each block stands.
type indexed struct {
	t     *testing.T
	fs    *vfs.MemFS
	x     *blockIndex
	packs map[uint32][]entry
	next  uint32
	// free are blocks whose newest record went, since nobody needed it: the index may tell of an
	// older one, or of none.
	free map[Name]bool
}

func (m *indexed) open() {
	var numbers []uint32
	for n := range m.packs {
		numbers = append(numbers, n)
	}
	slices.Sort(numbers)
	x, err := openIndex(Index{Dir: "index", Cache: 1 << 20, Files: m.fs}, "store", numbers)
	require.NoError(m.t, err)
	m.x = x
	for _, n := range numbers { // as a store does that is opened
		if _, ok := x.knows(n, 7, n); ok {
			continue
		}
		for i, e := range m.packs[n] {
			was, had := x.get(keyOf(e.name))
			m.packs[n][i].before = was
			if !had || was.pack <= n {
				x.set(keyOf(e.name), location{n, e.offset, e.stored}, had)
			}
		}
		require.NoError(m.t, x.settle(n, packKnown{size: 7, head: n}, m.packs[n]))
	}
}

// write appends a record of a block to the newest pack.
func (m *indexed) write(name Name) {
	delete(m.free, name)
	was, had := m.x.get(keyOf(name))
	e := entry{name: name, offset: uint32(len(m.packs[m.next])), stored: 1, before: was}
	m.packs[m.next] = append(m.packs[m.next], e)
	m.x.set(keyOf(name), location{m.next, e.offset, e.stored}, had)
}

// newest is where the newest record of a block stands.
func (m *indexed) newest(name Name) (at location, ok bool) {
	for n, entries := range m.packs {
		for _, e := range entries {
			if e.name == name && (n > at.pack || n == at.pack && e.offset >= at.offset) {
				at, ok = location{n, e.offset, e.stored}, true
			}
		}
	}
	return at, ok
}

// Whatever is written, settled, swept and cut off, the index tells where the newest record of
// each block stands, and of none that is not there.
func TestTheIndexTellsWhereBlocksStand(t *testing.T) {
	for seed := range uint64(20) {
		r := rand.New(rand.NewPCG(seed, 9))
		m := &indexed{t: t, fs: vfs.NewCrashableMem(), packs: map[uint32][]entry{}, next: 1, free: map[Name]bool{}}
		m.open()
		names := make([]Name, 40)
		for i := range names {
			names[i] = NameOf(fmt.Appendf(nil, "block %d", i))
		}
		for range 200 {
			switch k := r.IntN(20); {
			case k < 12:
				m.write(names[r.IntN(len(names))])
			case k < 15 && len(m.packs[m.next]) > 0: // the pack is full
				if r.IntN(3) > 0 {
					require.NoError(t, m.x.settle(m.next, packKnown{size: 7, head: m.next}, m.packs[m.next]))
				}
				m.next++
			case k < 18: // a pack is swept: what is newest in it is written anew, or nobody needs it
				for n, entries := range m.packs {
					if n == m.next {
						continue
					}
					for _, e := range entries {
						if at, _ := m.newest(e.name); at == (location{n, e.offset, e.stored}) {
							if m.free[e.name] || r.IntN(2) == 0 {
								m.free[e.name] = true
							} else {
								m.write(e.name)
							}
						}
					}
					require.NoError(t, m.x.leave(n, entries))
					delete(m.packs, n)
					break
				}
			case k == 18:
				require.NoError(t, m.x.close())
				m.open()
				m.next++
			default: // the power is cut
				m.fs = m.fs.CrashClone(vfs.CrashCloneCfg{})
				require.NoError(t, m.x.halt())
				m.open()
				m.next++
			}
			count := 0
			for i, name := range names {
				want, is := m.newest(name)
				got, ok := m.x.get(keyOf(name))
				if ok {
					count++
				}
				if !m.free[name] {
					require.Equal(t, is, ok, "seed %d: block %d", seed, i)
					require.Equal(t, want, got, "seed %d: block %d", seed, i)
				} else if ok {
					require.Greater(t, len(m.packs[got.pack]), int(got.offset), "seed %d: block %d", seed, i)
					require.Equal(t, name, m.packs[got.pack][got.offset].name, "seed %d: block %d", seed, i)
				}
			}
			require.Equal(t, count, m.x.size(), "seed %d", seed)
			require.NoError(t, m.x.trusted())
		}
		require.NoError(t, m.x.close())
	}
}

// A store that is opened again reads no pack that its index knows; one whose index is gone, is of
// another store, is broken, or knows packs that are not there, reads them all.
func TestAnIndexIsMadeAnew(t *testing.T) {
	dir, at := t.TempDir(), filepath.Join(t.TempDir(), "index")
	open := func(dir string) *Store {
		s, err := Open(dir, Options{Now: time.Now, PackBytes: 64 << 10, Index: Index{Dir: at}})
		require.NoError(t, err)
		return s
	}
	s := open(dir)
	var names []Name
	for i := range 50 {
		b := make([]byte, BlockSize)
		for j := range b {
			b[j] = byte(rand.Uint32())
		}
		b[0] = byte(i)
		name := NameOf(b)
		enc, stored := Encode(nil, b, EncodingS2)
		require.NoError(t, s.put(KindBlock, name, enc, BlockSize, stored))
		names = append(names, name)
		require.NoError(t, s.Sync())
	}
	whole := func(s *Store, young bool) {
		t.Helper()
		for _, n := range names {
			_, err := s.Block(nil, n)
			require.NoError(t, err)
		}
		require.Equal(t, len(names), s.Usage().Records)
		require.Equal(t, young, len(s.index.young) > 0, "%d in memory", len(s.index.young))
		require.NoError(t, s.Close())
		_, err := s.Block(nil, names[0])
		require.Error(t, err, "it is closed, and whoever still reads is told")
	}
	whole(s, true)
	hidden := func() { // the packs' own indexes cannot be read, and neither need they be
		files, err := filepath.Glob(filepath.Join(dir, "packs", "*"+filepath.Ext(indexPath("", 1))))
		require.NoError(t, err)
		require.NotEmpty(t, files)
		for _, f := range files {
			require.NoError(t, os.WriteFile(f, []byte("nothing"), 0o600))
		}
	}
	whole(open(dir), false)
	hidden()
	whole(open(dir), false)
	require.NoError(t, os.RemoveAll(at))
	whole(open(dir), false)
	files, err := filepath.Glob(filepath.Join(at, "*"))
	require.NoError(t, err)
	for _, f := range files {
		require.NoError(t, os.WriteFile(f, []byte("nothing"), 0o600))
	}
	whole(open(dir), false)
	other := open(t.TempDir())
	require.False(t, other.Has(names[0]), "it is of another store")
	require.Zero(t, other.Usage().Records)
	require.NoError(t, other.Close())
	whole(open(dir), false)
	// Somebody has put an older state of the store back.
	packs, err := filepath.Glob(filepath.Join(dir, "packs", "*.pack"))
	require.NoError(t, err)
	if len(packs) == 0 {
		packs, err = filepath.Glob(packPath(filepath.Join(dir, "packs"), 1))
		require.NoError(t, err)
	}
	require.NoError(t, os.Remove(packs[0]))
	s = open(dir)
	require.False(t, s.Has(names[0]), "what is not there is not told of")
	require.True(t, s.Has(names[len(names)-1]))
	require.NoError(t, s.Close())
}
