package berth

import (
	"fmt"
	"net/netip"
	"strings"
)

// GuestCard is what the guest is told of a card, which it finds by its MAC address.
type GuestCard struct {
	MAC     string
	DHCP    bool
	Address netip.Prefix // invalid with DHCP
	Gateway netip.Addr   // invalid for none
}

// Guest is what the guest is told of a card of a machine whose address here is mac. It is
// told nothing of one that is not connected, or whose address is not known.
func (a Attached) Guest(mac string) (GuestCard, bool) {
	g := GuestCard{MAC: strings.ToLower(mac), DHCP: a.Mode == ByDHCP, Address: a.Address, Gateway: a.Gateway}
	connected := a.Network.Text != "" && a.Network.Text != Unconnected
	return g, connected && (g.DHCP || g.Address.IsValid())
}

// Script is what a Linux guest's agent runs to give its cards their addresses: with ip of
// iproute2 or of busybox. It fails if a card is not there. Addresses that a card has are
// taken away, or answers would go out by them. DNS servers are written where the guest
// keeps them in a file of its own. Doing it twice is doing it once.
func Script(cards []GuestCard, dns []netip.Addr, suffix string) string {
	lines := []string{"set -e"}
	for _, c := range cards {
		if c.DHCP {
			continue // it asks by itself
		}
		lines = append(lines,
			fmt.Sprintf("f=$(grep -il '^%s$' /sys/class/net/*/address | head -n 1)", c.MAC),
			fmt.Sprintf("[ -n \"$f\" ] || { echo 'there is no card %s' >&2; exit 1; }", c.MAC),
			"d=${f%/address}; d=${d##*/}",
			"ip addr flush dev \"$d\" scope global",
			fmt.Sprintf("ip addr add %s dev \"$d\"", c.Address),
			"ip link set \"$d\" up")
		if c.Gateway.IsValid() {
			v6 := ""
			if c.Gateway.Is6() {
				v6 = "-6 "
			}
			lines = append(lines, fmt.Sprintf("ip %sroute replace default via %s dev \"$d\"", v6, c.Gateway))
		}
	}
	if len(dns) > 0 {
		text := ""
		if suffix != "" {
			text = "search " + suffix + "\\n"
		}
		for _, d := range dns {
			text += "nameserver " + d.String() + "\\n"
		}
		// A link leads to what another program writes again.
		lines = append(lines, fmt.Sprintf("[ -L /etc/resolv.conf ] || printf '%s' > /etc/resolv.conf", text))
	}
	return strings.Join(lines, "\n")
}
