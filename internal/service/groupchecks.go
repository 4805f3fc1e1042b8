package service

import (
	"fmt"
	"strings"

	"kestrel/internal/core/promise"
	"kestrel/internal/problem"
)

func fields(fs []promise.Finding) []problem.Field {
	var out []problem.Field
	for _, f := range fs {
		out = append(out, problem.Field{Field: f.Field, Message: f.Message})
	}
	return out
}

// resolveMachines checks machines for a group; except is the group itself when
// it is edited. The lock is held.
func (s *Service) resolveMachines(texts []string, except string) (*platformState, []settingsMachine, []problem.Field) {
	var faults []problem.Field
	fault := func(i int, format string, a ...any) {
		faults = append(faults, problem.Field{Field: fmt.Sprintf("machines[%d]", i), Message: fmt.Sprintf(format, a...)})
	}
	if len(texts) == 0 {
		return nil, nil, []problem.Field{{Field: "machines", Message: "Choose at least one machine."}}
	}
	if len(texts) > 256 {
		return nil, nil, []problem.Field{{Field: "machines", Message: "A group has at most 256 machines: they are captured at one instant."}}
	}
	var from *platformState
	var out []settingsMachine
	seen := map[string]bool{}
	for i, t := range texts {
		p, m, err := s.findMachine(t)
		if err != nil {
			fault(i, "%q: %s.", t, err)
			continue
		}
		why, mend := m.Barrier()
		g := s.groupOf(p.rec.ID, m.ID)
		switch {
		case seen[m.ID]:
			fault(i, "%s is named twice.", m.Name)
		case from != nil && p != from:
			fault(i, "%s is on platform %s and others on %s; one instant is possible on one platform only. Make a group for each.", m.Name, p.rec.Name, from.rec.Name)
		case why != "":
			fault(i, "%s cannot be protected. %s %s", m.Name, why, mend)
		case g != nil && g.rec.ID != except:
			fault(i, "%s is protected by the group %s already. Take it out there first.", m.Name, g.rec.Name)
		}
		seen[m.ID] = true
		from = p
		sm := settingsMachine{ID: m.ID, Name: m.Name, Disks: len(m.Disks)}
		for _, d := range m.Disks {
			sm.SizeBytes += d.SizeBytes
		}
		out = append(out, sm)
	}
	return from, out, faults
}

// chooseQuiesce marks the machines of a group whose guests are to be brought
// to rest. Without a choice, those that were chosen before stay chosen.
func chooseQuiesce(ms []settingsMachine, wish *[]string, before []settingsMachine) []problem.Field {
	if wish == nil {
		for i := range ms {
			for _, b := range before {
				if b.ID == ms[i].ID {
					ms[i].Quiesce = b.Quiesce
				}
			}
		}
		return nil
	}
	var faults []problem.Field
	for i := range ms {
		ms[i].Quiesce = false
	}
	for n, text := range *wish {
		_, id, _ := strings.Cut(text, "/")
		found := false
		for i := range ms {
			if ms[i].ID == id || ms[i].ID == text || strings.EqualFold(ms[i].Name, text) {
				ms[i].Quiesce, found = true, true
			}
		}
		if !found {
			faults = append(faults, problem.Field{Field: fmt.Sprintf("quiesce[%d]", n), Message: fmt.Sprintf("%q is not a machine of this group; name one of %s.", text, strings.Join(machineNames(ms), ", "))})
		}
	}
	return faults
}

func checkGroupName(name string) []problem.Field {
	if n := strings.TrimSpace(name); n == "" || len(n) > 80 {
		return []problem.Field{{Field: "name", Message: "Give the group a name of 1 to 80 characters."}}
	}
	return nil
}

func machineNames(ms []settingsMachine) []string {
	var out []string
	for _, m := range ms {
		out = append(out, m.Name)
	}
	return out
}

func sameMachines(a, b []settingsMachine) bool {
	ids := map[string]bool{}
	for _, m := range a {
		ids[m.ID] = true
	}
	for _, m := range b {
		if !ids[m.ID] {
			return false
		}
	}
	return len(a) == len(b)
}
