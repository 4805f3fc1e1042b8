package points

import (
	"errors"
	"fmt"
	"io"
)

// Has reports whether the store holds name; it always holds the zero name.
func (s *Store) Has(name Name) bool {
	if name.IsZero() {
		return true
	}
	_, ok := s.index.get(keyOf(name))
	return ok
}

// buffer lends room for one record; giveBack takes it back.
func (s *Store) buffer() *[]byte {
	if b, ok := s.buffers.Get().(*[]byte); ok {
		return b
	}
	b := make([]byte, 0, recordHeader+maxStored)
	return &b
}

func (s *Store) giveBack(b *[]byte) { s.buffers.Put(b) }

// read fetches and verifies the content of name. A record that fails is taken
// out of the index, so that the block counts as missing and is shipped again
// where its content still exists.
func (s *Store) read(dst []byte, name Name) ([]byte, error) {
	for try := 0; ; try++ {
		loc, ok := s.index.get(keyOf(name))
		s.mu.RLock()
		p := s.packs[loc.pack]
		s.mu.RUnlock()
		if !ok {
			return nil, fmt.Errorf("block %s: %w", name, ErrNotFound)
		}
		if p == nil {
			if try > 3 {
				return nil, fmt.Errorf("block %s: its pack is gone: %w", name, ErrNotFound)
			}
			continue // moved by a sweep between the two look-ups
		}
		content, err := s.readAt(p.file, loc, name, dst)
		if err == nil {
			return content, nil
		}
		if !s.index.leads(name, loc) && try <= 3 {
			continue // a sweep has removed what was being read
		}
		if errors.Is(err, ErrDamaged) {
			s.noteBad(name, loc)
			s.saveDamage()
		}
		return nil, fmt.Errorf("read pack %08x at %d: %w", loc.pack, loc.offset, err)
	}
}

// errUnread says that the file system gave an error.
var errUnread = errors.New("cannot be read")

func (s *Store) readAt(f io.ReaderAt, loc location, name Name, dst []byte) ([]byte, error) {
	if loc.stored > maxStored {
		return nil, fmt.Errorf("a record of %d bytes: %w", loc.stored, ErrDamaged)
	}
	b := s.buffer()
	defer s.giveBack(b)
	buf := (*b)[:recordHeader+int(loc.stored)]
	if _, err := f.ReadAt(buf, int64(loc.offset)); err != nil {
		return nil, fmt.Errorf("%w: %v: %w", errUnread, err, ErrDamaged)
	}
	r, err := parseRecord(buf)
	if err != nil {
		return nil, err
	}
	if r.stored != loc.stored {
		return nil, fmt.Errorf("another record stands where %s should: %w", name, ErrDamaged)
	}
	payload := buf[recordHeader:]
	if r.key != 0 {
		room := s.buffer()
		defer s.giveBack(room)
		if r, payload, err = s.decrypt(*room, r, payload); err != nil {
			return nil, err
		}
	}
	if r.name != name {
		return nil, fmt.Errorf("another record stands where %s should: %w", name, ErrDamaged)
	}
	return verify(dst, r.kind, r.encoding, r.length, payload, name)
}

// Block reads one block into dst, which may be nil, and returns it.
func (s *Store) Block(dst []byte, name Name) ([]byte, error) {
	if name.IsZero() {
		return append(dst[:0], make([]byte, BlockSize)...), nil
	}
	return s.read(dst, name)
}
