package points

import (
	"cmp"
	"slices"
)

// shelf finds seals: by point, by the cycle that made them, and by group, oldest
// capture first.
type shelf struct {
	byPoint map[string]*Seal
	byCycle map[string]*Seal
	byGroup map[string][]*Seal
}

func newShelf() *shelf {
	return &shelf{map[string]*Seal{}, map[string]*Seal{}, map[string][]*Seal{}}
}

// older orders seals by capture, and those of one instant by number.
func older(a, b *Seal) int {
	return cmp.Or(a.CaptureAt.Compare(b.CaptureAt), cmp.Compare(a.Number, b.Number), cmp.Compare(a.Point, b.Point))
}

func (s *shelf) put(x *Seal) {
	if was := s.byPoint[x.Point]; was != nil {
		s.remove(was)
	}
	s.byPoint[x.Point], s.byCycle[x.Cycle] = x, x
	of := s.byGroup[x.Group.ID]
	at, _ := slices.BinarySearchFunc(of, x, older)
	s.byGroup[x.Group.ID] = slices.Insert(of, at, x)
}

func (s *shelf) remove(x *Seal) {
	delete(s.byPoint, x.Point)
	if s.byCycle[x.Cycle] == x {
		delete(s.byCycle, x.Cycle)
	}
	of := s.byGroup[x.Group.ID]
	if at, ok := slices.BinarySearchFunc(of, x, older); ok {
		of = slices.Delete(of, at, at+1)
	}
	if len(of) == 0 {
		delete(s.byGroup, x.Group.ID)
		return
	}
	s.byGroup[x.Group.ID] = of
}

// of lists the seals of a group, or all if it is empty.
func (s *shelf) of(group string) []*Seal {
	if group != "" {
		return slices.Clone(s.byGroup[group])
	}
	out := make([]*Seal, 0, len(s.byPoint))
	for _, x := range s.byPoint {
		out = append(out, x)
	}
	slices.SortFunc(out, older)
	return out
}
