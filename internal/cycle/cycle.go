// Package cycle runs one pass over a protection group: capture, read, ship,
// seal. It keeps no state of its own: a cycle that was cut off is run again
// with the same job and goes on from what the platform and the recovery site
// still have.
package cycle

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"kestrel/internal/clock"
	"kestrel/internal/nbd"
	"kestrel/internal/platform"
	"kestrel/internal/points"
)

// Kinds of cycles.
const (
	KindSeed    = "seed"    // the first copy
	KindChanges = "changes" // what the platform recorded as changed
	KindCompare = "compare" // everything is read, what differs is shipped
)

// Job describes a cycle. It stays the same however often it is run.
type Job struct {
	ID         string // UUID; names the checkpoint and the intake
	Checkpoint string
	Group      points.SealGroup
	Machines   []string // platform IDs
	// BaseCheckpoint and BasePoint are of the newest sealed cycle; empty for
	// the first.
	BaseCheckpoint string
	BasePoint      string
	// Resumed says that the job was run before; CaptureAt is then the instant
	// that was noted, if it got so far.
	Resumed   bool
	CaptureAt time.Time
}

// OpenRequest opens the intake of a cycle at the recovery site.
type OpenRequest struct {
	ID        string            `json:"id"`
	Group     points.SealGroup  `json:"group"`
	BasePoint string            `json:"basePoint"`
	Disks     []OpenRequestDisk `json:"disks"`
}

// OpenRequestDisk is one disk of an OpenRequest.
type OpenRequestDisk struct {
	Machine string `json:"machine"`
	Key     string `json:"key"`
	Size    int64  `json:"size"`
	UseBase bool   `json:"useBase"` // only changes will come
}

// Opened is the answer to an OpenRequest.
type Opened struct {
	// Sealed is set if the cycle has sealed before.
	Sealed *points.Seal `json:"sealed,omitempty"`
	// NoBase lists the disks (by index) for which UseBase was asked and cannot
	// be had; they have to be sent whole.
	NoBase []int `json:"noBase,omitempty"`
	// Recorded holds, per disk, a bitmap of the blocks that have arrived.
	Recorded [][]byte `json:"recorded,omitempty"`
}

// Block is one encoded block on its way.
type Block struct {
	Name     points.Name
	Encoding points.Encoding
	Stored   []byte
}

// Remote is the recovery site as a cycle sees it.
type Remote interface {
	Open(ctx context.Context, r OpenRequest) (Opened, error)
	Missing(ctx context.Context, intake string, names []points.Name) ([]bool, error)
	// Ship sends blocks and records entries. A *points.MissingError says that
	// entries name blocks that are not there; nothing was recorded then.
	Ship(ctx context.Context, intake string, blocks []Block, entries []points.Entry) (wireBytes int64, err error)
	Seal(ctx context.Context, intake string, seal points.Seal) (*points.Seal, error)
}

// Phase is when one stage ran. Read and ship overlap.
type Phase struct {
	Name string     `json:"name"`
	From time.Time  `json:"from"`
	To   *time.Time `json:"to,omitempty"`
}

// Progress is the state of a cycle in numbers. Bytes are of disk content but
// for WireBytes.
type Progress struct {
	Kind         string    `json:"kind"`
	Phase        string    `json:"phase"`
	CaptureAt    time.Time `json:"captureAt"`
	TotalBytes   int64     `json:"totalBytes"`   // to be read
	ReadBytes    int64     `json:"readBytes"`    // of them read, in this and earlier attempts
	ChangedBytes int64     `json:"changedBytes"` // recorded as changed
	ShippedBytes int64     `json:"shippedBytes"` // of blocks that the other side lacked
	WireBytes    int64     `json:"wireBytes"`    // what crossed the link for them
	UsedBytes    int64     `json:"usedBytes"`    // allocated at the source
	Phases       []Phase   `json:"phases"`
	MovedAt      time.Time `json:"movedAt"` // when anything last moved
	Note         string    `json:"note"`
	OneInstant   bool      `json:"oneInstant"`
	Application  bool      `json:"application"`
}

// Errors that end a cycle for good; any other error may pass.
var (
	// ErrStartAnew says that the capture is gone: a new cycle has to begin.
	ErrStartAnew = errors.New("the captured instant is gone from the platform")
)

const (
	batchBlocks = 64 // 4 MiB of content travel together
	workers     = 3
)

// Run does the job. Report is called with every change of the progress, by one
// goroutine at a time. The seal is returned once the point is sealed at the
// recovery site; the caller then releases the capture.
func Run(ctx context.Context, d platform.Driver, r Remote, clk clock.Clock, job Job, report func(Progress)) (*points.Seal, error) {
	c := &run{driver: d, remote: r, clk: clk, job: job, report: report, claimed: map[points.Name]chan struct{}{}}
	cap, err := c.capture(ctx)
	if err != nil {
		return nil, err
	}
	opened, err := c.open(ctx, cap)
	if err != nil {
		return nil, err
	}
	if opened.Sealed != nil {
		return opened.Sealed, nil
	}
	batches, err := c.plan(ctx, cap, opened)
	if err != nil {
		return nil, err
	}
	if err := c.copy(ctx, cap, batches); err != nil {
		return nil, err
	}
	c.begin("seal")
	seal := points.Seal{CaptureAt: cap.At.UTC(), Consistency: "crash", UsedBytes: c.p.UsedBytes, ChangedBytes: c.p.ChangedBytes, ShippedBytes: c.p.ShippedBytes, Checkpoint: job.Checkpoint}
	if cap.Application {
		seal.Consistency = "application"
	}
	for _, x := range cap.Disks {
		n := len(seal.Machines)
		if n == 0 || seal.Machines[n-1].ID != x.Machine {
			seal.Machines = append(seal.Machines, points.SealMachine{ID: x.Machine, Name: x.Name, Config: cap.Configs[x.Machine]})
			n++
		}
		seal.Machines[n-1].Disks = append(seal.Machines[n-1].Disks, points.SealDisk{Key: x.Disk})
	}
	out, err := c.remote.Seal(ctx, job.ID, seal)
	if err != nil {
		return nil, fmt.Errorf("seal: %w", err)
	}
	c.end("seal")
	return out, nil
}

type run struct {
	driver platform.Driver
	remote Remote
	clk    clock.Clock
	job    Job
	report func(Progress)

	mu      sync.Mutex
	p       Progress
	useBase []bool
	// claimed holds the blocks that a worker is sending: another that has the
	// same content, as machines made from one template do, waits for it.
	claimed map[points.Name]chan struct{}
}

// change applies f to the progress and reports it.
func (c *run) change(f func(p *Progress)) {
	c.mu.Lock()
	defer c.mu.Unlock()
	f(&c.p)
	c.p.MovedAt = c.clk.Now()
	p := c.p
	p.Phases = append([]Phase(nil), p.Phases...)
	c.report(p)
}

func (c *run) begin(phase string) {
	c.change(func(p *Progress) {
		p.Phase = phase
		for _, x := range p.Phases {
			if x.Name == phase {
				return
			}
		}
		p.Phases = append(p.Phases, Phase{Name: phase, From: c.clk.Now()})
	})
}

func (c *run) end(phase string) {
	c.change(func(p *Progress) {
		now := c.clk.Now()
		for i := range p.Phases {
			if p.Phases[i].Name == phase {
				p.Phases[i].To = &now
			}
		}
	})
}

func (c *run) capture(ctx context.Context) (*platform.Capture, error) {
	c.begin("capture")
	var cap *platform.Capture
	var err error
	if c.job.Resumed {
		// A capture that was asked for and not answered may not exist: then
		// the driver makes it now, under the same name. One that was released
		// is gone.
		cap, err = c.driver.Reopen(ctx, c.job.Checkpoint, c.job.BaseCheckpoint)
		if errors.Is(err, platform.ErrGone) {
			return nil, fmt.Errorf("%w: %v", ErrStartAnew, err)
		}
		if err == nil && !c.job.CaptureAt.IsZero() {
			cap.At = c.job.CaptureAt
		}
	} else {
		cap, err = c.driver.Capture(ctx, platform.CaptureRequest{Name: c.job.Checkpoint, Machines: c.job.Machines, Base: c.job.BaseCheckpoint})
	}
	if err != nil {
		return nil, fmt.Errorf("capture: %w", err)
	}
	if len(cap.Disks) == 0 {
		return nil, errors.New("capture: the machines have no disks")
	}
	c.change(func(p *Progress) {
		p.CaptureAt, p.OneInstant, p.Application = cap.At, cap.OneInstant, cap.Application
	})
	c.end("capture")
	return cap, nil
}

func (c *run) open(ctx context.Context, cap *platform.Capture) (Opened, error) {
	req := OpenRequest{ID: c.job.ID, Group: c.job.Group, BasePoint: c.job.BasePoint}
	for _, x := range cap.Disks {
		req.Disks = append(req.Disks, OpenRequestDisk{x.Machine, x.Disk, x.Size, x.Changed != "" && c.job.BasePoint != ""})
	}
	opened, err := c.remote.Open(ctx, req)
	if err != nil {
		return Opened{}, fmt.Errorf("open intake: %w", err)
	}
	for _, d := range req.Disks {
		c.useBase = append(c.useBase, d.UseBase)
	}
	for _, i := range opened.NoBase {
		if i >= 0 && i < len(c.useBase) {
			c.useBase[i] = false
		}
	}
	kind, note := KindChanges, ""
	for i, use := range c.useBase {
		switch {
		case use:
		case c.job.BasePoint == "":
			kind = KindSeed
		default:
			kind, note = KindCompare, cap.Disks[i].Why
			if note == "" {
				note = "the point that changes were tracked from is not at the recovery site"
			}
			note = fmt.Sprintf("%s %s read whole: %s", cap.Disks[i].Name, cap.Disks[i].Disk, note)
		}
	}
	c.change(func(p *Progress) { p.Kind, p.Note = kind, note })
	return opened, nil
}

// span is a run of blocks of one disk. Zero spans are recorded without reading.
type span struct {
	disk  int
	index int64
	count int64
	zero  bool
}

// plan asks the platform what to copy and cuts it into batches. What has been
// recorded before is counted and left out.
func (c *run) plan(ctx context.Context, cap *platform.Capture, opened Opened) ([][]span, error) {
	var spans []span
	var total, done, changed, used int64
	for i, x := range cap.Disks {
		found, allocated, err := c.planDisk(ctx, x, i)
		if err != nil {
			return nil, err
		}
		used += allocated
		var recorded []byte
		if i < len(opened.Recorded) {
			recorded = opened.Recorded[i]
		}
		for _, s := range found {
			if c.useBase[i] || !s.zero {
				changed += s.count * points.BlockSize
			}
			left := without(s, recorded)
			for _, l := range left {
				if !s.zero {
					done -= l.count * points.BlockSize
				}
			}
			if !s.zero {
				total += s.count * points.BlockSize
				done += s.count * points.BlockSize
			}
			spans = append(spans, left...)
		}
	}
	c.change(func(p *Progress) {
		p.TotalBytes, p.ReadBytes, p.ChangedBytes, p.UsedBytes = total, done, changed, used
	})
	return cut(spans), nil
}

func (c *run) planDisk(ctx context.Context, x platform.FrozenDisk, i int) (out []span, allocated int64, err error) {
	contexts := []string{nbd.AllocationContext}
	if c.useBase[i] {
		contexts = append(contexts, x.Changed)
	}
	conn, err := nbd.Dial(ctx, x.Network, x.Address, x.Export, nbd.Options{Contexts: contexts})
	if err != nil {
		return nil, 0, fmt.Errorf("open %s %s: %w", x.Name, x.Disk, err)
	}
	defer func() { _ = conn.Close() }()
	if conn.Size() != x.Size {
		return nil, 0, fmt.Errorf("open %s %s: %d bytes over NBD, %d in the inventory", x.Name, x.Disk, conn.Size(), x.Size)
	}
	blocks := points.Blocks(x.Size)
	zero := make([]bool, blocks)
	if conn.Has(nbd.AllocationContext) {
		ext, err := conn.Extents(nbd.AllocationContext, 0, x.Size)
		if err != nil {
			return nil, 0, fmt.Errorf("allocation of %s %s: %w", x.Name, x.Disk, err)
		}
		for i := range zero {
			zero[i] = true
		}
		mark(ext, func(e nbd.Extent) bool { return e.Flags&nbd.StateZero == 0 }, func(b int64) { zero[b] = false })
	}
	for _, z := range zero {
		if !z {
			allocated += points.BlockSize
		}
	}
	take := make([]bool, blocks)
	if c.useBase[i] {
		if !conn.Has(x.Changed) {
			return nil, 0, fmt.Errorf("the platform does not offer %s for %s %s", x.Changed, x.Name, x.Disk)
		}
		ext, err := conn.Extents(x.Changed, 0, x.Size)
		if err != nil {
			return nil, 0, fmt.Errorf("changes of %s %s: %w", x.Name, x.Disk, err)
		}
		mark(ext, func(e nbd.Extent) bool { return e.Flags&nbd.StateDirty != 0 }, func(b int64) { take[b] = true })
	} else {
		// The tree begins empty, so what is zero needs no word.
		for b := range take {
			take[b] = !zero[b]
		}
	}
	for b := int64(0); b < blocks; b++ {
		if !take[b] {
			continue
		}
		if n := len(out); n > 0 && out[n-1].zero == zero[b] && out[n-1].index+out[n-1].count == b {
			out[n-1].count++
		} else {
			out = append(out, span{i, b, 1, zero[b]})
		}
	}
	return out, allocated, nil
}

// mark calls set for every block that an extent of interest touches: changes
// may be tracked more finely than in our blocks.
func mark(ext []nbd.Extent, want func(nbd.Extent) bool, set func(int64)) {
	off := int64(0)
	for _, e := range ext {
		if want(e) {
			for b := off / points.BlockSize; b*points.BlockSize < off+e.Length; b++ {
				set(b)
			}
		}
		off += e.Length
	}
}

// without leaves out the blocks of a span that are set in a bitmap.
func without(s span, recorded []byte) []span {
	var out []span
	for b := s.index; b < s.index+s.count; b++ {
		if b/8 < int64(len(recorded)) && recorded[b/8]&(1<<(b%8)) != 0 {
			continue
		}
		if n := len(out); n > 0 && out[n-1].index+out[n-1].count == b {
			out[n-1].count++
		} else {
			out = append(out, span{s.disk, b, 1, s.zero})
		}
	}
	return out
}

// cut divides spans into batches of at most batchBlocks blocks to read.
func cut(spans []span) [][]span {
	var out [][]span
	var batch []span
	room := int64(batchBlocks)
	for _, s := range spans {
		for s.count > 0 {
			n := s.count
			if !s.zero {
				n = min(n, room)
				room -= n
			}
			part := s
			part.count = n
			batch = append(batch, part)
			s.index, s.count = s.index+n, s.count-n
			if room == 0 || len(batch) >= 4*batchBlocks {
				out, batch, room = append(out, batch), nil, batchBlocks
			}
		}
	}
	if batch != nil {
		out = append(out, batch)
	}
	return out
}

// copy reads and ships the batches with a few workers, each with connections
// of its own.
func (c *run) copy(ctx context.Context, cap *platform.Capture, batches [][]span) error {
	c.begin("read")
	if len(batches) == 0 {
		c.end("read")
		return nil
	}
	queue := make(chan []span, len(batches))
	for _, b := range batches {
		queue <- b
	}
	close(queue)
	g, ctx := errgroup.WithContext(ctx)
	for range min(workers, len(batches)) {
		g.Go(func() error {
			w := &worker{run: c, cap: cap, conns: make([]*nbd.Conn, len(cap.Disks)), buf: make([]byte, batchBlocks*points.BlockSize)}
			defer w.close()
			for b := range queue {
				if err := ctx.Err(); err != nil {
					return err
				}
				if err := w.batch(ctx, b); err != nil {
					return err
				}
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	c.end("ship")
	return nil
}

type worker struct {
	*run
	cap   *platform.Capture
	conns []*nbd.Conn
	buf   []byte
}

func (w *worker) close() {
	for _, c := range w.conns {
		if c != nil {
			_ = c.Close()
		}
	}
}

// batch copies one batch: read, name, ask what is missing, send that.
func (w *worker) batch(ctx context.Context, spans []span) error {
	var names []points.Name
	var entries []points.Entry
	var content [][]byte
	at := 0
	for _, s := range spans {
		if s.zero {
			entries = appendZero(entries, s)
			continue
		}
		b := w.buf[at : at+int(s.count)*points.BlockSize]
		at += len(b)
		if err := w.read(ctx, s, b); err != nil {
			return err
		}
		for i := range s.count {
			block := b[i*points.BlockSize : (i+1)*points.BlockSize]
			name := points.NameOf(block)
			entries = append(entries, points.Entry{Disk: uint16(s.disk), Count: 1, Index: s.index + i, Name: name})
			if !name.IsZero() {
				names, content = append(names, name), append(content, block)
			}
		}
	}
	w.begin("ship")
	for try := 0; ; try++ {
		wire, plain, err := w.send(ctx, names, content, entries)
		var missing *points.MissingError
		if errors.As(err, &missing) && try < 3 {
			continue // swept or lost by a restart since we asked
		}
		if err != nil {
			return err
		}
		w.change(func(p *Progress) {
			p.ReadBytes += int64(at)
			p.ShippedBytes += plain
			p.WireBytes += wire
			now := w.clk.Now()
			for i := range p.Phases {
				if p.Phases[i].Name == "read" {
					p.Phases[i].To = &now
				}
			}
		})
		return nil
	}
}

func appendZero(entries []points.Entry, s span) []points.Entry {
	for s.count > 0 {
		n := min(s.count, 1<<30)
		entries = append(entries, points.Entry{Disk: uint16(s.disk), Count: uint32(n), Index: s.index})
		s.index, s.count = s.index+n, s.count-n
	}
	return entries
}

// read fills b with a span, which may reach over the end of the disk.
func (w *worker) read(ctx context.Context, s span, b []byte) error {
	x := w.cap.Disks[s.disk]
	if w.conns[s.disk] == nil {
		c, err := nbd.Dial(ctx, x.Network, x.Address, x.Export, nbd.Options{})
		if err != nil {
			return fmt.Errorf("open %s %s: %w", x.Name, x.Disk, err)
		}
		w.conns[s.disk] = c
	}
	off := s.index * points.BlockSize
	n := min(int64(len(b)), x.Size-off)
	if _, err := w.conns[s.disk].ReadAt(b[:n], off); err != nil {
		return fmt.Errorf("read %s %s: %w", x.Name, x.Disk, err)
	}
	clear(b[n:])
	return nil
}

// send ships the blocks that the other side lacks and records the entries.
func (w *worker) send(ctx context.Context, names []points.Name, content [][]byte, entries []points.Entry) (wire, plain int64, err error) {
	blocks, others, release, err := w.lacking(ctx, names, content)
	if err != nil {
		return 0, 0, err
	}
	defer release()
	plain = int64(len(blocks)) * points.BlockSize
	if len(others) > 0 {
		// Ours go first, so that two workers never wait for each other.
		if wire, err = w.remote.Ship(ctx, w.job.ID, blocks, nil); err != nil {
			return 0, 0, fmt.Errorf("ship: %w", err)
		}
		release()
		for _, c := range others {
			select {
			case <-c:
			case <-ctx.Done():
				return 0, 0, ctx.Err()
			}
		}
		blocks = nil
	}
	more, err := w.remote.Ship(ctx, w.job.ID, blocks, entries)
	if err != nil {
		return 0, 0, fmt.Errorf("ship: %w", err)
	}
	return wire + more, plain, nil
}

// lacking asks which blocks the other side lacks, claims those that no other
// worker is sending, and encodes them, each once. Release ends the claims;
// others are closed when the other workers' are ended.
func (w *worker) lacking(ctx context.Context, names []points.Name, content [][]byte) (blocks []Block, others []chan struct{}, release func(), err error) {
	release = func() {}
	if len(names) == 0 {
		return nil, nil, release, nil
	}
	missing, err := w.remote.Missing(ctx, w.job.ID, names)
	if err != nil {
		return nil, nil, release, fmt.Errorf("ask what is missing: %w", err)
	}
	if len(missing) != len(names) {
		return nil, nil, release, fmt.Errorf("ask what is missing: %d answers to %d names", len(missing), len(names))
	}
	claim := make(chan struct{})
	var mine []int
	w.mu.Lock()
	for i, m := range missing {
		if !m {
			continue
		}
		switch c, taken := w.claimed[names[i]]; {
		case !taken:
			w.claimed[names[i]] = claim
			mine = append(mine, i)
		case c != claim:
			others = append(others, c)
		}
	}
	w.mu.Unlock()
	release = sync.OnceFunc(func() {
		w.mu.Lock()
		for _, i := range mine {
			delete(w.claimed, names[i])
		}
		w.mu.Unlock()
		close(claim)
	})
	for _, i := range mine {
		enc, stored := points.Encode(nil, content[i])
		blocks = append(blocks, Block{names[i], enc, stored})
	}
	return blocks, others, release, nil
}
