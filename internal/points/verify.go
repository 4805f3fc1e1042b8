package points

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"sort"

	"kestrel/internal/files"
)

// Fault is something wrong in a store.
type Fault struct {
	Where  string   `json:"where"`  // file, and offset where it has one
	What   string   `json:"what"`   // what is wrong
	Points []string `json:"points"` // IDs of the points that lose by it
}

// Report is the outcome of Check.
type Report struct {
	Packs     int     `json:"packs"`
	Records   int64   `json:"records"`
	Bytes     int64   `json:"bytes"` // read and verified
	Points    int     `json:"points"`
	Disks     int     `json:"disks"`
	Faults    []Fault `json:"faults"`
	Leftovers int64   `json:"leftoverBytes"` // appends cut short by a crash: harmless
}

// Verify reads and verifies everything: every record of every pack against its
// checksum and its name, and every tree of every point down to the last block.
// Progress, if not nil, is told the bytes read so far and in all.
func (s *Store) Verify(ctx context.Context, progress func(done, total int64)) (Report, error) {
	var rep Report
	numbers, err := s.listPacks()
	if err != nil {
		return rep, err
	}
	var total int64
	for _, n := range numbers {
		if f, err := s.fs.Open(packPath(s.packDir(), n)); err == nil {
			size, _ := f.Size()
			total += size
			_ = f.Close()
		}
	}
	good := map[key]bool{}
	badAt := map[key]int{} // index into rep.Faults
	for _, n := range numbers {
		if err := ctx.Err(); err != nil {
			return rep, err
		}
		if err := s.verifyPack(ctx, n, &rep, good, badAt, func(ctx context.Context, _ int64) error { return ctx.Err() }); err != nil {
			return rep, fmt.Errorf("check pack %08x: %w", n, err)
		}
		if progress != nil {
			progress(rep.Bytes, max(total, rep.Bytes))
		}
	}
	return rep, s.verifySeals(ctx, &rep, good, badAt)
}

// verifyPack verifies a pack and tells pace of the bytes as it goes. What is bad
// is taken out of the index of a store that is open for writing.
func (s *Store) verifyPack(ctx context.Context, n uint32, rep *Report, good map[key]bool, badAt map[key]int, pace func(ctx context.Context, bytes int64) error) error {
	path := packPath(s.packDir(), n)
	f, err := s.fs.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil // swept meanwhile
	}
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	size, err := f.Size()
	if err != nil {
		return err
	}
	rel := filepath.Join("packs", filepath.Base(path))
	rep.Packs++
	rep.Bytes += size
	buf, plain := make([]byte, 0, maxContent), make([]byte, 0, maxContent)
	var told int64
	seen := s.damageSeen.Load()
	defer func() {
		if s.damageSeen.Load() != seen {
			s.saveDamage()
		}
	}()
	if h, ok := f.(files.Hinter); ok {
		h.DropCache() // the disk is what is to be verified
	}
	bad, err := s.scanPack(f, size, func(e entry, r record, payload []byte) error {
		rep.Records++
		if told += recordHeader + int64(e.stored); told >= 4<<20 {
			if err := pace(ctx, told); err != nil {
				return err
			}
			told = 0
		}
		r, payload, err := s.decrypt(plain, r, payload)
		if err == nil {
			_, err = verify(buf, r.kind, r.encoding, r.length, payload, r.name)
		}
		if err != nil {
			badAt[keyOf(e.name)] = len(rep.Faults)
			rep.Faults = append(rep.Faults, Fault{Where: fmt.Sprintf("%s at %d", rel, e.offset), What: err.Error()})
			s.noteBad(e.name, location{n, e.offset, e.stored})
		} else {
			good[keyOf(e.name)] = true
		}
		return nil
	})
	if err == nil {
		err = pace(ctx, told)
	}
	if err != nil {
		return err
	}
	// Records that the index knows but the scan could not read.
	known, _ := s.readPackIndex(f, n, size)
	if known == nil && s.lock != nil {
		s.writeMu.Lock()
		if p := s.packs[n]; p != nil {
			known = append(known, p.entries...)
		}
		s.writeMu.Unlock()
	}
	for _, d := range bad {
		if d.tail {
			lost := false
			for _, e := range known {
				lost = lost || int64(e.offset) >= d.offset
			}
			if !lost {
				rep.Leftovers += d.length
				continue
			}
		}
		if !d.name.IsZero() {
			badAt[keyOf(d.name)] = len(rep.Faults)
			s.noteBad(d.name, location{n, uint32(d.offset), uint32(d.length - recordHeader)})
		}
		for _, e := range known {
			if int64(e.offset) >= d.offset && int64(e.offset) < d.offset+d.length {
				badAt[keyOf(e.name)] = len(rep.Faults)
				s.noteBad(e.name, location{n, e.offset, e.stored})
			}
		}
		rep.Faults = append(rep.Faults, Fault{Where: fmt.Sprintf("%s at %d", rel, d.offset), What: d.why})
	}
	return nil
}

func (s *Store) verifySeals(ctx context.Context, rep *Report, good map[key]bool, badAt map[key]int) error {
	var seals []*Seal
	err := s.eachSeal(func(path string, x *Seal, err error) {
		if err != nil {
			rel, _ := filepath.Rel(s.dir, path)
			rep.Faults = append(rep.Faults, Fault{Where: rel, What: err.Error()})
			return
		}
		seals = append(seals, x)
	})
	if err != nil {
		return err
	}
	sort.Slice(seals, func(i, j int) bool { return seals[i].CaptureAt.Before(seals[j].CaptureAt) })
	// Trees share most of their nodes; what hangs below a node is the same
	// wherever it stands, so each is walked once.
	below := map[key][]int{} // faults found below a node, by its key
	for _, x := range seals {
		if err := ctx.Err(); err != nil {
			return err
		}
		rep.Points++
		hit := map[int]bool{}
		for _, m := range x.Machines {
			for _, d := range m.Disks {
				rep.Disks++
				level, _ := height(Blocks(d.Size))
				for _, i := range s.verifyTree(d.Root, level, rep, good, badAt, below) {
					hit[i] = true
				}
			}
		}
		for i := range hit {
			rep.Faults[i].Points = append(rep.Faults[i].Points, x.Point)
		}
	}
	return nil
}

func (s *Store) verifyTree(name Name, level uint8, rep *Report, good map[key]bool, badAt map[key]int, below map[key][]int) []int {
	if name.IsZero() {
		return nil
	}
	k := keyOf(name)
	if found, ok := below[k]; ok {
		return found
	}
	fault := func(name Name, what string) []int {
		i, ok := badAt[keyOf(name)]
		if !ok {
			i = len(rep.Faults)
			badAt[keyOf(name)] = i
			rep.Faults = append(rep.Faults, Fault{Where: "block " + name.String(), What: what})
		}
		return []int{i}
	}
	n, err := s.loadNode(name, level)
	if err != nil {
		below[k] = fault(name, err.Error())
		return below[k]
	}
	var found []int
	for _, c := range n.child {
		switch {
		case c.IsZero():
		case level > 0:
			found = append(found, s.verifyTree(c, level-1, rep, good, badAt, below)...)
		case !good[keyOf(c)]:
			if _, err := s.Block(nil, c); err == nil {
				continue // written since its pack was read, or moved by a sweep
			}
			found = append(found, fault(c, "named by a point and in no pack")...)
		}
	}
	below[k] = found
	return found
}
