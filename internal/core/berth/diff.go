package berth

import (
	"fmt"
	"slices"
)

// Diff says in words which machines arrive otherwise than before, and how.
func Diff(before, after []Arrival) []string {
	var out []string
	for _, a := range after {
		at := slices.IndexFunc(before, func(b Arrival) bool { return b.Machine.ID == a.Machine.ID })
		var was Arrival
		if at >= 0 {
			was = before[at]
		}
		for _, f := range facts(a) {
			if from := of(was, f.name); from != f.text {
				out = append(out, fmt.Sprintf("%s: %s %s → %s", a.Machine.Name, f.name, orNothing(from), orNothing(f.text)))
			}
		}
	}
	return out
}

type fact struct{ name, text string }

func facts(a Arrival) []fact {
	out := []fact{{"platform", a.Platform.Text}, {"pool", a.Pool.Text}, {"datastore", a.Datastore.Text}, {"folder", a.Folder.Text}, {"disk format", a.Format.Text}, {"name", a.Name.Text}, {"drill name", a.DrillName.Text},
		{"processors", fmt.Sprintf("%d (drill %d)", a.CPUs, a.DrillCPUs)}, {"memory", fmt.Sprintf("%d MiB (drill %d MiB)", a.Memory>>20, a.DrillMemory>>20)},
		{"way", a.Way.Text}, {"DNS", a.DNS.Text}, {"suffix", a.Suffix.Text}, {"command before", a.Before.Text}, {"command after", a.After.Text}, {"wave", fmt.Sprint(a.Wave)}}
	for i, c := range a.Cards {
		for _, k := range Kinds() {
			x := c.As(k)
			text := x.Network.Text
			switch {
			case x.Mode == ByDHCP:
				text += " by DHCP"
			case x.Address.IsValid():
				text += " " + x.Address.String()
			}
			if x.Gateway.IsValid() {
				text += " by " + x.Gateway.String()
			}
			out = append(out, fact{fmt.Sprintf("card %d %s", i+1, k), text})
		}
	}
	return out
}

func of(a Arrival, name string) string {
	for _, f := range facts(a) {
		if f.name == name {
			return f.text
		}
	}
	return ""
}

func orNothing(s string) string {
	if s == "" {
		return "nothing"
	}
	return s
}
