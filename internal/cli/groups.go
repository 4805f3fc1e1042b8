package cli

import (
	"context"
	"fmt"
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
	c.Flags().StringVar(&p.keep, "keep", "", `keep ladder, such as "all 6h, 1h 2d, 1d 14d", "24 hourly, 7 daily" or "3 a day for 5 days"`)
}

// read gives what was given, read by the rules that the API has too.
func (p *promiseFlags) read() (*api.PromisePatch, error) {
	if p.rpo+p.every+p.keep == "" {
		return nil, nil
	}
	out := &api.PromisePatch{}
	if p.rpo != "" {
		d, err := span.Parse(p.rpo)
		if err != nil {
			return nil, usage("--rpo: %v", err)
		}
		out.RpoTargetSeconds = new(int64(d / time.Second))
	}
	if p.every == "hand" {
		out.CadenceSeconds = new(int64)
	} else if p.every != "" {
		d, err := span.Parse(p.every)
		if err != nil {
			return nil, usage("--every: %v", err)
		}
		out.CadenceSeconds = new(int64(d / time.Second))
	}
	if p.keep != "" {
		l, err := ladder.Parse(p.keep)
		if err != nil {
			return nil, usage("--keep: %v", err)
		}
		out.Keep = &[]api.Rung{}
		for _, r := range l {
			*out.Keep = append(*out.Keep, api.Rung{EachSeconds: int64(r.Each / time.Second), ForSeconds: int64(r.For / time.Second)})
		}
	}
	return out, nil
}

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
	c.AddCommand(a.groupListCmd(), a.groupCreateCmd(), a.groupEditCmd(), a.groupDeleteCmd(), a.groupForecastCmd(), a.groupCyclesCmd(), a.groupExposureCmd(), a.groupRunCmd(), a.groupPauseCmd(), a.groupResumeCmd(),
		&cobra.Command{Use: "show GROUP", Short: "One group in full", Example: "  kestrel group show Ticketing", Args: cobra.ExactArgs(1), RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			g, err := read[api.Group](c.GetGroup(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.emit(g, func(w *tabwriter.Writer) { groupPage(w, g) })
		})})
	return c
}

func (a *app) groupListCmd() *cobra.Command {
	var q, tag, direction, health string
	var page pageFlags
	c := &cobra.Command{Use: "list", Short: "List groups, worst first", Example: "  kestrel group list\n  kestrel group list --tag gold --health over\n  kestrel group list --sort -backlog --limit 10", Args: cobra.NoArgs, RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
		gs, err := read[[]api.Group](c.ListGroups(cmd.Context(), &api.ListGroupsParams{Q: strOr(q), Tag: strOr(tag), Direction: strOr(direction), Health: strOr(health), Sort: page.sorted(), Limit: page.most(), Skip: &page.skip}))
		if err != nil {
			return err
		}
		return a.emit(gs, func(w *tabwriter.Writer) { groupTable(w, gs) })
	})}
	c.Flags().StringVarP(&q, "search", "s", "", "words in name, sites, machines or tags")
	c.Flags().StringVar(&tag, "tag", "", "with this tag")
	c.Flags().StringVar(&direction, "direction", "", "out, in or ended")
	c.Flags().StringVar(&health, "health", "", "over, stalled, \"cut off\", tight, seeding, paused or \"on target\"")
	page.flags(c, "name, exposure, target, backlog, points or next")
	return c
}

func groupPage(w *tabwriter.Writer, g api.Group) {
	row(w, "Group", g.Name)
	row(w, "Way", g.Home+" → "+g.Recovery)
	row(w, "State", stateText(g))
	for _, r := range g.Reasons {
		row(w, "", r)
	}
	switch {
	case g.Direction == api.Ended:
		row(w, "Next", "kestrel landing create "+quoted(g.Name)+" --platform …, or kestrel point list -g "+quoted(g.Name))
	case g.ExposureSeconds != nil:
		row(w, "Would lose", fmt.Sprintf("%s of %s; headroom %s", secs(*g.ExposureSeconds), secs(g.Promise.RpoTargetSeconds), secs(*g.HeadroomSeconds)))
	default:
		row(w, "Would lose", "everything: the first copy is not sealed yet")
	}
	if len(g.Tags) > 0 {
		row(w, "Tags", strings.Join(g.Tags, ", "))
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
		compared = "every " + secs(g.CompareEverySeconds)
	}
	if g.ComparedAt != nil {
		compared += ", last " + clockTime(g.ComparedAt)
	}
	row(w, "Compared", compared)
	if g.HomePoints || g.HomePointCount > 0 {
		row(w, "At home", fmt.Sprintf("points kept at %s as well: %d", g.Home, g.HomePointCount))
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
		t += ", took " + span.Precise(c.EndedAt.Sub(c.StartedAt))
	}
	t += fmt.Sprintf("; %s changed, %s shipped, %s on the link", size(c.ChangedBytes), size(c.ShippedBytes), size(c.WireBytes))
	if c.Error != nil {
		t += "; " + *c.Error
	}
	return t
}

// chosen are the groups that a command is about: those named, or all that are home
// here and carry a tag.
type chosen struct {
	all bool
	tag string
}

func (x *chosen) add(c *cobra.Command) {
	c.Flags().BoolVar(&x.all, "all", false, "all groups that go out from this site")
	c.Flags().StringVar(&x.tag, "tag", "", "all groups that go out from this site and carry this tag")
}

func (x *chosen) groups(ctx context.Context, c *api.Client, args []string) ([]api.Group, error) {
	switch {
	case len(args) > 0 && (x.all || x.tag != ""), x.all && x.tag != "":
		return nil, usage("name groups, or give --all or --tag, not both")
	case len(args) == 0 && !x.all && x.tag == "":
		return nil, usage("name one or more groups, or give --all or --tag")
	}
	if len(args) == 0 {
		gs, err := read[[]api.Group](c.ListGroups(ctx, &api.ListGroupsParams{Tag: strOr(x.tag), Direction: strOr("out")}))
		if err == nil && len(gs) == 0 {
			return nil, notFound("No group goes out from this site%s.", map[bool]string{true: " with the tag " + x.tag}[x.tag != ""])
		}
		return gs, err
	}
	var out []api.Group
	for _, name := range args {
		g, err := read[api.Group](c.GetGroup(ctx, name))
		if err != nil {
			return nil, err // before anything is done to any
		}
		out = append(out, g)
	}
	return out, nil
}

// each does something to several groups, goes on if one refuses, and says how each
// stands then.
func (a *app) each(gs []api.Group, f func(g api.Group) (api.Group, error)) error {
	done := []api.Group{}
	var first error
	for _, g := range gs {
		v, err := f(g)
		if err != nil {
			if len(gs) == 1 {
				return err
			}
			_, _ = fmt.Fprintf(a.Err, "kestrel: %s: %s\n", g.Name, err)
			if first == nil {
				first = err
			}
			continue
		}
		done = append(done, v)
	}
	if err := a.emit(done, func(w *tabwriter.Writer) { groupTable(w, done) }); err != nil {
		return err
	}
	if first != nil {
		return partly{fmt.Errorf("%d of %d groups refused", len(gs)-len(done), len(gs)), first}
	}
	return nil
}

func (a *app) groupPauseCmd() *cobra.Command {
	var x chosen
	var until, reason string
	c := &cobra.Command{Use: "pause [GROUP...]", Short: "Hold cycles; one under way stops where it is", Args: cobra.ArbitraryArgs,
		Example: "  kestrel group pause Ticketing --for 2h --reason \"array swap\"\n  kestrel group pause --tag gold",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			in := api.PauseRequest{Reason: strOr(reason)}
			if until != "" {
				d, err := span.Parse(until)
				if err != nil {
					return usage("--for: %v", err)
				}
				in.ForSeconds = new(int64(d / time.Second))
			}
			gs, err := x.groups(cmd.Context(), c, args)
			if err != nil {
				return err
			}
			return a.each(gs, func(g api.Group) (api.Group, error) { return read[api.Group](c.PauseGroup(cmd.Context(), g.ID, in)) })
		})}
	x.add(c)
	c.Flags().StringVar(&until, "for", "", "resume by itself after this time, such as 2h (default: when it is resumed)")
	c.Flags().StringVar(&reason, "reason", "", "why; shown with the group")
	return c
}

func (a *app) groupResumeCmd() *cobra.Command {
	var x chosen
	c := &cobra.Command{Use: "resume [GROUP...]", Short: "Let cycles run again", Args: cobra.ArbitraryArgs, Example: "  kestrel group resume Ticketing\n  kestrel group resume --all",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			gs, err := x.groups(cmd.Context(), c, args)
			if err != nil {
				return err
			}
			return a.each(gs, func(g api.Group) (api.Group, error) { return read[api.Group](c.ResumeGroup(cmd.Context(), g.ID)) })
		})}
	x.add(c)
	return c
}

func (a *app) groupRunCmd() *cobra.Command {
	var x chosen
	var waitFor, compare bool
	c := &cobra.Command{Use: "run [GROUP...]", Short: "Start a cycle now", Args: cobra.ArbitraryArgs, Example: "  kestrel group run Ticketing --wait\n  kestrel group run Ticketing --compare\n  kestrel group run --tag gold",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			gs, err := x.groups(cmd.Context(), c, args)
			if err != nil {
				return err
			}
			ask := func(g api.Group) (api.Group, error) {
				return read[api.Group](c.RunCycle(cmd.Context(), g.ID, &api.RunCycleParams{Compare: &compare}))
			}
			if len(gs) == 1 && waitFor {
				if _, err := ask(gs[0]); err != nil {
					return err
				}
				g, err := a.awaitSealed(cmd.Context(), c, gs[0])
				if err != nil {
					return err
				}
				return a.emit(g, func(w *tabwriter.Writer) { groupPage(w, g) })
			}
			return a.each(gs, func(g api.Group) (api.Group, error) {
				v, err := ask(g)
				if err != nil || !waitFor {
					return v, err
				}
				return a.awaitSealed(cmd.Context(), c, g)
			})
		})}
	x.add(c)
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

// awaitSealed waits until a group has a newer point than before, and shows progress
// meanwhile.
func (a *app) awaitSealed(ctx context.Context, c *api.Client, before api.Group) (api.Group, error) {
	bar := a.newBar()
	for {
		g, err := read[api.Group](c.GetGroup(ctx, before.ID))
		if err != nil {
			return g, err
		}
		if g.NewestCaptureAt != nil && (before.NewestCaptureAt == nil || g.NewestCaptureAt.After(*before.NewestCaptureAt)) && g.Running == nil {
			bar.end()
			return g, nil
		}
		if g.Running != nil {
			bar.show(progressText(*g.Running))
		} else {
			bar.show(strings.Join(append([]string{g.Health}, g.Reasons...), " · "))
		}
		if err := wait(ctx, 300*time.Millisecond); err != nil {
			bar.end()
			return g, err
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
	var paused, waitFor, dry, apart, homePoints bool
	var quiesce, tags []string
	var priority, compareEvery string
	c := &cobra.Command{Use: "create NAME", Short: "Protect machines together", Args: cobra.ExactArgs(1),
		Example: `  kestrel group create Ticketing -m tick-db -m tick-app --to Eastmole --rpo 5min --every 2min --keep "all 6h, 1h 2d"
  kestrel group create Ticketing -m tick-db --to Eastmole --rpo 5min --every 2min --dry-run`,
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			if p.rpo == "" || p.every == "" {
				return usage("give --rpo and --every")
			}
			if p.keep == "" {
				p.keep = defaultKeep
			}
			patch, err := p.read()
			if err != nil {
				return err
			}
			if in.Machines == nil {
				in.Machines = []string{}
			}
			if dry {
				return a.showForecast(cmd.Context(), c, api.ForecastRequest{Name: &args[0], Link: &in.Link, Promise: patch, Machines: &in.Machines})
			}
			in.Name, in.Paused = args[0], &paused
			in.Promise = &api.Promise{RpoTargetSeconds: *patch.RpoTargetSeconds, CadenceSeconds: *patch.CadenceSeconds, Keep: *patch.Keep}
			if len(quiesce) > 0 {
				in.Quiesce = &quiesce
			}
			if len(tags) > 0 {
				in.Tags = &tags
			}
			if apart {
				in.Together = new(false)
			}
			in.Priority, in.HomePoints = strOr(priority), &homePoints
			if in.CompareEverySeconds, err = spanOr("--compare-every", compareEvery); err != nil {
				return err
			}
			g, err := read[api.Group](c.CreateGroup(cmd.Context(), in))
			if err == nil && waitFor {
				g, err = a.awaitSealed(cmd.Context(), c, g)
			}
			if err != nil {
				return err
			}
			return a.emit(g, func(w *tabwriter.Writer) { groupPage(w, g) })
		})}
	f := c.Flags()
	f.StringArrayVarP(&in.Machines, "machine", "m", nil, "a machine (name or ID); repeat for more")
	f.StringVar(&in.Link, "to", "", "recovery site")
	f.BoolVar(&paused, "paused", false, "make it paused")
	f.BoolVar(&waitFor, "wait", false, "wait until the first copy is sealed")
	f.BoolVar(&dry, "dry-run", false, "only check it and show what it would lead to")
	f.StringArrayVar(&tags, "tag", nil, "a tag, for choosing groups and for who may see them; repeat for more")
	f.StringArrayVar(&quiesce, "quiesce", nil, "a machine whose guest brings its file systems to rest at each capture (needs its guest agent); repeat for more")
	f.BoolVar(&apart, "apart", false, "capture machines one by one instead of holding them still for one instant")
	f.StringVar(&priority, "priority", "", "high, normal or low: the share of a limited link, 4 to 2 to 1 (default normal)")
	f.StringVar(&compareEvery, "compare-every", "", "read all of the disks after this time and not only what the platform reports as changed, such as 30d (default only when asked)")
	f.BoolVar(&homePoints, "home-points", false, "keep points at the home site as well, by the same ladder")
	p.add(c)
	_ = c.MarkFlagRequired("to")
	return c
}

func (a *app) groupEditCmd() *cobra.Command {
	var p promiseFlags
	var name, priority, compareEvery string
	var machines, quiesce, tags []string
	var together, homePoints, dry, dropPoints bool
	c := &cobra.Command{Use: "edit GROUP", Short: "Change name, tags, machines, promise or how it is captured", Args: cobra.ExactArgs(1),
		Long: `Change a group. What is not given stays as it is. An edit that somebody else has
overtaken changes nothing and says what they did. A shorter keep ladder that would
drop points at once shows which, and needs --drop-points.`,
		Example: "  kestrel group edit Ticketing --every 1min\n  kestrel group edit Ticketing --keep \"24 hourly, 7 daily\" --dry-run\n  kestrel group edit Ticketing -m tick-db -m tick-app -m tick-web\n  kestrel group edit Boarding --quiesce none --together=false",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			g, err := read[api.Group](c.GetGroup(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			given := cmd.Flags().Changed
			patch := api.GroupPatch{Name: strOr(name), Priority: strOr(priority)}
			if given("home-points") {
				patch.HomePoints = &homePoints
			}
			if patch.CompareEverySeconds, err = spanOr("--compare-every", compareEvery); err != nil {
				return err
			}
			if patch.Promise, err = p.read(); err != nil {
				return err
			}
			if len(machines) > 0 {
				patch.Machines = &machines
			}
			if given("quiesce") {
				patch.Quiesce = orNone(quiesce)
			}
			if given("tag") {
				patch.Tags = orNone(tags)
			}
			if given("together") {
				patch.Together = &together
			}
			if patch == (api.GroupPatch{}) {
				return usage("say what to change: --name, --tag, --machine, --rpo, --every, --keep, --quiesce, --together, --priority, --compare-every or --home-points")
			}
			if dry {
				return a.showPreview(cmd.Context(), c, g, patch)
			}
			if dropPoints {
				patch.DropPoints = &dropPoints
			}
			// What was looked at a moment ago is what is changed.
			match := fmt.Sprintf("%q", fmt.Sprint(g.Revision))
			if g, err = read[api.Group](c.UpdateGroup(cmd.Context(), g.ID, &api.UpdateGroupParams{IfMatch: &match}, patch)); err != nil {
				return err
			}
			return a.emit(g, func(w *tabwriter.Writer) { groupPage(w, g) })
		})}
	f := c.Flags()
	f.StringVar(&name, "name", "", "new name")
	f.StringArrayVar(&tags, "tag", nil, "all tags of the group from now on; repeat for more, none for none")
	f.StringArrayVarP(&machines, "machine", "m", nil, "all machines of the group from now on; repeat for more")
	f.StringArrayVar(&quiesce, "quiesce", nil, "machines whose guests bring their file systems to rest; repeat for more, none for none")
	f.StringVar(&priority, "priority", "", "high, normal or low: the share of a limited link")
	f.StringVar(&compareEvery, "compare-every", "", "read all of the disks after this time, such as 30d; 0 for only when asked")
	f.BoolVar(&homePoints, "home-points", false, "keep points at the home site as well; =false for no longer")
	f.BoolVar(&together, "together", true, "hold machines still for one instant; --together=false captures them one by one")
	f.BoolVar(&dry, "dry-run", false, "only show what it would change, and lead to")
	f.BoolVar(&dropPoints, "drop-points", false, "allow that a shorter keep ladder drops points at once")
	p.add(c)
	return c
}

// orNone reads a list in which the one word none is an empty list.
func orNone(xs []string) *[]string {
	if len(xs) == 1 && xs[0] == "none" {
		xs = []string{}
	}
	return &xs
}

// showPreview shows an edit before it is made.
func (a *app) showPreview(ctx context.Context, c *api.Client, g api.Group, patch api.GroupPatch) error {
	v, err := read[api.Preview](c.PreviewGroup(ctx, g.ID, patch))
	if err != nil {
		return err
	}
	err = a.emit(v, func(w *tabwriter.Writer) {
		for _, x := range v.Changes {
			row(w, x.Field, x.From+" → "+x.To)
		}
		if len(v.Changes) == 0 && len(v.Faults) == 0 {
			row(w, "Nothing would change.")
		}
		if v.DropsPoints > 0 {
			left := "none"
			if v.OldestLeftAt != nil {
				left = clockTime(v.OldestLeftAt)
			}
			row(w, "! drops at once", fmt.Sprintf("%s: numbers %s; oldest left %s. Allow it with --drop-points, or pin those that are to stay.", count(v.DropsPoints, "point"), numbers(v.DropsNumbers), left))
		}
		forecastRows(w, v.Forecast)
	})
	if err == nil && len(v.Faults) > 0 {
		return refused("this change cannot be made")
	}
	return err
}

func numbers(ns *[]int64) string {
	if ns == nil {
		return "not known here"
	}
	var out []string
	for _, n := range *ns {
		out = append(out, fmt.Sprint(n))
	}
	if len(out) > 12 {
		return fmt.Sprintf("%s and %d more", strings.Join(out[:12], ", "), len(out)-12)
	}
	return strings.Join(out, ", ")
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
			return a.did("%s is deleted; points: %s.", g.Name, map[string]string{"keep": "kept at " + g.Recovery, "delete": "deleted"}[pts])
		}}
	c.Flags().StringVar(&pts, "points", "", "keep or delete")
	c.Flags().StringVar(&confirm, "confirm", "", "the group's name")
	c.Flags().BoolVar(&withoutPeer, "without-peer", false, "although the recovery site cannot be told; its points stay there")
	return c
}

func (a *app) groupForecastCmd() *cobra.Command {
	var p promiseFlags
	c := &cobra.Command{Use: "forecast GROUP", Short: "What a change of the promise would lead to", Args: cobra.ExactArgs(1), Example: "  kestrel group forecast Ticketing --every 30s",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			g, err := read[api.Group](c.GetGroup(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			patch, err := p.read()
			if err != nil {
				return err
			}
			return a.showForecast(cmd.Context(), c, api.ForecastRequest{Promise: patch, Group: &g.ID})
		})}
	p.add(c)
	return c
}

func (a *app) showForecast(ctx context.Context, c *api.Client, in api.ForecastRequest) error {
	f, err := read[api.Forecast](c.Forecast(ctx, in))
	if err != nil {
		return err
	}
	err = a.emit(f, func(w *tabwriter.Writer) { forecastRows(w, f) })
	if err == nil && len(f.Faults) > 0 {
		return refused("this cannot be promised")
	}
	return err
}

func forecastRows(w *tabwriter.Writer, f api.Forecast) {
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
	if len(starts) == 0 {
		starts = []string{"by hand"}
	}
	row(w, "Next starts", strings.Join(starts, "  "))
	row(w, "Points", fmt.Sprintf("%d, back to %s", f.Points, secs(f.OldestSeconds)))
	worst := "as long as nobody runs a cycle"
	if f.WorstSeconds != nil {
		worst = secs(*f.WorstSeconds)
		if f.CycleSeconds != nil {
			worst += ", with cycles of " + span.Precise(time.Duration(*f.CycleSeconds*float64(time.Second)))
		}
	}
	row(w, "Worst exposure", worst)
	row(w, "First copy", size(f.UsedBytes))
	row(w, "Space at most", size(f.SpaceBytes))
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
						took = span.Precise(x.EndedAt.Sub(x.StartedAt))
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
				row(w, "Kept its target", fmt.Sprintf("%.2f %% of the time, judged by the target of the time", 100*e.KeptShare))
				for _, t := range e.Targets[min(1, len(e.Targets)):] {
					if t.Since.After(e.From) {
						row(w, "Target", secs(t.Seconds)+" since "+clockTime(&t.Since))
					}
				}
				row(w, "Worst", fmt.Sprintf("%s at %s, target %s", secs(e.WorstSeconds), clockTime(e.WorstAt), secs(e.TargetSeconds)))
				row(w, "Over target", secs(e.OverSeconds))
				row(w, "", strip(e.Vertices, e.From, e.To, e.TargetSeconds, 80, colours(isTerminal(a.Out))))
			})
		}}
	c.Flags().StringVar(&back, "back", "24h", "how far back")
	return c
}
