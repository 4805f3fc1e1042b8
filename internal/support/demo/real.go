package demo

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/support/pgcluster"
	"kestrel/internal/support/realsite"
)

// With --real, Norhaven and Eastmole each get a libvirt platform as well, and
// Norhaven two small real guests on it.

// Ports beyond the usual range: a daemon each, then those of NBD.
const (
	portsReal   = 2
	portsNBD    = 16
	portSpanAll = portSpan + portsReal + portsNBD
)

// realGuests are the boarding desk of Skerry Line.
func realGuests() []realsite.Guest {
	return []realsite.Guest{
		{Name: "boarding-db", Address: "10.77.0.11", Segment: "230.77.0.1:7400", Every: 500 * time.Millisecond},
		{Name: "boarding-app", After: "boarding-db", Address: "10.77.0.12", Segment: "230.77.0.1:7400", Every: 500 * time.Millisecond},
	}
}

// realDir is where the hypervisors' files lie: their user has to get there,
// and the paths of sockets in it have to be short.
func (d *demo) realDir() string {
	dir := filepath.Join(d.State, "real")
	if pgcluster.Reachable(d.State) && len(dir) < 40 {
		return dir
	}
	sum := sha256.Sum256([]byte(d.State))
	return filepath.Join("/var/tmp", "kt-demo-"+hex.EncodeToString(sum[:4]))
}

// startReal starts two hypervisors and the guests of the first.
func (d *demo) startReal(ctx context.Context) error {
	if p := realsite.Missing(); p != "" {
		return fmt.Errorf("--real needs %s, which is not installed", p)
	}
	d.say("real guests: making what they boot from")
	image, err := realsite.BuildShared(ctx)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(d.realDir(), 0o755); err != nil {
		return fmt.Errorf("make the hypervisors' folder: %w", err)
	}
	for n, name := range []string{"norhaven", "eastmole"} {
		h, err := realsite.Start(ctx, filepath.Join(d.realDir(), name[:1]), d.Ports+portSpan+n)
		if err != nil {
			return fmt.Errorf("hypervisor of %s: %w", name, err)
		}
		d.real = append(d.real, h)
		d.say("%s: libvirt on %s", name, h.URI)
	}
	for _, g := range realGuests() {
		if err := d.real[0].Ensure(ctx, image, g); err != nil {
			return err
		}
	}
	return nil
}

func (d *demo) stopReal() {
	for _, h := range d.real {
		h.StopGently(10 * time.Second)
	}
}

// tellReal adds the platforms and protects the guests, once.
func (d *demo) tellReal(ctx context.Context) error {
	for n, name := range []string{"Norhaven", "Eastmole"} {
		first := d.Ports + portSpan + portsReal + n*portsNBD/2
		in := api.NewPlatform{Name: strings.ToLower(name) + "-quay", Kind: "libvirt", Address: d.real[n].URI, Libvirt: &api.LibvirtSettings{NbdPorts: new(fmt.Sprintf("%d-%d", first, first+portsNBD/2-1))}}
		if err := d.post(ctx, name, "/platforms", in); err != nil {
			return err
		}
	}
	for _, g := range realGuests() {
		wait, cancel := context.WithTimeout(ctx, 2*time.Minute)
		_, err := d.real[0].Await(wait, g.Name, "TX", 1, 0)
		cancel()
		if err != nil {
			return err
		}
	}
	d.say("Norhaven: making the group Boarding of real guests")
	boarding := plan{home: "Norhaven", to: "Eastmole", name: "Boarding", machines: []string{"boarding-db", "boarding-app"}, rpo: "2min", every: "30s", keep: "all 2h, 15min 6h", quiesce: []string{"boarding-db"}, tags: "passengers"}
	if err := d.makeGroup(ctx, boarding); err != nil {
		return err
	}
	return d.putBerth(ctx, "Norhaven", boarding.name, map[string]any{"platform": "eastmole-quay", "name": "{name}-em"})
}
