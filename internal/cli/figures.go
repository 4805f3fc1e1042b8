package cli

import (
	"fmt"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
)

func figuresTable(w *tabwriter.Writer, v api.Figures) {
	row(w, strings.ToUpper(v.By), "GROUPS", "ON TARGET", "TIGHT", "OVER", "OTHER", "WOULD RECOVER", "MEAN EXPOSURE", "WORST", "CHANGE", "RATIO")
	for _, x := range append(v.Rows, v.Total) {
		mean, worst, change, ratio := "—", "—", "—", "—"
		if x.MeanExposureSeconds != nil {
			mean, worst = secs(*x.MeanExposureSeconds), fmt.Sprintf("%s (%s)", secs(*x.WorstExposureSeconds), *x.WorstGroup)
		}
		if x.ChangeBytesPerSecond != nil {
			change = size(int64(*x.ChangeBytesPerSecond)) + "/s"
		}
		if x.Ratio != nil {
			ratio = fmt.Sprintf("%.1f : 1", *x.Ratio)
		}
		row(w, x.Name, x.Groups, x.OnTarget, x.Tight, x.Over, x.Other, fmt.Sprintf("%d of %d", x.Ready, x.Groups), mean, worst, change, ratio)
	}
	row(w)
	row(w, "Over all links", fmt.Sprintf("out %s/s, in %s/s", size(v.SendBytesPerSecond), size(v.ReceiveBytesPerSecond)))
}

func (a *app) sinceCmd() *cobra.Command {
	return &cobra.Command{Use: "since WHEN", Short: "What happened since you last looked", Args: cobra.ExactArgs(1), Example: "  kestrel since 12h\n  kestrel since 2026-11-25",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			t, err := backOrTime(args[0])
			if err != nil {
				return usage("%s: %v", args[0], err)
			}
			v, err := read[api.Happened](c.GetHappened(cmd.Context(), &api.GetHappenedParams{Since: *t}))
			if err != nil {
				return err
			}
			return a.emit(v, func(w *tabwriter.Writer) {
				for _, l := range v.Lines {
					at := ""
					if l.At != nil {
						at = clockTime(l.At)
					}
					row(w, map[api.HappenedLineTone]string{api.HappenedLineToneOver: "▲", api.HappenedLineToneTight: "◆", api.HappenedLineToneGood: "●"}[l.Tone], at, l.Text)
				}
				if len(v.Lines) == 0 {
					row(w, "Nothing.")
				}
			})
		})}
}
