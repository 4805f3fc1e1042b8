package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
	"kestrel/internal/core/ident"
	"kestrel/internal/core/span"
)

func (a *app) pointCmd() *cobra.Command {
	c := &cobra.Command{Use: "point", Short: "Recovery points"}
	c.AddCommand(a.pointListCmd(), a.pointExportCmd(), a.pointPinCmd(), a.pointLockCmd(), a.pointDeleteCmd(), a.pointStopCmd())
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
		s, err := read[api.Served](c.ServePoint(ctx, api.NewServed{Point: p.ID, Mode: &mode}))
		if err != nil {
			return err
		}
		return a.emit(s, func(w *tabwriter.Writer) { servedTable(w, []api.Served{s}) })
	})
	serve.Flags().StringVar(&mode, "mode", mode, "read-only; throw-away: what is written is kept until that ends or the site restarts; lasting: until it ends")
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
				if p.Pinned {
					row(w, "Pinned", pinText(p))
					if p.LockedUntil != nil {
						row(w, "Locked", "nobody can delete it before "+clockTime(p.LockedUntil))
					}
				}
				if text := unusualText(p); text != "" {
					row(w, "Unusual", text)
				}
				if p.ProvedAt != nil {
					row(w, "Proved", "✓ by a drill that passed, "+clockTime(p.ProvedAt))
				}
				if p.LostBytes > 0 {
					row(w, "Not whole", "✕ "+size(p.LostBytes)+" cannot be read: kestrel store losses")
				}
				row(w, "Content", p.Root)
				row(w, "Checkpoint", p.Checkpoint)
				row(w, "Bytes", fmt.Sprintf("%s used, %s changed, %s shipped", size(p.UsedBytes), size(p.ChangedBytes), size(p.ShippedBytes)))
				if p.AloneBytes != nil {
					row(w, "Alone", size(*p.AloneBytes)+" are needed by no other point; deleting it gives them back in the end")
				}
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
					if m.LeftOut != nil {
						for _, d := range *m.LeftOut {
							row(w, m.Name+" "+d.Key, size(d.SizeBytes)+"  left out ("+d.Label+"): made empty where the machine is started")
						}
					}
				}
			})
		}),
		one("unpin", "Give a point back to the ladder", func(ctx context.Context, c *api.Client, p api.Point) error {
			if _, err := read[api.Point](c.UpdatePoint(ctx, p.ID, api.PointPatch{Pinned: false})); err != nil {
				return err
			}
			return a.did("Point %d of %s is the ladder's again.", p.Number, p.GroupName)
		}),
		&cobra.Command{Use: "served", Short: "List points that are served", Example: "  kestrel point served", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			ss, err := read[[]api.Served](c.ListServed(cmd.Context()))
			if err != nil {
				return err
			}
			return a.emit(ss, func(w *tabwriter.Writer) { servedTable(w, ss) })
		}})
	return c
}

// noteText is what is wrong with a point, in short.
func noteText(p api.Point) string {
	var out []string
	if p.LostBytes > 0 {
		out = append(out, "✕ "+size(p.LostBytes)+" lost")
	}
	switch {
	case p.Unusual != nil:
		out = append(out, fmt.Sprintf("◆ unusual change; calm: %d", *p.CalmPoint))
	case p.CalmPoint != nil:
		out = append(out, "after an unusual change")
	}
	if p.ProvedAt != nil {
		out = append(out, "✓ proved by a drill")
	}
	return strings.Join(out, ", ")
}

// unusualText says what was unusual of a point's changes, or that it comes after such, and
// which is the newest before; empty if nothing was.
func unusualText(p api.Point) string {
	if p.CalmPoint == nil {
		return ""
	}
	text := "◆ after an unusual change."
	if p.Unusual != nil {
		text = "◆ " + *p.Unusual
	}
	if *p.CalmPoint == 0 {
		return text + " No point is left from before it."
	}
	return fmt.Sprintf("%s Point %d is the newest before it.", text, *p.CalmPoint)
}

func (a *app) pointListCmd() *cobra.Command {
	var group, before, after, consistent string
	var page pageFlags
	c := &cobra.Command{Use: "list", Short: "List recovery points, newest first", Args: cobra.NoArgs,
		Example: "  kestrel point list --group Ticketing\n  kestrel point list -g Ticketing --before \"2026-11-25 14:00\" --consistent application -n 1\n  kestrel point list --after 2h",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
			p := api.ListPointsParams{Group: strOr(group), Consistent: strOr(consistent), Sort: page.sorted(), Limit: page.most(), Skip: &page.skip}
			var err error
			if p.Before, err = instant("--before", before, false); err != nil {
				return err
			}
			if p.After, err = instant("--after", after, false); err != nil {
				return err
			}
			ps, err := read[[]api.Point](c.ListPoints(cmd.Context(), &p))
			if err != nil {
				return err
			}
			return a.emit(ps, func(w *tabwriter.Writer) {
				row(w, "POINT", "GROUP", "NO.", "CAPTURED", "LOSES", "CONSISTENT", "CHANGED", "ALONE", "HELD", "PIN", "IN USE", "NOTE")
				for _, p := range ps {
					row(w, p.ID, p.GroupName, p.Number, clockTime(&p.CaptureAt), secs(p.LosesSeconds), consistency(p), size(p.ChangedBytes), sizeOr(p.AloneBytes),
						heldText(p), pinText(p), map[bool]string{true: "yes"}[p.InUse], noteText(p))
				}
			})
		})}
	f := c.Flags()
	f.StringVarP(&group, "group", "g", "", "of this group")
	f.StringVar(&before, "before", "", `captured before: a time such as "2026-11-25 14:00", or how long ago, such as 2h`)
	f.StringVar(&after, "after", "", "captured after, likewise")
	f.StringVar(&consistent, "consistent", "", "application or crash")
	page.flags(c, "captured, changed or whole")
	return c
}

// heldText is where a point is.
func heldText(p api.Point) string {
	switch {
	case !p.Held:
		return "there"
	case len(p.Where) > 1:
		return "here, long-term"
	case slices.Contains(p.Where, "long-term store"):
		return "long-term"
	}
	return "here"
}

// instant reads a time as people write it: a date, with or without a time of day, in
// local time; RFC 3339; or a length of time from now, back or ahead.
func instant(flag, text string, ahead bool) (*time.Time, error) {
	if text == "" {
		return nil, nil
	}
	for _, layout := range []string{time.RFC3339, "2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02T15:04:05", "2006-01-02T15:04", "2006-01-02"} {
		if t, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			return new(t.UTC()), nil
		}
	}
	d, err := span.Parse(text)
	if err != nil {
		return nil, usage("%s: %q is neither a time such as \"2026-11-25 14:00\" nor a length of time such as 2h", flag, text)
	}
	if !ahead {
		d = -d
	}
	return new(time.Now().Add(d).UTC()), nil
}

func pinText(p api.Point) string {
	if p.LockedUntil != nil {
		return "▣ locked until " + clockTime(p.LockedUntil)
	}
	if !p.Pinned {
		return ""
	}
	t := "◆"
	if p.PinnedUntil != nil {
		t += " until " + clockTime(p.PinnedUntil)
	}
	if p.PinReason != nil {
		t += " " + *p.PinReason
	}
	return t
}

func (a *app) pointDeleteCmd() *cobra.Command {
	var yes bool
	c := &cobra.Command{Use: "delete POINT...", Short: "Delete points", Args: cobra.MinimumNArgs(1), Example: "  kestrel point delete Ticketing:42 Ticketing:43 --yes",
		Long: "Delete points.\n\nPOINT is an ID, GROUP for the newest point of a group, or GROUP:NUMBER.",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			var ps []api.Point
			var names []string
			for _, x := range args {
				p, err := findPoint(cmd.Context(), c, x)
				if err != nil {
					return err // before any is deleted
				}
				ps = append(ps, p)
				names = append(names, fmt.Sprintf("point %d of %s, captured %s", p.Number, p.GroupName, p.CaptureAt.Local().Format("2006-01-02 15:04:05")))
			}
			if err := a.confirm(yes, "This deletes %s for good.", strings.Join(names, "; ")); err != nil {
				return err
			}
			for i, p := range ps {
				if err := done(c.DeletePoint(cmd.Context(), p.ID)); err != nil {
					return partly{fmt.Errorf("%s: %w", names[i], err), err}
				}
			}
			return a.did("Deleted: %s.", strings.Join(names, "; "))
		})}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

func (a *app) pointStopCmd() *cobra.Command {
	return &cobra.Command{Use: "stop-serving SERVED...", Short: "Stop serving points (the IDs from kestrel point served)", Example: "  kestrel point stop-serving 7c0e…", Args: cobra.MinimumNArgs(1), RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
		for _, id := range args {
			if err := done(c.StopServing(cmd.Context(), id)); err != nil {
				return err
			}
		}
		return a.did("%s served no more.", map[bool]string{true: "It is", false: "They are"}[len(args) == 1])
	})}
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

func servedTable(w *tabwriter.Writer, ss []api.Served) {
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
	if ident.UUID(text) {
		return read[api.Point](c.GetPoint(ctx, text))
	}
	group, number, numbered := text, "", false
	if i := strings.LastIndex(text, ":"); i > 0 {
		group, number, numbered = text[:i], text[i+1:], true
	}
	p := api.ListPointsParams{Group: &group}
	if !numbered {
		p.Limit = new(1)
	}
	ps, err := read[[]api.Point](c.ListPoints(ctx, &p))
	if err != nil {
		return api.Point{}, err
	}
	for _, p := range ps {
		if !numbered || fmt.Sprint(p.Number) == number {
			return p, nil
		}
	}
	if numbered {
		return api.Point{}, notFound("%s has no point %s.", group, number)
	}
	return api.Point{}, notFound("%s has no point yet.", group)
}

func (a *app) pointPinCmd() *cobra.Command {
	var until, length, reason string
	c := &cobra.Command{Use: "pin POINT", Short: "Keep a point out of the ladder's reach", Args: cobra.ExactArgs(1), Example: "  kestrel point pin Ticketing:42 --for 30d --reason \"before the upgrade\"\n  kestrel point pin Ticketing:42 --until 2027-01-31",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			in := api.PointPatch{Pinned: true, Reason: strOr(reason)}
			if until != "" && length != "" {
				return usage("give --until or --for, not both")
			}
			var err error
			if in.Until, err = instant("--until", until+length, true); err != nil {
				return err
			}
			p, err := findPoint(cmd.Context(), c, args[0])
			if err == nil {
				p, err = read[api.Point](c.UpdatePoint(cmd.Context(), p.ID, in))
			}
			if err != nil {
				return err
			}
			return a.emit(p, func(w *tabwriter.Writer) {
				row(w, fmt.Sprintf("Point %d of %s is pinned %s", p.Number, p.GroupName, strings.TrimSpace(pinText(p))))
			})
		})}
	c.Flags().StringVar(&length, "for", "", "how long, such as 30d or 1y (default: until it is unpinned)")
	c.Flags().StringVar(&until, "until", "", "until a time, such as 2027-01-31")
	c.Flags().StringVar(&reason, "reason", "", "why")
	return c
}

func (a *app) pointLockCmd() *cobra.Command {
	var until, length, reason string
	c := &cobra.Command{Use: "lock POINT", Short: "Keep anybody from deleting a point until a time", Args: cobra.ExactArgs(1), Example: "  kestrel point lock Ticketing:42 --for 90d --reason \"for the auditors\"\n  kestrel point lock Ticketing:42 --until 2027-01-31",
		Long: `Keep anybody from deleting a point until a time: no role, no ladder, no other site
and no clock that was set makes a lock shorter. It can be made longer. What it holds
takes room until then.`,
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			if (until == "") == (length == "") {
				return usage("give --until or --for")
			}
			at, err := instant("--until", until+length, true)
			if err != nil {
				return err
			}
			p, err := findPoint(cmd.Context(), c, args[0])
			if err == nil {
				p, err = read[api.Point](c.LockPoint(cmd.Context(), p.ID, api.LockRequest{Until: *at, Reason: strOr(reason)}))
			}
			if err != nil {
				return err
			}
			return a.emit(p, func(w *tabwriter.Writer) {
				row(w, fmt.Sprintf("Point %d of %s is locked until %s", p.Number, p.GroupName, clockTime(p.LockedUntil)))
			})
		})}
	c.Flags().StringVar(&length, "for", "", "how long, such as 90d or 1y")
	c.Flags().StringVar(&until, "until", "", "until a time, such as 2027-01-31")
	c.Flags().StringVar(&reason, "reason", "", "why")
	return c
}

func (a *app) pointExportCmd() *cobra.Command {
	var to, format string
	var machines []string
	var noWait bool
	c := &cobra.Command{Use: "export POINT --to DIR", Short: "Write a point's disks as files on the site's host", Args: cobra.ExactArgs(1),
		Example: "  kestrel point export Ticketing --to /srv/kestrel/exports/ticketing\n  kestrel point export Ticketing:42 --to /srv/kestrel/exports/db -m tick-db --format qcow2",
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
			if err := done(c.CancelOperation(cmd.Context(), args[0])); err != nil {
				return err
			}
			return a.did("It is being stopped.")
		}})
	return c
}
