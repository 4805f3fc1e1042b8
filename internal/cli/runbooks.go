package cli

import (
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
	"kestrel/internal/core/span"
)

func (a *app) runbookCmd() *cobra.Command {
	c := &cobra.Command{Use: "runbook", Short: "What is done in a recovery of a group besides starting its machines",
		Long: `A runbook is derived from a group's berth, with its waves, their checks and waits, and is extended by
steps: before the first wave, or when a wave has come up. It is kept with the points. What a
recovery would do is shown by drill start --plan and failover start --plan.`}
	c.AddCommand(
		&cobra.Command{Use: "show GROUP", Short: "The steps of a group's runbook, by wave, and what it needs", Args: cobra.ExactArgs(1), Example: "  kestrel runbook show Freight-desk",
			RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
				v, err := read[api.BerthView](c.GetBerth(cmd.Context(), args[0]))
				if err != nil {
					return err
				}
				return a.emit(v.Berth, func(w *tabwriter.Writer) { runbookPage(w, args[0], v) })
			})},
		a.runbookAddCmd(),
		&cobra.Command{Use: "remove GROUP STEP", Short: "Take a step out of a group's runbook", Args: cobra.ExactArgs(2), Example: "  kestrel runbook remove Freight-desk 'gate readers'",
			RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
				return a.changeRunbook(cmd, c, args[0], func(b *api.Berth) error {
					all := steps(*b)
					at := slices.IndexFunc(all, func(s api.BerthStep) bool { return strings.EqualFold(s.Name, args[1]) })
					if at < 0 {
						return usage("the runbook of %s has no step %q", args[0], args[1])
					}
					b.Steps = new(slices.Delete(all, at, at+1))
					return nil
				})
			})},
		&cobra.Command{Use: "needs GROUP OTHER…", Short: "Say which groups have to be up before this one starts, where several are recovered together; none for none", Args: cobra.MinimumNArgs(2), Example: "  kestrel runbook needs Freight-desk 'Harbour gates'\n  kestrel runbook needs Freight-desk none",
			RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
				return a.changeRunbook(cmd, c, args[0], func(b *api.Berth) error {
					b.Needs = listOrNone(args[1:])
					return nil
				})
			})})
	return c
}

func steps(b api.Berth) []api.BerthStep {
	if b.Steps == nil {
		return nil
	}
	return slices.Clone(*b.Steps)
}

// changeRunbook changes what is said of a group, and shows what came of it.
func (a *app) changeRunbook(cmd *cobra.Command, c *api.Client, group string, change func(b *api.Berth) error) error {
	v, err := read[api.BerthView](c.GetBerth(cmd.Context(), group))
	if err != nil {
		return err
	}
	if err := change(&v.Berth); err != nil {
		return err
	}
	v, err = read[api.BerthView](c.SetBerth(cmd.Context(), group, api.WriteBerth{Revision: v.Revision, Berth: v.Berth}))
	if err != nil {
		return err
	}
	return a.emit(v.Berth, func(w *tabwriter.Writer) { runbookPage(w, group, v) })
}

// stepFlags are what is said of a step: one of the first says of which kind it is.
type stepFlags struct {
	wait, port, http, guest, serial, host, dns, person string
	message                                            []string
	after, status                                      int
	command, says, limit, failure, only, before, ttl   string
}

func (a *app) runbookAddCmd() *cobra.Command {
	var f stepFlags
	c := &cobra.Command{Use: "add GROUP STEP", Short: "Put a step into a group's runbook", Args: cobra.ExactArgs(2),
		Long: `Put a step into a group's runbook. One option says what it does:

  --wait SPAN               waits
  --port MACHINE:PORT       until a machine takes connections
  --http URL                until it answers; its host may be a machine's name at home
  --guest MACHINE           until --command ends well in its guest, by its agent
  --serial MACHINE          until it has written what --says to its serial console
  --host COMMAND            runs a command from the folder of commands of the recovery site's host
  --dns 'SERVER NAME TYPE VALUE…'
                            changes a name; {MACHINE} as a value is its address there. In a drill
                            it is only said; a failover that is backed out sets it back
  --message CHANNEL         tells people what --says
  --person TEXT             waits for a person's word`,
		Example: `  kestrel runbook add Freight-desk 'desk answers' --after 1 --http http://freight-desk:8443/ --on-failure go-on
  kestrel runbook add Freight-desk 'tell the quay' --message quay --says 'The freight desk starts at Norhaven.'
  kestrel runbook add Freight-desk 'gate readers' --after 1 --person 'Try a gate card at berth 2.' --only failover --limit 30min`,
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			s, err := f.step(args[1])
			if err != nil {
				return err
			}
			return a.changeRunbook(cmd, c, args[0], func(b *api.Berth) error {
				all := steps(*b)
				at := len(all)
				if f.before != "" {
					if at = slices.IndexFunc(all, func(s api.BerthStep) bool { return strings.EqualFold(s.Name, f.before) }); at < 0 {
						return usage("--before %s: there is no such step", f.before)
					}
				}
				b.Steps = new(slices.Insert(all, at, s))
				return nil
			})
		})}
	x := c.Flags()
	x.StringVar(&f.wait, "wait", "", "how long it waits, such as 2min")
	x.StringVar(&f.port, "port", "", "MACHINE:PORT that takes connections")
	x.StringVar(&f.http, "http", "", "address that answers")
	x.StringVar(&f.guest, "guest", "", "machine in whose guest --command runs")
	x.StringVar(&f.serial, "serial", "", "machine whose serial console is read")
	x.StringVar(&f.host, "host", "", "command of the recovery site's host")
	x.StringVar(&f.dns, "dns", "", "'SERVER NAME TYPE VALUE…': name to change")
	x.StringArrayVar(&f.message, "message", nil, "channel by which people are told; again for more")
	x.StringVar(&f.person, "person", "", "what a person is asked")
	x.IntVar(&f.after, "after", 0, "wave after which it comes; 0 is before the first")
	x.IntVar(&f.status, "status", 0, "status that --http answers with; any below 400 if left out")
	x.StringVar(&f.command, "command", "", "command for --guest")
	x.StringVar(&f.says, "says", "", "text of an answer, a console or a message")
	x.StringVar(&f.limit, "limit", "", "how long it may take, such as 10min")
	x.StringVar(&f.failure, "on-failure", "", "ask (if left out), go-on or stop")
	x.StringVar(&f.only, "only", "", "drill or failover; in both if left out")
	x.StringVar(&f.before, "before", "", "step before which it is put; behind the last if left out")
	x.StringVar(&f.ttl, "ttl", "", "how long a changed name may be remembered; 5min if left out")
	kinds := []string{"wait", "port", "http", "guest", "serial", "host", "dns", "message", "person"}
	c.MarkFlagsOneRequired(kinds...)
	c.MarkFlagsMutuallyExclusive(kinds...)
	return c
}

// step reads what was said of a step.
func (f stepFlags) step(name string) (s api.BerthStep, err error) {
	s = api.BerthStep{Name: name, After: f.after, Only: strOr(f.only), OnFailure: strOr(f.failure), Text: strOr(f.says), Command: strOr(f.command)}
	seconds := func(flag, text string) *int64 {
		if text == "" || err != nil {
			return nil
		}
		var d time.Duration
		if d, err = span.Parse(text); err != nil {
			err = usage("%s %s: %v", flag, text, err)
		}
		return new(int64(d / time.Second))
	}
	s.LimitSeconds, s.TTLSeconds = seconds("--limit", f.limit), seconds("--ttl", f.ttl)
	switch {
	case f.wait != "":
		s.Kind, s.SpanSeconds = "wait", seconds("--wait", f.wait)
	case f.port != "":
		machine, text, _ := strings.Cut(f.port, ":")
		n, bad := strconv.Atoi(text)
		if bad != nil {
			return s, usage("--port %s: write it as MACHINE:PORT", f.port)
		}
		s.Kind, s.Machine, s.Port = "port", &machine, &n
	case f.http != "":
		s.Kind, s.URL = "http", &f.http
		if f.status != 0 {
			s.Status = &f.status
		}
	case f.guest != "":
		s.Kind, s.Machine = "guest", &f.guest
	case f.serial != "":
		s.Kind, s.Machine = "serial", &f.serial
	case f.host != "":
		s.Kind, s.Command = "host", &f.host
	case f.dns != "":
		parts := strings.Fields(f.dns)
		if len(parts) < 4 {
			return s, usage("--dns %q: write it as 'SERVER NAME TYPE VALUE…'", f.dns)
		}
		s.Kind, s.Server, s.Record, s.Type, s.To = "dns", &parts[0], &parts[1], &parts[2], new(parts[3:])
	case len(f.message) > 0:
		s.Kind, s.Channels = "message", &f.message
	default:
		s.Kind, s.Text = "person", &f.person
	}
	return s, err
}

func runbookPage(w *tabwriter.Writer, group string, v api.BerthView) {
	row(w, "Runbook of", group)
	row(w, "At", v.Site)
	if v.Berth.Needs != nil {
		row(w, "Needs", strings.Join(*v.Berth.Needs, ", "))
	}
	for _, x := range v.Faults {
		row(w, "◆", x.Message)
	}
	row(w)
	waves := map[int][]string{}
	last := 0
	for _, m := range v.Arrivals {
		waves[m.Wave] = append(waves[m.Wave], m.Machine)
		last = max(last, m.Wave)
	}
	all := steps(v.Berth)
	for _, s := range all {
		last = max(last, s.After)
	}
	row(w, "", "WHAT", "IF IT FAILS", "IN")
	for n := range last + 1 {
		if names := waves[n]; len(names) > 0 {
			row(w, fmt.Sprintf("wave %d", n), strings.Join(names, ", "), "", "")
		}
		for _, s := range all {
			if s.After == n {
				row(w, s.Name, stepText(s), orText(s.OnFailure, "ask"), orText(s.Only, "both"))
			}
		}
	}
}

func orText(p *string, usual string) string {
	if p == nil || *p == "" {
		return usual
	}
	return *p
}

// stepText is what a step does, in short.
func stepText(s api.BerthStep) string {
	of := func(p *string) string { return orText(p, "") }
	switch s.Kind {
	case "wait":
		if s.SpanSeconds != nil {
			return "wait " + secs(*s.SpanSeconds)
		}
	case "port":
		if s.Port != nil {
			return fmt.Sprintf("port %s:%d", of(s.Machine), *s.Port)
		}
	case "http":
		text := "http " + of(s.URL)
		if s.Status != nil {
			text += fmt.Sprintf(" status %d", *s.Status)
		}
		if of(s.Text) != "" {
			text += fmt.Sprintf(" says %q", of(s.Text))
		}
		return text
	case "guest":
		return fmt.Sprintf("guest %s: %s", of(s.Machine), of(s.Command))
	case "serial":
		return fmt.Sprintf("serial %s says %q", of(s.Machine), of(s.Text))
	case "host":
		return "host " + of(s.Command)
	case "dns":
		text := fmt.Sprintf("dns %s: %s %s", of(s.Server), of(s.Record), of(s.Type))
		if s.To != nil {
			text += " " + strings.Join(*s.To, ", ")
		}
		return text
	case "message":
		if s.Channels != nil {
			return fmt.Sprintf("message to %s: %s", strings.Join(*s.Channels, ", "), of(s.Text))
		}
	case "person":
		return "person: " + of(s.Text)
	}
	return s.Kind
}

// stepCmd decides on a step of a drill or failover.
func (a *app) stepCmd(of, example string, decide func(cmd *cobra.Command, c *api.Client, id string, in api.StepDecision) error) *cobra.Command {
	var note string
	c := &cobra.Command{Use: "step " + of + " STEP done|failed|again|skip", Short: "Decide on a step of its runbook", Args: cobra.ExactArgs(3),
		Long:    "Decide on a step of its runbook: say that one which waits for a person is done or failed, have one done again, or go on without it.",
		Example: example,
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			return decide(cmd, c, args[0], api.StepDecision{Step: args[1], Action: args[2], Note: strOr(note)})
		})}
	c.Flags().StringVar(&note, "note", "", "what the record keeps of it; why, with skip and failed")
	return c
}

// stepRows shows the steps of a recovery, or of one that is planned.
func stepRows(w io.Writer, all []api.RunbookStep) {
	if len(all) == 0 {
		return
	}
	row(w)
	if all[0].State == nil {
		row(w, "AFTER WAVE", "STEP", "DOES", "IF IT FAILS", "TOOK THE LAST TIME")
		for _, s := range all {
			took := "—"
			if s.ExpectedSeconds != nil {
				took = moment(*s.ExpectedSeconds)
			}
			row(w, s.After, s.Name, s.Text, s.OnFailure, took)
		}
		return
	}
	row(w, "", "STEP", "STATE", "BEGAN", "TOOK", "CAME")
	for _, s := range all {
		mark, took, said := "○", "—", s.Text
		switch *s.State {
		case "passed":
			mark = "●"
		case "failed", "asking":
			mark = "◆"
		case "skipped":
			mark = "◇"
		case "running":
			mark = "◌"
		}
		if s.TookSeconds != nil {
			took = moment(*s.TookSeconds)
		}
		if s.Said != nil && *s.State != "running" {
			said = *s.Said
		}
		if s.By != nil {
			said += " (" + *s.By + ")"
		}
		row(w, mark, s.Name, *s.State, clockTime(s.BeganAt), took, said)
	}
}

func (a *app) dnsServerCmd() *cobra.Command {
	c := &cobra.Command{Use: "dns-server", Short: "DNS servers whose names runbooks change"}
	var in api.NewDNSServer
	var algorithm string
	add := &cobra.Command{Use: "add NAME", Short: "Take note of a DNS server, and of the key under which it takes changes", Args: cobra.ExactArgs(1),
		Long:    "Take note of a DNS server. The secret of its key (TSIG) is asked for, or read from standard input; it is kept encrypted.",
		Example: "  kestrel dns-server add mole-dns --address 127.0.0.1:5353 --key kestrel-tide --may-change '*.skerry.example'",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			secret, err := a.hidden("Secret of the key: ", false)
			if err != nil {
				return err
			}
			in.Name, in.Secret, in.Algorithm = args[0], secret, strOr(algorithm)
			v, err := read[api.DNSServer](c.AddDNSServer(cmd.Context(), in))
			if err != nil {
				return err
			}
			return a.emit(v, func(w *tabwriter.Writer) { dnsServerTable(w, []api.DNSServer{v}) })
		})}
	add.Flags().StringVar(&in.Address, "address", "", "HOST:PORT")
	add.Flags().StringVar(&in.KeyName, "key", "", "name of the key")
	add.Flags().StringVar(&algorithm, "algorithm", "", "hmac-sha256 (if left out), hmac-sha384 or hmac-sha512")
	add.Flags().StringSliceVar(&in.Names, "may-change", nil, "name that runbooks may change, or *.DOMAIN for all below one; again for more")
	for _, f := range []string{"address", "key", "may-change"} {
		_ = add.MarkFlagRequired(f)
	}
	c.AddCommand(add,
		&cobra.Command{Use: "list", Short: "List them", Args: cobra.NoArgs, Example: "  kestrel dns-server list",
			RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
				all, err := read[[]api.DNSServer](c.ListDNSServers(cmd.Context()))
				if err != nil {
					return err
				}
				return a.emit(all, func(w *tabwriter.Writer) { dnsServerTable(w, all) })
			})},
		&cobra.Command{Use: "test SERVER NAME", Short: "Ask it for the zone of a name, under the key; changes nothing", Args: cobra.ExactArgs(2), Example: "  kestrel dns-server test mole-dns tickets.skerry.example",
			RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
				v, err := read[api.DNSServerTest](c.TestDNSServer(cmd.Context(), args[0], api.TestDNSServerJSONRequestBody{Name: args[1]}))
				if err != nil {
					return err
				}
				return a.emit(v, func(w *tabwriter.Writer) { row(w, map[bool]string{true: "●", false: "◆"}[v.Ok], v.Text) })
			})},
		&cobra.Command{Use: "remove SERVER", Short: "Forget one, and its key", Args: cobra.ExactArgs(1), Example: "  kestrel dns-server remove mole-dns",
			RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
				if err := done(c.RemoveDNSServer(cmd.Context(), args[0])); err != nil {
					return err
				}
				return a.did("%s is forgotten.", args[0])
			})})
	return c
}

func dnsServerTable(w io.Writer, all []api.DNSServer) {
	row(w, "NAME", "ADDRESS", "KEY", "ALGORITHM", "RUNBOOKS MAY CHANGE")
	for _, s := range all {
		row(w, s.Name, s.Address, strings.TrimSuffix(s.KeyName, "."), s.Algorithm, strings.Join(s.Names, ", "))
	}
}
