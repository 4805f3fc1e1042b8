package service

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"kestrel/internal/api"
	"kestrel/internal/platform"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

func machineConfig(m points.SealMachine) platform.Machine {
	var c platform.Machine
	_ = json.Unmarshal(m.Config, &c) // one that is not understood has no cards to show
	return c
}

func nicsOf(m points.SealMachine) []api.Nic {
	out := []api.Nic{}
	for _, n := range machineConfig(m).NICs {
		out = append(out, api.Nic{Mac: n.MAC, Network: n.Network, Address: n.Address})
	}
	return out
}

// chooseMachines picks machines of a point by name or ID; all if none is named.
func chooseMachines(x *points.Seal, wish *[]string) ([]points.SealMachine, []problem.Field) {
	if wish == nil || len(*wish) == 0 {
		return x.Machines, nil
	}
	var out []points.SealMachine
	var faults []problem.Field
	for n, text := range *wish {
		at := slices.IndexFunc(x.Machines, func(m points.SealMachine) bool { return m.ID == text || strings.EqualFold(m.Name, text) })
		if at < 0 {
			faults = append(faults, problem.Field{Field: fmt.Sprintf("machines[%d]", n), Message: fmt.Sprintf("Point %d of %s has no machine %q.", x.Number, x.Group.Name, text)})
			continue
		}
		if !slices.ContainsFunc(out, func(m points.SealMachine) bool { return m.ID == x.Machines[at].ID }) {
			out = append(out, x.Machines[at])
		}
	}
	return out, faults
}

// landOn finds the platform and datastore of a landing; the lock is held.
func (s *Service) landOn(in api.NewLanding) (p *platformState, store platform.Datastore, faults []problem.Field) {
	fault := func(field, format string, a ...any) {
		faults = append(faults, problem.Field{Field: field, Message: fmt.Sprintf(format, a...)})
	}
	for _, x := range s.platforms {
		if x.rec.ID == in.Platform || strings.EqualFold(x.rec.Name, in.Platform) {
			p = x
		}
	}
	if p == nil {
		fault("platform", "%s has no platform %q.", s.site.Name, in.Platform)
		return nil, store, faults
	}
	if _, ok := p.driver.(platform.Lander); !ok {
		fault("platform", "Machines cannot be started on %s, a platform of the kind %s. Choose one of the kind libvirt.", p.rec.Name, p.rec.Kind)
		return p, store, faults
	}
	if !p.up() {
		fault("platform", "%s cannot be reached now.", p.rec.Name)
		return p, store, faults
	}
	var names []string
	for _, d := range p.inv.Datastores {
		names = append(names, d.Name)
		if in.Datastore != nil && (d.ID == *in.Datastore || strings.EqualFold(d.Name, *in.Datastore)) || deref(in.Datastore) == "" && len(p.inv.Datastores) == 1 {
			store = d
		}
	}
	switch {
	case store.ID != "":
	case len(names) == 0:
		fault("datastore", "%s has no datastore. Define and start a storage pool there.", p.rec.Name)
	case deref(in.Datastore) == "":
		fault("datastore", "%s has more than one; say which: %s.", p.rec.Name, strings.Join(names, ", "))
	default:
		fault("datastore", "%s has no datastore %q; choose one of %s.", p.rec.Name, *in.Datastore, strings.Join(names, ", "))
	}
	if err := s.canServe(p); err != nil {
		fault("platform", "%s", err)
	}
	return p, store, faults
}

// canServe tells whether the hosts of a platform can read our NBD exports.
func (s *Service) canServe(p *platformState) error {
	if s.nbdTLS != nil {
		return nil
	}
	for _, a := range strings.Fields(p.rec.Address) {
		if h := hostOf(a); h != "" && !loopback(h) {
			return fmt.Errorf("%s is another machine, and points are served on this one only. Start the service with --nbd-listen, --nbd-address and --nbd-certificates", h)
		}
	}
	return nil
}

// cards decides what the cards of a machine are attached to.
func cards(m points.SealMachine, in api.NewLanding, p *platformState) (out []api.LandingNic, fresh bool, faults []problem.Field) {
	wish := map[string]string{}
	if in.Networks != nil {
		wish = *in.Networks
	}
	for _, n := range machineConfig(m).NICs {
		nic := api.LandingNic{Mac: n.MAC, Home: n.Network, Network: wish[n.Network]}
		if nic.Network != "" {
			at := slices.IndexFunc(p.inv.Networks, func(x platform.Network) bool { return x.ID == nic.Network || strings.EqualFold(x.Name, nic.Network) })
			if at < 0 {
				faults = append(faults, problem.Field{Field: "networks", Message: fmt.Sprintf("%s has no network %q; it has %s.", p.rec.Name, nic.Network, networkNames(p))})
				continue
			}
			nic.Network = p.inv.Networks[at].ID
			if strings.EqualFold(p.inv.Networks[at].Name, n.Network) && nic.Network != "user" {
				if in.HomeNetwork == nil || !*in.HomeNetwork {
					faults = append(faults, problem.Field{Field: "networks", Message: fmt.Sprintf("%s would be on %q, the network that it is on at home: if home still runs, two machines have the same addresses. Choose another network, or allow it with homeNetwork.", m.Name, n.Network)})
				}
				fresh = true
			}
		}
		out = append(out, nic)
	}
	return out, fresh, faults
}

func networkNames(p *platformState) string {
	var names []string
	for _, n := range p.inv.Networks {
		names = append(names, n.Name)
	}
	if names == nil {
		return "none; define one there, or leave the card unconnected"
	}
	return strings.Join(names, ", ")
}

// CreateLandings makes machines from a point and starts them.
func (s *Service) CreateLandings(ctx context.Context, who string, in api.NewLanding) ([]api.Landing, error) {
	if _, err := s.heldRec(ctx, in.Point); err != nil {
		return nil, err
	}
	x, err := s.store.Point(in.Point)
	if err != nil {
		return nil, problem.NotFound("point", in.Point)
	}
	var faults []problem.Field
	fault := func(field, format string, a ...any) {
		faults = append(faults, problem.Field{Field: field, Message: fmt.Sprintf(format, a...)})
	}
	how := deref(in.How)
	if how == "" {
		how = atOnce
	}
	if how != atOnce && how != copiedFirst {
		fault("how", "%q is neither %s nor %s.", how, atOnce, copiedFirst)
	}
	if in.LocalBytesPerSecond != nil && *in.LocalBytesPerSecond < 1<<20 {
		fault("localBytesPerSecond", "A limit is at least 1 MiB a second; leave it out for none.")
	}
	machines, more := chooseMachines(x, in.Machines)
	faults = append(faults, more...)
	for m, lost := range s.lostByMachine(x) {
		if (in.NotWhole == nil || !*in.NotWhole) && slices.ContainsFunc(machines, func(c points.SealMachine) bool { return c.ID == m.ID }) {
			fault("notWhole", "%s of the disks of %s cannot be read from point %d. Choose another point, or allow it with notWhole.", bytesText(float64(lost)), m.Name, x.Number)
		}
	}
	s.mu.Lock()
	p, store, more := s.landOn(in)
	faults = append(faults, more...)
	known := map[string]bool{}
	if in.Networks != nil && p != nil {
		for _, m := range machines {
			for _, n := range machineConfig(m).NICs {
				known[n.Network] = true
			}
		}
		for home := range *in.Networks {
			if !known[home] {
				fault("networks", "No chosen machine is on %q at home.", home)
			}
		}
	}
	var all []*landing
	var size int64
	for _, m := range machines {
		if p == nil {
			break
		}
		l := &landing{detail: landingDetail{Name: deref(in.Prefix) + m.Name, MachineName: m.Name, GroupName: x.Group.Name, PointNumber: x.Number, CaptureAt: x.CaptureAt, Datastore: store.ID, How: how, Sizes: map[string]int64{}}}
		if in.LocalBytesPerSecond != nil {
			l.detail.Limit = *in.LocalBytesPerSecond
		}
		l.detail.NICs, l.detail.FreshMACs, more = cards(m, in, p)
		faults = append(faults, more...)
		for _, d := range m.Disks {
			l.detail.TotalBytes += d.Size
			l.detail.Sizes[d.Key] = d.Size
		}
		size += l.detail.TotalBytes
		if slices.ContainsFunc(p.inv.Machines, func(o platform.Machine) bool { return strings.EqualFold(o.Name, l.detail.Name) }) {
			fault("prefix", "%s has a machine %s already. Give a prefix for the names.", p.rec.Name, l.detail.Name)
		}
		token := make([]byte, 8)
		_, _ = rand.Read(token) // never fails since Go 1.24
		l.rec = records.Landing{ID: uuid.NewString(), Point: x.Point, Platform: p.rec.ID, Machine: m.ID, Token: hex.EncodeToString(token), State: string(api.LandingStatePreparing), CreatedBy: who, CreatedAt: s.clk.Now().UTC()}
		all = append(all, l)
	}
	s.mu.Unlock()
	if used := shareOf(x, size); len(faults) == 0 && store.FreeBytes < used {
		fault("datastore", "%s has %d MiB free, and the disks hold about %d MiB.", store.Name, store.FreeBytes>>20, used>>20)
	}
	if len(faults) > 0 {
		return nil, problem.InvalidFields(faults...)
	}
	out := []api.Landing{}
	for _, l := range all {
		l.rec.Detail = mustJSON(l.detail)
		if err := s.openLanding(l); err != nil {
			return out, problem.NotFound("point", in.Point)
		}
		if err := s.db.AddLanding(ctx, l.rec); err != nil {
			s.closeLandingShare(l)
			return out, err
		}
		s.mu.Lock()
		s.landings[l.rec.ID] = l
		s.mu.Unlock()
		s.note(ctx, who, "landing", l.detail.Name, "%s starts %s from point %d of %s on %s", who, l.detail.MachineName, x.Number, x.Group.Name, p.rec.Name)
		s.drive(l)
		s.mu.Lock()
		out = append(out, s.landingView(l))
		s.mu.Unlock()
	}
	return out, nil
}

// shareOf is about what disks of a total size hold of a point.
func shareOf(x *points.Seal, size int64) int64 {
	var all int64
	for _, m := range x.Machines {
		for _, d := range m.Disks {
			all += d.Size
		}
	}
	if all == 0 {
		return 0
	}
	return int64(float64(x.UsedBytes) * float64(size) / float64(all))
}
