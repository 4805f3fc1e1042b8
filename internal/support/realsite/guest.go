package realsite

import (
	"context"
	"encoding/hex"
	"fmt"
	"hash/fnv"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"time"

	"github.com/beevik/etree"
	"github.com/digitalocean/go-libvirt"

	"kestrel/internal/support/unprivileged"
)

// Guest describes a guest to make. It has two disks with a file system each.
type Guest struct {
	Name    string
	After   string        // the guest that it depends on
	Address string        // IPv4; all guests share a /24
	Segment string        // UDP group and port that stand for its network, such as 230.0.0.1:7400
	DiskMiB [2]int        // sizes; 0 means 256 and 128
	Every   time.Duration // between transactions; 0 means 250 ms
	Records int           // pages appended by each; 0 means 4
	Off     bool          // defined, not started
}

// Console is the file that a guest's serial console goes to.
func (d *Daemon) Console(name string) string { return filepath.Join(d.dir, name+".console") }

// Add makes a guest's disks and defines it, and starts it.
func (d *Daemon) Add(ctx context.Context, i *Image, g Guest) error {
	cred, err := unprivileged.As("nobody")
	if err != nil {
		return err
	}
	var disks [2]string
	for n, mib := range g.DiskMiB {
		if mib == 0 {
			mib = 256 >> n
		}
		disks[n] = filepath.Join(d.Disks(), fmt.Sprintf("%s-%c.qcow2", g.Name, 'a'+n))
		raw := disks[n] + ".raw"
		// One label and identity each run would serve nothing: a file system
		// needs none to be mounted by its device.
		for _, c := range [][]string{
			{"truncate", "-s", strconv.Itoa(mib) + "M", raw},
			{lookPath("mkfs.ext4"), "-q", "-F", raw},
			{"qemu-img", "convert", "-q", "-f", "raw", "-O", "qcow2", raw, disks[n]},
		} {
			if out, err := exec.CommandContext(ctx, c[0], c[1:]...).CombinedOutput(); err != nil {
				return fmt.Errorf("make the disks of %s: %s: %w: %s", g.Name, c[0], err, lastLine(out))
			}
		}
		if err := os.Remove(raw); err != nil {
			return err
		}
		if err := unprivileged.Give(cred, disks[n]); err != nil {
			return err
		}
	}
	_ = os.Remove(d.Console(g.Name)) // of an earlier guest of this name
	xml, err := d.describe(i, g, disks)
	if err != nil {
		return err
	}
	return d.With(func(l *libvirt.Libvirt) error {
		dom, err := l.DomainDefineXML(xml)
		if err == nil && !g.Off {
			err = l.DomainCreate(dom)
		}
		if err != nil {
			return fmt.Errorf("start guest %s: %w", g.Name, err)
		}
		if pool, err := l.StoragePoolLookupByName("disks"); err == nil {
			_ = l.StoragePoolRefresh(pool, 0) // so that the pool lists the new files
		}
		return nil
	})
}

// Ensure is Add for a guest that may be there already; one that is off is started.
func (d *Daemon) Ensure(ctx context.Context, i *Image, g Guest) error {
	known := false
	err := d.With(func(l *libvirt.Libvirt) error {
		dom, err := l.DomainLookupByName(g.Name)
		if err != nil {
			return nil
		}
		known = true
		state, _, err := l.DomainGetState(dom, 0)
		if err != nil || state != int32(libvirt.DomainShutoff) {
			return err
		}
		return l.DomainCreate(dom)
	})
	if err != nil || known {
		return err
	}
	return d.Add(ctx, i, g)
}

func (d *Daemon) describe(i *Image, g Guest, disks [2]string) (string, error) {
	every, records := g.Every, g.Records
	if every == 0 {
		every = 250 * time.Millisecond
	}
	if records == 0 {
		records = 4
	}
	doc := etree.NewDocument()
	dom := doc.CreateElement("domain")
	dom.CreateAttr("type", "qemu")
	if f, err := os.OpenFile("/dev/kvm", os.O_RDWR, 0); err == nil && os.Geteuid() != 0 {
		_ = f.Close()
		dom.CreateAttr("type", "kvm")
	}
	text := func(parent *etree.Element, tag, value string, attrs ...string) *etree.Element {
		e := parent.CreateElement(tag)
		for n := 0; n+1 < len(attrs); n += 2 {
			e.CreateAttr(attrs[n], attrs[n+1])
		}
		if value != "" {
			e.SetText(value)
		}
		return e
	}
	text(dom, "name", g.Name)
	text(dom, "title", "Skerry Line: "+g.Name)
	text(dom, "memory", "112", "unit", "MiB")
	text(dom, "vcpu", "1")
	boot := text(dom, "os", "")
	text(boot, "type", "hvm", "arch", "x86_64", "machine", "pc")
	text(boot, "kernel", i.Kernel)
	text(boot, "initrd", i.Initrd)
	// On a busy host an emulated timer can miss what a kernel expects of it at its start, which
	// then stands still: it is told not to look (kernel parameter no_timer_check).
	text(boot, "cmdline", fmt.Sprintf("console=ttyS0 quiet panic=1 no_timer_check guest.name=%s guest.after=%s guest.ip=%s guest.every=%s guest.records=%d", g.Name, g.After, g.Address, every, records))
	text(text(dom, "features", ""), "acpi", "")
	text(dom, "on_crash", "destroy")
	dev := text(dom, "devices", "")
	for n, p := range disks {
		disk := text(dev, "disk", "", "type", "file", "device", "disk")
		text(disk, "driver", "", "name", "qemu", "type", "qcow2", "discard", "unmap")
		text(disk, "source", "", "file", p)
		text(disk, "target", "", "dev", fmt.Sprintf("vd%c", 'a'+n), "bus", "virtio")
	}
	if g.Segment != "" {
		group, port := splitSegment(g.Segment)
		nic := text(dev, "interface", "", "type", "mcast")
		text(nic, "mac", "", "address", macOf(g.Name))
		text(nic, "source", "", "address", group, "port", port)
		text(nic, "model", "", "type", "virtio")
	}
	serial := text(dev, "serial", "", "type", "file")
	text(serial, "source", "", "path", d.Console(g.Name), "append", "on")
	text(serial, "target", "", "port", "0")
	channel := text(dev, "channel", "", "type", "unix")
	text(channel, "target", "", "type", "virtio", "name", "org.qemu.guest_agent.0")
	text(text(dev, "video", ""), "model", "", "type", "vga", "vram", "4096")
	text(dev, "memballoon", "", "model", "none")
	return doc.WriteToString()
}

func splitSegment(s string) (group, port string) {
	for n := range s {
		if s[n] == ':' {
			return s[:n], s[n+1:]
		}
	}
	return s, "7400"
}

// macOf makes a locally administered address that a name always gets.
func macOf(name string) string {
	h := fnv.New32a()
	_, _ = h.Write([]byte(name))
	x := hex.EncodeToString(h.Sum(nil))
	return fmt.Sprintf("52:54:%s:%s:%s:%s", x[0:2], x[2:4], x[4:6], x[6:8])
}
