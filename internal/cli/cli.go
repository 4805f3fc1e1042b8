// Package cli is the command line: the service and the lab, and a client that
// does every step through the contract.
package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"kestrel/internal/api"
	"kestrel/internal/core/span"
	"kestrel/internal/problem"
	"kestrel/internal/site"
)

// Exit codes. Scripts may rely on them.
const (
	exitOK          = 0
	exitFailed      = 1 // the work failed, or a check found faults
	exitUsage       = 2 // the command line is wrong
	exitSignIn      = 3 // not signed in, or not allowed
	exitNotFound    = 4
	exitRefused     = 5 // not accepted; nothing was changed
	exitUnreachable = 6 // the service does not answer
)

// Streams are where a command reads and writes.
type Streams struct {
	In  io.Reader
	Out io.Writer
	Err io.Writer
}

// app is one run of the command line.
type app struct {
	Streams
	profile string
	output  string
	server  string
	lines   *bufio.Reader // what is read of standard input
}

var errUsage = errors.New("usage")

// Main runs the command line and gives its exit code.
func Main(ctx context.Context, args []string, st Streams) int {
	a := &app{Streams: st}
	root := a.root()
	root.SetArgs(args)
	root.SetIn(st.In)
	root.SetOut(st.Out)
	root.SetErr(st.Err)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return exitOK
	}
	if errors.Is(err, context.Canceled) && ctx.Err() != nil {
		return exitFailed
	}
	a.tell(err)
	return code(err)
}

// tell says what went wrong, in the form that was asked for.
func (a *app) tell(err error) {
	text := strings.TrimSuffix(err.Error(), ": "+errUsage.Error())
	if a.output != "json" {
		_, _ = fmt.Fprintf(a.Err, "kestrel: %s\n", text)
		return
	}
	v := struct {
		Error string           `json:"error"`
		Exit  int              `json:"exitCode"`
		Cause *problem.Problem `json:"problem,omitempty"`
	}{Error: text, Exit: code(err)}
	v.Cause, _ = problem.Of(err)
	e := json.NewEncoder(a.Err)
	e.SetIndent("", "  ")
	_ = e.Encode(v) // there is nobody left to tell
}

// refused is an error of something that was not accepted, and changed nothing.
func refused(format string, args ...any) error {
	return &problem.Problem{Status: http.StatusConflict, Title: fmt.Sprintf(format, args...)}
}

func notFound(format string, args ...any) error {
	return &problem.Problem{Status: http.StatusNotFound, Title: "Not found", Detail: fmt.Sprintf(format, args...)}
}

// partly is an error of something that was done to some and not to all; its code is
// that of the first that was refused.
type partly struct {
	error
	first error
}

// Unwrap implements errors.Unwrap.
func (p partly) Unwrap() error { return p.first }

func code(err error) int {
	var ne *net.OpError
	var ue *url.Error
	if p, ok := problem.Of(err); ok {
		switch {
		case p.Status == http.StatusUnauthorized || p.Status == http.StatusForbidden:
			return exitSignIn
		case p.Status == http.StatusNotFound:
			return exitNotFound
		case p.Status == http.StatusBadGateway || p.Status == http.StatusServiceUnavailable:
			return exitUnreachable
		case p.Status < 500:
			return exitRefused
		}
		return exitFailed
	}
	switch {
	case errors.Is(err, errUsage), strings.HasPrefix(err.Error(), "unknown command"), strings.HasPrefix(err.Error(), "required flag"):
		return exitUsage
	case errors.As(err, &ue), errors.As(err, &ne):
		return exitUnreachable
	}
	return exitFailed
}

// usage marks an error as a wrong command line.
func usage(format string, args ...any) error {
	return fmt.Errorf("%s: %w", fmt.Sprintf(format, args...), errUsage)
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{Version: site.Version, Use: "kestrel", Short: "Keep virtual machines recoverable at another site", SilenceUsage: true, SilenceErrors: true,
		Long: `Kestrel Tide keeps virtual machines recoverable at another site.

One binary: "kestrel serve" runs a site, all other commands speak to one.
Sign in once with "kestrel login URL"; profiles keep several sites apart.

Exit codes: 0 done, 1 failed or faults found, 2 wrong command line, 3 not
signed in or not allowed, 4 not found, 5 not accepted and nothing changed, 6 no
answer. With -o json errors are JSON too, on standard error.`,
		Example: `  kestrel login http://127.0.0.1:7411 --user harbour-master
  kestrel status
  kestrel group create Ticketing -m tick-db -m tick-app --to Eastmole --rpo 5min --every 2min
  kestrel tide`}
	root.PersistentFlags().StringVarP(&a.profile, "profile", "p", os.Getenv("KESTREL_PROFILE"), "profile to use (default: the current one)")
	root.PersistentFlags().StringVarP(&a.output, "output", "o", "table", "table or json")
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error { return usage("%v (see %s --help)", err, c.CommandPath()) })
	root.PersistentPreRunE = func(*cobra.Command, []string) error {
		if a.output != "table" && a.output != "json" {
			return usage("--output is table or json, not %q", a.output)
		}
		return nil
	}
	root.AddCommand(a.serveCmd(), a.adminCmd(), a.labCmd(), a.storeCmd(),
		a.loginCmd(), a.profileCmd(), a.statusCmd(), a.sinceCmd(), a.tideCmd(), a.findCmd(), a.platformCmd(), a.machineCmd(), a.coverageCmd(), a.readinessCmd(), a.attainmentCmd(), a.historyCmd(), a.reportCmd(), a.alertCmd(), a.channelCmd(), a.surveyCmd(), a.tierCmd(), a.berthCmd(), a.calendarCmd(), a.forecastCmd(), a.applyCmd(), a.exportCmd(), a.schemaCmd(), a.linkCmd(),
		a.groupCmd(), a.pointCmd(), a.landingCmd(), a.drillCmd(), a.failoverCmd(), a.runbookCmd(), a.flotillaCmd(), a.dnsServerCmd(), a.evidenceCmd(), a.guardCmd(), a.operationCmd(), a.activityCmd(), a.auditCmd(), a.sessionCmd(), a.safeguardsCmd(), a.consentCmd(), a.tokenCmd(),
		a.personCmd(),
		&cobra.Command{Use: "version", Short: "Print the version", Example: "  kestrel version", Args: cobra.NoArgs,
			RunE: func(*cobra.Command, []string) error {
				return a.emit(map[string]string{"version": site.Version}, func(w *tabwriter.Writer) { row(w, "kestrel", site.Version) })
			}})
	wrapArgs(root)
	return root
}

// wrapArgs makes wrong numbers of arguments usage errors.
func wrapArgs(c *cobra.Command) {
	if check := c.Args; check != nil {
		c.Args = func(c *cobra.Command, args []string) error {
			if err := check(c, args); err != nil {
				return usage("%v; usage: %s", err, c.UseLine())
			}
			return nil
		}
	}
	if c.HasSubCommands() && c.RunE == nil && c.HasParent() {
		c.RunE = func(c *cobra.Command, args []string) error {
			if len(args) > 0 {
				return usage("unknown command %q for %q", args[0], c.CommandPath())
			}
			return c.Help()
		}
	}
	for _, s := range c.Commands() {
		wrapArgs(s)
	}
}

// with runs a command that speaks to the profile's site.
func (a *app) with(f func(cmd *cobra.Command, c *api.Client, args []string) error) func(cmd *cobra.Command, args []string) error {
	return func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		return f(cmd, c, args)
	}
}

// did says that something is done, in the form that was asked for.
func (a *app) did(format string, args ...any) error {
	text := fmt.Sprintf(format, args...)
	return a.emit(map[string]string{"done": text}, func(w *tabwriter.Writer) { row(w, text) })
}

// confirm asks before something that cannot be undone, unless yes was given. Where
// nobody can be asked, it has to be.
func (a *app) confirm(yes bool, format string, args ...any) error {
	if yes {
		return nil
	}
	text := fmt.Sprintf(format, args...)
	if f, ok := a.In.(*os.File); !ok || !term.IsTerminal(int(f.Fd())) {
		return usage("%s To go on, add --yes", text)
	}
	_, _ = fmt.Fprintf(a.Err, "%s Go on? [y/N] ", text)
	line, err := bufio.NewReader(a.In).ReadString('\n')
	if answer := strings.ToLower(strings.TrimSpace(line)); err == nil && (answer == "y" || answer == "yes") {
		return nil
	}
	return refused("nothing was changed")
}

// client makes a caller of the profile's site.
func (a *app) client() (*api.Client, error) {
	p, err := a.currentProfile()
	if err != nil {
		return nil, err
	}
	a.server = p.URL
	return newClient(p.URL, p.Token)
}

func newClient(server, token string) (*api.Client, error) {
	// No limit in time: an operation is waited for by asking again, and the
	// context ends what is interrupted.
	return api.NewClient(strings.TrimSuffix(server, "/")+"/api/v1", api.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		if token != "" {
			r.Header.Set("Authorization", "Bearer "+token)
		}
		return nil
	}))
}

// read takes an answer apart: the value, or the problem.
func read[T any](res *http.Response, err error) (T, error) {
	var v T
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) {
			return v, fmt.Errorf("the service does not answer: %w", err)
		}
		return v, err
	}
	defer func() { _ = res.Body.Close() }()
	if res.StatusCode >= 300 {
		p := &problem.Problem{}
		if json.NewDecoder(res.Body).Decode(p) != nil || p.Status == 0 {
			p = &problem.Problem{Status: res.StatusCode, Title: res.Status}
		}
		if p.Status == http.StatusUnauthorized && p.Detail == "" && len(p.Errors) == 0 {
			p.Detail = "Use: kestrel login URL"
		}
		return v, p
	}
	if res.StatusCode == http.StatusNoContent {
		return v, nil
	}
	if err := json.NewDecoder(res.Body).Decode(&v); err != nil {
		return v, fmt.Errorf("the service's answer is not understood: %w", err)
	}
	return v, nil
}

// done is read for answers without content.
func done(res *http.Response, err error) error {
	_, err = read[struct{}](res, err)
	return err
}

// emit prints a value: as JSON for scripts, else as the table for people.
func (a *app) emit(v any, table func(w *tabwriter.Writer)) error {
	if a.output == "json" {
		e := json.NewEncoder(a.Out)
		e.SetIndent("", "  ")
		return e.Encode(v)
	}
	w := tabwriter.NewWriter(a.Out, 0, 4, 2, ' ', 0)
	table(w)
	return w.Flush()
}

func row(w io.Writer, cells ...any) {
	for i, c := range cells {
		if i > 0 {
			_, _ = io.WriteString(w, "\t")
		}
		_, _ = fmt.Fprint(w, c)
	}
	_, _ = io.WriteString(w, "\n")
}

func size(n int64) string { return humanize.IBytes(uint64(max(0, n))) }

func sizeOr(n *int64) string {
	if n == nil {
		return "—"
	}
	return size(*n)
}

func secs(n int64) string { return span.Format(time.Duration(n) * time.Second) }

// clockTime prints an instant in local time, with the day if it is not today.
func clockTime(t *time.Time) string {
	if t == nil || t.IsZero() {
		return "—"
	}
	l := t.Local()
	if y, m, d := l.Date(); l.Year() == time.Now().Year() && y == time.Now().Year() && m == time.Now().Month() && d == time.Now().Day() {
		return l.Format("15:04:05")
	}
	return l.Format("2006-01-02 15:04:05")
}

// mark is the shape that goes with a state, so that no state is told by colour
// alone.
func mark(health string) string {
	switch health {
	case "over", "deletion":
		return "▲"
	case "failed over":
		return "◈"
	case "stalled":
		return "■"
	case "cut off":
		return "✕"
	case "tight":
		return "◆"
	case "seeding":
		return "◌"
	case "paused":
		return "‖"
	}
	return "●"
}

// condition is how something is that is no group, in a word with its shape; was is what is
// said of it before the service has looked.
func condition(c *api.Condition, was string) string {
	if c == nil {
		return was
	}
	m := map[api.ConditionWord]string{api.Down: "✕", api.Strained: "◆", api.Unknown: "?", api.Fine: "●"}[c.Word]
	text := m + " " + string(c.Word)
	if c.Since != nil {
		text += " since " + clockTime(c.Since)
	}
	return text
}

// causeOf is why it is not fine, and the mend.
func causeOf(c *api.Condition) string {
	if c == nil || c.Cause == nil {
		return ""
	}
	text := *c.Cause
	if c.Mend != nil {
		text += " " + *c.Mend
	}
	return text
}

// stateText is a group's health, or that it has ended, with its shape.
func stateText(g api.Group) string {
	if g.Direction == api.Ended {
		return "◇ ended"
	}
	return mark(g.Health) + " " + g.Health
}

// quoted writes a name so that a shell takes it as one word.
func quoted(name string) string {
	if strings.ContainsAny(name, " '\"$&;()<>|*?") {
		return "'" + strings.ReplaceAll(name, "'", `'\''`) + "'"
	}
	return name
}

// count writes a number with its noun.
func count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}
