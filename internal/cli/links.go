package cli

import (
	"fmt"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
	"kestrel/internal/core/pace"
)

func (a *app) linkCmd() *cobra.Command {
	c := &cobra.Command{Use: "link", Short: "Links to other sites"}
	var forSite string
	var minutes int
	var newKey, acceptNewKey bool
	invite := &cobra.Command{Use: "invite", Short: "Make an invitation: one string, one use", Args: cobra.NoArgs,
		Example: "  kestrel link invite --for Eastmole\n  kestrel -p norhaven link invite -o json | jq -r .text | kestrel -p eastmole link accept -",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			v, err := read[api.InvitationSecret](c.CreateInvitation(cmd.Context(), api.NewInvitation{ForSite: strOr(forSite), Minutes: &minutes, NewKey: &newKey}))
			if err != nil {
				return err
			}
			if a.output == "json" {
				return a.emit(v, nil)
			}
			_, err = fmt.Fprintln(a.Out, v.Text)
			_, _ = fmt.Fprintf(a.Err, "Good once, until %s. At the other site: kestrel link accept STRING\n", v.Invitation.ExpiresAt.Local().Format("2006-01-02 15:04 MST"))
			if v.Warning != nil {
				_, _ = fmt.Fprintln(a.Err, "Note:", *v.Warning)
			}
			return err
		}}
	invite.Flags().StringVar(&forSite, "for", "", "name of the only site that may use it")
	invite.Flags().IntVar(&minutes, "minutes", 60, "how long it is good")
	invite.Flags().BoolVar(&newKey, "new-key", false, "the site in --for is paired already, has lost its key, and may come with a new one")
	accept := &cobra.Command{Use: "accept STRING", Short: "Pair with the site that made an invitation (- reads it from standard input)", Args: cobra.ExactArgs(1), Example: "  kestrel link accept tide1.…",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			text := args[0]
			if text == "-" {
				if text, err = a.password(true); err != nil {
					return err
				}
			}
			l, err := read[api.Link](c.AcceptInvitation(cmd.Context(), api.AcceptInvitation{Invitation: text, NewKey: &acceptNewKey}))
			if err != nil {
				return err
			}
			return a.emit(l, func(w *tabwriter.Writer) { linkTable(w, []api.Link{l}) })
		}}
	accept.Flags().BoolVar(&acceptNewKey, "new-key", false, "the inviting site is paired already, has lost its key, and has a new one: compare it by voice first")
	c.AddCommand(invite, accept,
		&cobra.Command{Use: "list", Short: "List links, with what is missing before groups can cross them", Example: "  kestrel link list", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			ls, err := read[[]api.Link](c.ListLinks(cmd.Context()))
			if err != nil {
				return err
			}
			return a.emit(ls, func(w *tabwriter.Writer) { linkTable(w, ls) })
		}},
		&cobra.Command{Use: "test SITE", Short: "Test a link step by step", Example: "  kestrel link test Eastmole", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			t, err := read[api.ConnectionTest](c.TestLink(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.showTest(t)
		}},
		&cobra.Command{Use: "remove SITE", Short: "Unpair from a site; no group may use the link", Example: "  kestrel link remove Skarholt", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if err := done(c.DeleteLink(cmd.Context(), args[0])); err != nil {
				return err
			}
			return a.did("The link to %s is removed.", args[0])
		}},
		&cobra.Command{Use: "invitations", Short: "List open invitations", Example: "  kestrel link invitations", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			vs, err := read[[]api.Invitation](c.ListInvitations(cmd.Context()))
			if err != nil {
				return err
			}
			return a.emit(vs, func(w *tabwriter.Writer) {
				row(w, "ID", "FOR", "EXPIRES", "MADE BY")
				for _, v := range vs {
					site := "any site"
					if v.ForSite != nil {
						site = *v.ForSite
					}
					row(w, v.ID, site, clockTime(&v.ExpiresAt), v.CreatedBy)
				}
			})
		}},
		&cobra.Command{Use: "withdraw ID", Short: "Withdraw an invitation", Example: "  kestrel link withdraw 0b6c…", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if err := done(c.DeleteInvitation(cmd.Context(), args[0])); err != nil {
				return err
			}
			return a.did("The invitation is withdrawn.")
		}})
	c.AddCommand(a.linkEditCmd(), a.linkShowCmd())
	return c
}

func linkTable(w *tabwriter.Writer, ls []api.Link) {
	row(w, "SITE", "ADDRESS", "STATE", "ROUND TRIP", "CLOCK", "OUT", "IN", "LIMIT NOW")
	for _, l := range ls {
		was, rtt, clock := "● up", "—", "—"
		if !l.Up {
			was = "✕ down"
		}
		if l.RttMillis != nil {
			rtt = fmt.Sprintf("%.1f ms", *l.RttMillis)
		}
		if l.ClockAheadMillis != nil {
			clock = fmt.Sprintf("%+.1f ms", *l.ClockAheadMillis)
		}
		row(w, l.Peer, l.Address, condition(l.Health, was), rtt, clock, count(l.OutGroups, "group"), count(l.InGroups, "group"), rateOr(l.LimitNowBytesPerSecond))
	}
	for _, l := range ls {
		for _, c := range l.Checks {
			if !c.Ok {
				_, _ = fmt.Fprintf(w, "\n%s: %s: %s. %s\n", l.Peer, c.Name, c.Note, *c.Mend)
			}
		}
	}
}

func (a *app) linkShowCmd() *cobra.Command {
	return &cobra.Command{Use: "show SITE", Short: "One link: what goes over it, how it is compressed and limited", Example: "  kestrel link show Eastmole", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			ls, err := read[[]api.Link](c.ListLinks(cmd.Context()))
			if err != nil {
				return err
			}
			for _, l := range ls {
				if strings.EqualFold(l.Peer, args[0]) || l.ID == args[0] {
					return a.emit(l, func(w *tabwriter.Writer) { linkPage(w, l) })
				}
			}
			return notFound("There is no link to %q; kestrel link list shows them.", args[0])
		}}
}

func linkPage(w *tabwriter.Writer, l api.Link) {
	state := "● up"
	if !l.Up {
		state = "✕ down"
	}
	row(w, "Link to", l.Peer)
	row(w, "Address", l.Address)
	row(w, "Its key", l.Key)
	row(w, "Our key", l.OwnKey)
	row(w, "State", condition(l.Health, state))
	if why := causeOf(l.Health); why != "" {
		row(w, "", why)
	}
	row(w, "Other site", condition(l.PeerHealth, "? not known"))
	row(w, "Going out", fmt.Sprintf("%s, %s/s", count(l.OutGroups, "group"), size(l.SendBytesPerSecond)))
	row(w, "Coming in", fmt.Sprintf("%s, %s/s", count(l.InGroups, "group"), size(l.ReceiveBytesPerSecond)))
	row(w, "Compression", l.Compression)
	row(w, "Limit", rateOr(l.LimitBytesPerSecond))
	for _, x := range l.Windows {
		row(w, "", fmt.Sprintf("%s %s-%s: %s", x.Days, x.From, x.To, rateOr(x.BytesPerSecond)))
	}
	row(w, "Limit now", rateOr(l.LimitNowBytesPerSecond))
	takes := fmt.Sprintf("at most %s from there", count(l.MaxGroups, "group"))
	if l.RoomBytes > 0 {
		takes += ", with " + size(l.RoomBytes) + " of points"
	}
	row(w, "Takes", takes)
	for _, c := range l.Checks {
		text := "✓ " + c.Name + ": " + c.Note
		if !c.Ok {
			text = "✕ " + c.Name + ": " + c.Note + ". " + *c.Mend
		}
		row(w, "", text)
	}
}

// rateOr writes a limit in bytes a second.
func rateOr(n int64) string {
	if n == 0 {
		return "none"
	}
	return size(n) + "/s"
}

func (a *app) linkEditCmd() *cobra.Command {
	var compression, limit, room string
	var windows []string
	var groups int
	c := &cobra.Command{Use: "edit SITE", Short: "Change how what this site sends is compressed and limited, and how much it takes", Args: cobra.ExactArgs(1),
		Example: `  kestrel link edit Eastmole --compression zstd --limit 40MiB
  kestrel link edit Eastmole --window "mon-fri 08:00-18:00 5MiB" --window "daily 22:00-04:00 none"
  kestrel link edit Eastmole --limit none --window none
  kestrel link edit Eastmole --take-groups 50 --take-room 2TiB`,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			in := api.EditLink{Compression: strOr(compression)}
			if limit != "" {
				n, err := pace.ParseRate(limit)
				if err != nil {
					return usage("--limit: %v", err)
				}
				in.LimitBytesPerSecond = &n
			}
			if len(windows) > 0 {
				ws, err := parseWindows(windows)
				if err != nil {
					return usage("--window: %v", err)
				}
				in.Windows = &ws
			}
			if cmd.Flags().Changed("take-groups") {
				in.MaxGroups = &groups
			}
			if room != "" {
				n, err := pace.ParseRate(room)
				if err != nil {
					return usage("--take-room: %v", err)
				}
				in.RoomBytes = &n
			}
			if in == (api.EditLink{}) {
				return usage("say what to change: --compression, --limit, --window, --take-groups or --take-room")
			}
			l, err := read[api.Link](c.EditLink(cmd.Context(), args[0], in))
			if err != nil {
				return err
			}
			return a.emit(l, func(w *tabwriter.Writer) { linkPage(w, l) })
		}}
	c.Flags().StringVar(&compression, "compression", "", "s2 (fast), zstd (smaller), or off")
	c.Flags().StringVar(&limit, "limit", "", "most that is sent a second outside of all windows, such as 40MiB; none for no limit")
	c.Flags().IntVar(&groups, "take-groups", 0, "most groups that may come from there")
	c.Flags().StringVar(&room, "take-room", "", "most bytes that points from there may have, before compressing, such as 2TiB; none for no bound")
	c.Flags().StringArrayVar(&windows, "window", nil, `a time of the week with a limit of its own, such as "mon-fri 08:00-18:00 5MiB", by the site's clock; all of them, the first that holds counts; none for none`)
	return c
}

func parseWindows(texts []string) ([]api.RateWindow, error) {
	out := []api.RateWindow{}
	if len(texts) == 1 && texts[0] == "none" {
		return out, nil
	}
	for _, t := range texts {
		days, from, to, rate, err := pace.CutWindow(t)
		if err != nil {
			return nil, err
		}
		out = append(out, api.RateWindow{Days: days, From: from, To: to, BytesPerSecond: rate})
	}
	return out, nil
}
