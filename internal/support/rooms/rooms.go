// Package rooms puts rooms of a site together without PostgreSQL, disks and
// network: for tests of rooms that take milliseconds, and for simulated sites.
package rooms

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"sync/atomic"
	"time"

	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/cadence"
	"kestrel/internal/core/group"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/promise"
	"kestrel/internal/cycle"
	"kestrel/internal/directory"
	"kestrel/internal/events"
	"kestrel/internal/files/faulty"
	"kestrel/internal/history"
	"kestrel/internal/keeper"
	"kestrel/internal/operation"
	"kestrel/internal/points"
	"kestrel/internal/support/memory"
)

// The two sites that most tests are about, and the link between them.
const (
	HomeID       = "11111111-1111-4111-8111-111111111111"
	RecoveryID   = "22222222-2222-4222-8222-222222222222"
	HomeName     = "Norhaven"
	RecoveryName = "Eastmole"
	Link         = "way"
)

// Anna is an administrator.
func Anna() actor.Actor {
	return actor.Actor{Kind: actor.Person, Name: "anna", Role: actor.Administrator, From: "192.0.2.7"}
}

// Drift is the wall clock, and as far from it as it is set to be.
type Drift struct {
	clock.Wall
	by atomic.Int64
}

// Set sets how far ahead of the wall clock it is.
func (d *Drift) Set(by time.Duration) { d.by.Store(int64(by)) }

// Now implements clock.Clock.
func (d *Drift) Now() time.Time { return time.Now().Add(time.Duration(d.by.Load())) }

// Side is one site. Open replaces its rooms, as a restart does; what they stand on
// (DB, Files, Store) stays.
type Side struct {
	ID, Name string
	DB       *memory.DB
	Files    *faulty.FS
	Store    *points.Store
	LongTerm *points.Store // nil: there is none
	Clock    *Drift
	Hub      *events.Hub
	Log      *slog.Logger
	// Wait and Least are how slowly is done what another site wants destroyed; nothing
	// holds it up at first.
	Wait  time.Duration
	Least ladder.Ladder

	Trail      *audit.Trail
	Groups     *directory.Directory
	History    *history.History
	Operations *operation.Operations
	Keeper     *keeper.Keeper
}

// New makes a site with nothing on it; the seed is of its file system's faults, of
// which there are none until they are asked for.
func New(id, name string, seed uint64) (*Side, error) {
	s := &Side{ID: id, Name: name, DB: memory.New(), Clock: &Drift{}, Files: faulty.New(rand.New(rand.NewPCG(seed, 7))), Log: slog.New(slog.DiscardHandler)}
	s.Files.SetCapacity(1 << 40)
	s.Files.CutAfter(-1)
	var err error
	if s.Store, err = points.Open("store", points.Options{Now: time.Now, Files: s.Files, Later: func(f func()) { f() }}); err != nil {
		return nil, err
	}
	return s, s.Open(context.Background())
}

// AddLongTerm gives the site a long-term store, and opens its rooms anew.
func (s *Side) AddLongTerm(ctx context.Context) (err error) {
	if s.LongTerm, err = points.Open("long-term", points.Options{Now: time.Now, Files: s.Files, Later: func(f func()) { f() }}); err != nil {
		return err
	}
	return s.Open(ctx)
}

// LosePoints puts an empty point store in the place of the one that there is, and opens the
// rooms anew.
func (s *Side) LosePoints(ctx context.Context) (err error) {
	if err := s.Store.Close(); err != nil {
		return err
	}
	if s.Store, err = points.Open("another", points.Options{Now: time.Now, Files: s.Files, Later: func(f func()) { f() }}); err != nil {
		return err
	}
	return s.Open(ctx)
}

// Open makes the rooms from what is recorded.
func (s *Side) Open(ctx context.Context) (err error) {
	clk := s.Clock
	s.Hub = events.NewHub()
	s.Trail = audit.New(s.DB, clk, s.Hub, s.Log)
	if s.Groups, err = directory.Open(ctx, s.DB, s.Trail, clk, s.Hub); err != nil {
		return err
	}
	s.History = history.New(s.DB, clk)
	s.Operations = operation.New(s.DB, s.Trail, clk, s.Hub, s.Log, "the rooms")
	s.Keeper, err = keeper.New(ctx, keeper.Config{Site: s.Name, Records: s.DB, Store: s.Store, LongTerm: s.LongTerm, Groups: s.Groups, History: s.History, Operations: s.Operations,
		Trail: s.Trail, Clock: clk, Hub: s.Hub, Log: s.Log, VerifyEvery: -1, TidyEvery: time.Hour, AccountEvery: time.Minute, DeletionWait: s.Wait, Least: s.Least})
	return err
}

// Spec is a group of one small machine on platform p, every minute, with a target of
// five; its points are kept for an hour.
func Spec(name string) group.Spec {
	return group.Spec{Name: name, Platform: "p", Priority: group.Normal, NewDisks: group.CopyNew, Destinations: []group.Destination{{SiteID: RecoveryID, Site: RecoveryName}},
		Machines: []group.Machine{{ID: "m-" + name, Name: "m-" + name, Disks: []group.Disk{{Key: "d", Label: "disk 1", SizeBytes: points.BlockSize}}}},
		Promise:  promise.Promise{Target: 5 * time.Minute, Cadence: cadence.Cadence{Every: time.Minute}, Keep: ladder.Ladder{{For: time.Hour}}}}
}

// Record is a group from Norhaven to Eastmole.
func Record(id string, s group.Spec) directory.Record {
	return directory.Record{ID: id, Link: Link, HomeID: HomeID, HomeName: HomeName, RecoveryName: RecoveryName, Spec: s}
}

// Mirror hands a group of another site over, as a beat does: in the form in which
// it is sent.
func (s *Side) Mirror(ctx context.Context, r directory.Record) error {
	spec, err := directory.Decode(directory.Encode(r.Spec), r.Spec.Name)
	if err != nil {
		return fmt.Errorf("read %s as it crosses the link: %w", r.Spec.Name, err)
	}
	r.Spec = spec
	if was, ok := s.Groups.Get(r.ID); ok {
		if err := s.Keeper.Shortens(ctx, was, spec.Promise.Keep); err != nil {
			return err
		}
	}
	if _, err := s.Groups.Mirror(ctx, actor.Actor{Kind: actor.Site, Name: r.HomeName}, r); err != nil {
		return fmt.Errorf("mirror %s: %w", r.Spec.Name, err)
	}
	return nil
}

// Seal brings a point of a mirrored group, captured at an instant, with blocks at its beginning,
// as a cycle of its home site does.
func (s *Side) Seal(ctx context.Context, r directory.Record, cycleID string, at time.Time, blocks ...[]byte) (*points.Seal, error) {
	m := r.Spec.Machines[0]
	opened, err := s.Keeper.OpenIntake(ctx, r.HomeID, cycle.OpenRequest{ID: cycleID, Group: points.SealGroup{ID: r.ID, Name: r.Spec.Name, HomeSite: r.HomeID, HomeName: r.HomeName, Term: r.Term, Settings: directory.Encode(r.Spec)},
		Disks: []cycle.OpenRequestDisk{{Machine: m.ID, Key: "d", Size: m.SizeBytes()}}})
	if err != nil {
		return nil, err
	}
	if opened.Sealed != nil {
		return opened.Sealed, nil
	}
	for i, b := range blocks {
		in, err := s.Store.Intake(opened.Intake)
		if err != nil {
			return nil, err
		}
		name := points.NameOf(b)
		enc, stored := points.Encode(nil, b, points.EncodingS2)
		if err := errors.Join(in.Put(name, enc, uint32(len(b)), stored), in.Record([]points.Entry{{Index: int64(i), Count: 1, Name: name}})); err != nil {
			return nil, err
		}
	}
	return s.Keeper.SealIntake(ctx, r.HomeID, 0, opened.Intake, points.Seal{CaptureAt: at, Consistency: "crash", Checkpoint: "kt-" + cycleID,
		Machines: []points.SealMachine{{ID: m.ID, Name: m.Name, Disks: []points.SealDisk{{Key: "d", Size: m.SizeBytes()}}}}})
}
