package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"kestrel/internal/api"
)

func (a *app) sessionCmd() *cobra.Command {
	c := &cobra.Command{Use: "session", Short: "Your own sessions and password"}
	c.AddCommand(a.sessionListCmd(), a.sessionEndCmd(), a.sessionPasswordCmd())
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
func (a *app) passwords(stdin bool) (api.NewPassword, error) {
	var in api.NewPassword
	f, ok := a.In.(*os.File)
	if !ok || stdin || !term.IsTerminal(int(f.Fd())) {
		r := bufio.NewReader(a.In)
		for _, to := range []*string{&in.Old, &in.New} {
			line, err := r.ReadString('\n')
			if err != nil && !errors.Is(err, io.EOF) {
				return in, fmt.Errorf("read a password: %w", err)
			}
			*to = strings.TrimRight(line, "\r\n")
		}
		return in, nil
	}
	var again string
	for _, x := range []struct {
		ask string
		to  *string
	}{{"Old password: ", &in.Old}, {"New password: ", &in.New}, {"The new one again: ", &again}} {
		_, _ = fmt.Fprint(a.Err, x.ask)
		b, err := term.ReadPassword(int(f.Fd()))
		_, _ = fmt.Fprintln(a.Err)
		if err != nil {
			return in, fmt.Errorf("read a password: %w", err)
		}
		*x.to = string(b)
	}
	if in.New != again {
		return in, usage("the new password was not the same twice; nothing was changed")
	}
	return in, nil
}
