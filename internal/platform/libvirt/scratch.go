package libvirt

import (
	"context"
	"fmt"
	"strings"
	"time"

	rpc "github.com/digitalocean/go-libvirt"

	"kestrel/internal/platform"
)

// While disks are read, QEMU saves what the guest overwrites in scratch files.
// Were their storage to run full, the guest's writes would fail with it. So
// there has to be room before a capture begins, and it is ended when the room
// runs out.

const (
	scratchFloor = 64 << 20         // bytes that have to stay free
	scratchShare = 20               // a capture needs room for one part in so many of what is allocated
	watchEvery   = 2 * time.Second  // while disks are open
	refreshEvery = 10 * time.Second // of a pool's idea of its free space
)

// roomFor refuses a capture for whose scratch file there is no room.
func (d *Driver) roomFor(ps []pool, m *held, k diskXML, allocated int64) error {
	p, ok := poolOf(ps, d.scratchFile("", m, k))
	if !ok {
		return nil // nobody knows; the watch sees when it is too late
	}
	if need := scratchFloor + allocated/scratchShare; p.free < need {
		return fmt.Errorf("pool %s on host %s has %d MiB free, and %d MiB are needed for what machine %s overwrites while disk %s is read; make room there or give the platform another scratch folder",
			p.name, m.h.name(), p.free>>20, need>>20, m.x.Name, k.Target.Dev)
	}
	return nil
}

// watch looks after the machines of a capture until it is released: what
// threatens a guest ends the capture.
func (d *Driver) watch(ctx context.Context, name string, all []*held) {
	d.mu.Lock()
	busy := d.watched[name]
	d.watched[name] = true
	d.mu.Unlock()
	if busy {
		return // it was opened before
	}
	defer func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		delete(d.watched, name)
	}()
	left := append([]*held(nil), all...)
	refreshed := d.now()
	for len(left) > 0 {
		select {
		case <-ctx.Done():
			return
		case <-time.After(watchEvery):
		}
		refresh := d.now().Sub(refreshed) >= refreshEvery
		if refresh {
			refreshed = d.now()
		}
		var still []*held
		for _, m := range left {
			open, danger := d.look(ctx, name, m, refresh)
			if danger != "" {
				d.breakOff(ctx, name, all, danger)
				return
			}
			if open {
				still = append(still, m)
			}
		}
		left = still
	}
}

// look tells whether a machine's job is still open, and what threatens it.
func (d *Driver) look(ctx context.Context, name string, m *held, refresh bool) (open bool, danger string) {
	type sight struct {
		open   bool
		danger string
	}
	seen, err := call(ctx, m.h, callLimit, func(l *rpc.Libvirt) (s sight, err error) {
		state, reason, err := l.DomainGetState(m.dom, 0)
		if is(err, rpc.ErrNoDomain) || err == nil && power(state) == platform.PowerOff {
			return s, nil
		}
		if err != nil {
			return s, err
		}
		b, err := backupOf(l, m.dom)
		if err != nil {
			return s, err
		}
		if b == nil || !b.of(name) {
			return s, nil
		}
		s.open = true
		if state == int32(rpc.DomainPaused) && reason == int32(rpc.DomainPausedIoerror) {
			s.danger = fmt.Sprintf("machine %s was suspended by an error of its storage while it was read; the scratch space on host %s may be full", m.x.Name, m.h.name())
			return s, nil
		}
		ps, err := pools(l)
		if err != nil {
			return s, err
		}
		for _, k := range b.Disks {
			if k.Scratch == nil {
				continue
			}
			p, ok := poolOf(ps, k.Scratch.File)
			if ok && refresh {
				if err := l.StoragePoolRefresh(p.ref, 0); err != nil {
					return s, err
				}
			}
			if ok && p.free < scratchFloor {
				s.danger = fmt.Sprintf("pool %s on host %s has only %d MiB free, too little for what machine %s overwrites while it is read", p.name, m.h.name(), p.free>>20, m.x.Name)
			}
		}
		return s, nil
	})
	// One that cannot be asked is looked at again.
	return seen.open || err != nil && ctx.Err() == nil, seen.danger
}

// breakOff ends a capture so that its machines are not harmed, and lets those
// go on that were suspended by a full scratch space.
func (d *Driver) breakOff(ctx context.Context, name string, all []*held, why string) {
	d.log.Warn("a capture is ended to spare the machine", "checkpoint", name, "why", why)
	d.mu.Lock()
	d.ended[name] = why
	d.mu.Unlock()
	d.counting.RLock()
	defer d.counting.RUnlock()
	_ = each(all, func(m *held) error {
		if err := d.endJob(ctx, m.h, m.dom, name); err != nil {
			d.log.Warn("end a capture", "machine", m.x.Name, "err", err)
			return nil
		}
		return do(ctx, m.h, callLimit, func(l *rpc.Libvirt) error {
			state, reason, err := l.DomainGetState(m.dom, 0)
			if err == nil && state == int32(rpc.DomainPaused) && reason == int32(rpc.DomainPausedIoerror) {
				err = l.DomainResume(m.dom)
			}
			return err
		})
	})
}

// eachScratch visits the scratch files in all pools.
func eachScratch(l *rpc.Libvirt, visit func(checkpoint string, v rpc.StorageVol) error) error {
	ps, err := pools(l)
	if err != nil {
		return err
	}
	for _, p := range ps {
		if p.path == "" {
			continue
		}
		if err := l.StoragePoolRefresh(p.ref, 0); err != nil {
			continue // busy, or gone meanwhile
		}
		vols, _, err := l.StoragePoolListAllVolumes(p.ref, 1, 0)
		if err != nil {
			continue
		}
		for _, v := range vols {
			name, ok := strings.CutSuffix(v.Name, scratchSuffix)
			if parts := strings.Split(name, "."); ok && len(parts) == 3 {
				if err := visit(parts[0], v); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// removeScratch removes the scratch files of a capture that is not open.
func (d *Driver) removeScratch(ctx context.Context, name string) error {
	var failed error
	for _, h := range d.hosts {
		if err := do(ctx, h, beginLimit, func(l *rpc.Libvirt) error {
			return eachScratch(l, func(checkpoint string, v rpc.StorageVol) error {
				if checkpoint != name {
					return nil
				}
				if err := l.StorageVolDelete(v, 0); err != nil && !is(err, rpc.ErrNoStorageVol) {
					return fmt.Errorf("remove scratch file %s: %w", v.Name, err)
				}
				return nil
			})
		}); err != nil {
			failed = err
		}
	}
	return failed
}
