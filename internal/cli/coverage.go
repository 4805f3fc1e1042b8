package cli

import (
	"fmt"
	"strconv"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"kestrel/internal/api"
)

func (a *app) coverageCmd() *cobra.Command {
	return &cobra.Command{Use: "coverage", Short: "What protects the machines of this site, and what does not", Args: cobra.NoArgs, Example: "  kestrel coverage\n  kestrel machine list --coverage open",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
			v, err := read[api.Coverage](c.GetCoverage(cmd.Context()))
			if err != nil {
				return err
			}
			return a.emit(v, func(w *tabwriter.Writer) { coveragePage(w, v) })
		})}
}

func coveragePage(w *tabwriter.Writer, v api.Coverage) {
	row(w, "SITE", "COVERAGE", "UNPROTECTED", "CANNOT BE", "BY RULE", "PROTECTED", "LEFT OUT", "LANDED", "MACHINES")
	line := func(site string, c api.CoverageCounts) {
		row(w, site, share(c.Share), c.Unprotected, c.CannotBe, c.ByRule, c.Protected, c.LeftOut, c.Landed, c.Machines)
	}
	line(v.Site, v.Counts)
	for _, p := range v.Peers {
		line(p.Site+", it says", p.Counts)
	}
	if n := len(v.History); n > 0 && v.History[0].Counts.Share != v.Counts.Share {
		row(w)
		row(w, "Since "+clockTime(&v.History[0].At), share(v.History[0].Counts.Share)+" → "+share(v.Counts.Share))
	}
	if len(v.Rules) > 0 {
		row(w)
		row(w, "ORDER", "RULE", "GROUP", "BY RULE")
	}
	for _, r := range v.Rules {
		row(w, r.Rule.Order, r.Rule.Match, r.GroupName, fmt.Sprintf("%d of %d", r.ByRule, r.Members))
		for _, l := range r.Leavers {
			row(w, "", "! "+l.Name+": "+l.Why+" Kept until somebody decides.")
		}
	}
	if v.Counts.Unprotected+v.Counts.CannotBe > 0 {
		row(w)
		row(w, "Which: kestrel machine list --coverage open")
	}
}

// share writes a part of one so that 100 % means all.
func share(x float64) string {
	if x < 1 && x > 0.99 {
		return "> 99 %"
	}
	return strconv.Itoa(int(x*100)) + " %"
}

// ruleFlags are the rule of a group.
type ruleFlags struct {
	match string
	order int
}

func (r *ruleFlags) add(f *pflag.FlagSet) {
	f.StringVar(&r.match, "rule", "", `machines that match join by themselves, such as "folder /harbour and tag gold and not name *-test", or any`)
	f.IntVar(&r.order, "rule-order", 0, "of several rules that match a machine the one with the lowest number counts, 1 to 1000 (default 100)")
}

// defaultOrder leaves room before and after.
const defaultOrder = 100

func (r *ruleFlags) read(now *api.MemberRule) *api.MemberRule {
	if r.match == "" && r.order == 0 || r.match == "none" {
		return nil
	}
	out := api.MemberRule{Match: r.match, Order: r.order}
	if now != nil && out.Match == "" {
		out.Match = now.Match
	}
	if now != nil && out.Order == 0 {
		out.Order = now.Order
	}
	if out.Order == 0 {
		out.Order = defaultOrder
	}
	return &out
}

func (a *app) groupMatchCmd() *cobra.Command {
	var group string
	var order int
	c := &cobra.Command{Use: "match RULE", Short: "What a rule matches now, and what becomes of each machine", Args: cobra.MinimumNArgs(1),
		Example: "  kestrel group match \"folder /harbour and not tag test\"\n  kestrel group match any --rule-order 1000",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			in := api.RulePreviewRequest{Match: strings.Join(args, " "), Group: strOr(group)}
			if order != 0 {
				in.Order = &order
			}
			v, err := read[api.RulePreview](c.PreviewRule(cmd.Context(), in))
			if err != nil {
				return err
			}
			return a.emit(v, func(w *tabwriter.Writer) {
				row(w, "Rule", v.Match)
				row(w, "Matches", fmt.Sprintf("%s, of which %d would join", count(len(v.Machines), "machine"), v.Joins))
				if len(v.Machines) == 0 {
					return
				}
				row(w)
				row(w, "MACHINE", "FOLDER", "PLATFORM", "IT")
				for _, m := range v.Machines {
					row(w, m.Name, m.Folder, m.PlatformName, m.Becomes)
				}
			})
		})}
	c.Flags().StringVar(&group, "group", "", "as the rule of this group")
	c.Flags().IntVar(&order, "rule-order", 0, "its place among other rules, 1 to 1000 (default last)")
	return c
}
