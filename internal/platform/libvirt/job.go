package libvirt

import (
	"context"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"net"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	rpc "github.com/digitalocean/go-libvirt"

	"kestrel/internal/platform"
)

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

func exportName(checkpoint, disk string) string { return checkpoint + "." + disk }

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
	left   map[string]int64  // sizes of the disks that are left out
}

// left are the disks of a machine that a capture leaves out.
func (m *held) left() []platform.LeftDisk {
	var out []platform.LeftDisk
	for _, k := range m.x.drives() {
		if dev := k.Target.Dev; m.x.left[dev] {
			out = append(out, platform.LeftDisk{Machine: m.id, Disk: dev, Label: dev, Size: m.plan.left[dev]})
		}
	}
	return out
}

// arrange settles what a machine's backup job will be.
func (d *Driver) arrange(ctx context.Context, r platform.CaptureRequest, m *held, n note) error {
	cfg, err := d.hostTLS(m.h)
	if err != nil {
		return err
	}
	m.plan = plan{size: map[string]int64{}, left: map[string]int64{}}
	return do(ctx, m.h, callLimit, func(l *rpc.Libvirt) error {
		known, whyNot := baseDisks(l, m.dom, r.Base)
		ps, err := pools(l)
		if err != nil {
			return fmt.Errorf("storage pools of host %s: %w", m.h.name(), err)
		}
		for _, k := range m.x.copied() {
			size, used := diskSize(l, m.dom, k, true, slices.ContainsFunc(m.x.copied(), diskXML.remote))
			if size == 0 {
				return fmt.Errorf("the size of disk %s of machine %s is not known; see to it that a storage pool holds %s", k.Target.Dev, m.x.Name, k.where())
			}
			m.plan.size[k.Target.Dev] = size
			if err := d.roomFor(ps, m, k, used); err != nil {
				return err
			}
		}
		for _, k := range m.x.drives() {
			if m.x.left[k.Target.Dev] {
				m.plan.left[k.Target.Dev], _ = diskSize(l, m.dom, k, true, slices.ContainsFunc(m.x.copied(), diskXML.remote))
			}
		}
		port, err := d.reservePort(m, nil)
		if err != nil {
			return err
		}
		m.plan.known = known
		m.plan.backup, m.plan.why = d.backup(r, m, known, whyNot, cfg != nil)
		m.plan.backup.Server.Port = port
		text, err := json.Marshal(n)
		if err != nil {
			return err
		}
		m.plan.cp = checkpointXML{Name: r.Name, Description: string(text)}
		for _, k := range m.x.Devices.Disks {
			kind := "bitmap"
			if k.Device == "cdrom" || k.Device == "floppy" || m.x.left[k.Target.Dev] {
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
		port := p.backup.Server.Port
		p.backup, p.why = d.backup(r, m, nil, why, p.backup.Server.TLS != "")
		p.backup.Server.Port = port
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

// reservePort picks a port of a machine's host for the NBD server of its job.
// One at which somebody listens is passed over: libvirt 9.0 may crash when a job
// fails to begin while another client asks for something of the same machine.
// So are those in passed, which are in use though nobody listens.
func (d *Driver) reservePort(m *held, passed map[int]bool) (int, error) {
	d.mu.Lock()
	for port, machine := range d.ports {
		if machine == m.dom.UUID {
			delete(d.ports, port) // of a job that is gone: a machine has one at a time
		}
	}
	d.mu.Unlock()
	for port := d.firstPort; port <= d.lastPort; port++ {
		if passed[port] {
			continue
		}
		d.mu.Lock()
		_, taken := d.ports[port]
		if !taken {
			d.ports[port] = m.dom.UUID
		}
		d.mu.Unlock()
		if taken {
			continue
		}
		c, err := net.DialTimeout("tcp", net.JoinHostPort(m.h.nbdHost(), strconv.Itoa(port)), portPatience)
		if err != nil {
			return port, nil // until the job ends
		}
		_ = c.Close()
		d.freePort(port)
	}
	return 0, fmt.Errorf("none of the NBD ports %d-%d is free on host %s", d.firstPort, d.lastPort, m.h.name())
}

// portPatience is how long a port that says nothing is asked: a firewall lets
// nothing through to one at which nobody listens.
const portPatience = 300 * time.Millisecond

// samePort is how often a port is tried that was in use and seems free a moment
// later: somebody else's job on this host may have ended in between. One that is
// still in use then is the near end of somebody's connection, where nobody
// listens; it is passed over like one at which somebody does.
const (
	samePort  = 5
	portPause = 20 * time.Millisecond
)

// tryPorts calls begin, with another port if somebody took the one reserved.
func (d *Driver) tryPorts(m *held, b *backupXML, begin func() error) error {
	passed := map[int]bool{}
	for same := 0; ; {
		err := begin()
		if err == nil || !strings.Contains(err.Error(), "in use") {
			if err != nil {
				d.freePort(b.Server.Port)
			}
			return err
		}
		was := b.Server.Port
		if same++; same == samePort {
			passed[was] = true
		}
		port, err := d.reservePort(m, passed)
		if err != nil {
			return err
		}
		if port == was {
			time.Sleep(portPause)
		} else {
			same = 0
		}
		b.Server.Port = port
	}
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

// of reports whether a backup job belongs to a capture.
func (b *backupXML) of(name string) bool {
	return slices.ContainsFunc(b.Disks, func(k backupDisk) bool { return k.Backup == "yes" && k.ExportName == exportName(name, k.Name) })
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
