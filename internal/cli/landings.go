package cli

import (
	"context"
	"fmt"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
)

func (a *app) landingCmd() *cobra.Command {
	c := &cobra.Command{Use: "landing", Short: "Machines made from points here"}
	var q string
	var page pageFlags
	list := &cobra.Command{Use: "list", Short: "List machines made from points, newest first", Example: "  kestrel landing list\n  kestrel landing list --search ticketing --sort name", Args: cobra.NoArgs, RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
		ls, err := read[[]api.Landing](c.ListLandings(cmd.Context(), &api.ListLandingsParams{Q: strOr(q), Sort: page.sorted(), Limit: page.most(), Skip: &page.skip}))
		if err != nil {
			return err
		}
		return a.emit(ls, func(w *tabwriter.Writer) { landingTable(w, ls) })
	})}
	list.Flags().StringVarP(&q, "search", "s", "", "words in its names, group, platform or state")
	page.flags(list, "created, name, group, platform or state")
	c.AddCommand(a.landingCreateCmd(), list,
		&cobra.Command{Use: "show LANDING", Short: "One machine made from a point (its ID, or its name here)", Example: "  kestrel landing show purser", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			l, err := read[api.Landing](c.GetLanding(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.emit(l, func(w *tabwriter.Writer) { landingPage(w, l) })
		}},
		&cobra.Command{Use: "switch LANDING on|off|shut-down", Short: "Switch a landed machine on or off, or ask its guest to shut down", Example: "  kestrel landing switch purser shut-down", Args: cobra.ExactArgs(2),
			RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
				if err := done(c.SwitchLanding(cmd.Context(), args[0], api.PowerSwitch{To: args[1]})); err != nil {
					return err
				}
				return a.did("The platform was told: %s %s.", args[0], args[1])
			})},
		a.landingScreenCmd(), a.landingRemoveCmd())
	return c
}

func (a *app) landingScreenCmd() *cobra.Command {
	return &cobra.Command{Use: "screen LANDING FILE", Short: "Write what is on a landed machine's screen to a file, as a PNG", Example: "  kestrel landing screen purser purser.png", Args: cobra.ExactArgs(2),
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			res, err := c.GetLandingScreen(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.saveAnswer(res, args[1], maxScreen)
		})}
}

const maxScreen = 64 << 20 // bytes

func (a *app) landingRemoveCmd() *cobra.Command {
	var yes bool
	c := &cobra.Command{Use: "remove LANDING...", Short: "Stop machines and remove them without trace; what they wrote is lost", Example: "  kestrel landing remove purser --yes", Args: cobra.MinimumNArgs(1),
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			var ls []api.Landing
			var names []string
			for _, x := range args {
				l, err := read[api.Landing](c.GetLanding(cmd.Context(), x))
				if err != nil {
					return err // before any is removed
				}
				ls = append(ls, l)
				names = append(names, fmt.Sprintf("%s on %s", l.Name, l.PlatformName))
			}
			if err := a.confirm(yes, "This stops and removes %s; what they wrote is lost.", strings.Join(names, ", ")); err != nil {
				return err
			}
			for i, l := range ls {
				if err := done(c.DeleteLanding(cmd.Context(), l.ID)); err != nil {
					return partly{fmt.Errorf("%s: %w", names[i], err), err}
				}
			}
			return a.did("Removed: %s.", strings.Join(names, ", "))
		})}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

func (a *app) landingCreateCmd() *cobra.Command {
	var in api.NewLanding
	var machines, networks []string
	var datastore, prefix, on, arrive string
	var copied, homeNetwork, notWhole, wait, check bool
	var limit int64
	c := &cobra.Command{Use: "create POINT", Short: "Make machines from a point and start them", Args: cobra.ExactArgs(1),
		Long: `Make machines from a point and start them on a platform of this site.

They start at once: their disks read from the point what they do not hold yet,
and are made local while the guests run. With --copied they are made local
first. Their cards are not connected to anything but by --network, which may be
repeated, or by the group's berth: with --berth they get the platform, names,
networks, sizes and addresses that it says. What else is given counts before it.

POINT is an ID, GROUP for the newest point of a group, or GROUP:NUMBER.`,
		Example: `  kestrel landing create Purser-desk --platform quay
  kestrel landing create Purser-desk:42 --platform quay -m purser --network harbour=drill --prefix try-
  kestrel landing create Purser-desk --berth drill
  kestrel landing create Purser-desk --platform quay --copied --wait`,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			p, err := findPoint(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			in.Point, in.Datastore, in.Prefix, in.Platform, in.Berth = p.ID, strOr(datastore), strOr(prefix), strOr(on), strOr(arrive)
			how := "at-once"
			if copied {
				how = "copied"
			}
			in.How, in.HomeNetwork, in.NotWhole = &how, &homeNetwork, &notWhole
			if len(machines) > 0 {
				in.Machines = &machines
			}
			if limit > 0 {
				limit <<= 20
				in.LocalBytesPerSecond = &limit
			}
			if len(networks) > 0 {
				m := map[string]string{}
				for _, n := range networks {
					home, here, ok := strings.Cut(n, "=")
					if !ok {
						return usage("--network is HOME=HERE, not %q", n)
					}
					m[home] = here
				}
				in.Networks = &m
			}
			ls, err := read[[]api.Landing](c.CreateLandings(cmd.Context(), &api.CreateLandingsParams{CheckOnly: &check}, in))
			if err != nil {
				return err
			}
			if check {
				return a.did("Nothing stands in the way; nothing was made.")
			}
			if wait {
				for i := range ls {
					if ls[i], err = awaitLanding(cmd.Context(), c, ls[i].ID); err != nil {
						return err
					}
				}
			}
			return a.emit(ls, func(w *tabwriter.Writer) { landingTable(w, ls) })
		}}
	f := c.Flags()
	f.StringVar(&arrive, "berth", "", "let them arrive as the group's berth says: live or drill")
	f.StringVar(&on, "platform", "", "platform of this site to start them on; a berth may name it")
	f.StringVar(&datastore, "datastore", "", "where their disks go; may be left out if there is one")
	f.StringArrayVarP(&machines, "machine", "m", nil, "only this machine; may be repeated")
	f.StringArrayVar(&networks, "network", nil, "HOME=HERE: cards that are on HOME at home are put on HERE")
	f.BoolVar(&homeNetwork, "home-network", false, "allow a network of the same name as the one at home")
	f.BoolVar(&notWhole, "not-whole", false, "allow machines whose disks cannot be read whole; reading what is lost fails there")
	f.BoolVar(&copied, "copied", false, "make them local before they start")
	f.StringVar(&prefix, "prefix", "", "put before the machines' names")
	f.Int64Var(&limit, "limit", 0, "MiB a second for making its disks local, one after the other (default: as fast as it goes)")
	f.BoolVar(&wait, "wait", false, "wait until they are local")
	f.BoolVar(&check, "check-only", false, "check everything and make nothing")
	c.MarkFlagsOneRequired("platform", "berth")
	return c
}

// awaitLanding asks until a landed machine is local, or cannot get on.
func awaitLanding(ctx context.Context, c *api.Client, id string) (api.Landing, error) {
	for {
		l, err := read[api.Landing](c.GetLanding(ctx, id))
		if err != nil || l.State == api.LandingStateLocal || l.State == api.LandingStateGone || l.State == api.LandingStateOff {
			return l, err
		}
		if l.Error != nil {
			return l, fmt.Errorf("%s: %s", l.Name, *l.Error)
		}
		select {
		case <-ctx.Done():
			return l, ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
}

func landingState(l api.Landing) string {
	text := map[api.LandingState]string{api.LandingStatePreparing: "◌ being made", api.LandingStateWaiting: "◌ waits for its turn", api.LandingStateCopying: "◔ copied first", api.LandingStateRunning: "◑ runs off the point",
		api.LandingStateLocal: "● local", api.LandingStateOff: "○ off, not local", api.LandingStateRemoving: "◌ being removed", api.LandingStateGone: "✕ gone"}[l.State]
	if l.Error != nil {
		return "✕ " + *l.Error
	}
	return text
}

func localText(l api.Landing) string {
	if l.TotalBytes == 0 {
		return ""
	}
	t := fmt.Sprintf("%s of %s", size(l.LocalBytes), size(l.TotalBytes))
	if l.FinishAt != nil {
		t += ", done about " + clockTime(l.FinishAt)
	}
	return t
}

func landingTable(w *tabwriter.Writer, ls []api.Landing) {
	row(w, "ID", "MACHINE", "FROM", "CAPTURED", "PLATFORM", "STATE", "LOCAL", "STARTED")
	for _, l := range ls {
		row(w, l.ID, l.Name, fmt.Sprintf("%s:%d", l.GroupName, l.PointNumber), clockTime(&l.CaptureAt), l.PlatformName, landingState(l), localText(l), clockTime(l.StartedAt))
	}
}

// addressText is what a card's guest was told, and what was read back from it.
func addressText(n api.LandingNic) string {
	told, _, _ := strings.Cut(orNothing(n.Address), "/")
	switch {
	case n.Address == nil && n.Found == nil:
		return ""
	case n.Address == nil:
		return ", has " + *n.Found
	case n.Found == nil:
		return fmt.Sprintf(", to have %s; not read back yet", *n.Address)
	case told == *n.Found || told == "dhcp":
		return ", has " + *n.Found + " ✓"
	}
	return fmt.Sprintf(", ✕ to have %s, but has %s", *n.Address, *n.Found)
}

func landingPage(w *tabwriter.Writer, l api.Landing) {
	row(w, "Machine", l.Name)
	row(w, "Landing", l.ID)
	row(w, "From", fmt.Sprintf("%s, point %d, %s at home, captured %s", l.GroupName, l.PointNumber, l.Machine, l.CaptureAt.Local().Format("2006-01-02 15:04:05 MST")))
	row(w, "On", fmt.Sprintf("%s, datastore %s", l.PlatformName, l.Datastore))
	row(w, "State", landingState(l))
	if l.Note != nil {
		row(w, "", *l.Note)
	}
	if l.Power != nil {
		row(w, "Power", *l.Power)
	}
	row(w, "Local", localText(l))
	row(w, "Started", clockTime(l.StartedAt))
	for _, n := range l.Nics {
		network := n.Network
		if network == "" {
			network = "not connected"
		}
		row(w, "Card "+n.Mac, fmt.Sprintf("%s (at home: %s)%s", network, n.Home, addressText(n)))
	}
	if l.Berth != nil {
		row(w, "Arrives", fmt.Sprintf("as the berth says (%s); addresses: %s", *l.Berth, *l.Way))
	}
	if l.Wave != nil {
		row(w, "Wave", *l.Wave)
	}
	if l.Check != nil {
		row(w, "Check", *l.Check)
	}
	if l.Format != nil {
		row(w, "Disk format", *l.Format)
	}
	if l.Cpus != nil {
		row(w, "Processors", fmt.Sprint(*l.Cpus))
	}
	if l.MemoryBytes != nil {
		row(w, "Memory", size(*l.MemoryBytes))
	}
	if l.Guest != nil {
		row(w, "Guest", *l.Guest)
	}
	row(w, "By", l.CreatedBy+" at "+clockTime(&l.CreatedAt))
}
