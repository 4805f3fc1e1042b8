package overview

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/group"
	"kestrel/internal/core/span"
	"kestrel/internal/cycle"
	"kestrel/internal/directory"
	"kestrel/internal/mover"
)

// cycleView is a cycle as the contract shows it.
func cycleView(c cycle.Account, s group.Spec) api.Cycle {
	v := api.Cycle{ID: c.ID, Number: c.Number, Kind: c.Kind, State: c.State, StartedAt: c.StartedAt, EndedAt: orNil(c.EndedAt), CaptureAt: orNil(c.CaptureAt),
		Phases: []api.Phase{}, ChangedBytes: c.ChangedBytes, ShippedBytes: c.ShippedBytes, WireBytes: c.WireBytes, ReadBytes: c.ReadBytes, TotalBytes: c.TotalBytes, Attempts: c.Attempts, MissedBytes: c.MissedBytes}
	for _, x := range c.Phases {
		v.Phases = append(v.Phases, api.Phase{Name: x.Name, From: x.From, To: x.To})
	}
	for _, x := range []struct {
		to   **string
		text string
	}{{&v.Point, c.Point}, {&v.Error, c.Error}, {&v.Note, c.Note}, {&v.Why, c.Why}, {&v.Unusual, c.Unusual}} {
		if x.text != "" {
			*x.to = &x.text
		}
	}
	if len(c.Quiet) > 0 {
		v.Quiet = &[]api.Quiet{}
		for _, q := range c.Quiet {
			*v.Quiet = append(*v.Quiet, quietView(q, q.Machine))
		}
	}
	if len(c.Parts) > 0 {
		v.Parts = new(partViews(c.Parts, s))
	}
	return v
}

// partViews shows what cycles came to on disks of a group, which are called as its settings
// call them now.
func partViews(parts []cycle.Part, s group.Spec) []api.CyclePart {
	out := []api.CyclePart{}
	for _, p := range parts {
		v := api.CyclePart{Machine: p.Machine, Name: p.Name, Disk: p.Disk, Label: p.Disk, ReadBytes: p.ReadBytes, ChangedBytes: p.ChangedBytes, ShippedBytes: p.ShippedBytes, WireBytes: p.WireBytes}
		if m, ok := s.Machine(p.Machine); ok {
			v.Name = m.Name
			for _, d := range m.Disks {
				if d.Key == p.Disk && d.Label != "" {
					v.Label = d.Label
				}
			}
		}
		out = append(out, v)
	}
	return out
}

// accounts are the cycles of a group, newest first: all that are kept at its home site, the
// newest few at the other.
func (o *Overview) accounts(ctx context.Context, r directory.Record, before int64, limit int, since time.Time) ([]cycle.Account, error) {
	var all []cycle.Account
	if r.Direction == directory.Out {
		var err error
		if all, err = o.Mover.Accounts(ctx, r.ID, before, limit); err != nil {
			return nil, err
		}
	} else {
		live, _ := o.Peering.Reported(r.ID) // the home site keeps the rest
		all = live.Cycles
		if limit > 0 {
			all = all[:min(limit, len(all))]
		}
	}
	return slices.DeleteFunc(slices.Clone(all), func(c cycle.Account) bool { return c.StartedAt.Before(since) }), nil
}

// Cycles lists a group's cycles, newest first.
func (o *Overview) Cycles(ctx context.Context, id string, before int64, limit int, since time.Time) ([]api.Cycle, error) {
	if limit == 0 && !since.IsZero() {
		limit = mover.KeptCycles
	}
	r, err := o.Groups.Find(id)
	if err != nil {
		return nil, err
	}
	all, err := o.accounts(ctx, r, before, limit, since)
	if err != nil {
		return nil, err
	}
	out := []api.Cycle{}
	for _, c := range all {
		out = append(out, cycleView(c, r.Spec))
	}
	return out, nil
}

// Carried sums up what the cycles of a group since an instant came to, disk by disk.
func (o *Overview) Carried(ctx context.Context, id string, since *time.Time) (api.Carried, error) {
	now := o.Clock.Now().UTC()
	v := api.Carried{From: now.Add(-span.Day), To: now, Disks: []api.CyclePart{}}
	if since != nil {
		v.From = since.UTC()
	}
	r, err := o.Groups.Find(id)
	if err != nil {
		return v, err
	}
	all, err := o.accounts(ctx, r, 0, mover.KeptCycles, v.From)
	if err != nil {
		return v, err
	}
	v.Cycles = len(all)
	type key struct{ machine, disk string }
	sums := map[key]*cycle.Part{}
	for _, c := range all { // the newest first: a machine has the name that it had last
		v.From = c.StartedAt.UTC()
		for _, p := range c.Parts {
			k := key{p.Machine, p.Disk}
			x := sums[k]
			if x == nil {
				x = &cycle.Part{Machine: p.Machine, Name: p.Name, Disk: p.Disk}
				sums[k] = x
			}
			x.ReadBytes, x.ChangedBytes, x.ShippedBytes, x.WireBytes = x.ReadBytes+p.ReadBytes, x.ChangedBytes+p.ChangedBytes, x.ShippedBytes+p.ShippedBytes, x.WireBytes+p.WireBytes
		}
	}
	var parts []cycle.Part
	for _, x := range sums {
		parts = append(parts, *x)
	}
	slices.SortFunc(parts, func(a, b cycle.Part) int {
		return cmp.Or(cmp.Compare(b.ChangedBytes, a.ChangedBytes), strings.Compare(a.Name, b.Name), strings.Compare(a.Machine, b.Machine), strings.Compare(a.Disk, b.Disk))
	})
	v.Disks = partViews(parts, r.Spec)
	return v, nil
}
