package platformtest

import (
	"bytes"
	"context"
	"image/png"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/platform"
)

// Operated is a driver that lands machines, switches them and shows their screens.
type Operated interface {
	platform.Driver
	platform.Lander
	platform.Operator
}

// Landed is the contract of a machine that was made, is off, and has a guest with an agent
// and a graphics card: how it is switched, looked at and asked. It runs in the end. Nobody takes connections on closedPort; it
// is 0 where this host does not reach the machine's network.
func Landed(ctx context.Context, t *testing.T, d Operated, id string, closedPort int) {
	t.Helper()
	inv, err := d.Inventory(ctx)
	require.NoError(t, err)
	require.NotEmpty(t, inv.Formats)
	require.Empty(t, inv.Formats[0].Limit, "the usual format is as good as any")

	off := func() {
		require.ErrorIs(t, d.AgentAnswers(ctx, id), platform.ErrSilent, "it is off")
		require.ErrorIs(t, d.PortOpen(ctx, id, 5433), platform.ErrClosed)
		_, err := d.Screen(ctx, id)
		require.ErrorIs(t, err, platform.ErrNoScreen)
	}
	on := func() {
		await(ctx, t, func() bool {
			err := d.AgentAnswers(ctx, id)
			if err != nil {
				require.ErrorIs(t, err, platform.ErrSilent)
			}
			return err == nil
		})
		if closedPort != 0 {
			require.ErrorIs(t, d.PortOpen(ctx, id, closedPort), platform.ErrClosed, "it runs, and nobody takes connections there")
		}
		shot, err := d.Screen(ctx, id)
		require.NoError(t, err)
		img, err := png.Decode(bytes.NewReader(shot))
		require.NoError(t, err)
		size := img.Bounds()
		require.Greater(t, size.Dx(), 200)
		shades := map[uint32]bool{}
		for y := range size.Dy() {
			for x := range size.Dx() {
				r, _, _, _ := img.At(x, y).RGBA()
				shades[r] = true
			}
		}
		require.Greater(t, len(shades), 1, "something is written on it")
	}
	power := func(want string) {
		await(ctx, t, func() bool {
			now, err := d.Landed(ctx, id)
			require.NoError(t, err)
			return now.Power == want
		})
	}
	off()
	require.NoError(t, d.Switch(ctx, id, platform.SwitchOff), "it is off already")
	require.NoError(t, d.StartLanded(ctx, id, false))
	on()
	require.NoError(t, d.Switch(ctx, id, platform.SwitchOn), "it is on already")
	require.NoError(t, d.Switch(ctx, id, platform.SwitchDown))
	power(platform.PowerOff)
	off()
	require.NoError(t, d.Switch(ctx, id, platform.SwitchOn))
	power(platform.PowerOn)
	on()
	require.NoError(t, d.Switch(ctx, id, platform.SwitchOff))
	power(platform.PowerOff)
	require.NoError(t, d.StartLanded(ctx, id, false))
	on()
	require.ErrorIs(t, d.Switch(ctx, uuid.NewString(), platform.SwitchOff), platform.ErrGone)
}

// InPlace is the contract of landing in the place of a machine that is on and may go: that is
// set aside, has its name again if what came is removed, and is gone in the end.
func InPlace(ctx context.Context, t *testing.T, d Operated, old string, land platform.Landing) {
	t.Helper()
	of := func(id string) (m platform.Machine) {
		inv, err := d.Inventory(ctx)
		require.NoError(t, err)
		for _, x := range inv.Machines {
			if x.ID == id {
				m = x
			}
		}
		return m
	}
	was := of(old)
	require.Equal(t, platform.PowerOn, was.Power)
	land.Name, land.InPlaceOf, land.NICs = was.Name, old, nil
	for _, n := range was.NICs {
		land.NICs = append(land.NICs, platform.LandingNIC{MAC: n.MAC})
	}
	require.ErrorIs(t, d.Land(ctx, land), platform.ErrConfig, "that one runs")
	require.Equal(t, was.Name, of(old).Name)
	require.NoError(t, d.Switch(ctx, old, platform.SwitchOff))
	await(ctx, t, func() bool { return of(old).Power == platform.PowerOff })
	for range 2 { // the second time after it was removed
		require.NoError(t, d.Land(ctx, land))
		require.NoError(t, d.Land(ctx, land), "again, as after a crash")
		now := of(land.ID)
		require.Equal(t, []any{was.Name, was.CPUs, was.MemoryBytes, was.NICs[0].MAC}, []any{now.Name, now.CPUs, now.MemoryBytes, now.NICs[0].MAC}, "it is as that was")
		require.Equal(t, platform.SetAside(was.Name, land.ID), of(old).Name)
		require.NoError(t, d.RemoveLanded(ctx, land.ID))
		require.Empty(t, of(land.ID).ID)
		require.Equal(t, []any{was.Name, was.NICs[0].MAC, platform.PowerOff}, []any{of(old).Name, of(old).NICs[0].MAC, of(old).Power}, "it is as before")
	}
	require.NoError(t, d.Land(ctx, land))
	_, err := d.Discard(ctx, old)
	require.NoError(t, err)
	require.Empty(t, of(old).ID)
	require.Equal(t, was.Name, of(land.ID).Name)
	require.NoError(t, d.RemoveLanded(ctx, land.ID))
	require.Empty(t, of(land.ID).ID)
	land.InPlaceOf = old
	require.ErrorIs(t, d.Land(ctx, land), platform.ErrConfig, "there is nothing that it could take the place of")
}

// await asks again until something is so.
func await(ctx context.Context, t *testing.T, so func() bool) {
	t.Helper()
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for !so() {
		select {
		case <-ctx.Done():
			require.FailNow(t, "it never comes", ctx.Err())
		case <-tick.C:
		}
	}
}
