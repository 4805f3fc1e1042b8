package service

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"sort"

	"github.com/google/uuid"

	"kestrel/internal/api"
	"kestrel/internal/nbd"
	"kestrel/internal/overlay"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// share is a point served over NBD.
type share struct {
	rec     records.Share
	seal    *points.Seal
	release func()
}

type sharedDisk struct {
	share   *share
	disk    points.SealDisk
	clients int
	over    *overlay.Disk // nil if it is read-only
}

// Ways to serve a point.
const (
	serveReadOnly  = "read-only"
	serveThrowAway = "throw-away"
	serveLasting   = "lasting"
)

// overlayPath is where what is written over a served disk is kept.
func (s *Service) overlayPath(share, machine, disk string) string {
	return filepath.Join(s.cfg.StateDir, "overlays", share, safeName(machine)+"."+safeName(disk))
}

// overlayRoom refuses writing that would take the room that arriving cycles need.
func (s *Service) overlayRoom() error {
	if err := s.store.Room(); err != nil {
		return fmt.Errorf("%w: %w", nbd.ErrNoSpace, err)
	}
	return nil
}

func (s *Service) loadShares(ctx context.Context) error {
	recs, err := s.db.Shares(ctx)
	if err != nil {
		return err
	}
	lasting := map[string]bool{}
	for _, r := range recs {
		lasting[r.ID] = r.Mode == serveLasting
	}
	// What is left of overlays that were thrown away, or of a share that a
	// crash kept from being noted.
	found, _ := os.ReadDir(filepath.Join(s.cfg.StateDir, "overlays"))
	for _, f := range found {
		if !lasting[f.Name()] {
			if err := os.RemoveAll(filepath.Join(s.cfg.StateDir, "overlays", f.Name())); err != nil {
				return fmt.Errorf("throw an overlay away: %w", err)
			}
		}
	}
	for _, r := range recs {
		if err := s.openShare(r); err != nil {
			s.log.Warn("a served point is gone", "point", r.Point, "err", err)
			if err := s.db.DeleteShare(ctx, r.ID); err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *Service) openShare(r records.Share) error {
	x, release, err := s.store.Use(r.Point)
	if err != nil {
		return err
	}
	sh := &share{rec: r, seal: x, release: release}
	disks := map[string]*sharedDisk{}
	for _, m := range x.Machines {
		for _, d := range m.Disks {
			one := &sharedDisk{share: sh, disk: d}
			if r.Mode != serveReadOnly {
				if one.over, err = overlay.Open(s.overlayPath(r.ID, m.Name, d.Key), s.store.Disk(d.Root, d.Size), s.overlayRoom); err != nil {
					closeOverlays(disks)
					release()
					return err
				}
			}
			disks[exportName(r.Token, m.Name, d.Key)] = one
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.shares[r.ID] = sh
	maps.Copy(s.exports, disks)
	return nil
}

func closeOverlays(disks map[string]*sharedDisk) {
	for _, d := range disks {
		if d.over != nil {
			_ = d.over.Close() // what clients flushed is there already
		}
	}
}

func exportName(token, machine, disk string) string {
	return token + "/" + safeName(machine) + "/" + safeName(disk)
}

// CreateShare serves the disks of a point over NBD. What clients write, where
// they may, is kept beside the point.
func (s *Service) CreateShare(ctx context.Context, who string, in api.NewShare) (api.Share, error) {
	if _, err := s.heldRec(ctx, in.Point); err != nil {
		return api.Share{}, err
	}
	mode := serveReadOnly
	if in.Mode != nil && *in.Mode != "" {
		mode = *in.Mode
	}
	if mode != serveReadOnly && mode != serveThrowAway && mode != serveLasting {
		return api.Share{}, problem.Invalid("mode", "%q is not known: choose read-only, throw-away or lasting.", mode)
	}
	if mode != serveReadOnly {
		if err := s.store.Room(); err != nil {
			return api.Share{}, problem.Conflict("There is no room here for what would be written: %v.", err)
		}
	}
	token := make([]byte, 8)
	_, _ = rand.Read(token) // never fails since Go 1.24
	r := records.Share{ID: uuid.NewString(), Point: in.Point, Token: hex.EncodeToString(token), Mode: mode, CreatedBy: who, CreatedAt: s.clk.Now()}
	if err := s.db.AddShare(ctx, r); err != nil {
		return api.Share{}, err
	}
	if err := s.openShare(r); err != nil {
		return api.Share{}, errors.Join(problem.NotFound("point", in.Point), s.db.DeleteShare(ctx, r.ID))
	}
	s.mu.Lock()
	v := s.shareView(s.shares[r.ID])
	s.mu.Unlock()
	s.note(ctx, who, "point", v.GroupName, "%s serves point %d of %s over NBD, %s", who, v.PointNumber, v.GroupName, mode)
	return v, nil
}

// shareView is a share as the contract shows it; the lock is held.
func (s *Service) shareView(sh *share) api.Share {
	v := api.Share{ID: sh.rec.ID, Point: sh.rec.Point, PointNumber: sh.seal.Number, GroupName: sh.seal.Group.Name, CreatedAt: sh.rec.CreatedAt, CreatedBy: sh.rec.CreatedBy, Mode: sh.rec.Mode, Disks: []api.ShareDisk{}}
	for _, m := range sh.seal.Machines {
		for _, d := range m.Disks {
			name := exportName(sh.rec.Token, m.Name, d.Key)
			if x := s.exports[name]; x != nil {
				v.Clients += x.clients
				if x.over != nil {
					v.WrittenBytes += x.over.Written()
				}
			}
			u := url.URL{Scheme: "nbd", Host: s.nbdL.Addr().String(), Path: "/" + name}
			if s.cfg.NBDAddress != "" {
				u.Host = s.cfg.NBDAddress
			}
			if s.nbdTLS != nil {
				u.Scheme = "nbds"
			}
			v.Disks = append(v.Disks, api.ShareDisk{Machine: m.Name, Disk: d.Key, URI: u.String(), SizeBytes: d.Size})
		}
	}
	return v
}

// Shares lists the served points.
func (s *Service) Shares() []api.Share {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []api.Share{}
	for _, sh := range s.shares {
		out = append(out, s.shareView(sh))
	}
	sort.Slice(out, func(i, j int) bool { return out[i].CreatedAt.Before(out[j].CreatedAt) })
	return out
}

// DeleteShare stops serving a point. Clients that still read get errors.
func (s *Service) DeleteShare(ctx context.Context, who, id string) error {
	s.mu.Lock()
	sh, ok := s.shares[id]
	s.mu.Unlock()
	if !ok {
		return problem.NotFound("served point", id)
	}
	if err := s.db.DeleteShare(ctx, id); err != nil {
		return err
	}
	s.mu.Lock()
	delete(s.shares, id)
	gone := map[string]*sharedDisk{}
	for name, x := range s.exports {
		if x.share == sh {
			gone[name] = x
			delete(s.exports, name)
		}
	}
	s.mu.Unlock()
	sh.release()
	closeOverlays(gone)
	if err := os.RemoveAll(filepath.Join(s.cfg.StateDir, "overlays", id)); err != nil {
		s.log.Warn("remove what was written over a served point", "err", err)
	}
	s.note(ctx, who, "point", sh.seal.Group.Name, "%s stopped serving point %d of %s", who, sh.seal.Number, sh.seal.Group.Name)
	return nil
}

// List implements nbd.Exporter: names hold a secret and are not listed.
func (s *Service) List() []string { return nil }

// Open implements nbd.Exporter.
func (s *Service) Open(name string) (*nbd.Export, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	x, ok := s.exports[name]
	if !ok {
		return nil, errors.New("no such export; serve the point first and use the address it gives")
	}
	x.clients++
	disk := s.store.Disk(x.disk.Root, x.disk.Size)
	// The client holds the point too: stopping the share must not let its
	// blocks be swept from under a reader.
	_, release, err := s.store.Use(x.share.rec.Point)
	if err != nil {
		x.clients--
		return nil, errors.New("the point is gone")
	}
	e := &nbd.Export{Size: x.disk.Size, Device: disk}
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
