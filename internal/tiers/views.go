package tiers

import (
	"context"
	"slices"
	"strings"

	"kestrel/internal/api"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/group"
	"kestrel/internal/directory"
	"kestrel/internal/problem"
	"kestrel/internal/protection"
)

func view(t Tier, site string, followers []directory.Record) api.Tier {
	v := api.Tier{ID: t.ID, Site: site, Revision: t.Revision, Groups: []api.TierGroup{}, Warnings: []api.FieldError{}}
	protection.ShowTier(t.Tier, &v)
	for _, r := range followers {
		v.Groups = append(v.Groups, api.TierGroup{ID: r.ID, Name: r.Spec.Name, Differs: protection.DiffersView(r.Spec)})
	}
	for _, f := range t.Validate() {
		if f.Warning {
			v.Warnings = append(v.Warnings, api.FieldError{Field: f.Field, Message: f.Message})
		}
	}
	return v
}

// List lists the tiers of this site, and those of other sites that groups which come here
// follow. See tells which groups may be seen; nil is all.
func (t *Tiers) List(site string, see func(directory.Record) bool) []api.Tier {
	seen := func(rs []directory.Record) []directory.Record {
		return slices.DeleteFunc(rs, func(r directory.Record) bool { return see != nil && !see(r) })
	}
	out := []api.Tier{}
	for _, x := range t.All() {
		out = append(out, view(x, site, seen(t.Followers(x.ID))))
	}
	type other struct {
		Tier
		site string
		of   []directory.Record
	}
	others := map[string]*other{}
	var order []string
	for _, r := range seen(slices.Clone(t.Groups.All())) {
		f := r.Spec.Tier
		if r.Direction != directory.In || f == nil {
			continue
		}
		o := others[f.ID]
		if o == nil {
			o = &other{site: r.HomeName}
			others[f.ID] = o
			order = append(order, f.ID)
		}
		if o.Revision < f.Revision {
			o.Tier = Tier{f.ID, f.Revision, f.Tier}
		}
		o.of = append(o.of, r)
	}
	for _, id := range order {
		o := others[id]
		out = append(out, view(o.Tier, o.site, o.of))
	}
	return out
}

// Show is a tier with the groups that follow it and what it was.
func (t *Tiers) Show(ctx context.Context, site, text string) (api.Tier, error) {
	x, err := t.Find(text)
	if err != nil {
		return api.Tier{}, err
	}
	v := view(x, site, t.Followers(x.ID))
	past, err := t.History(ctx, x.ID)
	if err != nil {
		return v, err
	}
	v.History = &[]api.TierRevision{}
	for i, p := range past {
		h := api.TierRevision{Revision: p.Revision, At: p.At.UTC(), Who: p.Who, Changes: []api.Change{}}
		if i+1 < len(past) {
			before, err1 := directory.DecodeTier(past[i+1].Settings)
			now, err2 := directory.DecodeTier(p.Settings)
			if err1 == nil && err2 == nil {
				h.Changes = changesView(group.DiffTiers(before, now))
			}
		}
		*v.History = append(*v.History, h)
	}
	return v, nil
}

func changesView(cs []group.Change) []api.Change {
	out := []api.Change{}
	for _, c := range cs {
		out = append(out, api.Change{Field: c.Field, From: c.From, To: c.To})
	}
	return out
}

func fieldErrors(fs []problem.Field) []api.FieldError {
	out := []api.FieldError{}
	for _, f := range fs {
		out = append(out, api.FieldError{Field: f.Field, Message: f.Message})
	}
	return out
}

// Make makes a tier as it is asked for.
func (t *Tiers) Make(ctx context.Context, who actor.Actor, in api.NewTier) (string, error) {
	p := api.TierPatch{Name: &in.Name, PromiseText: in.PromiseText, RtoTargetSeconds: in.RtoTargetSeconds, Priority: in.Priority, Rest: in.Rest, LockSeconds: in.LockSeconds, DrillEverySeconds: in.DrillEverySeconds}
	if in.Promise != nil {
		p.Promise = &api.PromisePatch{RpoTargetSeconds: &in.Promise.RpoTargetSeconds, CadenceSeconds: &in.Promise.CadenceSeconds, Cadence: in.Promise.Cadence, Quiet: in.Promise.Quiet, Zone: in.Promise.Zone, LeastPoints: in.Promise.LeastPoints, Keep: &in.Promise.Keep}
	}
	patch, faults := protection.TierWish(p)
	if len(faults) > 0 {
		return "", problem.InvalidFields(faults...)
	}
	x, err := t.Create(ctx, who, patch)
	return x.ID, err
}

// Faults tells what is wrong with a tier that could be made.
func (t *Tiers) Faults(in api.TierPatch) []problem.Field {
	p, fs := protection.TierWish(in)
	if len(fs) > 0 {
		return fs
	}
	return faults(p.ApplyTier(group.Tier{Priority: group.Normal}).Validate())
}

// Change changes a tier as it is asked for.
func (t *Tiers) Change(ctx context.Context, who actor.Actor, id string, in api.TierPatch) error {
	p, faults := protection.TierWish(in)
	if len(faults) > 0 {
		return problem.InvalidFields(faults...)
	}
	_, err := t.Edit(ctx, who, id, p, in.DropPoints != nil && *in.DropPoints)
	return err
}

// Foresee tells what a change would make of a tier and of the groups that follow it.
func (t *Tiers) Foresee(ctx context.Context, id string, in api.TierPatch) (api.TierPreview, error) {
	v := api.TierPreview{Changes: []api.Change{}, Groups: []api.TierMove{}}
	p, fs := protection.TierWish(in)
	was, next, moves, err := t.Preview(ctx, id, p)
	if err != nil {
		return v, err
	}
	v.Changes = changesView(group.DiffTiers(was.Tier, next.Tier))
	if len(fs) == 0 {
		fs = faults(next.Validate())
	}
	v.Faults = fieldErrors(fs)
	for _, m := range moves {
		// That it is at another revision of the tier is no change of the group.
		cs := slices.DeleteFunc(m.Changes, func(c group.Change) bool { return c.Field == "tier" && strings.HasPrefix(c.To, next.Name) })
		x := api.TierMove{ID: m.Group.ID, Name: m.Group.Spec.Name, Changes: changesView(cs), Faults: fieldErrors(m.Faults), DropsPoints: len(m.Lost.Points)}
		if len(m.Numbers) > 0 {
			x.DropsNumbers = &m.Numbers
		}
		v.Groups = append(v.Groups, x)
	}
	return v, nil
}
