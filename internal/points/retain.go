package points

import (
	"context"
	"crypto/sha256"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"kestrel/internal/files"
)

// retainer is the store's file system, if it can keep everybody from removing files.
func (s *Store) retainer() (files.Retainer, bool) {
	r, ok := s.fs.(files.Retainer)
	return r, ok && r.Retains()
}

// Retains tells whether what locked points need is kept from removal also where the store
// is gone around.
func (s *Store) Retains() bool { _, ok := s.retainer(); return ok }

// Retain keeps everybody from removing the files that locked points need, as long as they
// are locked, where the file system can do that. What was done before costs no request.
func (s *Store) Retain(ctx context.Context) error {
	r, ok := s.retainer()
	if !ok {
		return nil
	}
	type held struct {
		x     *Seal
		until time.Time
	}
	var locked []held
	for _, x := range s.Points("") {
		if l, holds := s.Locked(x.Point); holds {
			locked = append(locked, held{x, l.Until})
		}
	}
	if len(locked) == 0 {
		return nil
	}
	// Nothing is looked at again that was done, and has not been written elsewhere since.
	sum := sha256.New()
	_, _ = fmt.Fprintln(sum, s.moved.Load())
	for _, h := range locked {
		_, _ = fmt.Fprintln(sum, h.x.Point, h.until.UnixNano())
	}
	as := string(sum.Sum(nil))
	if done := s.retainedAs.Load(); done != nil && *done == as {
		return nil
	}
	// The longest first: what one needs as well that is locked less long needs no other
	// look.
	slices.SortFunc(locked, func(a, b held) int { return b.until.Compare(a.until) })
	wanted := map[string]time.Time{}
	want := func(path string, until time.Time) {
		if until.After(wanted[path]) {
			wanted[path] = until
		}
	}
	for _, name := range []string{"store.json", "keys.json"} {
		if _, err := s.fs.ReadFile(filepath.Join(s.dir, name)); err == nil {
			want(filepath.Join(s.dir, name), locked[0].until)
		}
	}
	seen := map[key]bool{}
	for _, h := range locked {
		want(s.sealPath(h.x), h.until)
		want(s.lockPath(h.x), h.until)
		for _, m := range h.x.Machines {
			for _, d := range m.Disks {
				if err := ctx.Err(); err != nil {
					return err
				}
				err := s.walk(d.Root, d.Size, func(n Name, _ Kind, _ int64) bool {
					k := keyOf(n)
					if seen[k] {
						return false
					}
					seen[k] = true
					at, ok := s.index.get(k)
					if ok {
						want(packPath(s.packDir(), at.pack), h.until)
					}
					return ok
				})
				if err != nil {
					return fmt.Errorf("retain what point %s needs: %w", h.x.Point, err)
				}
			}
		}
	}
	if err := s.index.trusted(); err != nil {
		return err
	}
	for path, until := range wanted {
		if err := ctx.Err(); err != nil {
			return err
		}
		if !until.After(r.Retained(path)) {
			continue
		}
		if err := r.Retain(path, until); err != nil {
			return err
		}
	}
	s.retainedAs.Store(&as)
	return nil
}

// retained tells whether a pack may not be removed yet, so that writing its live records
// anew would free nothing.
func (s *Store) retained(n uint32) bool {
	r, ok := s.retainer()
	return ok && s.Clock().Before(r.Retained(packPath(s.packDir(), n)))
}
