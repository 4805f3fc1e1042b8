package lab_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/lab"
	"kestrel/internal/platform"
	"kestrel/internal/platform/platformtest"
)

func TestTheContractOnTheLab(t *testing.T) {
	machine := func(name, after string) lab.ScenarioMachine {
		return lab.ScenarioMachine{Name: name, MemGiB: 0.5, CPUs: 1, Host: "berth-1", Folder: "/pier", Network: "pier-lan", Address: "10.20.4.11", Disks: []lab.ScenarioDisk{{Label: "disk 1", SizeMiB: 9.5, UsedMiB: 4, Datastore: "fast", Template: "base", Noise: 0.4}, {Label: "disk 2", SizeMiB: 5, Datastore: "fast"}},
			Workload: lab.Workload{Seed: 3, HotPages: 5, HotPerSecond: 20, AppendKiBps: 100, RecordsPerS: 6, After: after},
			Agent:    &lab.Agent{RestMillis: 20, Commands: map[string]int{"settle": 0, "spill": 3}}}
	}
	r := run(t, t.TempDir(), lab.Scenario{Hosts: []platform.Host{{ID: "berth-1", Name: "berth-1", CPUs: 4, MemoryBytes: 8 << 30}}, Datastores: []lab.ScenarioDatastore{{Name: "fast", CapacityGiB: 64}},
		Networks: []platform.Network{{ID: "n1", Name: "pier-lan", Subnet: "10.20.4.0/24", Gateway: "10.20.4.1"}, {ID: "n2", Name: "pier-drill", Subnet: "10.99.4.0/24", Isolated: true}},
		Machines: []lab.ScenarioMachine{machine("gangway", ""), machine("purser", "gangway")}})
	now := time.Now()
	inv, err := r.d.Inventory(t.Context())
	require.NoError(t, err)
	platformtest.Run(t, platformtest.Fixture{New: func() platform.Driver { return r.driver(t) }, Works: "settle", Fails: "spill", Machines: []string{inv.Machines[0].ID, inv.Machines[1].ID}, Names: []string{inv.Machines[0].Name, inv.Machines[1].Name},
		AwaitWrites: func(t *testing.T) {
			for range 5 {
				now = now.Add(lab.Tick)
				require.NoError(t, r.l.Step(now))
			}
		}})
}
