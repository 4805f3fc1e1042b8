package httpapi

import (
	"cmp"
	"context"
	"net/url"
	"slices"
	"strings"

	"kestrel/internal/api"
	"kestrel/internal/inventory"
	"kestrel/internal/listing"
	"kestrel/internal/overview"
)

// maxHits is how many a search gives.
const maxHits = 20

// found gathers hits with how near they are.
type found struct {
	q    string
	hits []api.Hit
	rank map[api.Hit]int
}

// add adds something if its name or one of its other texts has what is searched for: names
// that are it come before those that begin with it, those before the rest.
func (f *found) add(h api.Hit, others ...string) {
	name := strings.ToLower(h.Name)
	rank := -1
	switch {
	case name == f.q:
		rank = 0
	case strings.HasPrefix(name, f.q):
		rank = 1
	case strings.Contains(name, f.q):
		rank = 2
	case listing.Matches(f.q, others...):
		rank = 3
	}
	if _, there := f.rank[h]; rank >= 0 && !there {
		f.rank[h] = rank
		f.hits = append(f.hits, h)
	}
}

// kinds are in the order in which people look for things.
var kinds = []string{"group", "machine", "site", "platform", "tier", "landing"}

func (f *found) best() []api.Hit {
	slices.SortStableFunc(f.hits, func(a, b api.Hit) int {
		return cmp.Or(cmp.Compare(f.rank[a], f.rank[b]), cmp.Compare(slices.Index(kinds, a.Kind), slices.Index(kinds, b.Kind)), listing.Fold(a.Name, b.Name))
	})
	return append([]api.Hit{}, f.hits[:min(len(f.hits), maxHits)]...)
}

// Search finds what whoever asks may see.
func (h *handlers) Search(ctx context.Context, request api.SearchRequestObject) (api.SearchResponseObject, error) {
	q := strings.TrimSpace(request.Params.Q)
	f := &found{q: strings.ToLower(q), rank: map[api.Hit]int{}}
	groups, _, err := h.Overview.List(overview.Filter{Query: q, See: sees(ctx)})
	if err != nil {
		return nil, err
	}
	for _, g := range groups {
		others := append([]string{g.Home, g.Recovery}, g.Tags...)
		for _, m := range g.Machines {
			others = append(others, m.Name)
		}
		f.add(api.Hit{Kind: "group", Name: g.Name, Note: g.Home + " → " + g.Recovery + ", " + g.Health, Page: "/groups/" + g.ID}, others...)
	}
	filter := inventory.MachineFilter{Query: q}
	if len(who(ctx).Tags) > 0 {
		see := h.seesID(ctx)
		filter.See = func(group string) bool { return group != "" && see(group) }
	}
	machines, _, err := h.Platforms.Machines(filter)
	if err != nil {
		return nil, err
	}
	for _, m := range machines {
		note := m.PlatformName + ", " + m.Coverage
		if m.GroupName != nil {
			note = m.PlatformName + ", in " + *m.GroupName
		}
		f.add(api.Hit{Kind: "machine", Name: m.Name, Note: note, Page: "/machines?q=" + url.QueryEscape(m.Name)}, append([]string{m.Folder, m.Host, m.Guest}, m.Tags...)...)
	}
	landings, _, err := h.Landings.List(h.seesID(ctx), q, listing.Page{})
	if err != nil {
		return nil, err
	}
	for _, l := range landings {
		f.add(api.Hit{Kind: "landing", Name: l.Name, Note: "made from " + l.Machine, Page: "/landings?q=" + url.QueryEscape(l.Name)}, l.Machine)
	}
	for _, l := range h.Links.Links() {
		f.add(api.Hit{Kind: "site", Name: l.Peer, Note: l.Address, Page: "/sites?at=" + url.QueryEscape(l.ID)}, l.Address)
	}
	for _, p := range h.Platforms.Platforms() {
		f.add(api.Hit{Kind: "platform", Name: p.Name, Note: p.Kind + ", " + p.Address, Page: "/platforms"}, p.Address)
	}
	for _, t := range h.Tiers.List(h.Site.Self().Name, h.limited(ctx)) {
		f.add(api.Hit{Kind: "tier", Name: t.Name, Note: "of " + t.Site, Page: "/tiers"})
	}
	return api.Search200JSONResponse(f.best()), nil
}
