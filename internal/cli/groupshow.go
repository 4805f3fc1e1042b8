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

func groupPage(w *tabwriter.Writer, g api.Group) {
	row(w, "Group", g.Name)
	row(w, "Way", g.Home+" → "+g.Recovery)
	row(w, "State", stateText(g))
	for _, r := range g.Reasons {
		row(w, "", r)
	}
	if g.Cause != nil && g.Cause.Mend != nil {
		row(w, "Mend", *g.Cause.Mend)
	}
	if g.Since != nil && g.Health != "on target" {
		row(w, "So since", clockTime(g.Since))
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
	if s := g.Space; s != nil {
		row(w, "In the store", fmt.Sprintf("%s; deleting its points here gives back %s", size(s.NeededBytes), size(s.AloneBytes)))
	}
	row(w, "Promise", fmt.Sprintf("RPO %s, cycles %s, keep %s", secs(g.Promise.RpoTargetSeconds), cadenceText(g.Promise), keepText(g.Promise.Keep)))
	if g.Promise.Quiet != nil {
		row(w, "Quiet", *g.Promise.Quiet+" ("+*g.Promise.Zone+")")
	}
	if g.Promise.Calendar != nil {
		row(w, "Calendar", strings.Join(*g.Promise.Calendar, "  "))
	}
	if t := g.Tier; t != nil {
		row(w, "Tier", fmt.Sprintf("%s (revision %d)", t.Name, t.Revision))
		for _, d := range t.Differs {
			row(w, "", "differs: "+d.Field+" "+d.Own+", not "+d.Tier+": "+d.Reason)
		}
	}
	if g.RtoTargetSeconds > 0 {
		row(w, "RTO target", secs(g.RtoTargetSeconds))
	}
	if g.DrillEverySeconds > 0 {
		row(w, "Drill", "every "+secs(g.DrillEverySeconds))
	}
	row(w, "Priority", g.Priority)
	compared := "only when asked"
	if g.CompareEverySeconds > 0 {
		compared = "every " + secs(g.CompareEverySeconds)
	}
	if g.ComparedAt != nil {
		compared += ", last " + clockTime(g.ComparedAt)
	}
	row(w, "Compared", compared)
	if g.LockSeconds > 0 {
		row(w, "Locked", "each point for "+secs(g.LockSeconds)+" after it was sealed")
	}
	if g.HomePoints || g.HomePointCount > 0 {
		row(w, "At home", fmt.Sprintf("points kept at %s as well: %d", g.Home, g.HomePointCount))
	}
	if g.HomeKeep != nil {
		row(w, "", "kept there: "+*g.HomeKeep)
	}
	if g.LostPoints > 0 {
		row(w, "Not whole", fmt.Sprintf("✕ points: %d", g.LostPoints))
	}
	row(w, "Points", fmt.Sprintf("%d, oldest %s, newest %s", g.Points, clockTime(g.OldestCaptureAt), clockTime(g.NewestCaptureAt)))
	row(w, "Next cycle", clockTime(g.NextStartAt))
	if g.Waiting != nil {
		row(w, "Waits", *g.Waiting)
	}
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
		row(w, "", fmt.Sprintf("%s: %s, %s, backlog %s%s", m.Name, disksText(m), size(m.SizeBytes), sizeOr(m.BacklogBytes), quietText(m)))
	}
	if g.Rule != nil {
		row(w, "Rule", fmt.Sprintf("%s (order %d)", g.Rule.Match, g.Rule.Order))
	}
	if g.NewDisks == "flag" {
		row(w, "New disks", "flagged, and not copied until somebody decides")
	}
}

// cadenceText says when cycles start.
func cadenceText(p api.Promise) string {
	if p.Cadence == nil {
		return "by hand"
	}
	if p.Calendar != nil {
		return *p.Cadence + " (" + *p.Zone + ")"
	}
	return *p.Cadence
}

// disksText counts the disks that are copied, and names those that are not.
func disksText(m api.GroupMachine) string {
	copied := 0
	var left, open []string
	for _, d := range m.Disks {
		switch {
		case d.Undecided != nil && *d.Undecided:
			open = append(open, d.Label)
		case d.LeftOut:
			left = append(left, d.Label)
		default:
			copied++
		}
	}
	t := count(copied, "disk")
	if m.ByRule != nil {
		t = "by rule, " + t
	}
	if len(left) > 0 {
		t += " (left out: " + strings.Join(left, ", ") + ")"
	}
	if len(open) > 0 {
		t += " (✕ new and NOT copied: " + strings.Join(open, ", ") + "; decide with --without-disk)"
	}
	return t
}

// quietText says how a machine was brought to rest at the last capture, and what may be
// asked of it.
func quietText(m api.GroupMachine) string {
	t := lastRest(m)
	if m.RestFailures != nil && *m.RestFailures > 0 {
		t += fmt.Sprintf("; not at rest at %d of the last %d", *m.RestFailures, *m.RestTries)
	}
	q := m.Quiesce
	if q == nil {
		return t
	}
	if q.Mode == "required" {
		t += "; no point without"
	}
	if q.EveryNth != nil {
		t += fmt.Sprintf("; at one of %d captures", *q.EveryNth)
	}
	return t
}

func lastRest(m api.GroupMachine) string {
	q := m.LastQuiet
	if q != nil && q.After != nil {
		return "; ✕ " + *q.After
	}
	switch {
	case q != nil && q.Done:
		return fmt.Sprintf("; file systems at rest, held %.0f ms", q.HeldMillis)
	case q != nil && q.Why != nil:
		return fmt.Sprintf("; file systems NOT at rest: %s (held %.0f ms)", *q.Why, q.HeldMillis)
	case m.Quiesce != nil:
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

func (a *app) groupCyclesCmd() *cobra.Command {
	var limit int
	var since string
	var byDisk bool
	c := &cobra.Command{Use: "cycles GROUP", Short: "Cycles, newest first", Args: cobra.ExactArgs(1), Example: "  kestrel group cycles Ticketing -n 10\n  kestrel group cycles Ticketing --since 6h\n  kestrel group cycles Ticketing --by-disk --since 7d",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			p := &api.ListCyclesParams{Limit: &limit}
			if since != "" {
				if p.Since, err = backOrTime(since); err != nil {
					return usage("--since %s: %v", since, err)
				}
				if !cmd.Flags().Changed("limit") {
					p.Limit = nil
				}
			}
			if byDisk {
				v, err := read[api.Carried](c.GetCarried(cmd.Context(), args[0], &api.GetCarriedParams{Since: p.Since}))
				if err != nil {
					return err
				}
				return a.emit(v, func(w *tabwriter.Writer) { carriedTable(w, v) })
			}
			cs, err := read[[]api.Cycle](c.ListCycles(cmd.Context(), args[0], p))
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
	c.Flags().StringVar(&since, "since", "", "all that began since a length of time ago, such as 6h, a day, or an instant")
	c.Flags().BoolVar(&byDisk, "by-disk", false, "what cycles came to in all, disk by disk; of a day if --since is not given")
	return c
}

func carriedTable(w io.Writer, v api.Carried) {
	row(w, "MACHINE", "DISK", "READ", "CHANGED", "SHIPPED", "ON THE LINK", "RATIO")
	for _, d := range v.Disks {
		ratio := "—"
		if d.WireBytes > 0 && d.ShippedBytes > 0 {
			ratio = fmt.Sprintf("%.1f : 1", float64(d.ShippedBytes)/float64(d.WireBytes))
		}
		row(w, d.Name, d.Label, size(d.ReadBytes), size(d.ChangedBytes), size(d.ShippedBytes), size(d.WireBytes), ratio)
	}
	row(w)
	row(w, fmt.Sprintf("%s since %s", count(v.Cycles, "cycle"), clockTime(&v.From)))
}

// backOrTime reads a length of time as an instant so long ago, a day as its beginning here,
// or an instant.
func backOrTime(text string) (*time.Time, error) {
	if d, err := span.Parse(text); err == nil {
		return new(time.Now().Add(-d).UTC()), nil
	}
	t, err := dayOrTime(text)
	return &t, err
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
