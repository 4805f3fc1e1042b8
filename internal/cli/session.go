package cli

import (
	"fmt"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
)

func (a *app) sessionCmd() *cobra.Command {
	c := &cobra.Command{Use: "session", Short: "Your own sessions, password and second factors"}
	c.AddCommand(a.sessionListCmd(), a.sessionEndCmd(), a.sessionPasswordCmd(), a.sessionFactorCmd(), a.sessionPasskeysCmd())
	return c
}

func (a *app) sessionListCmd() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List your sessions in browsers", Args: cobra.NoArgs, Example: "  kestrel session list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			xs, err := read[[]api.Session](c.ListSessions(cmd.Context()))
			if err != nil {
				return err
			}
			return a.emit(xs, func(w *tabwriter.Writer) {
				row(w, "ID", "FROM", "BEGAN", "LAST USED", "ENDS")
				for _, x := range xs {
					row(w, x.ID, orDash(x.Origin), clockTime(&x.CreatedAt), clockTime(x.LastUsedAt), clockTime(&x.ExpiresAt))
				}
			})
		}}
}

func (a *app) sessionEndCmd() *cobra.Command {
	return &cobra.Command{Use: "end ID...", Short: "End sessions of yours", Args: cobra.MinimumNArgs(1), Example: "  kestrel session end 6b1f0e7c-9a4d-4b7e-8d3c-2f5a1e0b9c8d",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			for _, id := range args {
				if err := done(c.EndSession(cmd.Context(), id)); err != nil {
					return err
				}
			}
			return a.did("Ended %s.", count(len(args), "session"))
		}}
}

func (a *app) sessionPasswordCmd() *cobra.Command {
	var stdin bool
	c := &cobra.Command{Use: "password", Short: "Change your password; your sessions in browsers end", Args: cobra.NoArgs, Example: "  kestrel session password",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			in, err := a.passwords(stdin)
			if err != nil {
				return err
			}
			if err := done(c.ChangePassword(cmd.Context(), in)); err != nil {
				return err
			}
			return a.did("Your password is changed; your sessions in browsers have ended.")
		}}
	c.Flags().BoolVar(&stdin, "password-stdin", false, "read the old and the new password, a line each, from standard input")
	return c
}

// passwords asks for the old password and twice for the new one, or reads a line each.
func (a *app) passwords(stdin bool) (in api.NewPassword, err error) {
	if in.Old, err = a.hidden("Old password: ", stdin); err != nil {
		return in, err
	}
	if in.New, err = a.hidden("New password: ", stdin); err != nil || !a.asks(stdin) {
		return in, err
	}
	again, err := a.hidden("The new one again: ", stdin)
	if err == nil && in.New != again {
		return in, usage("the new password was not the same twice; nothing was changed")
	}
	return in, err
}

// sessionFactorCmd signs in with the password: a token changes nothing of how its person
// does.
func (a *app) sessionFactorCmd() *cobra.Command {
	var stdin, off bool
	c := &cobra.Command{Use: "second-factor", Short: "Set up one-time codes as your second factor, or take them off", Args: cobra.NoArgs,
		Long: `Set up one-time codes (RFC 6238) as your second factor, or take them off with --off.

You are asked for your password, and then for a code of your authenticator, to which you
have given the secret that is printed. Keep the recovery codes: each lets you in once
without your authenticator.`,
		Example: "  kestrel session second-factor\n  kestrel session second-factor --off",
		RunE: func(cmd *cobra.Command, _ []string) error {
			p, err := a.currentProfile()
			if err != nil {
				return err
			}
			password, err := a.password(stdin)
			if err != nil {
				return err
			}
			session, _, err := a.signIn(cmd.Context(), p.URL, "", p.User, password)
			if err != nil {
				return err
			}
			defer func() { _ = done(session.SignOut(cmd.Context())) }()
			if off {
				if err := done(session.RemoveSecondFactor(cmd.Context(), api.Password{Password: password})); err != nil {
					return err
				}
				return a.did("You have no second factor any more.")
			}
			seed, err := read[api.SecondFactorSeed](session.BeginSecondFactor(cmd.Context()))
			if err != nil {
				return err
			}
			_, _ = fmt.Fprintf(a.Err, "Secret for your authenticator: %s\nor as an address: %s\n", seed.Secret, seed.URI)
			code, err := a.line("Code that it shows: ")
			if err != nil {
				return err
			}
			codes, err := read[api.RecoveryCodes](session.ConfirmSecondFactor(cmd.Context(), api.SecondFactorCode{Code: code}))
			if err != nil {
				return err
			}
			return a.emit(codes, func(w *tabwriter.Writer) {
				row(w, "Your second factor is set. Recovery codes, each good once:")
				for _, x := range codes.Codes {
					row(w, x)
				}
			})
		}}
	c.Flags().BoolVar(&stdin, "password-stdin", false, "read the password and then codes, a line each, from standard input")
	c.Flags().BoolVar(&off, "off", false, "take it off")
	return c
}

// sessionPasskeysCmd lists: only a browser makes passkeys, and a token, by which the command
// line comes, takes none away.
func (a *app) sessionPasskeysCmd() *cobra.Command {
	return &cobra.Command{Use: "passkeys", Short: "List your passkeys; the console adds and removes them", Args: cobra.NoArgs, Example: "  kestrel session passkeys",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
			xs, err := read[[]api.Passkey](c.ListPasskeys(cmd.Context()))
			if err != nil {
				return err
			}
			return a.emit(xs, func(w *tabwriter.Writer) {
				row(w, "NAME", "MADE", "LAST USED")
				for _, x := range xs {
					row(w, x.Name, clockTime(&x.CreatedAt), clockTime(x.LastUsedAt))
				}
			})
		})}
}
