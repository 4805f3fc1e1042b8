package cli

import (
	"fmt"
	"net/url"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
	"kestrel/internal/core/span"
)

func (a *app) calendarCmd() *cobra.Command {
	var group, link, length, from string
	c := &cobra.Command{Use: "calendar", Short: "When cycles start, and which are in each other's way", Args: cobra.NoArgs,
		Example: "  kestrel calendar\n  kestrel calendar --for month --group \"Crew rota\"\n  kestrel calendar --for day --from 2026-12-24T00:00Z",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
			d, ok := map[string]time.Duration{"day": span.Day, "week": 7 * span.Day, "month": 31 * span.Day}[length]
			if !ok {
				var err error
				if d, err = span.Parse(length); err != nil {
					return usage("--for %s: give day, week, month or a length of time up to 62 d", length)
				}
			}
			begin, err := instant("--from", from, true)
			if err != nil {
				return err
			}
			if begin == nil {
				begin = new(time.Now())
			}
			v, err := read[api.Calendar](c.GetCalendar(cmd.Context(), &api.GetCalendarParams{From: begin, To: new(begin.Add(d)), Group: strOr(group), Link: strOr(link)}))
			if err != nil {
				return err
			}
			return a.emit(v, func(w *tabwriter.Writer) { calendarPage(w, v) })
		})}
	c.Flags().StringVar(&group, "group", "", "of this group only")
	c.Flags().StringVar(&link, "link", "", "of groups over this link only")
	c.Flags().StringVar(&length, "for", "week", "day, week, month or a length of time up to 62d")
	c.Flags().StringVar(&from, "from", "", "from this time on, such as 2026-12-24T00:00Z (default now)")
	c.AddCommand(a.feedCmd())
	return c
}

func calendarPage(w *tabwriter.Writer, v api.Calendar) {
	day := ""
	for _, s := range v.Starts {
		at := s.At.Local()
		if d := at.Format("Mon 2 Jan 2006"); d != day {
			if day != "" {
				row(w)
			}
			day = d
			row(w, d)
		}
		took := ""
		if s.LengthSeconds != nil {
			took = "about " + secs(*s.LengthSeconds)
		}
		note := ""
		if s.Clash != nil {
			note = "! at the same time: " + strings.Join(*s.Clash, ", ")
		}
		if s.Note != nil {
			note = strings.TrimSpace(*s.Note + "  " + note)
		}
		row(w, "  "+at.Format("15:04:05"), s.GroupName, took, note)
	}
	if len(v.Starts) == 0 {
		row(w, "No start is foretold from "+clockTime(&v.From)+" to "+clockTime(&v.To)+" but for what is steady.")
	}
	if len(v.Steady) > 0 {
		row(w)
		row(w, "Steady, not listed one by one")
	}
	for _, s := range v.Steady {
		quiet := ""
		if s.Quiet != nil {
			quiet = "quiet " + *s.Quiet
		}
		row(w, "", s.GroupName, s.Cadence, quiet)
	}
}

func (a *app) feedCmd() *cobra.Command {
	var group, link string
	var days int
	c := &cobra.Command{Use: "feed NAME", Short: "Make an address that programs for calendars read; NAME is that of its token", Args: cobra.ExactArgs(1),
		Long: `Make an iCalendar address (RFC 5545) of the starts of the next 31 days. It holds a
token of a viewer, which can be revoked like any other: kestrel token revoke.`,
		Example: "  kestrel calendar feed phone",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			t, err := read[api.TokenSecret](c.CreateToken(cmd.Context(), api.NewToken{Name: args[0], Role: new("viewer"), Days: days}))
			if err != nil {
				return err
			}
			q := url.Values{"token": {t.Secret}}
			if group != "" {
				q.Set("group", group)
			}
			if link != "" {
				q.Set("link", link)
			}
			at, err := a.currentProfile()
			if err != nil {
				return err
			}
			feed := fmt.Sprintf("%s/api/v1/calendar.ics?%s", strings.TrimSuffix(at.URL, "/"), q.Encode())
			return a.emit(map[string]string{"url": feed}, func(w *tabwriter.Writer) {
				row(w, feed)
				row(w, "It is shown this once. Whoever has it sees when cycles start; revoke it with: kestrel token revoke "+args[0])
			})
		})}
	c.Flags().StringVar(&group, "group", "", "of this group only")
	c.Flags().StringVar(&link, "link", "", "of groups over this link only")
	c.Flags().IntVar(&days, "days", 365, "days until it ends, 1 to 365")
	return c
}
