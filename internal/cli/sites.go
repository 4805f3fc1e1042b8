package cli

import (
	"fmt"
	"os"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
	"kestrel/internal/core/words"
)

// strOr gives nil for an empty flag.
func strOr(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

func testTable(w *tabwriter.Writer, t api.ConnectionTest) {
	row(w, "", "STEP", "FOUND")
	for _, s := range t.Steps {
		m, note := "✓", s.Note
		switch {
		case !s.Tried:
			m, note = "·", "not tried"
		case !s.Ok:
			m, note = "✕", s.Note+" "+s.Mend
		}
		row(w, m, s.Name, note)
	}
}

// showTest prints a connection test and fails if a step did.
func (a *app) showTest(t api.ConnectionTest) error {
	if err := a.emit(t, func(w *tabwriter.Writer) { testTable(w, t) }); err != nil {
		return err
	}
	for _, s := range t.Steps {
		if !s.Ok {
			return fmt.Errorf("the step %q fails", s.Name)
		}
	}
	return nil
}

func (a *app) platformCmd() *cobra.Command {
	c := &cobra.Command{Use: "platform", Short: "Platforms: where machines run"}
	var in api.NewPlatform
	var user string
	var set api.LibvirtSettings
	var certificates, ports, scratch string
	var freeze int
	var test bool
	add := &cobra.Command{Use: "add NAME ADDRESS...", Short: "Test a connection and add it", Args: cobra.MinimumNArgs(2),
		Long: `Test a connection and add it.

A lab is given by one address and a user; its password is asked for, or read
from standard input. A libvirt platform is given by one or several libvirt
URIs, one a host.`,
		Example: `  kestrel platform add harbour http://127.0.0.1:7413 --user lab
  kestrel platform add quay qemu+tls://kvm1.skerry.example/system qemu+tls://kvm2.skerry.example/system \
      --kind libvirt --certificates /etc/kestrel/pki
  kestrel platform add quay qemu+tcp://127.0.0.1:16509/session --kind libvirt --test-only`,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			in.Name, in.Address = args[0], strings.Join(args[1:], " ")
			if in.Kind == "libvirt" {
				set = api.LibvirtSettings{Certificates: strOr(certificates), NbdPorts: strOr(ports), Scratch: strOr(scratch)}
				if freeze != 0 {
					set.FreezeSeconds = &freeze
				}
				in.Libvirt, in.User = &set, strOr(user)
			} else {
				password, err := a.password(false)
				if err != nil {
					return err
				}
				in.User, in.Password = &user, &password
			}
			if test {
				t, err := read[api.ConnectionTest](c.TestPlatform(cmd.Context(), in))
				if err != nil {
					return err
				}
				return a.showTest(t)
			}
			p, err := read[api.Platform](c.CreatePlatform(cmd.Context(), in))
			if err != nil {
				return err
			}
			return a.emit(p, func(w *tabwriter.Writer) { platformTable(w, []api.Platform{p}) })
		}}
	add.Flags().StringVar(&in.Kind, "kind", "lab", "kind of platform: lab or libvirt")
	add.Flags().StringVarP(&user, "user", "u", "", "user to sign in with at a lab")
	add.Flags().StringVar(&certificates, "certificates", "", "libvirt: folder on the site's host with cacert.pem, clientcert.pem and clientkey.pem")
	add.Flags().StringVar(&ports, "nbd-ports", "", "libvirt: ports for the hosts' NBD servers (default 10809-10872)")
	add.Flags().StringVar(&scratch, "scratch", "", "libvirt: folder on the hosts for what guests overwrite while they are read (default: beside each disk)")
	add.Flags().IntVar(&freeze, "freeze-seconds", 0, "libvirt: how long a guest agent may take to bring file systems to rest (default 5)")
	add.Flags().BoolVar(&test, "test-only", false, "test the connection and add nothing")
	c.AddCommand(add,
		&cobra.Command{Use: "list", Short: "List platforms", Example: "  kestrel platform list", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			ps, err := read[[]api.Platform](c.ListPlatforms(cmd.Context()))
			if err != nil {
				return err
			}
			return a.emit(ps, func(w *tabwriter.Writer) { platformTable(w, ps) })
		}},
		&cobra.Command{Use: "show NAME", Short: "Hosts, pools, datastores and networks of a platform", Example: "  kestrel platform show harbour", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			inv, err := read[api.Inventory](c.GetInventory(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.emit(inv, func(w *tabwriter.Writer) {
				row(w, "KIND", "NAME", "SIZE", "FREE", "NOTE")
				for _, g := range []struct {
					kind string
					rs   []api.Resource
				}{{"host", inv.Hosts}, {"pool", inv.Pools}, {"datastore", inv.Datastores}} {
					for _, r := range g.rs {
						row(w, g.kind, r.Name, size(r.TotalBytes), size(r.FreeBytes), "")
					}
				}
				for _, n := range inv.Networks {
					note := ""
					if n.Note != nil {
						note = *n.Note
					}
					row(w, "network", n.Name, "", "", note)
				}
			})
		}},
		&cobra.Command{Use: "test NAME", Short: "Test a platform's connection step by step", Example: "  kestrel platform test harbour", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			t, err := read[api.ConnectionTest](c.RetestPlatform(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.showTest(t)
		}},
		&cobra.Command{Use: "remove NAME", Short: "Remove a platform that no group uses", Example: "  kestrel platform remove harbour", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if err := done(c.DeletePlatform(cmd.Context(), args[0])); err != nil {
				return err
			}
			return a.did("The platform %s is removed.", args[0])
		}})
	return c
}

func platformTable(w *tabwriter.Writer, ps []api.Platform) {
	row(w, "PLATFORM", "KIND", "ADDRESS", "STATE", "MACHINES", "NOTE")
	for _, p := range ps {
		state, note := "● answers", ""
		switch {
		case !p.Reachable:
			state = "✕ does not answer"
		case p.Error != nil:
			state = "◐ answers in part"
		}
		if p.Error != nil {
			note = *p.Error
		} else if p.Warning != nil {
			note = *p.Warning
		}
		row(w, p.Name, p.Kind, p.Address, state, p.Machines, note)
	}
}

func (a *app) machineCmd() *cobra.Command {
	c := &cobra.Command{Use: "machine", Short: "Machines of this site's platforms"}
	var p api.ListMachinesParams
	var page pageFlags
	var q, plat, folder, tag, power, protection string
	list := &cobra.Command{Use: "list", Short: "List machines, with filter and search", Args: cobra.NoArgs,
		Example: "  kestrel machine list --search db --folder /harbour\n  kestrel machine list --protection cannot",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			p.Q, p.Platform, p.Folder, p.Tag, p.Power, p.Protection = strOr(q), strOr(plat), strOr(folder), strOr(tag), strOr(power), strOr(protection)
			p.Sort, p.Limit, p.Skip = page.sorted(), page.most(), &page.skip
			ms, err := read[[]api.Machine](c.ListMachines(cmd.Context(), &p))
			if err != nil {
				return err
			}
			return a.emit(ms, func(w *tabwriter.Writer) {
				row(w, "MACHINE", "FOLDER", "POWER", "CPUS", "MEMORY", "DISKS", "USED", "ADDRESS", "PROTECTION")
				for _, m := range ms {
					var used int64
					for _, d := range m.Disks {
						used += d.UsedBytes
					}
					var addr []string
					for _, n := range m.Nics {
						addr = append(addr, n.Address)
					}
					protection := "none"
					if m.GroupName != nil {
						protection = *m.GroupName
					} else if m.Barrier != nil {
						protection = "cannot: " + *m.Barrier + " " + *m.Mend
					}
					row(w, m.Name, m.Folder, m.Power, m.Cpus, size(m.MemoryBytes), len(m.Disks), size(used), strings.Join(addr, " "), protection)
				}
			})
		}}
	f := list.Flags()
	f.StringVarP(&q, "search", "s", "", "words in name, folder, tags, host or address")
	f.StringVar(&plat, "platform", "", "of this platform")
	f.StringVar(&folder, "folder", "", "in this folder or below")
	f.StringVar(&tag, "tag", "", "with this tag")
	f.StringVar(&power, "power", "", "on, off or suspended")
	f.StringVar(&protection, "protection", "", "none, protected or cannot")
	page.flags(list, "folder, name, host, group, power, memory or size")
	c.AddCommand(list, &cobra.Command{Use: "show MACHINE", Short: "One machine with its disks, and whether their changes can be tracked", Args: cobra.ExactArgs(1), Example: "  kestrel machine show purser",
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
	switch {
	case m.GroupName != nil:
		row(w, "Protection", *m.GroupName)
	case m.Barrier != nil:
		row(w, "Protection", "✕ cannot: "+*m.Barrier)
	default:
		row(w, "Protection", "none")
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
		row(w, "", tracked)
		if d.Mend != nil {
			row(w, "", "  "+*d.Mend)
		}
	}
}

func (a *app) activityCmd() *cobra.Command {
	var limit int
	var q, kind, by, since, until string
	c := &cobra.Command{Use: "activity", Short: "Who did what, and what happened", Args: cobra.NoArgs, Example: "  kestrel activity --search ticketing\n  kestrel activity --by anna --kind person --since 7d",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			p := api.ListActivityParams{Limit: &limit, Q: strOr(q), Kind: strOr(kind), By: strOr(by)}
			if p.Since, err = instant("--since", since, false); err != nil {
				return err
			}
			if p.Until, err = instant("--until", until, false); err != nil {
				return err
			}
			xs, err := read[[]api.Activity](c.ListActivity(cmd.Context(), &p))
			if err != nil {
				return err
			}
			return a.emit(xs, func(w *tabwriter.Writer) {
				row(w, "WHEN", "WHO", "FROM", "WHAT")
				for _, x := range xs {
					row(w, clockTime(&x.At), x.Who, orDash(x.Origin), strings.TrimPrefix(x.Text, x.Who+" "))
				}
			})
		}}
	c.Flags().IntVarP(&limit, "limit", "n", 50, "how many lines")
	c.Flags().StringVarP(&q, "search", "s", "", "words to look for")
	c.Flags().StringVar(&kind, "kind", "", "what it is about: group, point, person, token, link, platform, operation, landing, store, safeguards or consent")
	c.Flags().StringVar(&by, "by", "", "who did it, by how their name begins, or person, token, site, service or host")
	c.Flags().StringVar(&since, "since", "", "at or after this time, such as 2026-11-25T14:00Z, or so long ago, such as 2d")
	c.Flags().StringVar(&until, "until", "", "before this time")
	return c
}

// isTerminal tells whether progress may be drawn over itself.
func isTerminal(w any) bool {
	f, ok := w.(*os.File)
	if !ok {
		return false
	}
	st, err := f.Stat()
	return err == nil && st.Mode()&os.ModeCharDevice != 0
}
