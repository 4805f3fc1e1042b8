package cli

import (
	"context"
	"fmt"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
)

func (a *app) groupCreateCmd() *cobra.Command {
	var in api.NewGroup
	var p promiseFlags
	var paused, waitFor, dry, apart, homePoints bool
	var ms machineFlags
	var rule ruleFlags
	var times recoveryFlags
	var tier, reason, homeKeep string
	var tags []string
	var priority, compareEvery, lock string
	c := &cobra.Command{Use: "create NAME", Short: "Protect machines together", Args: cobra.ExactArgs(1),
		Example: `  kestrel group create Ticketing -m tick-db -m tick-app --to Eastmole --rpo 5min --every 2min --keep "all 6h, 1h 2d"
  kestrel group create Ticketing -m tick-db --to Eastmole --rpo 5min --every 2min --dry-run`,
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			if tier == "" && (p.rpo == "" || p.every == "") {
				return usage("give --rpo and --every, or --tier")
			}
			if p.keep == "" && tier == "" {
				p.keep = defaultKeep
			}
			patch, err := p.read()
			if err != nil {
				return err
			}
			if err := times.read(&in.RtoTargetSeconds, &in.DrillEverySeconds, &in.Rest); err != nil {
				return err
			}
			in.Tier, in.Reason = strOr(tier), strOr(reason)
			if in.Machines == nil {
				in.Machines = []string{}
			}
			if dry {
				return a.showForecast(cmd.Context(), c, api.ForecastRequest{Name: &args[0], Link: &in.Link, Tier: in.Tier, Reason: in.Reason, Promise: patch, Machines: &in.Machines, Rule: rule.read(nil)})
			}
			in.Name, in.Paused = args[0], &paused
			in.HomeKeep = strOr(homeKeep)
			if tier == "" {
				in.Promise = whole(patch)
			} else { // what is not given is the tier's
				in.PromiseText = p.text()
			}
			if in.Quiesce, err = ms.rest(); err != nil {
				return err
			}
			if ms.without != nil {
				in.WithoutDisks, in.WithoutBootDisks = &ms.without, &ms.bootToo
			}
			in.NewDisks = strOr(ms.newDisks)
			in.Rule = rule.read(nil)
			if len(tags) > 0 {
				in.Tags = &tags
			}
			if apart {
				in.Together = new(false)
			}
			in.Priority, in.HomePoints = strOr(priority), &homePoints
			if in.LockSeconds, err = spanOr("--lock", lock); err != nil {
				return err
			}
			if in.CompareEverySeconds, err = spanOr("--compare-every", compareEvery); err != nil {
				return err
			}
			g, err := read[api.Group](c.CreateGroup(cmd.Context(), in))
			if err == nil && waitFor {
				g, err = a.awaitSealed(cmd.Context(), c, g)
			}
			if err != nil {
				return err
			}
			return a.emit(g, func(w *tabwriter.Writer) { groupPage(w, g) })
		})}
	f := c.Flags()
	f.StringArrayVarP(&in.Machines, "machine", "m", nil, "a machine (name or ID); repeat for more")
	f.StringVar(&in.Link, "to", "", "recovery site")
	f.BoolVar(&paused, "paused", false, "make it paused")
	f.BoolVar(&waitFor, "wait", false, "wait until the first copy is sealed")
	f.BoolVar(&dry, "dry-run", false, "only check it and show what it would lead to")
	f.StringArrayVar(&tags, "tag", nil, "a tag, for choosing groups and for who may see them; repeat for more")
	ms.add(f, "; repeat for more")
	rule.add(f)
	times.add(f)
	f.StringVar(&tier, "tier", "", "tier that it follows")
	f.StringVar(&reason, "reason", "", "why what is given differs from the tier")
	f.BoolVar(&apart, "apart", false, "capture machines one by one instead of holding them still for one instant")
	f.StringVar(&priority, "priority", "", "high, normal or low: the share of a limited link, 4 to 2 to 1 (default normal)")
	f.StringVar(&compareEvery, "compare-every", "", "read all of the disks after this time and not only what the platform reports as changed, such as 30d (default only when asked)")
	f.BoolVar(&homePoints, "home-points", false, "keep points at the home site as well")
	f.StringVar(&homeKeep, "home-keep", "", `keep ladder of points at home, such as "all 2h" (default the same)`)
	f.StringVar(&lock, "lock", "", "keep anybody from deleting a point for so long after it was sealed, such as 14d")
	p.add(c)
	_ = c.MarkFlagRequired("to")
	return c
}

func (a *app) groupEditCmd() *cobra.Command {
	var p promiseFlags
	var name, priority, compareEvery, lock string
	var ms machineFlags
	var rule ruleFlags
	var times recoveryFlags
	var tier, reason, homeKeep string
	var machines, add, remove, byHand, like, tags []string
	var together, homePoints, dry, dropPoints bool
	c := &cobra.Command{Use: "edit GROUP", Short: "Change name, tags, machines, promise or how it is captured", Args: cobra.ExactArgs(1),
		Long: `Change a group. What is not given stays as it is. An edit that somebody else has
overtaken changes nothing and says what they did. A shorter keep ladder that would
drop points at once shows which, and needs --drop-points.`,
		Example: "  kestrel group edit Ticketing --every 1min\n  kestrel group edit Ticketing --keep \"24 hourly, 7 daily\" --dry-run\n  kestrel group edit Ticketing -m tick-db -m tick-app -m tick-web\n  kestrel group edit Boarding --quiesce none --together=false",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			g, err := read[api.Group](c.GetGroup(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			given := cmd.Flags().Changed
			patch := api.GroupPatch{Name: strOr(name), Priority: strOr(priority)}
			if given("home-points") {
				patch.HomePoints = &homePoints
			}
			if patch.LockSeconds, err = spanOr("--lock", lock); err != nil {
				return err
			}
			if patch.CompareEverySeconds, err = spanOr("--compare-every", compareEvery); err != nil {
				return err
			}
			if patch.Promise, err = p.read(); err != nil {
				return err
			}
			if len(machines) > 0 {
				patch.Machines = &machines
			}
			if patch.Quiesce, err = ms.rest(); err != nil {
				return err
			}
			if given("without-disk") {
				patch.WithoutDisks, patch.WithoutBootDisks = orNone(ms.without), &ms.bootToo
			}
			patch.NewDisks = strOr(ms.newDisks)
			if err := times.read(&patch.RtoTargetSeconds, &patch.DrillEverySeconds, &patch.Rest); err != nil {
				return err
			}
			patch.Reason, patch.HomeKeep = strOr(reason), strOr(homeKeep)
			if patch.Tier = strOr(tier); tier == "none" {
				patch.Tier, patch.NoTier = nil, new(true)
			}
			if len(like) > 0 {
				patch.LikeTier = &like
			}
			if patch.Rule = rule.read(g.Rule); rule.match == "none" {
				patch.NoRule = new(true)
			}
			for _, x := range []struct {
				given []string
				to    **[]string
			}{{add, &patch.AddMachines}, {remove, &patch.RemoveMachines}, {byHand, &patch.ByHand}} {
				if len(x.given) > 0 {
					*x.to = &x.given
				}
			}
			if given("tag") {
				patch.Tags = orNone(tags)
			}
			if given("together") {
				patch.Together = &together
			}
			if patch == (api.GroupPatch{}) {
				return usage("say what to change: --name, --tag, --machine, --add-machine, --remove-machine, --rule, --by-hand, --tier, --like-tier, --rto, --drill-every, --rest, --rpo, --every, --quiet, --zone, --keep, --quiesce, --without-disk, --new-disks, --together, --priority, --compare-every, --lock, --home-points or --home-keep")
			}
			if dry {
				return a.showPreview(cmd.Context(), c, g, patch)
			}
			if dropPoints {
				patch.DropPoints = &dropPoints
			}
			// What was looked at a moment ago is what is changed.
			match := fmt.Sprintf("%q", fmt.Sprint(g.Revision))
			if g, err = read[api.Group](c.UpdateGroup(cmd.Context(), g.ID, &api.UpdateGroupParams{IfMatch: &match}, patch)); err != nil {
				return err
			}
			return a.emit(g, func(w *tabwriter.Writer) { groupPage(w, g) })
		})}
	f := c.Flags()
	f.StringVar(&name, "name", "", "new name")
	f.StringArrayVar(&tags, "tag", nil, "all tags of the group from now on; repeat for more, none for none")
	f.StringArrayVarP(&machines, "machine", "m", nil, "all machines of the group from now on; repeat for more")
	f.StringArrayVar(&add, "add-machine", nil, "a machine more; repeat for more")
	f.StringArrayVar(&remove, "remove-machine", nil, "a machine less; repeat for more")
	times.add(f)
	f.StringVar(&tier, "tier", "", "tier that it follows from now on; none for none")
	f.StringVar(&reason, "reason", "", "why what is changed differs from the tier")
	f.StringArrayVar(&like, "like-tier", nil, "a setting that is to be the tier's again: rpoTargetSeconds, rtoTargetSeconds, cadence, quiet, zone, keep, priority, rest, lockSeconds or drillEverySeconds; repeat for more")
	f.StringArrayVar(&byHand, "by-hand", nil, "a machine that stays whatever the rule says; repeat for more")
	rule.add(f)
	ms.add(f, "; all from now on, repeat for more, none for none")
	f.StringVar(&priority, "priority", "", "high, normal or low: the share of a limited link")
	f.StringVar(&compareEvery, "compare-every", "", "read all of the disks after this time, such as 30d; 0 for only when asked")
	f.BoolVar(&homePoints, "home-points", false, "keep points at the home site as well; =false for no longer")
	f.StringVar(&homeKeep, "home-keep", "", `keep ladder of points at home, such as "all 2h"; same for that of over there`)
	f.StringVar(&lock, "lock", "", "keep anybody from deleting points that come for so long after they were sealed, such as 14d; 0 for not at all")
	f.BoolVar(&together, "together", true, "hold machines still for one instant; --together=false captures them one by one")
	f.BoolVar(&dry, "dry-run", false, "only show what it would change, and lead to")
	f.BoolVar(&dropPoints, "drop-points", false, "allow that a shorter keep ladder drops points at once")
	p.add(c)
	return c
}

// orNone reads a list in which the one word none is an empty list.
func orNone(xs []string) *[]string {
	if len(xs) == 1 && xs[0] == "none" {
		xs = []string{}
	}
	return &xs
}

// showPreview shows an edit before it is made.
func (a *app) showPreview(ctx context.Context, c *api.Client, g api.Group, patch api.GroupPatch) error {
	v, err := read[api.Preview](c.PreviewGroup(ctx, g.ID, patch))
	if err != nil {
		return err
	}
	err = a.emit(v, func(w *tabwriter.Writer) {
		for _, x := range v.Changes {
			row(w, x.Field, x.From+" → "+x.To)
		}
		if len(v.Changes) == 0 && len(v.Faults) == 0 {
			row(w, "Nothing would change.")
		}
		if v.DropsPoints > 0 {
			left := "none"
			if v.OldestLeftAt != nil {
				left = clockTime(v.OldestLeftAt)
			}
			row(w, "! drops at once", fmt.Sprintf("%s: numbers %s; oldest left %s. Allow it with --drop-points, or pin those that are to stay.", count(v.DropsPoints, "point"), numbers(v.DropsNumbers), left))
		}
		forecastRows(w, v.Forecast)
	})
	if err == nil && len(v.Faults) > 0 {
		return refused("this change cannot be made")
	}
	return err
}

func numbers(ns *[]int64) string {
	if ns == nil {
		return "not known here"
	}
	var out []string
	for _, n := range *ns {
		out = append(out, fmt.Sprint(n))
	}
	if len(out) > 12 {
		return fmt.Sprintf("%s and %d more", strings.Join(out[:12], ", "), len(out)-12)
	}
	return strings.Join(out, ", ")
}

func (a *app) groupDeleteCmd() *cobra.Command {
	var pts, confirm string
	var withoutPeer bool
	c := &cobra.Command{Use: "delete GROUP", Short: "End a group; say what becomes of its points", Args: cobra.ExactArgs(1),
		Example: "  kestrel group delete Ticketing --points keep --confirm Ticketing",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			g, err := read[api.Group](c.GetGroup(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			if pts != "keep" && pts != "delete" {
				return usage("say --points keep or --points delete: %s has %d", g.Name, g.Points)
			}
			if confirm != g.Name {
				return usage("this ends %s; to go on, add --confirm %q", g.Name, g.Name)
			}
			if err := done(c.DeleteGroup(cmd.Context(), g.ID, &api.DeleteGroupParams{Points: &pts, WithoutPeer: &withoutPeer})); err != nil {
				return err
			}
			became := "kept at " + g.Recovery
			switch {
			case pts == "delete" && g.Direction == api.Out:
				became = g.Recovery + " deletes them when its wait is over, unless somebody there keeps them"
			case pts == "delete":
				became = "deleted"
			}
			return a.did("%s is deleted; points: %s.", g.Name, became)
		}}
	c.Flags().StringVar(&pts, "points", "", "keep or delete")
	c.Flags().StringVar(&confirm, "confirm", "", "the group's name")
	c.Flags().BoolVar(&withoutPeer, "without-peer", false, "although the recovery site cannot be told; its points stay there")
	return c
}
