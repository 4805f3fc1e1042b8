package cli

import (
	"fmt"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
)

func (a *app) spaceCmd() *cobra.Command {
	var machines bool
	c := &cobra.Command{Use: "space", Short: "What the site's stores hold, whose it is, and what deleting it would give back", Example: "  kestrel store space\n  kestrel store space --machines", Args: cobra.NoArgs,
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
			v, err := read[[]api.StoreSpace](c.GetStoreSpace(cmd.Context()))
			if err != nil {
				return err
			}
			return a.emit(v, func(w *tabwriter.Writer) {
				if len(v) == 0 {
					row(w, "It was not looked at yet; ask again in a minute.")
				}
				for i, x := range v {
					if i > 0 {
						row(w)
					}
					spaceTable(w, x, machines)
				}
			})
		})}
	c.Flags().BoolVar(&machines, "machines", false, "list machines too")
	return c
}

func spaceTable(w *tabwriter.Writer, x api.StoreSpace, machines bool) {
	row(w, "In "+x.Store, "as of "+clockTime(&x.LookedAt))
	row(w, "Whole copies would take", size(x.WholeBytes))
	row(w, "Each block once", fmt.Sprintf("%s%s", size(x.BlockBytes), saved(x.WholeBytes, x.BlockBytes)))
	row(w, "Stored", fmt.Sprintf("%s%s", size(x.NeededBytes), saved(x.BlockBytes, x.NeededBytes)))
	packs := size(x.PackBytes)
	if idle := x.PackBytes - x.NeededBytes; idle > x.NeededBytes/100 {
		packs += fmt.Sprintf(", of which %s are needed by no point and given back little by little", size(idle))
	}
	row(w, "Packs", packs)
	if x.Unread {
		row(w, "Unread", "parts of some points could not be looked at, and are not counted")
	}
	if len(x.Groups) == 0 {
		return
	}
	row(w)
	row(w, "GROUP", "POINTS", "WHOLE", "STORED", "DELETING GIVES BACK")
	for _, g := range x.Groups {
		row(w, g.Name, g.Points, size(g.WholeBytes), size(g.NeededBytes), size(g.AloneBytes))
		if machines {
			for _, m := range g.Machines {
				row(w, "  "+m.Name, m.Points, "", "", size(m.AloneBytes))
			}
		}
	}
}

// saved says how much less one is than another.
func saved(of, left int64) string {
	if of <= 0 || left >= of {
		return ""
	}
	return fmt.Sprintf(", %.0f %% less", 100*float64(of-left)/float64(of))
}
