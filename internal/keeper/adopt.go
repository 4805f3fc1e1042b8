package keeper

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
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
}

// Adopt writes the records of a site into an empty database from its point store
// alone. The groups are without a home site until theirs is paired again; their
// points can be started, served and exported as before.
func Adopt(ctx context.Context, db *records.DB, store *points.Store, site string, now time.Time) (Adopted, error) {
	owner, err := store.Owner()
	if err != nil {
		return Adopted{}, err
	}
	if owner.Site == "" && site == "" {
		return Adopted{}, errors.New("this store does not say whose it is; give the name of its site")
	}
	if site == "" {
		site = owner.Site
	}
	out := Adopted{Site: site}
	groups := map[string]records.Group{}
	machines := map[string]bool{}
	for _, x := range store.Points("") { // oldest first, so that the newest settings count
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
		if p, err := store.Pin(x); err == nil && p != nil {
			out.Pinned++
		}
	}
	out.Groups, out.Machines = len(groups), len(machines)
	var list []records.Group
	for _, g := range groups {
		list = append(list, g)
	}
	if err := db.Adopt(ctx, records.Site{ID: owner.SiteID, Name: site, CreatedAt: now}, list); err != nil {
		return Adopted{}, fmt.Errorf("adopt the store: %w", err)
	}
	return out, nil
}
