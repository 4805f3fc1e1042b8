package cli

import (
	"fmt"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
	"kestrel/internal/core/words"
)

func (a *app) machineCmd() *cobra.Command {
	c := &cobra.Command{Use: "machine", Short: "Machines of this site's platforms"}
	var p api.ListMachinesParams
	var page pageFlags
	var q, plat, folder, tag, power, coverage string
	list := &cobra.Command{Use: "list", Short: "List machines, with filter and search", Args: cobra.NoArgs,
		Example: "  kestrel machine list --search db --folder /harbour\n  kestrel machine list --coverage open",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			p.Q, p.Platform, p.Folder, p.Tag, p.Power, p.Coverage = strOr(q), strOr(plat), strOr(folder), strOr(tag), strOr(power), strOr(coverage)
			p.Sort, p.Limit, p.Skip = page.sorted(), page.most(), &page.skip
			ms, err := read[[]api.Machine](c.ListMachines(cmd.Context(), &p))
			if err != nil {
				return err
			}
			return a.emit(ms, func(w *tabwriter.Writer) {
				row(w, "MACHINE", "FOLDER", "POWER", "CPUS", "MEMORY", "DISKS", "USED", "ADDRESS", "COVERAGE")
				for _, m := range ms {
					var used int64
					for _, d := range m.Disks {
						used += d.UsedBytes
					}
					var addr []string
					for _, n := range m.Nics {
						addr = append(addr, n.Address)
					}
					row(w, m.Name, m.Folder, m.Power, m.Cpus, size(m.MemoryBytes), len(m.Disks), size(used), strings.Join(addr, " "), coverageText(m))
				}
			})
		}}
	f := list.Flags()
	f.StringVarP(&q, "search", "s", "", "words in name, folder, tags, host or address")
	f.StringVar(&plat, "platform", "", "of this platform")
	f.StringVar(&folder, "folder", "", "in this folder or below")
	f.StringVar(&tag, "tag", "", "with this tag")
	f.StringVar(&power, "power", "", "on, off or suspended")
	f.StringVar(&coverage, "coverage", "", `protected, "by rule", "left out", "cannot be", "landed copy" or unprotected; covered for what a group protects, open for what nobody has decided`)
	page.flags(list, "folder, name, coverage, host, group, power, memory or size")
	c.AddCommand(list, a.leaveOutCmd(), a.takeBackCmd(), &cobra.Command{Use: "show MACHINE", Short: "One machine with its disks, and whether their changes can be tracked", Args: cobra.ExactArgs(1), Example: "  kestrel machine show purser",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			ms, err := read[[]api.Machine](c.ListMachines(cmd.Context(), &api.ListMachinesParams{}))
			if err != nil {
				return err
			}
			var found []api.Machine
			var names []string
			for _, m := range ms {
				if m.ID == args[0] || strings.EqualFold(m.Name, args[0]) {
					found = append(found, m)
				}
				names = append(names, m.Name)
			}
			switch len(found) {
			case 1:
				return a.emit(found[0], func(w *tabwriter.Writer) { machinePage(w, found[0]) })
			case 0:
				if near, ok := words.Nearest(args[0], names); ok {
					return notFound("There is no machine %q. Did you mean %q?", args[0], near)
				}
				return notFound("There is no machine %q.", args[0])
			}
			var ids []string
			for _, m := range found {
				ids = append(ids, m.ID)
			}
			return refused("%d machines are called %q; give the ID: %s", len(found), args[0], strings.Join(ids, ", "))
		}})
	return c
}

func machinePage(w *tabwriter.Writer, m api.Machine) {
	row(w, "Machine", m.Name)
	row(w, "On", m.PlatformName+", host "+m.Host)
	row(w, "Power", m.Power)
	row(w, "Size", fmt.Sprintf("%s, %s", count(m.Cpus, "processor"), size(m.MemoryBytes)))
	row(w, "Coverage", coverageText(m))
	if m.Agent != nil {
		row(w, "Guest agent", map[string]string{"none": "no way to reach one", "silent": "does not answer", "answers": "answers"}[*m.Agent])
	}
	for _, n := range m.Nics {
		network := n.Network
		if network == "" {
			network = "not connected"
		}
		row(w, "Card", fmt.Sprintf("%s on %s %s", n.Mac, network, n.Address))
	}
	for _, d := range m.Disks {
		tracked := "✓ changes are tracked"
		if d.Untrackable != nil {
			tracked = "✕ " + *d.Untrackable
		}
		row(w, "Disk "+d.Label, fmt.Sprintf("%s, %s used, datastore %s", size(d.SizeBytes), size(d.UsedBytes), d.Datastore))
		if d.Boot != nil && *d.Boot {
			tracked += "; the machine starts from it"
		}
		row(w, "", tracked)
		if d.Suggest != nil {
			row(w, "", "may be left out (--without-disk "+m.Name+":"+d.Label+"): "+*d.Suggest)
		}
		if d.Mend != nil {
			row(w, "", "  "+*d.Mend)
		}
	}
}

// coverageText says what protects a machine, or why nothing does.
func coverageText(m api.Machine) string {
	t := m.Coverage
	switch {
	case m.GroupName != nil && m.Coverage == "by rule":
		t = *m.GroupName + ", by rule"
	case m.GroupName != nil:
		t = *m.GroupName
	case m.LeftOut != nil:
		t += ": " + m.LeftOut.Reason + " (" + m.LeftOut.By + ")"
	case m.Barrier != nil:
		t = "✕ " + t + ": " + *m.Barrier
		if m.Mend != nil {
			t += " " + *m.Mend
		}
	}
	return t
}

func (a *app) leaveOutCmd() *cobra.Command {
	var reason string
	c := &cobra.Command{Use: "leave-out MACHINE...", Short: "Note that machines are left out on purpose, and why", Args: cobra.MinimumNArgs(1),
		Example: `  kestrel machine leave-out build-01 build-02 --reason "made anew from a template each night"`,
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			if err := done(c.LeaveOutMachines(cmd.Context(), api.LeaveOut{Machines: args, Reason: reason})); err != nil {
				return err
			}
			return a.did("Left out on purpose: %s.", strings.Join(args, ", "))
		})}
	c.Flags().StringVar(&reason, "reason", "", "why")
	_ = c.MarkFlagRequired("reason")
	return c
}

func (a *app) takeBackCmd() *cobra.Command {
	return &cobra.Command{Use: "take-back MACHINE...", Short: "Note that machines are no longer left out", Args: cobra.MinimumNArgs(1), Example: "  kestrel machine take-back build-01",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			if err := done(c.TakeBackMachines(cmd.Context(), api.TakeBack{Machines: args})); err != nil {
				return err
			}
			return a.did("No longer left out: %s.", strings.Join(args, ", "))
		})}
}
