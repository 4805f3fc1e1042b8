package cli

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
	"kestrel/internal/report"
)

// maxReport is how large a written report may be.
const maxReport = 64 << 20 // bytes

// reportFlags say what a report is of.
type reportFlags struct {
	when                stretch
	by, tier, tag, peer string
}

func (f *reportFlags) which(c *cobra.Command) {
	c.Flags().StringVar(&f.by, "by", "", "what attainment is summed up by: group (if left out), tier, tag or site")
	c.Flags().StringVar(&f.tier, "tier", "", "only groups that follow this tier")
	c.Flags().StringVar(&f.tag, "tag", "", "only groups with this tag")
	c.Flags().StringVar(&f.peer, "peer", "", "only groups whose other site this is")
}

func (f *reportFlags) params() (*api.GetReportParams, error) {
	p := &api.GetReportParams{By: strOr(f.by), Tier: strOr(f.tier), Tag: strOr(f.tag), Peer: strOr(f.peer)}
	var err error
	p.From, p.To, err = f.when.read()
	return p, err
}

func (a *app) reportCmd() *cobra.Command {
	var f reportFlags
	c := &cobra.Command{Use: "report", Short: "Attainment, coverage, change and capacity over a time", Args: cobra.NoArgs,
		Example: "  kestrel report\n  kestrel report --last 7d --by tier\n  kestrel report write november.pdf --from 2026-11-01 --to 2026-12-01",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
			p, err := f.params()
			if err != nil {
				return err
			}
			v, err := read[api.Report](c.GetReport(cmd.Context(), p))
			if err != nil {
				return err
			}
			return a.emit(v, func(w *tabwriter.Writer) { reportText(w, v) })
		})}
	f.when.flags(c, "30d")
	f.which(c)
	c.AddCommand(a.reportWriteCmd(), a.reportPlanCmd())
	return c
}

func reportText(w *tabwriter.Writer, v api.Report) {
	for _, text := range report.Summary(v) {
		row(w, text)
	}
	row(w)
	attainmentTable(w, v.Attainment, v.By)
	if len(v.Days) > 0 {
		row(w)
		row(w, "DAY (UTC)", "WITHIN", "OVER", "WORST", "SEALED", "FAILED", "MISSED", "CHANGED", "SENT")
		for _, d := range v.Days {
			within := "no point yet"
			if d.CoveredSeconds > 0 {
				within = report.Share(d.KeptShare)
			}
			row(w, d.At.Format("2006-01-02"), within, secs(d.OverSeconds), secs(d.WorstSeconds), d.Sealed, d.Failed, d.Missed, size(d.ChangedBytes), size(d.WireBytes))
		}
	}
	if len(v.Drills.Rows) > 0 {
		row(w)
		row(w, "DRILL OF", "BEGAN", "POINT", "RESULT", "RAN AFTER", "RTO TARGET")
		for _, d := range v.Drills.Rows {
			took, target := "—", "—"
			if d.TookSeconds != nil {
				took = secs(*d.TookSeconds)
			}
			if d.RtoTargetSeconds > 0 {
				target = secs(d.RtoTargetSeconds)
			}
			row(w, d.Group, clockTime(&d.StartedAt), d.Point, d.Result, took, target)
		}
	}
	if len(v.Drills.Due) > 0 {
		row(w)
		row(w, "DRILL DUE OF", "SINCE", "LAST PASSED")
		for _, d := range v.Drills.Due {
			row(w, d.Group, clockTime(&d.DueAt), clockTime(d.LastAt))
		}
	}
	if len(v.Failovers) > 0 {
		row(w)
		row(w, "FAILOVER OF", "FROM", "BEGAN", "KIND", "STATE", "LOST", "RPO TARGET", "RAN AFTER", "RTO TARGET")
		for _, f := range v.Failovers {
			took, target := "—", "—"
			if f.TookSeconds != nil {
				took = secs(*f.TookSeconds)
			}
			if f.RtoTargetSeconds > 0 {
				target = secs(f.RtoTargetSeconds)
			}
			row(w, f.Group, f.Home, clockTime(&f.StartedAt), kindOf(f.Planned), f.State, lostWord(f.LosesSeconds, nil), secs(f.RpoTargetSeconds), took, target)
		}
	}
	if len(v.Links) > 0 {
		row(w)
		row(w, "LINK", "OUT", "AT MOST", "IN", "AT MOST")
		for _, l := range v.Links {
			row(w, l.Peer, size(l.OutMean)+"/s", size(l.OutMost)+"/s", size(l.InMean)+"/s", size(l.InMost)+"/s")
		}
	}
}

func (a *app) reportWriteCmd() *cobra.Command {
	var f reportFlags
	var table string
	c := &cobra.Command{Use: "write FILE", Short: "Write a report to a file: a document, a table or JSON, by its ending", Args: cobra.ExactArgs(1),
		Example: "  kestrel report write november.pdf --from 2026-11-01 --to 2026-12-01\n  kestrel report write days.csv --table days --last 90d",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			p, err := f.params()
			if err != nil {
				return err
			}
			format := strings.TrimPrefix(strings.ToLower(filepath.Ext(args[0])), ".")
			switch format {
			case "pdf", "csv", "json":
			default:
				return usage("%s: the file ends with .pdf, .csv or .json", args[0])
			}
			p.Format, p.Table = &format, strOr(table)
			res, err := c.GetReport(cmd.Context(), p)
			if err != nil {
				_, err = read[api.Report](res, err)
				return err
			}
			defer func() { _ = res.Body.Close() }()
			if res.StatusCode >= 300 {
				return done(res, nil)
			}
			b, err := io.ReadAll(io.LimitReader(res.Body, maxReport))
			if err != nil {
				return fmt.Errorf("read the report: %w", err)
			}
			if err := os.WriteFile(args[0], b, 0o600); err != nil {
				return fmt.Errorf("write the report: %w", err)
			}
			return a.did("Written: %s (%s).", args[0], size(int64(len(b))))
		})}
	f.when.flags(c, "30d")
	f.which(c)
	c.Flags().StringVar(&table, "table", "", "which table, of .csv: attainment (if left out), days, coverage, stores or links")
	return c
}

func (a *app) reportPlanCmd() *cobra.Command {
	c := &cobra.Command{Use: "plan", Short: "Reports that are sent by calendar"}
	c.AddCommand(a.planListCmd(), a.planAddCmd(), a.planEditCmd(), a.planSendCmd(), a.planDeleteCmd())
	return c
}

func planTable(w *tabwriter.Writer, all []api.ReportPlan) {
	row(w, "", "PLAN", "OF THE LAST", "SENT", "TO", "BY", "OF", "NEXT", "LAST")
	for _, x := range all {
		m, next := "●", clockTime(x.NextAt)
		if x.Off != nil && *x.Off {
			m, next = "○", "it is off"
		}
		by, of := "group", "all groups"
		if x.By != nil {
			by = *x.By
		}
		var only []string
		for _, y := range []struct {
			what string
			text *string
		}{{"tier ", x.Tier}, {"tag ", x.Tag}, {"with ", x.Peer}} {
			if y.text != nil {
				only = append(only, y.what+*y.text)
			}
		}
		if len(only) > 0 {
			of = strings.Join(only, ", ")
		}
		row(w, m, x.Name, x.Over, x.Words, strings.Join(x.Channels, ", "), by, of, next, clockTime(x.LastAt))
	}
}

func (a *app) planListCmd() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "Which there are, and when the next is sent", Args: cobra.NoArgs, Example: "  kestrel report plan list", RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
		all, err := read[[]api.ReportPlan](c.ListReportPlans(cmd.Context()))
		if err != nil {
			return err
		}
		return a.emit(all, func(w *tabwriter.Writer) {
			if len(all) == 0 {
				row(w, "None: no report is sent by itself. kestrel report plan add has one sent.")
				return
			}
			planTable(w, all)
		})
	})}
}

// planFlags are what is said of a plan.
type planFlags struct {
	reportFlags
	over, at, zone string
	to             []string
}

func (f *planFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&f.over, "over", "month", "what it is of: the last whole day, week or month")
	c.Flags().StringVar(&f.at, "at", "", `when it is sent, such as "mon at 07:00" or "1st of the month at 07:00"`)
	c.Flags().StringVar(&f.zone, "zone", "", "time zone of --at and of days, such as Europe/Oslo; UTC if left out")
	c.Flags().StringSliceVar(&f.to, "to", nil, "channel; give it again for more")
	f.which(c)
}

func (f *planFlags) enter(c *cobra.Command, in *api.NewReportPlan) {
	set := c.Flags().Changed
	if set("over") || in.Over == "" {
		in.Over = api.NewReportPlanOver(f.over)
	}
	if set("at") {
		in.At = f.at
	}
	if set("to") {
		in.Channels = f.to
	}
	for _, x := range []struct {
		flag, text string
		to         **string
	}{{"zone", f.zone, &in.Zone}, {"by", f.by, &in.By}, {"tier", f.tier, &in.Tier}, {"tag", f.tag, &in.Tag}, {"peer", f.peer, &in.Peer}} {
		if set(x.flag) {
			*x.to = strOr(x.text)
		}
	}
}

func (a *app) showPlan(v api.ReportPlan) error {
	return a.emit(v, func(w *tabwriter.Writer) { planTable(w, []api.ReportPlan{v}) })
}

func (a *app) planAddCmd() *cobra.Command {
	var f planFlags
	c := &cobra.Command{Use: "add NAME", Short: "Have a report sent by calendar", Args: cobra.ExactArgs(1),
		Example: `  kestrel report plan add board --over month --at "1st of the month at 07:00" --zone Europe/Oslo --to on-call --by tier`,
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			in := api.NewReportPlan{Name: args[0], Channels: []string{}}
			f.enter(cmd, &in)
			v, err := read[api.ReportPlan](c.CreateReportPlan(cmd.Context(), in))
			if err != nil {
				return err
			}
			return a.showPlan(v)
		})}
	f.add(c)
	_ = c.MarkFlagRequired("at")
	_ = c.MarkFlagRequired("to")
	return c
}

func (a *app) planEditCmd() *cobra.Command {
	var f planFlags
	var name string
	var off, on bool
	c := &cobra.Command{Use: "edit PLAN", Short: "Change what is sent, when or to whom; what is not given stays", Args: cobra.ExactArgs(1), Example: "  kestrel report plan edit board --at \"mon at 08:00\"\n  kestrel report plan edit board --off",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			all, err := read[[]api.ReportPlan](c.ListReportPlans(cmd.Context()))
			if err != nil {
				return err
			}
			for _, x := range all {
				if x.ID != args[0] && !strings.EqualFold(x.Name, args[0]) {
					continue
				}
				in := api.NewReportPlan{Name: x.Name, Over: api.NewReportPlanOver(x.Over), At: x.At, Zone: x.Zone, Channels: x.Channels, By: x.By, Tier: x.Tier, Tag: x.Tag, Peer: x.Peer, Off: x.Off, Revision: x.Revision}
				f.enter(cmd, &in)
				if name != "" {
					in.Name = name
				}
				if off || on {
					in.Off = &off
				}
				v, err := read[api.ReportPlan](c.SetReportPlan(cmd.Context(), x.ID, in))
				if err != nil {
					return err
				}
				return a.showPlan(v)
			}
			return notFound("There is no plan of reports %q. kestrel report plan list shows them.", args[0])
		})}
	f.add(c)
	c.Flags().StringVar(&name, "name", "", "another name")
	c.Flags().BoolVar(&off, "off", false, "send it no more")
	c.Flags().BoolVar(&on, "on", false, "send it again")
	c.MarkFlagsMutuallyExclusive("off", "on")
	return c
}

func (a *app) planSendCmd() *cobra.Command {
	return &cobra.Command{Use: "send PLAN", Short: "Send its newest report now", Args: cobra.ExactArgs(1), Example: "  kestrel report plan send board", RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
		if err := done(c.SendReportPlan(cmd.Context(), args[0])); err != nil {
			return err
		}
		return a.did("It is on its way; kestrel channel list shows how the delivery went.")
	})}
}

func (a *app) planDeleteCmd() *cobra.Command {
	var yes bool
	c := &cobra.Command{Use: "delete PLAN", Short: "Send it no more, and forget it", Args: cobra.ExactArgs(1), Example: "  kestrel report plan delete board", RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
		if err := a.confirm(yes, "No report %s is sent any more.", args[0]); err != nil {
			return err
		}
		if err := done(c.DeleteReportPlan(cmd.Context(), args[0])); err != nil {
			return err
		}
		return a.did("Removed: %s", args[0])
	})}
	c.Flags().BoolVarP(&yes, "yes", "y", false, "do not ask")
	return c
}
