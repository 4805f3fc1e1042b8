package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
	"kestrel/internal/core/span"
)

func (a *app) drillCmd() *cobra.Command {
	c := &cobra.Command{Use: "drill", Short: "Try recoveries in isolated networks, at the site that keeps the points"}
	var of string
	list := &cobra.Command{Use: "list", Short: "List drills, newest first", Args: cobra.NoArgs, Example: "  kestrel drill list\n  kestrel drill list --group Purser-desk",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
			ds, err := read[[]api.Drill](c.ListDrills(cmd.Context(), &api.ListDrillsParams{Group: strOr(of)}))
			if err != nil {
				return err
			}
			return a.emit(ds, func(w *tabwriter.Writer) { drillTable(w, ds) })
		})}
	list.Flags().StringVar(&of, "group", "", "of this group only")
	c.AddCommand(a.drillStartCmd(), a.drillRoundCmd(), list,
		&cobra.Command{Use: "show DRILL", Short: "One drill: its ID, or a group for its newest", Args: cobra.ExactArgs(1), Example: "  kestrel drill show Purser-desk",
			RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
				d, err := read[api.Drill](c.GetDrill(cmd.Context(), args[0]))
				if err != nil {
					return err
				}
				return a.emit(d, func(w *tabwriter.Writer) { drillPage(w, d) })
			})},
		a.drillEndCmd(),
		a.stepCmd("DRILL", "  kestrel drill step Purser-desk 'try a card' done --note 'the card opened the gate'", func(cmd *cobra.Command, c *api.Client, id string, in api.StepDecision) error {
			d, err := read[api.Drill](c.StepDrill(cmd.Context(), id, in))
			if err != nil {
				return err
			}
			return a.emit(d, func(w *tabwriter.Writer) { drillPage(w, d) })
		}),
		&cobra.Command{Use: "screen DRILL MACHINE FILE", Short: "Write what a machine showed when it had started to a file, as a PNG", Args: cobra.ExactArgs(3), Example: "  kestrel drill screen Purser-desk purser-drill purser.png",
			RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
				res, err := c.GetDrillScreen(cmd.Context(), args[0], args[1])
				if err != nil {
					return err
				}
				return a.saveAnswer(res, args[2], maxScreen)
			})})
	return c
}

// saveAnswer writes what was answered with to a file, of at most so many bytes.
func (a *app) saveAnswer(res *http.Response, file string, most int64) error {
	defer func() { _ = res.Body.Close() }()
	if res.StatusCode >= 300 {
		return done(res, nil)
	}
	b, err := io.ReadAll(io.LimitReader(res.Body, most))
	if err != nil {
		return fmt.Errorf("read the answer: %w", err)
	}
	if err := os.WriteFile(file, b, 0o600); err != nil {
		return fmt.Errorf("write the file: %w", err)
	}
	return a.did("Written: %s (%s).", file, size(int64(len(b))))
}

func (a *app) drillStartCmd() *cobra.Command {
	var in api.NewDrill
	var from pointFlags
	var lasts, insist, reason string
	var machines []string
	var once, plan, wait, notWhole bool
	c := &cobra.Command{Use: "start GROUP", Short: "Start a drill of a group", Args: cobra.ExactArgs(1),
		Long: `Start a drill: machines of a point of a group arrive as its berth says for drills, wave
by wave, and are checked. Home and its cycles are left alone. The drill is open until it is
ended, or its time is over; then every trace of it is removed.

It is refused on networks that are not isolated, or on which something runs; --insist with
the group's name and --reason allows it, and the record keeps why.

With --plan it is only said what would happen.`,
		Example: `  kestrel drill start Purser-desk --plan
  kestrel drill start Purser-desk
  kestrel drill start Purser-desk --choose application --for 30min
  kestrel drill start Purser-desk --once --wait`,
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			var err error
			if in.Point, in.Choose, in.Before, err = from.wish(); err != nil {
				return err
			}
			in.Once, in.NotWhole = &once, &notWhole
			if len(machines) > 0 {
				in.Machines = &machines
			}
			if lasts != "" {
				d, err := span.Parse(lasts)
				if err != nil {
					return usage("--for %s: %v", lasts, err)
				}
				in.ForSeconds = new(int64(d / time.Second))
			}
			if insist != "" {
				in.Insist = &api.Insist{Group: insist, Reason: reason}
			}
			if plan {
				p, err := read[api.DrillPlan](c.PlanDrill(cmd.Context(), args[0], in))
				if err != nil {
					return err
				}
				return a.emit(p, func(w *tabwriter.Writer) { drillPlan(w, p) })
			}
			d, err := read[api.Drill](c.StartDrill(cmd.Context(), args[0], in))
			if err == nil && wait {
				d, err = awaitDrill(cmd.Context(), c, d.ID, once)
			}
			if err != nil {
				return err
			}
			if err := a.emit(d, func(w *tabwriter.Writer) { drillPage(w, d) }); err != nil {
				return err
			}
			if d.Result != nil && *d.Result != "passed" {
				return fmt.Errorf("the drill %s", *d.Result)
			}
			return nil
		})}
	from.add(c)
	f := c.Flags()
	f.StringArrayVarP(&machines, "machine", "m", nil, "only this machine; may be repeated")
	f.StringVar(&lasts, "for", "", "how long it is open, such as 30min; 2h if left out")
	f.BoolVar(&once, "once", false, "end it as soon as all is checked")
	f.BoolVar(&notWhole, "not-whole", false, "allow machines whose disks cannot be read whole")
	f.StringVar(&insist, "insist", "", "the group's name: allow networks that are not isolated")
	f.StringVar(&reason, "reason", "", "why, with --insist")
	f.BoolVar(&plan, "plan", false, "only say what would happen")
	f.BoolVar(&wait, "wait", false, "wait until all runs and is checked; with --once until nothing is left")
	c.MarkFlagsRequiredTogether("insist", "reason")
	return c
}

// awaitDrill asks until a drill is open, or over if it ends by itself.
func awaitDrill(ctx context.Context, c *api.Client, id string, end bool) (api.Drill, error) {
	for {
		d, err := read[api.Drill](c.GetDrill(ctx, id))
		if err != nil || d.State == "over" || d.State == "open" && !end {
			return d, err
		}
		if err := wait(ctx, 500*time.Millisecond); err != nil {
			return d, err
		}
	}
}

func (a *app) drillEndCmd() *cobra.Command {
	var passed, failed, keep, waits bool
	var note string
	c := &cobra.Command{Use: "end DRILL", Short: "End a drill (its ID, or its group), and say what came of it", Args: cobra.ExactArgs(1),
		Long:    "End a drill, and have every trace of it removed. What no check sees, somebody says: --passed or --failed, with a note. Left out, its checks alone say what came of it.",
		Example: "  kestrel drill end Purser-desk --passed --note 'tickets could be sold'",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			in := api.DrillEnd{Note: strOr(note), Keep: &keep}
			if passed || failed {
				in.Passed = &passed
			}
			d, err := read[api.Drill](c.EndDrill(cmd.Context(), args[0], in))
			if err == nil && waits {
				d, err = awaitDrill(cmd.Context(), c, d.ID, true)
			}
			if err != nil {
				return err
			}
			return a.emit(d, func(w *tabwriter.Writer) { drillPage(w, d) })
		})}
	f := c.Flags()
	f.BoolVar(&passed, "passed", false, "say that it passed")
	f.BoolVar(&failed, "failed", false, "say that it failed")
	f.BoolVar(&keep, "keep", false, "keep its machines with what was changed in them, as landings")
	f.StringVar(&note, "note", "", "what was seen")
	f.BoolVar(&waits, "wait", false, "wait until nothing of it is left")
	c.MarkFlagsMutuallyExclusive("passed", "failed")
	return c
}

// drillWord is how a drill is, in a word.
func drillWord(d api.Drill) string {
	if d.Result != nil && d.State == "over" {
		return *d.Result
	}
	return d.State
}

func drillMark(d api.Drill) string {
	switch drillWord(d) {
	case "passed":
		return "●"
	case "failed":
		return "▲"
	case "stopped":
		return "◇"
	}
	return "◌"
}

func drillTable(w io.Writer, ds []api.Drill) {
	row(w, "", "GROUP", "BEGAN", "BY", "POINT", "STATE", "RAN AFTER", "RTO TARGET", "ID")
	for _, d := range ds {
		took, target := "—", "—"
		if d.TookSeconds != nil {
			took = secs(*d.TookSeconds)
		}
		if d.RtoTargetSeconds > 0 {
			target = secs(d.RtoTargetSeconds)
		}
		row(w, drillMark(d), d.GroupName, clockTime(&d.StartedAt), d.StartedBy, d.PointNumber, drillWord(d), took, target, d.ID)
	}
}

func drillPage(w *tabwriter.Writer, d api.Drill) {
	row(w, "Drill", d.GroupName)
	row(w, "State", drillWord(d))
	if d.Summary != nil {
		row(w, "", *d.Summary)
	}
	for _, x := range d.Why {
		row(w, "", x)
	}
	if d.Error != nil {
		row(w, "Held up by", *d.Error)
	}
	row(w, "Point", fmt.Sprintf("%d, captured %s, %s-consistent, %s; a recovery from it would have lost %s", d.PointNumber, clockTime(&d.CaptureAt), d.Consistency, d.Chosen, secs(d.LosesSeconds)))
	row(w, "Began", fmt.Sprintf("%s, by %s", clockTime(&d.StartedAt), d.StartedBy))
	if d.State == "starting" || d.State == "open" {
		row(w, "Open until", clockTime(d.Until))
	}
	if d.EndedBy != nil {
		row(w, "Ended by", *d.EndedBy)
	}
	if d.Note != nil {
		row(w, "Note", *d.Note)
	}
	if d.Reason != nil {
		row(w, "Not isolated", *d.Reason)
	}
	if d.State == "over" {
		left := "every trace was removed, and looked for"
		if d.Kept != nil {
			left = "its machines were kept, as landings"
		} else if !d.NothingLeft {
			left = "it is not known whether something is left"
		}
		row(w, "Cleared", fmt.Sprintf("%s; %s", clockTime(d.EndedAt), left))
		row(w, "Meanwhile", count(d.PointsMeanwhile, "point")+" arrived from "+d.Home)
	}
	row(w)
	row(w, "MACHINE", "WAVE", "STATE", "STARTED", "CHECKED", "AFTER", "NETWORKS", "CHECK")
	for _, m := range d.Machines {
		machineRow(w, m)
	}
	waveRows(w, d.Waves)
	stepRows(w, d.Runbook)
	row(w)
	for _, s := range d.Steps {
		row(w, clockTime(&s.At), s.Text)
	}
}

// moment is a time that something took, of which seconds are known.
func moment(n int64) string {
	if n == 0 {
		return "less than a second"
	}
	return secs(n)
}

// machineRow is a machine of a drill or failover.
func machineRow(w io.Writer, m api.DrillMachine) {
	state, took, check := "—", "—", ""
	if m.State != nil {
		state = *m.State
	}
	if m.TookSeconds != nil {
		took = secs(*m.TookSeconds)
	}
	for _, x := range []*string{m.Check, m.Guest, m.Error} {
		if x != nil {
			check = strings.TrimSpace(check + " " + *x)
		}
	}
	row(w, m.Name, m.Wave, state, clockTime(m.StartedAt), clockTime(m.CheckedAt), took, strings.Join(m.Networks, ", "), check)
}

// waveRows show when waves were up, where there are some.
func waveRows(w io.Writer, all []api.RecoveryWave) {
	if len(all) < 2 {
		return
	}
	row(w)
	row(w, "WAVE", "MACHINES", "STARTED", "UP", "AFTER", "BY ITSELF")
	for _, x := range all {
		took, own := "—", "—"
		if x.TookSeconds != nil {
			took, own = moment(*x.TookSeconds), moment(*x.OwnSeconds)
		}
		row(w, x.Wave, x.Machines, clockTime(x.StartedAt), clockTime(x.UpAt), took, own)
	}
}

func drillPlan(w *tabwriter.Writer, p api.DrillPlan) {
	row(w, "Drill of", p.GroupName)
	row(w, "Point", fmt.Sprintf("%d, captured %s, %s-consistent, %s; a recovery from it would lose %s", p.PointNumber, clockTime(&p.CaptureAt), p.Consistency, p.Chosen, secs(p.LosesSeconds)))
	end := "open for " + secs(p.OpenForSeconds) + " at most, then cleared"
	if p.Once {
		end = "cleared as soon as all is checked"
	}
	row(w, "Ends", end)
	if p.RtoTargetSeconds > 0 {
		row(w, "RTO target", secs(p.RtoTargetSeconds))
	}
	if p.LastTookSeconds != nil {
		row(w, "Took", moment(*p.LastTookSeconds)+" in the last drill that passed")
	}
	for _, o := range p.Open {
		row(w, "◆", o)
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
	row(w, "Nothing was made.")
}

func (a *app) drillRoundCmd() *cobra.Command {
	c := &cobra.Command{Use: "round", Short: "Drills that begin by themselves, by calendar, one after the other"}
	var in api.NewDrillRound
	var at, zone, choose, of, tier, tag, hours string
	add := &cobra.Command{Use: "add NAME", Short: "Have drills begin by themselves", Args: cobra.ExactArgs(1),
		Long: `Have drills begin by themselves: at these times, of these groups one after the other, each
ended as soon as all is checked. What has not begun when the hours are over waits for the next
time; what is refused is told of, in the list and in the trail.`,
		Example: `  kestrel drill round add night --at "sun at 03:00" --zone Europe/Oslo --tag gold
  kestrel drill round add till --at "1st of the month at 02:00" --group Purser-desk --choose application --hours 2h`,
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			in = api.NewDrillRound{Name: args[0], At: at, Zone: strOr(zone), Choose: strOr(choose), Group: strOr(of), Tier: strOr(tier), Tag: strOr(tag)}
			if hours != "" {
				d, err := span.Parse(hours)
				if err != nil {
					return usage("--hours %s: %v", hours, err)
				}
				in.HoursSeconds = new(int64(d / time.Second))
			}
			v, err := read[api.DrillRound](c.AddDrillRound(cmd.Context(), in))
			if err != nil {
				return err
			}
			return a.emit(v, func(w *tabwriter.Writer) { roundTable(w, []api.DrillRound{v}) })
		})}
	f := add.Flags()
	f.StringVar(&at, "at", "", `when it begins, such as "sun at 03:00"`)
	f.StringVar(&zone, "zone", "", "time zone of --at, such as Europe/Oslo; UTC if left out")
	f.StringVar(&choose, "choose", "", "newest (the default), application (-consistent), proved or calm")
	f.StringVar(&of, "group", "", "only this group")
	f.StringVar(&tier, "tier", "", "only groups that follow this tier")
	f.StringVar(&tag, "tag", "", "only groups with this tag")
	f.StringVar(&hours, "hours", "", "for how long after its time drills begin; 6h if left out")
	add.MarkFlagsMutuallyExclusive("group", "tier", "tag")
	_ = add.MarkFlagRequired("at")
	c.AddCommand(add,
		&cobra.Command{Use: "list", Short: "Which there are, when the next begins, and what could not be tried", Args: cobra.NoArgs, Example: "  kestrel drill round list",
			RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
				all, err := read[[]api.DrillRound](c.ListDrillRounds(cmd.Context()))
				if err != nil {
					return err
				}
				return a.emit(all, func(w *tabwriter.Writer) {
					if len(all) == 0 {
						row(w, "None: no drill begins by itself. kestrel drill round add has some begin.")
						return
					}
					roundTable(w, all)
				})
			})},
		&cobra.Command{Use: "remove ROUND", Short: "Have them begin no more", Args: cobra.ExactArgs(1), Example: "  kestrel drill round remove night",
			RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
				if err := done(c.RemoveDrillRound(cmd.Context(), args[0])); err != nil {
					return err
				}
				return a.did("The drills of %s begin no more.", args[0])
			})})
	return c
}

func roundTable(w *tabwriter.Writer, all []api.DrillRound) {
	row(w, "ROUND", "BEGINS", "FROM", "OF", "NEXT", "LAST", "STILL TO TRY")
	for _, x := range all {
		from := "newest"
		if x.Choose != nil {
			from = *x.Choose
		}
		row(w, x.Name, x.Words, from, strings.Join(x.Groups, ", "), clockTime(x.NextAt), clockTime(x.BegunFor), x.Pending)
	}
	for _, x := range all {
		for _, f := range x.Refused {
			row(w, "▲ "+x.Name, clockTime(&f.At), f.Group+" was not tried: "+f.Why)
		}
	}
}
