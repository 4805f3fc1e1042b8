package libvirt

import (
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"

	rpc "github.com/digitalocean/go-libvirt"

	"kestrel/internal/platform"
)

// setAside has the machine in whose place another comes give its name away, and returns its
// description.
func setAside(l *rpc.Libvirt, r platform.Landing) (string, error) {
	id, err := parseUUID(r.InPlaceOf)
	if err != nil {
		return "", fmt.Errorf("machine %s: %w", r.InPlaceOf, platform.ErrGone)
	}
	dom, err := l.DomainLookupByUUID(id)
	if is(err, rpc.ErrNoDomain) {
		return "", fmt.Errorf("the machine in whose place %s comes is not on this host: %w", r.Name, platform.ErrConfig)
	}
	if err != nil {
		return "", err
	}
	state, _, err := l.DomainGetState(dom, 0)
	if err != nil {
		return "", err
	}
	if power(state) != platform.PowerOff {
		return "", fmt.Errorf("machine %s, in whose place another comes: %w: %w", dom.Name, platform.ErrRuns, platform.ErrConfig)
	}
	if dom.Name == r.Name {
		if err := rename(l, dom, platform.SetAside(r.Name, r.ID)); err != nil {
			return "", err
		}
		// A machine that was renamed is looked up anew: libvirt goes by the name as well.
		if dom, err = l.DomainLookupByUUID(id); err != nil {
			return "", err
		}
	}
	return l.DomainGetXMLDesc(dom, rpc.DomainXMLInactive)
}

// bringBack gives a machine that was set aside for a landing its name again.
func bringBack(l *rpc.Libvirt, landing string) error {
	domains, _, err := l.ConnectListAllDomains(1, 0)
	if err != nil {
		return err
	}
	for _, dom := range domains {
		if name, ok := platform.BroughtBack(dom.Name, landing); ok {
			if err := rename(l, dom, name); err != nil {
				return err
			}
		}
	}
	return nil
}

// rename gives a machine that is off another name. libvirt does not as long as there are
// checkpoints of it: ours are of no use any more when its machine was left, so their names go,
// and those of others stay.
func rename(l *rpc.Libvirt, dom rpc.Domain, name string) error {
	cps, _, err := l.DomainListAllCheckpoints(dom, 1, 0)
	if err != nil {
		return fmt.Errorf("checkpoints of machine %s: %w", dom.Name, err)
	}
	for _, cp := range cps {
		text, err := l.DomainCheckpointGetXMLDesc(cp, rpcNoDomain)
		var x checkpointXML
		var n note
		if err = errors.Join(err, xml.Unmarshal([]byte(text), &x), json.Unmarshal([]byte(x.Description), &n)); err != nil {
			continue
		}
		if err := l.DomainCheckpointDelete(cp, rpc.DomainCheckpointDeleteMetadataOnly); err != nil && !is(err, rpc.ErrNoDomainCheckpoint) {
			return fmt.Errorf("forget checkpoint %s of machine %s: %w", cp.Name, dom.Name, err)
		}
	}
	if _, err := l.DomainRename(dom, rpc.OptString{name}, 0); err != nil {
		return fmt.Errorf("call machine %s %s: %w: %w", dom.Name, name, err, platform.ErrConfig)
	}
	return nil
}
