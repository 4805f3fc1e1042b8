package cli

import (
	"context"
	"fmt"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"kestrel/internal/api"
)

// recoveryFlags are what is said of recoveries, of a group or a tier.
type recoveryFlags struct{ rto, drill, rest string }

func (r *recoveryFlags) add(f *pflag.FlagSet) {
	f.StringVar(&r.rto, "rto", "", "how long a recovery may take, such as 1h; 0 for no target")
	f.StringVar(&r.drill, "drill-every", "", "how often a recovery is to be tried, such as 90d; 0 for never")
	f.StringVar(&r.rest, "rest", "", "off, try or required: how file systems are brought to rest of machines of which --quiesce says nothing")
}

// read enters what was given.
func (r *recoveryFlags) read(rto, drill **int64, rest **string) (err error) {
	if *rto, err = spanOr("--rto", r.rto); err != nil {
		return err
	}
	if *drill, err = spanOr("--drill-every", r.drill); err != nil {
		return err
	}
	*rest = strOr(r.rest)
	return nil
}

// tierFlags are those of a tier.
type tierFlags struct {
	promiseFlags
	recoveryFlags
	name, priority, lock string
	dropPoints           bool
}

func (t *tierFlags) add(c *cobra.Command) {
	t.promiseFlags.add(c)
	t.recoveryFlags.add(c.Flags())
	c.Flags().StringVar(&t.priority, "priority", "", "high, normal or low: the share of a limited link, 4 to 2 to 1")
	c.Flags().StringVar(&t.lock, "lock", "", "keep anybody from deleting a point for so long after it was sealed, such as 14d; 0 for not at all")
}

func (t *tierFlags) patch() (in api.TierPatch, err error) {
	in.Name, in.Priority = strOr(t.name), strOr(t.priority)
	if in.Promise, err = t.promiseFlags.read(); err != nil {
		return in, err
	}
	if err = t.recoveryFlags.read(&in.RtoTargetSeconds, &in.DrillEverySeconds, &in.Rest); err != nil {
		return in, err
	}
	in.LockSeconds, err = spanOr("--lock", t.lock)
	return in, err
}

func (a *app) tierCmd() *cobra.Command {
	c := &cobra.Command{Use: "tier", Short: "Named promises that groups follow"}
	c.AddCommand(a.tierCreateCmd(), a.tierEditCmd(), a.tierCopyCmd(),
		&cobra.Command{Use: "list", Short: "List tiers, those of paired sites too", Args: cobra.NoArgs, Example: "  kestrel tier list", RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
			all, err := read[[]api.Tier](c.ListTiers(cmd.Context()))
			if err != nil {
				return err
			}
			return a.emit(all, func(w *tabwriter.Writer) {
				row(w, "TIER", "OF", "RPO", "RTO", "CYCLES", "KEEP", "PRIORITY", "GROUPS")
				for _, t := range all {
					var names []string
					for _, g := range t.Groups {
						n := g.Name
						if len(g.Differs) > 0 {
							n += fmt.Sprintf(" (%d differ)", len(g.Differs))
						}
						names = append(names, n)
					}
					row(w, t.Name, t.Site, secs(t.Promise.RpoTargetSeconds), secsOr(t.RtoTargetSeconds, "none"), cadenceText(t.Promise), keepText(t.Promise.Keep), t.Priority, orDashText(strings.Join(names, ", ")))
				}
			})
		})},
		&cobra.Command{Use: "show TIER", Short: "One tier with its groups, how they differ, and what it was", Args: cobra.ExactArgs(1), Example: "  kestrel tier show Harbour-1", RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			t, err := read[api.Tier](c.GetTier(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.emit(t, func(w *tabwriter.Writer) { tierPage(w, t) })
		})},
		&cobra.Command{Use: "delete TIER", Short: "Delete a tier that no group follows", Args: cobra.ExactArgs(1), Example: "  kestrel tier delete Old", RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			if err := done(c.DeleteTier(cmd.Context(), args[0])); err != nil {
				return err
			}
			return a.did("The tier %s is deleted.", args[0])
		})})
	return c
}

func secsOr(n int64, none string) string {
	if n == 0 {
		return none
	}
	return secs(n)
}

func orDashText(s string) string {
	if s == "" {
		return "—"
	}
	return s
}

func tierPage(w *tabwriter.Writer, t api.Tier) {
	row(w, "Tier", t.Name)
	row(w, "Of", t.Site+", revision "+fmt.Sprint(t.Revision))
	row(w, "Promise", fmt.Sprintf("RPO %s, RTO %s, cycles %s, keep %s", secs(t.Promise.RpoTargetSeconds), secsOr(t.RtoTargetSeconds, "none"), cadenceText(t.Promise), keepText(t.Promise.Keep)))
	if t.Promise.Quiet != nil {
		row(w, "Quiet", *t.Promise.Quiet+" ("+*t.Promise.Zone+")")
	}
	row(w, "Priority", t.Priority)
	row(w, "File systems", map[string]string{"off": "as they are", "try": "at rest if they can be", "required": "at rest or no point"}[t.Rest])
	row(w, "Locked", secsOr(t.LockSeconds, "not at all"))
	row(w, "Drill", secsOr(t.DrillEverySeconds, "never"))
	for _, x := range t.Warnings {
		row(w, "! "+x.Field, x.Message)
	}
	row(w)
	row(w, "Groups")
	for _, g := range t.Groups {
		row(w, "", g.Name)
		for _, d := range g.Differs {
			row(w, "", "  differs: "+d.Field+" "+d.Own+", not "+d.Tier+": "+d.Reason)
		}
	}
	if len(t.Groups) == 0 {
		row(w, "", "none follows it")
	}
	if t.History == nil {
		return
	}
	row(w)
	row(w, "What it was")
	for _, h := range *t.History {
		what := "made"
		var cs []string
		for _, c := range h.Changes {
			cs = append(cs, c.Field+": "+c.From+" → "+c.To)
		}
		if len(cs) > 0 {
			what = strings.Join(cs, "; ")
		}
		row(w, "", fmt.Sprintf("%d  %s  %s", h.Revision, clockTime(&h.At), h.Who), what)
	}
}

func (a *app) tierCreateCmd() *cobra.Command {
	var t tierFlags
	c := &cobra.Command{Use: "create NAME", Short: "Make a tier", Args: cobra.ExactArgs(1),
		Example: `  kestrel tier create Harbour-2 --rpo 30min --every 10min --keep "all 6h, 1h 2d" --rto 4h --drill-every 90d`,
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			if t.rpo == "" || t.every == "" {
				return usage("give --rpo and --every")
			}
			if t.keep == "" {
				t.keep = defaultKeep
			}
			p, err := t.patch()
			if err != nil {
				return err
			}
			return a.tierMade(cmd.Context(), c, api.NewTier{Name: args[0], Promise: whole(p.Promise), RtoTargetSeconds: p.RtoTargetSeconds, Priority: p.Priority, Rest: p.Rest, LockSeconds: p.LockSeconds, DrillEverySeconds: p.DrillEverySeconds})
		})}
	t.add(c)
	return c
}

func (a *app) tierMade(ctx context.Context, c *api.Client, in api.NewTier) error {
	t, err := read[api.Tier](c.CreateTier(ctx, in))
	if err != nil {
		return err
	}
	return a.emit(t, func(w *tabwriter.Writer) { tierPage(w, t) })
}

func (a *app) tierEditCmd() *cobra.Command {
	var t tierFlags
	var dry bool
	c := &cobra.Command{Use: "edit TIER", Short: "Change a tier, and the groups that follow it", Args: cobra.ExactArgs(1),
		Example: "  kestrel tier edit Harbour-1 --every 1min --dry-run\n  kestrel tier edit Harbour-1 --rto 30min",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			in, err := t.patch()
			if err != nil {
				return err
			}
			if in == (api.TierPatch{}) {
				return usage("say what to change: --name, --rpo, --every, --quiet, --zone, --keep, --rto, --priority, --rest, --lock or --drill-every")
			}
			if dry {
				v, err := read[api.TierPreview](c.PreviewTier(cmd.Context(), args[0], in))
				if err != nil {
					return err
				}
				return a.emit(v, func(w *tabwriter.Writer) { tierPreview(w, v) })
			}
			if t.dropPoints {
				in.DropPoints = &t.dropPoints
			}
			x, err := read[api.Tier](c.UpdateTier(cmd.Context(), args[0], in))
			if err != nil {
				return err
			}
			return a.emit(x, func(w *tabwriter.Writer) { tierPage(w, x) })
		})}
	t.add(c)
	c.Flags().StringVar(&t.name, "name", "", "new name")
	c.Flags().BoolVar(&dry, "dry-run", false, "only show what it would change, of which groups")
	c.Flags().BoolVar(&t.dropPoints, "drop-points", false, "allow that a shorter keep ladder drops points of groups at once")
	return c
}

func tierPreview(w *tabwriter.Writer, v api.TierPreview) {
	for _, x := range v.Faults {
		row(w, "✕ "+x.Field, x.Message)
	}
	for _, x := range v.Changes {
		row(w, x.Field, x.From+" → "+x.To)
	}
	for _, g := range v.Groups {
		row(w)
		row(w, g.Name)
		for _, x := range g.Faults {
			row(w, "  ✕ "+x.Field, x.Message)
		}
		for _, x := range g.Changes {
			row(w, "  "+x.Field, x.From+" → "+x.To)
		}
		if g.DropsPoints > 0 {
			row(w, "  ! drops at once", fmt.Sprintf("%s: numbers %s; allow it with --drop-points", count(g.DropsPoints, "point"), numbers(g.DropsNumbers)))
		}
		if len(g.Changes)+len(g.Faults) == 0 {
			row(w, "  nothing would change: all of it is its own")
		}
	}
	if len(v.Groups) == 0 {
		row(w, "No group follows it.")
	}
}

func (a *app) tierCopyCmd() *cobra.Command {
	var from, name string
	c := &cobra.Command{Use: "copy TIER", Short: "Make a tier here that is as one of a paired site", Args: cobra.ExactArgs(1), Example: "  kestrel tier copy Quay --from Eastmole",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			all, err := read[[]api.Tier](c.ListTiers(cmd.Context()))
			if err != nil {
				return err
			}
			for _, t := range all {
				if !strings.EqualFold(t.Name, args[0]) || !strings.EqualFold(t.Site, from) {
					continue
				}
				if name == "" {
					name = t.Name
				}
				p := t.Promise
				p.Calendar = nil
				return a.tierMade(cmd.Context(), c, api.NewTier{Name: name, Promise: &p, RtoTargetSeconds: &t.RtoTargetSeconds, Priority: &t.Priority, Rest: &t.Rest, LockSeconds: &t.LockSeconds, DrillEverySeconds: &t.DrillEverySeconds})
			}
			return notFound("No group that comes here from %q follows a tier %q; kestrel tier list shows those that are known here.", from, args[0])
		})}
	c.Flags().StringVar(&from, "from", "", "the paired site")
	c.Flags().StringVar(&name, "name", "", "another name for it here")
	_ = c.MarkFlagRequired("from")
	return c
}
