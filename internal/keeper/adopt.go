package keeper

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"kestrel/internal/core/group"
	"kestrel/internal/directory"
	"kestrel/internal/points"
	"kestrel/internal/records"
)

// Adopted is what Adopt found in a store.
type Adopted struct {
	Site     string `json:"site"`
	Groups   int    `json:"groups"`
	Points   int    `json:"points"`
	Machines int    `json:"machines"`
	Pinned   int    `json:"pinned"`
	Berths   int    `json:"berths"`
}

// Adopt writes the records of a site into an empty database from its stores
// alone, the point store first. The groups are without a home site until theirs is paired again; their
// points can be started, served and exported as before.
func Adopt(ctx context.Context, db *records.DB, stores []*points.Store, site string, now time.Time) (Adopted, error) {
	var owner points.Owner
	seals := map[string]*points.Store{}
	var all []*points.Seal
	for _, s := range stores {
		o, err := s.Owner()
		if err != nil {
			return Adopted{}, err
		}
		if owner == (points.Owner{}) {
			owner = o
		}
		if o != owner && o != (points.Owner{}) {
			return Adopted{}, fmt.Errorf("the stores belong to two sites, %s and %s", owner.Site, o.Site)
		}
		for _, x := range s.Points("") {
			if seals[x.Point] == nil {
				seals[x.Point] = s
				all = append(all, x)
			}
		}
	}
	slices.SortStableFunc(all, func(a, b *points.Seal) int { return a.CaptureAt.Compare(b.CaptureAt) })
	if owner.Site == "" && site == "" {
		return Adopted{}, errors.New("this store does not say whose it is; give the name of its site")
	}
	if site == "" {
		site = owner.Site
	}
	out := Adopted{Site: site}
	groups := map[string]records.Group{}
	machines := map[string]bool{}
	for _, x := range all { // oldest first, so that the newest settings count
		g := x.Group
		if g.ID == points.CarriedGroup {
			continue
		}
		set := g.Settings
		if !json.Valid(set) {
			set = directory.Encode(group.Spec{Name: g.Name, Priority: group.Normal, NewDisks: group.CopyNew})
		}
		home := g.HomeName
		if home == "" {
			home = "unknown"
		}
		created := x.SealedAt
		if was, ok := groups[g.ID]; ok {
			created = was.CreatedAt
		}
		groups[g.ID] = records.Group{ID: g.ID, Name: g.Name, Direction: "ended", HomeID: g.HomeSite, HomeName: home, RecoveryName: site, Term: g.Term, Revision: 0, Settings: set, Anchor: created, CreatedAt: created}
		out.Points++
		for _, m := range x.Machines {
			machines[m.ID+g.ID] = true
		}
		if p, err := seals[x.Point].Pin(x); err == nil && p != nil {
			out.Pinned++
		}
	}
	out.Groups, out.Machines = len(groups), len(machines)
	var list []records.Group
	var berths []records.Berth
	for _, g := range groups {
		list = append(list, g)
		for _, s := range stores {
			// One that cannot be read is written again by people; points are there without it.
			if b, err := s.Beside(g.ID, besideBerth); err == nil && json.Valid(b) {
				berths = append(berths, records.Berth{Kind: "group", Subject: g.ID, Revision: 1, Settings: b})
				break
			}
		}
	}
	out.Berths = len(berths)
	if err := db.Adopt(ctx, records.Site{ID: owner.SiteID, Name: site, CreatedAt: now}, list, berths); err != nil {
		return Adopted{}, fmt.Errorf("adopt the store: %w", err)
	}
	return out, nil
}
