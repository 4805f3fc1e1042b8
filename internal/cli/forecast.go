package cli

import (
	"context"
	"fmt"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
	"kestrel/internal/core/cadence"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/span"
)

// promiseFlags are the flags of a promise.
type promiseFlags struct {
	rpo, every, keep, quiet, zone string
	least                         int
}

func (p *promiseFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&p.rpo, "rpo", "", "RPO target, such as 15min")
	c.Flags().StringVar(&p.every, "every", "", `cadence, such as 5min; "15min or sooner", the most that may pass; "back to back"; "hand" for cycles run by hand; or times such as "weekdays at 02:00" or "last friday of the month at 22:00"`)
	c.Flags().StringVar(&p.quiet, "quiet", "", `when no cycle starts by itself, such as "mon-fri 08:00-18:00; 2026-12-24 to 2026-12-26"; none for never`)
	c.Flags().StringVar(&p.zone, "zone", "", "time zone of times and dates, such as Europe/Oslo (default UTC)")
	c.Flags().IntVar(&p.least, "least-points", 0, "how many of the newest points always stay, whatever the ladder says, up to 100")
	c.Flags().StringVar(&p.keep, "keep", "", `keep ladder, such as "all 6h, 1h 2d, 1d 14d", "24 hourly, 7 daily" or "3 a day for 5 days"; a rung may end in locked: nobody deletes what it keeps`)
}

// read gives what was given, read by the rules that the API has too.
func (p *promiseFlags) read() (*api.PromisePatch, error) {
	if *p == (promiseFlags{}) {
		return nil, nil
	}
	out := &api.PromisePatch{Quiet: strOr(p.quiet), Zone: strOr(p.zone)}
	if p.least != 0 {
		out.LeastPoints = &p.least
	}
	if p.rpo != "" {
		d, err := span.Parse(p.rpo)
		if err != nil {
			return nil, usage("--rpo: %v", err)
		}
		out.RpoTargetSeconds = new(int64(d / time.Second))
	}
	if p.every != "" {
		c, err := cadence.Parse(p.every, p.zone)
		if err != nil {
			return nil, usage("--every: %v", err)
		}
		if out.CadenceSeconds = new(int64(c.Every / time.Second)); c.Every == 0 {
			out.CadenceSeconds, out.Cadence = nil, &p.every
		}
	}
	if p.quiet != "" {
		if _, err := cadence.ParseQuiet(p.quiet, p.zone); err != nil {
			return nil, usage("--quiet: %v", err)
		}
	}
	if p.keep != "" {
		l, err := ladder.Parse(p.keep)
		if err != nil {
			return nil, usage("--keep: %v", err)
		}
		out.Keep = &[]api.Rung{}
		for _, r := range l {
			x := api.Rung{EachSeconds: int64(r.Each / time.Second), ForSeconds: int64(r.For / time.Second)}
			if r.Locked {
				x.Locked = &r.Locked
			}
			if r.LongTerm {
				x.LongTerm = &r.LongTerm
			}
			if r.Months > 0 {
				x.Months = &r.Months
			}
			*out.Keep = append(*out.Keep, x)
		}
	}
	return out, nil
}

// text gives what was given as it was written.
func (p *promiseFlags) text() *api.PromiseText {
	if *p == (promiseFlags{}) {
		return nil
	}
	t := &api.PromiseText{RpoTarget: strOr(p.rpo), Cadence: strOr(p.every), Quiet: strOr(p.quiet), Zone: strOr(p.zone), Keep: strOr(p.keep)}
	if p.least != 0 {
		t.LeastPoints = &p.least
	}
	return t
}

// whole is a promise of which target, cadence and ladder are given.
func whole(p *api.PromisePatch) *api.Promise {
	out := &api.Promise{RpoTargetSeconds: *p.RpoTargetSeconds, Cadence: p.Cadence, Quiet: p.Quiet, Zone: p.Zone, LeastPoints: p.LeastPoints, Keep: *p.Keep}
	if p.CadenceSeconds != nil {
		out.CadenceSeconds = *p.CadenceSeconds
	}
	return out
}

func keepText(rs []api.Rung) string {
	var l ladder.Ladder
	for _, r := range rs {
		l = append(l, ladder.Rung{Each: time.Duration(r.EachSeconds) * time.Second, For: time.Duration(r.ForSeconds) * time.Second, Locked: r.Locked != nil && *r.Locked, Months: valueOf(r.Months), LongTerm: valueOf(r.LongTerm)})
	}
	return l.String()
}

func valueOf[T any](p *T) (v T) {
	if p != nil {
		v = *p
	}
	return v
}

const defaultKeep = "all 6h, 1h 2d, 1d 14d"

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
		starts = append(starts, clockTime(&t.At))
	}
	switch {
	case len(starts) > 0:
	case f.Promise.Cadence != nil && *f.Promise.Cadence == "back to back":
		starts = []string{"as soon as the one before has ended"}
	default:
		starts = []string{"by hand"}
	}
	row(w, "Next starts", strings.Join(starts, "  "))
	for _, t := range f.Starts {
		if t.Note != nil {
			row(w, "", clockTime(&t.At)+": "+*t.Note)
		}
	}
	row(w, "Points", fmt.Sprintf("%d, back to %s", f.Points, secs(f.OldestSeconds)))
	if f.Later != nil {
		for _, l := range *f.Later {
			text := fmt.Sprintf("%d", l.Points)
			if l.OldestAt != nil {
				text += ", back to " + secs(l.AfterSeconds-int64(time.Until(*l.OldestAt)/time.Second))
			}
			if l.SpaceBytes > 0 {
				text += ", " + size(l.SpaceBytes) + " before compression"
			}
			row(w, "  after "+secs(l.AfterSeconds), text)
		}
	}
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
