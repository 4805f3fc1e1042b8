package cli

import (
	"context"
	"fmt"
	"os"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
)

func (a *app) channelCmd() *cobra.Command {
	c := &cobra.Command{Use: "channel", Short: "Where people are told of alerts: by mail and by webhook"}
	c.AddCommand(a.channelListCmd(), a.channelMailCmd(), a.channelWebhookCmd(), a.channelEditCmd(), a.channelTestCmd(), a.channelDeleteCmd())
	return c
}

// channelFlags are what is said of a channel.
type channelFlags struct {
	server, tls, user, from, url, digest, zone, trust string
	to                                                []string
	urgent                                            bool
}

func (f *channelFlags) both(c *cobra.Command) {
	c.Flags().StringVar(&f.digest, "digest", "", "when it gets a summary every day, such as 07:00; '' for never")
	c.Flags().StringVar(&f.zone, "zone", "", "time zone of --digest, such as Europe/Oslo; UTC if left out")
	c.Flags().StringVar(&f.trust, "trust", "", "file with the certificates, as PEM, that sign the server's; those of the host if left out")
	c.Flags().BoolVar(&f.urgent, "urgent-only", false, "tell it of nothing that is only a warning")
}

func (f *channelFlags) mail(c *cobra.Command) {
	c.Flags().StringVar(&f.server, "server", "", "HOST:PORT of the SMTP server")
	c.Flags().StringVar(&f.tls, "tls", "", "starttls (if left out), implicit, or none, on loopback only")
	c.Flags().StringVarP(&f.user, "user", "u", "", "user to sign in with; the password is asked for or read from standard input")
	c.Flags().StringVar(&f.from, "from", "", "sender")
	c.Flags().StringSliceVar(&f.to, "to", nil, "recipient; give it again for more")
}

// enter puts what was given into a channel.
func (f *channelFlags) enter(c *cobra.Command, in *api.WriteChannel) error {
	for _, x := range []struct {
		flag, text string
		to         **string
	}{{"server", f.server, &in.Server}, {"tls", f.tls, &in.TLS}, {"user", f.user, &in.User}, {"from", f.from, &in.From}, {"url", f.url, &in.URL}, {"digest", f.digest, &in.Digest}, {"zone", f.zone, &in.Zone}} {
		if c.Flags().Changed(x.flag) {
			*x.to = strOr(x.text)
		}
	}
	if c.Flags().Changed("to") {
		in.To = &f.to
	}
	if c.Flags().Changed("urgent-only") {
		in.UrgentOnly = &f.urgent
	}
	if f.trust != "" {
		b, err := os.ReadFile(f.trust)
		if err != nil {
			return usage("--trust: %v", err)
		}
		in.Trust = new(string(b))
	}
	return nil
}

func (a *app) findChannel(ctx context.Context, c *api.Client, name string) (api.Channel, error) {
	all, err := read[[]api.Channel](c.ListChannels(ctx))
	if err != nil {
		return api.Channel{}, err
	}
	for _, x := range all {
		if x.ID == name || strings.EqualFold(x.Name, name) {
			return x, nil
		}
	}
	return api.Channel{}, notFound("There is no channel %q. kestrel channel list shows them.", name)
}

func (a *app) channelListCmd() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "Channels, and how the last delivery went", Args: cobra.NoArgs, Example: "  kestrel channel list", RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
		all, err := read[[]api.Channel](c.ListChannels(cmd.Context()))
		if err != nil {
			return err
		}
		return a.emit(all, func(w *tabwriter.Writer) {
			if len(all) == 0 {
				row(w, "None: nobody is told of alerts. kestrel channel add-mail or add-webhook makes one.")
				return
			}
			channelTable(w, all)
		})
	})}
}

func channelTable(w *tabwriter.Writer, all []api.Channel) {
	row(w, "", "CHANNEL", "KIND", "TO", "TOLD", "DIGEST", "WAITING", "LAST")
	for _, x := range all {
		m, to, told, digest, last := "●", "", "all", "—", "nothing yet"
		if x.URL != nil {
			to = *x.URL
		}
		if x.To != nil {
			to = strings.Join(*x.To, ", ")
		}
		if x.UrgentOnly {
			told = "what is urgent"
		}
		if x.Digest != nil {
			digest = *x.Digest
			if x.Zone != nil {
				digest += " " + *x.Zone
			}
		}
		if x.LastAt != nil {
			last = "taken " + clockTime(x.LastAt)
		}
		if x.LastError != nil {
			m, last = "✕", "failed "+clockTime(x.LastAt)+": "+*x.LastError
		}
		if x.Off {
			m, told = "○", "nothing: it is off"
		}
		row(w, m, x.Name, x.Kind, to, told, digest, x.Waiting, last)
	}
}

func (a *app) showChannel(v api.Channel) error {
	return a.emit(v, func(w *tabwriter.Writer) {
		channelTable(w, []api.Channel{v})
		if v.Key != nil {
			row(w)
			_, _ = fmt.Fprintf(w, "Events are signed with this key; it is not shown again: %s\n", *v.Key)
		}
	})
}

func (a *app) channelMailCmd() *cobra.Command {
	var f channelFlags
	c := &cobra.Command{Use: "add-mail NAME", Short: "Tell people by mail", Args: cobra.ExactArgs(1),
		Example: "  kestrel channel add-mail on-call --server mail.skerry.example:587 --user kestrel --from kestrel@skerry.example --to night@skerry.example --digest 07:00 --zone Europe/Oslo",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			in := api.WriteChannel{Name: args[0], Kind: "mail"}
			if err := f.enter(cmd, &in); err != nil {
				return err
			}
			if f.user != "" {
				password, err := a.password(false)
				if err != nil {
					return err
				}
				in.Password = &password
			}
			v, err := read[api.Channel](c.CreateChannel(cmd.Context(), in))
			if err != nil {
				return err
			}
			return a.showChannel(v)
		})}
	f.mail(c)
	f.both(c)
	return c
}

func (a *app) channelWebhookCmd() *cobra.Command {
	var f channelFlags
	c := &cobra.Command{Use: "add-webhook NAME URL", Short: "Post events to a server", Args: cobra.ExactArgs(2),
		Long: `Post events to a server, as CloudEvents 1.0 in JSON. They are signed with a key that is made and shown once: the header
Webhook-Signature is "v1," and the HMAC-SHA256 in Base64 over Webhook-Id, Webhook-Timestamp and the body, apart by dots.`,
		Example: "  kestrel channel add-webhook desk https://desk.skerry.example/in --urgent-only",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			in := api.WriteChannel{Name: args[0], Kind: "webhook", URL: &args[1]}
			if err := f.enter(cmd, &in); err != nil {
				return err
			}
			v, err := read[api.Channel](c.CreateChannel(cmd.Context(), in))
			if err != nil {
				return err
			}
			return a.showChannel(v)
		})}
	f.both(c)
	return c
}

func (a *app) channelEditCmd() *cobra.Command {
	var f channelFlags
	var name, key string
	var password, off, on bool
	c := &cobra.Command{Use: "edit CHANNEL", Short: "Change a channel; what is not given stays", Args: cobra.ExactArgs(1), Example: "  kestrel channel edit on-call --to night@skerry.example --to day@skerry.example\n  kestrel channel edit desk --off",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			x, err := a.findChannel(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			in := api.WriteChannel{Name: x.Name, Kind: x.Kind, Revision: &x.Revision, Off: &x.Off, UrgentOnly: &x.UrgentOnly, Digest: x.Digest, Zone: x.Zone, Server: x.Server, TLS: x.TLS, User: x.User, From: x.From, To: x.To, URL: x.URL, Trust: x.Trust}
			if err := f.enter(cmd, &in); err != nil {
				return err
			}
			if name != "" {
				in.Name = name
			}
			if off || on {
				in.Off = &off
			}
			in.Key = strOr(key)
			if password {
				p, err := a.password(false)
				if err != nil {
					return err
				}
				in.Password = &p
			}
			v, err := read[api.Channel](c.SetChannel(cmd.Context(), x.ID, in))
			if err != nil {
				return err
			}
			return a.showChannel(v)
		})}
	f.mail(c)
	f.both(c)
	c.Flags().StringVar(&f.url, "url", "", "where events are posted")
	c.Flags().StringVar(&name, "name", "", "another name")
	c.Flags().StringVar(&key, "key", "", "another key to sign events with")
	c.Flags().BoolVar(&password, "password", false, "ask for another password")
	c.Flags().BoolVar(&off, "off", false, "tell it nothing")
	c.Flags().BoolVar(&on, "on", false, "tell it again")
	c.MarkFlagsMutuallyExclusive("off", "on")
	return c
}

func (a *app) channelTestCmd() *cobra.Command {
	return &cobra.Command{Use: "test CHANNEL", Short: "Send something to a channel now, and say how that went", Args: cobra.ExactArgs(1), Example: "  kestrel channel test on-call", RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
		t, err := read[api.ChannelTest](c.TestChannel(cmd.Context(), args[0]))
		if err != nil {
			return err
		}
		err = a.emit(t, func(w *tabwriter.Writer) {
			m := "✕"
			if t.Ok {
				m = "●"
			}
			row(w, m+" "+t.Text)
		})
		if err == nil && !t.Ok {
			err = refused("%s was not told.", args[0])
		}
		return err
	})}
}

func (a *app) channelDeleteCmd() *cobra.Command {
	var yes bool
	c := &cobra.Command{Use: "delete CHANNEL", Short: "Remove a channel, and what it was still to be told", Args: cobra.ExactArgs(1), Example: "  kestrel channel delete desk", RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
		if err := a.confirm(yes, "Nobody is told of alerts by %s any more.", args[0]); err != nil {
			return err
		}
		if err := done(c.DeleteChannel(cmd.Context(), args[0])); err != nil {
			return err
		}
		return a.did("The channel %s is removed.", args[0])
	})}
	c.Flags().BoolVarP(&yes, "yes", "y", false, "do not ask")
	return c
}
