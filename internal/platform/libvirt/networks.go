package libvirt

import (
	"encoding/xml"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"kestrel/internal/core/berth"
	"kestrel/internal/platform"
)

// nameRule is what libvirt accepts as a name: no slash, and short enough that the files
// of a machine's disks, which carry it, can be named.
func nameRule() berth.Names { return berth.Names{Most: maxName, Never: "/\\"} }

// maxName leaves room for the rest of the name of a disk's file, of 255 bytes.
const maxName = 100

// vlanXML is the VLANs of a network or of a card; of more than one, none is its own.
type vlanXML struct {
	Tags []struct {
		ID int `xml:"id,attr"`
	} `xml:"tag"`
}

// networkXML is the part of a network's description that matters here; see
// https://libvirt.org/formatnetwork.html.
type networkXML struct {
	Forward *struct {
		Mode string `xml:"mode,attr"`
	} `xml:"forward"`
	VLAN vlanXML `xml:"vlan"`
	IPs  []struct {
		Family  string `xml:"family,attr"`
		Address string `xml:"address,attr"`
		Netmask string `xml:"netmask,attr"`
		Prefix  int    `xml:"prefix,attr"`
		DHCP    *struct {
		} `xml:"dhcp"`
	} `xml:"ip"`
}

func networkOf(name, text string) (platform.Network, error) {
	var x networkXML
	if err := xml.Unmarshal([]byte(text), &x); err != nil {
		return platform.Network{}, fmt.Errorf("read network %s: %w", name, err)
	}
	n := platform.Network{ID: name, Name: name, Kind: platform.NetworkVirtual, Isolated: x.Forward == nil}
	if f := x.Forward; f != nil && !slices.Contains([]string{"", "nat", "route", "open"}, f.Mode) {
		n.Kind = platform.NetworkBridge
	}
	if len(x.VLAN.Tags) == 1 {
		n.VLAN = x.VLAN.Tags[0].ID
	}
	for _, ip := range x.IPs {
		p, ok := subnetOf(ip.Address, ip.Netmask, ip.Prefix)
		if !ok {
			continue
		}
		n.DHCP = n.DHCP || ip.DHCP != nil
		if p.Addr().Is6() {
			n.Subnet6 = p.Masked().String()
			continue
		}
		n.Subnet = p.Masked().String()
		if !n.Isolated {
			n.Gateway = p.Addr().String() // the host's own address there, which routes
		}
	}
	return n, nil
}

// subnetOf reads an address with its mask, in either way of writing it. An address of
// IPv4 without a mask has that of its class; that is no longer told from what was meant,
// and is not taken.
func subnetOf(address, netmask string, prefix int) (netip.Prefix, bool) {
	a, err := netip.ParseAddr(address)
	if err != nil {
		return netip.Prefix{}, false
	}
	if netmask != "" {
		m, err := netip.ParseAddr(netmask)
		if err != nil || !m.Is4() {
			return netip.Prefix{}, false
		}
		prefix = 0
		for _, b := range m.AsSlice() {
			for ; b&0x80 != 0; b <<= 1 {
				prefix++
			}
		}
	}
	p := netip.PrefixFrom(a, prefix)
	return p, p.IsValid() && prefix > 0
}

// unmanaged is a network that libvirt knows only because a card is attached to it.
func unmanaged(name string) platform.Network {
	n := platform.Network{ID: name, Name: name, Kind: platform.NetworkVirtual}
	switch {
	case name == "user":
		n.Kind = platform.NetworkUser
	case strings.HasPrefix(name, "segment "):
		n.Kind, n.Isolated = platform.NetworkSegment, true
	case strings.HasPrefix(name, "bridge "), strings.HasPrefix(name, "host card "):
		n.Kind = platform.NetworkBridge
	}
	return n
}

// addNetwork adds one that is not there yet: what libvirt says of a network comes before
// what is seen of it at cards.
func addNetwork(all []platform.Network, n platform.Network) []platform.Network {
	if n.Name == "" || slices.ContainsFunc(all, func(x platform.Network) bool { return x.Name == n.Name }) {
		return all
	}
	return append(all, n)
}
