package cli

import (
	"fmt"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
	"kestrel/internal/report"
)

func (a *app) attainmentCmd() *cobra.Command {
	var by, way string
	var when stretch
	c := &cobra.Command{Use: "attainment", Short: "How promises were kept, each moment judged by the promise of the time", Args: cobra.NoArgs,
		Example: "  kestrel attainment\n  kestrel attainment --by tier --last 7d\n  kestrel attainment --by tag --from 2026-11-01 --to 2026-12-01",
		Long: `Sum up how promises were kept over a time, the worst first: the share of the time within the target that was promised
then, by group, by the tier that was followed then, by tag, or by the other site. Time in which cycles were held on purpose counts apart.
No later change of settings changes what was.`,
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
			p := &api.GetAttainmentParams{By: strOr(by), Direction: strOr(way)}
			var err error
			if p.From, p.To, err = when.read(); err != nil {
				return err
			}
			v, err := read[api.Attainment](c.GetAttainment(cmd.Context(), p))
			if err != nil {
				return err
			}
			return a.emit(v, func(w *tabwriter.Writer) { attainmentTable(w, v, by) })
		})}
	f := c.Flags()
	f.StringVar(&by, "by", "", "group (if left out), tier, tag or site")
	when.flags(c, "30d")
	f.StringVar(&way, "direction", "", "only groups that go out, or come in")
	return c
}

// dayOrTime reads a day as its beginning here, or an instant.
func dayOrTime(text string) (time.Time, error) {
	if t, err := time.ParseInLocation("2006-01-02", text, time.Local); err == nil {
		return t.UTC(), nil
	}
	t, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return t, fmt.Errorf("it is neither a day as 2026-11-01 nor an instant as 2026-11-01T08:00:00Z")
	}
	return t.UTC(), nil
}

func attainmentTable(w *tabwriter.Writer, v api.Attainment, by string) {
	head := map[string]string{"tier": "TIER", "tag": "TAG", "site": "OTHER SITE"}[by]
	if head == "" {
		head = "GROUP"
	}
	row(w, "From "+clockTime(&v.From), "to "+clockTime(&v.To))
	row(w)
	row(w, head, "GROUPS", "WITHIN", "OVER", "WORST", "WHEN", "HELD", "SEALED", "FAILED", "MISSED", "CHANGED")
	for _, x := range append(v.Rows, v.Total) {
		within, worst, held := "no point yet", "—", "—"
		if x.CoveredSeconds > 0 {
			within = report.Share(x.KeptShare)
		}
		if x.WorstAt != nil {
			worst = secs(x.WorstSeconds)
			if x.WorstGroup != nil && x.Groups > 1 {
				worst += " (" + *x.WorstGroup + ")"
			}
		}
		if x.PausedSeconds > 0 {
			held = secs(x.PausedSeconds)
			if x.PausedOverSeconds > 0 {
				held += ", over " + secs(x.PausedOverSeconds)
			}
		}
		row(w, x.Name, x.Groups, within, secs(x.OverSeconds), worst, clockTime(x.WorstAt), held, x.Sealed, x.Failed, x.Missed, size(x.ChangedBytes))
	}
}
