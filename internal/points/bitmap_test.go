package points

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// A bitmap is a set, whatever is set and cleared in which order.
func TestABitmapIsASet(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		b, want := newBitmap(), map[int64]bool{}
		const blocks = 4 * pageBlocks
		for range rapid.IntRange(0, 12).Draw(t, "steps") {
			first := rapid.Int64Range(0, blocks-1).Draw(t, "first")
			if rapid.IntRange(0, 2).Draw(t, "clear") == 0 {
				b.clear(first)
				delete(want, first)
				continue
			}
			count := rapid.Int64Range(1, blocks-first).Draw(t, "count")
			b.set(first, count)
			for i := first; i < first+count; i++ {
				want[i] = true
			}
		}
		bytes := b.bytes()
		n := 0
		for i := range int64(len(bytes)) * 8 {
			set := bytes[i/8]&(1<<(i%8)) != 0
			require.Equal(t, want[i], set)
			require.Equal(t, want[i], b.get(i))
			if set {
				n++
			}
		}
		require.Len(t, want, n, "nothing is set beyond its end")
	})
}

// A disk of 64 TiB takes no room before something of it arrives, and little if it is
// all zeros.
func TestABitmapOfALargeDiskIsSmall(t *testing.T) {
	const blocks = 64 << 40 / BlockSize
	b := newBitmap()
	require.Empty(t, b.bytes())
	b.set(0, blocks)
	require.Len(t, b.pages, blocks/pageBlocks)
	owned := 0
	for _, p := range b.pages {
		if p != b.full {
			owned++
		}
	}
	require.Zero(t, owned)
	b.clear(blocks - 1)
	require.False(t, b.get(blocks-1))
	require.True(t, b.get(blocks-2))
	require.Equal(t, ^uint64(0), b.full[0], "the shared page stays as it is")
}
