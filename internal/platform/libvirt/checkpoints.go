package libvirt

import (
	"context"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"slices"
	"time"

	rpc "github.com/digitalocean/go-libvirt"

	"kestrel/internal/platform"
)

// withCheckpoint finds the machines that have a checkpoint, and what it says.
func (d *Driver) withCheckpoint(ctx context.Context, name string) (found []*held, n note, err error) {
	for _, h := range d.hosts {
		some, err := call(ctx, h, callLimit, func(l *rpc.Libvirt) (some []*held, err error) {
			domains, _, err := l.ConnectListAllDomains(1, 0)
			if err != nil {
				return nil, err
			}
			for _, dom := range domains {
				cp, err := l.DomainCheckpointLookupByName(dom, name, 0)
				if err != nil {
					continue // most have not
				}
				m := &held{id: uuidText(dom.UUID), h: h, dom: dom}
				text, err := l.DomainCheckpointGetXMLDesc(cp, rpcNoDomain)
				if err != nil {
					return nil, err
				}
				var x checkpointXML
				if err := xml.Unmarshal([]byte(text), &x); err != nil {
					return nil, err
				}
				if err := json.Unmarshal([]byte(x.Description), &n); err != nil {
					return nil, fmt.Errorf("checkpoint %s: %w", name, err)
				}
				if text, err = l.DomainGetXMLDesc(dom, 0); err != nil {
					return nil, err
				}
				if m.x, err = parseDomain(text); err != nil {
					return nil, err
				}
				state, _, err := l.DomainGetState(dom, 0)
				if err != nil {
					return nil, err
				}
				m.running = power(state) == platform.PowerOn
				some = append(some, m)
			}
			return some, nil
		})
		if err != nil {
			return nil, n, err
		}
		found = append(found, some...)
	}
	return found, n, nil
}

// Forget implements platform.Driver. It also ends what a capture that was
// never finished left open.
func (d *Driver) Forget(ctx context.Context, name string) error {
	found, _, err := d.withCheckpoint(ctx, name)
	if err != nil {
		return err
	}
	d.counting.RLock()
	defer d.counting.RUnlock()
	d.forgetting.Lock()
	defer d.forgetting.Unlock()
	err = each(found, func(m *held) error {
		return errors.Join(d.endJob(ctx, m.h, m.dom, name), d.forgetOn(ctx, m.h, m.dom, name), d.putBack(ctx, m.h, m.dom))
	})
	return errors.Join(err, d.removeScratch(ctx, name))
}

func (d *Driver) forgetOn(ctx context.Context, h *host, dom rpc.Domain, name string) error {
	return do(ctx, h, beginLimit, func(l *rpc.Libvirt) error {
		cp, err := l.DomainCheckpointLookupByName(dom, name, 0)
		if is(err, rpc.ErrNoDomainCheckpoint, rpc.ErrNoDomain) {
			return nil
		}
		if err != nil {
			return err
		}
		state, _, err := l.DomainGetState(dom, 0)
		if err != nil {
			return err
		}
		if power(state) == platform.PowerOff {
			// libvirt removes bitmaps of running machines only. It is found
			// among the checkpoints again when the machine is on.
			return nil
		}
		err = l.DomainCheckpointDelete(cp, 0)
		if err != nil && !is(err, rpc.ErrNoDomainCheckpoint) {
			// Its bitmap is lost, so there is only its name left to remove.
			err = l.DomainCheckpointDelete(cp, rpc.DomainCheckpointDeleteMetadataOnly)
		}
		if err != nil && !is(err, rpc.ErrNoDomainCheckpoint) {
			return fmt.Errorf("forget checkpoint %s of machine %s: %w", name, dom.Name, err)
		}
		return nil
	})
}

// Changed implements platform.Driver. A machine that is off is left out: only
// a running QEMU counts.
func (d *Driver) Changed(ctx context.Context, name string) (map[string]int64, error) {
	found, _, err := d.withCheckpoint(ctx, name)
	if err != nil {
		return nil, err
	}
	if len(found) == 0 {
		return nil, fmt.Errorf("checkpoint %s: %w", name, platform.ErrGone)
	}
	out := map[string]int64{}
	for _, m := range found {
		n, err := call(ctx, m.h, callLimit, func(l *rpc.Libvirt) (int64, error) {
			if err := d.countAlone(ctx); err != nil {
				return 0, err
			}
			defer d.counting.Unlock()
			cp, err := l.DomainCheckpointLookupByName(m.dom, name, 0)
			if is(err, rpc.ErrNoDomainCheckpoint) {
				return 0, fmt.Errorf("checkpoint %s: %w", name, platform.ErrGone)
			}
			if err != nil {
				return 0, err
			}
			text, err := l.DomainCheckpointGetXMLDesc(cp, rpcNoDomain|uint32(rpc.DomainCheckpointXMLSize))
			if is(err, rpc.ErrOperationInvalid) {
				return -1, nil // off
			}
			if err != nil {
				return 0, fmt.Errorf("changes of machine %s: %w", m.x.Name, err)
			}
			var x checkpointXML
			if err := xml.Unmarshal([]byte(text), &x); err != nil {
				return 0, err
			}
			var sum int64
			for _, k := range x.Disks {
				sum += k.Size
			}
			return sum, nil
		})
		if err != nil {
			return nil, err
		}
		if n >= 0 {
			out[m.id] = n
		}
	}
	return out, nil
}

// countAlone waits until nobody begins or ends anything, without making those
// wait who come meanwhile: guests may be held for them.
func (d *Driver) countAlone(ctx context.Context) error {
	for !d.counting.TryLock() {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
	return nil
}

// Checkpoints implements platform.Driver. It counts scratch files, too: one
// that libvirt could not remove would stay for ever.
func (d *Driver) Checkpoints(ctx context.Context) ([]string, error) {
	names := map[string]bool{}
	for _, h := range d.hosts {
		some, err := call(ctx, h, callLimit, func(l *rpc.Libvirt) (some []string, err error) {
			domains, _, err := l.ConnectListAllDomains(1, 0)
			if err != nil {
				return nil, err
			}
			for _, dom := range domains {
				cps, _, err := l.DomainListAllCheckpoints(dom, 1, 0)
				if is(err, rpc.ErrNoDomain) {
					continue
				}
				if err != nil {
					return nil, fmt.Errorf("checkpoints of machine %s: %w", dom.Name, err)
				}
				for _, cp := range cps {
					some = append(some, cp.Name)
				}
			}
			err = eachScratch(l, func(checkpoint string, _ rpc.StorageVol) error {
				some = append(some, checkpoint)
				return nil
			})
			return some, err
		})
		if err != nil {
			return nil, err
		}
		for _, n := range some {
			names[n] = true
		}
	}
	var out []string
	for n := range names {
		out = append(out, n)
	}
	slices.Sort(out)
	return out, nil
}
