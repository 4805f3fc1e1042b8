package cli

import (
	"context"
	"fmt"
	"os"
	"os/user"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"kestrel/internal/access"
	"kestrel/internal/core/span"
	"kestrel/internal/records"
)

func (a *app) adminCmd() *cobra.Command {
	c := &cobra.Command{Use: "admin", Short: "Things that are done on a site's host",
		Long: `Things that are done on a site's host, by whoever can reach the site's database.
Each leaves its line in the audit trail.`}
	var db, consoleURL string
	c.PersistentFlags().StringVar(&db, "database", "", "URL of the site's database")
	link := &cobra.Command{Use: "link", Short: "Print a one-time link with which an administrator is made", Args: cobra.NoArgs,
		Example: "  kestrel admin link --database postgres://kestrel@127.0.0.1/kestrel --console http://127.0.0.1:7410",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return onHost(cmd.Context(), db, "made a one-time link for an administrator", func(ctx context.Context, d *records.DB) error {
				l, err := access.WelcomeLink(ctx, d, time.Now(), consoleURL)
				if err != nil {
					return err
				}
				return a.emit(map[string]string{"link": l}, func(w *tabwriter.Writer) { row(w, l) })
			})
		}}
	link.Flags().StringVar(&consoleURL, "console", "http://127.0.0.1:7410", "address of the site's console")
	var span1 string
	waive := &cobra.Command{Use: "waive", Short: "Let one administrator act alone for a while, where a second would have to consent", Args: cobra.NoArgs,
		Long: `Let one administrator act alone for a while, where a second person would have to
consent: for an emergency in which there is none. The board of the site says so first as
long as it lasts, and the audit trail for good. With --for 0 it ends.`,
		Example: "  kestrel admin waive --database postgres://kestrel@127.0.0.1/kestrel --for 1h",
		RunE: func(cmd *cobra.Command, _ []string) error {
			d, err := span.Parse(span1)
			if err != nil && span1 != "0" || d < 0 || d > mostWaived {
				return usage("--for is a time of at most %s, such as 1h, or 0", span.Format(mostWaived))
			}
			until := time.Now().Add(d).UTC()
			what := "let everybody act without a second person until " + until.Format(time.RFC3339)
			if d == 0 {
				what = "ended that people act without a second person"
			}
			return onHost(cmd.Context(), db, what, func(ctx context.Context, x *records.DB) error {
				if err := x.WaiveConsent(ctx, until); err != nil {
					return err
				}
				if d == 0 {
					return a.did("A second person has to consent again.")
				}
				return a.did("Nobody has to consent until %s. The site's board says so.", clockTime(&until))
			})
		}}
	waive.Flags().StringVar(&span1, "for", "1h", "for how long, a day at most")
	c.AddCommand(link, waive)
	return c
}

// mostWaived is for how long consent is waived at most.
const mostWaived = 24 * time.Hour

// onHost does something in a site's database and leaves a line in its trail, together.
func onHost(ctx context.Context, url, what string, do func(ctx context.Context, db *records.DB) error) error {
	if url == "" {
		url = os.Getenv("KESTREL_DATABASE_URL")
	}
	if url == "" {
		return usage("give --database")
	}
	db, err := records.Open(ctx, url)
	if err != nil {
		return err
	}
	defer func() { _ = db.Close() }()
	who := "somebody"
	if u, err := user.Current(); err == nil {
		who = u.Username
	}
	host, err := os.Hostname()
	if err != nil {
		host = "the site's host"
	}
	within, told := records.Telling(ctx, records.Activity{At: time.Now().UTC(), Who: who + " on the host", Actor: "host", Origin: host, Kind: "person", Text: fmt.Sprintf("%s on the host %s", who, what)})
	if err := do(within, db); err != nil {
		return err
	}
	if !told() {
		return fmt.Errorf("%s: nothing was written", what)
	}
	return nil
}
