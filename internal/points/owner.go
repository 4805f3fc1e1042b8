package points

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"
	"time"

	"kestrel/internal/files"
)

// Owner is the site that a store belongs to.
type Owner struct {
	SiteID string `json:"siteId"`
	Site   string `json:"site"`
}

func (s *Store) ownerPath() string { return filepath.Join(s.dir, "owner.json") }

// Owner reads whose store it is; the zero Owner if that is not noted.
func (s *Store) Owner() (Owner, error) {
	b, err := s.fs.ReadFile(s.ownerPath())
	if errors.Is(err, fs.ErrNotExist) {
		return Owner{}, nil
	}
	if err == nil {
		b, err = s.unbox(b)
	}
	if err != nil {
		return Owner{}, fmt.Errorf("read owner.json: %w", err)
	}
	var o Owner
	if err := json.Unmarshal(b, &o); err != nil {
		return Owner{}, fmt.Errorf("owner.json: %w", ErrDamaged)
	}
	return o, nil
}

// SetOwner notes whose store it is.
func (s *Store) SetOwner(o Owner) error {
	if was, err := s.Owner(); err == nil && was == o {
		return nil
	}
	b, err := json.Marshal(o)
	if err != nil {
		return fmt.Errorf("write owner.json: %w", err)
	}
	return files.WriteWhole(s.fs, s.ownerPath(), s.box(b))
}

// Pin says that a point is kept whatever its ladder says: until an instant, or
// without end if Until is nil.
type Pin struct {
	Until  *time.Time `json:"until,omitempty"`
	Reason string     `json:"reason,omitempty"`
	By     string     `json:"by,omitempty"`
}

func (s *Store) pinPath(x *Seal) string {
	return strings.TrimSuffix(s.sealPath(x), ".seal") + ".pin"
}

// SetPin pins a point, or unpins it with nil. It is there for good when it
// returns, beside the seal.
func (s *Store) SetPin(point string, pin *Pin) error {
	s.sealMu.Lock()
	defer s.sealMu.Unlock()
	x, ok := s.seals.byPoint[point]
	if !ok {
		return fmt.Errorf("point %s: %w", point, ErrNotFound)
	}
	path := s.pinPath(x)
	if pin == nil {
		return errors.Join(ignoreNotExist(s.fs.Remove(path)), s.fs.SyncDir(filepath.Dir(path)))
	}
	b, err := json.Marshal(pin)
	if err != nil {
		return fmt.Errorf("pin: %w", err)
	}
	return files.WriteWhole(s.fs, path, b)
}

// Pin reads the pin of a point; nil if it has none.
func (s *Store) Pin(x *Seal) (*Pin, error) {
	b, err := s.fs.ReadFile(s.pinPath(x))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read pin: %w", err)
	}
	p := &Pin{}
	if err := json.Unmarshal(b, p); err != nil {
		return nil, fmt.Errorf("pin of point %s: %w", x.Point, ErrDamaged)
	}
	return p, nil
}
