// Package service is what a site does, free of HTTP: people, platforms, links,
// groups, points and long work. Its views are the types of the contract.
package service

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"sync"
	"time"

	"kestrel/internal/clock"
	"kestrel/internal/files/bucket"
	"kestrel/internal/link"
	"kestrel/internal/nbd"
	"kestrel/internal/points"
	"kestrel/internal/records"
)

// Version is the version of this build.
const Version = "0.1.0"

// Config is what a site is started with.
type Config struct {
	Name        string // of the site
	StateDir    string
	DatabaseURL string
	LinkListen  string // host:port for other sites
	LinkAddress string // what other sites connect to; LinkListen if empty
	NBDListen   string // host:port for serving points; without certificates, on loopback
	NBDAddress  string // what hypervisors connect to; NBDListen if empty
	// NBDCertificates is a folder with cacert.pem, servercert.pem and
	// serverkey.pem; with it, points are served under TLS only.
	NBDCertificates string
	// StoreFloor is the room in bytes that arriving cycles leave free; 0 for the
	// default.
	StoreFloor int64
	// StoreSecret encrypts the point store; none leaves it in the clear.
	StoreSecret points.Secret
	// Objects, if its URL is given, keeps the point store in an object store.
	Objects bucket.Config
	// ScrubEvery is the time within which all of the point store is verified
	// once; 0 for a week, negative for never.
	ScrubEvery time.Duration
	// Guard is the command of the process that lets machines go which are held
	// when this one is killed.
	Guard      []string
	ConsoleURL string // for one-time links
	Clock      clock.Clock
	Log        *slog.Logger
	// Pulse is how often the scheduler looks; 500 ms if zero. Links are
	// measured every fourth pulse.
	Pulse time.Duration
}

// Service is a running site.
type Service struct {
	cfg     Config
	clk     clock.Clock
	log     *slog.Logger
	db      *records.DB
	store   *points.Store
	objects *bucket.FS // nil: the store is a folder
	id      *link.Identity
	sealer  *sealer
	site    records.Site
	hub     *hub

	linkL, nbdL net.Listener
	nbdTLS      *tls.Config // nil: NBD is served in the clear, on loopback
	signIns     *limiter

	runCtx context.Context
	wg     sync.WaitGroup
	slots  chan struct{} // bounds the cycles that run at once

	mu        sync.Mutex
	groups    map[string]*group
	links     map[string]*linkState
	platforms map[string]*platformState
	ops       map[string]*operation
	shares    map[string]*share
	landings  map[string]*landing
	exports   map[string]*sharedDisk // by export name
	sweepDue  bool
	ready     bool
}

// cyclesAtOnce bounds how many cycles of this site run at the same time.
const cyclesAtOnce = 4

// New opens everything a site needs. Call Run to set it to work, and Close at
// the end.
func New(ctx context.Context, cfg Config) (*Service, error) {
	if cfg.ScrubEvery == 0 {
		cfg.ScrubEvery = 7 * 24 * time.Hour
	}
	if cfg.Pulse == 0 {
		cfg.Pulse = 500 * time.Millisecond
	}
	if err := os.MkdirAll(cfg.StateDir, 0o700); err != nil {
		return nil, fmt.Errorf("make state folder: %w", err)
	}
	host, _, err := net.SplitHostPort(cfg.NBDListen)
	switch {
	case err != nil:
		return nil, fmt.Errorf("the NBD address %q is not HOST:PORT", cfg.NBDListen)
	case !loopback(host) && cfg.NBDCertificates == "":
		return nil, fmt.Errorf("the NBD address %q is not on loopback, and points leave this host under TLS only; give certificates, or listen on 127.0.0.1", cfg.NBDListen)
	case cfg.NBDAddress != "":
		if _, _, err := net.SplitHostPort(cfg.NBDAddress); err != nil {
			return nil, fmt.Errorf("the NBD address %q for hypervisors is not HOST:PORT", cfg.NBDAddress)
		}
	case net.ParseIP(host).IsUnspecified():
		return nil, fmt.Errorf("the NBD address %q is all of this host's; give the one that hypervisors connect to as well", cfg.NBDListen)
	}
	s := &Service{cfg: cfg, clk: cfg.Clock, log: cfg.Log, hub: newHub(), slots: make(chan struct{}, cyclesAtOnce),
		groups: map[string]*group{}, links: map[string]*linkState{}, platforms: map[string]*platformState{},
		ops: map[string]*operation{}, shares: map[string]*share{}, landings: map[string]*landing{}, exports: map[string]*sharedDisk{}, signIns: newLimiter(cfg.Clock)}
	if cfg.NBDCertificates != "" {
		if s.nbdTLS, err = nbd.ServerTLS(cfg.NBDCertificates); err != nil {
			return nil, fmt.Errorf("certificates for NBD: %w", err)
		}
	}
	if s.sealer, err = newSealer(cfg.StateDir); err != nil {
		return nil, err
	}
	if s.id, err = link.LoadIdentity(cfg.StateDir, s.clk.Now()); err != nil {
		return nil, err
	}
	opts := points.Options{Now: s.clk.Now, Secret: cfg.StoreSecret}
	dir := filepath.Join(cfg.StateDir, "store")
	if cfg.Objects.URL != "" {
		if s.objects, err = bucket.Open(ctx, dir, cfg.Objects); err != nil {
			return nil, err
		}
		opts.Files = s.objects
	} else if err := bucket.RefuseCache(dir); err != nil {
		return nil, err
	}
	if s.store, err = points.Open(dir, opts); err != nil {
		return nil, err
	}
	floor := cfg.StoreFloor
	if floor == 0 {
		if floor, err = points.DefaultFloor(s.store.Dir()); err != nil {
			return nil, errors.Join(err, s.store.Close())
		}
	}
	s.store.SetFloor(floor)
	if s.db, err = records.Open(ctx, cfg.DatabaseURL); err != nil {
		return nil, errors.Join(err, s.store.Close())
	}
	if err := s.open(ctx); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

// open reads the records and the listeners' addresses.
func (s *Service) open(ctx context.Context) error {
	var err error
	if s.site, err = s.db.Site(ctx, s.cfg.Name, s.clk.Now()); err != nil {
		return err
	}
	if s.site.Name != s.cfg.Name {
		return fmt.Errorf("this state belongs to site %q; start it under that name, or with another --state", s.site.Name)
	}
	if err := s.store.SetOwner(points.Owner{SiteID: s.site.ID, Site: s.site.Name}); err != nil {
		return err
	}
	for _, load := range []func(context.Context) error{s.loadPlatforms, s.loadLinks, s.loadGroups, s.reconcilePoints, s.loadShares, s.loadLandings, s.endOldOperations} {
		if err := load(ctx); err != nil {
			return err
		}
	}
	if s.linkL, err = net.Listen("tcp", s.cfg.LinkListen); err != nil {
		return fmt.Errorf("listen for other sites on %s: %w", s.cfg.LinkListen, err)
	}
	if s.nbdL, err = net.Listen("tcp", s.cfg.NBDListen); err != nil {
		return fmt.Errorf("listen for NBD on %s: %w", s.cfg.NBDListen, err)
	}
	if s.cfg.LinkAddress == "" {
		s.cfg.LinkAddress = s.linkL.Addr().String()
	}
	return nil
}

// Run works until ctx ends, and then waits until everything has stopped.
// Cycles that are under way stop where they are and go on at the next start.
func (s *Service) Run(ctx context.Context) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	s.mu.Lock()
	s.runCtx = ctx
	s.ready = true
	s.mu.Unlock()
	failed := make(chan error, 2)
	serve := func(f func() error) {
		s.wg.Go(func() {
			if err := f(); err != nil {
				failed <- err
			}
		})
	}
	serve(func() error { return link.Serve(ctx, s.linkL, s.id, s, s.log) })
	serve(func() error { return nbd.ServeTLS(ctx, s.nbdL, s, s.nbdTLS) })
	s.startBeats(ctx)
	s.startLandings()
	s.wg.Go(func() { s.pulse(ctx) })
	s.wg.Go(func() { s.scrub(ctx) })
	var err error
	select {
	case <-ctx.Done():
	case err = <-failed:
		cancel()
	}
	s.hub.close()
	s.wg.Wait()
	return err
}

// Close lets go of store and database.
func (s *Service) Close() error {
	var errs []error
	for _, l := range []net.Listener{s.linkL, s.nbdL} {
		if l != nil {
			_ = l.Close()
		}
	}
	for _, p := range s.platforms {
		p.driver.Close()
	}
	closeOverlays(s.exports)
	if s.db != nil {
		errs = append(errs, s.db.Close())
	}
	return errors.Join(append(errs, s.store.Close())...)
}

// Ready reports whether the site can do its work.
func (s *Service) Ready(ctx context.Context) error {
	s.mu.Lock()
	ready := s.ready
	s.mu.Unlock()
	if !ready {
		return errors.New("still starting")
	}
	if err := s.db.PingContext(ctx); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	return nil
}

// note writes a line of the audit trail. An action is not undone because its
// line could not be written; that is logged.
func (s *Service) note(ctx context.Context, who, kind, subject, format string, a ...any) {
	text := fmt.Sprintf(format, a...)
	err := s.db.AddActivity(context.WithoutCancel(ctx), records.Activity{At: s.clk.Now(), Who: who, Kind: kind, Subject: subject, Text: text})
	if err != nil {
		s.log.Error("audit trail", "err", err, "text", text)
	}
	s.hub.send(Event{Type: "activity"})
}

func loopback(host string) bool {
	if host == "localhost" {
		return true
	}
	ip := net.ParseIP(host)
	return ip != nil && ip.IsLoopback()
}

func ptr[T any](v T) *T { return &v }

// orNil gives nil for the zero time.
func orNil(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

func seconds(d time.Duration) int64 { return int64(d / time.Second) }
