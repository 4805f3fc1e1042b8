// Package lab is the driver for the simulated hypervisor manager that ships
// with the project. It knows the lab through its network interface only.
package lab

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"kestrel/internal/clock"
	"kestrel/internal/lab/wire"
	"kestrel/internal/platform"
	"kestrel/internal/reach"
)

const maxPicture = 16 << 20 // bytes

// Driver implements platform.Driver.
type Driver struct {
	base     *url.URL
	user     string
	password string
	clk      clock.Clock
	within   reach.Networks
	http     *http.Client
}

// New makes a driver for the lab at address, such as http://127.0.0.1:7412. It connects
// within some networks only.
func New(address, user, password string, clk clock.Clock, within reach.Networks) (*Driver, error) {
	if !strings.Contains(address, "://") {
		address = "http://" + address
	}
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || (u.Scheme != "http" && u.Scheme != "https") {
		return nil, fmt.Errorf("%q is not an address; write it like http://lab.example:7412", address)
	}
	if u.User != nil || u.RawQuery != "" || u.Fragment != "" {
		return nil, fmt.Errorf("the address of a lab is its host and port; user and password are given by themselves")
	}
	if u.Port() == "" {
		return nil, fmt.Errorf("%q has no port; write it like http://lab.example:7412", address)
	}
	return &Driver{base: u, user: user, password: password, clk: clk, within: within,
		http: &http.Client{Timeout: 30 * time.Second, Transport: &http.Transport{DialContext: within.Dialer(5 * time.Second).DialContext, MaxIdleConnsPerHost: 4, IdleConnTimeout: time.Minute}}}, nil
}

// Close lets go of idle connections.
func (d *Driver) Close() { d.http.CloseIdleConnections() }

func (d *Driver) call(ctx context.Context, method, path string, in, out any) error {
	var body io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(b)
	}
	req, err := http.NewRequestWithContext(ctx, method, d.base.JoinPath(path).String(), body)
	if err != nil {
		return err
	}
	req.SetBasicAuth(d.user, d.password)
	res, err := d.http.Do(req)
	if err != nil {
		return fmt.Errorf("lab %s: %w: %w", d.base.Host, platform.ErrUnreachable, unwrapURL(err))
	}
	defer func() { _ = res.Body.Close() }()
	switch {
	case res.StatusCode == http.StatusUnauthorized:
		return fmt.Errorf("lab %s: %w", d.base.Host, platform.ErrRefused)
	case res.StatusCode >= 300:
		var p wire.Problem
		_ = json.NewDecoder(io.LimitReader(res.Body, 64<<10)).Decode(&p)
		if res.StatusCode == http.StatusNotFound {
			return fmt.Errorf("lab %s: %s: %w", d.base.Host, p.Detail, platform.ErrGone)
		}
		return fmt.Errorf("lab %s answers %d: %s", d.base.Host, res.StatusCode, p.Detail)
	case out == nil:
		return nil
	}
	if raw, is := out.(*[]byte); is {
		if *raw, err = io.ReadAll(io.LimitReader(res.Body, maxPicture)); err != nil {
			return fmt.Errorf("lab %s: read the answer: %w", d.base.Host, err)
		}
		return nil
	}
	if err := json.NewDecoder(res.Body).Decode(out); err != nil {
		return fmt.Errorf("lab %s: answer is not understood: %w", d.base.Host, err)
	}
	return nil
}

// unwrapURL drops the method and address that url.Error puts before the cause.
func unwrapURL(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err
	}
	return err
}

// Check implements platform.Driver.
func (d *Driver) Check(ctx context.Context) []platform.Step {
	steps := []platform.Step{{Name: "name"}, {Name: "port"}, {Name: "protocol"}, {Name: "credentials"}, {Name: "clock"}, {Name: "inventory"}}
	at := 0
	pass := func(note string, a ...any) {
		steps[at].OK, steps[at].Tried, steps[at].Note = true, true, fmt.Sprintf(note, a...)
		at++
	}
	fail := func(note, mend string) []platform.Step {
		steps[at].Tried, steps[at].Note, steps[at].Mend = true, note, mend
		return steps
	}
	ips, err := net.DefaultResolver.LookupHost(ctx, d.base.Hostname())
	if err != nil {
		return fail(fmt.Sprintf("%s does not resolve: %v", d.base.Hostname(), err), "Check the spelling, or enter an IP address.")
	}
	pass("%s is %s", d.base.Hostname(), ips[0])
	c, err := d.within.Dialer(5*time.Second).DialContext(ctx, "tcp", d.base.Host)
	if err != nil {
		return fail(fmt.Sprintf("Nothing answers on port %s: %v", d.base.Port(), err), "Start the platform, check the port, or open it in the firewall between.")
	}
	_ = c.Close()
	pass("port %s answers", d.base.Port())
	var about wire.About
	err = d.call(ctx, http.MethodGet, "/v1/about", nil, &about)
	if err != nil && !errors.Is(err, platform.ErrRefused) || err == nil && about.Kind != "lab" {
		return fail("What answers is not a lab.", "Check address and port, and the kind of platform.")
	}
	pass("speaks the lab's protocol")
	if err != nil {
		return fail("User or password is wrong.", "Enter the credentials that the lab was started with.")
	}
	pass("signed in as %s", d.user)
	off := about.Now.Sub(d.clk.Now()).Round(time.Millisecond)
	if off.Abs() > 5*time.Minute {
		return fail(fmt.Sprintf("Its clock is %s off ours.", off), "Set both clocks by NTP.")
	}
	pass("clock within %s of ours", max(off.Abs(), time.Millisecond).Round(time.Millisecond))
	inv, err := d.Inventory(ctx)
	if err != nil {
		return fail(err.Error(), "Look at the platform's own log.")
	}
	pass("%d machines, %d networks, %d datastores", len(inv.Machines), len(inv.Networks), len(inv.Datastores))
	return steps
}

// Inventory implements platform.Driver.
func (d *Driver) Inventory(ctx context.Context) (platform.Inventory, error) {
	var inv platform.Inventory
	return inv, d.call(ctx, http.MethodGet, "/v1/inventory", nil, &inv)
}

// Capture implements platform.Driver. The lab names a checkpoint once: asking
// again for one that was made before a crash gives the same.
func (d *Driver) Capture(ctx context.Context, r platform.CaptureRequest) (*platform.Capture, error) {
	before := d.clk.Now()
	var cp wire.Checkpoint
	req := wire.CheckpointRequest{Name: r.Name, Machines: r.Machines}
	for _, q := range r.Quiesce {
		req.Quiesce = append(req.Quiesce, wire.Rest{Machine: q.Machine, LimitMillis: q.Limit.Milliseconds(), Before: q.Before, After: q.After})
	}
	if r.Leaves != nil {
		for _, id := range r.Machines {
			var m platform.Machine // of the few that it is of, and not of all
			if err := d.call(ctx, http.MethodGet, "/v1/machines/"+url.PathEscape(id), nil, &m); err != nil {
				return nil, err
			}
			for _, k := range m.Disks {
				if r.Left(m.ID, k.Key) {
					req.Leave = append(req.Leave, wire.LeftDisk{Machine: m.ID, Disk: k.Key})
				}
			}
		}
	}
	if err := d.call(ctx, http.MethodPost, "/v1/checkpoints", req, &cp); err != nil {
		return nil, err
	}
	c, err := d.capture(ctx, cp, r.Base)
	if err != nil {
		return nil, err
	}
	if c.At.Before(before) || c.At.After(d.clk.Now()) {
		// The lab's clock is not ours. The instant lies between the call and
		// its answer; the earlier bound never understates exposure.
		c.At = before
	}
	return c, nil
}

// Reopen implements platform.Driver.
func (d *Driver) Reopen(ctx context.Context, name, base string) (*platform.Capture, error) {
	var cp wire.Checkpoint
	if err := d.call(ctx, http.MethodGet, "/v1/checkpoints/"+url.PathEscape(name), nil, &cp); err != nil {
		return nil, err
	}
	if !cp.Open {
		return nil, fmt.Errorf("checkpoint %s was released: %w", name, platform.ErrGone)
	}
	return d.capture(ctx, cp, base)
}

func (d *Driver) capture(ctx context.Context, cp wire.Checkpoint, base string) (*platform.Capture, error) {
	// The lab says where its disks are read, and must not have us read elsewhere.
	host, _, err := net.SplitHostPort(cp.NBD)
	if err != nil {
		return nil, fmt.Errorf("lab %s serves its disks at %q, which is no address", d.base.Host, cp.NBD)
	}
	if err := d.within.Host(ctx, host); err != nil {
		return nil, fmt.Errorf("lab %s: %w: %w", d.base.Host, platform.ErrUnreachable, err)
	}
	c := &platform.Capture{Name: cp.Name, At: cp.At, OneInstant: true, Configs: map[string]json.RawMessage{}}
	names := map[string]string{}
	for _, q := range cp.Quiet {
		c.Quiet = append(c.Quiet, platform.Quiet{Machine: q.Machine, Done: q.Done, Held: time.Duration(q.HeldMicros) * time.Microsecond, Took: time.Duration(q.TookMicros) * time.Microsecond, Why: q.Why, After: q.After})
	}
	c.Application = len(cp.Quiet) > 0
	for _, m := range cp.Machines {
		names[m.ID] = m.Name
		c.Application = c.Application && (m.Power != platform.PowerOn || slices.ContainsFunc(c.Quiet, func(q platform.Quiet) bool { return q.Machine == m.ID && q.Done }))
		for _, k := range m.Disks {
			if !slices.ContainsFunc(cp.Disks, func(x wire.CheckpointDisk) bool { return x.Machine == m.ID && x.Disk == k.Key }) {
				c.Left = append(c.Left, platform.LeftDisk{Machine: m.ID, Disk: k.Key, Label: k.Label, Size: k.SizeBytes})
			}
		}
		// What a disk holds changes all the time and is no configuration.
		m.Disks = slices.Clone(m.Disks)
		for i := range m.Disks {
			m.Disks[i].UsedBytes = 0
		}
		p := cp.Programs[m.ID]
		b, err := json.Marshal(Config{m, &p})
		if err != nil {
			return nil, err
		}
		c.Configs[m.ID] = b
	}
	for _, x := range cp.Disks {
		f := platform.FrozenDisk{Machine: x.Machine, Name: names[x.Machine], Disk: x.Disk, Size: x.Size, Network: "tcp", Address: cp.NBD, Export: x.Export}
		switch {
		case base == "":
			f.Why = "first copy"
		case slices.Contains(x.Since, base):
			f.Changed = wire.DirtyContext(base)
		default:
			f.Why = "the platform no longer tracks changes since the last point"
		}
		c.Disks = append(c.Disks, f)
	}
	return c, nil
}

// Release implements platform.Driver.
func (d *Driver) Release(ctx context.Context, name string) error {
	return d.call(ctx, http.MethodPost, "/v1/checkpoints/"+url.PathEscape(name)+"/release", nil, nil)
}

// Forget implements platform.Driver.
func (d *Driver) Forget(ctx context.Context, name string) error {
	err := d.call(ctx, http.MethodDelete, "/v1/checkpoints/"+url.PathEscape(name), nil, nil)
	if errors.Is(err, platform.ErrGone) {
		return nil
	}
	return err
}

// Changed implements platform.Driver.
func (d *Driver) Changed(ctx context.Context, name string) (map[string]int64, error) {
	var cp wire.Checkpoint
	if err := d.call(ctx, http.MethodGet, "/v1/checkpoints/"+url.PathEscape(name), nil, &cp); err != nil {
		return nil, err
	}
	out := map[string]int64{}
	for _, x := range cp.Disks {
		out[x.Machine] += x.DirtyBytes
	}
	return out, nil
}

// Checkpoints implements platform.Driver.
func (d *Driver) Checkpoints(ctx context.Context) ([]string, error) {
	var cps []wire.Checkpoint
	if err := d.call(ctx, http.MethodGet, "/v1/checkpoints", nil, &cps); err != nil {
		return nil, err
	}
	var out []string
	for _, cp := range cps {
		out = append(out, cp.Name)
	}
	return out, nil
}

var _ platform.Driver = (*Driver)(nil)
