package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
	"kestrel/internal/problem"
)

// profile is how to reach a site. The file that holds them is readable for its
// owner only.
type profile struct {
	URL   string `json:"url"`
	Token string `json:"token"`
	Site  string `json:"site"`
	User  string `json:"user"`
}

type profiles struct {
	Current  string             `json:"current"`
	Profiles map[string]profile `json:"profiles"`
}

func profilePath() (string, error) {
	if p := os.Getenv("KESTREL_PROFILES"); p != "" {
		return p, nil
	}
	d, err := os.UserConfigDir()
	return filepath.Join(d, "kestrel", "profiles.json"), err
}

func loadProfiles() (profiles, error) {
	ps := profiles{Profiles: map[string]profile{}}
	path, err := profilePath()
	if err != nil {
		return ps, err
	}
	b, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return ps, nil
	}
	if err == nil {
		err = json.Unmarshal(b, &ps)
	}
	if err != nil {
		return ps, fmt.Errorf("read profiles %s: %w", path, err)
	}
	return ps, nil
}

func (ps profiles) save() error {
	path, err := profilePath()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	b, err := json.MarshalIndent(ps, "", "  ")
	if err != nil {
		return err
	}
	if err := os.WriteFile(path+".part", append(b, '\n'), 0o600); err != nil {
		return err
	}
	return os.Rename(path+".part", path)
}

// currentProfile finds where to go: the environment first, then the profile.
func (a *app) currentProfile() (profile, error) {
	if u := os.Getenv("KESTREL_URL"); u != "" && a.profile == "" {
		return profile{URL: u, Token: os.Getenv("KESTREL_TOKEN")}, nil
	}
	ps, err := loadProfiles()
	if err != nil {
		return profile{}, err
	}
	name := a.profile
	if name == "" {
		name = ps.Current
	}
	p, ok := ps.Profiles[name]
	if !ok && a.profile != "" {
		return p, notFound("There is no profile %q; kestrel profile list shows them.", name)
	}
	if !ok {
		return p, &problem.Problem{Status: http.StatusUnauthorized, Title: "Not signed in to any site", Detail: "Use: kestrel login URL"}
	}
	return p, nil
}

func (a *app) loginCmd() *cobra.Command {
	var user, name string
	var stdin, token bool
	c := &cobra.Command{Use: "login URL", Short: "Sign in at a site and keep a token in a profile", Args: cobra.ExactArgs(1),
		Long: `Sign in at a site and keep a token in a profile.

URL is the site's address, or the one-time link that "kestrel admin link" printed
there: then you become its first administrator.

Whoever signs in elsewhere and has no password here makes a token on the page Access of
the console, and gives it with --token.`,
		Example: `  kestrel login http://127.0.0.1:7411 --user harbour-master
  kestrel login 'http://127.0.0.1:7411/welcome#…' --user harbour-master --as norhaven
  kestrel login https://norhaven.skerry.example --token`,
		RunE: func(cmd *cobra.Command, args []string) error {
			u, err := url.Parse(args[0])
			if err != nil || u.Host == "" {
				return usage("%q is not a URL such as http://127.0.0.1:7411", args[0])
			}
			welcome := u.Fragment
			u.Fragment, u.Path = "", ""
			if token {
				return a.loginByToken(cmd.Context(), u.String(), name, stdin)
			}
			if user == "" {
				return usage("give --user NAME, or --token")
			}
			password, err := a.password(stdin)
			if err != nil {
				return err
			}
			session, me, err := a.signIn(cmd.Context(), u.String(), welcome, user, password)
			if err != nil {
				return err
			}
			host, _ := os.Hostname()
			defer func() { _ = done(session.SignOut(cmd.Context())) }()
			secret, err := read[api.TokenSecret](session.CreateToken(cmd.Context(), api.NewToken{Name: "command line on " + host, Days: 365}))
			if err != nil {
				return err
			}
			return a.keepProfile(name, u.String(), secret.Secret, me)
		}}
	c.Flags().StringVarP(&user, "user", "u", "", "name to sign in with")
	c.Flags().BoolVar(&token, "token", false, "with a token that was made in the console, in place of a password")
	c.Flags().StringVar(&name, "as", "", "name of the profile (default: the site's name)")
	c.Flags().BoolVar(&stdin, "password-stdin", false, "read the password from standard input")
	return c
}

// loginByToken keeps a token that somebody has.
func (a *app) loginByToken(ctx context.Context, server, name string, stdin bool) error {
	secret, err := a.hidden("Token: ", stdin)
	if err != nil {
		return err
	}
	c, err := newClient(server, strings.TrimSpace(secret))
	if err != nil {
		return err
	}
	me, err := read[api.Me](c.GetSession(ctx))
	if err != nil {
		return err
	}
	return a.keepProfile(name, server, strings.TrimSpace(secret), me)
}

// keepProfile makes a profile of a token, and the current one.
func (a *app) keepProfile(name, server, token string, me api.Me) error {
	ps, err := loadProfiles()
	if err != nil {
		return err
	}
	if name == "" {
		name = strings.ToLower(me.Site)
	}
	ps.Profiles[name] = profile{URL: server, Token: token, Site: me.Site, User: me.Name}
	ps.Current = name
	if err := ps.save(); err != nil {
		return err
	}
	return a.did("Signed in at %s as %s (%s); profile %q is now the current one.", me.Site, me.Name, me.Role, name)
}

func (a *app) profileCmd() *cobra.Command {
	c := &cobra.Command{Use: "profile", Short: "Profiles of several sites"}
	c.AddCommand(&cobra.Command{Use: "list", Short: "List profiles", Example: "  kestrel profile list", Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
		ps, err := loadProfiles()
		if err != nil {
			return err
		}
		type line struct {
			Name    string `json:"name"`
			Site    string `json:"site"`
			URL     string `json:"url"`
			User    string `json:"user"`
			Current bool   `json:"current"`
		}
		out := []line{}
		for n, p := range ps.Profiles {
			out = append(out, line{n, p.Site, p.URL, p.User, n == ps.Current})
		}
		sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
		return a.emit(out, func(w *tabwriter.Writer) {
			row(w, "", "PROFILE", "SITE", "ADDRESS", "USER")
			for _, l := range out {
				row(w, map[bool]string{true: "*"}[l.Current], l.Name, l.Site, l.URL, l.User)
			}
		})
	}}, &cobra.Command{Use: "use NAME", Short: "Make a profile the current one", Example: "  kestrel profile use eastmole", Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error {
		ps, err := loadProfiles()
		if err != nil {
			return err
		}
		if _, ok := ps.Profiles[args[0]]; !ok {
			return notFound("There is no profile %q.", args[0])
		}
		ps.Current = args[0]
		if err := ps.save(); err != nil {
			return err
		}
		return a.did("Profile %q is now the current one.", args[0])
	}}, &cobra.Command{Use: "remove NAME", Short: "Forget a profile (its token stays valid until it is revoked)", Example: "  kestrel profile remove skarholt", Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error {
		ps, err := loadProfiles()
		if err != nil {
			return err
		}
		if _, ok := ps.Profiles[args[0]]; !ok {
			return notFound("There is no profile %q.", args[0])
		}
		delete(ps.Profiles, args[0])
		if ps.Current == args[0] {
			ps.Current = ""
		}
		if err := ps.save(); err != nil {
			return err
		}
		return a.did("Profile %q is forgotten.", args[0])
	}})
	return c
}
