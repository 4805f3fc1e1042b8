package lab

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"golang.org/x/time/rate"

	"kestrel/internal/lab/wire"
	"kestrel/internal/nbd"
	"kestrel/internal/platform"
)

// landed is a machine that was made from a point, as the state keeps it. Its guest goes on
// when its disks are local: a simulated program does not read through an export. That the
// exports answer is tried when it starts.
type landed struct {
	wire.Landing
	Local []bool // by disk
	done  []int64
	busy  int // the disk that is being copied, counted from 1; 0 is none
}

const (
	maxLanded   = 64
	maxLandDisk = 1 << 40 // bytes
	copyStep    = 1 << 20
)

// program is what a machine's guest does.
func (m *machine) program() (p wire.Program, err error) {
	p.Ports = m.Ports
	if p.Workload, err = json.Marshal(m.Workload); err != nil || m.Agent == nil {
		return p, err
	}
	p.Agent, err = json.Marshal(m.Agent)
	return p, err
}

// nics are its cards as the inventory shows them.
func (x *landed) nics(networks []platform.Network) []platform.NIC {
	out := []platform.NIC{}
	for _, c := range x.NICs {
		n := platform.NIC{MAC: c.MAC, Address: c.Address}
		if at := slices.IndexFunc(networks, func(o platform.Network) bool { return o.ID == c.Network }); at >= 0 {
			n.Network, n.VLAN = networks[at].Name, networks[at].VLAN
		}
		out = append(out, n)
	}
	return out
}

// Land makes a machine from a point, off. One that was made is left as it is.
func (l *Lab) Land(in wire.Landing) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	n := 0
	for _, m := range l.machines {
		if m.id == in.ID {
			return nil
		}
		if m.Name == in.Name && m.id != in.InPlaceOf {
			return fmt.Errorf("there is a machine %s already: %w", in.Name, ErrBad)
		}
		if m.landed != nil {
			n++
		}
	}
	if n >= maxLanded {
		return fmt.Errorf("%d machines have landed here, and no more can: %w", n, ErrBad)
	}
	slices.SortFunc(in.Disks, func(a, b wire.LandingDisk) int { return strings.Compare(a.Key, b.Key) })
	for i, d := range in.Disks {
		if d.Key != diskKey(i) || d.Size <= 0 || d.Size > maxLandDisk {
			return fmt.Errorf("disk %q of %d bytes: %w", d.Key, d.Size, ErrBad)
		}
	}
	for _, c := range in.NICs {
		if c.Network != "" && !slices.ContainsFunc(l.scenario.Networks, func(o platform.Network) bool { return o.ID == c.Network }) {
			return fmt.Errorf("there is no network %q: %w", c.Network, ErrBad)
		}
	}
	if _, err := l.datastore(in.Datastore); err != nil {
		return err
	}
	if in.InPlaceOf != "" {
		if err := l.setAside(&in); err != nil {
			return err
		}
	}
	x := &landed{Landing: in, Local: make([]bool, len(in.Disks))}
	for i, d := range in.Disks {
		x.Local[i] = d.Export == ""
	}
	if err := l.reopenLanded(x, platform.PowerOff); err != nil {
		return errors.Join(err, l.bringBack(in.ID))
	}
	return l.save()
}

// setAside has the machine in whose place another comes give its name and its description away.
func (l *Lab) setAside(in *wire.Landing) error {
	m, err := l.machineByID(in.InPlaceOf)
	if err != nil {
		return fmt.Errorf("the machine in whose place %s comes is not here: %w", in.Name, ErrBad)
	}
	if m.power != platform.PowerOff {
		return fmt.Errorf("%s is not off: %w", m.Name, ErrBad)
	}
	id := in.Machine.ID // by which its guest goes on
	in.Machine = l.describe(m)
	in.Machine.ID = id
	if m.Name == in.Name {
		m.rename(platform.SetAside(in.Name, in.ID))
	}
	return nil
}

// bringBack gives a machine that was set aside its name again.
func (l *Lab) bringBack(landing string) error {
	for _, m := range l.machines {
		if name, ok := platform.BroughtBack(m.Name, landing); ok {
			m.rename(name)
			return l.save()
		}
	}
	return nil
}

func (m *machine) rename(name string) {
	if m.Name, m.renamed = name, true; m.landed != nil {
		m.landed.Name = name
	}
}

// datastore is the name of a datastore.
func (l *Lab) datastore(id string) (string, error) {
	for i, d := range l.scenario.Datastores {
		if id == fmt.Sprintf("ds-%d", i+1) {
			return d.Name, nil
		}
	}
	return "", fmt.Errorf("there is no datastore %q: %w", id, ErrBad)
}

// reopenLanded opens the disks of a landed machine; the lock is held, or the lab is not
// shared yet.
func (l *Lab) reopenLanded(x *landed, power string) error {
	store, err := l.datastore(x.Datastore)
	if err != nil {
		return err
	}
	x.done = make([]int64, len(x.Disks))
	m := &machine{id: x.ID, power: power, landed: x, ScenarioMachine: ScenarioMachine{Name: x.Name, Folder: x.Machine.Folder, Tags: []string{"landed"}, Pool: x.Pool, Guest: x.Machine.Guest,
		CPUs: x.Machine.CPUs, Ports: x.Program.Ports, MemGiB: float64(x.Machine.MemoryBytes) / (1 << 30)}}
	if len(l.scenario.Hosts) > 0 {
		m.Host = l.scenario.Hosts[0].Name
	}
	if err := json.Unmarshal(x.Program.Workload, &m.Workload); err != nil {
		return fmt.Errorf("what its guest does is not understood: %w", ErrBad)
	}
	if x.Program.Agent != nil {
		if err := json.Unmarshal(x.Program.Agent, &m.Agent); err != nil {
			return fmt.Errorf("its guest agent is not understood: %w", ErrBad)
		}
	}
	for i, k := range x.Disks {
		d, err := openDisk(filepath.Join(l.dir, "disks", m.id, k.Key), k.Size)
		if err != nil {
			return err
		}
		m.disks = append(m.disks, d)
		m.Disks = append(m.Disks, ScenarioDisk{Label: labelOf(x.Machine, k.Key, i), SizeMiB: float64(k.Size) / (1 << 20), Datastore: store})
	}
	l.join(m)
	return m.wake()
}

func labelOf(m platform.Machine, key string, i int) string {
	for _, d := range m.Disks {
		if d.Key == key {
			return d.Label
		}
	}
	return fmt.Sprintf("disk %d", i+1)
}

// wake lets the guest of a landed machine go on once all of its disks are local.
func (m *machine) wake() (err error) {
	if m.guest != nil || len(m.disks) == 0 || slices.Contains(m.landed.Local, false) {
		return nil
	}
	m.guest, err = newGuest(m.Workload, m.landed.Machine.ID, m.disks)
	return err
}

// landing finds a landed machine; the lock is held.
func (l *Lab) landing(id string) (*machine, error) {
	for _, m := range l.machines {
		if m.id == id && m.landed != nil {
			return m, nil
		}
	}
	return nil, fmt.Errorf("landing %q: %w", id, ErrNotFound)
}

// StartLanded starts a landed machine, if the exports answer that its disks read from.
func (l *Lab) StartLanded(ctx context.Context, id string, waiting bool) error {
	l.mu.Lock()
	m, err := l.landing(id)
	if err != nil || m.power != platform.PowerOff {
		l.mu.Unlock()
		return err
	}
	var read []wire.LandingDisk
	for i, d := range m.landed.Disks {
		if !m.landed.Local[i] {
			read = append(read, d)
		}
	}
	l.mu.Unlock()
	for _, d := range read {
		c, err := nbd.Dial(ctx, "tcp", d.Address, d.Export, nbd.Options{})
		if err != nil {
			return fmt.Errorf("disk %s: %w", d.Key, err)
		}
		_, err = c.ReadAt(make([]byte, min(d.Size, 4096)), 0)
		_ = c.Close()
		if err != nil {
			return fmt.Errorf("read disk %s: %w", d.Key, err)
		}
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if m.power = platform.PowerOn; waiting {
		m.power = platform.PowerSuspended
	}
	return l.save()
}

// ResumeLanded lets a waiting machine run.
func (l *Lab) ResumeLanded(id string) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	m, err := l.landing(id)
	if err == nil && m.power == platform.PowerSuspended {
		m.power = platform.PowerOn
		err = l.save()
	}
	return err
}

// Landed tells how a landed machine is.
func (l *Lab) Landed(id string) (wire.Landed, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	m, err := l.landing(id)
	if err != nil {
		return wire.Landed{}, err
	}
	x := m.landed
	out := wire.Landed{Power: m.power, Disks: []wire.LandedDisk{}}
	for i, d := range x.Disks {
		out.Disks = append(out.Disks, wire.LandedDisk{Key: d.Key, Local: x.Local[i], Busy: x.busy == i+1, Done: x.done[i], Total: d.Size})
	}
	return out, nil
}

// MakeLocal begins to copy a disk that is not local, unless one is being copied.
func (l *Lab) MakeLocal(id string, limit int64) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	m, err := l.landing(id)
	if err != nil {
		return err
	}
	at := slices.Index(m.landed.Local, false)
	if at < 0 || m.landed.busy > 0 || l.ctx.Err() != nil {
		return nil
	}
	m.landed.busy = at + 1
	l.copies.Go(func() {
		err := l.copyDisk(m, at, limit)
		l.mu.Lock()
		defer l.mu.Unlock()
		m.landed.busy = 0
		if err != nil || !slices.Contains(l.machines, m) {
			return // it is asked for again
		}
		m.landed.Local[at] = true
		if m.wake() == nil {
			_ = l.save() // or it is copied again after a restart
		}
	})
	return nil
}

// copyDisk copies what an export holds.
func (l *Lab) copyDisk(m *machine, at int, limit int64) error {
	k, d := m.landed.Disks[at], m.disks[at]
	c, err := nbd.Dial(l.ctx, "tcp", k.Address, k.Export, nbd.Options{Contexts: []string{nbd.AllocationContext}})
	if err != nil {
		return err
	}
	defer func() { _ = c.Close() }()
	pace := rate.NewLimiter(rate.Inf, copyStep)
	if limit > 0 {
		pace.SetLimit(rate.Limit(limit))
	}
	buf := make([]byte, copyStep)
	for off := int64(0); off < k.Size; {
		n := min(copyStep, k.Size-off)
		if err := pace.WaitN(l.ctx, int(n)); err != nil {
			return err
		}
		if _, err := c.ReadAt(buf[:n], off); err != nil {
			return err
		}
		if slices.ContainsFunc(buf[:n], func(b byte) bool { return b != 0 }) {
			if _, err := d.WriteAt(buf[:n], off); err != nil {
				return err
			}
		}
		off += n
		l.mu.Lock()
		m.landed.done[at] = off
		gone := !slices.Contains(l.machines, m)
		l.mu.Unlock()
		if gone {
			return ErrNotFound
		}
	}
	return nil
}

// An agent knows the commands of its guest, and understands what gives a card an address:
// which card, and the address.
var (
	cardIn    = regexp.MustCompile(`grep -il '\^([0-9a-f:]{17})\$'`)
	addressIn = regexp.MustCompile(`ip addr add ([0-9a-f.:]+/[0-9]+) `)
)

// RunIn has the agent of a landed machine run a command.
func (l *Lab) RunIn(id, command string) (wire.Ran, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	m, err := l.landing(id)
	if err != nil {
		return wire.Ran{}, err
	}
	if m.Agent == nil || m.Agent.Silent || m.power != platform.PowerOn {
		return wire.Ran{Silent: true}, nil
	}
	cards, addresses := cardIn.FindAllStringSubmatch(command, -1), addressIn.FindAllStringSubmatch(command, -1)
	if len(cards) == 0 || len(cards) != len(addresses) {
		return wire.Ran{Why: m.Agent.run(command)}, nil
	}
	for i, c := range cards {
		at := slices.IndexFunc(m.landed.NICs, func(n wire.LandingNIC) bool { return strings.EqualFold(n.MAC, c[1]) })
		p, err := netip.ParsePrefix(addresses[i][1])
		if at < 0 || err != nil {
			return wire.Ran{Why: "it ended with code 1: there is no card " + c[1]}, nil
		}
		m.landed.NICs[at].Address = p.Addr().String()
	}
	return wire.Ran{}, l.save()
}

// Answers tells who answers in a landed machine.
func (l *Lab) Answers(id string) (wire.Answers, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	m, err := l.landing(id)
	if err != nil || m.power != platform.PowerOn {
		return wire.Answers{}, err
	}
	return wire.Answers{Agent: m.Agent != nil && !m.Agent.Silent, Ports: m.Ports}, nil
}

// Discard removes a machine that is off, with its disks.
func (l *Lab) Discard(id string) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	m, err := l.machineByID(id)
	if err != nil {
		return err
	}
	if m.power != platform.PowerOff {
		return fmt.Errorf("%s is not off: %w", m.Name, ErrBad)
	}
	return l.remove(m)
}

// remove forgets a machine that no checkpoint holds, and removes its disks; the lock is held.
func (l *Lab) remove(m *machine) error {
	for name, cp := range l.cps {
		if slices.ContainsFunc(cp.Disks, func(k wire.CheckpointDisk) bool { return k.Machine == m.id }) {
			return fmt.Errorf("checkpoint %s holds it; forget that first: %w", name, ErrBad)
		}
	}
	l.machines = slices.DeleteFunc(l.machines, func(o *machine) bool { return o == m })
	delete(l.byID, m.id)
	if m.landed == nil {
		l.discarded = append(l.discarded, m.id)
	}
	for _, d := range m.disks {
		d.close()
	}
	if err := os.RemoveAll(filepath.Join(l.dir, "disks", m.id)); err != nil {
		return fmt.Errorf("remove the disks of %s: %w", m.Name, err)
	}
	return l.save()
}

// RemoveLanded stops a landed machine and removes it; one that is not there is no error.
func (l *Lab) RemoveLanded(id string) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if m, err := l.landing(id); err == nil {
		if err := l.remove(m); err != nil {
			return err
		}
	}
	return l.bringBack(id)
}

// handleLandings serves what is asked of landed machines.
func (l *Lab) handleLandings(mux *http.ServeMux) {
	mux.HandleFunc("POST /v1/landings", func(w http.ResponseWriter, r *http.Request) {
		var in wire.Landing
		err := read(r, &in)
		if err == nil {
			err = l.Land(in)
		}
		answer(w, struct{}{}, err)
	})
	mux.HandleFunc("GET /v1/landings/{id}", func(w http.ResponseWriter, r *http.Request) {
		x, err := l.Landed(r.PathValue("id"))
		answer(w, x, err)
	})
	mux.HandleFunc("POST /v1/landings/{id}/start", func(w http.ResponseWriter, r *http.Request) {
		var in wire.Start
		err := read(r, &in)
		if err == nil {
			err = l.StartLanded(r.Context(), r.PathValue("id"), in.Waiting)
		}
		answer(w, struct{}{}, err)
	})
	mux.HandleFunc("POST /v1/landings/{id}/resume", func(w http.ResponseWriter, r *http.Request) {
		answer(w, struct{}{}, l.ResumeLanded(r.PathValue("id")))
	})
	mux.HandleFunc("POST /v1/landings/{id}/local", func(w http.ResponseWriter, r *http.Request) {
		var in wire.MakeLocal
		err := read(r, &in)
		if err == nil {
			err = l.MakeLocal(r.PathValue("id"), in.BytesPerSecond)
		}
		answer(w, struct{}{}, err)
	})
	mux.HandleFunc("POST /v1/landings/{id}/run", func(w http.ResponseWriter, r *http.Request) {
		var in wire.Run
		if err := read(r, &in); err != nil {
			answer(w, nil, err)
			return
		}
		out, err := l.RunIn(r.PathValue("id"), in.Command)
		answer(w, out, err)
	})
	mux.HandleFunc("GET /v1/landings/{id}/answers", func(w http.ResponseWriter, r *http.Request) {
		out, err := l.Answers(r.PathValue("id"))
		answer(w, out, err)
	})
	mux.HandleFunc("GET /v1/landings/{id}/serial", func(w http.ResponseWriter, r *http.Request) {
		said, err := l.Serial(r.PathValue("id"))
		if err != nil {
			answer(w, nil, err)
			return
		}
		_, _ = io.WriteString(w, said)
	})
	mux.HandleFunc("POST /v1/landings/{id}/ports/{port}", l.through)
	mux.HandleFunc("DELETE /v1/landings/{id}", func(w http.ResponseWriter, r *http.Request) {
		answer(w, struct{}{}, l.RemoveLanded(r.PathValue("id")))
	})
}
