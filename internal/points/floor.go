package points

import (
	"errors"
	"fmt"
	"syscall"
)

// ErrFull is wrapped where blocks are refused because the file system has less
// room than the store's floor. Sealed points stay readable, and pruning goes on.
var ErrFull = errors.New("the point store is full")

// SetFloor sets how many bytes of the file system incoming blocks have to leave
// free.
func (s *Store) SetFloor(bytes int64) { s.floor.Store(bytes) }

// DefaultFloor is a twentieth of the file system at dir, but at least 1 GiB and
// at most 50.
func DefaultFloor(dir string) (int64, error) {
	var st syscall.Statfs_t
	if err := syscall.Statfs(dir, &st); err != nil {
		return 0, fmt.Errorf("ask %s for its size: %w", dir, err)
	}
	return min(max(int64(st.Blocks)*st.Bsize/20, 1<<30), 50<<30), nil
}

// free is the room left on the file system for this user, in bytes.
func (s *Store) free() (int64, error) {
	return s.fs.Free(s.dir)
}

// Room tells whether there is more room than the floor, by an error that wraps
// ErrFull if not.
func (s *Store) Room() error { return s.room() }

// room refuses what comes in while there is less than the floor. What the store
// writes of itself, such as what a sweep moves, is not asked.
func (s *Store) room() error {
	floor := s.floor.Load()
	if floor == 0 {
		return nil
	}
	free, err := s.free()
	if err != nil {
		return err
	}
	if free < floor {
		return fmt.Errorf("%w: %d MiB are free and %d MiB are to stay free", ErrFull, free>>20, floor>>20)
	}
	return nil
}
