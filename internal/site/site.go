// Package site wires the rooms of a site together and runs them. It decides nothing
// itself.
package site

import (
	"context"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"kestrel/internal/nameserver"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/access"
	"kestrel/internal/audit"
	"kestrel/internal/berths"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/group"
	"kestrel/internal/core/ident"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/schedule"
	"kestrel/internal/core/scope"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/coverage"
	"kestrel/internal/cycle"
	"kestrel/internal/directory"
	"kestrel/internal/estate"
	"kestrel/internal/events"
	"kestrel/internal/files"
	"kestrel/internal/files/bucket"
	"kestrel/internal/foresight"
	"kestrel/internal/history"
	"kestrel/internal/hostcommand"
	"kestrel/internal/httpapi"
	"kestrel/internal/inventory"
	"kestrel/internal/keeper"
	"kestrel/internal/landing"
	"kestrel/internal/link"
	"kestrel/internal/lookout"
	"kestrel/internal/meter"
	"kestrel/internal/mover"
	"kestrel/internal/nbd"
	"kestrel/internal/notify"
	"kestrel/internal/operation"
	"kestrel/internal/overview"
	"kestrel/internal/peering"
	"kestrel/internal/places"
	"kestrel/internal/points"
	"kestrel/internal/protection"
	"kestrel/internal/reach"
	"kestrel/internal/records"
	"kestrel/internal/recovery"
	"kestrel/internal/report"
	"kestrel/internal/safeguard"
	"kestrel/internal/sealed"
	"kestrel/internal/serving"
	"kestrel/internal/signon"
	"kestrel/internal/survey"
	"kestrel/internal/tiers"
	"kestrel/internal/tracing"
	"kestrel/internal/watch"
)

// Version is the version of this build.
const Version = "0.2.0"

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
	// Cycles is how many may run at once; mover.UsualCycles of the site if nothing is said.
	Cycles schedule.Limits
	// IndexCache is the memory in bytes for looking up where blocks of a store stand; 0 for the
	// usual.
	IndexCache int64
	// StoreFloor is the room in bytes that arriving cycles leave free; 0 for the
	// default.
	StoreFloor int64
	// StoreSecret encrypts the point store; none leaves it in the clear.
	StoreSecret points.Secret
	// Objects, if its URL is given, keeps the point store in an object store.
	Objects bucket.Config
	// LongTerm is where long-term rungs keep their points; nowhere of their own if it is
	// empty.
	LongTerm LongTerm
	// VerifyEvery is the time within which all of the point store is verified once;
	// 0 for a week, negative for never.
	VerifyEvery time.Duration
	// ExportDirs are folders on this host below which points may be exported, CarryDirs
	// those below which carried images may lie; none: nowhere.
	ExportDirs, CarryDirs []string
	// CertificateDirs are folders below which certificates of platforms may lie.
	CertificateDirs []string
	// Within are the networks that the site connects to; nil is everywhere.
	Within reach.Networks
	// SignOn is where people can sign in beside here; nowhere if it has no issuer.
	SignOn signon.Config
	// Traces is the collector that requests and cycles are told to, by OTLP over HTTP; none if
	// empty.
	Traces string
	// Syslog is a log server that the trail is sent to, HOST:PORT; none if empty.
	// SyslogTLS is how it is spoken to.
	Syslog    string
	SyslogTLS *tls.Config
	// DeletionWait is how long points stay here that another site wants deleted; 0 for
	// a day, negative for not at all.
	DeletionWait time.Duration
	// Least is how fast points are thinned here at most where another site makes a
	// ladder shorter; empty for as fast as it wants.
	Least ladder.Ladder
	// Guard is the command of the process that lets machines go which are held when
	// this one is killed.
	Guard      []string
	ConsoleURL string // for one-time links
	Clock      clock.Clock
	Log        *slog.Logger
	// Pulse is the longest time between two looks at what is due; 500 ms if zero.
	// Links are measured every fourth pulse.
	Pulse time.Duration
}

// LongTerm is a long-term store: a folder, or the objects of a bucket.
type LongTerm struct {
	Dir     string
	Objects bucket.Config
}

// What is done how often, in pulses.
const (
	beatPulses    = 4
	refreshPulses = 20
	lookPulses    = 20 // between two looks at readiness
	watchPulses   = 10 // between two looks at what people have to be told of
	peoplePulses  = 10 // what was changed on the host or ran out is seen within so many
	tidyPulses    = 120
)

// Site is a running site. Its rooms may be used by whoever wires an interface to
// them.
type Site struct {
	cfg  Config
	self records.Site
	clk  clock.Clock
	log  *slog.Logger
	db   *records.DB

	store       *points.Store
	longTerm    *points.Store // nil: there is none
	linkL, nbdL net.Listener
	id          *link.Identity
	nbdTLS      *tls.Config // nil: NBD is served in the clear, on loopback
	ready       atomic.Bool

	Hub        *events.Hub
	Trail      *audit.Trail
	Notary     *audit.Notary
	Access     *access.Access
	Safeguards *safeguard.Safeguards
	SignOn     *signon.SignOn // nil: people sign in here only
	box        *sealed.Box
	Courier    *audit.Courier // nil: the trail is sent nowhere
	Groups     *directory.Directory
	Inventory  *inventory.Inventory
	History    *history.History
	Operations *operation.Operations
	Keeper     *keeper.Keeper
	Peering    *peering.Peering
	Mover      *mover.Mover
	Protection *protection.Protection
	Coverage   *coverage.Coverage
	Surveys    *survey.Surveys
	Tiers      *tiers.Tiers
	Berths     *berths.Berths
	Foresight  *foresight.Foresight
	Estate     *estate.Estate
	Serving    *serving.Serving
	Landings   *landing.Landings
	Recovery   *recovery.Recovery
	Names      *nameserver.Servers
	Overview   *overview.Overview
	Lookout    *lookout.Lookout
	Notify     *notify.Notify
	Watch      *watch.Watch
	Meter      *meter.Meter
	Tracing    *tracing.Tracing // nil: nobody is told
	Reports    *report.Reports
}

// New opens everything a site needs. Call Run to set it to work, and Close at the
// end.
func New(ctx context.Context, cfg Config) (*Site, error) {
	if cfg.VerifyEvery == 0 {
		cfg.VerifyEvery = span.Week
	}
	if cfg.DeletionWait == 0 {
		cfg.DeletionWait = span.Day
	}
	if cfg.Pulse == 0 {
		cfg.Pulse = 500 * time.Millisecond
	}
	if why := group.CheckName(cfg.Name, 60); why != "" {
		return nil, fmt.Errorf("the name of the site: %s", why)
	}
	if err := checkNBD(cfg); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(cfg.StateDir, 0o700); err != nil {
		return nil, fmt.Errorf("make state folder: %w", err)
	}
	s := &Site{cfg: cfg, clk: cfg.Clock, log: cfg.Log, Hub: events.NewHub()}
	if err := s.open(ctx); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

func checkNBD(cfg Config) error {
	host, _, err := net.SplitHostPort(cfg.NBDListen)
	switch {
	case err != nil:
		return fmt.Errorf("the NBD address %q is not HOST:PORT", cfg.NBDListen)
	case !serving.Loopback(host) && cfg.NBDCertificates == "":
		return fmt.Errorf("the NBD address %q is not on loopback, and points leave this host under TLS only; give certificates, or listen on 127.0.0.1", cfg.NBDListen)
	case cfg.NBDAddress != "":
		if _, _, err := net.SplitHostPort(cfg.NBDAddress); err != nil {
			return fmt.Errorf("the NBD address %q for hypervisors is not HOST:PORT", cfg.NBDAddress)
		}
	case net.ParseIP(host).IsUnspecified():
		return fmt.Errorf("the NBD address %q is all of this host's; give the one that hypervisors connect to as well", cfg.NBDListen)
	}
	return nil
}

// open opens store, database and listeners, and the rooms from the inside out.
func (s *Site) open(ctx context.Context) (err error) {
	cfg := s.cfg
	if cfg.NBDCertificates != "" {
		if s.nbdTLS, err = nbd.ServerTLS(cfg.NBDCertificates); err != nil {
			return fmt.Errorf("certificates for NBD: %w", err)
		}
	}
	if s.id, err = link.LoadIdentity(cfg.StateDir, s.clk.Now()); err != nil {
		return err
	}
	objects, err := s.openStore(ctx)
	if err != nil {
		return err
	}
	farObjects, err := s.openLongTerm(ctx)
	if err != nil {
		return err
	}
	if s.db, err = records.Open(ctx, cfg.DatabaseURL); err != nil {
		return err
	}
	if err = s.db.KeepPartitions(ctx, s.clk.Now()); err != nil {
		return err
	}
	if s.self, err = s.db.Site(ctx, cfg.Name, s.clk.Now()); err != nil {
		return err
	}
	if s.self.Name != cfg.Name {
		return fmt.Errorf("this state belongs to site %q; start it under that name, or with another --state", s.self.Name)
	}
	for _, x := range []*points.Store{s.store, s.longTerm} {
		if x == nil {
			continue
		}
		if err := x.SetOwner(points.Owner{SiteID: s.self.ID, Site: s.self.Name}); err != nil {
			return err
		}
	}
	if s.linkL, err = net.Listen("tcp", cfg.LinkListen); err != nil {
		return fmt.Errorf("listen for other sites on %s: %w", cfg.LinkListen, err)
	}
	if s.nbdL, err = net.Listen("tcp", cfg.NBDListen); err != nil {
		return fmt.Errorf("listen for NBD on %s: %w", cfg.NBDListen, err)
	}
	return s.openRooms(ctx, objects, farObjects)
}

// openLongTerm opens the long-term store, if there is to be one.
func (s *Site) openLongTerm(ctx context.Context) (objects *bucket.FS, err error) {
	cfg := s.cfg
	opts := points.Options{Now: s.clk.Now, Secret: cfg.StoreSecret, Index: s.indexOf("long-term")}
	dir := cfg.LongTerm.Dir
	switch {
	case cfg.LongTerm.Objects.URL != "" && dir != "":
		return nil, errors.New("the long-term store is a folder or in a bucket, and cannot be both")
	case cfg.LongTerm.Objects.URL != "":
		if cfg.LongTerm.Objects.URL == cfg.Objects.URL {
			return nil, errors.New("the long-term store would be in the bucket of the point store; give another one, or another prefix")
		}
		dir = filepath.Join(cfg.StateDir, "long-term")
		if objects, err = bucket.Open(ctx, dir, cfg.LongTerm.Objects, cfg.Within); err != nil {
			return nil, fmt.Errorf("open the long-term store: %w", err)
		}
		opts.Files = objects
	case dir == "":
		return nil, nil
	default:
		if err := bucket.RefuseCache(dir); err != nil {
			return nil, fmt.Errorf("open the long-term store: %w", err)
		}
	}
	if s.longTerm, err = points.Open(dir, opts); err != nil {
		return nil, fmt.Errorf("open the long-term store: %w", err)
	}
	if o, err := s.longTerm.Owner(); err != nil {
		return nil, fmt.Errorf("open the long-term store: %w", err)
	} else if mine, err := s.store.Owner(); err == nil && o.SiteID != "" && mine.SiteID != "" && o.SiteID != mine.SiteID {
		return nil, fmt.Errorf("the long-term store belongs to site %q; give this site one of its own", o.Site)
	}
	floor := cfg.StoreFloor
	if floor == 0 {
		if floor, err = points.DefaultFloor(dir); err != nil {
			return nil, err
		}
	}
	s.longTerm.SetFloor(floor)
	return objects, nil
}

// indexOf is where it is kept where the blocks of a store stand.
func (s *Site) indexOf(store string) points.Index {
	return points.Index{Dir: filepath.Join(s.cfg.StateDir, "index", store), Cache: s.cfg.IndexCache}
}

func (s *Site) openStore(ctx context.Context) (objects *bucket.FS, err error) {
	cfg := s.cfg
	opts := points.Options{Now: s.clk.Now, Secret: cfg.StoreSecret, Index: s.indexOf("store")}
	dir := filepath.Join(cfg.StateDir, "store")
	if cfg.Objects.URL != "" {
		if objects, err = bucket.Open(ctx, dir, cfg.Objects, cfg.Within); err != nil {
			return nil, err
		}
		opts.Files = objects
	} else if err := bucket.RefuseCache(dir); err != nil {
		return nil, err
	}
	if s.store, err = points.Open(dir, opts); err != nil {
		return nil, err
	}
	floor := cfg.StoreFloor
	if floor == 0 {
		if floor, err = points.DefaultFloor(s.store.Dir()); err != nil {
			return nil, err
		}
	}
	s.store.SetFloor(floor)
	return objects, nil
}

// holderOf names the process of a state directory, of which there is one at a time: it has the
// store there locked.
func holderOf(dir string) (string, error) {
	path := filepath.Join(dir, "process")
	b, err := os.ReadFile(path)
	if err == nil && ident.UUID(string(b)) {
		return string(b), nil
	}
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return "", fmt.Errorf("read who this process is: %w", err)
	}
	id := uuid.NewString()
	if err := files.WriteWhole(files.OS{}, path, []byte(id)); err != nil {
		return "", fmt.Errorf("keep who this process is: %w", err)
	}
	return id, nil
}

func (s *Site) openRooms(ctx context.Context, objects, farObjects *bucket.FS) (err error) {
	cfg, clk, log, db, hub := s.cfg, s.clk, s.log, s.db, s.Hub
	owner := "kt-" + s.self.ID[:8] + "-" // marks this site's checkpoints on platforms
	exports, err := places.Open("--export-dir", cfg.ExportDirs, cfg.StateDir)
	if err != nil {
		return err
	}
	carried, err := places.Open("--carry-dir", cfg.CarryDirs, cfg.StateDir)
	if err != nil {
		return err
	}
	certificates, err := places.Open("--certificate-dir", cfg.CertificateDirs, cfg.StateDir)
	if err != nil {
		return err
	}
	holder, err := holderOf(cfg.StateDir)
	if err != nil {
		return err
	}
	s.Trail = audit.New(db, clk, hub, log)
	if objects != nil && objects.Raised > 0 {
		s.Trail.Note(ctx, actor.System(), audit.Object{Kind: "store", Name: s.self.Name}, "%s of locked points had been removed or written over at the object service, and were brought back. Somebody has keys to it who should not.", words.Count(objects.Raised, "object"))
	}
	s.Notary = &audit.Notary{Site: s.self.ID, Name: s.self.Name, Ledger: db, Signer: s.id, Trail: s.Trail, Clock: clk}
	box, err := sealed.Open(cfg.StateDir)
	if err != nil {
		return err
	}
	if cfg.Traces != "" {
		if s.Tracing, err = tracing.New(ctx, tracing.Config{URL: cfg.Traces, Site: s.self.Name, SiteID: s.self.ID, Version: Version, Dial: cfg.Within.Dialer(10 * time.Second).DialContext, Log: log}); err != nil {
			return err
		}
	}
	if cfg.Syslog != "" {
		s.Courier = &audit.Courier{Address: cfg.Syslog, TLS: cfg.SyslogTLS, Dial: cfg.Within.Dialer(10 * time.Second).DialContext, Outbox: db, Clock: clk, Hub: hub, Log: log}
	}
	s.box = box
	s.Access = access.New(db, s.Trail, clk, box, s.self.Name, cfg.ConsoleURL)
	if s.Safeguards, err = safeguard.Open(ctx, db, s.Trail, clk, hub); err != nil {
		return err
	}
	if cfg.SignOn.Issuer != "" {
		cfg.SignOn.Console, cfg.SignOn.Within = cfg.ConsoleURL, cfg.Within
		s.SignOn = signon.New(cfg.SignOn)
	}
	s.Access.Demanded = s.Safeguards.DemandsSecondFactor
	s.History = history.New(db, clk)
	s.Operations = operation.New(db, s.Trail, clk, hub, log, holder)
	if s.Groups, err = directory.Open(ctx, db, s.Trail, clk, hub); err != nil {
		return err
	}
	if s.Inventory, err = inventory.Open(ctx, inventory.Config{DB: db, Groups: s.Groups, Trail: s.Trail, Clock: clk, Hub: hub, Log: log, StateDir: cfg.StateDir, Owner: owner, Guard: cfg.Guard, Within: cfg.Within, Certificates: certificates, Every: refreshPulses * cfg.Pulse}); err != nil {
		return err
	}
	if s.Keeper, err = keeper.New(ctx, keeper.Config{Site: s.self.Name, Records: db, Store: s.store, Objects: objects, ObjectsURL: cfg.Objects.URL, LongTerm: s.longTerm, LongTermObjects: farObjects, LongTermURL: cfg.LongTerm.Objects.URL, Groups: s.Groups, History: s.History, Operations: s.Operations,
		Trail: s.Trail, Clock: clk, Hub: hub, Log: log, VerifyEvery: cfg.VerifyEvery, Exports: exports, Carried: carried, DeletionWait: max(0, cfg.DeletionWait), Least: cfg.Least, TidyEvery: tidyPulses * cfg.Pulse, AccountEvery: refreshPulses * cfg.Pulse}); err != nil {
		return err
	}
	address := cfg.LinkAddress
	if address == "" {
		address = s.linkL.Addr().String()
	}
	// Peering tells the other site what the mover sees, and asks protection to act;
	// both are made of peering, and so are reached through the site.
	if s.Peering, err = peering.Open(ctx, peering.Config{Site: s.self, Identity: s.id, DB: db, Groups: s.Groups, Keeper: s.Keeper, Trail: s.Trail, Notary: s.Notary, Clock: clk, Hub: hub, Log: log, BeatEvery: beatPulses * cfg.Pulse, Address: address, Within: cfg.Within,
		Platforms: s.countPlatforms, Coverage: func() scope.Counts { return s.Coverage.Lately() }, Live: func(id string) link.Live { return s.Mover.Live(id) },
		Act: func(ctx context.Context, who actor.Actor, id, action string, body []byte) error {
			return s.Protection.Act(ctx, who, id, action, body)
		},
		Ready: func(id string) json.RawMessage { return s.Lookout.Tell(id) },
		Heard: func(id string, ready json.RawMessage) { s.Lookout.Hear(id, ready) },
		HandOver: func(ctx context.Context, who actor.Actor, id string, h link.HandOver) (link.HandedOver, error) {
			return s.Recovery.HandOver(ctx, who, id, h)
		},
		Turned:    func(ctx context.Context, r directory.Record, t link.Turn) { s.Recovery.Turned(ctx, r, t) },
		Preparing: func(id string) string { return s.Recovery.Preparing(id) },
		Berth: func(ctx context.Context, who actor.Actor, id string, a link.BerthAsk) (json.RawMessage, error) {
			return s.Berths.Asked(ctx, who, id, a)
		}}); err != nil {
		return err
	}
	if s.Mover, err = mover.New(ctx, mover.Config{Owner: owner, Groups: s.Groups, Records: db, Points: s.Keeper, Arrived: s.History.Arrived, Source: s.source, Way: s.way, Platforms: s.platformIDs, Limits: cfg.Cycles,
		Ended: s.Tracing.Cycle, Preparing: s.Peering.Preparing,
		Hourly: func(group string, at time.Time) float64 {
			if s.Foresight == nil {
				return 1 // it is being opened
			}
			return s.Foresight.Hourly(group, at)
		},
		Trail: s.Trail, Clock: clk, Hub: hub, Log: log, Pulse: cfg.Pulse}); err != nil {
		return err
	}
	if s.Surveys, err = survey.Open(ctx, survey.Config{DB: db, Groups: s.Groups, Inventory: s.Inventory, Trail: s.Trail, Clock: clk, Hub: hub, Log: log, Owner: "kts-" + s.self.ID[:8] + "-", Every: refreshPulses * cfg.Pulse}); err != nil {
		return err
	}
	s.Protection = protection.New(protection.Config{Site: s.self, DB: db, Groups: s.Groups, Inventory: s.Inventory, Peering: s.Peering, Mover: s.Mover, Keeper: s.Keeper, Clock: clk, Surveyed: s.Surveys.Change, Tiers: func(text string) (group.Follows, error) { return s.Tiers.Follow(text) }})
	if s.Tiers, err = tiers.Open(ctx, tiers.Config{DB: db, Groups: s.Groups, Trail: s.Trail, Clock: clk, Hub: hub, Log: log, WouldDrop: s.Keeper.WouldDrop, Changed: s.Protection.Hear, Every: refreshPulses * cfg.Pulse}); err != nil {
		return err
	}
	s.Coverage = coverage.New(coverage.Config{DB: db, Groups: s.Groups, Inventory: s.Inventory, Trail: s.Trail, Clock: clk, Log: log, Every: refreshPulses * cfg.Pulse, Changed: s.Protection.Hear})
	if s.Serving, err = serving.Open(ctx, serving.Config{DB: db, Store: s.store, Keeper: s.Keeper, Trail: s.Trail, Clock: clk, Log: log, StateDir: cfg.StateDir, Listener: s.nbdL, TLS: s.nbdTLS, Address: cfg.NBDAddress, Allowed: s.mayServe}); err != nil {
		return err
	}
	s.Foresight = foresight.New(foresight.Config{DB: db, Groups: s.Groups, Inventory: s.Inventory, Peering: s.Peering, Mover: s.Mover, Keeper: s.Keeper, History: s.History, Clock: clk, Log: log,
		Surveyed: s.Surveys.Change, Draft: s.Protection.Draft, Edited: s.Protection.Edited, Every: tidyPulses * cfg.Pulse})
	s.Access.Revoked = s.recheck
	commands := hostcommand.Folder(filepath.Join(cfg.StateDir, "commands"))
	if s.Names, err = nameserver.Open(ctx, nameserver.Config{DB: db, Sealed: box, Trail: s.Trail, Dial: cfg.Within.Dialer(10 * time.Second).DialContext, Clock: clk}); err != nil {
		return err
	}
	channels := func() []string {
		if s.Notify == nil {
			return nil // it is being opened
		}
		return s.Notify.Names()
	}
	if s.Berths, err = berths.Open(ctx, berths.Config{Site: s.self.Name, DB: db, Groups: s.Groups, Inventory: s.Inventory, Peering: s.Peering, Seals: s.Keeper.Seals, Commands: commands.Names, Servers: s.Names.Names, Channels: channels, Keep: s.Keeper.KeepBerth, Trail: s.Trail, Hub: hub, Log: log}); err != nil {
		return err
	}
	s.Estate = estate.New(estate.Config{Site: s.self, Groups: s.Groups, Tiers: s.Tiers, Protection: s.Protection, Berths: s.Berths, Inventory: s.Inventory, Peering: s.Peering})
	if s.Landings, err = landing.Open(ctx, landing.Config{Site: s.self.Name, DB: db, Keeper: s.Keeper, Serving: s.Serving, Inventory: s.Inventory, Groups: s.Groups, Berths: s.Berths, Commands: commands, Work: cfg.StateDir, Operations: s.Operations,
		Trail: s.Trail, Clock: clk, Hub: hub, Log: log}); err != nil {
		return err
	}
	if s.Recovery, err = recovery.Open(ctx, recovery.Config{SiteID: s.self.ID, Site: s.self.Name, Sign: s.id.SignEvidence, Fingerprint: hex.EncodeToString(s.id.Fingerprint), DB: db, Groups: s.Groups, Keeper: s.Keeper, Inventory: s.Inventory, Landings: s.Landings, Peering: s.Peering, Mover: s.Mover, Read: cycle.Run, Owner: "ktb-" + s.self.ID[:8] + "-", Operations: s.Operations, Trail: s.Trail, Clock: clk, Hub: hub, Log: log, Every: recovery.Usual,
		Steps: s.Berths.Steps, Needs: s.Berths.Needs, WayBack: s.Berths.WayBack, FillThere: s.Berths.FillThere, NamesFreed: s.Berths.NamesFreed, Commands: commands, Names: s.Names, Dial: s.cfg.Within.Dialer(10 * time.Second).DialContext,
		Tell: func(ctx context.Context, channels []string, id, title string, lines []string) error {
			return s.Notify.Tell(ctx, channels, id, title, lines)
		}}); err != nil {
		return err
	}
	s.Keeper.Proved, s.Keeper.Wanted, s.Keeper.Preparing = s.Recovery.Proved, s.Recovery.InUse, s.Recovery.Preparing
	s.Landings.Gate = s.Recovery.Gate
	s.Lookout = lookout.New(lookout.Config{Drill: s.Recovery.Due, Groups: s.Groups, Berths: s.Berths, Landings: s.Landings, Keeper: s.Keeper, Inventory: s.Inventory, Serving: s.Serving, Peering: s.Peering, Clock: clk, Hub: hub, Log: log, Every: lookPulses * cfg.Pulse})
	s.Overview = overview.New(overview.Config{Site: s.self.Name, Groups: s.Groups, Inventory: s.Inventory, Peering: s.Peering, Mover: s.Mover, Keeper: s.Keeper, History: s.History, Clock: clk, Leavers: s.Coverage.Leavers, Drill: s.drill, RunsHere: s.Recovery.RunsHere})
	s.Meter = meter.New(meter.Config{DB: db, Look: meter.Rooms{SiteID: s.self.ID, Groups: s.Groups, Overview: s.Overview, Peering: s.Peering, Keeper: s.Keeper}.Look, Clock: clk, Log: log, Every: watchPulses * cfg.Pulse})
	return s.openWatch(ctx)
}

// openWatch opens what looks at all of the other rooms.
func (s *Site) openWatch(ctx context.Context) (err error) {
	if s.Notify, err = notify.Open(ctx, notify.Config{SiteID: s.self.ID, Site: s.self.Name, Console: s.cfg.ConsoleURL, Box: s.db, Sealed: s.box, Trail: s.Trail, Dial: s.cfg.Within.Dialer(10 * time.Second).DialContext,
		Digest: func() []string { return s.Watch.Morning() }, Document: func(ctx context.Context, p notify.Paper) (string, []byte, error) { return s.Reports.Paper(ctx, p) }, Clock: s.clk, Log: s.log, Every: watchPulses * s.cfg.Pulse, Waits: notify.UsualWaits()}); err != nil {
		return err
	}
	s.Reports = report.New(report.Config{Sources: report.Sources{SiteID: s.self.ID, Site: s.self.Name, Groups: s.Groups, History: s.History, Coverage: s.Coverage, Meter: s.Meter, Keeper: s.Keeper, Peering: s.Peering, Clock: s.clk, Recovery: s.Recovery},
		DB: s.db, Post: s.Notify, Trail: s.Trail, Log: s.log, Every: refreshPulses * s.cfg.Pulse})
	s.Watch, err = watch.Open(ctx, watch.Config{Drill: s.Recovery.Due, Failover: s.Recovery.OpenSince, RunsHere: s.Recovery.RunsHere, Site: s.self.Name, DB: s.db, Groups: s.Groups, Overview: s.Overview, Lookout: s.Lookout, Inventory: s.Inventory, Peering: s.Peering, Keeper: s.Keeper, Out: s.Notify, CertificateEnds: s.Serving.CertificateEnds,
		Trail: s.Trail, Clock: s.clk, Hub: s.Hub, Log: s.log, Every: watchPulses * s.cfg.Pulse})
	return err
}

// mayServe tells whether who serves a point of a group may serve it still.
func (s *Site) mayServe(ctx context.Context, r records.Served, group string) (bool, error) {
	if r.Person == nil {
		return true, nil
	}
	token := ""
	if r.ByToken != nil {
		token = *r.ByToken
	}
	who, ok, err := s.Access.Still(ctx, *r.Person, token)
	if err != nil || !ok {
		return false, err
	}
	g, _ := s.Groups.Get(group)
	return who.May(actor.Need{Role: actor.Operator, Group: true}, g.Spec.Tags).Allowed, nil
}

// recheck hangs up on those who may read points no longer. What cannot be done now is
// done when the site tidies next.
func (s *Site) recheck(ctx context.Context) {
	if err := s.Serving.Recheck(ctx); err != nil && ctx.Err() == nil {
		s.log.Error("hang up on who may read points no longer", "err", err)
	}
}

func (s *Site) countPlatforms() (platforms, machines int) {
	for _, p := range s.Inventory.All() {
		platforms++
		machines += len(p.Held().Machines)
	}
	return platforms, machines
}

func (s *Site) platformIDs() []string {
	var out []string
	for _, p := range s.Inventory.All() {
		out = append(out, p.ID)
	}
	return out
}

// source is a platform as cycles need it.
func (s *Site) source(id string) (mover.Source, bool) {
	p, ok := s.Inventory.Get(id)
	return mover.Source{Name: p.Name, Driver: p.Driver, Up: p.Up, Err: p.Err, Datastores: p.DatastoresOf}, ok
}

// drill is when a drill of a group passed last and when one falls due, as the site knows it
// that keeps its points.
func (s *Site) drill(r directory.Record) (last, due time.Time) {
	if r.Direction == directory.In {
		return s.Recovery.Due(r)
	}
	x, _ := s.Lookout.Of(r)
	return x.Drilled, x.DrillDue
}

// way is a link as cycles need it.
func (s *Site) way(id string) (mover.Way, bool) {
	l, ok := s.Peering.Get(id)
	if !ok {
		return mover.Way{}, false
	}
	return mover.Way{Name: l.Peer, Reached: l.Reached, Limit: l.Limit, Encoding: l.Encoding(), Ours: l.Ours, Abandon: l.Abandon,
		Remote: func(group string, weight float64) cycle.Remote { return l.Remote(group, weight) }}, true
}

// Run works until ctx ends, and then waits until everything has stopped. Cycles and
// operations that are under way stop where they are and go on at the next start.
func (s *Site) Run(ctx context.Context) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var wg sync.WaitGroup
	failed := make(chan error, 2)
	serve := func(f func() error) {
		wg.Go(func() {
			if err := f(); err != nil {
				failed <- err
			}
		})
	}
	serve(func() error { return link.Serve(ctx, s.linkL, s.id, s.Peering, s.log) })
	serve(func() error { return nbd.ServeTLS(ctx, s.nbdL, s.Serving, s.nbdTLS) })
	for _, run := range []func(context.Context){s.Inventory.Run, s.Operations.Run, s.Peering.Run, s.Mover.Run, s.Coverage.Run, s.Surveys.Run, s.Tiers.Run, s.Foresight.Run, s.Lookout.Run, s.Watch.Run, s.Meter.Run, s.Reports.Run, s.Recovery.Run, s.Notify.Run, s.Keeper.Run, s.Keeper.Verify, s.Keeper.Move, s.Keeper.Account, s.Berths.KeepAll, s.tidy} {
		wg.Go(func() { run(ctx) })
	}
	if s.Courier != nil {
		wg.Go(func() { s.Courier.Run(ctx) })
	}
	s.ready.Store(true)
	var err error
	select {
	case <-ctx.Done():
	case err = <-failed:
		cancel()
	}
	s.Hub.Close()
	wg.Wait()
	return err
}

// tidy does what falls due now and then, until ctx ends.
func (s *Site) tidy(ctx context.Context) {
	if err := errors.Join(s.Landings.Resume(ctx), s.Recovery.Resume(ctx)); err != nil && ctx.Err() == nil {
		s.log.Error("take up landings and drills", "err", err)
	}
	for n := 0; ; n++ {
		if n%peoplePulses == 0 {
			if err := s.Safeguards.Refresh(ctx); err != nil && ctx.Err() == nil {
				s.log.Warn("what is demanded of people", "err", err)
			}
			s.recheck(ctx)
		}
		if err := s.Groups.ResumeDue(ctx); err != nil && ctx.Err() == nil {
			s.log.Error("end pauses", "err", err)
		}
		if n%tidyPulses == 0 {
			if err := errors.Join(s.Access.Tidy(ctx), s.History.Tidy(ctx), s.History.CloseDays(ctx, s.Groups.All()), s.db.KeepPartitions(ctx, s.clk.Now()), s.Notary.Sign(ctx)); err != nil && ctx.Err() == nil {
				s.log.Warn("tidy the records", "err", err)
			}
		}
		if clock.Sleep(ctx, s.clk, s.cfg.Pulse) != nil {
			return
		}
	}
}

// Close lets go of store and database.
func (s *Site) Close() error {
	var errs []error
	for _, l := range []net.Listener{s.linkL, s.nbdL} {
		if l != nil {
			_ = l.Close()
		}
	}
	if s.Inventory != nil {
		s.Inventory.Close()
	}
	if s.Serving != nil {
		s.Serving.Close()
	}
	if s.Tracing != nil {
		last, cancel := context.WithTimeout(context.Background(), 3*time.Second)
		defer cancel()
		errs = append(errs, s.Tracing.Close(last))
	}
	if s.db != nil {
		errs = append(errs, s.db.Close())
	}
	if s.store != nil {
		errs = append(errs, s.store.Close())
	}
	if s.longTerm != nil {
		errs = append(errs, s.longTerm.Close())
	}
	return errors.Join(errs...)
}

// Ready reports whether the site can do its work.
func (s *Site) Ready(ctx context.Context) error {
	if !s.ready.Load() {
		return errors.New("still starting")
	}
	if err := s.db.PingContext(ctx); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	return nil
}

// Self is this site's identity.
func (s *Site) Self() records.Site { return s.self }

// Now is the time at this site.
func (s *Site) Now() time.Time { return s.clk.Now() }

// Rooms is the site as the API asks it.
func (s *Site) Rooms() httpapi.Rooms {
	r := httpapi.Rooms{Version: Version, Site: s, Access: s.Access, Safeguards: s.Safeguards, Box: s.box, Trail: s.Trail, Notary: s.Notary, Events: s.Hub, Directory: s.Groups, Groups: s.Protection, Overview: s.Overview, Platforms: s.Inventory, Links: s.Peering,
		Points: s.Keeper, Store: s.Keeper, Serving: s.Serving, Landings: s.Landings, Recovery: s.Recovery, Names: s.Names, Operations: s.Operations, Coverage: s.Coverage, Surveys: s.Surveys, Tiers: s.Tiers, Berths: s.Berths, Foresight: s.Foresight, Estate: s.Estate, Lookout: s.Lookout, Watch: s.Watch, Notify: s.Notify, Meter: s.Meter, Reports: s.Reports, Tracing: s.Tracing}
	if s.Courier != nil {
		r.Courier = s.Courier
	}
	if s.SignOn != nil {
		r.SignOn = s.SignOn
	}
	return r
}
