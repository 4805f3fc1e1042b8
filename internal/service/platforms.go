package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/url"
	"sort"
	"strings"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/api"
	"kestrel/internal/platform"
	"kestrel/internal/platform/lab"
	"kestrel/internal/platform/libvirt"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// platformState is a platform and what was last seen of it.
type platformState struct {
	rec    records.Platform
	set    api.LibvirtSettings // of that kind
	driver platform.Driver
	inv    platform.Inventory
	seenAt time.Time
	err    error // of the last attempt
}

// up reports whether the last attempt to ask the platform succeeded.
func (p *platformState) up() bool { return p.err == nil && !p.seenAt.IsZero() }

func (s *Service) newDriver(in api.NewPlatform) (platform.Driver, error) {
	switch in.Kind {
	case "lab":
		if deref(in.User) == "" {
			return nil, problem.Invalid("user", "Give the user to sign in with at the platform.")
		}
		if in.Libvirt != nil {
			return nil, problem.Invalid("libvirt", "A lab has no libvirt settings; leave them out, or use the kind libvirt.")
		}
		d, err := lab.New(in.Address, *in.User, deref(in.Password), s.clk)
		if err != nil {
			return nil, problem.Invalid("address", "%s", err)
		}
		return d, nil
	case "libvirt":
		if deref(in.User) != "" || deref(in.Password) != "" {
			return nil, problem.Invalid("user", "libvirt takes no user and password here; give certificates for TLS, or a key for ssh in the URI.")
		}
		var set api.LibvirtSettings
		if in.Libvirt != nil {
			set = *in.Libvirt
		}
		x := libvirt.Settings{Hosts: strings.Fields(strings.ReplaceAll(in.Address, ",", " ")), Certificates: deref(set.Certificates), NBDPorts: deref(set.NbdPorts), Scratch: deref(set.Scratch),
			Guard: s.cfg.Guard, Owner: s.checkpointPrefix(), Log: s.log.With("platform", in.Name), Now: s.clk.Now}
		if f := set.FreezeSeconds; f != nil {
			if *f < 1 || *f > 60 {
				return nil, problem.Invalid("libvirt.freezeSeconds", "A guest agent gets 1 to 60 seconds.")
			}
			x.FreezeLimit = time.Duration(*f) * time.Second
		}
		d, err := libvirt.New(x)
		if err != nil {
			return nil, problem.Invalid(fieldOf(err), "%s", sentence(err))
		}
		return d, nil
	}
	return nil, problem.Invalid("kind", "%q is not a kind of platform that can be added; use lab or libvirt.", in.Kind)
}

// fieldOf names the field that a fault of libvirt's settings is about.
func fieldOf(err error) string {
	var fault *libvirt.SettingError
	if errors.As(err, &fault) && fault.Setting != "" {
		return "libvirt." + fault.Setting
	}
	return "address"
}

func (s *Service) loadPlatforms(ctx context.Context) error {
	recs, err := s.db.Platforms(ctx)
	if err != nil {
		return err
	}
	for _, r := range recs {
		password, err := s.sealer.open(r.Password)
		if err != nil {
			return err
		}
		p := &platformState{rec: r}
		in := api.NewPlatform{Name: r.Name, Kind: r.Kind, Address: r.Address, User: strOrNil(r.Username), Password: strOrNil(password)}
		if err := json.Unmarshal(r.Settings, &p.set); err != nil {
			return fmt.Errorf("settings of platform %s: %w", r.Name, err)
		}
		if r.Kind == "libvirt" {
			in.Libvirt = &p.set
		}
		if p.driver, err = s.newDriver(in); err != nil {
			// Such as certificates that were moved: the site's other work goes on.
			p.driver = platform.Unusable(err)
			s.log.Warn("a platform cannot be used", "platform", r.Name, "err", err)
		}
		s.platforms[r.ID] = p
	}
	return nil
}

// refreshPlatforms asks all platforms for their inventory.
func (s *Service) refreshPlatforms(ctx context.Context) {
	s.mu.Lock()
	var all []*platformState
	for _, p := range s.platforms {
		all = append(all, p)
	}
	s.mu.Unlock()
	for _, p := range all {
		s.refreshPlatform(ctx, p)
	}
}

func (s *Service) refreshPlatform(ctx context.Context, p *platformState) {
	outer := ctx
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	inv, err := p.driver.Inventory(ctx)
	if outer.Err() != nil {
		return // the service is stopping; that says nothing of the platform
	}
	if ctx.Err() != nil && err != nil {
		err = fmt.Errorf("%w: no answer in time", platform.ErrUnreachable)
	}
	s.mu.Lock()
	was, seen := p.err, !p.seenAt.IsZero()
	p.err = err
	if err == nil {
		p.inv, p.seenAt = inv, s.clk.Now()
	}
	s.mu.Unlock()
	if (was == nil) != (err == nil) || !seen {
		s.hub.send(Event{Type: "platform", ID: p.rec.ID})
		if err != nil {
			s.note(ctx, "kestrel", "platform", p.rec.Name, "Platform %s cannot be used: %v", p.rec.Name, err)
		} else if was != nil {
			s.note(ctx, "kestrel", "platform", p.rec.Name, "Platform %s answers again", p.rec.Name)
		}
	}
}

func testView(steps []platform.Step) api.ConnectionTest {
	t := api.ConnectionTest{Ok: true, Steps: []api.TestStep{}}
	for _, x := range steps {
		t.Ok = t.Ok && x.OK
		t.Steps = append(t.Steps, api.TestStep{Name: x.Name, Ok: x.OK, Tried: x.Tried, Note: x.Note, Mend: x.Mend})
	}
	return t
}

func (s *Service) checkNewPlatform(in api.NewPlatform) (platform.Driver, error) {
	if strings.TrimSpace(in.Name) == "" || len(in.Name) > 60 {
		return nil, problem.Invalid("name", "Give the platform a name of 1 to 60 characters.")
	}
	return s.newDriver(in)
}

// TestPlatform tries a connection without keeping it.
func (s *Service) TestPlatform(ctx context.Context, in api.NewPlatform) (api.ConnectionTest, error) {
	d, err := s.checkNewPlatform(in)
	if err != nil {
		return api.ConnectionTest{}, err
	}
	defer d.Close()
	return testView(d.Check(ctx)), nil
}

// RetestPlatform tries a platform's connection.
func (s *Service) RetestPlatform(ctx context.Context, id string) (api.ConnectionTest, error) {
	p, err := s.platform(id)
	if err != nil {
		return api.ConnectionTest{}, err
	}
	steps := p.driver.Check(ctx)
	s.refreshPlatform(ctx, p)
	return testView(steps), nil
}

func (s *Service) platform(id string) (*platformState, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, p := range s.platforms {
		if p.rec.ID == id || strings.EqualFold(p.rec.Name, id) {
			return p, nil
		}
	}
	return nil, problem.NotFound("platform", id)
}

// CreatePlatform adds a platform after testing it.
func (s *Service) CreatePlatform(ctx context.Context, who string, in api.NewPlatform) (api.Platform, error) {
	d, err := s.checkNewPlatform(in)
	if err != nil {
		return api.Platform{}, err
	}
	kept := false
	defer func() {
		if !kept {
			d.Close()
		}
	}()
	if _, err := s.platform(in.Name); err == nil {
		return api.Platform{}, problem.Invalid("name", "There is a platform %q already; choose another name.", in.Name)
	}
	for _, step := range d.Check(ctx) {
		if step.OK {
			continue
		}
		field := "address"
		switch {
		case step.Name == "credentials":
			field = "password"
		case step.Name == "certificates":
			field = "libvirt.certificates"
		case step.Name == "storage" && in.Libvirt != nil && deref(in.Libvirt.Scratch) != "":
			field = "libvirt.scratch"
		}
		return api.Platform{}, problem.Invalid(field, "The connection fails at the step %q: %s %s", step.Name, step.Note, step.Mend)
	}
	p := &platformState{driver: d, rec: records.Platform{ID: uuid.NewString(), Name: strings.TrimSpace(in.Name), Kind: in.Kind, Address: in.Address,
		Username: deref(in.User), Password: s.sealer.seal(deref(in.Password)), CreatedAt: s.clk.Now()}}
	if in.Libvirt != nil {
		p.set = *in.Libvirt
	}
	p.rec.Settings = mustJSON(p.set)
	if err := s.db.AddPlatform(ctx, p.rec); err != nil {
		return api.Platform{}, err
	}
	kept = true
	s.mu.Lock()
	s.platforms[p.rec.ID] = p
	s.mu.Unlock()
	s.refreshPlatform(ctx, p)
	s.note(ctx, who, "platform", p.rec.Name, "%s added the platform %s (%s)", who, p.rec.Name, p.rec.Address)
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.platformView(p), nil
}

// DeletePlatform removes a platform that no group uses.
func (s *Service) DeletePlatform(ctx context.Context, who, id string) error {
	p, err := s.platform(id)
	if err != nil {
		return err
	}
	s.mu.Lock()
	for _, g := range s.groups {
		if g.rec.Direction == "out" && g.set.Platform == p.rec.ID {
			s.mu.Unlock()
			return problem.Conflict("Group %s protects machines of this platform. Delete the group first.", g.rec.Name)
		}
	}
	for _, l := range s.landings {
		if l.rec.Platform == p.rec.ID {
			s.mu.Unlock()
			return problem.Conflict("Machine %s has landed on this platform. Remove it first.", l.detail.Name)
		}
	}
	s.mu.Unlock()
	if err := s.db.DeletePlatform(ctx, p.rec.ID); err != nil {
		return err
	}
	s.mu.Lock()
	delete(s.platforms, p.rec.ID)
	s.mu.Unlock()
	p.driver.Close()
	s.note(ctx, who, "platform", p.rec.Name, "%s removed the platform %s", who, p.rec.Name)
	return nil
}

// platformView is the platform as the contract shows it; the lock is held.
func (s *Service) platformView(p *platformState) api.Platform {
	v := api.Platform{ID: p.rec.ID, Name: p.rec.Name, Kind: p.rec.Kind, Address: p.rec.Address, User: p.rec.Username,
		Reachable: p.up(), SeenAt: orNil(p.seenAt), Machines: len(p.inv.Machines)}
	_, v.Lands = p.driver.(platform.Lander)
	if p.rec.Kind == "libvirt" {
		v.Libvirt = ptr(p.set)
	}
	switch {
	case p.err != nil:
		v.Error = ptr(sentence(p.err))
	case p.inv.Trouble != "":
		v.Error = ptr(sentence(errors.New(p.inv.Trouble)))
	}
	for _, address := range strings.Fields(p.rec.Address) {
		host := hostOf(address)
		if !shortName(host) {
			continue
		}
		v.Warning = ptr(fmt.Sprintf("%q is a short name: it works only while this host's search domain fits. Use the full name or an IP address.", host))
	}
	return v
}

func strOrNil(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

func hostOf(address string) string {
	if u, err := url.Parse(address); err == nil && u.Host != "" {
		return u.Hostname()
	}
	h, _, err := net.SplitHostPort(address)
	if err != nil {
		return address
	}
	return h
}

// shortName tells a host name without a domain.
func shortName(host string) bool {
	return host != "" && host != "localhost" && net.ParseIP(host) == nil && !strings.Contains(host, ".")
}

// sentence puts an error in words for people.
func sentence(err error) string {
	t := err.Error()
	return strings.ToUpper(t[:1]) + t[1:]
}

// Platforms lists all.
func (s *Service) Platforms() []api.Platform {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []api.Platform{}
	for _, p := range s.platforms {
		out = append(out, s.platformView(p))
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out
}

// Inventory lists a platform's resources.
func (s *Service) Inventory(id string) (api.Inventory, error) {
	p, err := s.platform(id)
	if err != nil {
		return api.Inventory{}, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if p.seenAt.IsZero() {
		return api.Inventory{}, problem.Unreachable("%v", p.err)
	}
	v := api.Inventory{Hosts: []api.Resource{}, Pools: []api.Resource{}, Datastores: []api.Resource{}, Networks: []api.Named{}}
	used := map[string]int64{}
	for _, m := range p.inv.Machines {
		used[m.Host] += m.MemoryBytes
	}
	for _, h := range p.inv.Hosts {
		v.Hosts = append(v.Hosts, api.Resource{ID: h.ID, Name: h.Name, TotalBytes: h.MemoryBytes, FreeBytes: h.MemoryBytes - used[h.Name]})
	}
	for _, x := range p.inv.Pools {
		v.Pools = append(v.Pools, api.Resource{ID: x.ID, Name: x.Name, TotalBytes: x.MemoryBytes, FreeBytes: x.MemoryFreeBytes})
	}
	for _, x := range p.inv.Datastores {
		v.Datastores = append(v.Datastores, api.Resource{ID: x.ID, Name: x.Name, TotalBytes: x.CapacityBytes, FreeBytes: x.FreeBytes})
	}
	for _, x := range p.inv.Networks {
		v.Networks = append(v.Networks, api.Named{ID: x.ID, Name: x.Name, Note: ptr(x.Subnet)})
	}
	return v, nil
}

// MachineFilter narrows a list of machines; empty fields let all pass.
type MachineFilter struct {
	Query, Platform, Folder, Tag, Power string
	Protection                          string // "none", "protected" or "cannot"
}

// Machines lists machines of all platforms.
func (s *Service) Machines(f MachineFilter) ([]api.Machine, error) {
	switch f.Protection {
	case "", "none", "protected", "cannot":
	default:
		return nil, problem.Invalid("protection", "%q is none of none, protected, cannot.", f.Protection)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []api.Machine{}
	for _, p := range s.platforms {
		for _, m := range p.inv.Machines {
			v := s.machineView(p, m)
			if f.matches(v) {
				out = append(out, v)
			}
		}
	}
	sort.Slice(out, func(i, j int) bool {
		if out[i].Folder != out[j].Folder {
			return out[i].Folder < out[j].Folder
		}
		return out[i].Name < out[j].Name
	})
	return out, nil
}

func (f MachineFilter) matches(v api.Machine) bool {
	if f.Platform != "" && f.Platform != v.Platform && !strings.EqualFold(f.Platform, v.PlatformName) ||
		f.Folder != "" && v.Folder != f.Folder && !strings.HasPrefix(v.Folder, strings.TrimSuffix(f.Folder, "/")+"/") ||
		f.Power != "" && f.Power != v.Power {
		return false
	}
	has := func(xs []string, want string) bool {
		for _, x := range xs {
			if strings.EqualFold(x, want) {
				return true
			}
		}
		return false
	}
	if f.Tag != "" && !has(v.Tags, f.Tag) {
		return false
	}
	switch f.Protection {
	case "none":
		if v.Group != nil || v.Barrier != nil {
			return false
		}
	case "protected":
		if v.Group == nil {
			return false
		}
	case "cannot":
		if v.Barrier == nil {
			return false
		}
	}
	text := strings.ToLower(strings.Join(append([]string{v.Name, v.Folder, v.Guest, v.Host}, v.Tags...), " "))
	for _, n := range v.Nics {
		text += " " + n.Address + " " + n.Network
	}
	for _, word := range strings.Fields(strings.ToLower(f.Query)) {
		if !strings.Contains(text, word) {
			return false
		}
	}
	return true
}

// machineID joins platform and platform's own ID; machines of two platforms
// may have the same.
func machineID(platformID, id string) string { return platformID + "/" + id }

// machineView is a machine as the contract shows it; the lock is held.
func (s *Service) machineView(p *platformState, m platform.Machine) api.Machine {
	v := api.Machine{ID: machineID(p.rec.ID, m.ID), Platform: p.rec.ID, PlatformName: p.rec.Name, Name: m.Name, Folder: m.Folder, Tags: m.Tags,
		Host: m.Host, Power: m.Power, Guest: m.Guest, Cpus: m.CPUs, MemoryBytes: m.MemoryBytes, Disks: []api.MachineDisk{}, Nics: []api.Nic{}}
	if v.Tags == nil {
		v.Tags = []string{}
	}
	for _, d := range m.Disks {
		v.Disks = append(v.Disks, api.MachineDisk{Key: d.Key, Label: d.Label, SizeBytes: d.SizeBytes, UsedBytes: d.UsedBytes, Datastore: d.Datastore, Untrackable: strOrNil(d.Untrackable), Mend: strOrNil(d.Mend)})
	}
	for _, n := range m.NICs {
		v.Nics = append(v.Nics, api.Nic{Mac: n.MAC, Network: n.Network, Address: n.Address})
	}
	if g := s.groupOf(p.rec.ID, m.ID); g != nil {
		v.Group, v.GroupName = ptr(g.rec.ID), ptr(g.rec.Name)
	} else if why, mend := m.Barrier(); why != "" {
		v.Barrier, v.Mend = ptr(why), ptr(mend)
	}
	return v
}

// groupOf finds the group that protects a machine; the lock is held.
func (s *Service) groupOf(platformID, id string) *group {
	for _, g := range s.groups {
		if g.rec.Direction != "out" || g.set.Platform != platformID {
			continue
		}
		for _, m := range g.set.Machines {
			if m.ID == id {
				return g
			}
		}
	}
	return nil
}

// findMachine resolves what an administrator typed: an ID or a name that only
// one machine has. The lock is held.
func (s *Service) findMachine(text string) (*platformState, platform.Machine, error) {
	var p *platformState
	var found platform.Machine
	n := 0
	for _, x := range s.platforms {
		for _, m := range x.inv.Machines {
			if machineID(x.rec.ID, m.ID) == text {
				return x, m, nil
			}
			if strings.EqualFold(m.Name, text) {
				p, found = x, m
				n++
			}
		}
	}
	switch n {
	case 1:
		return p, found, nil
	case 0:
		return nil, found, errors.New("no platform of this site has it")
	}
	return nil, found, fmt.Errorf("%d machines have this name; give the ID", n)
}
