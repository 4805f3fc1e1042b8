package cli

import (
	"context"
	"fmt"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
	"kestrel/internal/core/span"
)

func (a *app) groupCmd() *cobra.Command {
	c := &cobra.Command{Use: "group", Short: "Protection groups"}
	c.AddCommand(a.groupListCmd(), a.groupCreateCmd(), a.groupEditCmd(), a.groupDeleteCmd(), a.groupForecastCmd(), a.groupCyclesCmd(), a.groupExposureCmd(), a.groupRunCmd(), a.groupPauseCmd(), a.groupResumeCmd(), a.groupKeepPointsCmd(), a.groupCopyToCmd(), a.groupMatchCmd(),
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

func (a *app) groupCopyToCmd() *cobra.Command {
	var confirm string
	c := &cobra.Command{Use: "copy-to GROUP SITE", Short: "Copy a group to another site from now on", Args: cobra.ExactArgs(2), Example: "  kestrel group copy-to Ticketing Carrach --confirm Ticketing",
		Long: `Have a group that is home here be copied to another site from now on, such as after a failover
whose other site is gone. A first copy is made there. The points at the site before stay there,
as those of a group that has ended; it hears of it when it can be reached.`,
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			g, err := read[api.Group](c.GetGroup(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			sure, err := a.sure(confirm, g.Name, []string{fmt.Sprintf("It is not copied to %s any more; its %s there stay. Until the first copy is at %s, they are all that protects it.", g.Recovery, count(g.Points, "point"), args[1])})
			if err != nil {
				return err
			}
			g, err = read[api.Group](c.CopyTo(cmd.Context(), g.ID, api.GroupDestination{Link: args[1], Confirm: sure}))
			if err != nil {
				return err
			}
			return a.emit(g, func(w *tabwriter.Writer) { groupPage(w, g) })
		})}
	c.Flags().StringVar(&confirm, "confirm", "", "the group's name, as it is")
	return c
}

func (a *app) groupKeepPointsCmd() *cobra.Command {
	var x chosen
	c := &cobra.Command{Use: "keep-points [GROUP...]", Short: "Keep points that another site wants deleted", Args: cobra.ArbitraryArgs, Example: "  kestrel group keep-points Ticketing",
		Long: `Keep the points here of a group that has ended, which its home site wants
deleted. Without this they go when the site's --deletion-wait is over, pinned ones
excepted; group show tells when.`,
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			gs, err := x.groups(cmd.Context(), c, args)
			if err != nil {
				return err
			}
			return a.each(gs, func(g api.Group) (api.Group, error) { return read[api.Group](c.StopDeletion(cmd.Context(), g.ID)) })
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
