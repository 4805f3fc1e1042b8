package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
)

func (a *app) auditCmd() *cobra.Command {
	c := &cobra.Command{Use: "audit", Short: "Verify the audit trail, or take it away"}
	c.AddCommand(a.auditVerifyCmd(), a.auditExportCmd())
	return c
}

// errTrail says that a trail does not hold; what is wrong has been told.
var errTrail = errors.New("the audit trail does not hold")

func (a *app) auditVerifyCmd() *cobra.Command {
	return &cobra.Command{Use: "verify", Short: "Go through all of the audit trail, and hold it against what others know of it", Args: cobra.NoArgs, Example: "  kestrel audit verify",
		Long: `Go through all lines of the audit trail: whether each follows from the one before,
whether none is missing, and whether they are those that this site signed and told
to the sites it is paired with. The exit code is 1 if anything was changed, left out
or cut off.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			v, err := read[api.TrailVerdict](c.VerifyActivity(cmd.Context()))
			if err != nil {
				return err
			}
			err = a.emit(v, func(w *tabwriter.Writer) {
				row(w, "Lines", fmt.Sprintf("%d, each following from the one before", v.Lines))
				if v.Unchained > 0 {
					row(w, "", fmt.Sprintf("%d from before lines were chained, for which nobody vouches", v.Unchained))
				}
				row(w, "Signed here", map[bool]string{true: "once", false: fmt.Sprintf("%d times", v.SignedHeads)}[v.SignedHeads == 1])
				for _, x := range v.Witnesses {
					text := fmt.Sprintf("holds %d of them", x.Heads)
					if x.Error != nil {
						text = "could not be asked: " + *x.Error
					}
					row(w, x.Site, text)
				}
				for _, f := range v.Faults {
					row(w, "✕", f)
				}
				if v.Ok {
					row(w, "✓", "Nothing was changed, left out or cut off.")
				}
			})
			if err == nil && !v.Ok {
				err = errTrail
			}
			return err
		}}
}

func (a *app) auditExportCmd() *cobra.Command {
	var from, to string
	c := &cobra.Command{Use: "export", Short: "Write the audit trail as JSON lines, newest first", Args: cobra.NoArgs,
		Example: "  kestrel audit export --from 2026-11-01T00:00:00Z > trail.jsonl",
		RunE: func(cmd *cobra.Command, _ []string) error {
			var since, until time.Time
			for _, x := range []struct {
				text, flag string
				to         *time.Time
			}{{from, "--from", &since}, {to, "--to", &until}} {
				var err error
				if x.text != "" {
					if *x.to, err = time.Parse(time.RFC3339, x.text); err != nil {
						return usage("%s: %q is no instant; write it like 2026-11-25T14:00:00Z", x.flag, x.text)
					}
				}
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			out := json.NewEncoder(a.Out)
			page, before := 500, 0
			for {
				xs, err := read[[]api.Activity](c.ListActivity(cmd.Context(), &api.ListActivityParams{Limit: &page, Before: &before}))
				if err != nil {
					return err
				}
				for _, x := range xs {
					before = int(x.ID)
					if !since.IsZero() && x.At.Before(since) {
						return nil
					}
					if until.IsZero() || x.At.Before(until) {
						if err := out.Encode(x); err != nil {
							return fmt.Errorf("write the trail: %w", err)
						}
					}
				}
				if len(xs) < page {
					return nil
				}
			}
		}}
	c.Flags().StringVar(&from, "from", "", "not older than this instant (RFC 3339)")
	c.Flags().StringVar(&to, "to", "", "older than this instant")
	return c
}
