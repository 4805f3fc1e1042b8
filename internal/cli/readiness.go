package cli

import (
	"fmt"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
)

func (a *app) readinessCmd() *cobra.Command {
	return &cobra.Command{Use: "readiness [GROUP]", Short: "Which groups would recover right now, as they are, and what would stop the others", Args: cobra.MaximumNArgs(1),
		Long: `The recovery site of a group keeps looking at whether it would recover right now: its newest point, the platform and the
berth on which its machines arrive, what has changed since, and room for all groups together. What would stop a
recovery is marked with ✕, what would only go otherwise than it should with !.`,
		Example: "  kestrel readiness\n  kestrel readiness Ticketing",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			if len(args) == 1 {
				v, err := read[api.GroupReadiness](c.GetReadiness(cmd.Context(), args[0]))
				if err != nil {
					return err
				}
				return a.emit(v, func(w *tabwriter.Writer) { readinessPage(w, v) })
			}
			v, err := read[api.SiteReadiness](c.ListReadiness(cmd.Context()))
			if err != nil {
				return err
			}
			return a.emit(v, func(w *tabwriter.Writer) {
				row(w, "Would recover right now", fmt.Sprintf("%d of %d groups", v.Ready, v.Groups))
				if v.Unknown > 0 {
					row(w, "Not known", v.Unknown)
				}
				for _, g := range v.List {
					row(w)
					readinessPage(w, g)
				}
			})
		})}
}

func readyText(v api.GroupReadiness) string {
	stops, risks := 0, 0
	for _, f := range v.Findings {
		if f.Stops {
			stops++
		} else {
			risks++
		}
	}
	switch {
	case v.At == nil:
		return "? " + v.Recovery + " has not said yet"
	case !v.Known:
		return fmt.Sprintf("? not known since %s, %s does not say; then: %s", clockTime(v.At), v.Recovery, count(stops, "thing")+" in the way")
	case !v.Ready:
		return "✕ no: " + count(stops, "thing") + " in the way"
	case risks > 0:
		return "! yes, with " + count(risks, "warning")
	}
	return "● yes"
}

func readinessPage(w *tabwriter.Writer, v api.GroupReadiness) {
	row(w, v.Name, fmt.Sprintf("%s  (%s → %s)", readyText(v), v.Home, v.Recovery))
	for _, f := range v.Findings {
		mark := "!"
		if f.Stops {
			mark = "✕"
		}
		what := f.What
		if f.Machine != nil && !strings.Contains(what, *f.Machine) {
			what = *f.Machine + ": " + what
		}
		row(w, "  "+mark+" "+f.Kind, what+"  Since "+clockTime(&f.Since)+".")
		row(w, "", f.Mend)
	}
}
