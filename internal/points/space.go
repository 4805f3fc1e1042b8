package points

import (
	"context"
	"fmt"
	"time"
)

// Space is what the points of a store take up, and whose that is. Bytes are those of records
// in packs, as they are stored, unless it is said otherwise.
type Space struct {
	At     time.Time
	Needed int64 // by points
	Packs  int64 // all packs; what is not needed is given back little by little
	Blocks int64 // whole blocks that points need, each once, before compressing
	Whole  int64 // what points would take up if each held all that its disks hold, before compressing
	// Unread says that parts of some points could not be looked at: what is below them is not
	// counted.
	Unread   bool
	Groups   map[string]Share // by ID
	Machines map[Part]Share
	Points   map[string]Share // by ID
}

// Part is a machine of a group, by their IDs.
type Part struct{ Group, Machine string }

// Share is what something takes up.
type Share struct {
	Name   string
	Points int
	Needed int64 // by it, of groups
	Alone  int64 // needed by nothing else: what deleting it gives back in the end
	Whole  int64 // as Space.Whole, of groups and points
}

// owner tells who needs a record: one, by its number from 1 on, or several.
type owner uint32

const several owner = ^owner(0)

// add enters one more, and tells whether that changed anything.
func (o *owner) add(x owner) bool {
	switch *o {
	case 0:
		*o = x
		return true
	case x, several:
		return false
	}
	*o = several
	return true
}

// Space looks at all trees: whose the records are that they name. Cycles go on meanwhile; of
// points that are dropped while it looks, parts may be unread. It takes some twenty bytes of
// memory for each record.
func (s *Store) Space(ctx context.Context) (Space, error) {
	out := Space{At: s.Clock(), Packs: s.Usage().PackBytes, Groups: map[string]Share{}, Machines: map[Part]Share{}, Points: map[string]Share{}}
	seals := map[string][]*Seal{}
	var groups []string
	for _, x := range s.Points("") {
		if seals[x.Group.ID] == nil {
			groups = append(groups, x.Group.ID)
		}
		seals[x.Group.ID] = append(seals[x.Group.ID], x)
	}
	// First which group needs what; then, within each and of what it needs alone, which point
	// and which machine. Both at once would take as much memory again.
	whose := map[key]owner{}
	for i, id := range groups {
		var g Share
		for _, x := range seals[id] {
			g.Name = x.Group.Name
			g.Points++
			g.Whole += x.UsedBytes
			for _, m := range x.Machines {
				err := s.name(ctx, x, m, &out.Unread, func(k key, kind Kind) bool {
					o := whose[k]
					if o == 0 {
						out.Needed += s.stored(k)
						if kind == KindBlock {
							out.Blocks += BlockSize
						}
					}
					changed := o.add(owner(i + 1))
					whose[k] = o
					return changed
				})
				if err != nil {
					return out, err
				}
			}
		}
		out.Groups[id] = g
		out.Whole += g.Whole
	}
	for i, id := range groups {
		if err := s.within(ctx, id, seals[id], func(k key) bool { return whose[k] == owner(i+1) }, &out); err != nil {
			return out, err
		}
	}
	return out, nil
}

// within looks at the points of one group; alone tells of what nobody else needs.
func (s *Store) within(ctx context.Context, id string, seals []*Seal, alone func(k key) bool, out *Space) error {
	type both struct{ point, machine owner }
	of := map[key]both{}
	numbers := map[string]owner{}
	var machines []Part
	for i, x := range seals {
		out.Points[x.Point] = Share{Name: fmt.Sprint(x.Number), Points: 1, Whole: x.UsedBytes}
		for _, m := range x.Machines {
			part := Part{id, m.ID}
			if numbers[m.ID] == 0 {
				machines = append(machines, part)
				numbers[m.ID] = owner(len(machines))
			}
			share := out.Machines[part]
			share.Name = m.Name
			share.Points++
			out.Machines[part] = share
			err := s.name(ctx, x, m, &out.Unread, func(k key, _ Kind) bool {
				o := of[k]
				a, b := o.point.add(owner(i+1)), o.machine.add(numbers[m.ID])
				of[k] = o
				return a || b
			})
			if err != nil {
				return err
			}
		}
	}
	g := out.Groups[id]
	for k, o := range of {
		n := s.stored(k)
		if g.Needed += n; !alone(k) {
			continue
		}
		g.Alone += n
		if o.point != several {
			p := out.Points[seals[o.point-1].Point]
			p.Alone += n
			out.Points[seals[o.point-1].Point] = p
		}
		if o.machine != several {
			m := out.Machines[machines[o.machine-1]]
			m.Alone += n
			out.Machines[machines[o.machine-1]] = m
		}
	}
	out.Groups[id] = g
	return nil
}

// name visits what the disks of a machine in a point name; below what visit turns down it does
// not look. What cannot be read is passed over, and said to be unread.
func (s *Store) name(ctx context.Context, x *Seal, m SealMachine, unread *bool, visit func(k key, kind Kind) bool) error {
	for _, d := range m.Disks {
		if err := ctx.Err(); err != nil {
			return err
		}
		err := s.walk(d.Root, d.Size, func(n Name, kind Kind, _ int64) bool {
			if !visit(keyOf(n), kind) {
				return false
			}
			if kind == KindNode && s.givenUp(n) {
				*unread = true
				return false
			}
			return true
		})
		if err != nil {
			*unread = true
		}
	}
	return nil
}

// stored is how many bytes a record takes up; 0 if it is not there.
func (s *Store) stored(k key) int64 {
	l, ok := s.index.get(k)
	if !ok {
		return 0
	}
	return recordHeader + int64(l.stored)
}
