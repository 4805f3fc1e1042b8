package cli

import (
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
)

func (a *app) tokenCmd() *cobra.Command {
	c := &cobra.Command{Use: "token", Short: "API tokens"}
	var days int
	var role string
	var tags, networks []string
	create := &cobra.Command{Use: "create NAME", Short: "Make a token; its secret is printed once", Args: cobra.ExactArgs(1), Example: "  kestrel token create monitoring --role viewer --days 90\n  kestrel token create deploy --role operator --days 30 --network 192.0.2.0/24",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if days == 0 {
				return usage("say in how many days the token ends: --days, at most 365")
			}
			in := api.NewToken{Name: args[0], Role: strOr(role), Days: days}
			if len(tags) > 0 {
				in.Tags = &tags
			}
			if len(networks) > 0 {
				in.Networks = &networks
			}
			t, err := read[api.TokenSecret](c.CreateToken(cmd.Context(), in))
			if err != nil {
				return err
			}
			return a.emit(t, func(w *tabwriter.Writer) { row(w, t.Secret) })
		}}
	create.Flags().IntVar(&days, "days", 0, "days until it ends, 1 to 365")
	create.Flags().StringVar(&role, "role", "", "viewer, operator or administrator (default: your own)")
	create.Flags().StringArrayVar(&tags, "tag", nil, "limit it to groups with this tag; repeat for more")
	create.Flags().StringArrayVar(&networks, "network", nil, "a network that it may be used from, or an address; repeat for more, leave out for anywhere")
	c.AddCommand(create,
		&cobra.Command{Use: "list", Short: "List tokens", Example: "  kestrel token list", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			ts, err := read[[]api.Token](c.ListTokens(cmd.Context()))
			if err != nil {
				return err
			}
			return a.emit(ts, func(w *tabwriter.Writer) {
				row(w, "ID", "NAME", "OF", "ROLE", "GROUPS", "MADE", "ENDS", "GOOD FROM", "LAST USED", "FROM")
				for _, t := range ts {
					row(w, t.ID, t.Name, t.Person, t.Role, tagsText(t.Tags), clockTime(&t.CreatedAt), clockTime(t.ExpiresAt), networksText(t.Networks), clockTime(t.LastUsedAt), orDash(t.UsedFrom))
				}
			})
		}},
		&cobra.Command{Use: "revoke ID", Short: "Revoke a token", Example: "  kestrel token revoke 4f1a…", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if err := done(c.DeleteToken(cmd.Context(), args[0])); err != nil {
				return err
			}
			return a.did("The token is revoked.")
		}})
	return c
}

func tagsText(tags []string) string {
	if len(tags) == 0 {
		return "all"
	}
	return "tagged " + strings.Join(tags, ", ")
}

func (a *app) personCmd() *cobra.Command {
	c := &cobra.Command{Use: "person", Short: "Who may sign in, and what they may do"}
	var role string
	var tags []string
	invite := &cobra.Command{Use: "invite", Short: "Make a one-time link with which somebody joins in a role", Args: cobra.NoArgs, Example: "  kestrel person invite --role operator\n  kestrel person invite --role viewer --tag ferry",
		Long: `Make a one-time link. Whoever opens it, or signs in with it by kestrel login,
chooses a name and a password and has the role from then on.

A viewer looks; an operator also runs, pauses, pins, serves and starts from points;
an administrator does everything. With --tag they see only groups with one of the
tags, and change nothing of the site as a whole.`,
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
			in := api.NewPerson{Role: role}
			if len(tags) > 0 {
				in.Tags = &tags
			}
			v, err := read[api.PersonInvitation](c.InvitePerson(cmd.Context(), in))
			if err != nil {
				return err
			}
			return a.emit(v, func(w *tabwriter.Writer) { row(w, v.Link) })
		})}
	invite.Flags().StringVar(&role, "role", "viewer", "viewer, operator or administrator")
	invite.Flags().StringArrayVar(&tags, "tag", nil, "limit them to groups with this tag; repeat for more")
	var newRole string
	var newTags []string
	var disable, enable, factorOff bool
	edit := &cobra.Command{Use: "edit NAME", Short: "Change somebody's role or the groups they see, or disable them", Args: cobra.ExactArgs(1), Example: "  kestrel person edit anna --role viewer\n  kestrel person edit anna --tag none\n  kestrel person edit anna --disable",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			in := api.EditPerson{Role: strOr(newRole)}
			if cmd.Flags().Changed("tag") {
				in.Tags = orNone(newTags)
			}
			if disable || enable {
				in.Disabled = &disable
			}
			if factorOff {
				in.SecondFactorOff = &factorOff
			}
			if in == (api.EditPerson{}) {
				return usage("say what to change: --role, --tag, --disable, --enable or --second-factor-off")
			}
			p, err := read[api.Person](c.EditPerson(cmd.Context(), args[0], in))
			if err != nil {
				return err
			}
			return a.emit(p, func(w *tabwriter.Writer) { personTable(w, []api.Person{p}) })
		})}
	edit.Flags().StringVar(&newRole, "role", "", "viewer, operator or administrator")
	edit.Flags().StringArrayVar(&newTags, "tag", nil, "all tags that limit them from now on; repeat for more, none for no limit")
	edit.Flags().BoolVar(&disable, "disable", false, "end their sessions and let them sign in no more; their tokens are worth nothing meanwhile")
	edit.Flags().BoolVar(&enable, "enable", false, "let them sign in again")
	edit.Flags().BoolVar(&factorOff, "second-factor-off", false, "take their second factor off, when they have lost it")
	edit.MarkFlagsMutuallyExclusive("disable", "enable")
	c.AddCommand(invite, edit,
		&cobra.Command{Use: "reset NAME", Short: "Make a one-time link with which somebody sets another password", Example: "  kestrel person reset anna", Args: cobra.ExactArgs(1), RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			v, err := read[api.PersonInvitation](c.ResetPassword(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.emit(v, func(w *tabwriter.Writer) { row(w, v.Link) })
		})},
		&cobra.Command{Use: "list", Short: "List people", Example: "  kestrel person list", Args: cobra.NoArgs, RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
			ps, err := read[[]api.Person](c.ListPeople(cmd.Context()))
			if err != nil {
				return err
			}
			return a.emit(ps, func(w *tabwriter.Writer) { personTable(w, ps) })
		})},
		&cobra.Command{Use: "remove NAME", Short: "Remove somebody with their sessions and tokens", Example: "  kestrel person remove anna", Args: cobra.ExactArgs(1), RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			if err := done(c.DeletePerson(cmd.Context(), args[0])); err != nil {
				return err
			}
			return a.did("%s is removed; their sessions and tokens are worth nothing now.", args[0])
		})})
	return c
}

func personTable(w *tabwriter.Writer, ps []api.Person) {
	row(w, "NAME", "ROLE", "GROUPS", "SIGN-IN", "SECOND FACTOR", "SINCE")
	for _, p := range ps {
		sign := "enabled"
		if p.Disabled {
			sign = "disabled"
		}
		row(w, p.Name, p.Role, tagsText(p.Tags), sign, map[bool]string{true: "yes", false: "no"}[p.SecondFactor], clockTime(&p.CreatedAt))
	}
}

func networksText(networks []string) string {
	if len(networks) == 0 {
		return "anywhere"
	}
	return strings.Join(networks, ", ")
}

func orDash(s *string) string {
	if s == nil || *s == "" {
		return "—"
	}
	return *s
}
