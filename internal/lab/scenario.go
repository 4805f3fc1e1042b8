package lab

import (
	"embed"
	"fmt"
	"os"
	"time"

	"go.yaml.in/yaml/v3"

	"kestrel/internal/platform"
)

//go:embed scenarios/*.yaml
var scenarios embed.FS

// Scenario is what a lab is made of when it first starts.
type Scenario struct {
	Site       string              `yaml:"site"`
	Hosts      []platform.Host     `yaml:"hosts"`
	Pools      []platform.Pool     `yaml:"pools"`
	Datastores []ScenarioDatastore `yaml:"datastores"`
	Networks   []platform.Network  `yaml:"networks"`
	Folders    []string            `yaml:"folders"` // beside those of machines
	Machines   []ScenarioMachine   `yaml:"machines"`
}

// ScenarioDatastore is a datastore and how fast it reads.
type ScenarioDatastore struct {
	Name        string  `yaml:"name"`
	CapacityGiB float64 `yaml:"capacityGiB"`
	// ReadMiBps bounds the rate at which captured disks are read; 0 for none.
	ReadMiBps float64 `yaml:"readMiBps"`
}

// ScenarioMachine is a machine and what its guest does.
type ScenarioMachine struct {
	Name     string         `yaml:"name"`
	Folder   string         `yaml:"folder"`
	Tags     []string       `yaml:"tags"`
	Host     string         `yaml:"host"`
	Pool     string         `yaml:"pool"`
	Guest    string         `yaml:"guest"`
	CPUs     int            `yaml:"cpus"`
	MemGiB   float64        `yaml:"memGiB"`
	Off      bool           `yaml:"off"`
	Network  string         `yaml:"network"`
	Address  string         `yaml:"address"`
	Disks    []ScenarioDisk `yaml:"disks"`
	Workload Workload       `yaml:"workload"`
	// Agent is the program in its guest that can be asked to bring it to rest; nil if
	// there is none.
	Agent *Agent `yaml:"agent"`
	// Ports are the TCP ports that it takes connections on while it runs.
	Ports []int `yaml:"ports"`
}

// Agent is a guest agent.
type Agent struct {
	// RestMillis is how long it takes to flush what the guest has not written yet.
	RestMillis int `yaml:"restMillis"`
	// Silent agents do not answer.
	Silent bool `yaml:"silent"`
	// Commands are those that the guest has, with the code that each ends with.
	Commands map[string]int `yaml:"commands"`
}

// ScenarioDisk is a disk and its first content.
type ScenarioDisk struct {
	Label     string  `yaml:"label"`
	SizeMiB   float64 `yaml:"sizeMiB"`
	UsedMiB   float64 `yaml:"usedMiB"`
	Datastore string  `yaml:"datastore"`
	// Template names content shared by all disks that name the same one; it
	// fills the first half of UsedMiB. Noise is the share of the rest that
	// does not compress.
	Template string  `yaml:"template"`
	Noise    float64 `yaml:"noise"`
}

// Workload is what a guest writes while its machine is on.
type Workload struct {
	Seed         uint64  `yaml:"seed"`
	HotPages     int     `yaml:"hotPages"`     // 64 KiB pages that are written again and again
	HotPerSecond float64 `yaml:"hotPerSecond"` // of them a second
	AppendKiBps  float64 `yaml:"appendKiBps"`
	RecordsPerS  float64 `yaml:"recordsPerSecond"`
	// After names the machine whose records this one's depend on.
	After string `yaml:"after"`
	// Quiet is a share of every ten minutes in which only records are written.
	Quiet float64 `yaml:"quiet"`
}

// Tick is how often a workload acts.
const Tick = 500 * time.Millisecond

// LoadScenario reads a scenario file, or one of those built in by its name.
func LoadScenario(name string) (Scenario, error) {
	b, err := scenarios.ReadFile("scenarios/" + name + ".yaml")
	if err != nil {
		if b, err = os.ReadFile(name); err != nil {
			return Scenario{}, fmt.Errorf("no built-in scenario and no file is named %q", name)
		}
	}
	var s Scenario
	if err := yaml.Unmarshal(b, &s); err != nil {
		return Scenario{}, fmt.Errorf("scenario %s: %w", name, err)
	}
	return s, nil
}
