package cli

import (
	"fmt"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
	"kestrel/internal/core/span"
)

func (a *app) surveyCmd() *cobra.Command {
	c := &cobra.Command{Use: "survey", Short: "Watch how much machines change before they are protected"}
	c.AddCommand(a.surveyStartCmd(),
		&cobra.Command{Use: "list", Short: "List surveys, newest first", Args: cobra.NoArgs, Example: "  kestrel survey list", RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
			all, err := read[[]api.Survey](c.ListSurveys(cmd.Context()))
			if err != nil {
				return err
			}
			return a.emit(all, func(w *tabwriter.Writer) {
				row(w, "SURVEY", "MACHINES", "BEGAN", "ENDS", "BY")
				for _, s := range all {
					row(w, s.Name, len(s.Machines), clockTime(&s.StartedAt), surveyEnd(s), s.StartedBy)
				}
			})
		})},
		&cobra.Command{Use: "show SURVEY", Short: "What a survey has seen so far, and what the machines would need", Args: cobra.ExactArgs(1), Example: "  kestrel survey show Kiosks", RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			s, err := a.survey(cmd, c, args[0])
			if err != nil {
				return err
			}
			return a.emit(s, func(w *tabwriter.Writer) { surveyPage(w, s) })
		})},
		&cobra.Command{Use: "stop SURVEY", Short: "End a survey before its time; what it saw stays", Args: cobra.ExactArgs(1), Example: "  kestrel survey stop Kiosks", RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			s, err := a.survey(cmd, c, args[0])
			if err != nil {
				return err
			}
			if err := done(c.StopSurvey(cmd.Context(), s.ID)); err != nil {
				return err
			}
			return a.did("The survey %s ends now.", s.Name)
		})},
		&cobra.Command{Use: "delete SURVEY", Short: "Forget a survey that has ended", Args: cobra.ExactArgs(1), Example: "  kestrel survey delete Kiosks", RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			s, err := a.survey(cmd, c, args[0])
			if err != nil {
				return err
			}
			if err := done(c.DeleteSurvey(cmd.Context(), s.ID)); err != nil {
				return err
			}
			return a.did("The survey %s is deleted.", s.Name)
		})})
	return c
}

// survey finds one by ID or name.
func (a *app) survey(cmd *cobra.Command, c *api.Client, text string) (api.Survey, error) {
	return read[api.Survey](c.GetSurvey(cmd.Context(), text))
}

func (a *app) surveyStartCmd() *cobra.Command {
	var machines []string
	var length string
	c := &cobra.Command{Use: "start NAME", Short: "Begin to watch machines; nothing is copied", Args: cobra.ExactArgs(1),
		Example: "  kestrel survey start Kiosks -m berth-kiosk -m print-queue --for 7d",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			d, err := span.Parse(length)
			if err != nil {
				return usage("--for: %v", err)
			}
			s, err := read[api.Survey](c.StartSurvey(cmd.Context(), api.NewSurvey{Name: args[0], Machines: machines, ForSeconds: int64(d / time.Second)}))
			if err != nil {
				return err
			}
			return a.emit(s, func(w *tabwriter.Writer) { surveyPage(w, s) })
		})}
	c.Flags().StringArrayVarP(&machines, "machine", "m", nil, "a machine (name or ID); repeat for more")
	c.Flags().StringVar(&length, "for", "7d", "how long, from 10min to 31d; a week shows every hour of it")
	_ = c.MarkFlagRequired("machine")
	return c
}

func surveyEnd(s api.Survey) string {
	if s.EndedAt != nil {
		return "ended " + clockTime(s.EndedAt)
	}
	return clockTime(&s.EndsAt)
}

func surveyPage(w *tabwriter.Writer, s api.Survey) {
	row(w, "Survey", s.Name)
	row(w, "Time", clockTime(&s.StartedAt)+" to "+surveyEnd(s))
	row(w, "First copy", size(s.UsedBytes)+" at most, before compression")
	row(w)
	row(w, "MACHINE", "USED", "CHANGES IN AN HOUR", "ANSWERS", "")
	for _, m := range s.Machines {
		note := ""
		if m.Note != nil {
			note = "! " + *m.Note
		}
		row(w, m.Name, size(m.UsedBytes), sizeOr(m.HourBytes), m.Samples, note)
	}
	if s.Needs == nil || len(*s.Needs) == 0 {
		row(w)
		row(w, "Nothing has been seen yet: the first answers come after a minute.")
		return
	}
	row(w)
	row(w, "CYCLES EVERY", "NEED OF A LINK", "IN THE BUSIEST HOUR", "A DAY OF POINTS")
	for _, n := range *s.Needs {
		row(w, span.Format(time.Duration(n.CadenceSeconds)*time.Second), bits(n.TypicalBytesPerSecond), bits(n.BusiestBytesPerSecond), size(n.DayBytes))
	}
	row(w)
	row(w, "Before compression; what changes more than once between two cycles is counted once.")
}

// bits writes a rate as links are sold.
func bits(bytesPerSecond float64) string {
	b := bytesPerSecond * 8
	switch {
	case b >= 1e9:
		return fmt.Sprintf("%.1f Gb/s", b/1e9)
	case b >= 1e6:
		return fmt.Sprintf("%.1f Mb/s", b/1e6)
	}
	return fmt.Sprintf("%.0f kb/s", b/1e3)
}
