package landing

import (
	"slices"

	"kestrel/internal/core/berth"
	"kestrel/internal/core/words"
	"kestrel/internal/keeper"
	"kestrel/internal/platform"
	"kestrel/internal/points"
)

// Old is a machine that is off, in whose place another may come.
type Old struct {
	Platform, ID string
	Name         string // that it had, before it was set aside
}

// comeInPlace has a machine come in the place of the one that it was made from long ago: with
// its name, its hardware and the addresses of its cards. It is refused where the two differ in
// what they have.
func (x *plan) comeInPlace(s *state, m points.SealMachine) {
	if len(x.old) == 0 {
		return
	}
	var names []string
	for _, o := range x.old {
		names = append(names, o.Name)
	}
	at := berth.Before(s.detail.Name, names)
	if at < 0 {
		at = berth.Before(m.Name, names)
	}
	if at < 0 {
		x.fault("inPlace", "None of the old machines here, %s, is the one that %s was: start it as a new one, or choose other machines.", words.Joined(names, 6), m.Name)
		return
	}
	o := x.old[at]
	old, there := x.place.Machine(o.ID)
	switch {
	case o.Platform != x.place.ID:
		x.fault("inPlace", "%s was on another platform than %s, on which it arrives: change its berth, or start it as a new one.", o.Name, x.place.Name)
	case !there:
		x.fault("inPlace", "%s is not on %s any more: start it as a new one.", o.Name, x.place.Name)
	case old.Power != platform.PowerOff:
		x.fault("inPlace", "%s is not off. Shut it down first.", o.Name)
	case slices.ContainsFunc(x.all, func(other *state) bool { return other.detail.InPlaceOf == o.ID }):
		x.fault("inPlace", "Two machines would come in the place of %s: start them as new ones.", o.Name)
	default:
		x.fits(m, o.Name, old)
	}
	s.detail.Name, s.detail.InPlaceOf = o.Name, o.ID
	if a := s.detail.Arrival; a != nil {
		a.CPUs, a.Memory = 0, 0 // as that has
	}
}

// fits refuses a machine whose disks or cards are others than of the one in whose place it comes.
func (x *plan) fits(m points.SealMachine, name string, old platform.Machine) {
	var has, had []string
	for _, k := range m.Disks {
		has = append(has, k.Key)
	}
	for _, k := range m.Left {
		has = append(has, k.Key)
	}
	for _, k := range old.Disks {
		had = append(had, k.Key)
	}
	slices.Sort(has)
	slices.Sort(had)
	if !slices.Equal(has, had) {
		x.fault("inPlace", "%s has the disks %s in the point, and the old machine has %s: start it as a new one.", name, words.Joined(has, 8), words.Joined(had, 8))
	}
	if n := len(keeper.MachineConfig(m).NICs); n != len(old.NICs) {
		x.fault("inPlace", "%s has %s in the point, and the old machine has %d: start it as a new one.", name, words.Count(n, "card"), len(old.NICs))
	}
}
