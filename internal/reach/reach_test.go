package reach_test

import (
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/reach"
)

func TestNetworks(t *testing.T) {
	_, err := reach.Parse([]string{"192.0.2.0/24", "norhaven"})
	require.ErrorContains(t, err, "norhaven")
	n, err := reach.Parse([]string{"192.0.2.9/24", "127.0.0.1", "2001:db8::/32"})
	require.NoError(t, err)
	for address, ok := range map[string]bool{"192.0.2.77:80": true, "192.0.3.1:80": false, "127.0.0.1:1": true, "127.0.0.2:1": false, "[::ffff:192.0.2.1]:80": true, "[2001:db8::7]:443": true, "[2001:db9::7]:443": false, "elsewhere:80": false} {
		err := n.Control("tcp", address, nil)
		require.Equal(t, ok, err == nil, "%s: %v", address, err)
		if !ok {
			require.ErrorIs(t, err, reach.ErrOutside)
		}
	}
	require.NoError(t, n.Control("unix", "/run/libvirt/libvirt-sock", nil))
	require.NoError(t, n.Host(t.Context(), "127.0.0.1"))
	require.NoError(t, n.Host(t.Context(), ""))
	require.ErrorIs(t, n.Host(t.Context(), "127.0.0.3"), reach.ErrOutside)
	none, err := reach.Parse(nil)
	require.NoError(t, err)
	require.NoError(t, none.Control("tcp", "192.0.3.1:80", nil), "off by default")
	require.NoError(t, none.Host(t.Context(), "no.such.host.example"))
}

// A dialer connects within the networks, and nowhere else, also by a name.
func TestDialing(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { require.NoError(t, l.Close()) }()
	in, err := reach.Parse([]string{"127.0.0.0/8"})
	require.NoError(t, err)
	c, err := in.Dialer(time.Second).DialContext(t.Context(), "tcp", l.Addr().String())
	require.NoError(t, err)
	require.NoError(t, c.Close())
	out, err := reach.Parse([]string{"192.0.2.0/24"})
	require.NoError(t, err)
	_, port, err := net.SplitHostPort(l.Addr().String())
	require.NoError(t, err)
	for _, address := range []string{l.Addr().String(), net.JoinHostPort("localhost", port)} {
		_, err = out.Dialer(time.Second).DialContext(t.Context(), "tcp", address)
		require.ErrorIs(t, err, reach.ErrOutside)
	}
}
