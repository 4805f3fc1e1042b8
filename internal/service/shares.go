package service

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"net/url"
	"sort"

	"github.com/google/uuid"

	"kestrel/internal/api"
	"kestrel/internal/nbd"
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
}

func (s *Service) loadShares(ctx context.Context) error {
	recs, err := s.db.Shares(ctx)
	if err != nil {
		return err
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
	s.mu.Lock()
	defer s.mu.Unlock()
	s.shares[r.ID] = sh
	for _, m := range x.Machines {
		for _, d := range m.Disks {
			s.exports[exportName(r.Token, m.Name, d.Key)] = &sharedDisk{share: sh, disk: d}
		}
	}
	return nil
}

func exportName(token, machine, disk string) string {
	return token + "/" + safeName(machine) + "/" + safeName(disk)
}

// CreateShare serves the disks of a point over NBD, read-only.
func (s *Service) CreateShare(ctx context.Context, who string, in api.NewShare) (api.Share, error) {
	if _, err := s.heldRec(ctx, in.Point); err != nil {
		return api.Share{}, err
	}
	token := make([]byte, 8)
	_, _ = rand.Read(token) // never fails since Go 1.24
	r := records.Share{ID: uuid.NewString(), Point: in.Point, Token: hex.EncodeToString(token), CreatedBy: who, CreatedAt: s.clk.Now()}
	if err := s.db.AddShare(ctx, r); err != nil {
		return api.Share{}, err
	}
	if err := s.openShare(r); err != nil {
		return api.Share{}, errors.Join(problem.NotFound("point", in.Point), s.db.DeleteShare(ctx, r.ID))
	}
	s.mu.Lock()
	v := s.shareView(s.shares[r.ID])
	s.mu.Unlock()
	s.note(ctx, who, "point", v.GroupName, "%s serves point %d of %s over NBD", who, v.PointNumber, v.GroupName)
	return v, nil
}

// shareView is a share as the contract shows it; the lock is held.
func (s *Service) shareView(sh *share) api.Share {
	v := api.Share{ID: sh.rec.ID, Point: sh.rec.Point, PointNumber: sh.seal.Number, GroupName: sh.seal.Group.Name, CreatedAt: sh.rec.CreatedAt, CreatedBy: sh.rec.CreatedBy, Disks: []api.ShareDisk{}}
	for _, m := range sh.seal.Machines {
		for _, d := range m.Disks {
			name := exportName(sh.rec.Token, m.Name, d.Key)
			if x := s.exports[name]; x != nil {
				v.Clients += x.clients
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
	for name, x := range s.exports {
		if x.share == sh {
			delete(s.exports, name)
		}
	}
	s.mu.Unlock()
	sh.release()
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
	return &nbd.Export{Size: x.disk.Size, Device: disk, Contexts: []nbd.Context{{Name: nbd.AllocationContext, Status: func(off, length int64) ([]nbd.Extent, error) {
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
	}}}, Close: func() {
		release()
		s.mu.Lock()
		defer s.mu.Unlock()
		x.clients--
	}}, nil
}
