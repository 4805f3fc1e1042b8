package landing

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/words"
	"kestrel/internal/listing"
	"kestrel/internal/platform"
	"kestrel/internal/problem"
)

// seen is what platforms show of the machines that were made from points, by their IDs.
func (l *Landings) seen() map[string]platform.Machine {
	out := map[string]platform.Machine{}
	for _, p := range l.Inventory.All() {
		for _, m := range p.Held().Machines {
			if m.Landed {
				out[m.ID] = m
			}
		}
	}
	return out
}

// nic is a card as the contract shows it.
func (c card) view(now platform.Machine) api.LandingNic {
	v := api.LandingNic{Mac: c.MAC, Home: c.Home, Network: c.Name}
	if c.As != "" {
		v.MacHere = &c.As
	}
	if g := c.Guest; g != nil {
		text := "dhcp"
		if !g.DHCP {
			text = g.Address.String()
		}
		v.Address = &text
	}
	for _, n := range now.NICs {
		if strings.EqualFold(n.MAC, c.here()) && n.Address != "" {
			v.Found = &n.Address
		}
	}
	return v
}

// berthView adds how a landing arrived by a berth.
func (a *arrival) view(v *api.Landing) {
	if a == nil {
		return
	}
	v.Berth, v.Way = new(api.LandingBerth(a.Kind)), new(string(a.Way))
	if a.Came != "" {
		v.Guest = new(a.Came)
	}
	v.Wave = new(a.Wave)
	if a.Checked != "" {
		v.Check = new(a.Checked)
	}
	if a.CPUs > 0 {
		v.Cpus = new(a.CPUs)
	}
	if a.Memory > 0 {
		v.MemoryBytes = new(a.Memory)
	}
}

// view is a landing as the contract shows it; the lock is held.
func (l *Landings) view(s *state, platformName string, now platform.Machine) api.Landing {
	x := s.detail
	v := api.Landing{ID: s.rec.ID, Point: s.rec.Point, PointNumber: x.PointNumber, GroupName: x.GroupName, CaptureAt: x.CaptureAt, Machine: x.MachineName, Name: x.Name, Platform: s.rec.Platform, PlatformName: platformName,
		Datastore: x.Store, How: api.LandingHow(x.How), State: api.LandingState(s.rec.State), Nics: []api.LandingNic{}, LocalBytes: x.LocalBytes, TotalBytes: x.TotalBytes,
		StartedAt: x.StartedAt, LocalAt: x.LocalAt, CreatedAt: s.rec.CreatedAt, CreatedBy: s.rec.CreatedBy}
	if x.Note != "" {
		v.Note = &x.Note
	}
	if x.Error != "" {
		v.Error = &x.Error
	}
	for _, n := range x.NICs {
		v.Nics = append(v.Nics, n.view(now))
	}
	if now.Power != "" {
		v.Power = new(now.Power)
	}
	if x.Format != "" {
		v.Format = &x.Format
	}
	x.Arrival.view(&v)
	at := l.Clock.Now()
	if d := at.Sub(s.copiedAt); x.LocalAt == nil && !s.copiedAt.IsZero() && d > time.Second && x.LocalBytes > s.copied {
		rate := float64(x.LocalBytes-s.copied) / d.Seconds()
		v.BytesPerSecond = new(int64(rate))
		v.FinishAt = new(at.Add(time.Duration(float64(x.TotalBytes-x.LocalBytes) / rate * float64(time.Second))).UTC())
	}
	return v
}

// orders are the orders of a list of landings.
func orders() listing.Orders[api.Landing] {
	by := func(of func(api.Landing) string) func(a, b api.Landing) int {
		return func(a, b api.Landing) int { return listing.Fold(of(a), of(b)) }
	}
	return listing.Orders[api.Landing]{
		"created":  func(a, b api.Landing) int { return a.CreatedAt.Compare(b.CreatedAt) },
		"name":     by(func(x api.Landing) string { return x.Name }),
		"group":    by(func(x api.Landing) string { return x.GroupName }),
		"platform": by(func(x api.Landing) string { return x.PlatformName }),
		"state":    by(func(x api.Landing) string { return string(x.State) }),
	}
}

// List lists the landings of the groups that see lets pass and to which every word
// of query fits, newest first, and tells how many there are in all.
func (l *Landings) List(see func(group string) bool, query string, page listing.Page) ([]api.Landing, int, error) {
	names := map[string]string{}
	for _, p := range l.Inventory.All() {
		names[p.ID] = p.Name
	}
	seen := l.seen()
	l.mu.Lock()
	defer l.mu.Unlock()
	out := []api.Landing{}
	for _, s := range l.byID {
		if !see(s.detail.GroupID) {
			continue
		}
		if v := l.view(s, names[s.rec.Platform], seen[s.rec.ID]); listing.Matches(query, v.Name, v.Machine, v.GroupName, v.PlatformName, string(v.State)) {
			out = append(out, v)
		}
	}
	newest := func(a, b api.Landing) int {
		return cmp.Or(b.CreatedAt.Compare(a.CreatedAt), strings.Compare(a.ID, b.ID))
	}
	cut, err := orders().Of(out, newest, page)
	return cut, len(out), err
}

// find resolves an ID or the name of a landed machine.
func (l *Landings) find(text string) (*state, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	var found []*state
	var names []string
	for _, s := range l.byID {
		if s.rec.ID == text {
			return s, nil
		}
		if strings.EqualFold(s.detail.Name, text) {
			found = append(found, s)
		}
		names = append(names, s.detail.Name)
	}
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		p := problem.NotFound("landing", text)
		if near, ok := words.Nearest(text, names); ok {
			p.Detail += fmt.Sprintf(" Did you mean %q?", near)
		}
		return nil, p
	}
	var ids []string
	for _, s := range found {
		ids = append(ids, s.rec.ID)
	}
	return nil, problem.Conflict("More than one machine %q has landed; give the ID: %s.", text, strings.Join(ids, ", "))
}

// Get gives one.
func (l *Landings) Get(id string) (api.Landing, error) {
	s, err := l.find(id)
	if err != nil {
		return api.Landing{}, err
	}
	p, _ := l.Inventory.Get(s.rec.Platform)
	now, _ := p.Machine(s.rec.ID)
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.view(s, p.Name, now), nil
}

// GroupOf tells of which group's point a machine was made.
func (l *Landings) GroupOf(id string) (string, error) {
	s, err := l.find(id)
	if err != nil {
		return "", err
	}
	return s.detail.GroupID, nil
}
