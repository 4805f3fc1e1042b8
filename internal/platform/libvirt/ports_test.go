package libvirt

import (
	"errors"
	"net/url"
	"strconv"
	"testing"

	rpc "github.com/digitalocean/go-libvirt"
	"github.com/stretchr/testify/require"

	"kestrel/internal/support/freeport"
)

// A port that is in use when the job begins, and free when it is looked at, was
// somebody's whose job has ended meanwhile: it is tried again, and not for ever.
func TestAPortThatIsFreeAMomentLater(t *testing.T) {
	port, err := freeport.Loopback()
	require.NoError(t, err)
	d := &Driver{ports: map[int]rpc.UUID{}, firstPort: port, lastPort: port}
	m := &held{h: &host{uri: &url.URL{Scheme: "qemu", Path: "/system"}}}
	inUse := errors.New("internal error: unable to execute QEMU command: Failed to find an available port: Address already in use")
	begin := func(fails int) (calls int, err error) {
		var b backupXML
		b.Server.Port, err = d.reservePort(m)
		require.NoError(t, err)
		err = d.tryPorts(m, &b, func() error {
			if calls++; calls <= fails {
				return inUse
			}
			return nil
		})
		require.Equal(t, port, b.Server.Port)
		return calls, err
	}
	calls, err := begin(2)
	require.NoError(t, err)
	require.Equal(t, 3, calls)
	d.freePort(port)
	calls, err = begin(1000)
	require.ErrorContains(t, err, "port "+strconv.Itoa(port)+" of host this host can neither be reached nor used")
	require.Equal(t, samePort, calls)
	require.Empty(t, d.ports, "it is free for the next")
}
