package points

import (
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"kestrel/internal/files"
)

// ErrLocked says that a point may not be dropped yet, by nobody.
var ErrLocked = errors.New("the point is locked")

// Lock keeps a point from being dropped until an instant of the store's own clock. It is
// never made shorter.
type Lock struct {
	Until  time.Time `json:"until"`
	At     time.Time `json:"at"` // when it was last set
	By     string    `json:"by,omitempty"`
	Reason string    `json:"reason,omitempty"`
}

// locks are those of a store, and the clock that they go by.
type locks struct {
	mu    sync.Mutex
	by    map[string]Lock // point
	base  time.Time       // the store's clock when it was opened
	began time.Time       // the same on the process's own clock, which nobody can set
	trust time.Duration   // what was left then of trust in the host's clock
}

// How far the store's clock follows the host's over times in which the store was not
// open: a week, which grows again by a quarter of the time that it is open. What the
// host's clock was set forward beyond that is not believed, nor by closing and opening
// again: locks last longer, never shorter.
const (
	mostAway   = 7 * 24 * time.Hour
	trustGrows = 4
)

// clockFile is the store's clock as it is kept.
type clockFile struct {
	Seen  time.Time     `json:"seen"`
	Trust time.Duration `json:"trustNanoseconds"`
}

func (s *Store) clockPath() string { return filepath.Join(s.dir, "clock.json") }

func (s *Store) lockPath(x *Seal) string {
	return strings.TrimSuffix(s.sealPath(x), ".seal") + ".lock"
}

// loadLocks reads the clock and the locks. A lock that cannot be read holds without end:
// that it was damaged must not free its point.
func (s *Store) loadLocks() error {
	s.locks.by = map[string]Lock{}
	b, err := s.fs.ReadFile(s.clockPath())
	if err := ignoreNotExist(err); err != nil {
		return fmt.Errorf("read the store's clock: %w", err)
	}
	c := clockFile{Trust: mostAway}
	if len(b) > 0 && json.Unmarshal(b, &c) != nil {
		return fmt.Errorf("the store's clock: %w", ErrDamaged)
	}
	s.locks.base, s.locks.trust = opening(c, s.now().UTC())
	s.locks.began = time.Now()
	root := filepath.Join(s.dir, "seals")
	groups, err := s.fs.List(root)
	if err != nil {
		return fmt.Errorf("read locks: %w", err)
	}
	for _, g := range groups {
		if !g.Dir {
			continue
		}
		found, err := s.fs.List(filepath.Join(root, g.Name))
		if err != nil {
			return fmt.Errorf("read locks: %w", err)
		}
		for _, e := range found {
			name, ok := strings.CutSuffix(e.Name, ".lock")
			if !ok {
				continue
			}
			_, point, _ := strings.Cut(name, "-")
			if s.seals.byPoint[point] == nil {
				continue // it was dropped, and then the power went
			}
			b, err := s.fs.ReadFile(filepath.Join(root, g.Name, e.Name))
			if err := ignoreNotExist(err); err != nil {
				return fmt.Errorf("read locks: %w", err)
			}
			l := Lock{Until: time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC), Reason: "its lock cannot be read"}
			if json.Unmarshal(b, &l) != nil {
				s.damageSeen.Add(1)
			}
			s.locks.by[point] = l
		}
	}
	return nil
}

// opening is the store's clock at its opening, from what was kept and the host's, with
// the trust that is left.
func opening(c clockFile, host time.Time) (time.Time, time.Duration) {
	if c.Seen.IsZero() {
		return host, c.Trust
	}
	away := min(max(0, host.Sub(c.Seen)), c.Trust)
	return c.Seen.Add(away), c.Trust - away
}

// Clock is the store's own clock, by which locks go: it never goes back, and no faster
// than time passes while the store is open.
func (s *Store) Clock() time.Time { return s.locks.base.Add(time.Since(s.locks.began)) }

// KeepClock notes how late it is, so that the next opening knows. It is cheap enough for
// every minute; nothing is written where nothing is locked.
func (s *Store) KeepClock() error {
	s.locks.mu.Lock()
	any := len(s.locks.by) > 0
	s.locks.mu.Unlock()
	if !any {
		return nil
	}
	return s.writeClock()
}

func (s *Store) writeClock() error {
	open := time.Since(s.locks.began)
	b, err := json.Marshal(clockFile{s.Clock(), min(mostAway, s.locks.trust+open/trustGrows)})
	if err != nil {
		return fmt.Errorf("the store's clock: %w", err)
	}
	if err := files.WriteWhole(s.fs, s.clockPath(), b); err != nil {
		return fmt.Errorf("the store's clock: %w", err)
	}
	return nil
}

// SetLock locks a point, or makes its lock longer. It is there for good when it returns,
// beside the seal; a shorter one changes nothing. It gives what holds then.
func (s *Store) SetLock(point string, l Lock) (Lock, error) {
	s.sealMu.Lock()
	defer s.sealMu.Unlock()
	x, ok := s.seals.byPoint[point]
	if !ok {
		return Lock{}, fmt.Errorf("point %s: %w", point, ErrNotFound)
	}
	s.locks.mu.Lock()
	was, has := s.locks.by[point]
	s.locks.mu.Unlock()
	if has && !l.Until.After(was.Until) {
		return was, nil
	}
	b, err := json.Marshal(l)
	if err != nil {
		return was, fmt.Errorf("lock: %w", err)
	}
	// The clock first: a lock without one would be judged by the host's alone.
	if err := s.writeClock(); err != nil {
		return was, err
	}
	if err := files.WriteWhole(s.fs, s.lockPath(x), b); err != nil {
		return was, fmt.Errorf("lock: %w", err)
	}
	s.locks.mu.Lock()
	s.locks.by[point] = l
	s.locks.mu.Unlock()
	return l, nil
}

// Locked gives the lock of a point, and whether it holds now.
func (s *Store) Locked(point string) (Lock, bool) {
	s.locks.mu.Lock()
	l, ok := s.locks.by[point]
	s.locks.mu.Unlock()
	return l, ok && s.Clock().Before(l.Until)
}

// unlock forgets the lock of a point that is dropped; sealMu is held.
func (s *Store) unlock(x *Seal) error {
	if err := ignoreNotExist(s.fs.Remove(s.lockPath(x))); err != nil {
		return err
	}
	s.locks.mu.Lock()
	delete(s.locks.by, x.Point)
	s.locks.mu.Unlock()
	return nil
}
