package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
	"kestrel/internal/core/span"
)

func (a *app) pointCmd() *cobra.Command {
	c := &cobra.Command{Use: "point", Short: "Recovery points"}
	var group string
	list := &cobra.Command{Use: "list", Short: "List recovery points, newest first", Args: cobra.NoArgs, Example: "  kestrel point list --group Ticketing",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			ps, err := read[[]api.Point](c.ListPoints(cmd.Context(), &api.ListPointsParams{Group: strOr(group)}))
			if err != nil {
				return err
			}
			return a.emit(ps, func(w *tabwriter.Writer) {
				row(w, "POINT", "GROUP", "NO.", "CAPTURED", "LOSES", "CONSISTENT", "CHANGED", "HELD", "PIN", "IN USE", "LOST")
				for _, p := range ps {
					row(w, p.ID, p.GroupName, p.Number, clockTime(&p.CaptureAt), secs(p.LosesSeconds), consistency(p), size(p.ChangedBytes),
						map[bool]string{true: "here", false: "there"}[p.Held], map[bool]string{true: "◆"}[p.Pinned], map[bool]string{true: "yes"}[p.InUse], map[bool]string{true: "✕ " + size(p.LostBytes)}[p.LostBytes > 0])
				}
			})
		}}
	list.Flags().StringVarP(&group, "group", "g", "", "of this group")
	c.AddCommand(list, a.pointExportCmd(), a.pointPinCmd())
	one := func(name, short string, run func(ctx context.Context, c *api.Client, p api.Point) error) *cobra.Command {
		return &cobra.Command{Use: name + " POINT", Short: short, Args: cobra.ExactArgs(1), Example: "  kestrel point " + name + " Ticketing\n  kestrel point " + name + " Ticketing:42",
			Long: short + ".\n\nPOINT is an ID, GROUP for the newest point of a group, or GROUP:NUMBER.",
			RunE: func(cmd *cobra.Command, args []string) error {
				c, err := a.client()
				if err != nil {
					return err
				}
				p, err := findPoint(cmd.Context(), c, args[0])
				if err != nil {
					return err
				}
				return run(cmd.Context(), c, p)
			}}
	}
	mode := "read-only"
	serve := one("serve", "Serve a point's disks over NBD", func(ctx context.Context, c *api.Client, p api.Point) error {
		s, err := read[api.Share](c.CreateShare(ctx, api.NewShare{Point: p.ID, Mode: &mode}))
		if err != nil {
			return err
		}
		return a.emit(s, func(w *tabwriter.Writer) { shareTable(w, []api.Share{s}) })
	})
	serve.Flags().StringVar(&mode, "mode", mode, "read-only; throw-away: what is written is kept until it is unserved or the site restarts; lasting: until it is unserved")
	serve.Example += " --mode lasting"
	serve.Long += " The point itself never changes: what clients\nwrite, where --mode lets them, is kept beside it."
	c.AddCommand(serve,
		one("show", "One point with its machines and disks", func(_ context.Context, _ *api.Client, p api.Point) error {
			return a.emit(p, func(w *tabwriter.Writer) {
				row(w, "Point", p.ID)
				row(w, "Group", fmt.Sprintf("%s, point %d", p.GroupName, p.Number))
				row(w, "Captured", fmt.Sprintf("%s; loses %s", p.CaptureAt.Local().Format("2006-01-02 15:04:05.000 MST"), secs(p.LosesSeconds)))
				row(w, "Sealed", p.SealedAt.Local().Format("2006-01-02 15:04:05.000 MST"))
				row(w, "Consistent", consistency(p))
				if p.LostBytes > 0 {
					row(w, "Not whole", "✕ "+size(p.LostBytes)+" cannot be read: kestrel store losses")
				}
				row(w, "Content", p.Root)
				row(w, "Checkpoint", p.Checkpoint)
				row(w, "Bytes", fmt.Sprintf("%s used, %s changed, %s shipped", size(p.UsedBytes), size(p.ChangedBytes), size(p.ShippedBytes)))
				for _, m := range p.Machines {
					for _, n := range m.Nics {
						row(w, m.Name+" card", n.Mac+"  on "+n.Network+" at home")
					}
					if m.Quiesced {
						row(w, m.Name, "its file systems were at rest")
					}
					for _, d := range m.Disks {
						row(w, m.Name+" "+d.Key, size(d.SizeBytes)+"  "+d.Root)
					}
				}
			})
		}),
		one("unpin", "Give a point back to the ladder", func(ctx context.Context, c *api.Client, p api.Point) error {
			return done(c.UpdatePoint(ctx, p.ID, api.PointPatch{Pinned: false}))
		}),
		one("delete", "Delete a point", func(ctx context.Context, c *api.Client, p api.Point) error { return done(c.DeletePoint(ctx, p.ID)) }),
		&cobra.Command{Use: "served", Short: "List points that are served", Example: "  kestrel point served", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			ss, err := read[[]api.Share](c.ListShares(cmd.Context()))
			if err != nil {
				return err
			}
			return a.emit(ss, func(w *tabwriter.Writer) { shareTable(w, ss) })
		}},
		&cobra.Command{Use: "unserve SERVED", Short: "Stop serving a point (the ID from kestrel point served)", Example: "  kestrel point unserve 7c0e…", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			return done(c.DeleteShare(cmd.Context(), args[0]))
		}})
	return c
}

// consistency says what state the machines of a point are in together.
func consistency(p api.Point) string {
	switch {
	case !p.OneInstant:
		return p.Consistency + ", each at its own instant"
	case len(p.Machines) > 1:
		return p.Consistency + ", one instant"
	}
	return p.Consistency
}

func shareTable(w *tabwriter.Writer, ss []api.Share) {
	row(w, "SERVED", "POINT", "MACHINE", "DISK", "SIZE", "MODE", "CLIENTS", "ADDRESS")
	for _, s := range ss {
		for _, d := range s.Disks {
			mode := s.Mode
			if s.WrittenBytes > 0 {
				mode += ", " + size(s.WrittenBytes) + " written"
			}
			row(w, s.ID, fmt.Sprintf("%s:%d", s.GroupName, s.PointNumber), d.Machine, d.Disk, size(d.SizeBytes), mode, s.Clients, d.URI)
		}
	}
}

// findPoint resolves an ID, GROUP or GROUP:NUMBER.
func findPoint(ctx context.Context, c *api.Client, text string) (api.Point, error) {
	group, number, numbered := text, "", false
	if i := strings.LastIndex(text, ":"); i > 0 {
		group, number, numbered = text[:i], text[i+1:], true
	}
	ps, err := read[[]api.Point](c.ListPoints(ctx, &api.ListPointsParams{Group: &group}))
	if err == nil {
		for _, p := range ps {
			if !numbered || fmt.Sprint(p.Number) == number {
				return p, nil
			}
		}
		return api.Point{}, fmt.Errorf("%s has no such point", group)
	}
	return read[api.Point](c.GetPoint(ctx, text))
}

func (a *app) pointPinCmd() *cobra.Command {
	var until string
	c := &cobra.Command{Use: "pin POINT", Short: "Keep a point out of the ladder's reach", Args: cobra.ExactArgs(1), Example: "  kestrel point pin Ticketing:42 --for 30d",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			p, err := findPoint(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			in := api.PointPatch{Pinned: true}
			if until != "" {
				d, err := span.Parse(until)
				if err != nil {
					return usage("--for: %v", err)
				}
				t := time.Now().Add(d).UTC()
				in.Until = &t
			}
			return done(c.UpdatePoint(cmd.Context(), p.ID, in))
		}}
	c.Flags().StringVar(&until, "for", "", "how long (default: until it is unpinned)")
	return c
}

func (a *app) pointExportCmd() *cobra.Command {
	var to, format string
	var machines []string
	var noWait bool
	c := &cobra.Command{Use: "export POINT --to DIR", Short: "Write a point's disks as files on the site's host", Args: cobra.ExactArgs(1),
		Example: "  kestrel point export Ticketing --to /var/tmp/ticketing\n  kestrel point export Ticketing:42 --to /var/tmp/db -m tick-db --format qcow2",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			p, err := findPoint(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			if to == "" {
				return usage("give --to DIR")
			}
			// A path that was typed here is meant from here.
			if abs, err := filepath.Abs(to); err == nil {
				to = abs
			}
			in := api.ExportRequest{Directory: to, Format: &format}
			if len(machines) > 0 {
				in.Machines = &machines
			}
			op, err := read[api.Operation](c.ExportPoint(cmd.Context(), p.ID, in))
			if err != nil {
				return err
			}
			return a.follow(cmd.Context(), c, op, !noWait)
		}}
	c.Flags().StringVar(&to, "to", "", "folder on the site's host")
	c.Flags().StringVar(&format, "format", "raw", "raw or qcow2")
	c.Flags().StringArrayVarP(&machines, "machine", "m", nil, "only this machine; repeat for more")
	c.Flags().BoolVar(&noWait, "no-wait", false, "do not wait for it")
	return c
}

// follow shows an operation until it ends, and fails if it does.
func (a *app) follow(ctx context.Context, c *api.Client, op api.Operation, waitFor bool) error {
	b := a.newBar()
	for waitFor && op.State == api.OperationStateRunning {
		text := op.Kind
		if op.TotalBytes > 0 {
			text += fmt.Sprintf(" %d %% of %s", 100*op.DoneBytes/op.TotalBytes, size(op.TotalBytes))
			if op.BytesPerSecond > 0 {
				text += fmt.Sprintf(", %s/s", size(op.BytesPerSecond))
			}
			if op.FinishAt != nil {
				text += ", done about " + clockTime(op.FinishAt)
			}
		}
		if op.TotalBytes > 0 || b.tty {
			b.show(text)
		}
		if err := wait(ctx, 200*time.Millisecond); err != nil {
			b.end()
			return err
		}
		var err error
		if op, err = read[api.Operation](c.GetOperation(ctx, op.ID)); err != nil {
			return err
		}
	}
	b.end()
	if err := a.emit(op, func(w *tabwriter.Writer) { operationPage(w, op) }); err != nil {
		return err
	}
	if op.State == api.OperationStateFailed || op.State == api.OperationStateStopped {
		return fmt.Errorf("%s: %s", op.Kind, op.State)
	}
	return nil
}

func operationPage(w *tabwriter.Writer, o api.Operation) {
	for _, l := range o.Log {
		_, _ = fmt.Fprintln(w, l)
	}
	message := "still running: kestrel operation watch " + o.ID
	if o.Message != nil {
		message = *o.Message
	}
	_, _ = fmt.Fprintf(w, "%s of %s: %s. %s\n", o.Kind, o.Subject, o.State, message)
}

func (a *app) operationCmd() *cobra.Command {
	c := &cobra.Command{Use: "operation", Short: "Long work"}
	var limit int
	list := &cobra.Command{Use: "list", Short: "List operations, newest first", Args: cobra.NoArgs, Example: "  kestrel operation list", RunE: func(cmd *cobra.Command, _ []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		os, err := read[[]api.Operation](c.ListOperations(cmd.Context(), &api.ListOperationsParams{Limit: &limit}))
		if err != nil {
			return err
		}
		return a.emit(os, func(w *tabwriter.Writer) {
			row(w, "ID", "WHAT", "OF", "STATE", "STARTED", "BY", "DONE")
			for _, o := range os {
				share := "—"
				if o.TotalBytes > 0 {
					share = fmt.Sprintf("%d %%", 100*o.DoneBytes/o.TotalBytes)
				}
				row(w, o.ID, o.Kind, o.Subject, o.State, clockTime(&o.StartedAt), o.StartedBy, share)
			}
		})
	}}
	list.Flags().IntVarP(&limit, "limit", "n", 20, "how many")
	c.AddCommand(list,
		&cobra.Command{Use: "watch ID", Short: "Follow an operation to its end", Example: "  kestrel operation watch 2d9b…", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			op, err := read[api.Operation](c.GetOperation(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.follow(cmd.Context(), c, op, true)
		}},
		&cobra.Command{Use: "stop ID", Short: "Stop an operation", Example: "  kestrel operation stop 2d9b…", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			return done(c.CancelOperation(cmd.Context(), args[0]))
		}})
	return c
}
