// Package lab is a small simulated hypervisor manager that stands in for a real
// one. Its disks are real sparse files with real dirty bitmaps; its guests
// write real bytes; it is driven only through its network interface, HTTP for
// control and NBD for data.
package lab

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"kestrel/internal/clock"
	"kestrel/internal/core/berth"
	"kestrel/internal/lab/wire"
	"kestrel/internal/nbd"
	"kestrel/internal/platform"
)

// ErrNotFound is wrapped where a machine or checkpoint is not there.
var ErrNotFound = errors.New("not in this lab")

// ErrBad is wrapped where a request makes no sense.
var ErrBad = errors.New("bad request")

// Lab is a running lab.
type Lab struct {
	dir   string
	clk   clock.Clock
	nbdAt string // address that checkpoints give for their disks

	// instant is held for writing while a checkpoint is taken: each single
	// write of a guest is either before it or after it, on all machines.
	instant sync.RWMutex

	mu       sync.Mutex
	scenario Scenario
	machines []*machine
	byID     map[string]*machine
	cps      map[string]*checkpoint
	ledger   *ledger
	limits   map[string]*rate.Limiter // by datastore
	digests  []wire.Digest            // newest last
	// discarded are the IDs of machines of the scenario that are no more.
	discarded []string
	copies    sync.WaitGroup  // of landed machines' disks
	ctx       context.Context // of what goes on in the background
	stop      context.CancelFunc
	stopped   chan struct{} // closed when Run ends: nobody waits for a slow datastore then
	frozen    func(cp string, machine, disk string, content *FrozenDisk)
}

// FrozenDisk reads a disk at the instant of an open checkpoint.
type FrozenDisk struct {
	frozen
	Size int64
}

type machine struct {
	ScenarioMachine
	landed *landed // nil: it is of the scenario
	id     string
	power  string
	disks  []*disk
	guest  *guest
	// renamed says that it has another name than in the scenario.
	renamed bool
}

type checkpoint struct {
	wire.Checkpoint
	Token string
}

// state is what survives a restart, beside the disks, the scenario and what a ledger holds, and
// is written at each change.
type state struct {
	Power  map[string]string
	Landed []*landed `json:",omitempty"`
	// Renamed and Discarded are machines of the scenario, by their IDs.
	Renamed   map[string]string `json:",omitempty"`
	Discarded []string          `json:",omitempty"`
}

// maxName is the most characters of a machine's name.
const maxName = 40

// Open opens the lab at dir, making its machines from the scenario if it is
// new. NBDAddress is what clients are told to connect to.
func Open(dir string, sc Scenario, clk clock.Clock, nbdAddress string) (*Lab, error) {
	l := &Lab{byID: map[string]*machine{}, dir: dir, clk: clk, nbdAt: nbdAddress, cps: map[string]*checkpoint{}, limits: map[string]*rate.Limiter{}, stopped: make(chan struct{})}
	if err := l.cast(sc); err != nil {
		return nil, err
	}
	st := state{}
	b, err := os.ReadFile(filepath.Join(dir, "state.json"))
	fresh := errors.Is(err, os.ErrNotExist)
	if err == nil {
		err = json.Unmarshal(b, &st)
	}
	if err != nil && !fresh {
		return nil, fmt.Errorf("read lab state: %w", err)
	}
	l.ctx, l.stop = context.WithCancel(context.Background())
	if l.ledger, l.cps, l.digests, err = openLedger(dir); err != nil {
		return nil, err
	}
	for _, d := range l.scenario.Datastores {
		if d.ReadMiBps > 0 {
			l.limits[d.Name] = rate.NewLimiter(rate.Limit(d.ReadMiBps*(1<<20)), 8<<20)
		}
	}
	for i, sm := range l.scenario.Machines {
		m := &machine{ScenarioMachine: sm, id: fmt.Sprintf("vm-%d", 101+i), power: platform.PowerOn}
		if slices.Contains(st.Discarded, m.id) {
			l.discarded = append(l.discarded, m.id)
			continue
		}
		if name, ok := st.Renamed[m.id]; ok {
			m.rename(name)
		}
		if sm.Off {
			m.power = platform.PowerOff
		}
		if p, ok := st.Power[m.id]; ok {
			m.power = p
		}
		if err := l.openMachine(m, fresh); err != nil {
			return nil, fmt.Errorf("machine %s: %w", sm.Name, err)
		}
		l.join(m)
	}
	for _, x := range st.Landed {
		if err := l.reopenLanded(x, st.Power[x.ID]); err != nil {
			return nil, fmt.Errorf("machine %s: %w", x.Name, err)
		}
	}
	for name, cp := range l.cps {
		for _, cd := range cp.Disks {
			d, err := l.diskOf(cd.Machine, cd.Disk)
			if err != nil {
				return nil, err
			}
			if d.cps[name], err = d.loadCheckpoint(name, cp.Open); err != nil {
				return nil, fmt.Errorf("checkpoint %s: %w", name, err)
			}
		}
	}
	return l, l.save()
}

func diskKey(i int) string { return fmt.Sprintf("disk-%d", i) }

func (l *Lab) openMachine(m *machine, fresh bool) error {
	for i, sd := range m.Disks {
		size := int64(sd.SizeMiB*(1<<20)) &^ 511
		d, err := openDisk(filepath.Join(l.dir, "disks", m.id, diskKey(i)), size)
		if err != nil {
			return err
		}
		if fresh {
			if err := firstContent(d, sd, m.Name+diskKey(i)); err != nil {
				return err
			}
		}
		m.disks = append(m.disks, d)
	}
	if len(m.disks) == 0 {
		return nil
	}
	var err error
	m.guest, err = newGuest(m.Workload, m.id, m.disks)
	return err
}

// firstContent fills a new disk: shared template first, then its own data.
func firstContent(d *disk, sd ScenarioDisk, name string) error {
	used := min(int64(sd.UsedMiB*(1<<20)), d.size-hotFrom)
	buf := make([]byte, 1<<20)
	for off := int64(0); off < used; off += int64(len(buf)) {
		n := min(int64(len(buf)), used-off)
		seedOf, noise := name, sd.Noise
		if sd.Template != "" && off < used/2 {
			seedOf, noise = sd.Template, 0.2
		}
		fill(buf[:n], hashOf(seedOf)+uint64(off), noise)
		if _, err := d.WriteAt(buf[:n], hotFrom+off); err != nil {
			return err
		}
	}
	return nil
}

// save writes the state; the lock is held, or the lab is not shared yet.
func (l *Lab) save() error {
	st := state{Power: map[string]string{}, Renamed: map[string]string{}, Discarded: l.discarded}
	for _, m := range l.machines {
		st.Power[m.id] = m.power
		if m.renamed && m.landed == nil {
			st.Renamed[m.id] = m.Name
		}
		if m.landed != nil {
			st.Landed = append(st.Landed, m.landed)
		}
	}
	return write(filepath.Join(l.dir, "state.json"), st)
}

// cast takes the scenario that the lab was made from, or that one if it is new.
func (l *Lab) cast(sc Scenario) error {
	l.scenario = sc
	b, err := os.ReadFile(filepath.Join(l.dir, "scenario.json"))
	if errors.Is(err, os.ErrNotExist) {
		if err := os.MkdirAll(l.dir, 0o700); err != nil {
			return fmt.Errorf("make the lab's folder: %w", err)
		}
		return write(filepath.Join(l.dir, "scenario.json"), sc)
	}
	if err == nil {
		l.scenario = Scenario{}
		err = json.Unmarshal(b, &l.scenario)
	}
	if err != nil {
		return fmt.Errorf("read the lab's scenario: %w", err)
	}
	return nil
}

// Run lets the guests of machines that are on write until ctx ends. They act
// as often as every says, usually Tick; on a fast clock a longer time keeps
// them from taking all there is of the processors.
func (l *Lab) Run(ctx context.Context, every time.Duration) error {
	defer close(l.stopped)
	for {
		if err := l.Step(l.clk.Now()); err != nil {
			return err
		}
		if err := clock.Sleep(ctx, l.clk, every); err != nil {
			return nil
		}
	}
}

// Step lets every guest of a machine that is on do one tick.
func (l *Lab) Step(now time.Time) error {
	l.mu.Lock()
	ms := append([]*machine(nil), l.machines...)
	var on []*machine
	for _, m := range ms {
		if m.power == platform.PowerOn && m.guest != nil {
			on = append(on, m)
		}
	}
	l.mu.Unlock()
	still := func(write func() error) error {
		l.instant.RLock()
		defer l.instant.RUnlock()
		return write()
	}
	for _, m := range on {
		var peer *guest
		for _, p := range ms {
			if p.Name == m.Workload.After || p.landed != nil && m.landed != nil && p.landed.Machine.Name == m.Workload.After {
				peer = p.guest
			}
		}
		if err := m.guest.step(now, peer, still); err != nil {
			return fmt.Errorf("guest of %s: %w", m.Name, err)
		}
	}
	return nil
}

// Close lets go of the disks.
func (l *Lab) Close() error {
	l.stop()
	l.copies.Wait()
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, m := range l.machines {
		for _, d := range m.disks {
			d.close()
		}
	}
	return l.save()
}

func (l *Lab) machineByID(id string) (*machine, error) {
	if m, ok := l.byID[id]; ok {
		return m, nil
	}
	for _, m := range l.machines {
		if m.Name == id {
			return m, nil
		}
	}
	return nil, fmt.Errorf("machine %q: %w", id, ErrNotFound)
}

// join takes a machine in; the lock is held, or the lab is not shared yet.
func (l *Lab) join(m *machine) { l.machines, l.byID[m.id] = append(l.machines, m), m }

func (l *Lab) diskOf(machineID, key string) (*disk, error) {
	m, err := l.machineByID(machineID)
	if err != nil {
		return nil, err
	}
	for i, d := range m.disks {
		if diskKey(i) == key {
			return d, nil
		}
	}
	return nil, fmt.Errorf("disk %q of %s: %w", key, machineID, ErrNotFound)
}

// Machine shows one, as the inventory does.
func (l *Lab) Machine(id string) (platform.Machine, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	m, err := l.machineByID(id)
	if err != nil {
		return platform.Machine{}, err
	}
	return l.describe(m), nil
}

// SetPower switches a machine.
func (l *Lab) SetPower(id, power string) error {
	switch power {
	case platform.PowerOn, platform.PowerOff, platform.PowerSuspended:
	default:
		return fmt.Errorf("power %q is none of on, off, suspended: %w", power, ErrBad)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	m, err := l.machineByID(id)
	if err != nil {
		return err
	}
	m.power = power
	return l.save()
}

// describe gives a machine as the inventory shows it; the lock is held.
func (l *Lab) describe(m *machine) platform.Machine {
	agent := platform.AgentNone
	switch {
	case m.Agent == nil:
	case m.Agent.Silent || m.power != platform.PowerOn:
		agent = platform.AgentSilent
	default:
		agent = platform.AgentAnswers
	}
	out := platform.Machine{ID: m.id, Agent: agent, Name: m.Name, Folder: m.Folder, Tags: m.Tags, Host: m.Host, Pool: m.Pool, Power: m.power,
		Guest: m.ScenarioMachine.Guest, CPUs: m.CPUs, MemoryBytes: int64(m.MemGiB * (1 << 30)), Disks: []platform.Disk{},
		NICs: []platform.NIC{{MAC: macOf(m.Name), Network: m.Network, Address: m.Address}}}
	if m.landed != nil {
		out.Landed, out.NICs = true, m.landed.nics(l.scenario.Networks)
	}
	for i, d := range m.disks {
		d.mu.RLock()
		out.Disks = append(out.Disks, platform.Disk{Key: diskKey(i), Label: m.Disks[i].Label, SizeBytes: d.size,
			UsedBytes: d.used * blockSize, Datastore: m.Disks[i].Datastore, Boot: i == 0})
		d.mu.RUnlock()
	}
	return out
}

// Inventory lists everything.
func (l *Lab) Inventory() platform.Inventory {
	l.mu.Lock()
	defer l.mu.Unlock()
	inv := platform.Inventory{Hosts: l.scenario.Hosts, Pools: l.scenario.Pools, Networks: slices.Clone(l.scenario.Networks), Folders: slices.Clone(l.scenario.Folders),
		Names: berth.Names{Most: maxName, Only: "-_.", Start: true}, Ways: []berth.Way{berth.DHCP, berth.Agent}, Formats: []berth.Format{{Name: wire.Format}}}
	for i := range inv.Networks {
		inv.Networks[i].Kind = cmp.Or(inv.Networks[i].Kind, platform.NetworkVirtual)
	}
	used := map[string]int64{}
	for _, m := range l.machines {
		d := l.describe(m)
		for _, x := range d.Disks {
			used[x.Datastore] += x.UsedBytes
		}
		inv.Machines = append(inv.Machines, d)
		if !slices.Contains(inv.Folders, d.Folder) {
			inv.Folders = append(inv.Folders, d.Folder)
		}
	}
	slices.Sort(inv.Folders)
	for i, d := range l.scenario.Datastores {
		size := int64(d.CapacityGiB * (1 << 30))
		inv.Datastores = append(inv.Datastores, platform.Datastore{ID: fmt.Sprintf("ds-%d", i+1), Name: d.Name, CapacityBytes: size, FreeBytes: size - used[d.Name]})
	}
	return inv
}

// Checkpoint takes one of several machines at one instant. A name that is
// taken already gives the checkpoint of that name.
func (l *Lab) Checkpoint(r wire.CheckpointRequest) (wire.Checkpoint, error) {
	if r.Name == "" || strings.ContainsAny(r.Name, "/. ") || len(r.Name) > 100 {
		return wire.Checkpoint{}, fmt.Errorf("checkpoint name %q: %w", r.Name, ErrBad)
	}
	var rests []*resting
	if _, err := l.CheckpointNamed(r.Name); err != nil {
		rests = l.settle(r)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if cp, ok := l.cps[r.Name]; ok {
		return cp.Checkpoint, nil
	}
	token := make([]byte, 16)
	if _, err := rand.Read(token); err != nil {
		return wire.Checkpoint{}, err
	}
	cp := &checkpoint{Token: hex.EncodeToString(token)}
	cp.Name, cp.Open, cp.NBD, cp.Programs = r.Name, true, l.nbdAt, map[string]wire.Program{}
	var ms []*machine
	for _, id := range r.Machines {
		m, err := l.machineByID(id)
		if err != nil {
			return wire.Checkpoint{}, err
		}
		ms = append(ms, m)
	}
	for _, x := range r.Leave {
		if _, err := l.diskOf(x.Machine, x.Disk); err != nil {
			return wire.Checkpoint{}, err
		}
	}
	if len(ms) == 0 {
		return wire.Checkpoint{}, fmt.Errorf("a checkpoint needs machines: %w", ErrBad)
	}
	l.hold(rests)
	err := l.take(r, ms, cp)
	cp.Quiet = l.letGo(rests)
	if err != nil {
		return wire.Checkpoint{}, err
	}
	l.cps[r.Name] = cp
	return cp.Checkpoint, l.ledger.put(cp)
}

// take freezes the disks of machines as they are at this instant; the lock is held.
func (l *Lab) take(r wire.CheckpointRequest, ms []*machine, cp *checkpoint) error {
	l.instant.Lock()
	defer l.instant.Unlock()
	cp.At = l.clk.Now().UTC()
	var done []*disk
	for _, m := range ms {
		cp.Machines = append(cp.Machines, l.describe(m))
		p, err := m.program()
		if err != nil {
			return err
		}
		cp.Programs[m.id] = p
		for i, d := range m.disks {
			if slices.Contains(r.Leave, wire.LeftDisk{Machine: m.id, Disk: diskKey(i)}) {
				continue
			}
			if err := d.checkpoint(r.Name); err != nil {
				for _, d := range done {
					d.forget(r.Name)
				}
				return fmt.Errorf("checkpoint of %s: %w", m.Name, err)
			}
			done = append(done, d)
			var since []string
			for base := range d.cps[r.Name].since {
				since = append(since, base)
			}
			sort.Strings(since)
			cp.Disks = append(cp.Disks, wire.CheckpointDisk{Machine: m.id, Disk: diskKey(i), Size: d.size,
				Export: cp.Token + "/" + m.id + "/" + diskKey(i), Since: since})
		}
	}
	return nil
}

// Checkpoints lists all, by name.
func (l *Lab) Checkpoints() []wire.Checkpoint {
	l.mu.Lock()
	defer l.mu.Unlock()
	var out []wire.Checkpoint
	for _, cp := range l.cps {
		out = append(out, cp.Checkpoint)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out
}

// CheckpointNamed gives one, with what its machines have written since.
func (l *Lab) CheckpointNamed(name string) (wire.Checkpoint, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	cp, ok := l.cps[name]
	if !ok {
		return wire.Checkpoint{}, fmt.Errorf("checkpoint %q: %w", name, ErrNotFound)
	}
	out := cp.Checkpoint
	out.Disks = append([]wire.CheckpointDisk(nil), out.Disks...)
	for i, cd := range out.Disks {
		d, err := l.diskOf(cd.Machine, cd.Disk)
		if err != nil {
			return wire.Checkpoint{}, err
		}
		out.Disks[i].DirtyBytes = d.dirtySince(name)
	}
	return out, nil
}

// Release ends reading a checkpoint and keeps its dirty bitmap.
func (l *Lab) Release(name string) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	cp, ok := l.cps[name]
	if !ok {
		return fmt.Errorf("checkpoint %q: %w", name, ErrNotFound)
	}
	if !cp.Open {
		return nil
	}
	var sums []wire.Digest
	for _, cd := range cp.Disks {
		d, err := l.diskOf(cd.Machine, cd.Disk)
		if err != nil {
			return err
		}
		if l.frozen != nil {
			l.frozen(name, cd.Machine, cd.Disk, &FrozenDisk{frozen{d, d.cps[name]}, d.size})
		}
		sum, err := d.release(name)
		if err != nil {
			return err
		}
		m, _ := l.machineByID(cd.Machine)
		if sum != "" {
			sums = append(sums, wire.Digest{Checkpoint: name, At: cp.At, Machine: cd.Machine, Name: m.Name, Disk: cd.Disk, SHA256: sum})
		}
	}
	l.digests = newest(append(l.digests, sums...))
	cp.Open = false
	return errors.Join(l.ledger.add(l.digests, sums), l.ledger.put(cp))
}

// Forget removes a checkpoint.
func (l *Lab) Forget(name string) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	cp, ok := l.cps[name]
	if !ok {
		return fmt.Errorf("checkpoint %q: %w", name, ErrNotFound)
	}
	for _, cd := range cp.Disks {
		if d, err := l.diskOf(cd.Machine, cd.Disk); err == nil {
			if l.frozen != nil && cp.Open {
				l.frozen(name, cd.Machine, cd.Disk, &FrozenDisk{frozen{d, d.cps[name]}, d.size})
			}
			d.forget(name)
		}
	}
	delete(l.cps, name)
	return l.ledger.drop(name)
}

// Digests gives what the disks of a checkpoint held at its instant.
func (l *Lab) Digests(checkpoint string) []wire.Digest {
	l.mu.Lock()
	defer l.mu.Unlock()
	out := []wire.Digest{}
	for _, d := range l.digests {
		if d.Checkpoint == checkpoint {
			out = append(out, d)
		}
	}
	return out
}

// OnRelease has f called with every disk just before its checkpoint is
// released or forgotten, while the bytes of the instant can still be read.
func (l *Lab) OnRelease(f func(checkpoint, machine, disk string, content *FrozenDisk)) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.frozen = f
}

// List implements nbd.Exporter: the exports' names are secrets.
func (l *Lab) List() []string { return nil }

// Open implements nbd.Exporter.
func (l *Lab) Open(name string) (*nbd.Export, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	token, rest, _ := strings.Cut(name, "/")
	for _, cp := range l.cps {
		if cp.Token != token || !cp.Checkpoint.Open {
			continue
		}
		machineID, key, _ := strings.Cut(rest, "/")
		d, err := l.diskOf(machineID, key)
		if err != nil {
			break
		}
		f := frozen{d, d.cps[cp.Name]}
		e := &nbd.Export{Size: d.size, Device: f, Contexts: []nbd.Context{
			{Name: nbd.AllocationContext, Status: f.status(f.c.alloc, 0, nbd.StateHole|nbd.StateZero)}}}
		for base, m := range f.c.since {
			e.Contexts = append(e.Contexts, nbd.Context{Name: wire.DirtyContext(base), Status: f.status(m, nbd.StateDirty, 0)})
		}
		m, _ := l.machineByID(machineID)
		for i := range m.disks {
			if lim := l.limits[m.Disks[i].Datastore]; lim != nil && m.disks[i] == d {
				e.Device = limited{f, lim, l.clk, l.stopped}
			}
		}
		return e, nil
	}
	return nil, errors.New("no such export, or its checkpoint was released")
}

// limited reads no faster than a datastore can.
type limited struct {
	frozen
	limit *rate.Limiter
	clk   clock.Clock
	stop  <-chan struct{}
}

func (x limited) ReadAt(p []byte, off int64) (int, error) {
	for left := len(p); left > 0; {
		n := min(left, x.limit.Burst())
		now := x.clk.Now()
		select {
		case <-x.clk.After(x.limit.ReserveN(now, n).DelayFrom(now)):
		case <-x.stop:
			return 0, errors.New("the lab is stopping")
		}
		left -= n
	}
	return x.frozen.ReadAt(p, off)
}

// Write writes to a machine's disk as its guest would, for measurements that
// need to know exactly what changed.
func (l *Lab) Write(machineID, key string, p []byte, off int64) error {
	l.mu.Lock()
	d, err := l.diskOf(machineID, key)
	l.mu.Unlock()
	if err != nil {
		return err
	}
	l.instant.RLock()
	defer l.instant.RUnlock()
	_, err = d.WriteAt(p, off)
	return err
}
