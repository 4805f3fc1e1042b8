package libvirt

import (
	"encoding/xml"
	"fmt"
	"path"
	"slices"
	"strings"

	"kestrel/internal/platform"
)

// domainXML is what we read of libvirt's domain format.
type domainXML struct {
	left   map[string]bool // drives that are left out, by device
	Name   string          `xml:"name"`
	UUID   string          `xml:"uuid"`
	Title  string          `xml:"title"`
	Memory struct {
		Unit  string `xml:"unit,attr"`
		Value int64  `xml:",chardata"`
	} `xml:"memory"`
	VCPU     int `xml:"vcpu"`
	Metadata struct {
		Landed *landed `xml:"urn:kestrel-tide:landed landed"`
		Hold   *hold   `xml:"urn:kestrel-tide:hold hold"`
	} `xml:"metadata"`
	OS struct {
		Type struct {
			Arch    string `xml:"arch,attr"`
			Machine string `xml:"machine,attr"`
		} `xml:"type"`
	} `xml:"os"`
	Devices struct {
		Disks    []diskXML    `xml:"disk"`
		NICs     []nicXML     `xml:"interface"`
		Channels []channelXML `xml:"channel"`
		Hostdevs []struct {
			Type string `xml:"type,attr"`
		} `xml:"hostdev"`
	} `xml:"devices"`
}

type diskXML struct {
	Type   string `xml:"type,attr"`
	Device string `xml:"device,attr"`
	Driver struct {
		Type string `xml:"type,attr"`
	} `xml:"driver"`
	Source struct {
		File     string `xml:"file,attr"`
		Dev      string `xml:"dev,attr"`
		Protocol string `xml:"protocol,attr"`
		Pool     string `xml:"pool,attr"`
		Volume   string `xml:"volume,attr"`
	} `xml:"source"`
	Target struct {
		Dev string `xml:"dev,attr"`
		Bus string `xml:"bus,attr"`
	} `xml:"target"`
	Boot *struct {
		Order int `xml:"order,attr"`
	} `xml:"boot"`
	Backing   *backingXML `xml:"backingStore"`
	ReadOnly  *struct{}   `xml:"readonly"`
	Shareable *struct{}   `xml:"shareable"`
	Transient *struct{}   `xml:"transient"`
}

// backingXML is the layer below a disk's.
type backingXML struct {
	Type    string      `xml:"type,attr"`
	Backing *backingXML `xml:"backingStore"`
}

// remote reports whether a disk reads from the network what it does not hold.
func (x diskXML) remote() bool {
	for b := x.Backing; b != nil; b = b.Backing {
		if b.Type == "network" {
			return true
		}
	}
	return x.Type == "network"
}

type nicXML struct {
	Type string `xml:"type,attr"`
	MAC  struct {
		Address string `xml:"address,attr"`
	} `xml:"mac"`
	Source struct {
		Network string `xml:"network,attr"`
		Bridge  string `xml:"bridge,attr"`
		Dev     string `xml:"dev,attr"`
		Address string `xml:"address,attr"`
		Port    string `xml:"port,attr"`
	} `xml:"source"`
	Target struct {
		Dev string `xml:"dev,attr"`
	} `xml:"target"`
	Link *struct {
		State string `xml:"state,attr"`
	} `xml:"link"`
	VLAN vlanXML `xml:"vlan"`
}

type channelXML struct {
	Target struct {
		Name  string `xml:"name,attr"`
		State string `xml:"state,attr"`
	} `xml:"target"`
}

func parseDomain(text string) (*domainXML, error) {
	var d domainXML
	if err := xml.Unmarshal([]byte(text), &d); err != nil {
		return nil, fmt.Errorf("read a machine's description: %w", err)
	}
	return &d, nil
}

// memoryBytes is the machine's memory; libvirt counts in KiB if it says nothing.
func (d *domainXML) memoryBytes() int64 {
	switch d.Memory.Unit {
	case "b", "bytes":
		return d.Memory.Value
	case "M", "MiB":
		return d.Memory.Value << 20
	case "G", "GiB":
		return d.Memory.Value << 30
	}
	return d.Memory.Value << 10
}

// drives lists the disks that hold data of the machine's own. Optical and
// floppy drives do not.
func (d *domainXML) drives() []diskXML {
	return slices.DeleteFunc(slices.Clone(d.Devices.Disks), func(x diskXML) bool { return x.Device == "cdrom" || x.Device == "floppy" })
}

// copied lists the drives that are not left out.
func (d *domainXML) copied() []diskXML {
	return slices.DeleteFunc(d.drives(), func(x diskXML) bool { return d.left[x.Target.Dev] })
}

// leave leaves drives out.
func (d *domainXML) leave(which func(dev string) bool) {
	d.left = map[string]bool{}
	for _, x := range d.drives() {
		d.left[x.Target.Dev] = which(x.Target.Dev)
	}
}

// boot is the drive that the machine starts from: the first in the order that is given
// of devices, or of all.
func (d *domainXML) boot() string {
	first, dev := 0, ""
	for _, x := range d.drives() {
		if x.Boot != nil && (first == 0 || x.Boot.Order < first) {
			first, dev = x.Boot.Order, x.Target.Dev
		}
	}
	if all := d.drives(); dev == "" && len(all) > 0 {
		dev = all[0].Target.Dev
	}
	return dev
}

// agent reports whether the machine has a channel for a guest agent, and
// whether something answers on it.
func (d *domainXML) agent() (channel, connected bool) {
	for _, c := range d.Devices.Channels {
		if c.Target.Name == "org.qemu.guest_agent.0" {
			return true, c.Target.State == "connected"
		}
	}
	return false, false
}

// where is the path, device or address that holds a disk.
func (x diskXML) where() string {
	switch {
	case x.Source.File != "":
		return x.Source.File
	case x.Source.Dev != "":
		return x.Source.Dev
	}
	return strings.Trim(x.Source.Pool+"/"+x.Source.Volume, "/")
}

// untrackable says why changes of a disk cannot be told apart, and what to do.
// Compat is the version of the qcow2 format if it is known.
func (x diskXML) untrackable(compat string) (why, mend string) {
	name := path.Base(x.where())
	convert := fmt.Sprintf("Shut the machine down, run 'qemu-img convert -O qcow2 %s NEW.qcow2' on the host, and point the disk at the new file.", name)
	switch {
	case x.Device == "lun":
		return "it is a device handed through to the guest, whose writes the host does not see.", "Attach it as an ordinary disk (device='disk'), or copy it by means of its own storage."
	case x.Transient != nil:
		return "it is thrown away when the machine stops.", "Attach it without <transient/>, or leave the machine out."
	case x.ReadOnly != nil:
		return "it is attached read-only, and libvirt makes no checkpoints of such a disk.", "Attach it as a CD-ROM, or writable."
	case x.Type == "network":
		return "it lies on " + x.Source.Protocol + " network storage, where nothing records its changes.", "Move it to a qcow2 file, or give it a qcow2 file with this storage as its data file."
	case x.Type == "vhostuser" || x.Type == "nvme" || x.Type == "vhostvdpa":
		return "it is a device handed through to the guest (" + x.Type + "), whose writes the host does not see.", "Attach it as an ordinary disk."
	case x.remote():
		return "it still reads from the network what it does not hold itself.", "Wait until the machine is local."
	case x.Driver.Type == "raw" || x.Driver.Type == "":
		return "it is a raw image, which cannot hold a record of changes.",
			convert + " A qcow2 file with the raw image as its data file (qemu-img create -f qcow2 -o data_file=" + name + ",data_file_raw=on) serves too."
	case x.Driver.Type != "qcow2":
		return "its format, " + x.Driver.Type + ", cannot hold a record of changes.", convert
	case compat == "0.10":
		return "it is a qcow2 file of the old version 2, which cannot hold a record of changes.", fmt.Sprintf("Shut the machine down and run 'qemu-img amend -o compat=1.1 %s' on the host.", name)
	}
	return "", ""
}

// network names what a card is attached to.
func (n nicXML) network() string {
	switch n.Type {
	case "network":
		return n.Source.Network
	case "bridge":
		return "bridge " + n.Source.Bridge
	case "direct":
		return "host card " + n.Source.Dev
	case "mcast":
		return "segment " + n.Source.Address + ":" + n.Source.Port
	case "user":
		return "user"
	}
	return n.Type
}

// power puts libvirt's state of a domain in the words of platform.
func power(state int32) string {
	switch state {
	case 1, 2, 4: // running, blocked, being shut down
		return platform.PowerOn
	case 3, 7: // paused, suspended by the guest
		return platform.PowerSuspended
	}
	return platform.PowerOff
}
