package berth_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"kestrel/internal/core/berth"
)

func TestBack(t *testing.T) {
	lan := berth.Network{Name: "quay-lan", Subnets: []netip.Prefix{netip.MustParsePrefix("10.40.8.0/24"), netip.MustParsePrefix("fd00:8::/64")}, Gateway: netip.MustParseAddr("10.40.8.1")}
	card := func(network, address string) berth.HomeCard {
		a, _ := netip.ParseAddr(address)
		return berth.HomeCard{MAC: "52:54:00:00:00:01", Network: network, Address: a}
	}
	machine := func(name, store string, cards ...berth.HomeCard) berth.Origin {
		return berth.Origin{Machine: berth.Machine{ID: name, Name: name, CPUs: 2, MemoryBytes: 4 << 30, Cards: cards}, There: name + "-em", Wave: 1, Platform: "quay", Pool: "production", Folder: "/harbour", Datastores: []string{store}}
	}
	for _, c := range []struct {
		name string
		card berth.HomeCard
		want berth.CardSettings
		note string
	}{
		{"as it is", card("quay-lan", "10.40.8.11"), berth.CardSettings{Card: "1", Live: "quay-lan", Address: "10.40.8.11/24", Gateway: "10.40.8.1"}, ""},
		{"the gateway itself has none", card("quay-lan", "10.40.8.1"), berth.CardSettings{Card: "1", Live: "quay-lan", Address: "10.40.8.1/24", Gateway: "none"}, ""},
		{"IPv6 without a gateway of its own", card("quay-lan", "fd00:8::11"), berth.CardSettings{Card: "1", Live: "quay-lan", Address: "fd00:8::11/64", Gateway: "none"}, ""},
		{"outside of its network", card("quay-lan", "10.41.0.1"), berth.CardSettings{Card: "1", Live: "quay-lan"}, "the mask of that is not known"},
		{"not known", card("quay-lan", ""), berth.CardSettings{Card: "1", Live: "quay-lan"}, "its address is not known"},
		{"pulled", card("", ""), berth.CardSettings{Card: "1", Live: "none"}, ""},
	} {
		b, notes := berth.Back([]berth.Origin{machine("tick-db", "array-a", c.card)}, nil, []berth.Network{lan})
		require.Equal(t, c.want, b.Machines[0].Cards[0], c.name)
		require.Empty(t, b.Check(), c.name)
		if c.note == "" {
			require.Empty(t, notes, c.name)
		} else {
			require.Contains(t, notes[0], c.note, c.name)
		}
	}

	one, other := machine("tick-db", "array-a"), machine("tick-app", "array-b")
	other.Datastores = append(other.Datastores, "array-b", "array-c")
	b, notes := berth.Back([]berth.Origin{one, other}, []berth.Wave{{Number: 1, Check: berth.CheckAgent}}, nil)
	require.Equal(t, "quay", b.Platform)
	require.Equal(t, "production", b.Pool, "what all have is said once")
	require.Equal(t, []string{"array-a", "array-b"}, []string{b.Machines[0].Datastore, b.Machines[1].Datastore})
	require.Equal(t, []string{"The disks of tick-app are on array-b and array-c; all of them would arrive on array-b."}, notes)
	require.Equal(t, berth.CheckAgent, b.Wave(1).Check)
	b, _ = berth.Back(nil, nil, nil)
	require.Empty(t, b.Machines)
}

func TestFreeNames(t *testing.T) {
	b := berth.Berth{Machines: []berth.MachineSettings{{Machine: "x"}, {Machine: "y"}, {Machine: "z"}}}
	for i, n := range []string{"tick-db", "Tick-App", "fares"} {
		b.Machines[i].Name = n
	}
	b.FreeNames([]string{"tick-db", "tick-db-2", "tick-app"})
	var got []string
	for _, m := range b.Machines {
		got = append(got, m.Name)
	}
	require.Equal(t, []string{"tick-db-3", "Tick-App-2", "fares"}, got)
	require.True(t, b.TakeNames([]string{"tick-db", "fares"}))
	require.Equal(t, "tick-db", b.Machines[0].Name)
	require.Equal(t, "Tick-App-2", b.Machines[1].Name, "that one is not free")
	require.False(t, b.TakeNames([]string{"tick-db", "fares"}))

	old := []string{"tick-db", "tick-app", "kiosk-2"}
	for name, want := range map[string]int{"Tick-DB": 0, "tick-db-3": 0, "tick-app-2": 1, "kiosk-2": 2, "kiosk-2-2": 2, "kiosk": -1, "tick-db-1": -1, "tick-db-x": -1, "fares": -1} {
		require.Equal(t, want, berth.Before(name, old), name)
	}
}
