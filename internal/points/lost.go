package points

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"sort"
	"time"

	"kestrel/internal/files"
)

// Lost is a stretch of a disk of a point that cannot be read. It is comparable.
type Lost struct {
	Point   string `json:"point"` // UUID
	Machine string `json:"machine"`
	Disk    string `json:"disk"`
	Index   int64  `json:"index"` // first block
	Count   int64  `json:"count"` // blocks
}

// badRecord is a record that was found damaged, as damage.json lists it.
type badRecord struct {
	Name   Name      `json:"name"`
	Pack   uint32    `json:"pack"`
	Offset uint32    `json:"offset"`
	Stored uint32    `json:"stored"`
	Found  time.Time `json:"found"`
	// Unread says that the disk gave an error, which may pass, and not other
	// bytes than were written.
	Unread bool `json:"unread,omitempty"`
}

// passing is how long an error of the disk is taken for one that may pass.
const passing = 24 * time.Hour

// givenUp tells that a lost node will not come back by itself, so that what
// hangs below it in this place need not be kept for it.
func (s *Store) givenUp(name Name) bool {
	s.mu.RLock()
	defer s.mu.RUnlock()
	r, ok := s.bad[name]
	return ok && (!r.Unread || s.now().Sub(r.Found) > passing)
}

func (s *Store) damagePath() string { return filepath.Join(s.dir, "damage.json") }

// loadDamage takes the records found bad in earlier runs out of the index.
func (s *Store) loadDamage() {
	b, err := s.fs.ReadFile(s.damagePath())
	if err != nil {
		return // none, as a rule; what is lost with the file is found again
	}
	if b, err = s.unbox(b); err != nil {
		return
	}
	var list []badRecord
	if json.Unmarshal(b, &list) != nil {
		return
	}
	for _, r := range list {
		at := location{r.Pack, r.Offset, r.Stored}
		if now, ok := s.index.get(keyOf(r.Name)); !ok || now == at {
			s.index.drop(keyOf(r.Name))
			s.bad[r.Name] = r
		}
	}
	s.lostDue = len(s.bad) > 0
}

// noteBad takes a record that does not read back out of the index, so that its
// content counts as missing and is asked for where it still exists. What turns
// out to be readable, or stands elsewhere too, is left alone. The caller saves
// the list.
func (s *Store) noteBad(name Name, at location) {
	if s.lock == nil {
		return
	}
	s.mu.Lock()
	p := s.packs[at.pack]
	s.mu.Unlock()
	if p == nil || !s.index.leads(name, at) {
		return
	}
	if h, ok := p.file.(files.Hinter); ok && p.indexed {
		h.DropCache()
	}
	_, err := s.readAt(p.file, at, name, nil)
	if err == nil {
		return // the memory was at fault, not the disk
	}
	s.mu.Lock()
	if s.index.leads(name, at) {
		s.index.drop(keyOf(name))
		s.bad[name] = badRecord{name, at.pack, at.offset, at.stored, s.now().UTC(), errors.Is(err, errUnread)}
		s.lostDue = true
		s.damageSeen.Add(1)
	}
	s.mu.Unlock()
}

// saveDamage writes the list of bad records. It is a convenience: a pass over
// the packs finds them again.
func (s *Store) saveDamage() {
	s.mu.RLock()
	list := make([]badRecord, 0, len(s.bad))
	for _, r := range s.bad {
		list = append(list, r)
	}
	s.mu.RUnlock()
	sort.Slice(list, func(i, j int) bool {
		return list[i].Pack < list[j].Pack || list[i].Pack == list[j].Pack && list[i].Offset < list[j].Offset
	})
	b, err := json.MarshalIndent(list, "", " ")
	if err == nil {
		_ = files.WriteWhole(s.fs, s.damagePath(), s.box(b))
	}
}

// LostDue reports whether anything was found bad, or healed, since FindLost.
func (s *Store) LostDue() bool {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.lostDue
}

// Lost lists what FindLost last found. Tried tells of a stretch that home was
// asked for and did not have any more.
func (s *Store) Lost() (lost []Lost, tried func(Lost) bool) {
	s.lostMu.Lock()
	defer s.lostMu.Unlock()
	found := make(map[Lost]bool, len(s.tried))
	for l := range s.tried {
		found[l] = true
	}
	return slices.Clone(s.lost), func(l Lost) bool { return found[l] }
}

// FindLost walks the trees of all points for blocks and nodes that the store
// does not hold. It reads nodes only, each once.
func (s *Store) FindLost(ctx context.Context) ([]Lost, error) {
	s.lostMu.Lock()
	defer s.lostMu.Unlock()
	s.mu.Lock()
	s.lostDue = false
	s.mu.Unlock()
	var out []Lost
	below := map[Name][]stretch{}
	for _, x := range s.Points("") {
		for _, m := range x.Machines {
			for _, d := range m.Disks {
				if err := ctx.Err(); err != nil {
					return nil, err
				}
				level, span := height(Blocks(d.Size))
				found, err := s.lostBelow(d.Root, level, span, below)
				if err != nil {
					return nil, fmt.Errorf("point %s, %s %s: %w", x.Point, m.Name, d.Key, err)
				}
				for _, l := range found {
					l.count = min(l.count, Blocks(d.Size)-l.index)
					out = append(out, Lost{x.Point, m.ID, d.Key, l.index, l.count})
				}
			}
		}
	}
	s.lost = out
	still := map[Lost]bool{}
	for _, l := range out {
		if s.tried[l] {
			still[l] = true
		}
	}
	s.tried = still
	return slices.Clone(out), nil
}

// stretch is a run of blocks, counted from where a node begins.
type stretch struct{ index, count int64 }

func joined(list []stretch, next stretch) []stretch {
	if n := len(list); n > 0 && list[n-1].index+list[n-1].count == next.index {
		list[n-1].count += next.count
		return list
	}
	return append(list, next)
}

func (s *Store) lostBelow(name Name, level uint8, span int64, below map[Name][]stretch) ([]stretch, error) {
	if name.IsZero() {
		return nil, nil
	}
	if found, ok := below[name]; ok {
		return found, nil
	}
	n, err := s.loadNode(name, level)
	if errors.Is(err, ErrNotFound) || errors.Is(err, ErrDamaged) {
		below[name] = []stretch{{0, span * fanOut}}
		return below[name], nil
	}
	if err != nil {
		return nil, err
	}
	var out []stretch
	for i, c := range n.child {
		at := int64(i) * span
		if level > 0 {
			found, err := s.lostBelow(c, level-1, span/fanOut, below)
			if err != nil {
				return nil, err
			}
			for _, l := range found {
				out = joined(out, stretch{at + l.index, l.count})
			}
		} else if !s.Has(c) {
			out = joined(out, stretch{at, 1})
		}
	}
	below[name] = out
	return out, nil
}

// Range is a run of blocks of one disk of an intake.
type Range struct {
	Disk  int   `json:"disk"`
	Index int64 `json:"index"`
	Count int64 `json:"count"`
}

// Wanted lists what this intake's home site is to send besides its changes:
// stretches that points of the group have lost and that were not asked for yet.
// They count as asked for once the intake is sealed.
func (in *Intake) Wanted() []Range {
	s := in.store
	s.lostMu.Lock()
	none := len(s.lost) == 0
	s.lostMu.Unlock()
	if none {
		return nil // as a rule, and a large disk has many blocks to look at
	}
	group := map[string]bool{}
	for _, x := range s.Points(in.Group.ID) {
		group[x.Point] = true
	}
	s.lostMu.Lock()
	defer s.lostMu.Unlock()
	in.wanted = nil
	var out []Range
	for i, d := range in.Disks {
		blocks, end := newBitmap(), int64(0)
		for _, l := range s.lost {
			if !group[l.Point] || l.Machine != d.Machine || l.Disk != d.Key || s.tried[l] {
				continue
			}
			in.wanted = append(in.wanted, l)
			to := min(l.Index+l.Count, Blocks(d.Size))
			if to > l.Index {
				blocks.set(l.Index, to-l.Index)
			}
			end = max(end, to)
		}
		for b := range end {
			switch n := len(out); {
			case !blocks.get(b):
			case n > 0 && out[n-1].Disk == i && out[n-1].Index+out[n-1].Count == b:
				out[n-1].Count++
			default:
				out = append(out, Range{i, b, 1})
			}
		}
	}
	return out
}

// healed looks again for what was lost, after an intake was sealed that had
// been asked for some of it.
func (in *Intake) healed() {
	s := in.store
	s.lostMu.Lock()
	wanted := in.wanted
	s.lostMu.Unlock()
	if len(wanted) == 0 {
		return
	}
	if _, err := s.FindLost(context.Background()); err != nil {
		return // it is due again when something is found bad
	}
	s.lostMu.Lock()
	defer s.lostMu.Unlock()
	for _, l := range s.lost {
		if slices.Contains(wanted, l) {
			s.tried[l] = true
		}
	}
}

// VerifyPass is how far the background pass over the packs is.
type VerifyPass struct {
	Began time.Time `json:"began"` // of the present pass, or of the last
	Ended time.Time `json:"ended"` // zero while it goes on
	Next  uint32    `json:"next"`  // pack to go on with
	Done  int64     `json:"done"`  // bytes verified in this pass
	Bad   int       `json:"bad"`   // records found bad in this pass
	// Before is when the pass before this one ended.
	Before time.Time `json:"before"`
}

// Last is when all of the packs were last verified; zero if never.
func (s VerifyPass) Last() time.Time {
	if !s.Ended.IsZero() {
		return s.Ended
	}
	return s.Before
}

func (s *Store) passPath() string { return filepath.Join(s.dir, "scrub.json") }

// Pass gives the state of the background pass.
func (s *Store) Pass() VerifyPass {
	s.lostMu.Lock()
	defer s.lostMu.Unlock()
	return s.pass
}

// VerifyOn verifies all packs, going on where an earlier pass was cut off. Pace
// is told how many bytes were verified and may wait. What is found bad counts
// as missing from then on.
func (s *Store) VerifyOn(ctx context.Context, pace func(ctx context.Context, bytes int64) error) error {
	st := s.Pass()
	if st.Began.IsZero() || !st.Ended.IsZero() {
		st = VerifyPass{Began: s.now().UTC(), Before: st.Last()}
		s.setPass(st)
	}
	numbers, err := s.listPacks()
	if err != nil {
		return err
	}
	for _, n := range numbers {
		if n < st.Next {
			continue
		}
		seen := s.damageSeen.Load()
		var rep Report
		if err := s.verifyPack(ctx, n, &rep, map[key]bool{}, map[key]int{}, pace); err != nil {
			return fmt.Errorf("verify pack %08x: %w", n, err)
		}
		st.Next, st.Done, st.Bad = n+1, st.Done+rep.Bytes, st.Bad+int(s.damageSeen.Load()-seen)
		s.setPass(st)
	}
	// What no pack holds at all shows in the trees only.
	if _, err := s.FindLost(ctx); err != nil {
		return err
	}
	st.Ended = s.now().UTC()
	s.setPass(st)
	return nil
}

func (s *Store) setPass(st VerifyPass) {
	s.lostMu.Lock()
	s.pass = st
	s.lostMu.Unlock()
	if b, err := json.Marshal(st); err == nil {
		_ = s.writeFile(s.passPath(), b) // if it is lost, the pass begins anew
	}
}

func (s *Store) loadPass() {
	if b, err := s.fs.ReadFile(s.passPath()); err == nil {
		_ = json.Unmarshal(b, &s.pass) // or it begins anew
	}
}
