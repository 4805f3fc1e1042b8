package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/span"
)

// promiseFlags are the flags of a promise.
type promiseFlags struct{ rpo, every, keep string }

func (p *promiseFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&p.rpo, "rpo", "", "RPO target, such as 15min")
	c.Flags().StringVar(&p.every, "every", "", `cadence, such as 5min; "hand" for cycles run by hand`)
	c.Flags().StringVar(&p.keep, "keep", "", `keep ladder, such as "all 6h, 1h 2d, 1d 14d"`)
}

// apply puts what was given over a promise.
func (p *promiseFlags) apply(to *api.Promise) error {
	if p.rpo != "" {
		d, err := span.Parse(p.rpo)
		if err != nil {
			return usage("--rpo: %v", err)
		}
		to.RpoTargetSeconds = int64(d / time.Second)
	}
	if p.every == "hand" {
		to.CadenceSeconds = 0
	} else if p.every != "" {
		d, err := span.Parse(p.every)
		if err != nil {
			return usage("--every: %v", err)
		}
		to.CadenceSeconds = int64(d / time.Second)
	}
	if p.keep != "" {
		l, err := ladder.Parse(p.keep)
		if err != nil {
			return usage("--keep: %v", err)
		}
		to.Keep = nil
		for _, r := range l {
			to.Keep = append(to.Keep, api.Rung{EachSeconds: int64(r.Each / time.Second), ForSeconds: int64(r.For / time.Second)})
		}
	}
	return nil
}

func (p *promiseFlags) given() bool { return p.rpo+p.every+p.keep != "" }

func keepText(rs []api.Rung) string {
	var l ladder.Ladder
	for _, r := range rs {
		l = append(l, ladder.Rung{Each: time.Duration(r.EachSeconds) * time.Second, For: time.Duration(r.ForSeconds) * time.Second})
	}
	return l.String()
}

const defaultKeep = "all 6h, 1h 2d, 1d 14d"

func (a *app) groupCmd() *cobra.Command {
	c := &cobra.Command{Use: "group", Short: "Protection groups"}
	c.AddCommand(a.groupCreateCmd(), a.groupEditCmd(), a.groupDeleteCmd(), a.groupForecastCmd(), a.groupCyclesCmd(), a.groupExposureCmd(), a.groupRunCmd(),
		&cobra.Command{Use: "list", Short: "List groups, worst first", Example: "  kestrel group list", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			gs, err := read[[]api.Group](c.ListGroups(cmd.Context()))
			if err != nil {
				return err
			}
			return a.emit(gs, func(w *tabwriter.Writer) { groupTable(w, gs) })
		}},
		&cobra.Command{Use: "show GROUP", Short: "One group in full", Example: "  kestrel group show Ticketing", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			g, err := read[api.Group](c.GetGroup(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.emit(g, func(w *tabwriter.Writer) { groupPage(w, g) })
		}},
		a.groupSwitch("pause", "Hold cycles; one under way stops where it is", (*api.Client).PauseGroup),
		a.groupSwitch("resume", "Let cycles run again", (*api.Client).ResumeGroup))
	return c
}

func groupPage(w *tabwriter.Writer, g api.Group) {
	row(w, "Group", g.Name)
	row(w, "Way", g.Home+" → "+g.Recovery)
	row(w, "State", mark(g.Health)+" "+g.Health)
	for _, r := range g.Reasons {
		row(w, "", r)
	}
	if g.ExposureSeconds != nil {
		row(w, "Would lose", fmt.Sprintf("%s of %s; headroom %s", secs(*g.ExposureSeconds), secs(g.Promise.RpoTargetSeconds), secs(*g.HeadroomSeconds)))
	} else {
		row(w, "Would lose", "everything: the first copy is not sealed yet")
	}
	row(w, "Backlog", sizeOr(g.BacklogBytes))
	every := "by hand"
	if g.Promise.CadenceSeconds > 0 {
		every = "every " + secs(g.Promise.CadenceSeconds)
	}
	row(w, "Promise", fmt.Sprintf("RPO %s, cycles %s, keep %s", secs(g.Promise.RpoTargetSeconds), every, keepText(g.Promise.Keep)))
	row(w, "Priority", g.Priority)
	compared := "only when asked"
	if g.CompareEverySeconds > 0 {
		compared = "every " + span.Format(time.Duration(g.CompareEverySeconds)*time.Second)
	}
	if g.ComparedAt != nil {
		compared += ", last " + clockTime(g.ComparedAt)
	}
	row(w, "Compared", compared)
	if g.KeepHere || g.PointsAtHome > 0 {
		row(w, "At home", fmt.Sprintf("points kept at %s as well: %d", g.Home, g.PointsAtHome))
	}
	if g.LostPoints > 0 {
		row(w, "Not whole", fmt.Sprintf("✕ points: %d", g.LostPoints))
	}
	row(w, "Points", fmt.Sprintf("%d, oldest %s, newest %s", g.Points, clockTime(g.OldestCaptureAt), clockTime(g.NewestCaptureAt)))
	row(w, "Next cycle", clockTime(g.NextStartAt))
	if g.Running != nil {
		row(w, "Running", progressText(*g.Running))
	}
	if c := g.LastCycle; c != nil {
		row(w, "Last cycle", cycleText(*c))
	}
	if len(g.Machines) > 1 && !g.Together {
		row(w, "Machines", "each captured at its own instant")
	} else {
		row(w, "Machines")
	}
	for _, m := range g.Machines {
		row(w, "", fmt.Sprintf("%s: %s, %s, backlog %s%s", m.Name, count(m.Disks, "disk"), size(m.SizeBytes), sizeOr(m.BacklogBytes), quietText(m)))
	}
}

// quietText says how a machine was brought to rest at the last capture.
func quietText(m api.GroupMachine) string {
	q := m.LastQuiet
	switch {
	case q != nil && q.Done:
		return fmt.Sprintf("; file systems at rest, held %.0f ms", q.HeldMillis)
	case q != nil && q.Why != nil:
		return fmt.Sprintf("; file systems NOT at rest: %s (held %.0f ms)", *q.Why, q.HeldMillis)
	case m.Quiesce:
		return "; file systems to be brought to rest"
	case q != nil:
		return fmt.Sprintf("; held still %.0f ms", q.HeldMillis)
	}
	return ""
}

func progressText(r api.Progress) string {
	t := r.Phase
	if r.TotalBytes > 0 {
		t += fmt.Sprintf(" %s of %s (%d %%)", size(r.ReadBytes), size(r.TotalBytes), 100*r.ReadBytes/r.TotalBytes)
	}
	if r.BytesPerSecond > 0 {
		t += fmt.Sprintf(", %s/s", size(r.BytesPerSecond))
	}
	if r.FinishAt != nil {
		t += ", done about " + clockTime(r.FinishAt)
	}
	return t
}

func cycleText(c api.Cycle) string {
	t := fmt.Sprintf("%d (%s) %s at %s", c.Number, c.Kind, c.State, clockTime(&c.StartedAt))
	if c.EndedAt != nil {
		t += fmt.Sprintf(", took %s", c.EndedAt.Sub(c.StartedAt).Round(time.Millisecond))
	}
	t += fmt.Sprintf("; %s changed, %s shipped, %s on the link", size(c.ChangedBytes), size(c.ShippedBytes), size(c.WireBytes))
	if c.Error != nil {
		t += "; " + *c.Error
	}
	return t
}

func (a *app) groupSwitch(name, short string, call func(*api.Client, context.Context, string, ...api.RequestEditorFn) (*http.Response, error)) *cobra.Command {
	return &cobra.Command{Use: name + " GROUP", Short: short, Example: "  kestrel group " + name + " Ticketing", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		g, err := read[api.Group](call(c, cmd.Context(), args[0]))
		if err != nil {
			return err
		}
		return a.emit(g, func(w *tabwriter.Writer) { groupTable(w, []api.Group{g}) })
	}}
}

func (a *app) groupRunCmd() *cobra.Command {
	var waitFor, compare bool
	c := &cobra.Command{Use: "run GROUP", Short: "Start a cycle now", Args: cobra.ExactArgs(1), Example: "  kestrel group run Ticketing --wait\n  kestrel group run Ticketing --compare",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			before, err := read[api.Group](c.GetGroup(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			g, err := read[api.Group](c.RunCycle(cmd.Context(), before.ID, &api.RunCycleParams{Compare: &compare}))
			if err != nil {
				return err
			}
			if waitFor {
				return a.waitSealed(cmd.Context(), c, before)
			}
			return a.emit(g, func(w *tabwriter.Writer) { groupTable(w, []api.Group{g}) })
		}}
	c.Flags().BoolVar(&waitFor, "wait", false, "wait until a point is sealed")
	c.Flags().BoolVar(&compare, "compare", false, "read all of the disks, to find what changed without the platform's reporting it")
	return c
}

// spanOr reads a span of time in seconds; nil if it was not given.
func spanOr(flag, text string) (*int64, error) {
	if text == "" {
		return nil, nil
	}
	if text == "0" {
		return new(int64), nil
	}
	d, err := span.Parse(text)
	if err != nil {
		return nil, usage("%s: %q is no span of time; write it like 30d", flag, text)
	}
	return new(int64(d / time.Second)), nil
}

// waitSealed waits until a group has a newer point than before, and shows
// progress meanwhile.
func (a *app) waitSealed(ctx context.Context, c *api.Client, before api.Group) error {
	bar := a.newBar()
	for {
		g, err := read[api.Group](c.GetGroup(ctx, before.ID))
		if err != nil {
			return err
		}
		if g.NewestCaptureAt != nil && (before.NewestCaptureAt == nil || g.NewestCaptureAt.After(*before.NewestCaptureAt)) && g.Running == nil {
			bar.end()
			return a.emit(g, func(w *tabwriter.Writer) { groupPage(w, g) })
		}
		if g.Running != nil {
			bar.show(progressText(*g.Running))
		} else {
			bar.show(strings.Join(append([]string{g.Health}, g.Reasons...), " · "))
		}
		if err := wait(ctx, 300*time.Millisecond); err != nil {
			bar.end()
			return err
		}
	}
}

// bar is a line of progress on a terminal; elsewhere a line now and then.
type bar struct {
	a    *app
	tty  bool
	last string
	at   time.Time
}

func (a *app) newBar() *bar { return &bar{a: a, tty: isTerminal(a.Err)} }

func (b *bar) show(text string) {
	switch {
	case b.tty:
		_, _ = fmt.Fprintf(b.a.Err, "\r\x1b[K%s", text)
	case text != b.last && time.Since(b.at) > 5*time.Second:
		_, _ = fmt.Fprintln(b.a.Err, text)
		b.at = time.Now()
	}
	b.last = text
}

func (b *bar) end() {
	if b.tty {
		_, _ = fmt.Fprint(b.a.Err, "\r\x1b[K")
	}
}

func (a *app) groupCreateCmd() *cobra.Command {
	var in api.NewGroup
	var p promiseFlags
	var paused, waitFor, dry, apart bool
	var quiesce []string
	var priority, compareEvery string
	var keepHere bool
	c := &cobra.Command{Use: "create NAME", Short: "Protect machines together", Args: cobra.ExactArgs(1),
		Example: `  kestrel group create Ticketing -m tick-db -m tick-app --to Eastmole --rpo 5min --every 2min --keep "all 6h, 1h 2d"
  kestrel group create Ticketing -m tick-db --to Eastmole --rpo 5min --every 2min --dry-run`,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if p.rpo == "" || p.every == "" {
				return usage("give --rpo and --every")
			}
			if p.keep == "" {
				p.keep = defaultKeep
			}
			if err := p.apply(&in.Promise); err != nil {
				return err
			}
			in.Name, in.Paused = args[0], &paused
			if len(quiesce) > 0 {
				in.Quiesce = &quiesce
			}
			if apart {
				in.Together = new(false)
			}
			in.Priority, in.KeepHere = strOr(priority), &keepHere
			if in.CompareEverySeconds, err = spanOr("--compare-every", compareEvery); err != nil {
				return err
			}
			if in.Machines == nil {
				in.Machines = []string{}
			}
			if dry {
				return a.showForecast(cmd.Context(), c, api.ForecastRequest{Promise: in.Promise, Machines: &in.Machines})
			}
			g, err := read[api.Group](c.CreateGroup(cmd.Context(), in))
			if err != nil {
				return err
			}
			if waitFor {
				return a.waitSealed(cmd.Context(), c, g)
			}
			return a.emit(g, func(w *tabwriter.Writer) { groupPage(w, g) })
		}}
	f := c.Flags()
	f.StringArrayVarP(&in.Machines, "machine", "m", nil, "a machine (name or ID); repeat for more")
	f.StringVar(&in.Link, "to", "", "recovery site")
	f.BoolVar(&paused, "paused", false, "make it paused")
	f.BoolVar(&waitFor, "wait", false, "wait until the first copy is sealed")
	f.BoolVar(&dry, "dry-run", false, "only show what it would lead to")
	f.StringArrayVar(&quiesce, "quiesce", nil, "a machine whose guest brings its file systems to rest at each capture (needs its guest agent); repeat for more")
	f.BoolVar(&apart, "apart", false, "capture machines one by one instead of holding them still for one instant")
	f.StringVar(&priority, "priority", "", "high, normal or low: the share of a limited link, 4 to 2 to 1 (default normal)")
	f.StringVar(&compareEvery, "compare-every", "", "read all of the disks after this time and not only what the platform reports as changed, such as 30d (default only when asked)")
	f.BoolVar(&keepHere, "keep-here", false, "keep points at the home site as well, by the same ladder")
	p.add(c)
	_ = c.MarkFlagRequired("to")
	return c
}

func (a *app) groupEditCmd() *cobra.Command {
	var p promiseFlags
	var name, priority, compareEvery string
	var keepHere bool
	var machines, quiesce []string
	var together bool
	c := &cobra.Command{Use: "edit GROUP", Short: "Change name, machines, promise or how it is captured", Args: cobra.ExactArgs(1),
		Example: "  kestrel group edit Ticketing --every 1min\n  kestrel group edit Ticketing -m tick-db -m tick-app -m tick-web\n  kestrel group edit Boarding --quiesce boarding-db\n  kestrel group edit Boarding --quiesce none --together=false",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			g, err := read[api.Group](c.GetGroup(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			patch := api.GroupPatch{Name: strOr(name), Priority: strOr(priority)}
			if cmd.Flags().Changed("keep-here") {
				patch.KeepHere = &keepHere
			}
			if patch.CompareEverySeconds, err = spanOr("--compare-every", compareEvery); err != nil {
				return err
			}
			if p.given() {
				if err := p.apply(&g.Promise); err != nil {
					return err
				}
				patch.Promise = &g.Promise
			}
			if len(machines) > 0 {
				patch.Machines = &machines
			}
			if len(quiesce) == 1 && quiesce[0] == "none" {
				quiesce = []string{}
			}
			if cmd.Flags().Changed("quiesce") {
				patch.Quiesce = &quiesce
			}
			if cmd.Flags().Changed("together") {
				patch.Together = &together
			}
			if patch == (api.GroupPatch{}) {
				return usage("say what to change: --name, --machine, --rpo, --every, --keep, --quiesce, --together, --priority, --compare-every or --keep-here")
			}
			if g, err = read[api.Group](c.UpdateGroup(cmd.Context(), g.ID, patch)); err != nil {
				return err
			}
			return a.emit(g, func(w *tabwriter.Writer) { groupPage(w, g) })
		}}
	c.Flags().StringVar(&name, "name", "", "new name")
	c.Flags().StringArrayVarP(&machines, "machine", "m", nil, "all machines of the group from now on; repeat for more")
	c.Flags().StringArrayVar(&quiesce, "quiesce", nil, "machines whose guests bring their file systems to rest; repeat for more, none for none")
	c.Flags().StringVar(&priority, "priority", "", "high, normal or low: the share of a limited link")
	c.Flags().StringVar(&compareEvery, "compare-every", "", "read all of the disks after this time, such as 30d; 0 for only when asked")
	c.Flags().BoolVar(&keepHere, "keep-here", false, "keep points at the home site as well; =false for no longer")
	c.Flags().BoolVar(&together, "together", true, "hold machines still for one instant; --together=false captures them one by one")
	p.add(c)
	return c
}

func (a *app) groupDeleteCmd() *cobra.Command {
	var pts, confirm string
	var withoutPeer bool
	c := &cobra.Command{Use: "delete GROUP", Short: "End a group; say what becomes of its points", Args: cobra.ExactArgs(1),
		Example: "  kestrel group delete Ticketing --points keep --confirm Ticketing",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			g, err := read[api.Group](c.GetGroup(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			if pts != "keep" && pts != "delete" {
				return usage("say --points keep or --points delete: %s has %d", g.Name, g.Points)
			}
			if confirm != g.Name {
				return usage("this ends %s; to go on, add --confirm %q", g.Name, g.Name)
			}
			if err := done(c.DeleteGroup(cmd.Context(), g.ID, &api.DeleteGroupParams{Points: &pts, WithoutPeer: &withoutPeer})); err != nil {
				return err
			}
			a.say("%s is deleted; points: %s.", g.Name, map[string]string{"keep": "kept at " + g.Recovery, "delete": "deleted"}[pts])
			return nil
		}}
	c.Flags().StringVar(&pts, "points", "", "keep or delete")
	c.Flags().StringVar(&confirm, "confirm", "", "the group's name")
	c.Flags().BoolVar(&withoutPeer, "without-peer", false, "although the recovery site cannot be told; its points stay there")
	return c
}

func (a *app) groupForecastCmd() *cobra.Command {
	var p promiseFlags
	c := &cobra.Command{Use: "forecast GROUP", Short: "What a change of the promise would lead to", Args: cobra.ExactArgs(1), Example: "  kestrel group forecast Ticketing --every 30s",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			g, err := read[api.Group](c.GetGroup(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			if err := p.apply(&g.Promise); err != nil {
				return err
			}
			ms := []string{}
			for _, m := range g.Machines {
				ms = append(ms, m.Name)
			}
			return a.showForecast(cmd.Context(), c, api.ForecastRequest{Promise: g.Promise, Machines: &ms, Group: &g.ID})
		}}
	p.add(c)
	return c
}

func (a *app) showForecast(ctx context.Context, c *api.Client, in api.ForecastRequest) error {
	f, err := read[api.Forecast](c.Forecast(ctx, in))
	if err != nil {
		return err
	}
	err = a.emit(f, func(w *tabwriter.Writer) {
		for _, x := range f.Faults {
			row(w, "✕ "+x.Field, x.Message)
		}
		for _, x := range f.Warnings {
			row(w, "! "+x.Field, x.Message)
		}
		if len(f.Faults) > 0 {
			return
		}
		var starts []string
		for _, t := range f.Starts {
			starts = append(starts, clockTime(&t))
		}
		row(w, "Next starts", strings.Join(starts, "  "))
		row(w, "Points", fmt.Sprintf("%d, back to %s", f.Points, secs(f.OldestSeconds)))
		row(w, "Worst exposure", secs(f.WorstSeconds))
		row(w, "First copy", size(f.UsedBytes))
		row(w, "Space at most", size(f.SpaceBytes))
	})
	if err == nil && len(f.Faults) > 0 {
		return errors.New("this promise cannot be made")
	}
	return err
}

func (a *app) groupCyclesCmd() *cobra.Command {
	var limit int
	c := &cobra.Command{Use: "cycles GROUP", Short: "Cycles, newest first", Args: cobra.ExactArgs(1), Example: "  kestrel group cycles Ticketing -n 10",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			cs, err := read[[]api.Cycle](c.ListCycles(cmd.Context(), args[0], &api.ListCyclesParams{Limit: &limit}))
			if err != nil {
				return err
			}
			return a.emit(cs, func(w *tabwriter.Writer) {
				row(w, "CYCLE", "KIND", "STATE", "STARTED", "TOOK", "READ", "CHANGED", "SHIPPED", "ON THE LINK", "TRIES", "NOTE")
				for _, x := range cs {
					took, note := "—", ""
					if x.EndedAt != nil {
						took = x.EndedAt.Sub(x.StartedAt).Round(time.Millisecond).String()
					}
					if x.Error != nil {
						note = *x.Error
					} else if x.Note != nil {
						note = *x.Note
					}
					row(w, x.Number, x.Kind, x.State, clockTime(&x.StartedAt), took, size(x.ReadBytes), size(x.ChangedBytes), size(x.ShippedBytes), size(x.WireBytes), x.Attempts, note)
				}
			})
		}}
	c.Flags().IntVarP(&limit, "limit", "n", 20, "how many")
	return c
}

func (a *app) groupExposureCmd() *cobra.Command {
	var back string
	c := &cobra.Command{Use: "exposure GROUP", Short: "How the target was kept over a stretch of time", Args: cobra.ExactArgs(1), Example: "  kestrel group exposure Ticketing --back 7d",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			d, err := span.Parse(back)
			if err != nil {
				return usage("--back: %v", err)
			}
			from := time.Now().Add(-d)
			e, err := read[api.Exposure](c.GetExposure(cmd.Context(), args[0], &api.GetExposureParams{From: &from}))
			if err != nil {
				return err
			}
			return a.emit(e, func(w *tabwriter.Writer) {
				row(w, "Kept its target", fmt.Sprintf("%.2f %% of the time", 100*e.KeptShare))
				row(w, "Worst", fmt.Sprintf("%s at %s, target %s", secs(e.WorstSeconds), clockTime(e.WorstAt), secs(e.TargetSeconds)))
				row(w, "Over target", secs(e.OverSeconds))
				row(w, "", strip(e.Vertices, e.From, e.To, e.TargetSeconds, 80, colours(isTerminal(a.Out))))
			})
		}}
	c.Flags().StringVar(&back, "back", "24h", "how far back")
	return c
}
