// Package reach bounds where a site connects to: an administrator, a paired site or a
// platform that names an address must not have the service look into networks that it
// has nothing to do with.
package reach

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"syscall"
	"time"
)

// ErrOutside is wrapped where an address lies in no network that may be reached.
var ErrOutside = errors.New("not in a network that this site may connect to (--connect-to)")

// Networks are those that a site may connect to. Nil is everywhere.
type Networks []netip.Prefix

// Parse reads networks such as 192.0.2.0/24, or single addresses; none is everywhere.
func Parse(texts []string) (Networks, error) {
	var out Networks
	for _, t := range texts {
		p, err := netip.ParsePrefix(t)
		if a, bare := netip.ParseAddr(t); bare == nil && a.Zone() == "" {
			p, err = a.Prefix(a.BitLen())
		}
		if err != nil {
			return nil, fmt.Errorf("%q is no network such as 192.0.2.0/24", t)
		}
		out = append(out, p.Masked())
	}
	return out, nil
}

// Contains tells whether an address may be connected to.
func (n Networks) Contains(a netip.Addr) bool {
	return n == nil || slices.ContainsFunc(n, func(p netip.Prefix) bool { return p.Contains(a.Unmap().WithZone("")) })
}

// Control refuses an address just before it is connected to, when names have become
// addresses: it is for net.Dialer.
func (n Networks) Control(network, address string, _ syscall.RawConn) error {
	if n == nil || strings.HasPrefix(network, "unix") {
		return nil
	}
	a, err := netip.ParseAddrPort(address)
	if err != nil {
		return fmt.Errorf("%s: %w", address, ErrOutside)
	}
	if !n.Contains(a.Addr()) {
		return fmt.Errorf("%s: %w", a.Addr(), ErrOutside)
	}
	return nil
}

// Dialer connects within the networks.
func (n Networks) Dialer(timeout time.Duration) *net.Dialer {
	return &net.Dialer{Timeout: timeout, Control: n.Control}
}

// Host refuses a host of which any address lies outside: for what is connected to by
// others' code. An empty one is this machine, by a socket.
func (n Networks) Host(ctx context.Context, host string) error {
	if n == nil || host == "" {
		return nil
	}
	addrs, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	if err != nil {
		return fmt.Errorf("look up %s: %w", host, err)
	}
	for _, a := range addrs {
		if !n.Contains(a) {
			return fmt.Errorf("%s is %s: %w", host, a.Unmap(), ErrOutside)
		}
	}
	return nil
}
