// Package serving hands the disks of points out over NBD: for people, and for
// machines that have landed and are not local yet.
package serving

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/api"
	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/inventory"
	"kestrel/internal/keeper"
	"kestrel/internal/nbd"
	"kestrel/internal/overlay"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// Config is what serving is made of.
type Config struct {
	DB       Records
	Store    *points.Store
	Keeper   *keeper.Keeper
	Trail    *audit.Trail
	Clock    clock.Clock
	Log      *slog.Logger
	StateDir string
	Listener net.Listener
	TLS      *tls.Config // nil: in the clear, on loopback
	Address  string      // what hypervisors connect to; the listener's if empty
	// Allowed tells whether who serves a point of a group may serve it still.
	Allowed func(ctx context.Context, r records.Served, group string) (bool, error)
}

// Records is where served points are kept; *records.DB is one.
type Records interface {
	Served(ctx context.Context) ([]records.Served, error)
	AddServed(ctx context.Context, r records.Served) error
	SaveServed(ctx context.Context, r records.Served) error
	DeleteServed(ctx context.Context, id string) error
}

// Serving is the points that one site hands out.
type Serving struct {
	Config

	mu      sync.Mutex
	points  map[string]*served
	exports map[string]*export // by name
}

// served is a point that is handed out.
type served struct {
	rec     records.Served
	seal    *points.Seal
	release func()
	done    chan struct{} // closed when clients are to be hung up on
}

// export is one disk of it.
type export struct {
	of      *served
	disk    points.SealDisk
	clients int
	over    *overlay.Disk // nil if it is read-only
}

// Ways to serve a point.
const (
	readOnly  = "read-only"
	throwAway = "throw-away"
	lasting   = "lasting"
)

// Open goes on serving what was served before.
func Open(ctx context.Context, cfg Config) (*Serving, error) {
	s := &Serving{Config: cfg, points: map[string]*served{}, exports: map[string]*export{}}
	recs, err := cfg.DB.Served(ctx)
	if err != nil {
		return nil, err
	}
	stays := map[string]bool{}
	for _, r := range recs {
		stays[r.ID] = r.Mode == lasting
	}
	// What is left of overlays that were thrown away, or that a crash kept from
	// being noted.
	found, _ := os.ReadDir(filepath.Join(cfg.StateDir, "overlays"))
	for _, f := range found {
		if !stays[f.Name()] {
			if err := os.RemoveAll(filepath.Join(cfg.StateDir, "overlays", f.Name())); err != nil {
				return nil, fmt.Errorf("throw an overlay away: %w", err)
			}
		}
	}
	for _, r := range recs {
		if err := s.begin(r); err != nil {
			cfg.Log.Warn("a served point is gone", "point", r.Point, "err", err)
			if err := cfg.DB.DeleteServed(ctx, r.ID); err != nil {
				return nil, err
			}
		}
	}
	return s, nil
}

// Close lets go of what was written over served points.
func (s *Serving) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	closeOverlays(s.exports)
}

// overlayPath is where what is written over a served disk is kept.
func (s *Serving) overlayPath(id, machine, disk string) string {
	return filepath.Join(s.StateDir, "overlays", id, keeper.SafeName(machine)+"."+keeper.SafeName(disk))
}

// room refuses writing that would take the room that arriving cycles need.
func (s *Serving) room() error {
	if err := s.Store.Room(); err != nil {
		return fmt.Errorf("%w: %w", nbd.ErrNoSpace, err)
	}
	return nil
}

func (s *Serving) begin(r records.Served) error {
	x, from, release, err := s.Keeper.Use(r.Point)
	if err != nil {
		return err
	}
	sv := &served{rec: r, seal: x, release: release, done: make(chan struct{})}
	disks := map[string]*export{}
	for _, m := range x.Machines {
		for _, d := range m.Disks {
			one := &export{of: sv, disk: d}
			if r.Mode != readOnly {
				if one.over, err = overlay.Open(s.overlayPath(r.ID, m.Name, d.Key), from.Disk(d.Root, d.Size), s.room); err != nil {
					closeOverlays(disks)
					release()
					return err
				}
			}
			disks[ExportName(r.Token, m.Name, d.Key)] = one
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.points[r.ID] = sv
	maps.Copy(s.exports, disks)
	return nil
}

func closeOverlays(disks map[string]*export) {
	for _, d := range disks {
		if d.over != nil {
			_ = d.over.Close() // what clients flushed is there already
		}
	}
}

// NewToken makes the secret part of exports' names.
func NewToken() string {
	b := make([]byte, 8)
	_, _ = rand.Read(b) // never fails since Go 1.24
	return hex.EncodeToString(b)
}

// ExportName names a disk's export.
func ExportName(token, machine, disk string) string {
	return token + "/" + keeper.SafeName(machine) + "/" + keeper.SafeName(disk)
}

// Lend serves the disks of one machine of a point to a hypervisor until end is
// called.
func (s *Serving) Lend(point, machine, token string) (x *points.Seal, end func(), err error) {
	x, _, release, err := s.Keeper.Use(point)
	if err != nil {
		return nil, nil, err
	}
	sv := &served{rec: records.Served{Point: point, Token: token}, seal: x, release: release}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, m := range x.Machines {
		if m.ID != machine {
			continue
		}
		for _, d := range m.Disks {
			s.exports[ExportName(token, m.Name, d.Key)] = &export{of: sv, disk: d}
		}
	}
	return x, sync.OnceFunc(func() { s.withdraw(sv); release() }), nil
}

// withdraw takes the exports of a served point away and gives them.
func (s *Serving) withdraw(sv *served) map[string]*export {
	s.mu.Lock()
	defer s.mu.Unlock()
	gone := map[string]*export{}
	for name, x := range s.exports {
		if x.of == sv {
			gone[name] = x
			delete(s.exports, name)
		}
	}
	return gone
}

// Reach is where hypervisors reach the exports.
func (s *Serving) Reach() (host string, port int, secure bool, err error) {
	address := s.Address
	if address == "" {
		address = s.Listener.Addr().String()
	}
	host, text, err := net.SplitHostPort(address)
	if err != nil {
		return "", 0, false, fmt.Errorf("the NBD address %q: %w", address, err)
	}
	port, err = strconv.Atoi(text)
	return host, port, s.TLS != nil, err
}

// Reachable tells whether the hosts of a platform can read the exports; the error
// says what to do if not.
func (s *Serving) Reachable(p inventory.Platform) error {
	if s.TLS != nil {
		return nil
	}
	for _, a := range strings.Fields(p.Address) {
		if h := inventory.Host(a); h != "" && !Loopback(h) {
			return fmt.Errorf("%s is another machine, and points are served on this one only. Start the service with --nbd-listen, --nbd-address and --nbd-certificates", h)
		}
	}
	return nil
}

// CertificateEnds is when the certificate ends with which exports are served; zero if they
// are served without.
func (s *Serving) CertificateEnds() time.Time {
	if s.TLS == nil || len(s.TLS.Certificates) == 0 {
		return time.Time{}
	}
	c := s.TLS.Certificates[0]
	if c.Leaf == nil && len(c.Certificate) > 0 {
		c.Leaf, _ = x509.ParseCertificate(c.Certificate[0])
	}
	if c.Leaf == nil {
		return time.Time{}
	}
	return c.Leaf.NotAfter
}

// Loopback tells whether a host is this machine itself.
func Loopback(host string) bool {
	if host == "localhost" {
		return true
	}
	ip := net.ParseIP(host)
	return ip != nil && ip.IsLoopback()
}

func object(x *points.Seal) audit.Object {
	return audit.Object{Kind: "point", Name: x.Group.Name, ID: x.Group.ID}
}

// Serve serves the disks of a point over NBD. What clients write, where they may,
// is kept beside the point.
func (s *Serving) Serve(ctx context.Context, who actor.Actor, in api.NewServed) (api.Served, error) {
	if _, err := s.Keeper.Mine(ctx, in.Point); err != nil {
		return api.Served{}, err
	}
	mode := readOnly
	if in.Mode != nil && *in.Mode != "" {
		mode = *in.Mode
	}
	if !slices.Contains([]string{readOnly, throwAway, lasting}, mode) {
		return api.Served{}, problem.Invalid("mode", "%q is not known: choose read-only, throw-away or lasting.", mode)
	}
	if mode != readOnly {
		if err := s.Store.Room(); err != nil {
			return api.Served{}, problem.Conflict("There is no room here for what would be written: %v.", err)
		}
	}
	r := records.Served{ID: uuid.NewString(), Point: in.Point, Token: NewToken(), Mode: mode, CreatedBy: who.String(), CreatedAt: s.Clock.Now()}
	if who.PersonID != "" {
		r.Person = &who.PersonID
	}
	if who.TokenID != "" {
		r.ByToken = &who.TokenID
	}
	x, _, release, err := s.Keeper.Use(in.Point)
	if err != nil {
		return api.Served{}, problem.NotFound("point", in.Point)
	}
	release() // it is held for good below, and let go of by whoever stops it
	err = s.Trail.Do(ctx, who, object(x), func(ctx context.Context) error { return s.DB.AddServed(ctx, r) }, "%s serves point %d of %s over NBD, %s", who, x.Number, x.Group.Name, mode)
	if err != nil {
		return api.Served{}, err
	}
	if err := s.begin(r); err != nil {
		return api.Served{}, errors.Join(problem.NotFound("point", in.Point), s.DB.DeleteServed(ctx, r.ID))
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.view(s.points[r.ID]), nil
}

// view is a served point as the contract shows it; the lock is held.
func (s *Serving) view(sv *served) api.Served {
	v := api.Served{ID: sv.rec.ID, Point: sv.rec.Point, PointNumber: sv.seal.Number, GroupName: sv.seal.Group.Name, CreatedAt: sv.rec.CreatedAt, CreatedBy: sv.rec.CreatedBy, Mode: sv.rec.Mode, Disks: []api.ServedDisk{}}
	for _, m := range sv.seal.Machines {
		for _, d := range m.Disks {
			name := ExportName(sv.rec.Token, m.Name, d.Key)
			if x := s.exports[name]; x != nil {
				v.Clients += x.clients
				if x.over != nil {
					v.WrittenBytes += x.over.Written()
				}
			}
			u := url.URL{Scheme: "nbd", Host: s.Listener.Addr().String(), Path: "/" + name}
			if s.Address != "" {
				u.Host = s.Address
			}
			if s.TLS != nil {
				u.Scheme = "nbds"
			}
			v.Disks = append(v.Disks, api.ServedDisk{Machine: m.Name, Disk: d.Key, URI: u.String(), SizeBytes: d.Size})
		}
	}
	return v
}

// Served lists the served points of the groups that see lets pass.
func (s *Serving) Served(see func(group string) bool) []api.Served {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []api.Served{}
	for _, sv := range s.points {
		if see(sv.seal.Group.ID) {
			out = append(out, s.view(sv))
		}
	}
	slices.SortFunc(out, func(a, b api.Served) int { return a.CreatedAt.Compare(b.CreatedAt) })
	return out
}

// GroupOf tells which group a served point is of.
func (s *Serving) GroupOf(id string) (string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	sv, ok := s.points[id]
	if !ok {
		return "", problem.NotFound("served point", id)
	}
	return sv.seal.Group.ID, nil
}

// Recheck hangs up on the clients of points whose owners may not serve them any more,
// and serves those on under other addresses, which the owners do not know. What was
// written over them stays for whoever goes on with it.
func (s *Serving) Recheck(ctx context.Context) error {
	s.mu.Lock()
	all := slices.Collect(maps.Values(s.points))
	s.mu.Unlock()
	for _, sv := range all {
		may, err := s.Allowed(ctx, sv.rec, sv.seal.Group.ID)
		if err != nil {
			return fmt.Errorf("who serves points: %w", err)
		}
		if may {
			continue
		}
		r := sv.rec
		r.Token, r.Person, r.ByToken = NewToken(), nil, nil
		err = s.Trail.Do(ctx, actor.System(), object(sv.seal), func(ctx context.Context) error { return s.DB.SaveServed(ctx, r) },
			"%s, who serves point %d of %s, may not any more: its clients were hung up on, and its addresses are others now", r.CreatedBy, sv.seal.Number, sv.seal.Group.Name)
		if err != nil {
			return err
		}
		s.mu.Lock()
		if s.points[r.ID] != sv {
			s.mu.Unlock()
			continue // it is served no longer
		}
		next := &served{rec: r, seal: sv.seal, release: sv.release, done: make(chan struct{})}
		s.points[r.ID] = next
		for name, x := range s.exports {
			if x.of == sv {
				delete(s.exports, name)
				x.of = next
				s.exports[r.Token+strings.TrimPrefix(name, sv.rec.Token)] = x
			}
		}
		s.mu.Unlock()
		close(sv.done)
	}
	return nil
}

// Stop stops serving a point, and hangs up on clients that still read.
func (s *Serving) Stop(ctx context.Context, who actor.Actor, id string) error {
	s.mu.Lock()
	sv, ok := s.points[id]
	s.mu.Unlock()
	if !ok {
		return problem.NotFound("served point", id)
	}
	err := s.Trail.Do(ctx, who, object(sv.seal), func(ctx context.Context) error { return s.DB.DeleteServed(ctx, id) }, "%s stopped serving point %d of %s", who, sv.seal.Number, sv.seal.Group.Name)
	if err != nil {
		return err
	}
	s.mu.Lock()
	sv, ok = s.points[id]
	delete(s.points, id)
	s.mu.Unlock()
	if !ok {
		return problem.NotFound("served point", id) // another stopped it meanwhile
	}
	gone := s.withdraw(sv)
	close(sv.done)
	sv.release()
	closeOverlays(gone)
	if err := os.RemoveAll(filepath.Join(s.StateDir, "overlays", id)); err != nil {
		s.Log.Warn("remove what was written over a served point", "err", err)
	}
	return nil
}

// List implements nbd.Exporter: names hold a secret and are not listed.
func (s *Serving) List() []string { return nil }

// Open implements nbd.Exporter.
func (s *Serving) Open(name string) (*nbd.Export, error) {
	s.mu.Lock()
	x, ok := s.exports[name]
	point := ""
	if ok {
		point = x.of.rec.Point
	}
	s.mu.Unlock()
	if !ok {
		return nil, errors.New("no such export; serve the point first and use the address it gives")
	}
	// The client holds the point too: that it is served no more must not let its
	// blocks be swept from under a reader.
	_, from, release, err := s.Keeper.Use(point)
	if err != nil {
		return nil, errors.New("the point is gone")
	}
	s.mu.Lock()
	x.clients++
	of := x.of
	s.mu.Unlock()
	disk := from.Disk(x.disk.Root, x.disk.Size)
	e := &nbd.Export{Size: x.disk.Size, Device: disk, Done: of.done}
	status := allocation(disk)
	if x.over != nil {
		e.Device, e.Writer = x.over, x.over
		status = allocationOver(x.over, status)
	}
	e.Contexts = []nbd.Context{{Name: nbd.AllocationContext, Status: status}}
	e.Close = func() {
		release()
		s.mu.Lock()
		defer s.mu.Unlock()
		x.clients--
	}
	return e, nil
}

type statusOf func(off, length int64) ([]nbd.Extent, error)

// allocation tells of the areas of a point's disk that are zero.
func allocation(disk *points.DiskReader) statusOf {
	return func(off, length int64) ([]nbd.Extent, error) {
		// A bounded stretch at a time: a large sparse disk has no end of leaves.
		ext, err := disk.Extents(off, min(length, 1<<30))
		out := make([]nbd.Extent, len(ext))
		for i, e := range ext {
			out[i].Length = e.Length
			if e.Zero {
				out[i].Flags = nbd.StateHole | nbd.StateZero
			}
		}
		return out, err
	}
}

// allocationOver is allocation with what was written over the disk.
func allocationOver(over *overlay.Disk, base statusOf) statusOf {
	return func(off, length int64) ([]nbd.Extent, error) {
		var out []nbd.Extent
		for _, e := range over.Extents(off, min(length, 64<<20)) {
			switch {
			case e.Zero:
				out = append(out, nbd.Extent{Length: e.Length, Flags: nbd.StateHole | nbd.StateZero})
			case e.Ours:
				out = append(out, nbd.Extent{Length: e.Length})
			default:
				for at, end := off, off+e.Length; at < end; {
					below, err := base(at, end-at)
					if err != nil {
						return nil, err
					}
					for _, b := range below {
						out = append(out, b)
						at += b.Length
					}
				}
			}
			off += e.Length
		}
		return out, nil
	}
}
