package actor

import "slices"

// Grant gives a role to the people of a group of a sign-on provider, limited to groups of
// machines with one of the tags if there are any.
type Grant struct {
	Group string
	Role  Role
	Tags  []string
}

// Granted gives the most that the groups which somebody is in let them do: the highest
// role, and of several grants of that role all tags, or no limit if one has none. It is
// false if none lets them do anything.
func Granted(grants []Grant, groups []string) (role Role, tags []string, ok bool) {
	limited := true
	for _, g := range grants {
		if !slices.Contains(groups, g.Group) || g.Role.Rank() < 0 {
			continue
		}
		if !ok || g.Role.Rank() > role.Rank() {
			role, tags, limited, ok = g.Role, nil, true, true
		}
		if g.Role != role {
			continue
		}
		if len(g.Tags) == 0 {
			limited = false
		}
		for _, t := range g.Tags {
			if !slices.Contains(tags, t) {
				tags = append(tags, t)
			}
		}
	}
	if !limited {
		tags = nil
	}
	return role, tags, ok
}
