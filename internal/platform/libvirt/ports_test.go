package libvirt

import (
	"errors"
	"fmt"
	"net"
	"net/url"
	"strconv"
	"testing"

	rpc "github.com/digitalocean/go-libvirt"
	"github.com/stretchr/testify/require"

	"kestrel/internal/support/freeport"
)

// errInUse is QEMU's answer where the port of its NBD server is taken.
var errInUse = errors.New("internal error: unable to execute QEMU command: Failed to find an available port: Address already in use")

// tries begins a job at a port of the range; begin says whether the port is to be had.
func tries(t *testing.T, d *Driver, begin func(port, call int) bool) (ports []int, err error) {
	t.Helper()
	m := &held{h: &host{uri: &url.URL{Scheme: "qemu", Path: "/system"}}}
	var b backupXML
	b.Server.Port, err = d.reservePort(m, nil)
	require.NoError(t, err)
	err = d.tryPorts(m, &b, func() error {
		ports = append(ports, b.Server.Port)
		if begin(b.Server.Port, len(ports)) {
			return nil
		}
		return errInUse
	})
	return ports, err
}

// A port that is in use when the job begins, and free when it is looked at, was
// somebody's whose job has ended meanwhile: it is tried again, and not for ever.
func TestAPortThatIsFreeAMomentLater(t *testing.T) {
	port, err := freeport.Loopback()
	require.NoError(t, err)
	d := &Driver{ports: map[int]rpc.UUID{}, firstPort: port, lastPort: port}
	ports, err := tries(t, d, func(_, call int) bool { return call == 3 })
	require.NoError(t, err)
	require.Equal(t, []int{port, port, port}, ports)
	d.freePort(port)
	ports, err = tries(t, d, func(_, call int) bool { return call > 1000 })
	require.ErrorContains(t, err, fmt.Sprintf("none of the NBD ports %d-%d is free on host this host", port, port))
	require.Len(t, ports, samePort)
	require.Empty(t, d.ports, "it is free for the next")
}

// A port at which nobody listens may be the near end of somebody's connection,
// and stay in use: the job begins at another.
func TestAPortThatIsTheEndOfAConnection(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	c, err := net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	defer func() { _ = c.Close() }()
	theirs := c.LocalAddr().(*net.TCPAddr).Port
	d := &Driver{ports: map[int]rpc.UUID{}, firstPort: theirs, lastPort: theirs + 50}
	ports, err := tries(t, d, func(port, _ int) bool {
		l, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
		if err == nil {
			require.NoError(t, l.Close())
		}
		return err == nil
	})
	require.NoError(t, err)
	require.Equal(t, theirs, ports[0])
	require.Greater(t, ports[len(ports)-1], theirs)
	require.Len(t, d.ports, 1, "only the port of the job is held")
}
