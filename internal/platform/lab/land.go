package lab

import (
	"bufio"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"kestrel/internal/lab/wire"
	"kestrel/internal/platform"
)

// Config is a machine's configuration as points keep it.
type Config struct {
	platform.Machine
	Lab *wire.Program `json:"lab"` // what its guest does
}

// Fits implements platform.Lander.
func (d *Driver) Fits(config json.RawMessage) error {
	_, err := configOf(config)
	return err
}

func configOf(config json.RawMessage) (Config, error) {
	var c Config
	if err := json.Unmarshal(config, &c); err != nil || c.Lab == nil {
		return c, fmt.Errorf("the point keeps no lab's description of it: %w", platform.ErrConfig)
	}
	return c, nil
}

// Land implements platform.Lander.
func (d *Driver) Land(ctx context.Context, r platform.Landing) error {
	c, err := configOf(r.Config)
	if err != nil {
		return fmt.Errorf("machine %s: %w", r.Name, err)
	}
	if r.Seed != nil {
		return fmt.Errorf("machine %s: a lab has no drive for a seed disk: %w", r.Name, platform.ErrConfig)
	}
	if r.Format != "" && r.Format != wire.Format {
		return fmt.Errorf("machine %s: a lab keeps its disks as %s only, not as %q: %w", r.Name, wire.Format, r.Format, platform.ErrConfig)
	}
	in := wire.Landing{ID: r.ID, Name: r.Name, Datastore: r.Datastore, Pool: r.Pool, Machine: c.Machine, Program: *c.Lab, InPlaceOf: r.InPlaceOf}
	if r.CPUs > 0 {
		in.Machine.CPUs = r.CPUs
	}
	if r.MemoryBytes > 0 {
		in.Machine.MemoryBytes = r.MemoryBytes
	}
	for _, k := range r.Disks {
		x := wire.LandingDisk{Key: k.Key, Size: k.Size}
		if !k.Empty {
			if k.TLS {
				return fmt.Errorf("machine %s: a lab reads disks in the clear only, from the machine that it runs on: %w", r.Name, platform.ErrConfig)
			}
			x.Address, x.Export = net.JoinHostPort(k.Host, strconv.Itoa(k.Port)), k.Export
		}
		in.Disks = append(in.Disks, x)
	}
	for i, n := range r.NICs {
		x := wire.LandingNIC{MAC: n.Here(), Network: n.Network}
		switch {
		case n.Reserve.IsValid():
			x.Address = n.Reserve.String()
		case i < len(c.NICs):
			x.Address = c.NICs[i].Address // the guest keeps what it had
		}
		in.NICs = append(in.NICs, x)
	}
	err = d.call(ctx, http.MethodPost, "/v1/landings", in, nil)
	if err != nil && strings.Contains(err.Error(), " answers 400") {
		return fmt.Errorf("%w: %w", err, platform.ErrConfig)
	}
	return err
}

func landing(id string) string { return "/v1/landings/" + url.PathEscape(id) }

// StartLanded implements platform.Lander.
func (d *Driver) StartLanded(ctx context.Context, id string, waiting bool) error {
	return d.call(ctx, http.MethodPost, landing(id)+"/start", wire.Start{Waiting: waiting}, nil)
}

// ResumeLanded implements platform.Lander.
func (d *Driver) ResumeLanded(ctx context.Context, id string) error {
	return d.call(ctx, http.MethodPost, landing(id)+"/resume", nil, nil)
}

// MakeLocal implements platform.Lander.
func (d *Driver) MakeLocal(ctx context.Context, id string, limit int64) error {
	return d.call(ctx, http.MethodPost, landing(id)+"/local", wire.MakeLocal{BytesPerSecond: limit}, nil)
}

// RunIn implements platform.Lander.
func (d *Driver) RunIn(ctx context.Context, id, command string, limit time.Duration) error {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	var ran wire.Ran
	err := d.call(ctx, http.MethodPost, landing(id)+"/run", wire.Run{Command: command}, &ran)
	switch {
	case err != nil:
		return err
	case ran.Silent:
		return platform.ErrSilent
	case ran.Why != "":
		return errors.New(ran.Why)
	}
	return nil
}

// AgentAnswers implements platform.Lander.
func (d *Driver) AgentAnswers(ctx context.Context, id string) error {
	x, err := d.answers(ctx, id)
	if err == nil && !x.Agent {
		return platform.ErrSilent
	}
	return err
}

// PortOpen implements platform.Lander. The machines of a lab have no real network, so the
// lab says on which ports they take connections.
func (d *Driver) PortOpen(ctx context.Context, id string, port int) error {
	x, err := d.answers(ctx, id)
	if err == nil && !slices.Contains(x.Ports, port) {
		return fmt.Errorf("port %d: %w", port, platform.ErrClosed)
	}
	return err
}

// Dial implements platform.Lander: the lab lets one speak to its machines through itself.
func (d *Driver) Dial(ctx context.Context, id string, port int) (net.Conn, error) {
	if err := d.PortOpen(ctx, id, port); err != nil {
		return nil, err
	}
	conn, err := d.within.Dialer(5*time.Second).DialContext(ctx, "tcp", d.base.Host)
	if err != nil {
		return nil, fmt.Errorf("lab %s: %w: %w", d.base.Host, platform.ErrUnreachable, err)
	}
	if d.base.Scheme == "https" {
		conn = tls.Client(conn, &tls.Config{ServerName: d.base.Hostname(), MinVersion: tls.VersionTLS12})
	}
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, d.base.JoinPath(landing(id), "ports", strconv.Itoa(port)).String(), http.NoBody)
	if err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	req.SetBasicAuth(d.user, d.password)
	req.Header.Set("Connection", "Upgrade")
	req.Header.Set("Upgrade", wire.Through)
	if err := req.Write(conn); err != nil {
		return nil, errors.Join(fmt.Errorf("lab %s: %w", d.base.Host, err), conn.Close())
	}
	r := bufio.NewReader(conn)
	res, err := http.ReadResponse(r, req)
	if err == nil && res.StatusCode != http.StatusSwitchingProtocols {
		err = fmt.Errorf("port %d: %w", port, platform.ErrClosed)
	}
	if err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	return &throughLab{conn, r}, nil
}

// throughLab is a connection to a machine of a lab, behind the answer of the lab.
type throughLab struct {
	net.Conn
	r *bufio.Reader
}

// Read implements net.Conn.
func (t *throughLab) Read(b []byte) (int, error) { return t.r.Read(b) }

// Serial implements platform.Lander.
func (d *Driver) Serial(ctx context.Context, id string) ([]byte, error) {
	var said []byte
	err := d.call(ctx, http.MethodGet, landing(id)+"/serial", nil, &said)
	if err == nil && len(said) == 0 {
		err = platform.ErrNoSerial
	}
	return said, err
}

func (d *Driver) answers(ctx context.Context, id string) (x wire.Answers, err error) {
	return x, d.call(ctx, http.MethodGet, landing(id)+"/answers", nil, &x)
}

// Switch implements platform.Operator.
func (d *Driver) Switch(ctx context.Context, machine, to string) error {
	state := platform.PowerOff // a lab's guests shut down at once
	if to == platform.SwitchOn {
		state = platform.PowerOn
	}
	return d.call(ctx, http.MethodPost, "/v1/machines/"+url.PathEscape(machine)+"/power", wire.Power{State: state}, nil)
}

// Discard implements platform.Operator.
func (d *Driver) Discard(ctx context.Context, machine string) ([]string, error) {
	err := d.call(ctx, http.MethodDelete, "/v1/machines/"+url.PathEscape(machine), nil, nil)
	switch {
	case errors.Is(err, platform.ErrGone):
		return nil, nil
	case err != nil && strings.Contains(err.Error(), " answers 400"):
		return nil, fmt.Errorf("%w: %w", platform.ErrRuns, err)
	}
	return nil, err
}

// Screen implements platform.Operator.
func (d *Driver) Screen(ctx context.Context, machine string) ([]byte, error) {
	var shot []byte
	err := d.call(ctx, http.MethodGet, "/v1/machines/"+url.PathEscape(machine)+"/screen", nil, &shot)
	if err != nil && strings.Contains(err.Error(), " answers 400") {
		return nil, fmt.Errorf("%w: %w", platform.ErrNoScreen, err)
	}
	return shot, err
}

// Landed implements platform.Lander.
func (d *Driver) Landed(ctx context.Context, id string) (platform.Landed, error) {
	var x wire.Landed
	if err := d.call(ctx, http.MethodGet, landing(id), nil, &x); err != nil {
		return platform.Landed{}, err
	}
	out := platform.Landed{Power: x.Power}
	for _, k := range x.Disks {
		out.Disks = append(out.Disks, platform.LandedDisk(k))
	}
	return out, nil
}

// RemoveLanded implements platform.Lander.
func (d *Driver) RemoveLanded(ctx context.Context, id string) error {
	err := d.call(ctx, http.MethodDelete, landing(id), nil, nil)
	if errors.Is(err, platform.ErrGone) {
		return nil
	}
	return err
}

var (
	_ platform.Lander   = (*Driver)(nil)
	_ platform.Operator = (*Driver)(nil)
)
