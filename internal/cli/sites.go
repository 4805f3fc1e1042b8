package cli

import (
	"fmt"
	"os"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
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
		was, note := "● answers", causeOf(p.Health)
		if !p.Reachable {
			was = "✕ does not answer"
		}
		switch {
		case note != "":
		case p.Error != nil:
			note = *p.Error
		case p.Warning != nil:
			note = *p.Warning
		}
		row(w, p.Name, p.Kind, p.Address, condition(p.Health, was), p.Machines, note)
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
