package bucket

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
)

// file is an object that is being written, or one that is read through the
// cache.
type file struct {
	fs     *FS
	rel    string
	c      *cached
	closed bool
}

// Size implements files.File.
func (f *file) Size() (int64, error) {
	f.fs.mu.Lock()
	size, stored := f.fs.objects[f.rel]
	f.fs.mu.Unlock()
	if stored {
		return size, nil
	}
	return f.c.file.Size()
}

// WriteAt implements files.File, until the file is synced.
func (f *file) WriteAt(p []byte, off int64) (int, error) {
	f.fs.mu.Lock()
	stored := f.c.stored
	f.fs.mu.Unlock()
	if stored {
		return 0, errors.New("an object that is stored cannot be written to")
	}
	return f.c.file.WriteAt(p, off)
}

// Sync implements files.File: it stores the object.
func (f *file) Sync() error {
	f.fs.mu.Lock()
	stored := f.c.stored
	f.fs.mu.Unlock()
	if stored {
		return nil
	}
	size, err := f.c.file.Size()
	if err != nil {
		return err
	}
	ctx, cancel := within()
	defer cancel()
	if err := f.fs.put(ctx, f.rel, io.NewSectionReader(f.c.file, 0, size), size); err != nil {
		return err
	}
	f.fs.mu.Lock()
	defer f.fs.mu.Unlock()
	f.c.stored, f.c.bytes = true, size
	f.fs.used += size
	f.fs.makeRoom(f.c)
	return nil
}

// ReadAt implements files.File.
func (f *file) ReadAt(p []byte, off int64) (int, error) {
	size, err := f.Size()
	if err != nil {
		return 0, err
	}
	if off >= size {
		return 0, io.EOF
	}
	want := p[:min(int64(len(p)), size-off)]
	for done := 0; done < len(want); {
		at := off + int64(done)
		n := min(len(want)-done, int(piece-at%piece))
		if err := f.readPiece(want[done:done+n], at, size); err != nil {
			return done, err
		}
		done += n
	}
	if len(want) < len(p) {
		return len(want), io.EOF
	}
	return len(want), nil
}

// readPiece reads within one piece: from here if it is here, or else it is
// fetched and kept.
func (f *file) readPiece(p []byte, at, size int64) error {
	s, c := f.fs, f.c
	n := at / piece
	s.mu.Lock()
	s.tick++
	c.last = s.tick
	if c.whole || c.have[n] {
		// The lock is held while it is read, so that it is not let go of.
		defer s.mu.Unlock()
		_, err := c.file.ReadAt(p, at)
		return err
	}
	s.mu.Unlock()
	from, length := n*piece, min(piece, size-n*piece)
	short := at+int64(len(p)) <= headLen
	if short {
		length = min(headLen, size)
	}
	ctx, cancel := context.WithTimeout(context.Background(), deadline)
	defer cancel()
	b, err := s.get(ctx, f.rel, from, length)
	if err != nil {
		return err
	}
	if int64(len(b)) != length {
		return io.ErrUnexpectedEOF
	}
	copy(p, b[at-from:])
	if short {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.cached[f.rel] != c || c.have[n] || c.whole {
		return nil
	}
	if c.file == nil {
		local := filepath.Join(s.root, "cache", f.rel)
		if err := s.OS.MkdirAll(filepath.Dir(local)); err != nil {
			return nil // reading goes on without a cache
		}
		if c.file, err = s.OS.Create(local); err != nil {
			c.file = nil
			return nil
		}
	}
	if _, err := c.file.WriteAt(b, from); err != nil {
		return nil
	}
	c.have[n] = true
	c.bytes += length
	s.used += length
	s.makeRoom(c)
	return nil
}

// makeRoom lets go of what was used longest ago until the cache is within its
// limit; mu is held.
func (s *FS) makeRoom(but *cached) {
	for s.used > s.limit {
		var oldest *cached
		var rel string
		for r, c := range s.cached {
			if c != but && c.stored && c.bytes > 0 && (oldest == nil || c.last < oldest.last) {
				oldest, rel = c, r
			}
		}
		if oldest == nil {
			return
		}
		s.used -= oldest.bytes
		oldest.bytes, oldest.whole, oldest.have = 0, false, map[int64]bool{}
		if oldest.file != nil {
			_ = oldest.file.Close()
			oldest.file = nil
		}
		for _, local := range []string{filepath.Join(s.root, rel), filepath.Join(s.root, "cache", rel)} {
			_ = os.Remove(local)
		}
	}
}

// DropCache implements files.Hinter: what is read next is what is stored.
func (f *file) DropCache() {
	s, c := f.fs, f.c
	s.mu.Lock()
	defer s.mu.Unlock()
	if !c.stored {
		return
	}
	s.used -= c.bytes
	c.bytes, c.whole, c.have = 0, false, map[int64]bool{}
	if c.file != nil {
		_ = c.file.Close()
		c.file = nil
	}
	for _, local := range []string{filepath.Join(s.root, f.rel), filepath.Join(s.root, "cache", f.rel)} {
		_ = os.Remove(local)
	}
}

// BeginWriting implements files.Hinter.
func (f *file) BeginWriting(int64, int64) {}

// Close implements files.File.
func (f *file) Close() error {
	s := f.fs
	s.mu.Lock()
	defer s.mu.Unlock()
	if f.closed {
		return nil
	}
	f.closed = true
	f.c.refs--
	if f.c.refs > 0 || f.c.file == nil {
		return nil
	}
	err := f.c.file.Close()
	f.c.file = nil
	f.c.whole, f.c.have = false, map[int64]bool{}
	s.used -= f.c.bytes
	f.c.bytes = 0
	if s.cached[f.rel] == f.c {
		delete(s.cached, f.rel)
	}
	return err
}
