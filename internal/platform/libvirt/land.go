package libvirt

import (
	"bytes"
	"context"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/beevik/etree"
	rpc "github.com/digitalocean/go-libvirt"

	"kestrel/internal/platform"
)

// landed is the mark of a machine that was made from a point.
type landed struct {
	XMLName xml.Name `xml:"urn:kestrel-tide:landed landed"`
	ID      string   `xml:"id,attr"`
	Format  string   `xml:"format,attr"` // of its disks once they are local; empty is qcow2
}

// Formats of the volumes that are made for landings.
const (
	overlayFormat = "qcow2" // what a machine writes lies over what an export holds
	rawFormat     = "raw"
	seedFormat    = "iso"
	logFormat     = "log"
)

// volumeName of a landed disk ends with the landing's ID, by which it is found
// even if nothing else is left.
func volumeName(machine, disk, id, format string) string {
	clean := strings.Map(func(r rune) rune {
		if r == '/' || r < ' ' {
			return '_'
		}
		return r
	}, machine)
	return clean + "-" + disk + "." + id + "." + format
}

// datastore finds the host and the pool that a datastore of the inventory is.
func (d *Driver) datastore(id string) (*host, string, error) {
	if len(d.hosts) == 1 {
		return d.hosts[0], id, nil
	}
	for _, h := range d.hosts {
		if name, ok := strings.CutPrefix(id, h.name()+"/"); ok {
			return h, name, nil
		}
	}
	return nil, "", fmt.Errorf("datastore %q: %w", id, platform.ErrGone)
}

// Fits implements platform.Lander.
func (d *Driver) Fits(config json.RawMessage) error {
	_, err := descriptionOf(config)
	return err
}

func descriptionOf(config json.RawMessage) (Config, error) {
	var c Config
	if err := json.Unmarshal(config, &c); err != nil || c.Libvirt == "" {
		return c, fmt.Errorf("the point keeps no libvirt description of it: %w", platform.ErrConfig)
	}
	return c, nil
}

// Land implements platform.Lander.
func (d *Driver) Land(ctx context.Context, r platform.Landing) error {
	h, poolName, err := d.datastore(r.Datastore)
	if err != nil {
		return err
	}
	c, err := descriptionOf(r.Config)
	if err != nil {
		return fmt.Errorf("machine %s: %w", r.Name, err)
	}
	if _, _, err := d.landedDomain(ctx, r.ID); err == nil {
		return nil
	} else if !errors.Is(err, platform.ErrGone) {
		return err
	}
	if r.Pool != "" && r.Pool != h.name() {
		return fmt.Errorf("datastore %s is on host %s, and it is to run on %s; choose one of that host: %w", r.Datastore, h.name(), r.Pool, platform.ErrConfig)
	}
	if r.Format != "" && r.Format != overlayFormat && r.Format != rawFormat {
		return fmt.Errorf("disks cannot be kept as %q here: %w", r.Format, platform.ErrConfig)
	}
	err = do(ctx, h, beginLimit, func(l *rpc.Libvirt) error {
		text := c.Libvirt
		if r.InPlaceOf != "" {
			if text, err = setAside(l, r); err != nil {
				return err
			}
		}
		if _, err := l.DomainLookupByName(r.Name); err == nil {
			return fmt.Errorf("host %s has a machine %s already; choose another name: %w", h.name(), r.Name, platform.ErrConfig)
		}
		p, err := l.StoragePoolLookupByName(poolName)
		if err != nil {
			return fmt.Errorf("datastore %s: %w", poolName, err)
		}
		files := map[string]string{}
		for _, k := range r.Disks {
			format := overlayFormat
			if k.Empty && r.Format != "" {
				format = r.Format // there is nothing to lay over
			}
			if files[k.Key], err = makeVolume(l, p, volumeName(r.Name, k.Key, r.ID, format), k.Size, format); err != nil {
				return err
			}
		}
		seed := ""
		if r.Seed != nil {
			if seed, err = uploadVolume(l, p, volumeName(r.Name, "seed", r.ID, seedFormat), r.Seed); err != nil {
				return err
			}
		}
		// What it writes to its serial console is kept beside its disks.
		log, err := makeVolume(l, p, volumeName(r.Name, "serial", r.ID, logFormat), 0, rawFormat)
		if err != nil {
			return err
		}
		text, err = landedXML(text, r, files, seed, log)
		if err != nil {
			return err
		}
		if _, err := l.DomainDefineXML(text); err != nil {
			return fmt.Errorf("define machine %s: %w: %w", r.Name, err, platform.ErrConfig)
		}
		// Only now: what is reserved is found again by the cards of the machine.
		return reserve(l, r)
	})
	if err != nil {
		return errors.Join(err, d.RemoveLanded(context.WithoutCancel(ctx), r.ID))
	}
	return nil
}

func makeVolume(l *rpc.Libvirt, p rpc.StoragePool, name string, size int64, format string) (string, error) {
	v, err := volume(l, p, name, size, format)
	if err != nil {
		return "", err
	}
	return l.StorageVolGetPath(v)
}

// uploadVolume makes a volume with some content.
func uploadVolume(l *rpc.Libvirt, p rpc.StoragePool, name string, content []byte) (string, error) {
	v, err := volume(l, p, name, int64(len(content)), "raw")
	if err != nil {
		return "", err
	}
	if err := l.StorageVolUpload(v, bytes.NewReader(content), 0, uint64(len(content)), 0); err != nil {
		return "", fmt.Errorf("fill volume %s: %w", name, err)
	}
	return l.StorageVolGetPath(v)
}

// volume finds or makes a volume.
func volume(l *rpc.Libvirt, p rpc.StoragePool, name string, size int64, format string) (rpc.StorageVol, error) {
	v, err := l.StorageVolLookupByName(p, name)
	if err == nil {
		return v, nil
	}
	if !is(err, rpc.ErrNoStorageVol) {
		return v, fmt.Errorf("look for volume %s: %w", name, err)
	}
	x := etree.NewDocument()
	vol := x.CreateElement("volume")
	vol.CreateElement("name").SetText(name)
	capacity := vol.CreateElement("capacity")
	capacity.CreateAttr("unit", "bytes")
	capacity.SetText(strconv.FormatInt(size, 10))
	target := vol.CreateElement("target")
	target.CreateElement("format").CreateAttr("type", format)
	if format == overlayFormat {
		// The version that can hold a record of changes.
		target.CreateElement("compat").SetText("1.1")
	}
	text, err := x.WriteToString()
	if err != nil {
		return v, err
	}
	if v, err = l.StorageVolCreateXML(p, text, 0); err != nil {
		return v, fmt.Errorf("make volume %s: %w", name, err)
	}
	return v, nil
}

// landedXML turns a machine's description at home into one for here. What
// belongs to the home host is left out or put to what every host has.
func landedXML(text string, r platform.Landing, files map[string]string, seed, log string) (string, error) {
	doc := etree.NewDocument()
	if err := doc.ReadFromString(text); err != nil || doc.Root() == nil {
		return "", fmt.Errorf("read the description of machine %s: %w", r.Name, platform.ErrConfig)
	}
	dom := doc.Root()
	dom.RemoveAttr("id")
	for _, tag := range []string{"uuid", "metadata", "seclabel", "name"} {
		for _, e := range dom.SelectElements(tag) {
			dom.RemoveChild(e)
		}
	}
	dom.CreateElement("name").SetText(r.Name)
	dom.CreateElement("uuid").SetText(r.ID)
	mark := dom.CreateElement("metadata").CreateElement("kestrel:landed")
	mark.CreateAttr("xmlns:kestrel", landedSpace)
	mark.CreateAttr("id", r.ID)
	if r.Format != "" {
		mark.CreateAttr("format", r.Format)
	}
	resize(dom, r)
	for _, boot := range dom.SelectElements("os") {
		for _, e := range boot.SelectElements("nvram") {
			boot.RemoveChild(e) // its file is the home host's; libvirt makes one
		}
	}
	dev := dom.SelectElement("devices")
	if dev == nil {
		return "", fmt.Errorf("machine %s has no devices: %w", r.Name, platform.ErrConfig)
	}
	for _, e := range slices.Clone(dev.ChildElements()) {
		switch e.Tag {
		case "emulator", "hostdev", "filesystem", "shmem", "lease", "redirdev", "smartcard":
			dev.RemoveChild(e)
		case "disk":
			landDisk(dev, e, r, files)
		case "interface":
			landNIC(e, r)
		case "serial", "console", "parallel":
			// A file or socket of the home host becomes a console here.
			e.CreateAttr("type", "pty")
			for _, tag := range []string{"source", "log", "protocol"} {
				for _, x := range e.SelectElements(tag) {
					e.RemoveChild(x)
				}
			}
		case "channel":
			for _, x := range e.SelectElements("source") {
				e.RemoveChild(x) // libvirt chooses the socket
			}
		case "graphics":
			e.RemoveAttr("port")
			e.RemoveAttr("socket")
			e.CreateAttr("autoport", "yes")
			e.RemoveAttr("listen")
			for _, x := range e.SelectElements("listen") {
				e.RemoveChild(x)
			}
		}
	}
	if seed != "" {
		addSeed(dev, seed)
	}
	keepSerial(dev, log)
	return doc.WriteToString()
}

// keepSerial has what is written to the first serial port kept in a file, from each start
// anew.
func keepSerial(dev *etree.Element, log string) {
	port := dev.SelectElement("serial")
	for _, c := range dev.SelectElements("console") {
		if target := c.SelectElement("target"); port == nil && (target == nil || target.SelectAttrValue("type", "serial") == "serial") {
			port = c // libvirt makes a serial port of it
		}
	}
	if port == nil || log == "" {
		return
	}
	e := port.CreateElement("log")
	e.CreateAttr("file", log)
	e.CreateAttr("append", "off")
}

// resize gives a machine other processors and memory than at home. What lays them out is
// left out then: it is for as many as there were.
func resize(dom *etree.Element, r platform.Landing) {
	drop := func(parent *etree.Element, tags ...string) {
		for _, tag := range tags {
			for _, e := range parent.SelectElements(tag) {
				parent.RemoveChild(e)
			}
		}
	}
	cpu := dom.SelectElement("cpu")
	if r.CPUs > 0 {
		drop(dom, "vcpu", "vcpus", "cputune")
		if cpu != nil {
			drop(cpu, "topology", "numa")
		}
		dom.CreateElement("vcpu").SetText(strconv.Itoa(r.CPUs))
	}
	if r.MemoryBytes > 0 {
		drop(dom, "memory", "currentMemory", "maxMemory", "numatune", "memtune")
		if cpu != nil {
			drop(cpu, "numa")
		}
		if dev := dom.SelectElement("devices"); dev != nil {
			drop(dev, "memory") // modules of memory
		}
		e := dom.CreateElement("memory")
		e.CreateAttr("unit", "KiB")
		e.SetText(strconv.FormatInt(r.MemoryBytes>>10, 10))
	}
}

// addSeed puts a seed disk into a drive of its own. Every machine has a bus for it: SATA
// on q35, IDE or SCSI where the machine has such a drive already, or USB.
func addSeed(dev *etree.Element, file string) {
	bus, prefix := "sata", "sd"
	if machine := dev.Parent().FindElement("os/type"); machine != nil {
		if kind := machine.SelectAttrValue("machine", ""); kind == "pc" || strings.HasPrefix(kind, "pc-i440fx") {
			bus, prefix = "ide", "hd"
		}
	}
	taken := map[string]bool{}
	for _, t := range dev.FindElements("disk/target") {
		taken[t.SelectAttrValue("dev", "")] = true
	}
	letter := byte('a')
	for letter < 'z' && taken[prefix+string(letter)] {
		letter++
	}
	e := dev.CreateElement("disk")
	e.CreateAttr("type", "file")
	e.CreateAttr("device", "cdrom")
	driver := e.CreateElement("driver")
	driver.CreateAttr("name", "qemu")
	driver.CreateAttr("type", "raw")
	e.CreateElement("source").CreateAttr("file", file)
	target := e.CreateElement("target")
	target.CreateAttr("dev", prefix+string(letter))
	target.CreateAttr("bus", bus)
	e.CreateElement("readonly")
}

func landDisk(dev, e *etree.Element, r platform.Landing, files map[string]string) {
	target := e.SelectElement("target")
	at := -1
	if target != nil {
		at = slices.IndexFunc(r.Disks, func(k platform.LandingDisk) bool { return k.Key == target.SelectAttrValue("dev", "") })
	}
	for _, tag := range []string{"source", "backingStore", "mirror", "auth", "encryption"} {
		for _, x := range e.SelectElements(tag) {
			e.RemoveChild(x)
		}
	}
	if at < 0 {
		// A drive stays, empty; anything else has no content here.
		if kind := e.SelectAttrValue("device", "disk"); kind != "cdrom" && kind != "floppy" {
			dev.RemoveChild(e)
		}
		return
	}
	k := r.Disks[at]
	e.CreateAttr("type", "file")
	driver := e.SelectElement("driver")
	if driver == nil {
		driver = e.CreateElement("driver")
	}
	driver.CreateAttr("name", "qemu")
	driver.CreateAttr("type", overlayFormat)
	if k.Empty && r.Format != "" {
		driver.CreateAttr("type", r.Format)
	}
	// An export that does not answer stops the guest, which goes on later,
	// rather than telling it that its disk is broken.
	driver.CreateAttr("error_policy", "stop")
	driver.CreateAttr("rerror_policy", "stop")
	e.CreateElement("source").CreateAttr("file", files[k.Key])
	if k.Empty {
		return // its serial and address stay, so that the guest finds it where it was
	}
	back := e.CreateElement("backingStore")
	back.CreateAttr("type", "network")
	back.CreateElement("format").CreateAttr("type", "raw")
	source := back.CreateElement("source")
	source.CreateAttr("protocol", "nbd")
	source.CreateAttr("name", k.Export)
	// Said either way: a host may have a rule of its own for what says nothing.
	source.CreateAttr("tls", map[bool]string{true: "yes", false: "no"}[k.TLS])
	server := source.CreateElement("host")
	server.CreateAttr("name", k.Host)
	server.CreateAttr("port", strconv.Itoa(k.Port))
	back.CreateElement("backingStore")
}

func landNIC(e *etree.Element, r platform.Landing) {
	mac := e.SelectElement("mac")
	network, as := platform.NotConnected, ""
	if mac != nil {
		for _, n := range r.NICs {
			if strings.EqualFold(n.MAC, mac.SelectAttrValue("address", "")) {
				network, as = n.Network, n.As
			}
		}
	}
	for _, tag := range []string{"source", "target", "link", "portForward", "backend", "virtualport", "filterref"} {
		for _, x := range e.SelectElements(tag) {
			e.RemoveChild(x)
		}
	}
	if as != "" {
		mac.CreateAttr("address", as)
	}
	segment, isSegment := strings.CutPrefix(network, "segment ")
	bridge, isBridge := strings.CutPrefix(network, "bridge ")
	card, isCard := strings.CutPrefix(network, "host card ")
	switch {
	case network == platform.NotConnected:
		// A network of its own that leads nowhere, and the cable pulled.
		e.CreateAttr("type", "user")
		e.CreateElement("link").CreateAttr("state", "down")
	case network == "user":
		e.CreateAttr("type", "user")
	case isSegment:
		e.CreateAttr("type", "mcast")
		group, port, _ := strings.Cut(segment, ":")
		source := e.CreateElement("source")
		source.CreateAttr("address", group)
		source.CreateAttr("port", port)
	case isBridge:
		e.CreateAttr("type", "bridge")
		e.CreateElement("source").CreateAttr("bridge", bridge)
	case isCard:
		e.CreateAttr("type", "direct")
		source := e.CreateElement("source")
		source.CreateAttr("dev", card)
		source.CreateAttr("mode", "bridge")
	default:
		e.CreateAttr("type", "network")
		e.CreateElement("source").CreateAttr("network", network)
	}
}

// landedDomain finds a landed machine; its ID is also its UUID.
func (d *Driver) landedDomain(ctx context.Context, id string) (*host, rpc.Domain, error) {
	h, dom, err := d.find(ctx, id)
	if err != nil {
		return nil, dom, err
	}
	text, err := call(ctx, h, callLimit, func(l *rpc.Libvirt) (string, error) { return l.DomainGetXMLDesc(dom, 0) })
	if err != nil {
		return nil, dom, err
	}
	x, err := parseDomain(text)
	if err != nil {
		return nil, dom, err
	}
	if x.Metadata.Landed == nil || x.Metadata.Landed.ID != id {
		return nil, dom, fmt.Errorf("machine %s was not made from a point: %w", dom.Name, platform.ErrGone)
	}
	return h, dom, nil
}

// onLanded runs f for a landed machine.
func (d *Driver) onLanded(ctx context.Context, id string, f func(l *rpc.Libvirt, dom rpc.Domain) error) error {
	h, dom, err := d.landedDomain(ctx, id)
	if err != nil {
		return err
	}
	return do(ctx, h, beginLimit, func(l *rpc.Libvirt) error { return f(l, dom) })
}

// StartLanded implements platform.Lander.
func (d *Driver) StartLanded(ctx context.Context, id string, waiting bool) error {
	return d.onLanded(ctx, id, func(l *rpc.Libvirt, dom rpc.Domain) error {
		state, _, err := l.DomainGetState(dom, 0)
		if err != nil || power(state) != platform.PowerOff {
			return err
		}
		var flags rpc.DomainCreateFlags
		if waiting {
			flags = rpc.DomainStartPaused
		}
		if _, err := l.DomainCreateWithFlags(dom, uint32(flags)); err != nil {
			return fmt.Errorf("start machine %s: %w", dom.Name, err)
		}
		return nil
	})
}

// ResumeLanded implements platform.Lander.
func (d *Driver) ResumeLanded(ctx context.Context, id string) error {
	return d.onLanded(ctx, id, func(l *rpc.Libvirt, dom rpc.Domain) error {
		if err := l.DomainResume(dom); err != nil && !is(err, rpc.ErrOperationInvalid) {
			return fmt.Errorf("resume machine %s: %w", dom.Name, err)
		}
		return nil
	})
}

// RunIn implements platform.Lander.
func (d *Driver) RunIn(ctx context.Context, id, command string, limit time.Duration) error {
	h, dom, err := d.landedDomain(ctx, id)
	if err != nil {
		return err
	}
	return voice{h, dom, limit}.exec(ctx, command)
}

// Landed implements platform.Lander.
func (d *Driver) Landed(ctx context.Context, id string) (platform.Landed, error) {
	var out platform.Landed
	err := d.onLanded(ctx, id, func(l *rpc.Libvirt, dom rpc.Domain) error {
		state, reason, err := l.DomainGetState(dom, 0)
		if err != nil {
			return err
		}
		out.Power = power(state)
		out.Crashed = state == int32(rpc.DomainShutoff) && reason == int32(rpc.DomainShutoffCrashed)
		out.Starved = state == int32(rpc.DomainPaused) && reason == int32(rpc.DomainPausedIoerror)
		disks, err := landedDisks(l, dom)
		for _, k := range disks {
			out.Disks = append(out.Disks, k.LandedDisk)
		}
		return err
	})
	return out, err
}

// RemoveLanded implements platform.Lander.
func (d *Driver) RemoveLanded(ctx context.Context, id string) error {
	err := d.onLanded(ctx, id, func(l *rpc.Libvirt, dom rpc.Domain) error {
		if err := unreserveAll(l, dom); err != nil {
			return err
		}
		if err := l.DomainDestroyFlags(dom, 0); err != nil && !is(err, rpc.ErrOperationInvalid, rpc.ErrNoDomain) {
			return fmt.Errorf("stop machine %s: %w", dom.Name, err)
		}
		flags := rpc.DomainUndefineManagedSave | rpc.DomainUndefineSnapshotsMetadata | rpc.DomainUndefineCheckpointsMetadata | rpc.DomainUndefineNvram
		if err := l.DomainUndefineFlags(dom, flags); err != nil && !is(err, rpc.ErrNoDomain) {
			return fmt.Errorf("remove machine %s: %w", dom.Name, err)
		}
		return nil
	})
	if err != nil && !errors.Is(err, platform.ErrGone) {
		return err
	}
	for _, h := range d.hosts {
		if err := do(ctx, h, beginLimit, func(l *rpc.Libvirt) error { return errors.Join(removeVolumes(l, id), bringBack(l, id)) }); err != nil {
			return err
		}
	}
	return nil
}

// removeVolumes removes the volumes that were made for a landing.
func removeVolumes(l *rpc.Libvirt, id string) error {
	ps, err := pools(l)
	if err != nil {
		return err
	}
	for _, p := range ps {
		_ = l.StoragePoolRefresh(p.ref, 0) // for what its log was cut into; while others are busy, it cannot be
		names, _, err := l.StoragePoolListAllVolumes(p.ref, 1, 0)
		if err != nil {
			continue // gone meanwhile
		}
		for _, v := range names {
			if !slices.ContainsFunc([]string{overlayFormat, rawFormat, seedFormat, logFormat}, func(format string) bool { return strings.HasSuffix(v.Name, "."+id+"."+format) }) && !strings.Contains(v.Name, "."+id+"."+logFormat+".") {
				continue
			}
			if err := l.StorageVolDelete(v, 0); err != nil && !is(err, rpc.ErrNoStorageVol) {
				return fmt.Errorf("remove volume %s: %w", v.Name, err)
			}
		}
	}
	return nil
}

var _ platform.Lander = (*Driver)(nil)
