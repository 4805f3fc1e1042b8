package cli

import (
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"kestrel/internal/api"
	"kestrel/internal/core/span"
)

func (a *app) alertCmd() *cobra.Command {
	c := &cobra.Command{Use: "alert", Short: "What somebody has to see to, and who is told of it"}
	c.AddCommand(a.alertListCmd(), a.alertAckCmd(), a.alertSilenceCmd(), a.alertSilencesCmd(), a.alertUnsilenceCmd(), a.alertRulesCmd(), a.alertRuleCmd())
	return c
}

func (a *app) alertListCmd() *cobra.Command {
	var cleared bool
	var since string
	c := &cobra.Command{Use: "list", Short: "Open alerts, the most urgent first", Args: cobra.NoArgs, Example: "  kestrel alert list\n  kestrel alert list --cleared --since 7d",
		Long: `List what somebody has to see to, the most urgent first: one alert for one cause, with the groups that it holds up.
With --cleared, list what was and is cleared, the newest first.`,
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
			p := &api.ListAlertsParams{}
			if since != "" && !cleared {
				return usage("--since is of cleared alerts; give --cleared as well.")
			}
			if cleared {
				p.State = new("cleared")
			}
			if since != "" {
				d, err := span.Parse(since)
				if err != nil {
					return usage("--since %s: %v", since, err)
				}
				p.From = new(time.Now().Add(-d).UTC())
			}
			all, err := read[[]api.Alert](c.ListAlerts(cmd.Context(), p))
			if err != nil {
				return err
			}
			return a.emit(all, func(w *tabwriter.Writer) {
				if len(all) == 0 {
					row(w, "None.")
					return
				}
				for i, x := range all {
					if i > 0 {
						row(w)
					}
					alertRows(w, x)
				}
			})
		})}
	c.Flags().BoolVar(&cleared, "cleared", false, "those that are cleared")
	c.Flags().StringVar(&since, "since", "", "of cleared ones, those that were raised lately, such as 7d; 30d if left out")
	return c
}

func alertRows(w *tabwriter.Writer, x api.Alert) {
	m := "!"
	switch {
	case x.ClearedAt != nil:
		m = "●"
	case x.Level == api.Urgent:
		m = "✕"
	}
	row(w, m+" "+x.Kind, x.Name+"  "+string(x.Level)+"  since "+clockTime(&x.Since)+"  "+x.ID[:8])
	row(w, "", x.Text)
	if x.Mend != nil && x.ClearedAt == nil {
		row(w, "", *x.Mend)
	}
	if len(x.Members) > 0 {
		row(w, "", "Holds up "+strings.Join(x.Members, ", ")+".")
	}
	var notes []string
	for _, n := range []struct {
		at   *time.Time
		text string
	}{{x.ToldAt, "told"}, {x.EscalatedAt, "escalated"}, {x.ClearedAt, "cleared"}} {
		if n.at != nil {
			notes = append(notes, n.text+" "+clockTime(n.at))
		}
	}
	if x.AckedBy != nil {
		t := *x.AckedBy + " sees to it since " + clockTime(x.AckedAt)
		if x.AckNote != nil {
			t += ": " + *x.AckNote
		}
		notes = append(notes, t)
	}
	if x.Silenced != nil {
		notes = append(notes, "silenced by "+*x.Silenced)
	}
	if x.PartOf != nil {
		notes = append(notes, "taken over by an alert \""+*x.PartOf+"\"")
	}
	if len(notes) > 0 {
		row(w, "", strings.Join(notes, " · "))
	}
}

// findAlert resolves what was typed: an ID, its beginning, or the name of what only one open
// alert is about.
func findAlert(all []api.Alert, text string) (api.Alert, error) {
	var found []api.Alert
	for _, x := range all {
		if x.ID == text {
			return x, nil
		}
		if strings.EqualFold(x.Name, text) || len(text) >= 4 && strings.HasPrefix(x.ID, strings.ToLower(text)) {
			found = append(found, x)
		}
	}
	switch len(found) {
	case 0:
		return api.Alert{}, notFound("No open alert is %q. kestrel alert list shows them.", text)
	case 1:
		return found[0], nil
	}
	var ids []string
	for _, x := range found {
		ids = append(ids, x.ID[:8]+" ("+x.Kind+")")
	}
	return api.Alert{}, usage("%q has more than one open alert; give the beginning of an ID: %s", text, strings.Join(ids, ", "))
}

func (a *app) alertAckCmd() *cobra.Command {
	var note string
	c := &cobra.Command{Use: "ack ALERT", Short: "Say that you see to an alert", Args: cobra.ExactArgs(1), Example: "  kestrel alert ack Ticketing --note 'the array is being swapped'",
		Long: `Say that you see to an alert, given by the beginning of its ID or by the name of what it is about. It stays open until
it is cleared by itself, and is not escalated any more.`,
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			all, err := read[[]api.Alert](c.ListAlerts(cmd.Context(), &api.ListAlertsParams{}))
			if err != nil {
				return err
			}
			x, err := findAlert(all, args[0])
			if err != nil {
				return err
			}
			x, err = read[api.Alert](c.AcknowledgeAlert(cmd.Context(), x.ID, api.Acknowledgement{Note: strOr(note)}))
			if err != nil {
				return err
			}
			return a.emit(x, func(w *tabwriter.Writer) { alertRows(w, x) })
		})}
	c.Flags().StringVar(&note, "note", "", "what you do about it, for others to read")
	return c
}

// ofFlags say of which groups something is.
type ofFlags struct{ group, tag, tier string }

func (o *ofFlags) add(f *pflag.FlagSet, what string) {
	f.StringVar(&o.group, "group", "", what+" of this group")
	f.StringVar(&o.tag, "tag", "", what+" of groups with this tag")
	f.StringVar(&o.tier, "tier", "", what+" of groups that follow this tier")
}

func ofText(group, tag, tier *string) string {
	switch {
	case group != nil:
		return "group " + *group
	case tag != nil:
		return "tag " + *tag
	case tier != nil:
		return "tier " + *tier
	}
	return "all"
}

func (a *app) alertSilenceCmd() *cobra.Command {
	var of ofFlags
	var kind, lasts, when, zone, reason string
	c := &cobra.Command{Use: "silence", Short: "Tell nobody of some alerts for a while, or again and again", Args: cobra.NoArgs,
		Example: "  kestrel alert silence --group Ticketing --lasts 2h --reason 'array swap'\n  kestrel alert silence --when 'sun at 02:00' --zone Europe/Oslo --lasts 3h --reason 'weekly maintenance'",
		Long: `Tell nobody of some alerts: for a while from now on, or with --when from each start of a calendar on (a maintenance
window). Alerts are raised and kept all the same; what is still open when a silence ends is told then.`,
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
			d, err := spanOr("--lasts", lasts)
			if err != nil {
				return err
			}
			s, err := read[api.Silence](c.CreateSilence(cmd.Context(), api.NewSilence{Kind: strOr(kind), Group: strOr(of.group), Tag: strOr(of.tag), Tier: strOr(of.tier), LastsSeconds: d, Calendar: strOr(when), Zone: strOr(zone), Reason: reason}))
			if err != nil {
				return err
			}
			return a.emit(s, func(w *tabwriter.Writer) { silenceTable(w, []api.Silence{s}) })
		})}
	of.add(c.Flags(), "only alerts")
	c.Flags().StringVar(&kind, "kind", "", "only alerts of this kind, such as 'over target'")
	c.Flags().StringVar(&lasts, "lasts", "", "how long, such as 2h")
	c.Flags().StringVar(&when, "when", "", "when it begins again and again, such as 'sun at 02:00'; now if left out")
	c.Flags().StringVar(&zone, "zone", "", "time zone of --when, such as Europe/Oslo; UTC if left out")
	c.Flags().StringVar(&reason, "reason", "", "why, for whoever looks for an alert that did not come")
	return c
}

func silenceTable(w *tabwriter.Writer, all []api.Silence) {
	row(w, "", "ID", "OF", "KIND", "WHEN", "BY", "WHY")
	for _, s := range all {
		when := "until " + clockTime(s.Until)
		if s.Calendar != nil {
			when = *s.Calendar
			if s.LastsSeconds != nil {
				when += ", for " + secs(*s.LastsSeconds)
			}
			if s.Zone != nil {
				when += ", " + *s.Zone
			}
		}
		kind := "every"
		if s.Kind != nil {
			kind = *s.Kind
		}
		m := "○"
		if s.Holds {
			m = "●"
		}
		row(w, m, s.ID[:8], ofText(s.Group, s.Tag, s.Tier), kind, when, s.MadeBy, s.Reason)
	}
}

func (a *app) alertSilencesCmd() *cobra.Command {
	return &cobra.Command{Use: "silences", Short: "When nobody is told; ● holds at this moment", Args: cobra.NoArgs, Example: "  kestrel alert silences", RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
		all, err := read[[]api.Silence](c.ListSilences(cmd.Context()))
		if err != nil {
			return err
		}
		return a.emit(all, func(w *tabwriter.Writer) {
			if len(all) == 0 {
				row(w, "None.")
				return
			}
			silenceTable(w, all)
		})
	})}
}

func (a *app) alertUnsilenceCmd() *cobra.Command {
	return &cobra.Command{Use: "unsilence ID", Short: "End a silence", Args: cobra.ExactArgs(1), Example: "  kestrel alert unsilence 3f2a", RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
		all, err := read[[]api.Silence](c.ListSilences(cmd.Context()))
		if err != nil {
			return err
		}
		var found []api.Silence
		for _, s := range all {
			if strings.HasPrefix(s.ID, strings.ToLower(args[0])) {
				found = append(found, s)
			}
		}
		if len(found) != 1 {
			return notFound("%q begins the ID of %s. kestrel alert silences shows them.", args[0], count(len(found), "silence"))
		}
		if err := done(c.EndSilence(cmd.Context(), found[0].ID)); err != nil {
			return err
		}
		return a.did("The silence is over (%s).", found[0].Reason)
	})}
}

func ruleTable(w *tabwriter.Writer, v api.AlertRules) {
	row(w, "KIND", "OF", "LEVEL", "AFTER", "WITHIN", "TOLD", "QUIET", "ESCALATED", "")
	for _, r := range v.Rules {
		level, told, quiet, late, usual := "", "all channels", "—", "—", ""
		if r.Level != nil {
			level = *r.Level
		}
		if r.Off != nil && *r.Off {
			level = "off"
		}
		if r.Channels != nil {
			told = strings.Join(*r.Channels, ", ")
		}
		if r.Quiet != nil {
			quiet = *r.Quiet
			if r.Zone != nil {
				quiet += " " + *r.Zone
			}
		}
		if r.EscalateAfterSeconds != nil && r.EscalateTo != nil {
			late = "after " + secs(*r.EscalateAfterSeconds) + " to " + *r.EscalateTo
		}
		if r.Usual != nil {
			usual = "as usual"
		}
		within := "—"
		if r.WithinSeconds != nil {
			within = secs(*r.WithinSeconds)
		}
		after := "at once"
		if r.AfterSeconds != nil && *r.AfterSeconds > 0 {
			after = secs(*r.AfterSeconds)
		}
		row(w, r.Kind, ofText(r.Group, r.Tag, r.Tier), level, after, within, told, quiet, late, usual)
	}
}

func (a *app) alertRulesCmd() *cobra.Command {
	return &cobra.Command{Use: "rules", Short: "When alerts are raised and who is told", Args: cobra.NoArgs, Example: "  kestrel alert rules", RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
		v, err := read[api.AlertRules](c.GetAlertRules(cmd.Context()))
		if err != nil {
			return err
		}
		return a.emit(v, func(w *tabwriter.Writer) { ruleTable(w, v) })
	})}
}

func (a *app) alertRuleCmd() *cobra.Command {
	var of ofFlags
	var level, after, within, quiet, zone, escalateAfter, escalateTo string
	var channels []string
	var off, on, usual bool
	c := &cobra.Command{Use: "rule KIND", Short: "Change when alerts of a kind are raised, and who is told", Args: cobra.ExactArgs(1),
		Example: "  kestrel alert rule 'over target' --tier Harbour-1 --after 30s --escalate-after 15m --escalate-to on-call\n  kestrel alert rule tight --quiet 'daily 22:00-06:00' --zone Europe/Oslo\n  kestrel alert rule 'not at rest' --tag lab --off\n  kestrel alert rule tight --usual",
		Long: `Change the rule for a kind of alert, for all groups or for those of a tier, a tag, or one group; that for a group counts
before that for a tag, and that before that for a tier. What is not given stays as it is, or as usual in a new rule.
With --usual the rule is as usual again.`,
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			v, err := read[api.AlertRules](c.GetAlertRules(cmd.Context()))
			if err != nil {
				return err
			}
			r := api.AlertRule{Kind: args[0], Group: strOr(of.group), Tag: strOr(of.tag), Tier: strOr(of.tier)}
			at := slices.IndexFunc(v.Rules, func(x api.AlertRule) bool {
				return x.Kind == r.Kind && strings.EqualFold(ofText(x.Group, x.Tag, x.Tier), ofText(r.Group, r.Tag, r.Tier))
			})
			if at >= 0 {
				r = v.Rules[at]
				v.Rules = slices.Delete(v.Rules, at, at+1)
			}
			r.Usual = nil
			for _, x := range []struct {
				flag, text string
				to         **int64
			}{{"after", after, &r.AfterSeconds}, {"within", within, &r.WithinSeconds}, {"escalate-after", escalateAfter, &r.EscalateAfterSeconds}} {
				if cmd.Flags().Changed(x.flag) {
					if *x.to, err = spanOr("--"+x.flag, x.text); err != nil {
						return err
					}
				}
			}
			for _, x := range []struct {
				flag, text string
				to         **string
			}{{"level", level, &r.Level}, {"quiet", quiet, &r.Quiet}, {"zone", zone, &r.Zone}, {"escalate-to", escalateTo, &r.EscalateTo}} {
				if cmd.Flags().Changed(x.flag) {
					*x.to = strOr(x.text)
				}
			}
			if cmd.Flags().Changed("channel") {
				r.Channels = orNone(channels)
			}
			if off || on {
				r.Off = &off
			}
			if !usual {
				v.Rules = append(v.Rules, r)
			} else if at < 0 {
				return notFound("There is no rule of its own for %q of %s. kestrel alert rules shows them.", args[0], ofText(r.Group, r.Tag, r.Tier))
			}
			v, err = read[api.AlertRules](c.SetAlertRules(cmd.Context(), api.WriteAlertRules(v)))
			if err != nil {
				return err
			}
			return a.emit(v, func(w *tabwriter.Writer) { ruleTable(w, v) })
		})}
	of.add(c.Flags(), "the rule for alerts")
	f := c.Flags()
	f.StringVar(&level, "level", "", "urgent or warning")
	f.StringVar(&after, "after", "", "how long it has to be so before anybody is told, such as 5m")
	f.StringVar(&within, "within", "", "threshold: how long before a store is full or a certificate ends, or by how much clocks differ")
	f.StringSliceVar(&channels, "channel", nil, "who is told; give it again for more, or '' for all")
	f.StringVar(&quiet, "quiet", "", "when nobody is told, such as 'daily 22:00-06:00'")
	f.StringVar(&zone, "zone", "", "time zone of --quiet")
	f.StringVar(&escalateAfter, "escalate-after", "", "how long nobody may see to it before others are told, such as 30m; 0 for never")
	f.StringVar(&escalateTo, "escalate-to", "", "the channel by which they are")
	f.BoolVar(&off, "off", false, "raise none")
	f.BoolVar(&on, "on", false, "raise them again")
	f.BoolVar(&usual, "usual", false, "forget the rule: it is as usual again")
	c.MarkFlagsMutuallyExclusive("off", "on", "usual")
	return c
}
