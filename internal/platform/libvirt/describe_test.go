package libvirt

import (
	"strings"
	"testing"

	"github.com/beevik/etree"
	"github.com/stretchr/testify/require"

	"kestrel/internal/platform"
)

const described = `<domain type='kvm' id='7'>
  <name>purser</name><uuid>0a0b0c0d-0000-4000-8000-000000000001</uuid>
  <metadata><kestrel:hold xmlns:kestrel="urn:kestrel-tide:hold" checkpoint="kt-1" since="2026-11-23T10:00:00Z" frozen="true" suspended="false" started="false"/></metadata>
  <memory unit='KiB'>2097152</memory><vcpu>2</vcpu>
  <os><type arch='x86_64' machine='pc-q35-7.2'>hvm</type><nvram>/home/purser.fd</nvram></os>
  <devices>
    <emulator>/opt/qemu</emulator>
    <disk type='file' device='disk'><driver name='qemu' type='qcow2' io='native' cache='none'/><source file='/images/a.qcow2'/><backingStore type='file'><format type='qcow2'/><source file='/images/base.qcow2'/></backingStore><target dev='vda' bus='virtio'/><boot order='1'/></disk>
    <disk type='file' device='disk'><driver name='qemu' type='raw'/><source file='/images/b.img'/><target dev='vdb' bus='virtio'/></disk>
    <disk type='file' device='cdrom'><driver name='qemu' type='raw'/><source file='/iso/install.iso'/><target dev='sda' bus='sata'/><readonly/></disk>
    <interface type='network'><mac address='52:54:00:00:00:01'/><source network='harbour' portid='1'/><target dev='vnet0'/><model type='virtio'/></interface>
    <interface type='bridge'><mac address='52:54:00:00:00:02'/><source bridge='br0'/><model type='virtio'/></interface>
    <serial type='file'><source path='/var/log/purser.log'/><target port='0'/></serial>
    <channel type='unix'><source mode='bind' path='/run/x'/><target type='virtio' name='org.qemu.guest_agent.0' state='connected'/></channel>
    <graphics type='vnc' port='5901' listen='10.0.0.4'><listen type='address' address='10.0.0.4'/></graphics>
    <hostdev mode='subsystem' type='pci'/>
  </devices>
</domain>`

func TestReadingADescription(t *testing.T) {
	d, err := parseDomain(described)
	require.NoError(t, err)
	require.Equal(t, int64(2<<30), d.memoryBytes())
	require.Len(t, d.copied(), 2, "a CD-ROM is not copied")
	require.True(t, d.Metadata.Hold.Frozen)
	_, connected := d.agent()
	require.True(t, connected)
	require.Equal(t, "harbour", d.Devices.NICs[0].network())
	require.Equal(t, "bridge br0", d.Devices.NICs[1].network())
}

func TestWhatCannotBeTracked(t *testing.T) {
	for text, says := range map[string]string{
		`<disk type='file' device='disk'><driver type='qcow2'/><source file='/a'/></disk>`:                                                            "",
		`<disk type='file' device='disk'><driver type='raw'/><source file='/a.img'/></disk>`:                                                          "raw image",
		`<disk type='file' device='disk'><driver type='vmdk'/><source file='/a'/></disk>`:                                                             "its format, vmdk",
		`<disk type='file' device='disk'><driver type='qcow2'/><source file='/a'/><readonly/></disk>`:                                                 "read-only",
		`<disk type='file' device='disk'><driver type='qcow2'/><source file='/a'/><transient/></disk>`:                                                "thrown away",
		`<disk type='block' device='lun'><driver type='raw'/><source dev='/dev/sdb'/></disk>`:                                                         "handed through",
		`<disk type='network' device='disk'><driver type='raw'/><source protocol='iscsi' name='x'/></disk>`:                                           "iscsi network storage",
		`<disk type='file' device='disk'><driver type='qcow2'/><source file='/a'/><backingStore type='network'><backingStore/></backingStore></disk>`: "still reads from the network",
	} {
		d, err := parseDomain("<domain><devices>" + text + "</devices></domain>")
		require.NoError(t, err)
		why, mend := d.Devices.Disks[0].untrackable("1.1")
		require.Contains(t, why, says, text)
		require.Equal(t, why == "", mend == "", "each reason has its mend")
		require.Equal(t, says == "", why == "")
	}
	d, err := parseDomain("<domain><devices><disk type='file' device='disk'><driver type='qcow2'/><source file='/a'/></disk></devices></domain>")
	require.NoError(t, err)
	why, mend := d.Devices.Disks[0].untrackable("0.10")
	require.Contains(t, why, "version 2")
	require.Contains(t, mend, "compat=1.1")
}

// A machine that lands keeps what is its own, and nothing of its home host.
func TestDescribingALanding(t *testing.T) {
	text, err := landedXML(described, platform.Landing{ID: "0a0b0c0d-0000-4000-8000-0000000000ff", Name: "try-purser",
		Disks: []platform.LandingDisk{{Key: "vda", Size: 1 << 30, Host: "10.0.0.9", Port: 10809, Export: "t/purser/vda", TLS: true}, {Key: "vdb", Host: "10.0.0.9", Port: 10809, Export: "t/purser/vdb"}},
		NICs:  []platform.LandingNIC{{MAC: "52:54:00:00:00:01", Network: "drill"}, {MAC: "52:54:00:00:00:02"}}}, map[string]string{"vda": "/pool/a", "vdb": "/pool/b"}, "", "/pool/try-purser.log")
	require.NoError(t, err)
	for _, gone := range []string{"/images/", "/iso/", "/home/", "/var/log", "/run/x", "10.0.0.4", "5901", "harbour", "br0", "hostdev", "/opt/qemu", "hold", "id='7'", "000000000001<", "vnet0", "portid"} {
		require.NotContains(t, text, gone)
	}
	doc := etree.NewDocument()
	require.NoError(t, doc.ReadFromString(text))
	value := func(path string) string {
		e := doc.FindElement(path)
		require.NotNil(t, e, path)
		return e.Text()
	}
	require.Equal(t, "try-purser", value("/domain/name"))
	require.Equal(t, "0a0b0c0d-0000-4000-8000-0000000000ff", value("/domain/uuid"))
	require.Equal(t, "2097152", value("/domain/memory"))
	disks := doc.FindElements("/domain/devices/disk")
	require.Len(t, disks, 3, "the drive stays, empty")
	for i, want := range []struct{ file, export, tls string }{{"/pool/a", "t/purser/vda", "yes"}, {"/pool/b", "t/purser/vdb", "no"}} {
		require.Equal(t, want.file, disks[i].FindElement("source").SelectAttrValue("file", ""))
		require.Equal(t, "qcow2", disks[i].FindElement("driver").SelectAttrValue("type", ""))
		require.Equal(t, "stop", disks[i].FindElement("driver").SelectAttrValue("rerror_policy", ""))
		s := disks[i].FindElement("backingStore/source")
		require.Equal(t, want.export, s.SelectAttrValue("name", ""))
		require.Equal(t, want.tls, s.SelectAttrValue("tls", ""))
	}
	require.NotNil(t, disks[0].FindElement("boot"), "what is the machine's own stays")
	nics := doc.FindElements("/domain/devices/interface")
	require.Equal(t, "drill", nics[0].FindElement("source").SelectAttrValue("network", ""))
	require.Equal(t, "52:54:00:00:00:01", nics[0].FindElement("mac").SelectAttrValue("address", ""))
	require.Equal(t, "down", nics[1].FindElement("link").SelectAttrValue("state", ""), "not connected unless said so")
	require.Equal(t, 1, strings.Count(text, "kestrel:landed "))

	_, err = landedXML("<domain/>", platform.Landing{}, nil, "", "")
	require.ErrorIs(t, err, platform.ErrConfig)
	_, err = landedXML("not XML <", platform.Landing{}, nil, "", "")
	require.ErrorIs(t, err, platform.ErrConfig)
}

// A disk that was left out is there, empty, under the identity that it had at home.
func TestALeftOutDiskLandsEmpty(t *testing.T) {
	at := strings.Index(described, "<target dev='vdb'")
	text, err := landedXML(described[:at]+"<serial>SCRATCH-7</serial><wwn>5000c50015ea71aa</wwn>"+described[at:], platform.Landing{ID: "0a0b0c0d-0000-4000-8000-0000000000ff", Name: "try-purser",
		Disks: []platform.LandingDisk{{Key: "vda", Host: "10.0.0.9", Port: 10809, Export: "t/purser/vda"}, {Key: "vdb", Size: 1 << 30, Empty: true}}}, map[string]string{"vda": "/pool/a", "vdb": "/pool/b"}, "", "/pool/try-purser.log")
	require.NoError(t, err)
	doc := etree.NewDocument()
	require.NoError(t, doc.ReadFromString(text))
	disks := doc.FindElements("/domain/devices/disk")
	require.NotNil(t, disks[0].FindElement("backingStore"))
	require.Equal(t, "/pool/b", disks[1].FindElement("source").SelectAttrValue("file", ""))
	require.Nil(t, disks[1].FindElement("backingStore"), "nothing is behind it")
	require.Equal(t, "SCRATCH-7", disks[1].FindElement("serial").Text())
	require.Equal(t, "5000c50015ea71aa", disks[1].FindElement("wwn").Text())
	d, err := parseDomain(described)
	require.NoError(t, err)
	require.Equal(t, "vda", d.boot())
	d.leave(func(dev string) bool { return dev == "vdb" })
	require.Len(t, d.copied(), 1)
	require.Len(t, d.drives(), 2)
}

// Processors and memory are what was asked for, and nothing is left that lays out others; a
// seed disk gets a drive of its own, on a bus that the machine has.
func TestAMachineIsMadeSmaller(t *testing.T) {
	laid := strings.Replace(described, "<devices>", "<cpu mode='host-model'><topology sockets='4' cores='1' threads='1'/><numa><cell id='0' cpus='0-3' memory='2097152'/></numa></cpu><cputune><shares>7</shares></cputune><devices>", 1)
	text, err := landedXML(laid, platform.Landing{ID: "0a0b0c0d-0000-4000-8000-0000000000ff", Name: "try-purser", CPUs: 3, MemoryBytes: 96 << 20, NICs: []platform.LandingNIC{{MAC: "52:54:00:00:00:01", As: "52:01:02:03:04:05", Network: "drill"}}}, nil, "/pool/seed.iso", "")
	require.NoError(t, err)
	doc := etree.NewDocument()
	require.NoError(t, doc.ReadFromString(text))
	require.Equal(t, "3", doc.FindElement("/domain/vcpu").Text())
	require.Equal(t, "98304", doc.FindElement("/domain/memory").Text())
	for _, gone := range []string{"topology", "numa", "cputune", "currentMemory"} {
		require.Nil(t, doc.FindElement("//"+gone), gone)
	}
	require.Equal(t, "host-model", doc.FindElement("/domain/cpu").SelectAttrValue("mode", ""))
	require.Equal(t, "52:01:02:03:04:05", doc.FindElement("/domain/devices/interface/mac").SelectAttrValue("address", ""))
	var seed *etree.Element
	for _, e := range doc.FindElements("/domain/devices/disk") {
		if s := e.FindElement("source"); s != nil && s.SelectAttrValue("file", "") == "/pool/seed.iso" {
			seed = e
		}
	}
	require.NotNil(t, seed)
	require.Equal(t, "cdrom", seed.SelectAttrValue("device", ""))
	require.NotNil(t, seed.FindElement("readonly"))
	devices := map[string]bool{}
	for _, e := range doc.FindElements("/domain/devices/disk/target") {
		require.False(t, devices[e.SelectAttrValue("dev", "")], "each has a name of its own")
		devices[e.SelectAttrValue("dev", "")] = true
	}
}
