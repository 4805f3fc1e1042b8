package berth

import (
	"slices"
	"strings"
)

// Merge says in one layer what several say, the first counting least: machines arrive by it as
// by all of them. It is what is kept where the layers themselves cannot be.
func Merge(levels []Level, own Settings) Settings {
	out := own
	under := func(to *string, of string) {
		if *to == "" {
			*to = of
		}
	}
	for _, l := range slices.Backward(levels) {
		s := l.Settings
		under(&out.Platform, s.Platform)
		under(&out.Pool, s.Pool)
		under(&out.Datastore, s.Datastore)
		under(&out.Folder, s.Folder)
		under(&out.Name, s.Name)
		under(&out.DrillName, s.DrillName)
		under(&out.Suffix, s.Suffix)
		under(&out.Address, s.Address)
		under((*string)(&out.Way), string(s.Way))
		under(&out.Format, s.Format)
		under(&out.Before, s.Before)
		under(&out.After, s.After)
		if out.CPUs == 0 {
			out.CPUs = s.CPUs
		}
		if out.MemoryBytes == 0 {
			out.MemoryBytes = s.MemoryBytes
		}
		if out.DrillPercent == 0 {
			out.DrillPercent = s.DrillPercent
		}
		if len(out.DNS) == 0 {
			out.DNS = s.DNS
		}
		// The first rule that is for an address counts, of the last layer that has one.
		for _, r := range s.Rules {
			if len(out.Rules) < MaxRules && !slices.ContainsFunc(out.Rules, func(before Rule) bool { return before.shadows(r) }) {
				out.Rules = append(slices.Clone(out.Rules), r)
			}
		}
		out.Networks = networksUnder(out.Networks, s.Networks)
	}
	return out
}

// networksUnder adds what a layer below says of networks, and of their kinds, that nothing is
// said of yet.
func networksUnder(own, under []NetworkMap) []NetworkMap {
	out := slices.Clone(own)
	for _, n := range under {
		at := slices.IndexFunc(out, func(o NetworkMap) bool { return strings.EqualFold(o.Home, n.Home) })
		if at < 0 {
			out = append(out, n)
			continue
		}
		if out[at].Live == "" {
			out[at].Live = n.Live
		}
		if out[at].Drill == "" {
			out[at].Drill = n.Drill
		}
	}
	return out
}
