package cli

import (
	"fmt"
	"strconv"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
	"kestrel/internal/core/pace"
	"kestrel/internal/core/span"
)

func (a *app) forecastCmd() *cobra.Command {
	var long string
	var link, group, join, to, tier string
	var rates, away, machines []string
	var p promiseFlags
	c := &cobra.Command{Use: "forecast", Short: "How all groups fare in the days to come, or would if", Args: cobra.NoArgs,
		Long: `Steps the scheduler through the days to come, by what was measured of each group, and tells who keeps the target,
how full links are, and what would make it fit where it does not. With flags it tells what would be if.`,
		Example: `  kestrel forecast
  kestrel forecast --for 14d --rate Eastmole=50% --away Skarholt=2d
  kestrel forecast --group Ticketing --every 1min --rpo 5min
  kestrel forecast --join Kiosks --machine berth-kiosk --machine print-queue --to Eastmole --tier Public-2`,
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
			ahead, err := spanOr("--for", long)
			if err != nil {
				return err
			}
			if ahead == nil || *ahead < 3600 || *ahead > 31*86400 {
				return usage("--for: give an hour to 31 days, not %q", long)
			}
			hours := int((*ahead + 3599) / 3600)
			in := api.SiteForecastRequest{Hours: &hours, Link: strOr(link), Group: strOr(group)}
			if in.Rates, err = ifRates(rates); err != nil {
				return err
			}
			if in.Away, err = ifAway(away); err != nil {
				return err
			}
			patch, err := p.read()
			if err != nil {
				return err
			}
			switch {
			case join != "":
				in.Join = &api.NewGroup{Name: join, Machines: machines, Link: to, Tier: strOr(tier)}
				if patch != nil {
					in.Join.Promise = whole(patch)
				}
			case group != "":
				in.Change = &api.GroupPatch{Promise: patch, Tier: strOr(tier)}
				if machines != nil {
					in.Change.AddMachines = &machines
				}
			case patch != nil || machines != nil || tier != "" || to != "":
				return usage("name the group that is changed with --group, or made with --join")
			}
			v, err := read[api.SiteForecast](c.ForecastSite(cmd.Context(), in))
			if err != nil {
				return err
			}
			return a.emit(v, func(w *tabwriter.Writer) { siteForecast(w, v) })
		})}
	f := c.Flags()
	f.StringVar(&long, "for", "7d", "how far, from an hour to 31 days")
	f.StringVar(&link, "link", "", "only groups that go to this site")
	f.StringArrayVar(&rates, "rate", nil, "what if a link carried this much: SITE=20MiB, SITE=50%, or SITE=none for no limit")
	f.StringArrayVar(&away, "away", nil, "what if a site could not be reached: SITE=2d, or SITE=2d@6h for in six hours")
	f.StringVar(&group, "group", "", "what if this group had the promise or tier that is given, or --machine joined it")
	f.StringVar(&join, "join", "", "what if a group of this name were made of --machine, going --to a site")
	f.StringArrayVar(&machines, "machine", nil, "a machine that joins")
	f.StringVar(&to, "to", "", "site that a new group goes to")
	f.StringVar(&tier, "tier", "", "tier that it follows")
	p.add(c)
	return c
}

func ifRates(texts []string) (*[]api.IfRate, error) {
	if texts == nil {
		return nil, nil
	}
	out := []api.IfRate{}
	for _, text := range texts {
		site, rate, ok := strings.Cut(text, "=")
		x := api.IfRate{Link: site}
		percent, isPercent := strings.CutSuffix(rate, "%")
		if !ok {
			return nil, usage("--rate %s: write it as SITE=20MiB or SITE=50%%", text)
		}
		if isPercent {
			n, err := strconv.Atoi(percent)
			if err != nil || n < 1 || n > 1000 {
				return nil, usage("--rate %s: a share is 1%% to 1000%% of what the link carries now", text)
			}
			x.Percent = &n
		} else {
			n, err := pace.ParseRate(rate)
			if err != nil {
				return nil, usage("--rate: %v", err)
			}
			x.BytesPerSecond = &n
		}
		out = append(out, x)
	}
	return &out, nil
}

func ifAway(texts []string) (*[]api.IfAway, error) {
	if texts == nil {
		return nil, nil
	}
	out := []api.IfAway{}
	for _, text := range texts {
		site, rest, _ := strings.Cut(text, "=")
		long, after, later := strings.Cut(rest, "@")
		d, err := span.Parse(long)
		if err != nil || d <= 0 {
			return nil, usage("--away %s: write it as SITE=2d, or SITE=2d@6h", text)
		}
		x := api.IfAway{Site: site, Seconds: int64(d.Seconds())}
		if later {
			d, err := span.Parse(after)
			if err != nil {
				return nil, usage("--away %s: %v", text, err)
			}
			x.AfterSeconds = new(int64(d.Seconds()))
		}
		out = append(out, x)
	}
	return &out, nil
}

func percent(share float64) string {
	if share > 0.9995 {
		return "100 %"
	}
	return fmt.Sprintf("%.1f %%", 100*share)
}

// within is the share of time within the target; 100 only if it is all of it.
func within(g api.GroupForecast) string {
	if g.Briefly {
		return fmt.Sprintf("%.2f %%", min(99.99, 100*g.Within))
	}
	return percent(g.Within)
}

func siteForecast(w *tabwriter.Writer, v api.SiteForecast) {
	verdict := "all groups keep their targets"
	missing, briefly := standing(v)
	switch {
	case missing > 0:
		verdict = fmt.Sprintf("✕ %s would miss their targets", count(missing, "group"))
	case len(briefly) > 0:
		verdict += ", but for moments: " + strings.Join(briefly, ", ")
	}
	row(w, "Forecast", fmt.Sprintf("until %s: %s", clockTime(&v.Until), verdict))
	row(w, "Looked at", count(v.Cycles, "cycle"))
	for _, n := range v.Notes {
		row(w, "!", n)
	}
	for _, c := range v.Changes {
		left := "then all keep their targets"
		if !c.Fits {
			left = fmt.Sprintf("then %s still would miss their targets", count(c.Misses, "group"))
		}
		row(w, "→", c.Text+": "+left)
	}
	row(w)
	row(w, "GROUP", "TO", "TARGET", "WORST", "MEAN", "WITHIN", "CYCLES", "SHIPS", "A CYCLE", "")
	for _, g := range v.Groups {
		note := ""
		switch {
		case g.Misses && g.OverAt != nil:
			note = "✕ over from " + clockTime(g.OverAt)
		case g.Briefly:
			note = "◆ above its target for moments"
		case g.Paused:
			note = "‖ paused: exposure grows until it is resumed"
		case g.Seeding:
			note = "◌ the first copy is not done by then"
		case g.SeedFinishAt != nil:
			note = "first copy done " + clockTime(g.SeedFinishAt)
		case len(g.Unknown) > 0:
			note = "? " + g.Unknown[0]
		}
		ships, each := size(g.Bytes), fmt.Sprintf("%.0f s", g.CycleSeconds)
		if g.ChangeFrom == "none" && !g.Seeding && g.SeedFinishAt == nil {
			ships, each = "?", "?"
		}
		row(w, g.Name, g.Link, secs(g.TargetSeconds), secs(g.WorstSeconds), secs(g.MeanSeconds), within(g), g.Cycles, ships, each, note)
	}
	row(w)
	row(w, "LINK TO", "CARRIES NOW", "NEEDED", "USED", "BUSIEST HOUR", "SHIPS", "STORE FULL")
	for _, l := range v.Links {
		carries, used, busiest, full := "not limited", "—", "—", "not in this time"
		if l.RateBytesPerSecond != nil {
			carries = size(*l.RateBytesPerSecond) + "/s"
		}
		if l.Share != nil {
			used, busiest = percent(*l.Share), percent(*l.Busiest)
		}
		if l.FullAt != nil {
			full = "✕ " + clockTime(l.FullAt)
		}
		row(w, l.Peer, carries, size(l.NeedBytesPerSecond)+"/s", used, busiest, size(l.Bytes), full)
	}
}

// standing counts the groups that miss their targets, and names those that are above
// theirs for moments.
func standing(v api.SiteForecast) (missing int, briefly []string) {
	for _, g := range v.Groups {
		if g.Misses {
			missing++
		}
		if g.Briefly {
			briefly = append(briefly, g.Name)
		}
	}
	return missing, briefly
}
