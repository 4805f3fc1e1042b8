package libvirt_test

import (
	"net"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	rpc "github.com/digitalocean/go-libvirt"
	"github.com/digitalocean/go-libvirt/socket/dialers"
	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/core/berth"
	"kestrel/internal/nbd"
	"kestrel/internal/nocloud"
	"kestrel/internal/platform"
	"kestrel/internal/platform/libvirt"
	"kestrel/internal/platform/platformtest"
	"kestrel/internal/support/realsite"
)

// A machine arrives with the size that was asked for, a new card on another network, and a
// seed disk; its agent gives it another address, which is read back; and nothing is left of
// it when it is removed.
func TestArrivingWithAnotherAddress(t *testing.T) {
	t.Parallel()
	p := need(t)
	ctx := within(t, 9*time.Minute)
	id := deckhand(t, ctx, realsite.Guest{Name: "lamp", Address: "10.77.9.11", Segment: "230.77.0.9:7431"})
	home, away := newDriver(t, libvirt.Settings{}), newDriver(t, libvirt.Settings{Hosts: []string{p.Away.URI}})
	c, err := home.Capture(ctx, platform.CaptureRequest{Name: "kt-lamp-1", Machines: []string{id}})
	require.NoError(t, err)
	k := &kept{disks: map[string][]byte{}}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = nbd.Serve(ctx, l, k) }()
	_, port, err := net.SplitHostPort(l.Addr().String())
	require.NoError(t, err)
	n, err := strconv.Atoi(port)
	require.NoError(t, err)
	before := trace(t, p.Away, "lamp")
	land := platform.Landing{ID: uuid.NewString(), Name: "lamp-drill", Config: c.Configs[id], Datastore: "disks", Format: "raw", CPUs: 2, MemoryBytes: 128 << 20}
	for _, f := range c.Disks {
		k.disks["/"+f.Disk] = platformtest.Content(ctx, t, f)
		land.Disks = append(land.Disks, platform.LandingDisk{Key: f.Disk, Size: f.Size, Host: "127.0.0.1", Port: n, Export: "/" + f.Disk})
	}
	require.NoError(t, home.Forget(ctx, "kt-lamp-1"))
	var at string
	require.NoError(t, p.Home.Domain("lamp", func(l *rpc.Libvirt, dom rpc.Domain) error {
		text, err := l.DomainGetXMLDesc(dom, 0)
		_, at, _ = strings.Cut(text, "<mac address='")
		at, _, _ = strings.Cut(at, "'")
		return err
	}))
	card := berth.GuestCard{MAC: "52:0a:0b:0c:0d:0e", Address: netip.MustParsePrefix("10.60.4.21/24"), Gateway: netip.MustParseAddr("10.60.4.1")}
	land.NICs = []platform.LandingNIC{{MAC: at, As: card.MAC, Network: "segment 230.77.0.9:7432"}}
	land.Seed, err = nocloud.Seed{Instance: land.ID, Hostname: "lamp", Cards: []nocloud.Card{nocloud.Card(card)}}.Image(t.TempDir())
	require.NoError(t, err)

	wrong := land
	wrong.Pool = "another host"
	require.ErrorIs(t, away.Land(ctx, wrong), platform.ErrConfig)
	wrong = land
	wrong.Format = "vdi"
	require.ErrorIs(t, away.Land(ctx, wrong), platform.ErrConfig)
	require.Equal(t, before, trace(t, p.Away, "lamp"), "what is refused leaves nothing")
	require.NoError(t, away.Land(ctx, land))
	require.ErrorIs(t, away.RunIn(ctx, land.ID, "true", time.Second), platform.ErrSilent, "it is off")
	platformtest.Landed(ctx, t, away, land.ID, 0)
	script := berth.Script([]berth.GuestCard{card}, nil, "")
	require.Eventually(t, func() bool {
		err := away.RunIn(ctx, land.ID, script, 20*time.Second)
		if err != nil {
			require.ErrorIs(t, err, platform.ErrSilent)
		}
		return err == nil
	}, 4*time.Minute, time.Second)
	require.NoError(t, away.RunIn(ctx, land.ID, script, 20*time.Second), "twice is once")
	require.NoError(t, away.RunIn(ctx, land.ID, "ip route | grep -q '^default via 10.60.4.1 ' && [ $(ip addr | grep -c 'inet 10\\.') = 1 ] && [ $(nproc) = 2 ]", 20*time.Second))
	card.MAC = "52:00:00:00:00:99"
	require.ErrorContains(t, away.RunIn(ctx, land.ID, berth.Script([]berth.GuestCard{card}, nil, ""), 20*time.Second), "there is no card 52:00:00:00:00:99")
	require.Eventually(t, func() bool {
		inv, err := away.Inventory(ctx)
		require.NoError(t, err)
		for _, m := range inv.Machines {
			if m.ID == land.ID && len(m.NICs) == 1 {
				require.Equal(t, "52:0a:0b:0c:0d:0e", m.NICs[0].MAC)
				return m.NICs[0].Address == "10.60.4.21"
			}
		}
		return false
	}, time.Minute, 200*time.Millisecond, "it is read back")
	require.NoError(t, p.Away.Domain("lamp-drill", func(l *rpc.Libvirt, dom rpc.Domain) error {
		text, err := l.DomainGetXMLDesc(dom, 0)
		require.Contains(t, text, "lamp-drill-seed."+land.ID+".iso")
		return err
	}))
	// Its disks are made local while it runs, in the format that was asked for.
	for local := false; !local; {
		require.NoError(t, away.MakeLocal(ctx, land.ID, 0))
		now, err := away.Landed(ctx, land.ID)
		require.NoError(t, err)
		local = !slices.ContainsFunc(now.Disks, func(k platform.LandedDisk) bool { return !k.Local })
	}
	require.NoError(t, l.Close()) // nobody needs the exports any more
	require.NoError(t, away.RunIn(ctx, land.ID, "sync && head -c 4096 /dev/vda >/dev/null", 20*time.Second))
	files := slices.DeleteFunc(trace(t, p.Away, "lamp"), func(s string) bool { return slices.Contains(before, s) })
	require.Equal(t, len(c.Disks), count(files, ".raw"), "%q", files)
	require.Zero(t, count(files, ".qcow2"), "what lay over the exports is gone: %q", files)
	require.NoError(t, away.RemoveLanded(ctx, land.ID))
	require.Equal(t, before, trace(t, p.Away, "lamp"), "no trace is left")
}

// A machine comes in the place of a real one, which has checkpoints of ours; once it is removed,
// that one is as before.
func TestArrivingInPlace(t *testing.T) {
	t.Parallel()
	p := need(t)
	ctx := within(t, 9*time.Minute)
	id := deckhand(t, ctx, realsite.Guest{Name: "lantern", Address: "10.77.9.12", Segment: "230.77.0.9:7433"})
	home := newDriver(t, libvirt.Settings{})
	c, err := home.Capture(ctx, platform.CaptureRequest{Name: "kt-lantern-1", Machines: []string{id}})
	require.NoError(t, err)
	require.NoError(t, home.Release(ctx, "kt-lantern-1"))
	land := platform.Landing{ID: uuid.NewString(), Config: c.Configs[id], Datastore: "disks"}
	for _, f := range c.Disks {
		land.Disks = append(land.Disks, platform.LandingDisk{Key: f.Disk, Size: f.Size, Empty: true})
	}
	platformtest.InPlace(ctx, t, home, id, land)
	require.Empty(t, trace(t, p.Home, "lantern"), "no trace is left")
}

func count(all []string, suffix string) (n int) {
	for _, s := range all {
		if strings.HasSuffix(s, suffix) {
			n++
		}
	}
	return n
}

// Reservations are made in libvirt's own networks, changed, and taken out again. The network
// is that of libvirt's test driver, which keeps what it is told and starts nothing.
func TestReservingAnAddress(t *testing.T) {
	p := need(t)
	u, err := url.Parse(p.Home.URI)
	require.NoError(t, err)
	l := rpc.NewWithDialer(dialers.NewRemote(u.Hostname(), dialers.UsePort(u.Port())))
	require.NoError(t, l.ConnectToURI("test:///default"))
	t.Cleanup(func() { _ = l.Disconnect() })
	network, err := l.NetworkLookupByName("default")
	require.NoError(t, err)
	has := func(text string) bool {
		x, err := l.NetworkGetXMLDesc(network, 0)
		require.NoError(t, err)
		return strings.Contains(x, text)
	}
	land := platform.Landing{NICs: []platform.LandingNIC{{MAC: "52:54:00:00:00:01", Network: "default", Reserve: netip.MustParseAddr("192.168.122.45")}, {MAC: "52:54:00:00:00:02", Network: "default"}}}
	require.NoError(t, libvirt.Reserve(l, land))
	require.True(t, has("<host mac='52:54:00:00:00:01' ip='192.168.122.45'/>"))
	require.False(t, has("52:54:00:00:00:02"), "nothing was asked for it")
	require.NoError(t, libvirt.Reserve(l, land), "again, as after a crash")
	land.NICs[0].Reserve = netip.MustParseAddr("192.168.122.46")
	require.NoError(t, libvirt.Reserve(l, land))
	require.True(t, has("ip='192.168.122.46'"))
	require.False(t, has("ip='192.168.122.45'"))
	require.ErrorIs(t, libvirt.Reserve(l, platform.Landing{NICs: []platform.LandingNIC{{MAC: "52:54:00:00:00:03", Network: "default", Reserve: netip.MustParseAddr("fd00::1")}}}), platform.ErrConfig, "the network has no such subnet")
	require.NoError(t, libvirt.Unreserve(l, network, "52:54:00:00:00:01"))
	require.False(t, has("52:54:00:00:00:01"))
	require.NoError(t, libvirt.Unreserve(l, network, "52:54:00:00:00:01"), "twice is once")
}
