package libvirt

import (
	"context"
	"fmt"
	"maps"
	"net/netip"
	"strings"
	"time"

	"github.com/beevik/etree"
	rpc "github.com/digitalocean/go-libvirt"

	"kestrel/internal/platform"
)

const (
	addressesFor = time.Minute     // how long what was read counts
	addressLimit = 2 * time.Second // for the agent to answer
)

// told is the addresses that a machine has said that it has, by the MAC of the card.
type told struct {
	at    time.Time
	byMAC map[string]string
}

// addressOf is the address of a card as it was read last, or empty.
func (d *Driver) addressOf(machine, mac string) string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.addresses[machine].byMAC[strings.ToLower(mac)]
}

// askAddressesSoon reads the addresses of running machines in the background, so that an
// agent that does not answer holds up nothing.
func (d *Driver) askAddressesSoon(ms []platform.Machine) {
	now := d.now()
	var due []platform.Machine
	d.mu.Lock()
	known := map[string]bool{}
	for _, m := range ms {
		known[m.ID] = true
		if m.Power == platform.PowerOn && now.Sub(d.addresses[m.ID].at) >= addressesFor {
			due = append(due, m)
		}
	}
	maps.DeleteFunc(d.addresses, func(id string, _ told) bool { return !known[id] })
	busy := d.asking || len(due) == 0
	d.asking = d.asking || len(due) > 0
	d.mu.Unlock()
	if busy {
		return
	}
	d.background(func(ctx context.Context) {
		for _, m := range due {
			d.askAddresses(ctx, m)
		}
		d.mu.Lock()
		d.asking = false
		d.mu.Unlock()
	})
}

func (d *Driver) askAddresses(ctx context.Context, m platform.Machine) {
	h, dom, err := d.find(ctx, m.ID)
	if err != nil {
		return
	}
	d.mu.Lock()
	held := d.heldNow[dom.UUID]
	d.mu.Unlock()
	if held {
		return // its agent has other work
	}
	var found map[string]string
	if m.Agent == platform.AgentAnswers {
		found, err = voice{h, dom, addressLimit}.addresses(ctx)
	}
	if found == nil {
		var leased map[string]string
		if leased, _ = leases(ctx, h, dom); leased != nil {
			found, err = leased, nil
		}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	was := d.addresses[m.ID]
	if err == nil {
		was.byMAC = found
	}
	was.at = d.now()
	d.addresses[m.ID] = was
}

// addresses asks the agent for guest-network-get-interfaces.
func (v voice) addresses(ctx context.Context) (map[string]string, error) {
	var cards []struct {
		MAC       string `json:"hardware-address"`
		Addresses []struct {
			Text string `json:"ip-address"`
		} `json:"ip-addresses"`
	}
	if err := v.ask(ctx, "guest-network-get-interfaces", nil, &cards); err != nil {
		return nil, err
	}
	out := map[string]string{}
	for _, c := range cards {
		for _, a := range c.Addresses {
			keepAddress(out, c.MAC, a.Text)
		}
	}
	return out, nil
}

// leases asks what the DHCP servers of libvirt's networks gave a machine.
func leases(ctx context.Context, h *host, dom rpc.Domain) (map[string]string, error) {
	return call(ctx, h, callLimit, func(l *rpc.Libvirt) (map[string]string, error) {
		cards, err := l.DomainInterfaceAddresses(dom, uint32(rpc.DomainInterfaceAddressesSrcLease), 0)
		if err != nil {
			return nil, err
		}
		out := map[string]string{}
		for _, c := range cards {
			for _, a := range c.Addrs {
				if len(c.Hwaddr) == 1 {
					keepAddress(out, c.Hwaddr[0], a.Addr)
				}
			}
		}
		return out, nil
	})
}

// keepAddress keeps an address of a card; the first of IPv4 counts, or else the first of IPv6
// that others can reach.
func keepAddress(out map[string]string, mac, text string) {
	a, err := netip.ParseAddr(text)
	if mac = strings.ToLower(mac); err != nil || a.IsLoopback() || a.IsLinkLocalUnicast() || mac == "" {
		return
	}
	if was, err := netip.ParseAddr(out[mac]); err == nil && (was.Is4() || a.Is6()) {
		return
	}
	out[mac] = a.String()
}

// reserve has the DHCP servers of libvirt's networks give landed cards their addresses.
// A reservation of the card that is there already is changed.
func reserve(l *rpc.Libvirt, r platform.Landing) error {
	for _, n := range r.NICs {
		if !n.Reserve.IsValid() || n.Network == platform.NotConnected {
			continue
		}
		network, err := l.NetworkLookupByName(n.Network)
		if err != nil {
			return fmt.Errorf("reserve %s in network %s: %w", n.Reserve, n.Network, err)
		}
		if err := unreserve(l, network, n.Here()); err != nil {
			return err
		}
		text, err := hostXML(n.Here(), n.Reserve.String())
		if err != nil {
			return err
		}
		if err := updateHosts(l, network, rpc.NetworkUpdateCommandAddLast, text); err != nil {
			return fmt.Errorf("reserve %s in network %s: %w: %w", n.Reserve, n.Network, err, platform.ErrConfig)
		}
	}
	return nil
}

func hostXML(mac, address string) (string, error) {
	doc := etree.NewDocument()
	e := doc.CreateElement("host")
	e.CreateAttr("mac", mac)
	e.CreateAttr("ip", address)
	return doc.WriteToString()
}

// updateHosts changes the reservations of a network: at once, and for good if it is kept.
func updateHosts(l *rpc.Libvirt, n rpc.Network, how rpc.NetworkUpdateCommand, text string) error {
	flags := rpc.NetworkUpdateAffectLive
	if kept, err := l.NetworkIsPersistent(n); err == nil && kept == 1 {
		flags |= rpc.NetworkUpdateAffectConfig
	}
	return l.NetworkUpdate(n, uint32(how), uint32(rpc.NetworkSectionIPDhcpHost), -1, text, flags)
}

// unreserve takes out the reservations of a card.
func unreserve(l *rpc.Libvirt, n rpc.Network, mac string) error {
	text, err := l.NetworkGetXMLDesc(n, 0)
	if err != nil {
		return fmt.Errorf("read network %s: %w", n.Name, err)
	}
	doc := etree.NewDocument()
	if err := doc.ReadFromString(text); err != nil {
		return fmt.Errorf("read network %s: %w", n.Name, err)
	}
	for _, e := range doc.FindElements("/network/ip/dhcp/host") {
		if !strings.EqualFold(e.SelectAttrValue("mac", ""), mac) {
			continue
		}
		x, err := hostXML(e.SelectAttrValue("mac", ""), e.SelectAttrValue("ip", ""))
		if err == nil {
			err = updateHosts(l, n, rpc.NetworkUpdateCommandDelete, x)
		}
		if err != nil {
			return fmt.Errorf("take the reservation of %s out of network %s: %w", mac, n.Name, err)
		}
	}
	return nil
}

// unreserveAll takes out the reservations of a machine that is removed.
func unreserveAll(l *rpc.Libvirt, dom rpc.Domain) error {
	text, err := l.DomainGetXMLDesc(dom, 0)
	if is(err, rpc.ErrNoDomain) {
		return nil
	}
	if err != nil {
		return err
	}
	x, err := parseDomain(text)
	if err != nil {
		return err
	}
	for _, c := range x.Devices.NICs {
		if c.Source.Network == "" {
			continue
		}
		network, err := l.NetworkLookupByName(c.Source.Network)
		if is(err, rpc.ErrNoNetwork) {
			continue
		}
		if err == nil {
			err = unreserve(l, network, c.MAC.Address)
		}
		if err != nil {
			return err
		}
	}
	return nil
}
