// Package cycle runs one pass over a protection group: capture, read, ship,
// seal. It keeps no state of its own: a cycle that was cut off is run again
// with the same job and goes on from what the platform and the recovery site
// still have.
package cycle

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"
	"time"

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
	// Quiesce lists the machines whose guests are brought to rest, and Required those
	// (by ID) of which there is no point otherwise; Apart says that machines are not
	// held still together.
	Quiesce  []platform.Rest
	Required []string
	Apart    bool
	// Leaves tells of the disks that are not copied; nil leaves none.
	Leaves func(machine, disk string) bool
	// Compare reads all of the disks and not only what the platform reports as
	// changed, to find what it did not report.
	Compare bool
	// Encoding is how blocks are compressed for the way and for the store.
	Encoding points.Encoding
	// Unusual says what is unusual of a cycle that is about to seal, empty if nothing is; the
	// point carries it. Nil says nothing.
	Unusual func(p Progress) string
	// Resumed says that the job was run before; Captured is then what was noted
	// of the capture, if it got so far.
	Resumed  bool
	Captured *Captured
}

// Captured is what is known of a capture.
type Captured struct {
	At          time.Time
	OneInstant  bool
	Application bool
	Quiet       []platform.Quiet
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
	// Intake is what the cycle calls the intake from here on. It is not known
	// any more once Recorded may not hold, and then the cycle has to open anew.
	Intake string `json:"intake"`
	// Sealed is set if the cycle has sealed before.
	Sealed *points.Seal `json:"sealed,omitempty"`
	// NoBase lists the disks (by index) for which UseBase was asked and cannot
	// be had; they have to be sent whole.
	NoBase []int `json:"noBase,omitempty"`
	// Recorded holds, per disk, a bitmap of the blocks that have arrived.
	Recorded [][]byte `json:"recorded,omitempty"`
	// Wanted lists what is to be sent besides the changes, because points of the
	// group have lost it: it heals what still has the same content.
	Wanted []points.Range `json:"wanted,omitempty"`
}

// Block is one encoded block on its way.
type Block struct {
	Name     points.Name
	Encoding points.Encoding
	Stored   []byte
}

// Sent is what one Ship cost.
type Sent struct {
	Blocks    int   // that crossed the link
	WireBytes int64 // with what names them
}

// Remote is the recovery site as a cycle sees it.
type Remote interface {
	Open(ctx context.Context, r OpenRequest) (Opened, error)
	Missing(ctx context.Context, intake string, names []points.Name) ([]bool, error)
	// Ship sends blocks and records entries. A *points.MissingError says that
	// entries name blocks that are not there; nothing was recorded then.
	Ship(ctx context.Context, intake string, blocks []Block, entries []points.Entry) (Sent, error)
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
	ZeroedBytes  int64     `json:"zeroedBytes"`  // of what changed, what is empty now
	MissedBytes  int64     `json:"missedBytes"`  // changed without the platform's saying so
	Phases       []Phase   `json:"phases"`
	MovedAt      time.Time `json:"movedAt"` // when anything last moved
	Note         string    `json:"note"`
	OneInstant   bool      `json:"oneInstant"`
	Application  bool      `json:"application"`
	// Quiet tells how machines were brought to rest, and how long they waited.
	Quiet []platform.Quiet `json:"quiet,omitempty"`
	// Parts tell whose the bytes are, of disks that have any.
	Parts []Part `json:"parts,omitempty"`
}

// Part is what a cycle came to on one disk. Its bytes are as those of Progress: those of a
// block that several machines have count for the one that sent it, and those that crossed the
// link are shared out by the encoded size of the blocks that travelled together.
type Part struct {
	Machine      string `json:"m"`
	Name         string `json:"n"` // of the machine
	Disk         string `json:"d"`
	ReadBytes    int64  `json:"r,omitempty"`
	ChangedBytes int64  `json:"c,omitempty"`
	ShippedBytes int64  `json:"s,omitempty"`
	WireBytes    int64  `json:"w,omitempty"`
}

func (p Part) empty() bool {
	return p.ReadBytes == 0 && p.ChangedBytes == 0 && p.ShippedBytes == 0 && p.WireBytes == 0
}

// Joined adds what was shipped of parts in earlier attempts.
func Joined(parts, earlier []Part) []Part {
	for _, e := range earlier {
		i := slices.IndexFunc(parts, func(p Part) bool { return p.Machine == e.Machine && p.Disk == e.Disk })
		if i < 0 {
			i, parts = len(parts), append(parts, Part{Machine: e.Machine, Name: e.Name, Disk: e.Disk})
		}
		parts[i].ShippedBytes += e.ShippedBytes
		parts[i].WireBytes += e.WireBytes
	}
	return parts
}

// Captured is what the progress tells of the capture; nil before it.
func (p Progress) Captured() *Captured {
	if p.CaptureAt.IsZero() {
		return nil
	}
	return &Captured{p.CaptureAt, p.OneInstant, p.Application, p.Quiet}
}

// Errors that end a cycle for good; any other error may pass.
var (
	// ErrStartAnew says that the capture is gone: a new cycle has to begin.
	ErrStartAnew = errors.New("the captured instant is gone from the platform")
	// ErrNotAtRest says that a guest that has to be brought to rest was not. A new
	// cycle may begin later.
	ErrNotAtRest = errors.New("no point is made")
)

const (
	batchBlocks = 64 // 4 MiB of content travel together
	workers     = 3
	// A worker waits for two answers a batch. Where they come late, others use
	// the link meanwhile.
	farHelpers = 7
	farAnswer  = 15 * time.Millisecond
)

// Source is a frozen disk, open for reading. *nbd.Conn is one.
type Source interface {
	io.ReaderAt
	Size() int64
	Has(metaContext string) bool
	Extents(metaContext string, off, length int64) ([]nbd.Extent, error)
	Close() error
}

// Options are how a job is run. The zero value is what a service uses.
type Options struct {
	// Workers read and ship side by side; 3 if zero, and 7 more over a link
	// whose answers take their time.
	Workers int
	// Dial opens a frozen disk with these metadata contexts; over NBD if nil.
	Dial func(ctx context.Context, d platform.FrozenDisk, contexts []string) (Source, error)
}

// Run does the job with default options.
func Run(ctx context.Context, d platform.Driver, r Remote, clk clock.Clock, job Job, report func(Progress)) (*points.Seal, error) {
	return Options{}.Run(ctx, d, r, clk, job, report)
}

// Run does the job. Report is called with every change of the progress, by one
// goroutine at a time. The seal is returned once the point is sealed at the
// recovery site; the caller then releases the capture.
func (o Options) Run(ctx context.Context, d platform.Driver, r Remote, clk clock.Clock, job Job, report func(Progress)) (*points.Seal, error) {
	helpers := 0
	if o.Workers == 0 {
		o.Workers, helpers = workers, farHelpers
	}
	if o.Dial == nil {
		o.Dial = dial
	}
	c := &run{Options: o, driver: d, remote: r, clk: clk, job: job, report: report, claimed: map[points.Name]chan struct{}{}, helpers: helpers, isFar: make(chan struct{})}
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
	seal := points.Seal{CaptureAt: cap.At.UTC(), Consistency: "crash", UsedBytes: c.p.UsedBytes, ChangedBytes: c.p.ChangedBytes, ShippedBytes: c.p.ShippedBytes, Checkpoint: job.Checkpoint, Apart: !cap.OneInstant}
	if cap.Application {
		seal.Consistency = "application"
	}
	if job.Unusual != nil {
		seal.Unusual = job.Unusual(c.p)
	}
	quiesced := map[string]bool{}
	for _, q := range cap.Quiet {
		quiesced[q.Machine] = q.Done
	}
	left := map[string][]points.SealLeft{}
	for _, x := range cap.Left {
		left[x.Machine] = append(left[x.Machine], points.SealLeft{Key: x.Disk, Label: x.Label, Size: x.Size})
	}
	for _, x := range cap.Disks {
		n := len(seal.Machines)
		if n == 0 || seal.Machines[n-1].ID != x.Machine {
			seal.Machines = append(seal.Machines, points.SealMachine{ID: x.Machine, Name: x.Name, Config: cap.Configs[x.Machine], Quiesced: quiesced[x.Machine], Left: left[x.Machine]})
			n++
		}
		seal.Machines[n-1].Disks = append(seal.Machines[n-1].Disks, points.SealDisk{Key: x.Disk})
	}
	out, err := c.remote.Seal(ctx, c.intake, seal)
	if err != nil {
		return nil, fmt.Errorf("seal: %w", err)
	}
	c.end("seal")
	return out, nil
}

// dial opens a frozen disk over NBD.
func dial(ctx context.Context, d platform.FrozenDisk, contexts []string) (Source, error) {
	return nbd.Dial(ctx, d.Network, d.Address, d.Export, nbd.Options{Contexts: contexts, TLS: d.TLS})
}

type run struct {
	Options
	driver platform.Driver
	remote Remote
	clk    clock.Clock
	job    Job
	report func(Progress)

	mu      sync.Mutex
	p       Progress
	useBase []bool
	intake  string
	helpers int
	isFar   chan struct{} // closed when an answer took its time
	farOnce sync.Once
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
	p.Parts = slices.DeleteFunc(slices.Clone(p.Parts), Part.empty)
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
		if n := c.job.Captured; err == nil && n != nil {
			cap.At, cap.OneInstant, cap.Application, cap.Quiet = n.At, n.OneInstant, n.Application, n.Quiet
		}
	} else {
		cap, err = c.driver.Capture(ctx, platform.CaptureRequest{Name: c.job.Checkpoint, Machines: c.job.Machines, Base: c.job.BaseCheckpoint, Quiesce: c.job.Quiesce, Leaves: c.job.Leaves, Apart: c.job.Apart})
		if err == nil {
			err = c.demand(ctx, cap)
		}
	}
	if err != nil {
		return nil, fmt.Errorf("capture: %w", err)
	}
	if len(cap.Disks) == 0 {
		return nil, errors.New("capture: the machines have no disks")
	}
	c.change(func(p *Progress) {
		p.CaptureAt, p.OneInstant, p.Application, p.Quiet = cap.At, cap.OneInstant, cap.Application, cap.Quiet
	})
	c.end("capture")
	return cap, nil
}

// demand lets go of a capture in which a machine that has to be at rest was not.
func (c *run) demand(ctx context.Context, cap *platform.Capture) error {
	for _, q := range cap.Quiet {
		if q.Done || !slices.Contains(c.job.Required, q.Machine) {
			continue
		}
		name := q.Machine
		for _, d := range cap.Disks {
			if d.Machine == q.Machine {
				name = d.Name
			}
		}
		ctx = context.WithoutCancel(ctx)
		return errors.Join(fmt.Errorf("%w: %s has to be at rest, and is not: %s", ErrNotAtRest, name, q.Why),
			c.driver.Release(ctx, c.job.Checkpoint), c.driver.Forget(ctx, c.job.Checkpoint))
	}
	return nil
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
	c.intake = opened.Intake
	for _, d := range req.Disks {
		c.useBase = append(c.useBase, d.UseBase)
	}
	for _, i := range opened.NoBase {
		if i >= 0 && i < len(c.useBase) {
			c.useBase[i] = false
		}
	}
	kind, note := KindChanges, ""
	if c.job.Compare {
		kind = KindCompare
	}
	for i, use := range c.useBase {
		switch {
		case use:
		case c.job.BasePoint == "":
			kind = KindSeed
		default:
			kind, note = KindCompare, cap.Disks[i].Why
			if note == "" {
				note = "the point that changes were tracked from is not there where points are kept"
			}
			note = fmt.Sprintf("%s %s read whole: %s", cap.Disks[i].Name, cap.Disks[i].Disk, note)
		}
	}
	c.change(func(p *Progress) { p.Kind, p.Note = kind, note })
	return opened, nil
}
