package qcow2_test

import (
	"bytes"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"kestrel/internal/qcow2"
)

// content is a disk that is in part zero, text and noise, cut at an odd place.
func content(size int) []byte {
	r := rand.New(rand.NewPCG(1, 2))
	b := make([]byte, size)
	for at := 0; at < size; at += 64 << 10 {
		part := b[at:min(at+64<<10, size)]
		switch r.IntN(3) {
		case 1:
			copy(part, bytes.Repeat([]byte("pier and ferry "), 5000))
		case 2:
			for i := range part {
				part[i] = byte(r.Uint32())
			}
		}
	}
	return b
}

func tool(t *testing.T, args ...string) string {
	t.Helper()
	out, err := exec.Command("qemu-img", args...).CombinedOutput()
	require.NoError(t, err, "%v: %s", args, out)
	return string(out)
}

// What QEMU writes is read to the byte, in all of its ways to write it.
func TestReadsWhatQEMUWrites(t *testing.T) {
	want := content(9<<20 + 4096 + 512)
	dir := t.TempDir()
	raw := filepath.Join(dir, "disk.raw")
	require.NoError(t, os.WriteFile(raw, want, 0o600))
	for name, options := range map[string][]string{
		"plain": {}, "deflated": {"-c"}, "zstd": {"-c", "-o", "compression_type=zstd"}, "version 2": {"-o", "compat=0.10"},
		"small clusters": {"-o", "cluster_size=512"}, "large clusters": {"-c", "-o", "cluster_size=2M"}, "preallocated": {"-o", "preallocation=metadata"},
	} {
		t.Run(name, func(t *testing.T) {
			path := filepath.Join(dir, name+".qcow2")
			tool(t, append(append([]string{"convert", "-f", "raw", "-O", "qcow2"}, options...), raw, path)...)
			f, err := os.Open(path)
			require.NoError(t, err)
			defer func() { _ = f.Close() }()
			require.True(t, qcow2.Is(f))
			im, err := qcow2.Open(f)
			require.NoError(t, err)
			require.Equal(t, int64(len(want)), im.Size())
			got := make([]byte, len(want))
			_, err = im.ReadAt(got, 0)
			require.NoError(t, err)
			require.True(t, bytes.Equal(want, got))
		})
	}
	back := filepath.Join(dir, "back.qcow2")
	tool(t, "create", "-f", "qcow2", "-F", "raw", "-b", raw, back)
	f, err := os.Open(back)
	require.NoError(t, err)
	defer func() { _ = f.Close() }()
	_, err = qcow2.Open(f)
	require.ErrorIs(t, err, qcow2.ErrImage)
	require.ErrorContains(t, err, "backing file")
}

// QEMU finds nothing wrong with what is written here, and reads the same disk.
func TestQEMUReadsWhatIsWritten(t *testing.T) {
	for _, size := range []int{512, 64 << 10, 7<<20 + 1536} {
		want := content(size)
		path := filepath.Join(t.TempDir(), "disk.qcow2")
		f, err := os.Create(path)
		require.NoError(t, err)
		w, err := qcow2.NewWriter(f, int64(size))
		require.NoError(t, err)
		for at := 0; at < size; at += 64 << 10 {
			if part := want[at:min(at+64<<10, size)]; bytes.Count(part, []byte{0}) < len(part) {
				_, err := w.WriteAt(part, int64(at))
				require.NoError(t, err)
			}
		}
		_, err = w.WriteAt([]byte{1}, 3)
		require.Error(t, err)
		require.NoError(t, w.Finish())
		require.NoError(t, f.Close())
		require.Contains(t, tool(t, "check", "-f", "qcow2", path), "No errors were found")
		raw := path + ".raw"
		tool(t, "convert", "-f", "qcow2", "-O", "raw", path, raw)
		got, err := os.ReadFile(raw)
		require.NoError(t, err)
		require.True(t, bytes.Equal(want, got), "%d bytes", size)
	}
}

// Whatever a file holds, reading it ends with an error or with bytes.
func FuzzOpen(f *testing.F) {
	dir := f.TempDir()
	raw, path := filepath.Join(dir, "disk.raw"), filepath.Join(dir, "disk.qcow2")
	require.NoError(f, os.WriteFile(raw, content(300 << 10)[:300<<10], 0o600))
	for _, options := range [][]string{{}, {"-c"}, {"-c", "-o", "compression_type=zstd"}} {
		if exec.Command("qemu-img", append(append([]string{"convert", "-f", "raw", "-O", "qcow2", "-o", "cluster_size=4096"}, options...), raw, path)...).Run() == nil {
			b, err := os.ReadFile(path)
			require.NoError(f, err)
			f.Add(b[:min(len(b), 48<<10)])
		}
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		im, err := qcow2.Open(bytes.NewReader(b))
		if err != nil {
			require.ErrorIs(t, err, qcow2.ErrImage)
			return
		}
		p := make([]byte, 8192)
		for off := int64(0); off < min(im.Size(), 1<<20); off += 64 << 10 {
			_, _ = im.ReadAt(p, off)
		}
	})
}
