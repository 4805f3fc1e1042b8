package coverage

import (
	"context"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/scope"
	"kestrel/internal/core/words"
	"kestrel/internal/directory"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// shownFor is how far back coverage is shown.
const shownFor = 30 * 24 * time.Hour

// CountsView is counts as the contract shows them.
func CountsView(c scope.Counts) api.CoverageCounts {
	return api.CoverageCounts{Machines: c.Total(), Protected: c[scope.Protected], ByRule: c[scope.ByRule], LeftOut: c[scope.OnPurpose], CannotBe: c[scope.Impossible], Landed: c[scope.LandedCopy], Unprotected: c[scope.Unprotected], Share: c.Share()}
}

// Show tells what protects machines. See tells which groups may be seen; nil is all, and
// whoever sees some is told of their rules and machines only.
func (c *Coverage) Show(ctx context.Context, site string, peers []api.SiteCoverage, see func(directory.Record) bool) (api.Coverage, error) {
	v := api.Coverage{Site: site, History: []api.CoverageSample{}, Peers: []api.SiteCoverage{}, Rules: []api.RuleInUse{}}
	if see == nil {
		v.Counts, v.Peers = CountsView(c.Counts()), append(v.Peers, peers...)
		past, err := c.DB.CoverageSince(ctx, c.Clock.Now().Add(-shownFor))
		if err != nil {
			return v, err
		}
		for _, x := range past {
			v.History = append(v.History, api.CoverageSample{At: x.At.UTC(), Counts: CountsView(x.Counts)})
		}
	} else {
		seen := scope.Counts{}
		for _, p := range c.Inventory.All() {
			for _, m := range p.Held().Machines {
				if r, ok := c.Groups.Guards(p.ID, m.ID); ok && see(r) {
					seen[c.Inventory.Coverage(p, m)]++
				}
			}
		}
		v.Counts = CountsView(seen)
	}
	for _, x := range scope.Ordered(c.rules()) {
		r, ok := c.Groups.Get(x.Group)
		if !ok || see != nil && !see(r) {
			continue
		}
		u := api.RuleInUse{Group: x.Group, GroupName: x.Name, Rule: api.MemberRule{Match: x.Match.String(), Order: x.Order}, Members: len(x.Members), Leavers: LeaversView(c.Leavers(x.Group))}
		for _, m := range x.Members {
			if m.ByRule {
				u.ByRule++
			}
		}
		v.Rules = append(v.Rules, u)
	}
	return v, nil
}

// LeaversView is leavers as the contract shows them.
func LeaversView(ls []scope.Leaver) []api.Leaver {
	out := []api.Leaver{}
	for _, l := range ls {
		out = append(out, api.Leaver{Machine: l.ID, Name: l.Name, Why: words.Sentence(l.Why)})
	}
	return out
}

// Preview tells what a rule matches now, and what becomes of each machine.
func (c *Coverage) Preview(in api.RulePreviewRequest) (api.RulePreview, error) {
	match, err := scope.Parse(in.Match)
	if err != nil {
		return api.RulePreview{}, problem.Invalid("match", "%s", words.Sentence(err.Error()))
	}
	order := scope.MaxOrder
	if in.Order != nil {
		order = *in.Order
	}
	var own directory.Record
	if in.Group != nil && *in.Group != "" {
		if own, err = c.Groups.Find(*in.Group); err != nil {
			return api.RulePreview{}, err
		}
	}
	others := scope.Ordered(c.rules())
	v := api.RulePreview{Match: match.String(), Machines: []api.RuleMatch{}}
	for _, p := range c.Inventory.All() {
		for _, m := range p.Held().Machines {
			x := c.Inventory.Candidate(p, m)
			if !match.Holds(x.Machine) {
				continue
			}
			row := api.RuleMatch{Machine: m.ID, Name: m.Name, Folder: m.Folder, PlatformName: p.Name}
			first, taken := scope.First(others, x.Machine)
			in, _ := c.Groups.Get(x.In)
			switch {
			case own.ID != "" && x.In == own.ID:
				row.Becomes = "is in the group"
			case x.In != "":
				row.Becomes = "stays in " + in.Spec.Name
			case x.LeftOut:
				row.Becomes = "stays left out on purpose"
			case x.Barrier != "":
				row.Becomes = "cannot join: " + x.Barrier
			case own.Spec.Platform != "" && p.ID != own.Spec.Platform:
				row.Becomes = "stays out: the group is of another platform"
			case taken && first.Group != own.ID && first.Order < order:
				row.Becomes = "joins " + first.Name + ", whose rule goes first"
			default:
				row.Joins, row.Becomes = true, "joins"
				v.Joins++
			}
			if x.In != "" {
				row.Group = &in.Spec.Name
			}
			v.Machines = append(v.Machines, row)
		}
	}
	return v, nil
}

// Since lists how coverage was each hour from an instant on, oldest first.
func (c *Coverage) Since(ctx context.Context, from time.Time) ([]records.Coverage, error) {
	return c.DB.CoverageSince(ctx, from)
}
