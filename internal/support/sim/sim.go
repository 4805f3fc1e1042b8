package sim

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"time"

	"github.com/google/uuid"

	"github.com/cockroachdb/pebble/v2/vfs"

	"kestrel/internal/cycle"
	"kestrel/internal/files/faulty"
	"kestrel/internal/points"
)

// Outcome counts what a run went through, so that it can be told that faults
// were met at all.
type Outcome struct {
	Sealed, Dropped, Swept, PowerCuts, Kills, Restarts, FailedAttempts, Full, LateRequests, Rotted, Healed, Lost int
}

// run is one site pair in its history.
type run struct {
	rng    *rand.Rand
	disks  *faulty.FS
	store  *points.Store
	source *source
	wire   *wire
	at     time.Time
	queued []func() // what the store does in the background
	log    func(format string, a ...any)

	group  string
	ending bool // no faults any more
	rots   bool // bytes on the disk change by themselves
	secret points.Secret
	index  *vfs.MemFS // where the store keeps where blocks stand; nil: in memory
	base   struct{ checkpoint, point string }
	// want is the content at every capture, sealed the points that were
	// answered for, and unsure those of which it is not known.
	want   map[string][]disk
	sealed map[string]bool
	gone   map[string]bool
	out    Outcome
}

const (
	storeDir  = "store"
	packBytes = 1 << 20
)

// Run goes through one history and checks after every restart, and at the end,
// that every point that was answered for is there, and that every point that
// is listed reads back exactly.
func Run(seed uint64, log func(format string, a ...any)) (Outcome, error) {
	rng := rand.New(rand.NewPCG(seed, 0x6b657374))
	r := &run{rng: rng, at: time.Unix(1_790_000_000, 0).UTC(), log: log, want: map[string][]disk{}, sealed: map[string]bool{}, gone: map[string]bool{}}
	r.disks = faulty.New(rng)
	r.source = newSource(rng, r.now, int64(1+rng.IntN(24))*points.BlockSize, int64(rng.IntN(20))*points.BlockSize+int64(1+rng.IntN(points.BlockSize)), []int64{points.BlockSize, 3 << 20, 9 << 20}[rng.IntN(3)])
	r.wire = &wire{rng: rng, store: func() *points.Store { return r.store }}
	r.group, r.rots = r.uuid(), rng.IntN(4) == 0
	if rng.IntN(3) == 0 {
		r.secret.Key = bytes.Repeat([]byte("pier"), 8)
	}
	if seed%2 == 0 {
		r.index = vfs.NewCrashableMem()
	}
	defer func() {
		if r.store != nil {
			_ = r.store.Halt()
		}
	}()
	if err := r.open(); err != nil {
		return r.out, err
	}
	for step := range 12 + rng.IntN(25) {
		if err := r.step(step); err != nil {
			return r.out, fmt.Errorf("step %d: %w", step, err)
		}
	}
	return r.out, r.finish()
}

func (r *run) now() time.Time { r.at = r.at.Add(time.Millisecond); return r.at }

// Now and After make a run the clock of its cycles.
func (r *run) Now() time.Time { return r.now() }

func (r *run) After(d time.Duration) <-chan time.Time {
	r.at = r.at.Add(d)
	c := make(chan time.Time, 1)
	c <- r.at
	return c
}

// Read makes a run the source of the randomness in its identifiers.
func (r *run) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = byte(r.rng.Uint32())
	}
	return len(p), nil
}

func (r *run) uuid() string { return uuid.Must(uuid.NewRandomFromReader(r)).String() }

func (r *run) open() error {
	index := points.Index{}
	if r.index != nil {
		index = points.Index{Dir: "index", Cache: 1 << 20, Files: r.index}
	}
	s, err := points.Open(storeDir, points.Options{Index: index, Now: r.now, Files: r.disks, PackBytes: packBytes, Secret: r.secret, Later: func(f func()) { r.queued = append(r.queued, f) }})
	if err != nil {
		return fmt.Errorf("open the store: %w", err)
	}
	s.SetFloor(256 << 10)
	r.store = s
	return nil
}

// calm takes all faults away, storm brings some.
func (r *run) calm() {
	r.disks.CutAfter(-1)
	r.disks.SetOdds(faulty.Odds{})
	r.disks.SetCapacity(1 << 40)
	r.wire.one = 0
}

func (r *run) storm() {
	if r.ending {
		return
	}
	pick := func(of ...int) int { return of[r.rng.IntN(len(of))] }
	r.disks.SetOdds(faulty.Odds{Sync: pick(0, 0, 4, 15), Write: pick(0, 0, 15, 60), Name: pick(0, 0, 10, 40)})
	r.wire.one = pick(0, 5, 12, 40)
	if r.disks.SetCapacity(1 << 40); r.rng.IntN(6) == 0 {
		r.disks.SetCapacity(r.disks.Used() + int64(r.rng.IntN(2<<20)))
		r.out.Full++
	}
	if r.rng.IntN(3) == 0 {
		r.disks.CutAfter(r.rng.IntN(120))
	}
}

// restart brings the store back after a cut, a kill, or in good order, and
// checks what must hold then.
func (r *run) restart() error {
	cut := r.disks.Off() || r.rng.IntN(3) == 0
	if cut {
		// What the index had not written is lost as well, or some of it.
		if r.index != nil {
			r.index = r.index.CrashClone(vfs.CrashCloneCfg{UnsyncedDataPercent: 0})
		}
		_ = r.store.Halt()
	}
	switch {
	case cut && r.rng.IntN(3) > 0:
		r.out.PowerCuts++
		r.disks.Restart(true)
	case cut:
		r.out.Kills++
		r.disks.Restart(false)
	default:
		r.out.Restarts++
		_ = r.store.Close() // what it could not sync is as good as cut
		r.disks.Restart(false)
	}
	r.queued, r.wire.late = nil, nil
	r.calm()
	if err := r.open(); err != nil {
		return err
	}
	return r.check()
}

func (r *run) step(n int) error {
	r.background()
	r.storm()
	r.log("step %d: %+v", n, r.out)
	switch k := r.rng.IntN(10); {
	case k < 6:
		if err := r.cycle(); err != nil {
			return err
		}
	case k < 8:
		r.drop()
		for range 1 + r.rng.IntN(2) {
			if _, err := r.store.Sweep(context.Background()); err == nil {
				r.out.Swept++
			}
		}
	case k < 9:
		if r.rots && r.rng.IntN(2) == 0 {
			return r.rot()
		}
		if _, err := r.store.Verify(context.Background(), nil); err != nil && !r.disks.Off() {
			return fmt.Errorf("check: %w", err)
		}
	default:
		r.source.lose(r.base.checkpoint)
	}
	if r.disks.Off() || r.rng.IntN(4) == 0 {
		return r.restart()
	}
	return nil
}

func (r *run) background() {
	for _, f := range r.queued {
		f()
	}
	r.queued = nil
}

func (r *run) drop() {
	held := r.store.Points(r.group)
	for range 1 + r.rng.IntN(3) {
		if len(held) == 0 {
			return
		}
		x := held[r.rng.IntN(len(held))]
		if x.Point == r.base.point && r.rng.IntN(8) > 0 {
			continue
		}
		// Once it is tried, the point may be there or not.
		delete(r.sealed, x.Point)
		if r.store.Drop(x.Point) == nil {
			r.gone[x.Point] = true
			r.out.Dropped++
		}
	}
}

// cycle makes one point, with as many attempts as it takes or until it is
// given up.
func (r *run) cycle() error {
	r.source.write()
	id := r.uuid()
	job := cycle.Job{ID: id, Checkpoint: "c-" + id, Group: points.SealGroup{ID: r.group, Name: "ticketing"}, Machines: []string{"m0", "m1"},
		BaseCheckpoint: r.base.checkpoint, BasePoint: r.base.point, Encoding: points.Encoding(r.rng.IntN(3))}
	for try := range 1 + r.rng.IntN(12) {
		o := cycle.Options{Workers: 1, Dial: r.source.dial}
		x, err := o.Run(context.Background(), r.source, r.wire, r, job, func(cycle.Progress) {})
		if f := r.source.frozen[job.Checkpoint]; f != nil {
			r.want[job.Checkpoint] = f
		}
		if err == nil {
			r.out.Sealed++
			r.sealed[x.Point] = true
			r.base.checkpoint, r.base.point = job.Checkpoint, x.Point
			delete(r.source.captures, job.Checkpoint)
			return nil
		}
		r.log("  attempt %d: %v", try, err)
		r.out.FailedAttempts++
		if errors.Is(err, cycle.ErrStartAnew) {
			return nil
		}
		job.Resumed = true
		r.source.write() // the machines go on
		r.background()
		r.out.LateRequests += len(r.wire.late)
		if r.disks.Off() || r.rng.IntN(6) == 0 {
			if err := r.restart(); err != nil {
				return err
			}
			r.storm()
		}
	}
	return nil
}

// check compares all points with what was captured. Faults are away.
func (r *run) check() error {
	listed := map[string]bool{}
	for _, x := range r.store.Points(r.group) {
		listed[x.Point] = true
		if r.gone[x.Point] {
			return fmt.Errorf("point %d, which was dropped, is back", x.Number)
		}
		if err := r.same(x); err != nil && r.lost(x.Point) {
			r.out.Lost++
		} else if err != nil {
			return fmt.Errorf("point %d (%s): %w", x.Number, x.Checkpoint, err)
		}
	}
	for id := range r.sealed {
		if !listed[id] {
			return fmt.Errorf("point %s was sealed and is not listed", id)
		}
	}
	return nil
}

func (r *run) same(x *points.Seal) error {
	want := r.want[x.Checkpoint]
	if want == nil {
		return errors.New("nothing was captured under that name")
	}
	i := 0
	for _, m := range x.Machines {
		for _, d := range m.Disks {
			if err := r.sameDisk(d, want[i]); err != nil {
				return fmt.Errorf("%s %s: %w", m.Name, d.Key, err)
			}
			i++
		}
	}
	if i != len(want) {
		return fmt.Errorf("%d disks where %d were captured", i, len(want))
	}
	return nil
}

// rot changes bytes on the disk behind the store's back, finds them, and asks
// for them with the next cycle.
func (r *run) rot() error {
	r.calm()
	for range 1 + r.rng.IntN(3) {
		if r.disks.Rot(storeDir + "/packs/*.pack") {
			r.out.Rotted++
		}
	}
	if err := r.store.VerifyOn(context.Background(), func(context.Context, int64) error { return nil }); err != nil {
		return fmt.Errorf("verify: %w", err)
	}
	r.background()
	before := r.store.Usage().HealedRecords
	if found, _ := r.store.Lost(); len(found) > 0 {
		r.log("  lost: %v", found)
	}
	err := r.cycle()
	r.out.Healed += int(r.store.Usage().HealedRecords - before)
	return err
}

// lost tells whether the store says itself that a point is not whole.
func (r *run) lost(point string) bool {
	found, err := r.store.FindLost(context.Background())
	for _, l := range found {
		if l.Point == point && r.rots {
			return true
		}
	}
	return err != nil
}

func (r *run) sameDisk(d points.SealDisk, want disk) error {
	disk := r.store.Disk(d.Root, d.Size)
	var got, expect [points.BlockSize]byte
	for i, content := range want {
		off := int64(i) * points.BlockSize
		n := min(points.BlockSize, d.Size-off)
		if _, err := disk.ReadAt(got[:n], off); err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		if fill(expect[:], content); !bytes.Equal(got[:n], expect[:n]) {
			return fmt.Errorf("block %d differs from what was captured", i)
		}
	}
	return nil
}

// finish takes all faults away: what there is must be whole, a further cycle
// must come through, and what a sweep leaves must be whole too.
func (r *run) finish() error {
	r.ending = true
	if err := r.restart(); err != nil {
		return err
	}
	before := len(r.store.Points(r.group))
	for range 60 {
		if err := r.cycle(); err != nil {
			return err
		}
		r.calm()
		if len(r.store.Points(r.group)) > before {
			break
		}
	}
	if len(r.store.Points(r.group)) <= before {
		return errors.New("no cycle comes through any more")
	}
	for range 3 {
		if _, err := r.store.Sweep(context.Background()); err != nil && !r.rots {
			return fmt.Errorf("sweep at the end: %w", err)
		}
	}
	rep, err := r.store.Verify(context.Background(), nil)
	if err != nil {
		return err
	}
	for _, f := range rep.Faults {
		if len(f.Points) > 0 && !r.rots {
			return fmt.Errorf("check finds a point that loses by %s: %s", f.Where, f.What)
		}
	}
	if err := r.store.Close(); err != nil {
		return fmt.Errorf("close: %w", err)
	}
	if err := r.open(); err != nil {
		return err
	}
	return r.check()
}

// Plus adds up two outcomes.
func (o Outcome) Plus(p Outcome) Outcome {
	return Outcome{o.Sealed + p.Sealed, o.Dropped + p.Dropped, o.Swept + p.Swept, o.PowerCuts + p.PowerCuts, o.Kills + p.Kills, o.Restarts + p.Restarts, o.FailedAttempts + p.FailedAttempts, o.Full + p.Full, o.LateRequests + p.LateRequests, o.Rotted + p.Rotted, o.Healed + p.Healed, o.Lost + p.Lost}
}
