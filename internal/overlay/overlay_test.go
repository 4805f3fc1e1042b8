package overlay_test

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/overlay"
)

type base struct{ *bytes.Reader }

func (b base) Size() int64 { return b.Reader.Size() }

// Whatever is written, zeroed, flushed and opened again reads back as on a plain
// disk; what was not written is the base's; and the base never changes.
func TestOverlayIsADisk(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		size := rapid.IntRange(1, 40*overlay.Granule).Draw(t, "size")
		below := bytes.Repeat([]byte{0xb5}, size)
		want := bytes.Clone(below)
		dir, err := os.MkdirTemp("", "overlay")
		require.NoError(t, err)
		defer func() { _ = os.RemoveAll(dir) }()
		path := filepath.Join(dir, "disk")
		open := func() *overlay.Disk {
			d, err := overlay.Open(path, base{bytes.NewReader(below)}, nil)
			require.NoError(t, err)
			return d
		}
		d := open()
		for range rapid.IntRange(1, 30).Draw(t, "steps") {
			off := rapid.IntRange(0, size-1).Draw(t, "off")
			n := rapid.IntRange(1, size-off).Draw(t, "length")
			switch rapid.IntRange(0, 5).Draw(t, "step") {
			case 0:
				require.NoError(t, d.Zero(int64(off), int64(n)))
				clear(want[off : off+n])
			case 1:
				require.NoError(t, d.Close())
				d = open()
			case 2:
				require.NoError(t, d.Flush())
			default:
				p := bytes.Repeat([]byte{rapid.Byte().Draw(t, "byte")}, n)
				_, err := d.WriteAt(p, int64(off))
				require.NoError(t, err)
				copy(want[off:], p)
			}
			got := make([]byte, size)
			_, err = d.ReadAt(got, 0)
			require.NoError(t, err)
			require.True(t, bytes.Equal(want, got))
			at := int64(0)
			for _, e := range d.Extents(0, int64(size)) {
				require.Positive(t, e.Length)
				part := want[at : at+e.Length]
				if e.Zero {
					require.Equal(t, len(part), bytes.Count(part, []byte{0}))
				}
				if !e.Ours {
					require.Equal(t, below[at:at+e.Length], part)
				}
				at += e.Length
			}
			require.Equal(t, int64(size), at)
		}
		require.NoError(t, d.Close())
		require.NoError(t, overlay.Remove(path))
		require.Equal(t, bytes.Repeat([]byte{0xb5}, size), below)
	})
}

func TestOverlayRefuses(t *testing.T) {
	full := errors.New("full")
	var room error
	d, err := overlay.Open(filepath.Join(t.TempDir(), "d"), base{bytes.NewReader(make([]byte, 10_000))}, func() error { return room })
	require.NoError(t, err)
	defer func() { require.NoError(t, d.Close()) }()
	_, err = d.WriteAt([]byte{1, 2}, 9_999)
	require.Error(t, err)
	require.Error(t, d.Zero(-1, 3))
	require.Zero(t, d.Written())
	room = full
	_, err = d.WriteAt([]byte{1}, 0)
	require.ErrorIs(t, err, full)
	room = nil
	_, err = d.WriteAt([]byte{1}, 0)
	require.NoError(t, err)
	require.Equal(t, int64(overlay.Granule), d.Written())
}
