package cli

import (
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
)

func (a *app) findCmd() *cobra.Command {
	return &cobra.Command{Use: "find TEXT...", Short: "Find groups, machines, sites, platforms, tiers and landed machines by name", Args: cobra.MinimumNArgs(1), Example: "  kestrel find tick",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			hits, err := read[[]api.Hit](c.Search(cmd.Context(), &api.SearchParams{Q: strings.Join(args, " ")}))
			if err != nil {
				return err
			}
			return a.emit(hits, func(w *tabwriter.Writer) {
				if len(hits) == 0 {
					row(w, "Nothing is called that.")
					return
				}
				for _, x := range hits {
					row(w, x.Kind, x.Name, x.Note)
				}
			})
		})}
}
