package points

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"github.com/zeebo/blake3"
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
}

// SealGroup is a group's identity and settings within a seal.
type SealGroup struct {
	ID       string          `json:"id"`
	Name     string          `json:"name"`
	HomeSite string          `json:"homeSite"` // site ID
	Term     int64           `json:"term"`
	Settings json.RawMessage `json:"settings,omitempty"`
}

// SealMachine is one machine of a point.
type SealMachine struct {
	ID     string          `json:"id"`
	Name   string          `json:"name"`
	Config json.RawMessage `json:"config,omitempty"`
	// Quiesced says that its file systems were at rest at the instant.
	Quiesced bool       `json:"quiesced,omitempty"`
	Disks    []SealDisk `json:"disks"`
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
	return filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".seal") {
			return err
		}
		b, err := os.ReadFile(path)
		if errors.Is(err, fs.ErrNotExist) {
			return nil // pruned meanwhile
		}
		if err != nil {
			return err
		}
		x, err := decodeSeal(b)
		visit(path, x, err)
		return nil
	})
}

func (s *Store) loadSeals() error {
	err := s.eachSeal(func(_ string, x *Seal, err error) {
		if err == nil {
			s.seals[x.Point] = x
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
	if _, err := os.Stat(filepath.Dir(path)); err != nil {
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return fmt.Errorf("seal: %w", err)
		}
		if err := syncDir(filepath.Join(s.dir, "seals")); err != nil {
			return fmt.Errorf("seal: %w", err)
		}
	}
	if err := writeFileSync(path, b); err != nil {
		return fmt.Errorf("seal: %w", err)
	}
	s.sealMu.Lock()
	s.seals[x.Point] = x
	s.sealMu.Unlock()
	return nil
}

// Points lists the seals of a group, or of all groups if it is empty, oldest
// capture first.
func (s *Store) Points(group string) []*Seal {
	s.sealMu.RLock()
	defer s.sealMu.RUnlock()
	var out []*Seal
	for _, x := range s.seals {
		if group == "" || x.Group.ID == group {
			out = append(out, x)
		}
	}
	sort.Slice(out, func(i, j int) bool {
		if !out[i].CaptureAt.Equal(out[j].CaptureAt) {
			return out[i].CaptureAt.Before(out[j].CaptureAt)
		}
		return out[i].Number < out[j].Number
	})
	return out
}

// Point finds one seal.
func (s *Store) Point(id string) (*Seal, error) {
	s.sealMu.RLock()
	defer s.sealMu.RUnlock()
	if x, ok := s.seals[id]; ok {
		return x, nil
	}
	return nil, fmt.Errorf("point %s: %w", id, ErrNotFound)
}

// Use marks a point as being read, which keeps it from being dropped, until
// the returned function is called.
func (s *Store) Use(id string) (*Seal, func(), error) {
	s.sealMu.Lock()
	defer s.sealMu.Unlock()
	x, ok := s.seals[id]
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
	x, ok := s.seals[id]
	if !ok {
		return fmt.Errorf("point %s: %w", id, ErrNotFound)
	}
	if s.inUse[id] > 0 {
		return fmt.Errorf("point %s: %w", id, ErrInUse)
	}
	path := s.sealPath(x)
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("drop point: %w", err)
	}
	if err := syncDir(filepath.Dir(path)); err != nil {
		return fmt.Errorf("drop point: %w", err)
	}
	delete(s.seals, id)
	return nil
}
