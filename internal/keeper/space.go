package keeper

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"kestrel/internal/api"
	"kestrel/internal/clock"
	"kestrel/internal/points"
)

// stamp tells whether a store has changed since it was looked at.
type stamp struct {
	points, records int
	packs           int64
}

// space is what was seen of a store's space.
type space struct {
	points.Space
	of stamp
}

// Account looks again and again at whose the room of the stores is, when points have come or
// gone, until ctx ends. It takes no more than a tenth of the time.
func (k *Keeper) Account(ctx context.Context) {
	for {
		began := k.Clock.Now()
		for i, s := range k.stores() {
			u := s.Usage()
			now := stamp{u.Points, u.Records, u.PackBytes}
			k.mu.Lock()
			same := i < len(k.spaces) && k.spaces[i].of == now
			k.mu.Unlock()
			if same {
				continue
			}
			x, err := s.Space(ctx)
			if err != nil {
				if ctx.Err() == nil {
					k.Log.Warn("look at whose the room is", "folder", s.Dir(), "err", err)
				}
				continue
			}
			k.mu.Lock()
			for len(k.spaces) <= i {
				k.spaces = append(k.spaces, space{})
			}
			k.spaces[i] = space{x, now}
			k.mu.Unlock()
		}
		if clock.Sleep(ctx, k.Clock, max(k.AccountEvery, 9*k.Clock.Now().Sub(began))) != nil {
			return
		}
	}
}

// Spaces tells what the stores hold, of groups that see lets pass; without those that were not
// looked at yet.
func (k *Keeper) Spaces(see func(group string) bool) []api.StoreSpace {
	k.mu.Lock()
	spaces := slices.Clone(k.spaces)
	k.mu.Unlock()
	out := []api.StoreSpace{}
	for i, x := range spaces {
		if x.At.IsZero() {
			continue
		}
		v := api.StoreSpace{Store: theStore, LookedAt: x.At.UTC(), PackBytes: x.Packs, NeededBytes: x.Needed, BlockBytes: x.Blocks, WholeBytes: x.Whole, Unread: x.Unread, Groups: []api.SpaceShare{}}
		if i > 0 {
			v.Store = theLongTermStore
		}
		of := map[string][]api.MachineSpace{}
		for part, m := range x.Machines {
			of[part.Group] = append(of[part.Group], api.MachineSpace{ID: part.Machine, Name: m.Name, Points: m.Points, AloneBytes: m.Alone})
		}
		for id, g := range x.Groups {
			if id != points.CarriedGroup && !see(id) {
				continue
			}
			share := api.SpaceShare{ID: id, Name: k.nameOf(id, g.Name), Points: g.Points, NeededBytes: g.Needed, AloneBytes: g.Alone, WholeBytes: g.Whole, Machines: append([]api.MachineSpace{}, of[id]...)}
			slices.SortFunc(share.Machines, func(a, b api.MachineSpace) int {
				return cmp.Or(cmp.Compare(b.AloneBytes, a.AloneBytes), strings.Compare(a.Name, b.Name))
			})
			v.Groups = append(v.Groups, share)
		}
		slices.SortFunc(v.Groups, func(a, b api.SpaceShare) int {
			return cmp.Or(cmp.Compare(b.AloneBytes, a.AloneBytes), strings.Compare(a.Name, b.Name))
		})
		out = append(out, v)
	}
	return out
}

// nameOf is what a group is called now; was if it is not known any more.
func (k *Keeper) nameOf(id, was string) string {
	if r, ok := k.Groups.Get(id); ok {
		return r.Spec.Name
	}
	if id == points.CarriedGroup {
		return "carried over by hand"
	}
	return was
}

// GroupSpace is what a group's points take up in the point store here; false if that is not
// known.
func (k *Keeper) GroupSpace(id string) (points.Share, bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if len(k.spaces) == 0 {
		return points.Share{}, false
	}
	g, ok := k.spaces[0].Groups[id]
	return g, ok
}

// alone is what deleting a point here gives back in the end; nil if that is not known.
func (k *Keeper) alone(point string) *int64 {
	k.mu.Lock()
	defer k.mu.Unlock()
	var out *int64
	for _, x := range k.spaces {
		if p, ok := x.Points[point]; ok {
			if out == nil {
				out = new(int64)
			}
			*out += p.Alone
		}
	}
	return out
}
