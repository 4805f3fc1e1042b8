// Package files is the little that the point store asks of a file system, so
// that it can be run on one that fails as disks do.
package files

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// File is an open file.
type File interface {
	io.ReaderAt
	io.WriterAt
	// Size is the length of the file in bytes.
	Size() (int64, error)
	// Sync makes what was written durable. After an error it is not known what
	// is, and a later success says nothing of what came before.
	Sync() error
	Close() error
}

// Entry is a name in a folder.
type Entry struct {
	Name string
	Dir  bool
}

// System is a file system. Missing files give errors that are fs.ErrNotExist.
// A new, renamed or removed name is durable only after SyncDir of its folder.
type System interface {
	Open(path string) (File, error)      // for reading
	Create(path string) (File, error)    // for reading and writing, emptied
	CreateNew(path string) (File, error) // as Create; fails if there is one
	Edit(path string) (File, error)      // for reading and writing, made if there is none
	ReadFile(path string) ([]byte, error)
	Rename(from, to string) error
	Remove(path string) error
	List(dir string) ([]Entry, error) // ordered by name
	MkdirAll(dir string) error
	SyncDir(dir string) error
	// Free is the room left for this user where dir is, in bytes.
	Free(dir string) (int64, error)
	// Lock takes a file for this process alone until it is closed.
	Lock(path string) (io.Closer, error)
}

// Hinter is a file whose cache can be steered.
type Hinter interface {
	// BeginWriting tells the kernel to begin writing a stretch.
	BeginWriting(off, n int64)
	// DropCache lets go of what is cached of a synced file, so that what is
	// read next is what the disk holds.
	DropCache()
}

// WriteOncer marks a system whose files cannot be added to once they are synced.
// A sync that failed may be tried again there: nothing is lost by it.
type WriteOncer interface{ WriteOnce() }

// Retainer is a system that can keep everybody from removing a file before a time, also
// those who do not go through it.
type Retainer interface {
	// Retains tells whether it can.
	Retains() bool
	// Retain does; a shorter time than before changes nothing.
	Retain(path string, until time.Time) error
	// Retained is until when, as far as it is known.
	Retained(path string) time.Time
}

// OS is the file system of the host.
type OS struct{}

type file struct{ *os.File }

func (f file) Size() (int64, error) {
	st, err := f.Stat()
	if err != nil {
		return 0, err
	}
	return st.Size(), nil
}

// BeginWriting implements Hinter.
func (f file) BeginWriting(off, n int64) {
	_ = unix.SyncFileRange(int(f.Fd()), off, n, unix.SYNC_FILE_RANGE_WRITE)
}

// DropCache implements Hinter.
func (f file) DropCache() { _ = unix.Fadvise(int(f.Fd()), 0, 0, unix.FADV_DONTNEED) }

func open(path string, flag int) (File, error) {
	f, err := os.OpenFile(path, flag, 0o600)
	if err != nil {
		return nil, err
	}
	return file{f}, nil
}

// Open implements System.
func (OS) Open(path string) (File, error) { return open(path, os.O_RDONLY) }

// Create implements System.
func (OS) Create(path string) (File, error) { return open(path, os.O_RDWR|os.O_CREATE|os.O_TRUNC) }

// CreateNew implements System.
func (OS) CreateNew(path string) (File, error) { return open(path, os.O_RDWR|os.O_CREATE|os.O_EXCL) }

// Edit implements System.
func (OS) Edit(path string) (File, error) { return open(path, os.O_RDWR|os.O_CREATE) }

// ReadFile implements System.
func (OS) ReadFile(path string) ([]byte, error) { return os.ReadFile(path) }

// Rename implements System.
func (OS) Rename(from, to string) error { return os.Rename(from, to) }

// Remove implements System.
func (OS) Remove(path string) error { return os.Remove(path) }

// List implements System.
func (OS) List(dir string) ([]Entry, error) {
	found, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	out := make([]Entry, len(found))
	for i, e := range found {
		out[i] = Entry{e.Name(), e.IsDir()}
	}
	return out, nil
}

// MkdirAll implements System.
func (OS) MkdirAll(dir string) error { return os.MkdirAll(dir, 0o700) }

// SyncDir implements System.
func (OS) SyncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

// Free implements System.
func (OS) Free(dir string) (int64, error) {
	var st syscall.Statfs_t
	if err := syscall.Statfs(dir, &st); err != nil {
		return 0, fmt.Errorf("ask for the room left: %w", err)
	}
	return int64(st.Bavail) * st.Bsize, nil
}

// ErrLocked says that another process has taken a file.
var ErrLocked = errors.New("taken by another process")

// Lock implements System.
func (OS) Lock(path string) (io.Closer, error) {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		_ = f.Close()
		return nil, fmt.Errorf("%s: %w", path, ErrLocked)
	}
	return f, nil
}

// WriteWhole writes a file so that it is whole or absent after a crash: beside
// its place first, then synced, renamed, and its folder synced.
func WriteWhole(fs System, path string, b []byte) error {
	tmp := path + ".part"
	f, err := fs.Create(tmp)
	if err != nil {
		return err
	}
	_, err = f.WriteAt(b, 0)
	if err == nil {
		err = f.Sync()
	}
	err = errors.Join(err, f.Close())
	if err == nil {
		err = fs.Rename(tmp, path)
	}
	if err != nil {
		_ = fs.Remove(tmp)
		return err
	}
	return fs.SyncDir(filepath.Dir(path))
}
