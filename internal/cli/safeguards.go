package cli

import (
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
	"kestrel/internal/core/span"
)

func (a *app) safeguardsCmd() *cobra.Command {
	c := &cobra.Command{Use: "safeguards", Short: "What a site demands of its people"}
	c.AddCommand(&cobra.Command{Use: "show", Short: "Show who has to have a second factor, and what needs a second person", Args: cobra.NoArgs, Example: "  kestrel safeguards show",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
			v, err := read[api.Safeguards](c.GetSafeguards(cmd.Context()))
			if err != nil {
				return err
			}
			return a.emit(v, func(w *tabwriter.Writer) { safeguardsTable(w, v) })
		})}, a.safeguardsEditCmd())
	return c
}

func (a *app) safeguardsEditCmd() *cobra.Command {
	var factor, acts []string
	var within string
	c := &cobra.Command{Use: "edit", Short: "Change what is demanded", Args: cobra.NoArgs,
		Long: `Change what this site demands of its people.

--second-factor names the roles that have to have one; who has none sets one up when
they sign in next, and may do nothing before. --consent names what needs a second
person:

  delete-points   delete points, or keep fewer of them
  end-groups      end groups and delete their points
  unpair          remove links, or let a site come with another key
  people          make, change, reset or remove administrators
  safeguards      change this

Where anything does, the last two do as well. Somebody asks by just doing it; another
administrator consents, and then they do it again.`,
		Example: "  kestrel safeguards edit --second-factor administrator --consent delete-points --consent end-groups\n  kestrel safeguards edit --consent none",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
			v, err := read[api.Safeguards](c.GetSafeguards(cmd.Context()))
			if err != nil {
				return err
			}
			changed := cmd.Flags().Changed
			if !changed("second-factor") && !changed("consent") && !changed("consent-within") {
				return usage("say what to change: --second-factor, --consent or --consent-within")
			}
			if changed("second-factor") {
				v.SecondFactor = *orNone(factor)
			}
			if changed("consent") {
				v.Consent = *orNone(acts)
			}
			if changed("consent-within") {
				d, err := span.Parse(within)
				if err != nil || d%time.Hour != 0 {
					return usage("--consent-within is in whole hours, such as 24h or 3d")
				}
				v.ConsentHours = int(d / time.Hour)
			}
			v.WaivedUntil = nil
			v, err = read[api.Safeguards](c.SetSafeguards(cmd.Context(), v))
			if err != nil {
				return err
			}
			return a.emit(v, func(w *tabwriter.Writer) { safeguardsTable(w, v) })
		})}
	c.Flags().StringArrayVar(&factor, "second-factor", nil, "a role that has to have a second factor; repeat for more, none for none")
	c.Flags().StringArrayVar(&acts, "consent", nil, "what needs a second person; repeat for more, none for nothing")
	c.Flags().StringVar(&within, "consent-within", "", "how long consent can be given, and used (default 24h)")
	return c
}

func safeguardsTable(w *tabwriter.Writer, v api.Safeguards) {
	list := func(xs []string, none string) string {
		if len(xs) == 0 {
			return none
		}
		return strings.Join(xs, ", ")
	}
	row(w, "Second factor", list(v.SecondFactor, "demanded of nobody"))
	row(w, "Second person", list(v.Consent, "needed for nothing"))
	row(w, "Consent within", span.Format(time.Duration(v.ConsentHours)*time.Hour))
	if v.WaivedUntil != nil && time.Now().Before(*v.WaivedUntil) {
		row(w, "▲ Waived", "nobody has to consent until "+clockTime(v.WaivedUntil))
	}
}

func (a *app) consentCmd() *cobra.Command {
	c := &cobra.Command{Use: "consent", Short: "What waits for a second person"}
	answer := func(use, short, did string, give bool) *cobra.Command {
		return &cobra.Command{Use: use + " ID", Short: short, Args: cobra.ExactArgs(1), Example: "  kestrel consent " + use + " 6b1f0e7c-9a4d-4b7e-8d3c-2f5a1e0b9c8d",
			RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
				ask := c.RefuseConsent
				if give {
					ask = c.GiveConsent
				}
				v, err := read[api.Consent](ask(cmd.Context(), args[0]))
				if err != nil {
					return err
				}
				return a.did(did, v.AskedBy, v.What)
			})}
	}
	c.AddCommand(&cobra.Command{Use: "list", Short: "List what waits, and what was answered in the last week", Args: cobra.NoArgs, Example: "  kestrel consent list",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
			xs, err := read[[]api.Consent](c.ListConsents(cmd.Context()))
			if err != nil {
				return err
			}
			return a.emit(xs, func(w *tabwriter.Writer) {
				row(w, "ID", "STATE", "ASKED BY", "WHAT", "UNTIL", "ANSWERED BY")
				for _, x := range xs {
					state := x.State
					if x.Yours {
						state += ", for you"
					}
					row(w, x.ID, state, x.AskedBy, x.What, clockTime(&x.Until), orDash(x.AnsweredBy))
				}
			})
		})},
		answer("give", "Consent to what another administrator asked for", "%s can do it once now: %s.", true),
		answer("refuse", "Refuse, or withdraw what you asked for", "What %s asked for is off: %s.", false))
	return c
}
