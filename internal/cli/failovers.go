package cli

import (
	"context"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
	"kestrel/internal/core/span"
)

func (a *app) failoverCmd() *cobra.Command {
	c := &cobra.Command{Use: "failover", Short: "Run a group at the site that keeps its points, and decide what becomes of it"}
	var of string
	list := &cobra.Command{Use: "list", Short: "List failovers to this site, newest first", Args: cobra.NoArgs, Example: "  kestrel failover list",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
			fs, err := read[[]api.Failover](c.ListFailovers(cmd.Context(), &api.ListFailoversParams{Group: strOr(of)}))
			if err != nil {
				return err
			}
			return a.emit(fs, func(w *tabwriter.Writer) { failoverTable(w, fs) })
		})}
	list.Flags().StringVar(&of, "group", "", "of this group only")
	c.AddCommand(a.failoverStartCmd(), list, a.failoverShowCmd(), a.failoverAcceptCmd(), a.failoverBackOutCmd(), a.failoverPointCmd(),
		a.steerCmd("stop FAILOVER", "Let it go no further for now; what has started runs on", "  kestrel failover stop Purser-desk", "stop"),
		a.steerCmd("go-on FAILOVER", "Let one go on that was stopped", "  kestrel failover go-on Purser-desk", "go-on"),
		a.steerCmd("switch-off FAILOVER", "Switch off machines at home that do not shut down", "  kestrel failover switch-off Purser-desk", "switch-off"),
		a.failoverSkipCmd(), a.removeFormerCmd(),
		a.stepCmd("FAILOVER", "  kestrel failover step Purser-desk 'gate readers' done --note 'a card at berth 2 was taken'\n  kestrel failover step Purser-desk 'desk answers' skip --note 'known to be slow'", func(cmd *cobra.Command, c *api.Client, id string, in api.StepDecision) error {
			f, err := read[api.Failover](c.StepFailover(cmd.Context(), id, in))
			return a.afterFailover(cmd.Context(), c, f, err, false)
		}), a.shutDownFormerCmd(),
		&cobra.Command{Use: "screen FAILOVER MACHINE FILE", Short: "Write what a machine showed when it had started to a file, as a PNG", Args: cobra.ExactArgs(3), Example: "  kestrel failover screen Purser-desk purser purser.png",
			RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
				res, err := c.GetFailoverScreen(cmd.Context(), args[0], args[1])
				if err != nil {
					return err
				}
				return a.saveAnswer(res, args[2], maxScreen)
			})})
	return c
}

// sure gives the name that a decision is confirmed by: what --confirm says, or what somebody at
// a terminal writes when they have read what it costs.
func (a *app) sure(given, name string, costs []string) (string, error) {
	if given != "" || !a.asks(false) {
		if given == "" {
			return "", usage("say --confirm %q: nobody can be asked here", name)
		}
		return given, nil
	}
	for _, x := range costs {
		_, _ = fmt.Fprintln(a.Err, x)
	}
	return a.line(fmt.Sprintf("Write %s to go on: ", name))
}

func (a *app) failoverStartCmd() *cobra.Command {
	var in api.NewFailover
	var from pointFlags
	var reason, confirm, down string
	var machines []string
	var planned, plan, waits, notWhole, force, inPlace bool
	c := &cobra.Command{Use: "start GROUP", Short: "Start a failover of a group to this site", Args: cobra.ExactArgs(1),
		Long: `Start a failover: the machines of a group start here, at the site that keeps its points, as its
berth says, wave by wave, and are checked. Then somebody accepts it, or backs out.

With --planned nothing is lost: cycles run until little is left, the machines at home are shut
down, what they wrote last is copied, and home gives the group away. Without it, nothing is
asked of home; it says what is known of it, and what would happen if it lives.

With --plan it is only said what would happen.`,
		Example: `  kestrel failover start Purser-desk --planned --plan
  kestrel failover start Purser-desk --planned --confirm Purser-desk
  kestrel failover start Purser-desk --choose calm --confirm Purser-desk --reason 'the disks at home are being encrypted'
  kestrel failover start Purser-desk --machine purser --plan
  kestrel failover start Purser-desk --planned --in-place --plan`,
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			var err error
			if in.Point, in.Choose, in.Before, err = from.wish(); err != nil {
				return err
			}
			in.Planned, in.Reason, in.NotWhole, in.Force = &planned, strOr(reason), &notWhole, &force
			if len(machines) > 0 {
				in.Machines = &machines
			}
			if inPlace {
				in.InPlace = &inPlace
			}
			if down != "" {
				d, err := span.Parse(down)
				if err != nil {
					return usage("--down-within %s: %v", down, err)
				}
				in.DownSeconds = new(int64(d / time.Second))
			}
			p, err := read[api.FailoverPlan](c.PlanFailover(cmd.Context(), args[0], in))
			if err != nil {
				return err
			}
			if plan {
				return a.emit(p, func(w *tabwriter.Writer) { failoverPlan(w, p) })
			}
			sure, err := a.sure(confirm, p.GroupName, append(p.Known, p.Costs...))
			if err != nil {
				return err
			}
			in.Confirm = &sure
			f, err := read[api.Failover](c.StartFailover(cmd.Context(), args[0], in))
			return a.afterFailover(cmd.Context(), c, f, err, waits)
		})}
	f := c.Flags()
	f.BoolVar(&planned, "planned", false, "last changes first, and home shut down: nothing is lost")
	f.BoolVar(&notWhole, "not-whole", false, "allow machines whose disks cannot be read whole")
	f.StringSliceVar(&machines, "machine", nil, "only this one of the group starts here; may be given several times")
	f.BoolVar(&inPlace, "in-place", false, "on the way back: in the places of the old machines here, which are removed when it is accepted")
	f.BoolVar(&force, "force", false, "switch off machines at home that are not down in time; with --planned")
	f.StringVar(&down, "down-within", "", "how long machines at home have to shut down; 5min if left out")
	f.StringVar(&reason, "reason", "", "why it is not planned although home answers")
	f.StringVar(&confirm, "confirm", "", "the group's name, as it is")
	f.BoolVar(&plan, "plan", false, "only say what would happen")
	f.BoolVar(&waits, "wait", false, "wait until all runs and is checked")
	from.add(c)
	return c
}

// afterFailover shows a failover after a decision, when it has come to rest if that is waited
// for.
func (a *app) afterFailover(ctx context.Context, c *api.Client, f api.Failover, err error, waits bool) error {
	for err == nil && waits && f.State != "over" && (f.State != "open" || f.AcceptedBy != nil || f.BackedOutBy != nil) {
		if err = wait(ctx, 500*time.Millisecond); err == nil {
			f, err = read[api.Failover](c.GetFailover(ctx, f.ID))
		}
	}
	if err != nil {
		return err
	}
	return a.emit(f, func(w *tabwriter.Writer) { failoverPage(w, f) })
}

func (a *app) failoverShowCmd() *cobra.Command {
	var follow bool
	c := &cobra.Command{Use: "show FAILOVER", Short: "One failover: its ID, or a group for its newest", Args: cobra.ExactArgs(1), Example: "  kestrel failover show Purser-desk\n  kestrel failover show Purser-desk --follow",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			said := 0
			for {
				f, err := read[api.Failover](c.GetFailover(cmd.Context(), args[0]))
				if err != nil {
					return err
				}
				if !follow {
					return a.emit(f, func(w *tabwriter.Writer) { failoverPage(w, f) })
				}
				for _, s := range f.Steps[min(said, len(f.Steps)):] {
					if err := a.did("%s  %s", clockTime(&s.At), s.Text); err != nil {
						return err
					}
				}
				said = len(f.Steps)
				if f.State == "over" {
					return nil
				}
				if err := wait(cmd.Context(), 500*time.Millisecond); err != nil {
					return err
				}
			}
		})}
	c.Flags().BoolVar(&follow, "follow", false, "tell each step as it comes, until it is over")
	return c
}

func (a *app) failoverAcceptCmd() *cobra.Command {
	var confirm string
	var alone, waits bool
	c := &cobra.Command{Use: "accept FAILOVER", Short: "Let the group stay: this site becomes its home", Args: cobra.ExactArgs(1),
		Long:    "Let the group stay. When its disks are local, this site is its home, and it is copied to the site that was home before, from what differs there. There is no backing out any more: the way back is a planned failover over there.",
		Example: "  kestrel failover accept Purser-desk --confirm Purser-desk\n  kestrel failover accept Purser-desk --unprotected --confirm Purser-desk",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			f, err := read[api.Failover](c.GetFailover(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			sure, err := a.sure(confirm, f.GroupName, f.AcceptCosts)
			if err != nil {
				return err
			}
			f, err = read[api.Failover](c.AcceptFailover(cmd.Context(), f.ID, api.FailoverAccept{Confirm: sure, Unprotected: &alone}))
			return a.afterFailover(cmd.Context(), c, f, err, waits)
		})}
	c.Flags().StringVar(&confirm, "confirm", "", "the group's name, as it is")
	c.Flags().BoolVar(&alone, "unprotected", false, "copy it nowhere until it is resumed")
	c.Flags().BoolVar(&waits, "wait", false, "wait until it is over")
	return c
}

func (a *app) failoverBackOutCmd() *cobra.Command {
	var confirm, reason string
	var waits bool
	c := &cobra.Command{Use: "back-out FAILOVER", Short: "Remove what was started here, and give the group back", Args: cobra.ExactArgs(1),
		Long:    "Back out: the machines that were started here are removed, with all that they have written, and the group is home where it was. After a planned one, the machines that ran there are started.",
		Example: "  kestrel failover back-out Purser-desk --confirm Purser-desk --reason 'home is well again'",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			f, err := read[api.Failover](c.GetFailover(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			sure, err := a.sure(confirm, f.GroupName, f.BackOutCosts)
			if err != nil {
				return err
			}
			f, err = read[api.Failover](c.BackOutFailover(cmd.Context(), f.ID, api.FailoverBackOut{Confirm: sure, Reason: strOr(reason)}))
			return a.afterFailover(cmd.Context(), c, f, err, waits)
		})}
	c.Flags().StringVar(&confirm, "confirm", "", "the group's name, as it is")
	c.Flags().StringVar(&reason, "reason", "", "why; the record keeps it")
	c.Flags().BoolVar(&waits, "wait", false, "wait until it is over")
	return c
}

func (a *app) failoverPointCmd() *cobra.Command {
	var from pointFlags
	var confirm string
	var machines []string
	var waits, notWhole bool
	c := &cobra.Command{Use: "point FAILOVER", Short: "Start its machines anew from another point", Args: cobra.ExactArgs(1),
		Example: "  kestrel failover point Purser-desk --choose calm --confirm Purser-desk",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			f, err := read[api.Failover](c.GetFailover(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			sure, err := a.sure(confirm, f.GroupName, []string{"Its machines are removed and made anew: what they have written here is lost."})
			if err != nil {
				return err
			}
			in := api.FailoverPoint{Confirm: sure, NotWhole: &notWhole}
			if len(machines) > 0 {
				in.Machines = &machines
			}
			if in.Point, in.Choose, in.Before, err = from.wish(); err != nil {
				return err
			}
			f, err = read[api.Failover](c.RepointFailover(cmd.Context(), f.ID, in))
			return a.afterFailover(cmd.Context(), c, f, err, waits)
		})}
	f := c.Flags()
	f.StringVar(&confirm, "confirm", "", "the group's name, as it is")
	f.StringSliceVar(&machines, "machine", nil, "only this one of the group starts here; those that did so far if left out")
	f.BoolVar(&notWhole, "not-whole", false, "allow machines whose disks cannot be read whole")
	f.BoolVar(&waits, "wait", false, "wait until all runs and is checked")
	from.add(c)
	c.MarkFlagsOneRequired("point", "choose", "before")
	return c
}

// steerCmd is a command that steers a failover.
func (a *app) steerCmd(use, short, example, action string) *cobra.Command {
	return &cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(1), Example: example,
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			f, err := read[api.Failover](c.SteerFailover(cmd.Context(), args[0], api.FailoverSteer{Action: action}))
			return a.afterFailover(cmd.Context(), c, f, err, false)
		})}
}

func (a *app) failoverSkipCmd() *cobra.Command {
	var reason string
	c := &cobra.Command{Use: "skip FAILOVER MACHINE", Short: "Wait for the check of a machine no longer", Args: cobra.ExactArgs(2), Example: "  kestrel failover skip Purser-desk purser --reason 'its agent is known to be broken'",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			f, err := read[api.Failover](c.SteerFailover(cmd.Context(), args[0], api.FailoverSteer{Action: "skip", Machine: &args[1], Reason: &reason}))
			return a.afterFailover(cmd.Context(), c, f, err, false)
		})}
	c.Flags().StringVar(&reason, "reason", "", "why; the record keeps it")
	_ = c.MarkFlagRequired("reason")
	return c
}

func (a *app) removeFormerCmd() *cobra.Command {
	var confirm string
	c := &cobra.Command{Use: "remove-former GROUP", Short: "Remove the machines, with their disks, that a group had here before it became home at the other site", Args: cobra.ExactArgs(1), Example: "  kestrel failover remove-former Purser-desk --confirm Purser-desk",
		Long: "Remove the old machines of a group that is home at the other site by now and is copied here. They have to be off. Left alone they are in nobody's way; a way back makes new machines.",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			g, err := read[api.Group](c.GetGroup(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			var costs []string
			if g.Former != nil {
				costs = append(costs, strings.Join(*g.Former, ", ")+": removed here, with their disks. It cannot be taken back.")
			}
			sure, err := a.sure(confirm, g.Name, costs)
			if err != nil {
				return err
			}
			out, err := read[struct{ Left []string }](c.RemoveFormer(cmd.Context(), g.ID, api.RemoveFormerJSONRequestBody{Confirm: sure}))
			if err != nil {
				return err
			}
			for _, x := range out.Left {
				if err := a.did("%s", x); err != nil {
					return err
				}
			}
			return a.did("The old machines of %s are removed.", g.Name)
		})}
	c.Flags().StringVar(&confirm, "confirm", "", "the group's name, as it is")
	return c
}

func (a *app) shutDownFormerCmd() *cobra.Command {
	var atOnce bool
	c := &cobra.Command{Use: "shut-down GROUP", Short: "Shut down the machines that a group has here still, while it runs at the other site", Args: cobra.ExactArgs(1), Example: "  kestrel failover shut-down Purser-desk",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			if err := done(c.ShutDownFormer(cmd.Context(), args[0], api.ShutDownFormer{AtOnce: &atOnce})); err != nil {
				return err
			}
			return a.did("The machines of %s here were told to shut down.", args[0])
		})}
	c.Flags().BoolVar(&atOnce, "at-once", false, "as if the plug was pulled")
	return c
}

// failoverWord is how a failover is, in a word or two.
func failoverWord(f api.Failover) string {
	switch {
	case f.Result != nil && f.State == "over":
		return *f.Result
	case f.Stopped:
		return f.State + ", stopped"
	}
	return f.State
}

func failoverMark(f api.Failover) string {
	switch {
	case f.State != "over":
		return "◆"
	case *f.Result == "accepted":
		return "●"
	}
	return "◇"
}

func kindOf(planned bool) string {
	if planned {
		return "planned"
	}
	return "not planned"
}

// lostWord is what is lost, in words.
func lostWord(seconds int64, bytes *int64) string {
	if seconds == 0 {
		return "nothing"
	}
	text := secs(seconds)
	if bytes != nil {
		text += ", " + size(*bytes) + " as home last said"
	}
	return text
}

func failoverTable(w io.Writer, fs []api.Failover) {
	row(w, "", "GROUP", "FROM", "BEGAN", "BY", "KIND", "STATE", "LOST", "RAN AFTER", "ID")
	for _, f := range fs {
		took := "—"
		if f.TookSeconds != nil {
			took = secs(*f.TookSeconds)
		}
		row(w, failoverMark(f), f.GroupName, f.Home, clockTime(&f.StartedAt), f.StartedBy, kindOf(f.Planned), failoverWord(f), lostWord(f.LosesSeconds, nil), took, f.ID)
	}
}

func failoverPage(w *tabwriter.Writer, f api.Failover) {
	row(w, "Failover", fmt.Sprintf("%s, from %s, %s", f.GroupName, f.Home, kindOf(f.Planned)))
	row(w, "State", failoverWord(f))
	if f.Says != nil {
		row(w, "", *f.Says)
	}
	if f.Error != nil {
		row(w, "Held up by", *f.Error)
	}
	row(w, "Point", fmt.Sprintf("%d, captured %s, %s-consistent, %s", f.PointNumber, clockTime(&f.CaptureAt), f.Consistency, f.Chosen))
	row(w, "Lost", lostWord(f.LosesSeconds, f.LosesBytes))
	if f.InPlace != nil {
		row(w, "In place of", "the old "+strings.Join(*f.InPlace, ", "))
	}
	if len(f.LeftOut) > 0 {
		row(w, "Not started", strings.Join(f.LeftOut, ", ")+", by choice")
	}
	row(w, "Began", fmt.Sprintf("%s, by %s", clockTime(&f.StartedAt), f.StartedBy))
	if f.TookSeconds != nil {
		row(w, "Ran after", secs(*f.TookSeconds))
	} else if f.ExpectedSeconds != nil {
		row(w, "Expected", "all runs after "+moment(*f.ExpectedSeconds)+", as the last time")
	}
	if f.RtoTargetSeconds > 0 {
		row(w, "RTO target", secs(f.RtoTargetSeconds))
	}
	if f.LocalBytes != nil && f.TotalBytes != nil {
		row(w, "Local", fmt.Sprintf("%s of %s", size(*f.LocalBytes), size(*f.TotalBytes)))
	}
	for _, x := range []struct {
		name string
		by   *string
	}{{"Accepted by", f.AcceptedBy}, {"Backed out by", f.BackedOutBy}, {"Reason", f.Reason}} {
		if x.by != nil {
			row(w, x.name, *x.by)
		}
	}
	for i, x := range f.AcceptCosts {
		row(w, []string{"To accept", ""}[min(i, 1)], x)
	}
	for i, x := range f.BackOutCosts {
		row(w, []string{"To back out", ""}[min(i, 1)], x)
	}
	row(w)
	row(w, "", "STAGE", "BEGAN", "ENDED")
	for _, s := range f.Stages {
		mark := "○"
		switch {
		case s.EndedAt != nil:
			mark = "●"
		case s.BeganAt != nil:
			mark = "◌"
		}
		row(w, mark, s.Text, clockTime(s.BeganAt), clockTime(s.EndedAt))
	}
	row(w)
	row(w, "MACHINE", "WAVE", "STATE", "STARTED", "CHECKED", "AFTER", "NETWORKS", "CHECK")
	for _, m := range f.Machines {
		machineRow(w, m)
	}
	waveRows(w, f.Waves)
	stepRows(w, f.Runbook)
	row(w)
	for _, s := range f.Steps {
		row(w, clockTime(&s.At), s.Text)
	}
}

func failoverPlan(w *tabwriter.Writer, p api.FailoverPlan) {
	row(w, "Failover of", fmt.Sprintf("%s, from %s, %s", p.GroupName, p.Home, kindOf(p.Planned)))
	for i, x := range p.Known {
		row(w, []string{"Known of home", ""}[min(i, 1)], x)
	}
	from := fmt.Sprintf("%d, captured %s, %s-consistent, %s", p.PointNumber, clockTime(&p.CaptureAt), p.Consistency, p.Chosen)
	if p.Planned {
		from = "the one that is made last; the newest now is " + fmt.Sprint(p.PointNumber)
	}
	row(w, "Point", from)
	row(w, "Would lose", lostWord(p.LosesSeconds, p.LosesBytes))
	for i, x := range p.Costs {
		row(w, []string{"Costs", ""}[min(i, 1)], x)
	}
	if p.RtoTargetSeconds > 0 {
		row(w, "RTO target", secs(p.RtoTargetSeconds))
	}
	if p.LastTookSeconds != nil {
		row(w, "Took", moment(*p.LastTookSeconds)+" the last time, until all ran")
	}
	row(w)
	row(w, "WAVE", "MACHINE", "AS", "NETWORKS", "WAITS UNTIL IT")
	for _, m := range p.Machines {
		check := "has started"
		if m.Check != nil {
			check = *m.Check
		}
		row(w, m.Wave, m.Machine, m.Name, strings.Join(m.Networks, ", "), check)
	}
	stepRows(w, p.Runbook)
	row(w)
	row(w, "Nothing was done.")
}
