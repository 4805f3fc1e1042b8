package libvirt

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"strings"

	"github.com/beevik/etree"
	rpc "github.com/digitalocean/go-libvirt"

	"kestrel/internal/core/berth"
	"kestrel/internal/platform"
)

// formats are those in which disks of landed machines can be kept.
func formats() []berth.Format {
	return []berth.Format{{Name: overlayFormat}, {Name: rawFormat, Limit: "libvirt tracks no changes of raw disks, so machines that run on them here cannot be protected from here, and their way back copies everything."}}
}

// landedDisk is a disk of a landed machine, as it is on the way to being local.
type landedDisk struct {
	platform.LandedDisk
	overlay string // volume over what the export holds, where the disk is to be kept in another format
	copied  bool   // it is in its other format, and the overlay is left over
	ready   bool   // it was copied, and is to change over
}

// MakeLocal implements platform.Lander. One disk is made local at a time: when
// one is done, libvirt has QEMU 7.2 walk the layers of all disks, which crashes
// if another one's job ends at that moment.
func (d *Driver) MakeLocal(ctx context.Context, id string, limit int64) error {
	return d.onLanded(ctx, id, func(l *rpc.Libvirt, dom rpc.Domain) error {
		disks, err := landedDisks(l, dom)
		if err != nil {
			return err
		}
		for _, k := range disks {
			if k.Busy {
				return nil
			}
		}
		for _, k := range disks {
			if k.Local {
				continue
			}
			switch {
			case k.copied:
				err = dropVolume(l, k.overlay)
			case k.ready:
				// The guest goes on on the copy from here on.
				err = l.DomainBlockJobAbort(dom, k.Key, rpc.DomainBlockJobAbortPivot)
			case k.overlay != "":
				err = copyOver(l, dom, k, limit)
			default:
				err = l.DomainBlockPull(dom, k.Key, uint64(limit), rpc.DomainBlockPullBandwidthBytes)
			}
			if err != nil {
				return fmt.Errorf("make disk %s of machine %s local: %w", k.Key, dom.Name, err)
			}
			return nil
		}
		return nil
	})
}

// copyOver begins to copy a disk, with what its export holds, into a raw volume beside it.
func copyOver(l *rpc.Libvirt, dom rpc.Domain, k landedDisk, limit int64) error {
	v, err := l.StorageVolLookupByPath(k.overlay)
	if err != nil {
		return fmt.Errorf("find its volume: %w", err)
	}
	_, size, _, err := l.StorageVolGetInfo(v)
	if err != nil {
		return err
	}
	p, err := l.StoragePoolLookupByVolume(v)
	if err != nil {
		return err
	}
	file, err := makeVolume(l, p, strings.TrimSuffix(v.Name, overlayFormat)+rawFormat, int64(size), rawFormat)
	if err != nil {
		return err
	}
	x := etree.NewDocument()
	disk := x.CreateElement("disk")
	disk.CreateAttr("type", "file")
	disk.CreateElement("source").CreateAttr("file", file)
	disk.CreateElement("driver").CreateAttr("type", rawFormat)
	text, err := x.WriteToString()
	if err != nil {
		return err
	}
	var params []rpc.TypedParam
	if limit > 0 {
		params = append(params, rpc.TypedParam{Field: "bandwidth", Value: *rpc.NewTypedParamValueUllong(uint64(limit))})
	}
	// The volume is there; one that an earlier attempt filled is written anew. A copy that ends
	// with its hypervisor process is begun again.
	return l.DomainBlockCopy(dom, k.Key, text, params, rpc.DomainBlockCopyReuseExt|rpc.DomainBlockCopyTransientJob)
}

func dropVolume(l *rpc.Libvirt, file string) error {
	v, err := l.StorageVolLookupByPath(file)
	if is(err, rpc.ErrNoStorageVol) {
		return nil
	}
	if err == nil {
		err = l.StorageVolDelete(v, 0)
	}
	return err
}

func landedDisks(l *rpc.Libvirt, dom rpc.Domain) ([]landedDisk, error) {
	text, err := l.DomainGetXMLDesc(dom, 0)
	if err != nil {
		return nil, err
	}
	doc := etree.NewDocument()
	if err := doc.ReadFromString(text); err != nil {
		return nil, fmt.Errorf("read machine %s: %w", dom.Name, err)
	}
	state, _, err := l.DomainGetState(dom, 0)
	if err != nil {
		return nil, err
	}
	format := overlayFormat
	if mark := doc.FindElement("/domain/metadata/landed"); mark != nil {
		format = mark.SelectAttrValue("format", overlayFormat)
	}
	var out []landedDisk
	for _, e := range doc.FindElements("/domain/devices/disk") {
		target := e.SelectElement("target")
		if kind := e.SelectAttrValue("device", "disk"); target == nil || kind == "cdrom" || kind == "floppy" {
			continue
		}
		// Sizes are not asked for: that makes QEMU walk the layers of all disks,
		// and QEMU 7.2 crashes when a job changes them at that moment.
		k := landedDisk{}
		k.Key, k.Local = target.SelectAttrValue("dev", ""), e.FindElement("backingStore[@type='network']") == nil
		if source := e.SelectElement("source"); source != nil && format != overlayFormat {
			if err := k.inFormat(l, e, source.SelectAttrValue("file", "")); err != nil {
				return nil, err
			}
		}
		if power(state) != platform.PowerOff && !k.ready {
			if found, _, _, done, total, err := l.DomainGetBlockJobInfo(dom, k.Key, 0); err == nil && found == 1 {
				// A job that has just begun or ended may say that all of nothing is done.
				k.Busy, k.Local = true, false
				if total > 1 {
					k.Done, k.Total = int64(min(done, total)), int64(total)
				}
			}
		}
		out = append(out, k)
	}
	return out, nil
}

// inFormat finds how far a disk is that is to be kept in another format than the overlay's.
func (k *landedDisk) inFormat(l *rpc.Libvirt, e *etree.Element, file string) error {
	if strings.HasSuffix(file, "."+overlayFormat) {
		k.Local, k.overlay = false, file
		mirror := e.SelectElement("mirror")
		k.ready = mirror != nil && mirror.SelectAttrValue("ready", "") == "yes"
		return nil
	}
	k.overlay = strings.TrimSuffix(file, rawFormat) + overlayFormat
	_, err := l.StorageVolLookupByPath(k.overlay)
	if is(err, rpc.ErrNoStorageVol) {
		return nil
	}
	k.copied, k.Local = err == nil, false
	return err
}

// AgentAnswers implements platform.Lander.
func (d *Driver) AgentAnswers(ctx context.Context, id string) error {
	h, dom, err := d.landedDomain(ctx, id)
	if err != nil {
		return err
	}
	var nothing any
	return voice{h, dom, addressLimit}.ask(ctx, "guest-ping", nil, &nothing)
}

// PortOpen implements platform.Lander.
func (d *Driver) PortOpen(ctx context.Context, id string, port int) error {
	c, err := d.Dial(ctx, id, port)
	if err == nil {
		err = c.Close()
	}
	return err
}

// Dial implements platform.Lander. It is tried from the host of this service, which has to
// reach the network that the machine is on.
func (d *Driver) Dial(ctx context.Context, id string, port int) (net.Conn, error) {
	h, dom, err := d.landedDomain(ctx, id)
	if err != nil {
		return nil, err
	}
	found, err := voice{h, dom, addressLimit}.addresses(ctx)
	if err != nil {
		leased, again := leases(ctx, h, dom)
		if again != nil {
			return nil, fmt.Errorf("%w: no address of it is known: %w", platform.ErrClosed, errors.Join(err, again))
		}
		found = leased
	}
	return dialAny(ctx, found, port)
}

// Serial implements platform.Lander: from the log that its first serial port has.
func (d *Driver) Serial(ctx context.Context, id string) ([]byte, error) {
	h, dom, err := d.landedDomain(ctx, id)
	if err != nil {
		return nil, err
	}
	// A connection of its own, as for pictures: what comes as a stream can hold one up.
	own := h.another()
	defer func() { go own.close() }()
	said := &ending{most: platform.MaxSerial}
	err = do(ctx, own, screenLimit, func(l *rpc.Libvirt) error {
		file, err := serialLog(l, dom)
		if err != nil {
			return err
		}
		v, err := l.StorageVolLookupByPath(file)
		if is(err, rpc.ErrNoStorageVol) {
			return fmt.Errorf("machine %s: %w", dom.Name, platform.ErrNoSerial)
		}
		if err != nil {
			return fmt.Errorf("serial console of %s: %w", dom.Name, err)
		}
		return l.StorageVolDownload(v, said, 0, 0, 0)
	})
	if err != nil && len(said.b) == 0 {
		return nil, err
	}
	return said.b, nil // as for pictures, the stream's end counts, not the answer behind it
}

// serialLog is the file that a machine's first serial port is kept in.
func serialLog(l *rpc.Libvirt, dom rpc.Domain) (string, error) {
	text, err := l.DomainGetXMLDesc(dom, 0)
	if err != nil {
		return "", err
	}
	doc := etree.NewDocument()
	if err := doc.ReadFromString(text); err != nil {
		return "", err
	}
	if e := doc.FindElement("/domain/devices/serial/log"); e != nil {
		return e.SelectAttrValue("file", ""), nil
	}
	return "", fmt.Errorf("machine %s: %w", dom.Name, platform.ErrNoSerial)
}

// ending keeps the end of what is written to it.
type ending struct {
	b    []byte
	most int
}

// Write implements io.Writer.
func (e *ending) Write(b []byte) (int, error) {
	e.b = append(e.b, b...)
	if over := len(e.b) - e.most; over > 0 {
		e.b = bytes.Clone(e.b[over:])
	}
	return len(b), nil
}
