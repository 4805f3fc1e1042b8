package cli

import (
	"strings"
	"time"

	"github.com/spf13/pflag"

	"kestrel/internal/api"
	"kestrel/internal/core/span"
)

// machineFlags are what is chosen for machines of a group.
type machineFlags struct {
	quiesce, before, after, without []string
	limit, newDisks                 string
	nth                             int
	bootToo                         bool
}

func (m *machineFlags) add(f *pflag.FlagSet, now string) {
	f.StringArrayVar(&m.quiesce, "quiesce", nil, "a machine whose guest agent brings its file systems to rest at each capture; MACHINE=required makes no point if that fails, MACHINE=off leaves it whatever --rest says"+now)
	f.StringVar(&m.limit, "quiesce-limit", "", "how long those guests may take, such as 10s (default what the platform gives)")
	f.IntVar(&m.nth, "quiesce-every", 0, "bring them to rest at one of so many captures only (default each)")
	f.StringArrayVar(&m.before, "quiesce-before", nil, "MACHINE=COMMAND that its agent runs before; repeat for more")
	f.StringArrayVar(&m.after, "quiesce-after", nil, "MACHINE=COMMAND that its agent runs after; repeat for more")
	f.StringArrayVar(&m.without, "without-disk", nil, "MACHINE:DISK that is not copied, and made empty where the machine is started"+now)
	f.BoolVar(&m.bootToo, "without-boot-disk", false, "allow that a disk that a machine starts from is left out")
	f.StringVar(&m.newDisks, "new-disks", "", "copy or flag disks that are added to machines later (default copy)")
}

// rest reads how machines are brought to rest; nil if nothing is said of it.
func (m *machineFlags) rest() (*[]api.QuiesceOf, error) {
	if m.quiesce == nil {
		if m.limit != "" || m.nth != 0 || m.before != nil || m.after != nil {
			return nil, usage("name the machines with --quiesce as well")
		}
		return nil, nil
	}
	out := []api.QuiesceOf{}
	if len(m.quiesce) == 1 && m.quiesce[0] == "none" {
		return &out, nil
	}
	for _, text := range m.quiesce {
		name, mode, given := strings.Cut(text, "=")
		if !given {
			mode = "try"
		}
		if mode != "try" && mode != "required" && mode != "off" {
			return nil, usage("--quiesce %s: %q is none of try, required, off", text, mode)
		}
		q := api.QuiesceOf{Machine: name, Mode: mode}
		if m.limit != "" {
			d, err := span.Parse(m.limit)
			if err != nil || d%time.Second != 0 {
				return nil, usage("--quiesce-limit %s: give whole seconds, such as 10s", m.limit)
			}
			q.LimitSeconds = new(int64(d / time.Second))
		}
		if m.nth != 0 {
			q.EveryNth = &m.nth
		}
		out = append(out, q)
	}
	for flag, texts := range map[string][]string{"--quiesce-before": m.before, "--quiesce-after": m.after} {
		for _, text := range texts {
			name, command, ok := strings.Cut(text, "=")
			if !ok {
				return nil, usage("%s %s: write MACHINE=COMMAND", flag, text)
			}
			found := false
			for i := range out {
				if !strings.EqualFold(out[i].Machine, name) {
					continue
				}
				found = true
				if flag == "--quiesce-before" {
					out[i].Before = &command
				} else {
					out[i].After = &command
				}
			}
			if !found {
				return nil, usage("%s %s: name %s with --quiesce as well", flag, text, name)
			}
		}
	}
	return &out, nil
}
