package libvirt

import (
	"context"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	rpc "github.com/digitalocean/go-libvirt"

	"kestrel/internal/platform"
)

// note is what a checkpoint of ours carries in its description, so that a
// capture can be found again as a whole.
type note struct {
	Machines   []string  `json:"machines"`
	NotBefore  time.Time `json:"notBefore"`
	OneInstant bool      `json:"oneInstant"`
}

// Formats of libvirt: "Domain backup format" and "Checkpoint XML format" in
// its documentation.
type backupXML struct {
	XMLName xml.Name     `xml:"domainbackup"`
	Mode    string       `xml:"mode,attr"`
	Server  serverXML    `xml:"server"`
	Disks   []backupDisk `xml:"disks>disk"`
}

type serverXML struct {
	Transport string `xml:"transport,attr"`
	Name      string `xml:"name,attr"`
	Port      int    `xml:"port,attr"`
	TLS       string `xml:"tls,attr,omitempty"`
}

type backupDisk struct {
	Name         string      `xml:"name,attr"`
	Backup       string      `xml:"backup,attr"`
	Type         string      `xml:"type,attr,omitempty"`
	ExportName   string      `xml:"exportname,attr,omitempty"`
	Mode         string      `xml:"backupmode,attr,omitempty"`
	Incremental  string      `xml:"incremental,attr,omitempty"`
	ExportBitmap string      `xml:"exportbitmap,attr,omitempty"`
	Scratch      *scratchXML `xml:"scratch"`
}

type scratchXML struct {
	File string `xml:"file,attr"`
}

type checkpointXML struct {
	XMLName     xml.Name         `xml:"domaincheckpoint"`
	Name        string           `xml:"name"`
	Description string           `xml:"description"`
	Created     int64            `xml:"creationTime,omitempty"`
	Disks       []checkpointDisk `xml:"disks>disk"`
}

type checkpointDisk struct {
	Name       string `xml:"name,attr"`
	Checkpoint string `xml:"checkpoint,attr"`
	Size       int64  `xml:"size,attr,omitempty"`
}

// sinceBitmap names the bitmap that a job exports; QEMU offers it as the NBD
// metadata context qemu:dirty-bitmap:since.
const sinceBitmap = "since"

// beginLimit bounds the calls that start and end work on a machine.
const beginLimit = 60 * time.Second

func exportName(checkpoint, disk string) string { return checkpoint + "." + disk }

// ownerOf is the part of a checkpoint's name that all of one service's share:
// what comes before its ID.
func ownerOf(checkpoint string) string {
	if parts := strings.SplitN(checkpoint, "-", 3); len(parts) == 3 {
		return parts[0] + "-" + parts[1] + "-"
	}
	return checkpoint
}

// Capture implements platform.Driver.
func (d *Driver) Capture(ctx context.Context, r platform.CaptureRequest) (_ *platform.Capture, err error) {
	d.mu.Lock()
	delete(d.ended, r.Name)
	d.mu.Unlock()
	all := make([]*held, len(r.Machines))
	for n, id := range r.Machines {
		all[n] = &held{id: id}
	}
	c := &platform.Capture{Name: r.Name, Configs: map[string]json.RawMessage{}}
	defer func() {
		if err != nil {
			// Nothing half-begun stays behind, whatever the caller does next.
			back, cancel := context.WithTimeout(context.WithoutCancel(ctx), beginLimit)
			defer cancel()
			for _, m := range all {
				if m.h != nil {
					_ = d.endJob(back, m.h, m.dom, r.Name)
					_ = d.forgetOn(back, m.h, m.dom, r.Name)
					_ = d.putBack(back, m.h, m.dom)
				}
			}
		}
	}()
	if err := each(all, func(m *held) error { return d.ready(ctx, r.Name, m) }); err != nil {
		return nil, err
	}
	for _, m := range all {
		if c.Configs[m.id], err = config(ctx, m); err != nil {
			return nil, err
		}
	}
	quiesce := map[string]bool{}
	for _, id := range r.Quiesce {
		quiesce[id] = true
	}
	together := len(all) > 1 && !r.Apart
	n := note{Machines: r.Machines, NotBefore: d.now().UTC(), OneInstant: together || len(all) == 1}
	// All that can be settled before is: guests wait for what comes after.
	if err := each(all, func(m *held) error { return d.arrange(ctx, r, m, n) }); err != nil {
		return nil, err
	}
	if err := d.still(ctx, r.Name, all, quiesce, together); err != nil {
		d.goOn(all)
		return nil, err
	}
	c.At = d.now()
	disks := make([][]platform.FrozenDisk, len(all))
	index := map[*held]int{}
	for i, m := range all {
		index[m] = i
	}
	err = each(all, func(m *held) error {
		var err error
		disks[index[m]], err = d.begin(ctx, r, m)
		return err
	})
	d.goOn(all)
	if err != nil {
		return nil, err
	}
	c.OneInstant, c.Application = true, len(r.Quiesce) > 0
	for i, m := range all {
		c.Disks = append(c.Disks, disks[i]...)
		// Off and suspended machines write nothing.
		c.OneInstant = c.OneInstant && (len(all) == 1 || !m.running || m.frozen || m.suspended)
		c.Application = c.Application && (m.quiet.Done || !m.running)
		if m.quiet.Machine != "" {
			c.Quiet = append(c.Quiet, m.quiet)
		}
	}
	d.background(func(ctx context.Context) { d.watch(ctx, r.Name, all) })
	return c, nil
}

// ready finds a machine, ends what an earlier capture of ours left on it, and
// opens its disks if it is off.
func (d *Driver) ready(ctx context.Context, checkpoint string, m *held) error {
	h, dom, err := d.find(ctx, m.id)
	if err != nil {
		return err
	}
	m.h, m.dom = h, dom
	return do(ctx, h, beginLimit, func(l *rpc.Libvirt) error {
		if err := d.clearJob(l, dom, checkpoint); err != nil {
			return err
		}
		text, err := l.DomainGetXMLDesc(dom, 0)
		if err != nil {
			return fmt.Errorf("machine %s: %w", dom.Name, err)
		}
		if m.x, err = parseDomain(text); err != nil {
			return err
		}
		for _, k := range m.x.copied() {
			if why, mend := k.untrackable(""); why != "" {
				return fmt.Errorf("machine %s, disk %s: %s %s", m.x.Name, k.Target.Dev, why, mend)
			}
		}
		state, reason, err := l.DomainGetState(dom, 0)
		if err != nil {
			return fmt.Errorf("machine %s: %w", dom.Name, err)
		}
		if state == int32(rpc.DomainPaused) && reason == int32(rpc.DomainPausedIoerror) {
			return fmt.Errorf("machine %s is suspended because of an error of its disks; see to its storage and resume it", dom.Name)
		}
		m.running = power(state) == platform.PowerOn
		if power(state) == platform.PowerOff {
			if p, err := l.DomainIsPersistent(dom); err != nil || p == 0 {
				return fmt.Errorf("machine %s is not defined any more: %w", dom.Name, platform.ErrGone)
			}
			// Only a QEMU can tell what changed, so one is started that runs
			// nothing. The mark comes first: it says that the machine is off.
			if err := setMark(l, dom, holdSpace, "kestrel", hold{Checkpoint: checkpoint, Since: d.now().UTC(), Started: true}, rpc.DomainAffectConfig); err != nil {
				return fmt.Errorf("note on machine %s that it is read: %w", dom.Name, err)
			}
			if m.dom, err = l.DomainCreateWithFlags(dom, uint32(rpc.DomainStartPaused)); err != nil {
				return errors.Join(fmt.Errorf("open the disks of machine %s, which is off: %w", dom.Name, err), clearMark(l, dom, holdSpace, rpc.DomainAffectConfig))
			}
			m.started = true
			return clearMark(l, m.dom, holdSpace, rpc.DomainAffectConfig) // the running one keeps it
		}
		if m.x.Metadata.Hold != nil && m.x.Metadata.Hold.Started && m.running {
			// Somebody resumed it, so that it is really on now.
			return clearMark(l, dom, holdSpace, rpc.DomainAffectLive)
		}
		return nil
	})
}

// config is what is needed to make a machine again.
func config(ctx context.Context, m *held) (json.RawMessage, error) {
	return call(ctx, m.h, callLimit, func(l *rpc.Libvirt) (json.RawMessage, error) {
		text, err := l.DomainGetXMLDesc(m.dom, rpc.DomainXMLInactive)
		if err != nil {
			return nil, fmt.Errorf("description of machine %s: %w", m.x.Name, err)
		}
		c := Config{Machine: platform.Machine{ID: m.id, Name: m.x.Name, Host: m.h.name(), Power: platform.PowerOn, CPUs: m.x.VCPU, MemoryBytes: m.x.memoryBytes(), Tags: []string{}}, Libvirt: text}
		if !m.running {
			c.Power = platform.PowerOff
		}
		for _, k := range m.x.copied() {
			c.Disks = append(c.Disks, platform.Disk{Key: k.Target.Dev, Label: k.Target.Dev})
		}
		for _, n := range m.x.Devices.NICs {
			c.NICs = append(c.NICs, platform.NIC{MAC: n.MAC.Address, Network: n.network()})
		}
		return json.Marshal(c)
	})
}

// Config is a machine's configuration as points keep it.
type Config struct {
	platform.Machine
	Libvirt string `json:"libvirt"` // its description as libvirt had it
}

// clearJob ends a backup job that an earlier capture of ours left on a
// machine, and refuses if somebody else's runs.
func (d *Driver) clearJob(l *rpc.Libvirt, dom rpc.Domain, checkpoint string) error {
	b, err := backupOf(l, dom)
	if err != nil || b == nil {
		return err
	}
	for _, k := range b.Disks {
		if k.Backup == "yes" && !strings.HasPrefix(k.ExportName, ownerOf(checkpoint)) {
			return fmt.Errorf("another program's backup runs on machine %s; it has to end first", dom.Name)
		}
	}
	d.log.Info("ended a backup job left over on a machine", "machine", dom.Name)
	return abortJob(l, dom)
}

// backupOf is the backup job that runs on a machine, or nil.
func backupOf(l *rpc.Libvirt, dom rpc.Domain) (*backupXML, error) {
	text, err := l.DomainBackupGetXMLDesc(dom, 0)
	if is(err, rpc.ErrNoDomainBackup, rpc.ErrOperationInvalid) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("backup job of machine %s: %w", dom.Name, err)
	}
	var b backupXML
	if err := xml.Unmarshal([]byte(text), &b); err != nil {
		return nil, fmt.Errorf("backup job of machine %s: %w", dom.Name, err)
	}
	return &b, nil
}

// abortJob ends the backup job of a machine and waits until it is gone.
func abortJob(l *rpc.Libvirt, dom rpc.Domain) error {
	if err := l.DomainAbortJob(dom); err != nil && !is(err, rpc.ErrOperationInvalid, rpc.ErrNoDomain) {
		return fmt.Errorf("end the backup job of machine %s: %w", dom.Name, err)
	}
	for deadline := time.Now().Add(30 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		b, err := backupOf(l, dom)
		if b == nil || is(err, rpc.ErrNoDomain) {
			return nil
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("the backup job of machine %s does not end", dom.Name)
		}
	}
}

// plan is what a machine's backup job is begun with.
type plan struct {
	backup backupXML
	cp     checkpointXML
	known  map[string]bool   // disks whose changes are known
	why    map[string]string // of the others, by disk
	size   map[string]int64  // by disk
}

// arrange settles what a machine's backup job will be.
func (d *Driver) arrange(ctx context.Context, r platform.CaptureRequest, m *held, n note) error {
	cfg, err := d.hostTLS(m.h)
	if err != nil {
		return err
	}
	m.plan = plan{size: map[string]int64{}}
	return do(ctx, m.h, callLimit, func(l *rpc.Libvirt) error {
		known, whyNot := baseDisks(l, m.dom, r.Base)
		ps, err := pools(l)
		if err != nil {
			return fmt.Errorf("storage pools of host %s: %w", m.h.name(), err)
		}
		for _, k := range m.x.copied() {
			allocated, size, _, err := l.DomainGetBlockInfo(m.dom, k.Target.Dev, 0)
			if err != nil {
				return fmt.Errorf("disk %s of machine %s: %w", k.Target.Dev, m.x.Name, err)
			}
			m.plan.size[k.Target.Dev] = int64(size)
			if err := d.roomFor(ps, m, k, int64(allocated)); err != nil {
				return err
			}
		}
		m.plan.known = known
		m.plan.backup, m.plan.why = d.backup(r, m, known, whyNot, cfg != nil)
		text, err := json.Marshal(n)
		if err != nil {
			return err
		}
		m.plan.cp = checkpointXML{Name: r.Name, Description: string(text)}
		for _, k := range m.x.Devices.Disks {
			kind := "bitmap"
			if k.Device == "cdrom" || k.Device == "floppy" {
				kind = "no"
			}
			m.plan.cp.Disks = append(m.plan.cp.Disks, checkpointDisk{Name: k.Target.Dev, Checkpoint: kind})
		}
		return nil
	})
}

// begin opens a machine's disks as they are now and makes the checkpoint.
func (d *Driver) begin(ctx context.Context, r platform.CaptureRequest, m *held) ([]platform.FrozenDisk, error) {
	p := &m.plan
	err := do(ctx, m.h, beginLimit, func(l *rpc.Libvirt) error {
		err := d.tryPorts(m, &p.backup, func() error { return beginBackup(l, m.dom, p.backup, p.cp) })
		if err == nil || len(p.known) == 0 || !is(err, rpc.ErrCheckpointInconsistent) && !strings.Contains(err.Error(), "bitmap") && !strings.Contains(err.Error(), "checkpoint") {
			return err
		}
		// What was tracked is of no use any more: all is read, and the other
		// side keeps what is the same.
		d.log.Warn("changes of a machine are not known any more", "machine", m.x.Name, "err", err)
		why := "the platform lost the record of changes, as it does when the machine's process is killed"
		if !is(err, rpc.ErrCheckpointInconsistent) {
			why = "the platform cannot use its record of changes: " + err.Error()
		}
		if err := dropCheckpoints(l, m.dom, r.Base); err != nil {
			return err
		}
		p.backup, p.why = d.backup(r, m, nil, why, p.backup.Server.TLS != "")
		return d.tryPorts(m, &p.backup, func() error { return beginBackup(l, m.dom, p.backup, p.cp) })
	})
	if err != nil {
		return nil, fmt.Errorf("open the disks of machine %s: %w", m.x.Name, err)
	}
	return d.frozen(m, p.backup, p.size, p.why), nil
}

// frozen says where the disks of a backup job are read.
func (d *Driver) frozen(m *held, b backupXML, size map[string]int64, why map[string]string) []platform.FrozenDisk {
	cfg, _ := d.hostTLS(m.h)
	if b.Server.TLS != "yes" {
		cfg = nil
	}
	var out []platform.FrozenDisk
	for _, k := range b.Disks {
		if k.Backup != "yes" {
			continue
		}
		f := platform.FrozenDisk{Machine: m.id, Name: m.x.Name, Disk: k.Name, Size: size[k.Name], Network: "tcp", Address: fmt.Sprintf("%s:%d", m.h.nbdHost(), b.Server.Port), Export: k.ExportName, TLS: cfg, Why: why[k.Name]}
		if k.ExportBitmap != "" {
			f.Changed = "qemu:dirty-bitmap:" + k.ExportBitmap
		}
		out = append(out, f)
	}
	return out
}

// baseDisks are the disks whose changes since a checkpoint are known; whyNot
// says what to tell of the others.
func baseDisks(l *rpc.Libvirt, dom rpc.Domain, base string) (known map[string]bool, whyNot string) {
	if base == "" {
		return nil, "first copy"
	}
	cp, err := l.DomainCheckpointLookupByName(dom, base, 0)
	if err != nil {
		return nil, "the platform no longer tracks changes since the last point"
	}
	text, err := l.DomainCheckpointGetXMLDesc(cp, rpcNoDomain)
	var x checkpointXML
	if err != nil || xml.Unmarshal([]byte(text), &x) != nil {
		return nil, "the platform no longer tracks changes since the last point"
	}
	known = map[string]bool{}
	for _, k := range x.Disks {
		known[k.Name] = k.Checkpoint == "bitmap"
	}
	return known, "the disk is new, its changes were not tracked yet"
}

// rpcNoDomain leaves the machine's description out of a checkpoint's.
const rpcNoDomain = uint32(rpc.DomainCheckpointXMLNoDomain)

func (d *Driver) backup(r platform.CaptureRequest, m *held, known map[string]bool, whyNot string, tls bool) (backupXML, map[string]string) {
	b := backupXML{Mode: "pull", Server: serverXML{Transport: "tcp", Name: m.h.nbdHost()}}
	if tls {
		b.Server.TLS = "yes"
	}
	why := map[string]string{}
	copied := m.x.copied()
	for _, k := range m.x.Devices.Disks {
		dev := k.Target.Dev
		if !slices.ContainsFunc(copied, func(c diskXML) bool { return c.Target.Dev == dev }) {
			b.Disks = append(b.Disks, backupDisk{Name: dev, Backup: "no"})
			continue
		}
		x := backupDisk{Name: dev, Backup: "yes", Type: "file", ExportName: exportName(r.Name, dev), Mode: "full", Scratch: &scratchXML{d.scratchFile(r.Name, m, k)}}
		if known[dev] {
			x.Mode, x.Incremental, x.ExportBitmap = "incremental", r.Base, sinceBitmap
		} else {
			why[dev] = whyNot
		}
		b.Disks = append(b.Disks, x)
	}
	return b, why
}

const scratchSuffix = ".scratch"

// scratchFile begins with the checkpoint's name, by which it is found if it is
// left over.
func (d *Driver) scratchFile(checkpoint string, m *held, k diskXML) string {
	dir := d.scratch
	if dir == "" {
		dir = path.Dir(k.where())
	}
	return fmt.Sprintf("%s/%s.%.8s.%s%s", dir, checkpoint, m.id, k.Target.Dev, scratchSuffix)
}

// tryPorts calls begin with one free port after the other.
func (d *Driver) tryPorts(m *held, b *backupXML, begin func() error) error {
	d.mu.Lock()
	for port, machine := range d.ports {
		if machine == m.dom.UUID {
			delete(d.ports, port) // of a job that is gone: a machine has one at a time
		}
	}
	d.mu.Unlock()
	for port := d.firstPort; port <= d.lastPort; port++ {
		d.mu.Lock()
		_, taken := d.ports[port]
		if !taken {
			d.ports[port] = m.dom.UUID
		}
		d.mu.Unlock()
		if taken {
			continue
		}
		b.Server.Port = port
		err := begin()
		if err == nil {
			return nil // until the job ends
		}
		d.freePort(port)
		if !strings.Contains(err.Error(), "in use") {
			return err
		}
	}
	return fmt.Errorf("none of the NBD ports %d-%d is free on host %s", d.firstPort, d.lastPort, m.h.name())
}

func (d *Driver) freePort(port int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	delete(d.ports, port)
}

func beginBackup(l *rpc.Libvirt, dom rpc.Domain, b backupXML, cp checkpointXML) error {
	bt, err := xml.Marshal(b)
	if err != nil {
		return err
	}
	ct, err := xml.Marshal(cp)
	if err != nil {
		return err
	}
	return l.DomainBackupBegin(dom, string(bt), rpc.OptString{string(ct)}, 0)
}

// dropCheckpoints removes a checkpoint whose bitmaps are lost; libvirt can then
// only forget that it had it.
func dropCheckpoints(l *rpc.Libvirt, dom rpc.Domain, base string) error {
	all, _, err := l.DomainListAllCheckpoints(dom, 1, 0)
	if err != nil {
		return fmt.Errorf("checkpoints of machine %s: %w", dom.Name, err)
	}
	for _, cp := range all {
		if !strings.HasPrefix(cp.Name, ownerOf(base)) {
			continue
		}
		if err := l.DomainCheckpointDelete(cp, rpc.DomainCheckpointDeleteMetadataOnly); err != nil && !is(err, rpc.ErrNoDomainCheckpoint) {
			return fmt.Errorf("forget checkpoint %s of machine %s: %w", cp.Name, dom.Name, err)
		}
	}
	return nil
}

// Reopen implements platform.Driver.
func (d *Driver) Reopen(ctx context.Context, name, _ string) (*platform.Capture, error) {
	d.mu.Lock()
	why := d.ended[name]
	d.mu.Unlock()
	if why != "" {
		return nil, fmt.Errorf("%s: %w", why, platform.ErrGone)
	}
	c := &platform.Capture{Name: name, Configs: map[string]json.RawMessage{}}
	found, n, err := d.withCheckpoint(ctx, name)
	if err != nil {
		return nil, err
	}
	c.At, c.OneInstant = n.NotBefore, n.OneInstant
	if len(found) == 0 || len(found) != len(n.Machines) {
		return nil, fmt.Errorf("capture %s is not complete: %w", name, platform.ErrGone)
	}
	slices.SortFunc(found, func(a, b *held) int { return slices.Index(n.Machines, a.id) - slices.Index(n.Machines, b.id) })
	for _, m := range found {
		if m.x.Metadata.Hold != nil && !m.x.Metadata.Hold.Started {
			return nil, fmt.Errorf("the capture was cut off while machine %s was held: %w", m.x.Name, platform.ErrGone)
		}
		var size = map[string]int64{}
		b, err := call(ctx, m.h, callLimit, func(l *rpc.Libvirt) (*backupXML, error) {
			b, err := backupOf(l, m.dom)
			if b == nil || err != nil {
				return b, err
			}
			for _, k := range b.Disks {
				if k.Backup != "yes" {
					continue
				}
				_, s, _, err := l.DomainGetBlockInfo(m.dom, k.Name, 0)
				if err != nil {
					return nil, err
				}
				size[k.Name] = int64(s)
			}
			return b, nil
		})
		if err != nil {
			return nil, err
		}
		if b == nil || !b.of(name) {
			return nil, fmt.Errorf("machine %s was stopped while it was read: %w", m.x.Name, platform.ErrGone)
		}
		if c.Configs[m.id], err = config(ctx, m); err != nil {
			return nil, err
		}
		d.mu.Lock()
		d.ports[b.Server.Port] = m.dom.UUID
		d.mu.Unlock()
		c.Disks = append(c.Disks, d.frozen(m, *b, size, nil)...)
	}
	d.background(func(ctx context.Context) { d.watch(ctx, name, found) })
	return c, nil
}

// of reports whether a backup job belongs to a capture.
func (b *backupXML) of(name string) bool {
	return slices.ContainsFunc(b.Disks, func(k backupDisk) bool { return k.Backup == "yes" && k.ExportName == exportName(name, k.Name) })
}

// withCheckpoint finds the machines that have a checkpoint, and what it says.
func (d *Driver) withCheckpoint(ctx context.Context, name string) (found []*held, n note, err error) {
	for _, h := range d.hosts {
		some, err := call(ctx, h, callLimit, func(l *rpc.Libvirt) (some []*held, err error) {
			domains, _, err := l.ConnectListAllDomains(1, 0)
			if err != nil {
				return nil, err
			}
			for _, dom := range domains {
				cp, err := l.DomainCheckpointLookupByName(dom, name, 0)
				if err != nil {
					continue // most have not
				}
				m := &held{id: uuidText(dom.UUID), h: h, dom: dom}
				text, err := l.DomainCheckpointGetXMLDesc(cp, rpcNoDomain)
				if err != nil {
					return nil, err
				}
				var x checkpointXML
				if err := xml.Unmarshal([]byte(text), &x); err != nil {
					return nil, err
				}
				if err := json.Unmarshal([]byte(x.Description), &n); err != nil {
					return nil, fmt.Errorf("checkpoint %s: %w", name, err)
				}
				if text, err = l.DomainGetXMLDesc(dom, 0); err != nil {
					return nil, err
				}
				if m.x, err = parseDomain(text); err != nil {
					return nil, err
				}
				state, _, err := l.DomainGetState(dom, 0)
				if err != nil {
					return nil, err
				}
				m.running = power(state) == platform.PowerOn
				some = append(some, m)
			}
			return some, nil
		})
		if err != nil {
			return nil, n, err
		}
		found = append(found, some...)
	}
	return found, n, nil
}

// Release implements platform.Driver.
func (d *Driver) Release(ctx context.Context, name string) error {
	found, _, err := d.withCheckpoint(ctx, name)
	if err != nil {
		return err
	}
	return each(found, func(m *held) error {
		return errors.Join(d.endJob(ctx, m.h, m.dom, name), d.putBack(ctx, m.h, m.dom))
	})
}

// endJob ends the backup job of a capture, if it is still there.
func (d *Driver) endJob(ctx context.Context, h *host, dom rpc.Domain, name string) error {
	return do(ctx, h, beginLimit, func(l *rpc.Libvirt) error {
		b, err := backupOf(l, dom)
		if b == nil || err != nil || !b.of(name) {
			return err
		}
		defer d.freePort(b.Server.Port)
		return abortJob(l, dom)
	})
}

// putBack turns a machine off again that was on only to be read, unless
// somebody made it run.
func (d *Driver) putBack(ctx context.Context, h *host, dom rpc.Domain) error {
	return do(ctx, h, beginLimit, func(l *rpc.Libvirt) error {
		mark, err := getMark(l, dom)
		if err != nil || mark == nil || !mark.Started {
			return err
		}
		state, _, err := l.DomainGetState(dom, 0)
		if err != nil {
			return err
		}
		if state == int32(rpc.DomainPaused) {
			// Gracefully, so that the image keeps its record of changes.
			if err := l.DomainDestroyFlags(dom, rpc.DomainDestroyGraceful); err != nil && !is(err, rpc.ErrOperationInvalid) {
				return fmt.Errorf("close the disks of machine %s, which is off: %w", dom.Name, err)
			}
			return nil
		}
		return clearMark(l, dom, holdSpace, rpc.DomainAffectLive)
	})
}

// Forget implements platform.Driver. It also ends what a capture that was
// never finished left open.
func (d *Driver) Forget(ctx context.Context, name string) error {
	found, _, err := d.withCheckpoint(ctx, name)
	if err != nil {
		return err
	}
	err = each(found, func(m *held) error {
		return errors.Join(d.endJob(ctx, m.h, m.dom, name), d.forgetOn(ctx, m.h, m.dom, name), d.putBack(ctx, m.h, m.dom))
	})
	return errors.Join(err, d.removeScratch(ctx, name))
}

func (d *Driver) forgetOn(ctx context.Context, h *host, dom rpc.Domain, name string) error {
	return do(ctx, h, beginLimit, func(l *rpc.Libvirt) error {
		cp, err := l.DomainCheckpointLookupByName(dom, name, 0)
		if is(err, rpc.ErrNoDomainCheckpoint, rpc.ErrNoDomain) {
			return nil
		}
		if err != nil {
			return err
		}
		state, _, err := l.DomainGetState(dom, 0)
		if err != nil {
			return err
		}
		if power(state) == platform.PowerOff {
			// libvirt removes bitmaps of running machines only. It is found
			// among the checkpoints again when the machine is on.
			return nil
		}
		err = l.DomainCheckpointDelete(cp, 0)
		if err != nil && !is(err, rpc.ErrNoDomainCheckpoint) {
			// Its bitmap is lost, so there is only its name left to remove.
			err = l.DomainCheckpointDelete(cp, rpc.DomainCheckpointDeleteMetadataOnly)
		}
		if err != nil && !is(err, rpc.ErrNoDomainCheckpoint) {
			return fmt.Errorf("forget checkpoint %s of machine %s: %w", name, dom.Name, err)
		}
		return nil
	})
}

// Changed implements platform.Driver. A machine that is off is left out: only
// a running QEMU counts.
func (d *Driver) Changed(ctx context.Context, name string) (map[string]int64, error) {
	found, _, err := d.withCheckpoint(ctx, name)
	if err != nil {
		return nil, err
	}
	if len(found) == 0 {
		return nil, fmt.Errorf("checkpoint %s: %w", name, platform.ErrGone)
	}
	out := map[string]int64{}
	for _, m := range found {
		n, err := call(ctx, m.h, callLimit, func(l *rpc.Libvirt) (int64, error) {
			cp, err := l.DomainCheckpointLookupByName(m.dom, name, 0)
			if err != nil {
				return 0, err
			}
			text, err := l.DomainCheckpointGetXMLDesc(cp, rpcNoDomain|uint32(rpc.DomainCheckpointXMLSize))
			if is(err, rpc.ErrOperationInvalid) {
				return -1, nil // off
			}
			if err != nil {
				return 0, fmt.Errorf("changes of machine %s: %w", m.x.Name, err)
			}
			var x checkpointXML
			if err := xml.Unmarshal([]byte(text), &x); err != nil {
				return 0, err
			}
			var sum int64
			for _, k := range x.Disks {
				sum += k.Size
			}
			return sum, nil
		})
		if err != nil {
			return nil, err
		}
		if n >= 0 {
			out[m.id] = n
		}
	}
	return out, nil
}

// Checkpoints implements platform.Driver. It counts scratch files, too: one
// that libvirt could not remove would stay for ever.
func (d *Driver) Checkpoints(ctx context.Context) ([]string, error) {
	names := map[string]bool{}
	for _, h := range d.hosts {
		some, err := call(ctx, h, callLimit, func(l *rpc.Libvirt) (some []string, err error) {
			domains, _, err := l.ConnectListAllDomains(1, 0)
			if err != nil {
				return nil, err
			}
			for _, dom := range domains {
				cps, _, err := l.DomainListAllCheckpoints(dom, 1, 0)
				if is(err, rpc.ErrNoDomain) {
					continue
				}
				if err != nil {
					return nil, fmt.Errorf("checkpoints of machine %s: %w", dom.Name, err)
				}
				for _, cp := range cps {
					some = append(some, cp.Name)
				}
			}
			err = eachScratch(l, func(checkpoint string, _ rpc.StorageVol) error {
				some = append(some, checkpoint)
				return nil
			})
			return some, err
		})
		if err != nil {
			return nil, err
		}
		for _, n := range some {
			names[n] = true
		}
	}
	var out []string
	for n := range names {
		out = append(out, n)
	}
	slices.Sort(out)
	return out, nil
}
