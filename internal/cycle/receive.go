package cycle

import (
	"context"

	"kestrel/internal/points"
)

// Receive opens an intake as a cycle asks for it, at the recovery site.
func Receive(ctx context.Context, store *points.Store, r OpenRequest) (Opened, error) {
	spec := points.IntakeSpec{ID: r.ID, Group: r.Group}
	base, err := store.Point(r.BasePoint)
	var out Opened
	for i, d := range r.Disks {
		x := points.IntakeDisk{Machine: d.Machine, Key: d.Key, Size: d.Size}
		if d.UseBase {
			var bd points.SealDisk
			ok := err == nil && base.Group.ID == r.Group.ID
			if ok {
				bd, ok = base.Disk(d.Machine, d.Key)
			}
			if ok && bd.Size == d.Size && store.Has(bd.Root) {
				x.Base = bd.Root
			} else {
				out.NoBase = append(out.NoBase, i)
			}
		}
		spec.Disks = append(spec.Disks, x)
	}
	// Another cycle's intake of this group is a leftover: a group has one
	// cycle at a time.
	for _, in := range store.Intakes(r.Group.ID) {
		if in.ID != r.ID || !sameDisks(in.Disks, spec.Disks) {
			in.Abandon()
		}
	}
	in, sealed, err := store.OpenIntake(spec)
	if err != nil {
		return out, err
	}
	if sealed != nil {
		return Opened{Sealed: sealed}, nil
	}
	if store.LostDue() {
		if _, err := store.FindLost(ctx); err != nil {
			return out, err
		}
	}
	out.Intake, out.Wanted = in.Handle(), in.Wanted()
	for i := range in.Disks {
		out.Recorded = append(out.Recorded, in.Recorded(i))
	}
	return out, nil
}

func sameDisks(a, b []points.IntakeDisk) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i] != b[i] {
			return false
		}
	}
	return true
}

// At is a store in this process as a Remote: what a cycle brings is taken in
// without a link.
type At struct{ Store *points.Store }

// Open implements Remote.
func (a At) Open(ctx context.Context, r OpenRequest) (Opened, error) {
	return Receive(ctx, a.Store, r)
}

// Missing implements Remote.
func (a At) Missing(_ context.Context, intake string, names []points.Name) ([]bool, error) {
	in, err := a.Store.Intake(intake)
	if err != nil {
		return nil, err
	}
	return in.Missing(names), nil
}

// Ship implements Remote. Nothing crosses a link.
func (a At) Ship(_ context.Context, intake string, blocks []Block, entries []points.Entry) (Sent, error) {
	in, err := a.Store.Intake(intake)
	if err != nil {
		return Sent{}, err
	}
	for _, b := range blocks {
		if err := in.Put(b.Name, b.Encoding, points.BlockSize, b.Stored); err != nil {
			return Sent{}, err
		}
	}
	return Sent{}, in.Record(entries)
}

// Seal implements Remote.
func (a At) Seal(_ context.Context, intake string, x points.Seal) (*points.Seal, error) {
	in, err := a.Store.Intake(intake)
	if err != nil {
		return nil, err
	}
	return in.Seal(x)
}
