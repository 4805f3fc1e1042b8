package points

import (
	"encoding/binary"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// BenchmarkIndex fills an index with millions of blocks as packs are closed, and looks some up
// that are there, and some that are not:
//
//	go test ./internal/points -run '^$' -bench 'Index/10$' -benchtime 1x
func BenchmarkIndex(b *testing.B) {
	for _, millions := range []int{1, 10, 100} {
		b.Run(fmt.Sprint(millions), func(b *testing.B) {
			dir := filepath.Join(b.TempDir(), "index")
			const inPack = 4096
			name := func(i uint64) (n Name) { // as random as names are
				r := rand.New(rand.NewPCG(i, 3))
				binary.LittleEndian.PutUint64(n[:], r.Uint64())
				binary.LittleEndian.PutUint64(n[8:], r.Uint64())
				return n
			}
			x, err := openIndex(Index{Dir: dir}, "bench", nil)
			require.NoError(b, err)
			packs := []uint32{}
			total := uint64(millions) * 1_000_000
			entries := make([]entry, 0, inPack)
			for range b.N {
				for i := uint64(0); i < total; {
					n := uint32(len(packs) + 1)
					entries = entries[:0]
					for ; len(entries) < inPack && i < total; i++ {
						e := entry{name: name(i), offset: uint32(len(entries)), stored: 1}
						x.set(keyOf(e.name), location{n, e.offset, e.stored}, false)
						entries = append(entries, e)
					}
					require.NoError(b, x.settle(n, packKnown{size: 7}, entries))
					packs = append(packs, n)
				}
			}
			b.ReportMetric(b.Elapsed().Seconds()*1e9/float64(total), "ns/insert")
			from := b.Elapsed()
			require.NoError(b, x.close())
			x, err = openIndex(Index{Dir: dir}, "bench", packs)
			require.NoError(b, err)
			b.ReportMetric(float64((b.Elapsed() - from).Milliseconds()), "ms/reopen")
			require.EqualValues(b, total, x.size())
			const looks = 200_000
			for what, off := range map[string]uint64{"there": 0, "absent": total} {
				from := b.Elapsed()
				found := 0
				for range looks {
					if _, ok := x.get(keyOf(name(off + rand.Uint64N(total)))); ok {
						found++
					}
				}
				b.ReportMetric(float64((b.Elapsed()-from).Nanoseconds())/looks, "ns/"+what)
				require.Equal(b, map[string]int{"there": looks, "absent": 0}[what], found)
			}
			b.ReportMetric(float64(resident())/(1<<20), "MiB/memory")
			size := int64(0)
			require.NoError(b, filepath.WalkDir(dir, func(_ string, d fs.DirEntry, err error) error {
				if err == nil && !d.IsDir() {
					var i fs.FileInfo
					if i, err = d.Info(); err == nil {
						size += i.Size()
					}
				}
				return err
			}))
			b.ReportMetric(float64(size)/float64(total), "bytes/block")
			require.NoError(b, x.close())
		})
	}
}

// resident is the most memory that the process has held, in bytes.
func resident() (bytes int64) {
	runtime.GC()
	text, err := os.ReadFile("/proc/self/status")
	if err != nil {
		return 0
	}
	_, rest, _ := strings.Cut(string(text), "VmHWM:")
	_, _ = fmt.Sscan(rest, &bytes)
	return bytes << 10
}
