package points

import (
	"bufio"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/core/ident"
	"kestrel/internal/files"
)

// IntakeSpec opens an intake: the place where one cycle's blocks arrive.
type IntakeSpec struct {
	ID      string       `json:"id"` // the cycle's ID
	Group   SealGroup    `json:"group"`
	Disks   []IntakeDisk `json:"disks"`
	Opened  time.Time    `json:"opened"`
	PackMin uint32       `json:"packMin"` // first pack that may hold its blocks
}

// IntakeDisk is one disk of an intake. Base is the root that the changes apply
// to; the zero name stands for an empty disk, for a full copy.
type IntakeDisk struct {
	Machine string `json:"machine"`
	Key     string `json:"key"`
	Size    int64  `json:"size"`
	Base    Name   `json:"base"`
}

// Entry says that Count blocks of a disk from Index on have the content Name.
// Runs longer than one block are only for zeros.
type Entry struct {
	Disk  uint16
	Count uint32
	Index int64
	Name  Name
	// Same says that the platform reported no change here since the base. Where
	// the content differs all the same, the seal tells.
	Same bool
	// veiled is the key that hides the name in a journal; 0 if it does not.
	veiled uint16
}

// EntrySize is the length of an entry in a journal and on the link.
const EntrySize = 2 + 2 + 4 + 8 + 32

// Append writes the entry in its binary form, little endian: disk (2), flags (2:
// bit 0 for Same; in a journal the key of the name from bit 1 on), count (4), index (8), name (32).
func (e Entry) Append(b []byte) []byte {
	le := binary.LittleEndian
	b = le.AppendUint16(b, e.Disk)
	flags := e.veiled << 1
	if e.Same {
		flags |= 1
	}
	b = le.AppendUint16(b, flags)
	b = le.AppendUint32(b, e.Count)
	b = le.AppendUint64(b, uint64(e.Index))
	return append(b, e.Name[:]...)
}

// ParseEntry reads what Append wrote.
func ParseEntry(b []byte) Entry {
	le := binary.LittleEndian
	e := Entry{Disk: le.Uint16(b), Count: le.Uint32(b[4:]), Index: int64(le.Uint64(b[8:])), Same: b[2]&1 != 0, veiled: le.Uint16(b[2:]) >> 1}
	copy(e.Name[:], b[16:48])
	return e
}

// Intake gathers the blocks of one cycle until they are sealed. It survives a
// restart of the service: what was recorded is in its journal.
type Intake struct {
	IntakeSpec
	store *Store
	// epoch is new whenever the journal may hold less than was recorded: after
	// a restart, or when the intake was opened anew.
	epoch   string
	journal files.File
	offset  int64
	done    []*bitmap    // per disk: blocks recorded
	touched map[key]bool // blocks that it relies on in older packs
	wanted  []Lost       // what home was asked for besides its changes
	point   string       // the point it tried to seal as
}

// MissingError lists blocks that an entry names and the store does not hold.
type MissingError struct{ Names []Name }

func (e *MissingError) Error() string {
	return fmt.Sprintf("%d blocks are named but not in the store, the first %s", len(e.Names), e.Names[0])
}

func (s *Store) intakeDir() string { return filepath.Join(s.dir, "intakes") }
func (in *Intake) path(ext string) string {
	return filepath.Join(in.store.intakeDir(), in.ID+ext)
}

// MaxDisk is the size of the largest disk, in bytes.
const MaxDisk = 64 << 40

// OpenIntake opens the intake with the spec's ID, or goes on with it if it is
// open already. If its cycle has sealed, the seal is returned instead.
func (s *Store) OpenIntake(spec IntakeSpec) (*Intake, *Seal, error) {
	if !ident.UUID(spec.ID) {
		return nil, nil, fmt.Errorf("an intake is named by a UUID, not %q", spec.ID)
	}
	if !ident.UUID(spec.Group.ID) {
		return nil, nil, fmt.Errorf("a group is named by a UUID, not %q", spec.Group.ID)
	}
	if len(spec.Disks) == 0 || len(spec.Disks) > 1<<16 {
		return nil, nil, fmt.Errorf("an intake has 1 to 65536 disks, not %d", len(spec.Disks))
	}
	for _, d := range spec.Disks {
		if d.Size <= 0 || d.Size > MaxDisk {
			return nil, nil, fmt.Errorf("disk %s of %s: a size of %d bytes is not possible", d.Key, d.Machine, d.Size)
		}
		if !s.Has(d.Base) {
			return nil, nil, fmt.Errorf("disk %s of %s: base %s: %w", d.Key, d.Machine, d.Base, ErrNotFound)
		}
	}
	if x := s.sealedBy(spec.ID); x != nil {
		return nil, x, nil
	}
	if err := s.room(); err != nil {
		return nil, nil, err
	}
	s.intakeMu.Lock()
	defer s.intakeMu.Unlock()
	if in, ok := s.intakes[spec.ID]; ok {
		return in, nil, nil
	}
	s.mu.RLock()
	spec.PackMin = s.next
	if s.active != 0 {
		spec.PackMin = s.active
	}
	s.mu.RUnlock()
	spec.Opened = s.now().UTC()
	b, err := json.Marshal(spec)
	if err != nil {
		return nil, nil, fmt.Errorf("open intake: %w", err)
	}
	in := s.newIntake(spec)
	// Neither file is synced: after a power cut an unsealed cycle may have to
	// begin again, and an empty cycle should not pay for that.
	if in.journal, err = s.fs.Create(in.path(".journal")); err != nil {
		return nil, nil, fmt.Errorf("open intake: %w", err)
	}
	if err := s.writeFile(in.path(".json"), s.box(b)); err != nil {
		return nil, nil, fmt.Errorf("open intake: %w", err)
	}
	s.intakes[spec.ID] = in
	return in, nil, nil
}

func (s *Store) newIntake(spec IntakeSpec) *Intake {
	in := &Intake{IntakeSpec: spec, store: s, epoch: uuid.NewString(), touched: map[key]bool{}}
	for range spec.Disks {
		in.done = append(in.done, newBitmap())
	}
	return in
}

// sealedBy finds the point that a cycle sealed.
func (s *Store) sealedBy(cycle string) *Seal {
	s.sealMu.RLock()
	defer s.sealMu.RUnlock()
	return s.seals.byCycle[cycle]
}

// loadIntakes reopens the intakes of an earlier run. Entries whose blocks did
// not reach the disk are forgotten, so they are asked for again.
func (s *Store) loadIntakes() error {
	found, err := s.fs.List(s.intakeDir())
	if err != nil {
		return fmt.Errorf("list intakes: %w", err)
	}
	for _, e := range found {
		if filepath.Ext(e.Name) != ".json" {
			continue
		}
		f := filepath.Join(s.intakeDir(), e.Name)
		b, err := s.fs.ReadFile(f)
		if err != nil {
			return fmt.Errorf("reopen intake: %w", err)
		}
		var spec IntakeSpec
		if b, err = s.unbox(b); err != nil {
			b = nil // as if it were cut short
		}
		if json.Unmarshal(b, &spec) != nil || spec.ID == "" || len(spec.Disks) == 0 {
			_ = s.fs.Remove(f) // cut short while it was opened: nothing rests on it
			continue
		}
		in := s.newIntake(spec)
		// Nobody goes on with an image that was cut off.
		if s.sealedBy(spec.ID) != nil || spec.Group.ID == CarriedGroup {
			in.removeFiles()
			continue
		}
		if in.journal, err = s.fs.Edit(in.path(".journal")); err != nil {
			return fmt.Errorf("reopen intake: %w", err)
		}
		err = in.replay(func(e Entry) {
			if s.Has(e.Name) {
				in.mark(e)
			}
		})
		if err != nil {
			return fmt.Errorf("reopen intake: %w", err)
		}
		s.intakes[spec.ID] = in
	}
	return nil
}

// writeFile writes a small file, without making it durable.
func (s *Store) writeFile(path string, b []byte) error {
	f, err := s.fs.Create(path)
	if err != nil {
		return err
	}
	_, err = f.WriteAt(b, 0)
	return errors.Join(err, f.Close())
}

// replay reads the journal up to the first batch that is not whole.
func (in *Intake) replay(visit func(Entry)) error {
	r := bufio.NewReaderSize(io.NewSectionReader(in.journal, 0, 1<<62), 64<<10)
	in.offset = 0
	var head [8]byte
	for {
		if _, err := io.ReadFull(r, head[:]); err != nil {
			return ignoreEOF(err)
		}
		count := binary.LittleEndian.Uint32(head[:])
		if count == 0 || count > 1<<20 {
			return nil
		}
		b := make([]byte, int(count)*EntrySize)
		if _, err := io.ReadFull(r, b); err != nil {
			return ignoreEOF(err)
		}
		if crc32.Checksum(b, castagnoli) != binary.LittleEndian.Uint32(head[4:]) {
			return nil
		}
		for at := 0; at < len(b); at += EntrySize {
			e := ParseEntry(b[at:])
			name, err := in.store.plainName(e.veiled, e.Name)
			if e.Name = name; err == nil && in.valid(e) == nil {
				visit(e)
			}
		}
		in.offset += int64(8 + len(b))
	}
}

func ignoreEOF(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return nil
	}
	return err
}

func (in *Intake) valid(e Entry) error {
	if int(e.Disk) >= len(in.Disks) {
		return fmt.Errorf("entry for disk %d of %d", e.Disk, len(in.Disks))
	}
	blocks := Blocks(in.Disks[e.Disk].Size)
	if e.Count == 0 || e.Index < 0 || e.Index >= blocks || int64(e.Count) > blocks-e.Index {
		return fmt.Errorf("entry for blocks %d+%d of a disk of %d", e.Index, e.Count, blocks)
	}
	if e.Count > 1 && !e.Name.IsZero() {
		return fmt.Errorf("a run of %d blocks that is not zero", e.Count)
	}
	return nil
}

func (in *Intake) mark(e Entry) {
	in.done[e.Disk].set(e.Index, int64(e.Count))
	if !e.Name.IsZero() {
		in.touched[keyOf(e.Name)] = true
	}
}

// unmark takes back that blocks with these names are recorded, so that a cycle
// that goes on sends them again.
func (in *Intake) unmark(names []Name) {
	lost := map[Name]bool{}
	for _, n := range names {
		lost[n] = true
	}
	in.store.intakeMu.Lock()
	defer in.store.intakeMu.Unlock()
	_ = in.replay(func(e Entry) {
		if lost[e.Name] {
			in.done[e.Disk].clear(e.Index)
		}
	})
}

// Handle names the intake as it is now. Who was told what is recorded has to
// use it: it is not found any more once that may have changed, as by a restart,
// so that a cycle cannot be sealed without what the journal lost.
func (in *Intake) Handle() string { return in.ID + "~" + in.epoch }

// Intake finds an open intake by its handle, or by its ID, for those who rely on
// nothing that it holds.
func (s *Store) Intake(handle string) (*Intake, error) {
	id, epoch, exact := strings.Cut(handle, "~")
	s.intakeMu.Lock()
	defer s.intakeMu.Unlock()
	if in, ok := s.intakes[id]; ok && (!exact || in.epoch == epoch) {
		return in, nil
	}
	return nil, fmt.Errorf("intake %s: %w", handle, ErrNotFound)
}

// Recorded gives, for one disk, a bitmap (bit i of byte i/8) of the blocks that
// are recorded already, so that a cycle that goes on need not read them again. What
// lies beyond its end is not recorded.
func (in *Intake) Recorded(disk int) []byte {
	in.store.intakeMu.Lock()
	defer in.store.intakeMu.Unlock()
	return in.done[disk].bytes()
}

// Missing tells which of the names the store lacks. Those that it has are kept
// for this intake whatever is swept.
func (in *Intake) Missing(names []Name) []bool {
	in.store.sweepMu.RLock()
	defer in.store.sweepMu.RUnlock()
	out := make([]bool, len(names))
	for i, n := range names {
		out[i] = !in.store.Has(n)
	}
	in.store.intakeMu.Lock()
	defer in.store.intakeMu.Unlock()
	for i, n := range names {
		if !out[i] {
			in.touched[keyOf(n)] = true
		}
	}
	return out
}

// Put verifies a block that was shipped and stores it.
func (in *Intake) Put(name Name, enc Encoding, length uint32, stored []byte) error {
	if name.IsZero() {
		return fmt.Errorf("a zero block is never stored: %w", ErrDamaged)
	}
	if err := in.store.room(); err != nil {
		return err
	}
	return in.store.put(KindBlock, name, enc, length, stored)
}

// Record enters what blocks the disks now have. It fails with a MissingError,
// and records nothing, if a block is not in the store.
func (in *Intake) Record(entries []Entry) error {
	if len(entries) == 0 {
		return nil
	}
	in.store.sweepMu.RLock()
	defer in.store.sweepMu.RUnlock()
	var lacking []Name
	b := make([]byte, 8, 8+len(entries)*EntrySize)
	for _, e := range entries {
		if err := in.valid(e); err != nil {
			return err
		}
		if !in.store.Has(e.Name) {
			lacking = append(lacking, e.Name)
		}
		e.veiled = 0 // what a peer says of it means nothing
		if r := in.store.ring; r != nil && !e.Name.IsZero() {
			e.Name, e.veiled = r.active.veil(e.Name), r.active.number
		}
		b = e.Append(b)
	}
	if lacking != nil {
		return &MissingError{lacking}
	}
	binary.LittleEndian.PutUint32(b, uint32(len(entries)))
	binary.LittleEndian.PutUint32(b[4:], crc32.Checksum(b[8:], castagnoli))
	in.store.intakeMu.Lock()
	defer in.store.intakeMu.Unlock()
	if _, err := in.journal.WriteAt(b, in.offset); err != nil {
		return fmt.Errorf("write intake journal: %w", err)
	}
	in.offset += int64(len(b))
	for _, e := range entries {
		in.mark(e)
	}
	return nil
}

// Seal builds the trees, makes everything durable, and writes the seal. The
// seal's Machines list the disks in any order; sizes and roots are filled in.
// After it returns without error the point is there for good.
func (in *Intake) Seal(x Seal) (*Seal, error) {
	s := in.store
	s.sweepMu.RLock()
	defer s.sweepMu.RUnlock()
	losses := s.losses.Load()
	if err := in.build(&x); err != nil {
		return nil, err
	}
	if err := s.syncSince(losses); err != nil {
		return nil, err
	}
	s.intakeMu.Lock()
	if in.point == "" {
		in.point = uuid.Must(uuid.NewV7()).String() // fails only without random numbers
	}
	x.Point = in.point
	s.intakeMu.Unlock()
	x.Cycle, x.Group, x.SealedAt, x.Root = in.ID, in.Group, s.now().UTC(), rootOf(x.Machines)
	x.Number = 1
	if held := s.Points(in.Group.ID); len(held) > 0 {
		x.Number = held[len(held)-1].Number + 1
	}
	if s.numberAfter != nil {
		x.Number = max(x.Number, s.numberAfter(in.Group.ID)+1)
	}
	x.Number = max(x.Number, min(x.Group.Numbered, maxNumber)+1)
	x.Group.Numbered = 0
	if err := s.commitSeal(&x); err != nil {
		return nil, err
	}
	in.close()
	in.healed()
	return &x, nil
}

// build makes the trees of what was recorded, and fills in sizes and roots.
func (in *Intake) build(x *Seal) error {
	s := in.store
	x.HeldBytes = 0
	perDisk, same := make([][]change, len(in.Disks)), make([][]change, len(in.Disks))
	s.intakeMu.Lock()
	err := in.replay(func(e Entry) {
		c := change{e.Index, int64(e.Count), e.Name}
		perDisk[e.Disk] = append(perDisk[e.Disk], c)
		if e.Same {
			same[e.Disk] = append(same[e.Disk], c)
		}
	})
	s.intakeMu.Unlock()
	if err != nil {
		return fmt.Errorf("read intake journal: %w", err)
	}
	roots := map[[2]string]IntakeDisk{}
	var lacking []Name
	for i, d := range in.Disks {
		changes := settle(perDisk[i])
		for _, c := range changes {
			if !s.Has(c.name) {
				lacking = append(lacking, c.name)
			}
		}
		if lacking != nil {
			in.unmark(lacking)
			return &MissingError{lacking}
		}
		for _, c := range changes {
			if !c.name.IsZero() {
				x.HeldBytes += c.count * BlockSize
			}
		}
		root, err := s.update(d.Base, d.Size, changes)
		if errors.Is(err, ErrNotFound) || errors.Is(err, ErrDamaged) {
			// A part of the tree is lost. The cycle goes on when it has been
			// asked for what lies below.
			s.mu.Lock()
			s.lostDue = true
			s.mu.Unlock()
		}
		if err != nil {
			return fmt.Errorf("build tree of %s %s: %w", d.Machine, d.Key, err)
		}
		x.MissedBytes += s.missed(d, settle(same[i]))
		d.Base = root
		roots[[2]string{d.Machine, d.Key}] = d
	}
	for i := range x.Machines {
		m := &x.Machines[i]
		for j := range m.Disks {
			d, ok := roots[[2]string{m.ID, m.Disks[j].Key}]
			if !ok {
				return fmt.Errorf("disk %s of machine %s has no intake", m.Disks[j].Key, m.ID)
			}
			m.Disks[j].Size, m.Disks[j].Root = d.Size, d.Base
			delete(roots, [2]string{m.ID, m.Disks[j].Key})
		}
	}
	if len(roots) > 0 {
		return fmt.Errorf("%d disks of the intake are in no machine of the point", len(roots))
	}
	return nil
}

// missed counts the bytes of blocks whose content is not that of the disk's base,
// though they were said to be unchanged since. What the base has lost is not
// counted.
func (s *Store) missed(d IntakeDisk, same []change) (bytes int64) {
	if d.Base.IsZero() {
		return 0
	}
	base := s.Disk(d.Base, d.Size)
	for _, c := range same {
		for i := c.index; i < c.index+c.count; i++ {
			if name, err := base.nameAt(i); err == nil && name != c.name {
				bytes += BlockSize
			}
		}
	}
	return bytes
}

// settle gives the changes ordered and without overlap; where two speak of the
// same block the later one wins.
func settle(cs []change) []change {
	covered := newBitmap()
	out := make([]change, 0, len(cs))
	for i := len(cs) - 1; i >= 0; i-- {
		c := cs[i]
		start := int64(-1)
		for at := c.index; at <= c.index+c.count; at++ {
			free := at < c.index+c.count && !covered.get(at)
			switch {
			case free && start < 0:
				start = at
			case !free && start >= 0:
				out = append(out, change{start, at - start, c.name})
				start = -1
			}
		}
		covered.set(c.index, c.count)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].index < out[j].index })
	return out
}

// Abandon gives up an intake. Blocks that no point names are swept later.
func (in *Intake) Abandon() { in.close() }

func (in *Intake) close() {
	in.store.intakeMu.Lock()
	defer in.store.intakeMu.Unlock()
	if in.store.intakes[in.ID] == in {
		delete(in.store.intakes, in.ID)
		_ = in.journal.Close()
		in.removeFiles()
	}
}

func (in *Intake) removeFiles() {
	_ = in.store.fs.Remove(in.path(".json"))
	_ = in.store.fs.Remove(in.path(".journal"))
}

// Intakes lists the open intakes of a group.
func (s *Store) Intakes(group string) []*Intake {
	s.intakeMu.Lock()
	defer s.intakeMu.Unlock()
	var out []*Intake
	for _, in := range s.intakes {
		if in.Group.ID == group {
			out = append(out, in)
		}
	}
	return out
}
