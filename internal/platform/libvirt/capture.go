package libvirt

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	rpc "github.com/digitalocean/go-libvirt"

	"kestrel/internal/platform"
)

// note is what a checkpoint of ours carries in its description, so that a
// capture can be found again as a whole.
type note struct {
	Machines   []string  `json:"machines"`
	NotBefore  time.Time `json:"notBefore"`
	OneInstant bool      `json:"oneInstant"`
}

// beginLimit bounds the calls that start and end work on a machine.
const beginLimit = 60 * time.Second

// ownerOf is the part of a checkpoint's name that all of one service's share:
// what comes before its ID.
func ownerOf(checkpoint string) string {
	if parts := strings.SplitN(checkpoint, "-", 3); len(parts) == 3 {
		return parts[0] + "-" + parts[1] + "-"
	}
	return checkpoint
}

// Capture implements platform.Driver.
func (d *Driver) Capture(ctx context.Context, r platform.CaptureRequest) (_ *platform.Capture, err error) {
	d.mu.Lock()
	delete(d.ended, r.Name)
	d.mu.Unlock()
	d.counting.RLock()
	defer d.counting.RUnlock()
	all := make([]*held, len(r.Machines))
	for n, id := range r.Machines {
		all[n] = &held{id: id}
	}
	c := &platform.Capture{Name: r.Name, Configs: map[string]json.RawMessage{}}
	defer func() {
		if err != nil {
			// Nothing half-begun stays behind, whatever the caller does next.
			back, cancel := context.WithTimeout(context.WithoutCancel(ctx), beginLimit)
			defer cancel()
			for _, m := range all {
				if m.h != nil {
					_ = d.endJob(back, m.h, m.dom, r.Name)
					_ = d.forgetOn(back, m.h, m.dom, r.Name)
					_ = d.putBack(back, m.h, m.dom)
				}
			}
		}
	}()
	if err := each(all, func(m *held) error { return d.ready(ctx, r, m) }); err != nil {
		return nil, err
	}
	for _, m := range all {
		if c.Configs[m.id], err = d.config(ctx, m); err != nil {
			return nil, err
		}
	}
	together := len(all) > 1 && !r.Apart
	n := note{Machines: r.Machines, NotBefore: d.now().UTC(), OneInstant: together || len(all) == 1}
	// All that can be settled before is: guests wait for what comes after.
	if err := each(all, func(m *held) error { return d.arrange(ctx, r, m, n) }); err != nil {
		return nil, err
	}
	_ = each(all, func(m *held) error { d.commandBefore(ctx, r, m); return nil })
	if err := d.still(ctx, r, all, together); err != nil {
		d.goOn(all)
		d.commandsAfter(ctx, all)
		return nil, err
	}
	c.At = d.now()
	disks := make([][]platform.FrozenDisk, len(all))
	index := map[*held]int{}
	for i, m := range all {
		index[m] = i
	}
	err = each(all, func(m *held) error {
		var err error
		disks[index[m]], err = d.begin(ctx, r, m)
		return err
	})
	d.goOn(all)
	d.commandsAfter(ctx, all)
	if err != nil {
		return nil, err
	}
	c.OneInstant, c.Application = true, len(r.Quiesce) > 0
	for i, m := range all {
		c.Disks = append(c.Disks, disks[i]...)
		c.Left = append(c.Left, m.left()...)
		// Off and suspended machines write nothing.
		c.OneInstant = c.OneInstant && (len(all) == 1 || !m.running || m.frozen || m.suspended)
		c.Application = c.Application && (m.quiet.Done || !m.running)
		if m.quiet.Machine != "" {
			c.Quiet = append(c.Quiet, m.quiet)
		}
	}
	d.background(func(ctx context.Context) { d.watch(ctx, r.Name, all) })
	return c, nil
}

// ready finds a machine, ends what an earlier capture of ours left on it, and
// opens its disks if it is off.
func (d *Driver) ready(ctx context.Context, r platform.CaptureRequest, m *held) error {
	checkpoint := r.Name
	h, dom, err := d.find(ctx, m.id)
	if err != nil {
		return err
	}
	m.h, m.dom = h, dom
	defer d.opening.hold(uuidText(dom.UUID))()
	return do(ctx, h, beginLimit, func(l *rpc.Libvirt) error {
		if err := d.unheld(ctx, l, dom); err != nil {
			return err
		}
		if err := d.clearJob(l, dom, checkpoint); err != nil {
			return err
		}
		text, err := l.DomainGetXMLDesc(dom, 0)
		if err != nil {
			return fmt.Errorf("machine %s: %w", dom.Name, err)
		}
		if m.x, err = parseDomain(text); err != nil {
			return err
		}
		m.x.leave(func(dev string) bool { return r.Left(m.id, dev) })
		for _, k := range m.x.copied() {
			if why, mend := k.untrackable(""); why != "" {
				return fmt.Errorf("machine %s, disk %s: %s %s", m.x.Name, k.Target.Dev, why, mend)
			}
		}
		state, reason, err := l.DomainGetState(dom, 0)
		if err != nil {
			return fmt.Errorf("machine %s: %w", dom.Name, err)
		}
		if state == int32(rpc.DomainPaused) && reason == int32(rpc.DomainPausedIoerror) {
			return fmt.Errorf("machine %s is suspended because of an error of its disks; see to its storage and resume it", dom.Name)
		}
		m.running = power(state) == platform.PowerOn
		if power(state) == platform.PowerOff {
			if p, err := l.DomainIsPersistent(dom); err != nil || p == 0 {
				return fmt.Errorf("machine %s is not defined any more: %w", dom.Name, platform.ErrGone)
			}
			// Only a QEMU can tell what changed, so one is started that runs
			// nothing. The mark comes first: it says that the machine is off.
			if err := setMark(l, dom, holdSpace, "kestrel", hold{Checkpoint: checkpoint, Since: d.now().UTC(), Started: true}, rpc.DomainAffectConfig); err != nil {
				return fmt.Errorf("note on machine %s that it is read: %w", dom.Name, err)
			}
			if m.dom, err = l.DomainCreateWithFlags(dom, uint32(rpc.DomainStartPaused)); err != nil {
				return errors.Join(fmt.Errorf("open the disks of machine %s, which is off: %w", dom.Name, err), clearMark(l, dom, holdSpace, rpc.DomainAffectConfig))
			}
			m.started = true
			return clearMark(l, m.dom, holdSpace, rpc.DomainAffectConfig) // the running one keeps it
		}
		if m.x.Metadata.Hold != nil && m.x.Metadata.Hold.Started && m.running {
			// Somebody resumed it, so that it is really on now.
			return clearMark(l, dom, holdSpace, rpc.DomainAffectLive)
		}
		return nil
	})
}

// config is what is needed to make a machine again.
func (d *Driver) config(ctx context.Context, m *held) (json.RawMessage, error) {
	return call(ctx, m.h, callLimit, func(l *rpc.Libvirt) (json.RawMessage, error) {
		text, err := l.DomainGetXMLDesc(m.dom, rpc.DomainXMLInactive)
		if err != nil {
			return nil, fmt.Errorf("description of machine %s: %w", m.x.Name, err)
		}
		c := Config{Machine: platform.Machine{ID: m.id, Name: m.x.Name, Host: m.h.name(), Power: platform.PowerOn, CPUs: m.x.VCPU, MemoryBytes: m.x.memoryBytes(), Tags: []string{}}, Libvirt: text}
		if !m.running {
			c.Power = platform.PowerOff
		}
		for _, k := range m.x.drives() {
			c.Disks = append(c.Disks, platform.Disk{Key: k.Target.Dev, Label: k.Target.Dev})
		}
		for _, n := range m.x.Devices.NICs {
			c.NICs = append(c.NICs, d.nic(m.id, n))
		}
		return json.Marshal(c)
	})
}

// Config is a machine's configuration as points keep it.
type Config struct {
	platform.Machine
	Libvirt string `json:"libvirt"` // its description as libvirt had it
}

// Reopen implements platform.Driver.
func (d *Driver) Reopen(ctx context.Context, name, _ string) (*platform.Capture, error) {
	d.mu.Lock()
	why := d.ended[name]
	d.mu.Unlock()
	if why != "" {
		return nil, fmt.Errorf("%s: %w", why, platform.ErrGone)
	}
	c := &platform.Capture{Name: name, Configs: map[string]json.RawMessage{}}
	found, n, err := d.withCheckpoint(ctx, name)
	if err != nil {
		return nil, err
	}
	c.At, c.OneInstant = n.NotBefore, n.OneInstant
	if len(found) == 0 || len(found) != len(n.Machines) {
		return nil, fmt.Errorf("capture %s is not complete: %w", name, platform.ErrGone)
	}
	slices.SortFunc(found, func(a, b *held) int { return slices.Index(n.Machines, a.id) - slices.Index(n.Machines, b.id) })
	for _, m := range found {
		if m.x.Metadata.Hold != nil && !m.x.Metadata.Hold.Started {
			return nil, fmt.Errorf("the capture was cut off while machine %s was held: %w", m.x.Name, platform.ErrGone)
		}
		var size = map[string]int64{}
		m.plan.left = map[string]int64{}
		b, err := call(ctx, m.h, callLimit, func(l *rpc.Libvirt) (*backupXML, error) {
			b, err := backupOf(l, m.dom)
			if b == nil || err != nil {
				return b, err
			}
			if b != nil {
				m.x.leave(func(dev string) bool {
					return !slices.ContainsFunc(b.Disks, func(k backupDisk) bool { return k.Name == dev && k.Backup == "yes" })
				})
			}
			for _, x := range m.x.drives() {
				if m.x.left[x.Target.Dev] {
					m.plan.left[x.Target.Dev], _ = diskSize(l, m.dom, x, true, slices.ContainsFunc(m.x.copied(), diskXML.remote))
				}
			}
			for _, k := range b.Disks {
				if k.Backup != "yes" {
					continue
				}
				for _, x := range m.x.copied() {
					if x.Target.Dev == k.Name {
						size[k.Name], _ = diskSize(l, m.dom, x, true, slices.ContainsFunc(m.x.copied(), diskXML.remote))
					}
				}
				if size[k.Name] == 0 {
					return nil, fmt.Errorf("the size of disk %s of machine %s is not known", k.Name, m.x.Name)
				}
			}
			return b, nil
		})
		if err != nil {
			return nil, err
		}
		if b == nil || !b.of(name) {
			return nil, fmt.Errorf("machine %s was stopped while it was read: %w", m.x.Name, platform.ErrGone)
		}
		if c.Configs[m.id], err = d.config(ctx, m); err != nil {
			return nil, err
		}
		d.mu.Lock()
		d.ports[b.Server.Port] = m.dom.UUID
		d.mu.Unlock()
		c.Disks = append(c.Disks, d.frozen(m, *b, size, nil)...)
		c.Left = append(c.Left, m.left()...)
	}
	d.background(func(ctx context.Context) { d.watch(ctx, name, found) })
	return c, nil
}

// Release implements platform.Driver.
func (d *Driver) Release(ctx context.Context, name string) error {
	found, _, err := d.withCheckpoint(ctx, name)
	if err != nil {
		return err
	}
	d.counting.RLock()
	defer d.counting.RUnlock()
	return each(found, func(m *held) error {
		return errors.Join(d.endJob(ctx, m.h, m.dom, name), d.putBack(ctx, m.h, m.dom))
	})
}

// putBack turns a machine off again that was on only to be read, unless
// somebody made it run.
func (d *Driver) putBack(ctx context.Context, h *host, dom rpc.Domain) error {
	defer d.opening.hold(uuidText(dom.UUID))()
	return do(ctx, h, beginLimit, func(l *rpc.Libvirt) error {
		mark, err := getMark(l, dom)
		if err != nil || mark == nil || !mark.Started {
			return err
		}
		state, _, err := l.DomainGetState(dom, 0)
		if err != nil {
			return err
		}
		if state == int32(rpc.DomainPaused) {
			// Gracefully, so that the image keeps its record of changes.
			if err := l.DomainDestroyFlags(dom, rpc.DomainDestroyGraceful); err != nil && !is(err, rpc.ErrOperationInvalid) {
				return fmt.Errorf("close the disks of machine %s, which is off: %w", dom.Name, err)
			}
			return nil
		}
		return clearMark(l, dom, holdSpace, rpc.DomainAffectLive)
	})
}
