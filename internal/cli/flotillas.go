package cli

import (
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
	"kestrel/internal/core/span"
)

func (a *app) flotillaCmd() *cobra.Command {
	c := &cobra.Command{Use: "flotilla", Short: "Recover several groups together, in order",
		Long: `A flotilla is several groups that are recovered together at this site: in stages, by what they need
(see kestrel runbook needs) and by priority, side by side within a stage. The next stage begins when all
of the one before run and are checked. Each group has its own drill or failover.`}
	c.AddCommand(a.flotillaStartCmd(),
		&cobra.Command{Use: "list", Short: "List them, newest first", Args: cobra.NoArgs, Example: "  kestrel flotilla list",
			RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
				all, err := read[[]api.Flotilla](c.ListFlotillas(cmd.Context()))
				if err != nil {
					return err
				}
				return a.emit(all, func(w *tabwriter.Writer) { flotillaTable(w, all) })
			})},
		&cobra.Command{Use: "show [FLOTILLA]", Short: "One of them, by its ID; the newest if left out", Args: cobra.MaximumNArgs(1), Example: "  kestrel flotilla show",
			RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
				f, err := flotilla(cmd, c, args)
				if err != nil {
					return err
				}
				return a.emit(f, func(w *tabwriter.Writer) { flotillaPage(w, f) })
			})},
		a.steerFlotillaCmd("stop", "Begin no more groups for now", false), a.steerFlotillaCmd("go-on", "Let one go on that was stopped", false),
		a.steerFlotillaCmd("accept", "Accept all failovers of one that have come up", true), a.steerFlotillaCmd("back-out", "Back out of all failovers of one", true),
		a.steerFlotillaCmd("end", "End all drills of one", false), a.skipGroupCmd())
	return c
}

// flotilla finds one by its ID, or the newest.
func flotilla(cmd *cobra.Command, c *api.Client, args []string) (api.Flotilla, error) {
	if len(args) > 0 {
		return read[api.Flotilla](c.GetFlotilla(cmd.Context(), args[0]))
	}
	all, err := read[[]api.Flotilla](c.ListFlotillas(cmd.Context()))
	if err == nil && len(all) == 0 {
		err = usage("there is none at this site yet")
	}
	if err != nil {
		return api.Flotilla{}, err
	}
	return all[0], nil
}

func (a *app) flotillaStartCmd() *cobra.Command {
	var in api.NewFlotilla
	var home, choose, before, down, reason, confirm string
	var groups, without []string
	var drill, planned, force, notWhole, plan, waits bool
	c := &cobra.Command{Use: "start", Short: "Recover several groups here, in order", Args: cobra.NoArgs,
		Example: "  kestrel flotilla start --home Eastmole --drill --plan\n  kestrel flotilla start --home Eastmole --planned --confirm Eastmole\n" +
			"  kestrel flotilla start --group 'Freight desk' --group 'Harbour gates' --choose near --plan",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
			in = api.NewFlotilla{Drill: &drill, Home: strOr(home), Planned: &planned, Choose: strOr(choose), Force: &force, NotWhole: &notWhole, Reason: strOr(reason)}
			if len(groups) > 0 {
				in.Groups = &groups
			}
			if len(without) > 0 {
				in.Without = &without
			}
			if before != "" {
				at, err := backOrTime(before)
				if err != nil {
					return usage("--before %s: %v", before, err)
				}
				in.Before = at
			}
			if down != "" {
				d, err := span.Parse(down)
				if err != nil {
					return usage("--down-within %s: %v", down, err)
				}
				in.DownSeconds = new(int64(d / time.Second))
			}
			p, err := read[api.FlotillaPlan](c.PlanFlotilla(cmd.Context(), in))
			if err != nil {
				return err
			}
			if plan {
				return a.emit(p, func(w *tabwriter.Writer) { flotillaPlan(w, p) })
			}
			if !drill {
				if confirm, err = a.sure(confirm, p.Confirm, p.Costs); err != nil {
					return err
				}
				in.Confirm = &confirm
			}
			f, err := read[api.Flotilla](c.StartFlotilla(cmd.Context(), in))
			for err == nil && waits && f.UpAt == nil && f.State != "over" {
				if err = wait(cmd.Context(), 500*time.Millisecond); err == nil {
					f, err = read[api.Flotilla](c.GetFlotilla(cmd.Context(), f.ID))
				}
			}
			if err != nil {
				return err
			}
			return a.emit(f, func(w *tabwriter.Writer) { flotillaPage(w, f) })
		})}
	x := c.Flags()
	x.BoolVar(&drill, "drill", false, "in isolated networks, leaving home alone")
	x.StringVar(&home, "home", "", "site, for all groups that come from it")
	x.StringArrayVar(&groups, "group", nil, "group; again for more")
	x.StringArrayVar(&without, "without", nil, "group that is left out; again for more")
	x.BoolVar(&planned, "planned", false, "last changes first, and home shut down: nothing is lost")
	x.StringVar(&choose, "choose", "", "newest (if left out), application, proved, calm, before, or near: of each the point that is nearest to one instant for all")
	x.StringVar(&before, "before", "", "time before which, with --choose before, or the instant, with --choose near: such as 6h (ago) or an instant")
	x.BoolVar(&force, "force", false, "switch off machines at home that are not down in time; with --planned")
	x.StringVar(&down, "down-within", "", "how long machines at home have to shut down; 5min if left out")
	x.BoolVar(&notWhole, "not-whole", false, "allow machines whose disks cannot be read whole")
	x.StringVar(&reason, "reason", "", "why it is not planned although a home answers")
	x.StringVar(&confirm, "confirm", "", "what the plan says is to be written")
	x.BoolVar(&plan, "plan", false, "only say what would happen")
	x.BoolVar(&waits, "wait", false, "wait until all have come up")
	c.MarkFlagsOneRequired("home", "group")
	return c
}

// steerFlotillaCmd is a command that decides on a flotilla.
func (a *app) steerFlotillaCmd(action, short string, confirms bool) *cobra.Command {
	var confirm, reason string
	example := "  kestrel flotilla " + action
	if confirms {
		example += " --confirm Eastmole"
	}
	c := &cobra.Command{Use: action + " [FLOTILLA]", Short: short, Args: cobra.MaximumNArgs(1), Example: example,
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			f, err := flotilla(cmd, c, args)
			if err != nil {
				return err
			}
			in := api.FlotillaSteer{Action: action, Reason: strOr(reason)}
			if confirms {
				sure, err := a.sure(confirm, f.Title, []string{"It is done for each of its groups that it can be done for."})
				if err != nil {
					return err
				}
				in.Confirm = &sure
			}
			if f, err = read[api.Flotilla](c.SteerFlotilla(cmd.Context(), f.ID, in)); err != nil {
				return err
			}
			return a.emit(f, func(w *tabwriter.Writer) { flotillaPage(w, f) })
		})}
	if confirms {
		c.Flags().StringVar(&confirm, "confirm", "", "its title, as it is")
	}
	if action == "back-out" || action == "end" {
		c.Flags().StringVar(&reason, "reason", "", "why; the record keeps it")
	}
	return c
}

func (a *app) skipGroupCmd() *cobra.Command {
	var reason string
	c := &cobra.Command{Use: "skip GROUP [FLOTILLA]", Short: "Go on without a group", Args: cobra.RangeArgs(1, 2), Example: "  kestrel flotilla skip 'Harbour gates' --reason 'its disks are being looked at'",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			f, err := flotilla(cmd, c, args[1:])
			if err == nil {
				f, err = read[api.Flotilla](c.SteerFlotilla(cmd.Context(), f.ID, api.FlotillaSteer{Action: "skip", Group: &args[0], Reason: &reason}))
			}
			if err != nil {
				return err
			}
			return a.emit(f, func(w *tabwriter.Writer) { flotillaPage(w, f) })
		})}
	c.Flags().StringVar(&reason, "reason", "", "why; the record keeps it")
	_ = c.MarkFlagRequired("reason")
	return c
}

func flotillaKind(drill, planned bool) string {
	switch {
	case drill:
		return "drills"
	case planned:
		return "planned failovers"
	}
	return "failovers, not planned"
}

func flotillaTable(w io.Writer, all []api.Flotilla) {
	row(w, "", "OF", "WHAT", "BEGAN", "BY", "STATE", "ID")
	for _, f := range all {
		mark := "●"
		if f.State != "over" {
			mark = "◆"
		}
		row(w, mark, f.Title, flotillaKind(f.Drill, f.Planned), clockTime(&f.StartedAt), f.StartedBy, f.Says, f.ID)
	}
}

func flotillaPlan(w *tabwriter.Writer, p api.FlotillaPlan) {
	row(w, "Recovery of", fmt.Sprintf("%s: %s, %s", p.Title, count(len(p.Members), "group"), flotillaKind(p.Drill, p.Planned)))
	for i, x := range p.Costs {
		row(w, []string{"Costs", ""}[min(i, 1)], x)
	}
	if p.Instant != nil {
		row(w, "Near", clockTime(p.Instant))
	}
	if !p.Planned {
		row(w, "Points within", secs(p.SpreadSeconds))
	}
	if !p.Drill {
		row(w, "To begin, write", p.Confirm)
	}
	row(w)
	row(w, "STAGE", "GROUP", "FROM", "POINT", "CAPTURED", "LOSES", "TOOK THE LAST TIME", "NEEDS", "KNOWN")
	for _, m := range p.Members {
		memberRow(w, m)
	}
	row(w)
	row(w, "Nothing was done.")
}

func memberRow(w io.Writer, m api.FlotillaMember) {
	point, lost, took, says := "—", "—", "—", ""
	if m.PointNumber != nil && *m.PointNumber > 0 {
		point = fmt.Sprint(*m.PointNumber)
	}
	if m.LosesSeconds != nil {
		lost = secs(*m.LosesSeconds)
	}
	if m.ExpectedSeconds != nil {
		took = moment(*m.ExpectedSeconds)
	}
	if m.Says != nil {
		says = *m.Says
	}
	row(w, m.Stage, m.GroupName, m.Home, point, clockTime(m.CaptureAt), lost, took, strings.Join(m.Needs, ", "), says)
}

func flotillaPage(w *tabwriter.Writer, f api.Flotilla) {
	row(w, "Recovery of", fmt.Sprintf("%s, %s", f.Title, flotillaKind(f.Drill, f.Planned)))
	row(w, "State", f.State)
	row(w, "", f.Says)
	row(w, "Began", fmt.Sprintf("%s, by %s", clockTime(&f.StartedAt), f.StartedBy))
	if f.UpAt != nil {
		row(w, "All were up", fmt.Sprintf("%s, after %s", clockTime(f.UpAt), secs(int64(f.UpAt.Sub(f.StartedAt)/time.Second))))
	}
	row(w)
	row(w, "", "STAGE", "GROUP", "STATE", "ITS RECOVERY", "POINT", "SAYS")
	for _, m := range f.Members {
		mark := map[string]string{"waits": "○", "starts": "◌", "up": "●", "over": "●", "refused": "◆", "skipped": "◇"}[*m.State]
		is := orText(m.RecoveryState, "—")
		if m.Result != nil && *m.Result != "" {
			is += ", " + *m.Result
		}
		row(w, mark, m.Stage, m.GroupName, *m.State, is, *m.PointNumber, orText(m.Says, ""))
	}
	row(w)
	for _, s := range f.Steps {
		row(w, clockTime(&s.At), s.Text)
	}
}
