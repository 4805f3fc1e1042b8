package berth_test

import (
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/core/berth"
)

// Whatever layers say, machines arrive by what is made of all of them as by the layers, and
// nothing is wrong with it that was not wrong with them.
func TestOneLayerOfMany(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := func(name string) string {
			return rapid.SampledFrom([]string{"", "", name + "-a", name + "-b"}).Draw(t, name)
		}
		settings := func() berth.Settings {
			s := berth.Settings{Platform: text("platform"), Pool: text("pool"), Datastore: text("datastore"), Folder: text("folder"), Suffix: text("suffix"), Before: text("before"), After: text("after"),
				Name: rapid.SampledFrom([]string{"", "{name}-x"}).Draw(t, "pattern"), CPUs: rapid.IntRange(0, 2).Draw(t, "cpus"), DrillPercent: rapid.SampledFrom([]int{0, 50}).Draw(t, "percent")}
			for _, home := range []string{"quay", "pier"} {
				if rapid.Bool().Draw(t, "network") {
					s.Networks = append(s.Networks, berth.NetworkMap{Home: home, Live: text("live"), Drill: text("drill")})
				}
			}
			for _, r := range rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"10.40.8.0/24 -> 10.60.4.0/24", "10.40.8.0/28 -> 10.60.5.0/28", "drill 10.40.8.0/24 -> 10.70.4.0/24", "on quay 10.40.0.0/16 -> 10.80.0.0/16"}), 0, 3, rapid.ID[string]).Draw(t, "rules") {
				x, err := berth.ParseRule(r)
				require.NoError(t, err)
				s.Rules = append(s.Rules, x)
			}
			if rapid.Bool().Draw(t, "dns") {
				s.DNS = []netip.Addr{netip.MustParseAddr("10.60.4.2")}
			}
			return s
		}
		var levels []berth.Level
		for i := range rapid.IntRange(0, 3).Draw(t, "levels") {
			levels = append(levels, berth.Level{From: fmt.Sprint("level ", i), Settings: settings()})
		}
		own := berth.Berth{Settings: settings()}
		if rapid.Bool().Draw(t, "own") {
			own.Machines = []berth.MachineSettings{{Machine: "gate", Settings: settings()}}
		}
		machines := []berth.Machine{{ID: "m1", Name: "gate", CPUs: 4, MemoryBytes: 1 << 30, Cards: []berth.HomeCard{{MAC: "52:54:00:00:00:01", Network: "quay", Address: netip.MustParseAddr("10.40.8.11")}, {MAC: "52:54:00:00:00:02", Network: "pier", Address: netip.MustParseAddr("10.40.9.11")}}}, {ID: "m2", Name: "sluice", CPUs: 1, MemoryBytes: 1 << 30}}
		nowhere := func(string) (berth.Place, bool) { return berth.Place{}, false }
		merged := own
		merged.Settings = berth.Merge(levels, own.Settings)
		require.Empty(t, berth.Diff(own.Resolve(machines, levels, nowhere), merged.Resolve(machines, nil, nowhere)))
		sound := len(own.Settings.Check()) == 0
		for _, l := range levels {
			sound = sound && len(l.Settings.Check()) == 0
		}
		if sound {
			require.Empty(t, merged.Settings.Check())
		}
	})
}
