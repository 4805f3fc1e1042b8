package points

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"

	"kestrel/internal/files"
)

// MaxBeside bounds what is kept beside a group's seals, in bytes.
const MaxBeside = 4 << 20

func (s *Store) besidePath(group, name string) string {
	return filepath.Join(s.dir, "seals", group, name+".json")
}

// KeepBeside keeps what is needed to use a group's points and is in none of them, such as how
// its machines arrive, beside their seals, encrypted as they are. Nil removes it. It is there
// for good when it returns.
func (s *Store) KeepBeside(group, name string, b []byte) error {
	path := s.besidePath(group, name)
	if b == nil {
		err := s.fs.Remove(path)
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return errors.Join(err, s.fs.SyncDir(filepath.Dir(path)))
	}
	if len(b) > MaxBeside {
		return fmt.Errorf("%d bytes of %s are too much to be kept beside points", len(b), name)
	}
	if was, err := s.Beside(group, name); err == nil && bytes.Equal(was, b) {
		return nil
	}
	if err := s.fs.MkdirAll(filepath.Dir(path)); err != nil {
		return fmt.Errorf("keep %s beside points: %w", name, err)
	}
	if err := s.fs.SyncDir(filepath.Join(s.dir, "seals")); err != nil {
		return fmt.Errorf("keep %s beside points: %w", name, err)
	}
	if err := files.WriteWhole(s.fs, path, s.box(b)); err != nil {
		return fmt.Errorf("keep %s beside points: %w", name, err)
	}
	return nil
}

// Beside is what is kept beside a group's seals; nil if nothing is.
func (s *Store) Beside(group, name string) ([]byte, error) {
	b, err := s.fs.ReadFile(s.besidePath(group, name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err == nil {
		b, err = s.unbox(b)
	}
	if err != nil {
		return nil, fmt.Errorf("read %s beside points: %w", name, err)
	}
	return b, nil
}
