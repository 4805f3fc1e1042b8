// Package libvirt is the driver for QEMU and KVM machines through libvirt. It
// uses what libvirt documents: checkpoints, pull-mode backup with an NBD
// server, the guest agent, and storage pools. Nothing has to be installed on
// the hosts for it.
package libvirt

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"strconv"
	"strings"
	"sync"
	"time"

	rpc "github.com/digitalocean/go-libvirt"

	"kestrel/internal/nbd"
	"kestrel/internal/platform"
	"kestrel/internal/reach"
)

// Settings say how to reach a platform. See the guide for what they mean on
// the hosts.
type Settings struct {
	// Hosts are libvirt URIs, one a host.
	Hosts []string
	// Certificates is a folder on this machine with cacert.pem, clientcert.pem
	// and clientkey.pem; needed where NBD leaves the machine.
	Certificates string
	// NBDPorts is the range of ports for the hosts' NBD servers, such as
	// "10809-10872".
	NBDPorts string
	// Scratch is a folder on the hosts for what guests overwrite while they
	// are read; empty puts it beside each disk.
	Scratch string
	// FreezeLimit is how long a guest agent may take to bring the file systems
	// to rest. Zero means five seconds.
	FreezeLimit time.Duration
	// Guard is the command of the process that lets machines go if this one is
	// killed; it runs Guard. Empty runs it within this process, where it only
	// helps against what hangs.
	Guard []string
	// Owner is what the names of this service's checkpoints begin with; what
	// others hold is theirs to let go.
	Owner string
	// Within are the networks that hosts may be in.
	Within reach.Networks
	Log    *slog.Logger
	// Now is the clock for capture instants.
	Now func() time.Time
}

// Driver implements platform.Driver and platform.Lander.
type Driver struct {
	hosts       []*host
	tls         *tls.Config // without a server's name; nil: none was given
	firstPort   int
	lastPort    int
	scratch     string
	freezeLimit time.Duration
	guard       guardLink
	owner       string
	log         *slog.Logger
	now         func() time.Time

	ctx  context.Context // of what goes on in the background
	stop context.CancelFunc
	wg   sync.WaitGroup

	// counting keeps apart who counts changes and who begins or ends jobs and
	// checkpoints: libvirt 9.0 crashes if a checkpoint whose changes it counts is
	// removed meanwhile. Counters hold it alone, the others together.
	counting sync.RWMutex
	// forgetting lets one checkpoint be removed at a time: libvirt 9.0 crashes if two callers
	// remove the same one.
	forgetting sync.Mutex
	// opening lets one caller at a time look whether a machine is off and open, close or start it:
	// one that somebody switches on while it is only open for reading would be closed under them.
	opening keyed

	mu        sync.Mutex
	within    reach.Networks
	compats   map[string]string // of qcow2 files
	seen      map[*host]platform.Inventory
	heldNow   map[rpc.UUID]bool // by this driver, at this moment
	ports     map[int]rpc.UUID  // in use by this driver, and for which machine
	watched   map[string]bool   // captures
	settling  bool
	asking    bool              // machines for their addresses
	addresses map[string]told   // by machine
	ended     map[string]string // captures that we ended early, and why
}

// SettingError is a fault in one of the settings beside the hosts.
type SettingError struct {
	Setting string // as the contract names it
	Err     error
}

func (e *SettingError) Error() string { return e.Err.Error() }

// Unwrap gives the fault.
func (e *SettingError) Unwrap() error { return e.Err }

// New makes a driver. It connects when it is first used. A fault in a setting
// is a *SettingError, any other one in the hosts.
func New(s Settings) (*Driver, error) {
	if len(s.Hosts) == 0 {
		return nil, errors.New("give at least one libvirt URI, such as qemu+tls://host.example/system")
	}
	d := &Driver{within: s.Within, scratch: strings.TrimSuffix(s.Scratch, "/"), freezeLimit: s.FreezeLimit, guard: guardLink{command: s.Guard}, owner: s.Owner, log: s.Log, now: s.Now,
		compats: map[string]string{}, seen: map[*host]platform.Inventory{}, heldNow: map[rpc.UUID]bool{}, ports: map[int]rpc.UUID{}, watched: map[string]bool{}, addresses: map[string]told{}, ended: map[string]string{}}
	if d.log == nil {
		d.log = slog.New(slog.DiscardHandler)
	}
	if d.now == nil {
		d.now = time.Now
	}
	if d.freezeLimit == 0 {
		d.freezeLimit = 5 * time.Second
	}
	if d.scratch != "" && !strings.HasPrefix(d.scratch, "/") {
		return nil, &SettingError{"scratch", fmt.Errorf("the scratch folder %q is not a whole path", s.Scratch)}
	}
	for _, u := range s.Hosts {
		h, err := parseHost(u)
		if err != nil {
			return nil, err
		}
		h.within = s.Within
		for _, o := range d.hosts {
			if o.name() == h.name() {
				return nil, fmt.Errorf("the host %s is given twice", h.name())
			}
		}
		d.hosts = append(d.hosts, h)
	}
	var err error
	if d.firstPort, d.lastPort, err = parsePorts(s.NBDPorts); err != nil {
		return nil, &SettingError{"nbdPorts", err}
	}
	if s.Certificates != "" {
		for _, h := range d.hosts {
			h.useCertificates(s.Certificates)
		}
		if d.tls, err = nbd.ClientTLS(s.Certificates); err != nil {
			return nil, &SettingError{"certificates", err}
		}
	}
	d.ctx, d.stop = context.WithCancel(context.Background())
	return d, nil
}

// DefaultNBDPorts begins at the port that IANA assigned to NBD.
const DefaultNBDPorts = "10809-10872"

func parsePorts(text string) (first, last int, err error) {
	if text == "" {
		text = DefaultNBDPorts
	}
	a, b, ok := strings.Cut(text, "-")
	first, err1 := strconv.Atoi(strings.TrimSpace(a))
	last, err2 := strconv.Atoi(strings.TrimSpace(b))
	if !ok || err1 != nil || err2 != nil || first < 1 || last > 65535 || last < first {
		return 0, 0, fmt.Errorf("%q is not a range of ports; write it like %s", text, DefaultNBDPorts)
	}
	return first, last, nil
}

// Close lets go of all connections. Machines that are still held are let go by
// the guard.
func (d *Driver) Close() {
	d.stop()
	d.wg.Wait()
	d.guard.close()
	for _, h := range d.hosts {
		h.close()
	}
}

// background runs f until it returns or the driver is closed.
func (d *Driver) background(f func(ctx context.Context)) {
	if d.ctx.Err() == nil {
		d.wg.Go(func() { f(d.ctx) })
	}
}

// settleSoon looks for machines left held, in the background.
func (d *Driver) settleSoon() {
	d.mu.Lock()
	busy := d.settling
	d.settling = true
	d.mu.Unlock()
	if busy {
		return
	}
	d.background(func(ctx context.Context) {
		d.settle(ctx)
		d.mu.Lock()
		d.settling = false
		d.mu.Unlock()
	})
}

func (d *Driver) noteHeld(dom rpc.Domain, held bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if held {
		d.heldNow[dom.UUID] = true
	} else {
		delete(d.heldNow, dom.UUID)
	}
}

// takeHeld notes that a machine is ours to let go, unless it is already.
func (d *Driver) takeHeld(dom rpc.Domain) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.heldNow[dom.UUID] {
		return false
	}
	d.heldNow[dom.UUID] = true
	return true
}

// hostTLS is how NBD to a host is protected: nil on this machine unless
// certificates were given.
func (d *Driver) hostTLS(h *host) (*tls.Config, error) {
	if d.tls == nil {
		if !h.near() {
			return nil, fmt.Errorf("NBD to host %s would leave this machine in the clear; give the platform a folder with certificates", h.name())
		}
		return nil, nil
	}
	c := d.tls.Clone()
	c.ServerName = h.nbdHost()
	return c, nil
}

// The oldest versions that have what we use: pull-mode backup with per-disk
// incrementals in libvirt, bitmaps that survive and NBD contexts in QEMU.
const (
	leastLibvirt = 8_000_000
	leastQEMU    = 6_000_000
)

func version(v uint64) string { return fmt.Sprintf("%d.%d.%d", v/1_000_000, v/1000%1000, v%1000) }

// Check implements platform.Driver. It changes nothing on the hosts.
func (d *Driver) Check(ctx context.Context) []platform.Step {
	steps := []platform.Step{{Name: "name"}, {Name: "port"}, {Name: "sign-in"}, {Name: "version"}, {Name: "certificates"}, {Name: "storage"}, {Name: "inventory"}}
	checks := []func(context.Context, *host) (note, mend string, err error){d.checkName, d.checkPort, d.checkOpen, d.checkVersion, d.checkTLS, d.checkStorage, d.checkInventory}
	for n := range steps {
		s := &steps[n]
		s.Tried, s.OK = true, true
		var notes []string
		for _, h := range d.hosts {
			note, mend, err := checks[n](ctx, h)
			if err != nil {
				s.OK, s.Note, s.Mend = false, h.name()+": "+err.Error(), mend
				return steps
			}
			if len(d.hosts) > 1 {
				note = h.name() + ": " + note
			}
			notes = append(notes, note)
		}
		s.Note = strings.Join(notes, "; ")
	}
	return steps
}

func (d *Driver) checkName(ctx context.Context, h *host) (string, string, error) {
	if h.uri.Hostname() == "" {
		return "on this machine", "", nil
	}
	ips, err := net.DefaultResolver.LookupHost(ctx, h.uri.Hostname())
	if err != nil {
		return "", "Check the spelling, or enter an IP address.", fmt.Errorf("it does not resolve: %w", err)
	}
	return h.uri.Hostname() + " is " + ips[0], "", nil
}

func (d *Driver) checkPort(ctx context.Context, h *host) (string, string, error) {
	_, transport, _ := strings.Cut(h.uri.Scheme, "+")
	port := h.uri.Port()
	if port == "" {
		port = map[string]string{"tcp": "16509", "tls": "16514", "": "16514", "ssh": "22", "libssh": "22", "libssh2": "22"}[transport]
	}
	if h.uri.Hostname() == "" {
		return "by its socket", "", nil
	}
	c, err := d.within.Dialer(5*time.Second).DialContext(ctx, "tcp", net.JoinHostPort(h.uri.Hostname(), port))
	if err != nil {
		return "", "Start the daemon that listens there (virtproxyd-tls.socket, or libvirtd with --listen), check the port, or open it in the firewall between.", fmt.Errorf("nothing answers on port %s: %w", port, err)
	}
	_ = c.Close()
	return "port " + port + " answers", "", nil
}

func (d *Driver) checkOpen(ctx context.Context, h *host) (string, string, error) {
	h.close() // so that certificates and keys are really tried
	if _, err := call(ctx, h, callLimit, func(l *rpc.Libvirt) (string, error) { return l.ConnectGetHostname() }); err != nil {
		return "", "Check the transport and its certificates or keys, and that the user may use libvirt there.", err
	}
	return "libvirt accepts us", "", nil
}

func (d *Driver) checkVersion(ctx context.Context, h *host) (string, string, error) {
	var lib, hv uint64
	err := do(ctx, h, callLimit, func(l *rpc.Libvirt) (err error) {
		if lib, err = l.ConnectGetLibVersion(); err == nil {
			hv, err = l.ConnectGetVersion()
		}
		return err
	})
	switch {
	case err != nil:
		return "", "Look at the daemon's own log on the host.", err
	case lib < leastLibvirt:
		return "", "Update libvirt on the host.", fmt.Errorf("libvirt %s is too old; %s or newer is needed", version(lib), version(leastLibvirt))
	case hv < leastQEMU:
		return "", "Update QEMU on the host.", fmt.Errorf("QEMU %s is too old; %s or newer is needed", version(hv), version(leastQEMU))
	}
	return fmt.Sprintf("libvirt %s, QEMU %s", version(lib), version(hv)), "", nil
}

func (d *Driver) checkTLS(_ context.Context, h *host) (string, string, error) {
	c, err := d.hostTLS(h)
	if err != nil {
		return "", "Put cacert.pem, clientcert.pem and clientkey.pem into a folder on this machine and name it as the platform's certificates.", err
	}
	if c == nil {
		return "not needed, NBD stays on this machine", "", nil
	}
	return "NBD is protected by TLS", "", nil
}

func (d *Driver) checkStorage(ctx context.Context, h *host) (string, string, error) {
	ps, err := call(ctx, h, callLimit, pools)
	switch {
	case err != nil:
		return "", "Look at the daemon's own log on the host.", err
	case len(ps) == 0:
		return "", "Define and start a pool for the folder that holds the disks (virsh pool-define-as), so that free space can be seen and machines can land.", errors.New("no storage pool is active")
	case d.scratch != "":
		for _, p := range ps {
			if p.path == d.scratch {
				return fmt.Sprintf("%s, scratch in pool %s", plural(len(ps), "storage pool"), p.name), "", nil
			}
		}
		return "", "Define and start a pool for it (virsh pool-define-as), so that its free space can be watched.", fmt.Errorf("no storage pool holds the scratch folder %s", d.scratch)
	}
	return plural(len(ps), "storage pool") + ", scratch beside each disk", "", nil
}

func (d *Driver) checkInventory(ctx context.Context, h *host) (string, string, error) {
	inv, err := d.inventoryOf(ctx, h)
	if err != nil {
		return "", "Look at the daemon's own log on the host.", err
	}
	return fmt.Sprintf("%s, %s", plural(len(inv.Machines), "machine"), plural(len(inv.Networks), "network")), "", nil
}

func plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

var _ platform.Driver = (*Driver)(nil)

// keyed is a lock for each of some things, by their names.
type keyed struct {
	mu sync.Mutex
	by map[string]*sync.Mutex
}

// hold waits until nobody has a thing, and has it until the returned function is called.
func (k *keyed) hold(name string) (letGo func()) {
	k.mu.Lock()
	if k.by == nil {
		k.by = map[string]*sync.Mutex{}
	}
	x := k.by[name]
	if x == nil {
		x = &sync.Mutex{}
		k.by[name] = x
	}
	k.mu.Unlock()
	x.Lock()
	return x.Unlock
}
