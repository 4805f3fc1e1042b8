package points

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/zeebo/blake3"

	"kestrel/internal/files"
)

const sealMagic = "KTSEAL\x00\x01"

// Seal is the sealed root of a recovery point, and all that is needed to list,
// read and start it without any database.
type Seal struct {
	Point  string `json:"point"` // UUID
	Number int64  `json:"number"`
	Cycle  string `json:"cycle"` // the cycle that made it; one cycle seals once
	// Group describes the group as its home site last mirrored it.
	Group     SealGroup `json:"group"`
	CaptureAt time.Time `json:"captureAt"` // on the home site's clock
	SealedAt  time.Time `json:"sealedAt"`  // on the recovery site's clock
	// HomeAhead is how far the home site's clock was ahead of ours at the seal.
	HomeAhead   time.Duration `json:"homeAheadNanoseconds"`
	Consistency string        `json:"consistency"` // "crash" or "application"
	// Apart says that each machine was captured at an instant of its own.
	Apart bool `json:"apart,omitempty"`
	// Checkpoint names the instant on the home site's platform.
	Checkpoint string        `json:"checkpoint"`
	Root       Name          `json:"root"` // over disks and machine configurations
	Machines   []SealMachine `json:"machines"`
	// UsedBytes is what the disks hold without zero areas, ChangedBytes what
	// the cycle recorded as changed, ShippedBytes what crossed the link.
	UsedBytes    int64 `json:"usedBytes"`
	ChangedBytes int64 `json:"changedBytes"`
	ShippedBytes int64 `json:"shippedBytes"`
	// HeldBytes is what arrived for this point without zero areas, as this store counts
	// it, whatever home says.
	HeldBytes int64 `json:"heldBytes,omitempty"`
	// Unusual says what was unusual of what had changed, by what home saw before; empty if
	// nothing was.
	Unusual string `json:"unusual,omitempty"`
	// MissedBytes is what had changed without the platform's saying so.
	MissedBytes int64 `json:"missedBytes,omitempty"`
}

// SealGroup is a group's identity and settings within a seal.
type SealGroup struct {
	ID       string          `json:"id"`
	Name     string          `json:"name"`
	HomeSite string          `json:"homeSite"` // site ID
	HomeName string          `json:"homeName,omitempty"`
	Term     int64           `json:"term"`
	Settings json.RawMessage `json:"settings,omitempty"`
	// Numbered is the number of the newest point of the group that its home site keeps itself:
	// those that it sends are numbered after it. It is not kept in a seal.
	Numbered int64 `json:"numbered,omitempty"`
}

// maxNumber bounds a point's number.
const maxNumber = 1 << 48

// SealMachine is one machine of a point.
type SealMachine struct {
	ID     string          `json:"id"`
	Name   string          `json:"name"`
	Config json.RawMessage `json:"config,omitempty"`
	// Quiesced says that its file systems were at rest at the instant.
	Quiesced bool       `json:"quiesced,omitempty"`
	Disks    []SealDisk `json:"disks"`
	// Left are the disks that it had and the point has not.
	Left []SealLeft `json:"left,omitempty"`
}

// SealLeft is a disk that was left out on purpose. Where the machine is started, it is
// made empty.
type SealLeft struct {
	Key   string `json:"key"`
	Label string `json:"label"`
	Size  int64  `json:"size"` // bytes
}

// SealDisk is one disk of a point.
type SealDisk struct {
	Key  string `json:"key"`
	Size int64  `json:"size"` // bytes
	Root Name   `json:"root"`
}

// Disk finds a disk by machine (ID or name) and disk key.
func (s *Seal) Disk(machine, disk string) (SealDisk, bool) {
	for _, m := range s.Machines {
		if m.ID != machine && m.Name != machine {
			continue
		}
		for _, d := range m.Disks {
			if d.Key == disk {
				return d, true
			}
		}
	}
	return SealDisk{}, false
}

// rootOf names the content of a point: same disks and configurations, same name.
func rootOf(machines []SealMachine) Name {
	b, err := json.Marshal(machines)
	if err != nil {
		panic(err) // plain structs of strings and numbers always marshal
	}
	return blake3.Sum256(b)
}

func (s *Seal) encode() ([]byte, error) {
	body, err := json.Marshal(s)
	if err != nil {
		return nil, fmt.Errorf("encode seal: %w", err)
	}
	b := append([]byte(nil), sealMagic...)
	b = binary.LittleEndian.AppendUint32(b, uint32(len(body)))
	b = append(b, body...)
	sum := blake3.Sum256(b)
	return append(b, sum[:]...), nil
}

func decodeSeal(b []byte) (*Seal, error) {
	if len(b) < 44 || string(b[:8]) != sealMagic || int(binary.LittleEndian.Uint32(b[8:])) != len(b)-44 {
		return nil, fmt.Errorf("not a seal: %w", ErrDamaged)
	}
	if sum := blake3.Sum256(b[:len(b)-32]); Name(sum) != Name(b[len(b)-32:]) {
		return nil, fmt.Errorf("seal does not match its checksum: %w", ErrDamaged)
	}
	s := &Seal{}
	if err := json.Unmarshal(b[12:len(b)-32], s); err != nil {
		return nil, fmt.Errorf("seal: %v: %w", err, ErrDamaged)
	}
	if s.Point == "" || s.Group.ID == "" || rootOf(s.Machines) != s.Root {
		return nil, fmt.Errorf("seal contradicts itself: %w", ErrDamaged)
	}
	return s, nil
}

func (s *Store) sealPath(x *Seal) string {
	return filepath.Join(s.dir, "seals", x.Group.ID, fmt.Sprintf("%016x-%s.seal", x.CaptureAt.UnixNano(), x.Point))
}

// eachSeal reads all seal files and calls visit with what it finds.
func (s *Store) eachSeal(visit func(path string, x *Seal, err error)) error {
	root := filepath.Join(s.dir, "seals")
	groups, err := s.fs.List(root)
	if err != nil {
		return err
	}
	for _, g := range groups {
		if !g.Dir {
			continue
		}
		found, err := s.fs.List(filepath.Join(root, g.Name))
		if err != nil {
			return err
		}
		for _, e := range found {
			if !strings.HasSuffix(e.Name, ".seal") {
				continue
			}
			path := filepath.Join(root, g.Name, e.Name)
			b, err := s.fs.ReadFile(path)
			if errors.Is(err, fs.ErrNotExist) {
				continue // pruned meanwhile
			}
			if err != nil {
				return err
			}
			var x *Seal
			if b, err = s.unbox(b); err == nil {
				x, err = decodeSeal(b)
			}
			visit(path, x, err)
		}
	}
	return nil
}

func (s *Store) loadSeals() error {
	if s.lock != nil {
		groups, err := s.fs.List(filepath.Join(s.dir, "seals"))
		if err != nil {
			return fmt.Errorf("read seals: %w", err)
		}
		for _, g := range groups {
			if !g.Dir {
				continue
			}
			// What is listed counts as sealed, so it has to be there for good.
			if err := s.fs.SyncDir(filepath.Join(s.dir, "seals", g.Name)); err != nil {
				return fmt.Errorf("read seals: %w", err)
			}
		}
	}
	err := s.eachSeal(func(path string, x *Seal, err error) {
		if err == nil && s.seals.byPoint[x.Point] != nil {
			s.ghosts[path] = x // of a seal that was tried again later
		} else if err == nil {
			s.seals.put(x)
		} else {
			s.damageSeen.Add(1) // listed by Check; a bad seal must not stop the others
		}
	})
	if err != nil {
		return fmt.Errorf("read seals: %w", err)
	}
	return nil
}

// commitSeal writes a seal; all it names must be durable.
func (s *Store) commitSeal(x *Seal) error {
	b, err := x.encode()
	if err != nil {
		return err
	}
	path := s.sealPath(x)
	s.sealMu.RLock()
	ready := s.homes[x.Group.ID]
	s.sealMu.RUnlock()
	if !ready {
		// A folder that is there need not be there after a power cut.
		if err := s.fs.MkdirAll(filepath.Dir(path)); err != nil {
			return fmt.Errorf("seal: %w", err)
		}
		if err := s.fs.SyncDir(filepath.Join(s.dir, "seals")); err != nil {
			return fmt.Errorf("seal: %w", err)
		}
	}
	if err := files.WriteWhole(s.fs, path, s.box(b)); err != nil {
		// It may stand there all the same after a restart, and must be whole
		// then: what it names is kept until it is sealed after all or gone for
		// certain.
		s.sealMu.Lock()
		s.ghosts[path] = x
		s.sealMu.Unlock()
		return fmt.Errorf("seal: %w", err)
	}
	s.sealMu.Lock()
	delete(s.ghosts, path)
	s.seals.put(x)
	s.homes[x.Group.ID] = true
	s.sealMu.Unlock()
	return nil
}

// dropGhosts removes what is left of seals that were not made in the end, and
// gives those that may still be there. Those of open intakes stay.
func (s *Store) dropGhosts() []*Seal {
	s.intakeMu.Lock()
	open := map[string]bool{}
	for id := range s.intakes {
		open[id] = true
	}
	s.intakeMu.Unlock()
	s.sealMu.Lock()
	defer s.sealMu.Unlock()
	var left []*Seal
	for _, path := range slices.Sorted(maps.Keys(s.ghosts)) {
		if x := s.ghosts[path]; open[x.Cycle] || s.removeGhost(path) != nil {
			left = append(left, x)
		}
	}
	return left
}

// removeGhost removes one of them for good; sealMu is held.
func (s *Store) removeGhost(path string) error {
	if err := errors.Join(ignoreNotExist(s.fs.Remove(path)), s.fs.SyncDir(filepath.Dir(path))); err != nil {
		return err
	}
	delete(s.ghosts, path)
	return nil
}

// reboxSeals writes the seals anew that are in the clear or under an older key.
func (s *Store) reboxSeals(ctx context.Context) error {
	for _, x := range s.Points("") {
		if err := ctx.Err(); err != nil {
			return err
		}
		b, err := x.encode()
		if err != nil {
			return err
		}
		s.sealMu.Lock()
		if s.seals.byPoint[x.Point] == x {
			err = files.WriteWhole(s.fs, s.sealPath(x), s.box(b))
		}
		s.sealMu.Unlock()
		if err != nil {
			return fmt.Errorf("write seal anew: %w", err)
		}
	}
	return nil
}

// Points lists the seals of a group, or of all groups if it is empty, oldest
// capture first.
func (s *Store) Points(group string) []*Seal {
	s.sealMu.RLock()
	defer s.sealMu.RUnlock()
	return s.seals.of(group)
}

// Point finds one seal.
func (s *Store) Point(id string) (*Seal, error) {
	s.sealMu.RLock()
	defer s.sealMu.RUnlock()
	if x, ok := s.seals.byPoint[id]; ok {
		return x, nil
	}
	return nil, fmt.Errorf("point %s: %w", id, ErrNotFound)
}

// Use marks a point as being read, which keeps it from being dropped, until
// the returned function is called.
func (s *Store) Use(id string) (*Seal, func(), error) {
	s.sealMu.Lock()
	defer s.sealMu.Unlock()
	x, ok := s.seals.byPoint[id]
	if !ok {
		return nil, nil, fmt.Errorf("point %s: %w", id, ErrNotFound)
	}
	s.inUse[id]++
	var done bool
	return x, func() {
		s.sealMu.Lock()
		defer s.sealMu.Unlock()
		if !done {
			done = true
			if s.inUse[id]--; s.inUse[id] == 0 {
				delete(s.inUse, id)
			}
		}
	}, nil
}

// InUse reports whether a point is being read.
func (s *Store) InUse(id string) bool {
	s.sealMu.RLock()
	defer s.sealMu.RUnlock()
	return s.inUse[id] > 0
}

// ErrInUse says that a point is being read and cannot be dropped.
var ErrInUse = errors.New("point is in use")

// Drop removes a point. Its bytes are given back by the next Sweep.
func (s *Store) Drop(id string) error {
	s.sealMu.Lock()
	defer s.sealMu.Unlock()
	x, ok := s.seals.byPoint[id]
	if !ok {
		return fmt.Errorf("point %s: %w", id, ErrNotFound)
	}
	if s.inUse[id] > 0 {
		return fmt.Errorf("point %s: %w", id, ErrInUse)
	}
	if l, holds := s.Locked(id); holds {
		return fmt.Errorf("point %s until %s: %w", id, l.Until.UTC().Format(time.RFC3339), ErrLocked)
	}
	for _, path := range slices.Sorted(maps.Keys(s.ghosts)) {
		if s.ghosts[path].Point == id {
			if err := s.removeGhost(path); err != nil {
				return fmt.Errorf("drop point: %w", err)
			}
		}
	}
	if err := ignoreNotExist(s.fs.Remove(s.pinPath(x))); err != nil {
		return fmt.Errorf("drop point: %w", err)
	}
	path := s.sealPath(x)
	if err := s.fs.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("drop point: %w", err)
	}
	if err := s.fs.SyncDir(filepath.Dir(path)); err != nil {
		return fmt.Errorf("drop point: %w", err)
	}
	s.seals.remove(x)
	return s.unlock(x)
}
