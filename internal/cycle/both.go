package cycle

import (
	"context"
	"errors"
	"slices"
	"sync"

	"kestrel/internal/points"
)

// Both is a remote that brings every cycle to two stores: far, which counts, and
// near. What fails at near ends near's part of the cycle only; failed is told.
func Both(far, near Remote, failed func(error)) Remote {
	return &both{far: far, near: near, failed: failed, lacks: map[points.Name]where{}}
}

type where struct{ far, near bool }

type both struct {
	far, near Remote
	failed    func(error)

	// Of the intakes that are open; empty where that side is done or has failed.
	farIntake, nearIntake string
	sealed                *points.Seal // far's, if only near is left

	mu    sync.Mutex
	lacks map[points.Name]where // what was said to be missing and not shipped yet
}

// Open implements Remote. A disk is sent whole to both if one of them lacks its
// base, since what is recorded has to mean the same at both.
func (b *both) Open(ctx context.Context, r OpenRequest) (Opened, error) {
	b.farIntake, b.nearIntake, b.sealed = "", "", nil
	far, err := b.far.Open(ctx, r)
	if err != nil {
		return far, err
	}
	near, err := b.near.Open(ctx, r)
	if err != nil {
		b.failed(err)
		b.farIntake = far.Intake
		return far, nil
	}
	switch {
	case near.Sealed != nil:
		b.farIntake = far.Intake
		return far, nil
	case far.Sealed != nil:
		b.nearIntake, b.sealed = near.Intake, far.Sealed
		return near, nil
	}
	if missing := union(far.NoBase, near.NoBase); len(missing) > 0 {
		r.Disks = slices.Clone(r.Disks)
		for _, i := range missing {
			if i >= 0 && i < len(r.Disks) {
				r.Disks[i].UseBase = false
			}
		}
		if far, err = b.far.Open(ctx, r); err != nil {
			return far, err
		}
		if near, err = b.near.Open(ctx, r); err != nil {
			b.failed(err)
			near = Opened{}
		}
		far.NoBase = missing
	}
	b.farIntake, b.nearIntake = far.Intake, near.Intake
	if near.Intake == "" {
		return far, nil
	}
	for i := range far.Recorded {
		both := slices.Clone(far.Recorded[i])
		for j := range both {
			if i >= len(near.Recorded) || j >= len(near.Recorded[i]) {
				both[j] = 0
			} else {
				both[j] &= near.Recorded[i][j]
			}
		}
		far.Recorded[i] = both
	}
	far.Wanted = append(far.Wanted, near.Wanted...)
	return far, nil
}

func union(a, b []int) []int {
	out := slices.Concat(a, b)
	slices.Sort(out)
	return slices.Compact(out)
}

// nearFailed ends near's part.
func (b *both) nearFailed(err error) {
	b.mu.Lock()
	b.nearIntake = ""
	b.mu.Unlock()
	b.failed(err)
}

func (b *both) open() (far, near string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.farIntake, b.nearIntake
}

// Missing implements Remote: what either lacks is missing.
func (b *both) Missing(ctx context.Context, _ string, names []points.Name) ([]bool, error) {
	farIntake, nearIntake := b.open()
	far, near := make([]bool, len(names)), make([]bool, len(names))
	var err error
	if farIntake != "" {
		if far, err = b.far.Missing(ctx, farIntake, names); err != nil {
			return nil, err
		}
	}
	if nearIntake != "" {
		if near, err = b.near.Missing(ctx, nearIntake, names); err != nil {
			b.nearFailed(err)
			near = make([]bool, len(names))
		}
	}
	out := make([]bool, len(names))
	b.mu.Lock()
	defer b.mu.Unlock()
	for i, n := range names {
		if i < len(far) && i < len(near) && (far[i] || near[i]) {
			out[i] = true
			b.lacks[n] = where{far[i], near[i]}
		}
	}
	return out, nil
}

// Ship implements Remote: each gets what it lacks, and all of the entries. The
// bytes are those that went far.
func (b *both) Ship(ctx context.Context, _ string, blocks []Block, entries []points.Entry) (Sent, error) {
	var toFar, toNear []Block
	b.mu.Lock()
	for _, x := range blocks {
		w, known := b.lacks[x.Name]
		delete(b.lacks, x.Name)
		if w.far || !known {
			toFar = append(toFar, x)
		}
		if w.near || !known {
			toNear = append(toNear, x)
		}
	}
	b.mu.Unlock()
	farIntake, nearIntake := b.open()
	if nearIntake != "" {
		if _, err := b.near.Ship(ctx, nearIntake, toNear, entries); err != nil {
			if missing := (*points.MissingError)(nil); errors.As(err, &missing) {
				return Sent{}, err // it is asked and sent again
			}
			b.nearFailed(err)
		}
	}
	if farIntake == "" {
		return Sent{}, nil
	}
	return b.far.Ship(ctx, farIntake, toFar, entries)
}

// Seal implements Remote. Near is first: if far fails then, the cycle is run
// again and near has sealed.
func (b *both) Seal(ctx context.Context, _ string, x points.Seal) (*points.Seal, error) {
	farIntake, nearIntake := b.open()
	if nearIntake != "" {
		if _, err := b.near.Seal(ctx, nearIntake, cloned(x)); err != nil {
			b.nearFailed(err)
		}
	}
	if farIntake == "" {
		return b.sealed, nil
	}
	return b.far.Seal(ctx, farIntake, x)
}

// cloned copies what sealing fills in.
func cloned(x points.Seal) points.Seal {
	x.Machines = slices.Clone(x.Machines)
	for i := range x.Machines {
		x.Machines[i].Disks = slices.Clone(x.Machines[i].Disks)
	}
	return x
}
