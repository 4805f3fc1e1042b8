package service

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/api"
	"kestrel/internal/core/exposure"
	"kestrel/internal/core/ladder"
	"kestrel/internal/link"
	"kestrel/internal/nbd"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// What the link port answers to cycles that have no right to go on.
var (
	notHome   = &problem.Problem{Status: http.StatusForbidden, Title: "This group does not come from there"}
	staleTerm = &problem.Problem{Status: http.StatusConflict, Title: "This group has another term here"}
	noIntake  = &problem.Problem{Status: http.StatusGone, Title: "The intake is not open (any more)"}
)

// reconcilePoints makes the records agree with the store, which is the truth:
// a crash may have come between a seal and its record.
func (s *Service) reconcilePoints(ctx context.Context) error {
	recs, err := s.db.Points(ctx, "")
	if err != nil {
		return err
	}
	known := map[string]bool{}
	for _, r := range recs {
		known[r.ID] = true
		if _, err := s.store.Point(r.ID); r.Held && err != nil {
			if err := s.db.DeletePoint(ctx, r.ID); err != nil {
				return err
			}
			s.note(ctx, "kestrel", "point", r.ID, "A point in the records is not in the store and was taken off the list")
		}
	}
	for _, x := range s.store.Points("") {
		if known[x.Point] || s.groups[x.Group.ID] == nil {
			continue
		}
		capture := exposure.Shift(x.CaptureAt, x.HomeAhead)
		err := errors.Join(
			s.db.PutPoint(ctx, records.Point{ID: x.Point, GroupID: x.Group.ID, CaptureAt: capture, Held: true, Seal: mustJSON(x)}),
			s.db.AddDrop(ctx, x.Group.ID, records.Drop{CaptureAt: capture, SealedAt: x.SealedAt}))
		if err != nil {
			return err
		}
	}
	for _, g := range s.groups {
		if err := s.countPoints(ctx, g); err != nil {
			return err
		}
	}
	return nil
}

// HeldPoints implements link.Local.
func (s *Service) HeldPoints(ctx context.Context, pin []byte, group string) ([]link.PointState, error) {
	s.mu.Lock()
	l, g := s.linkByPin(pin), s.groups[group]
	ok := g != nil && l != nil && g.rec.HomeID == l.rec.PeerID && g.rec.Direction != "out"
	s.mu.Unlock()
	if !ok {
		return nil, problem.NotFound("group", group)
	}
	recs, err := s.db.Points(ctx, group)
	if err != nil {
		return nil, err
	}
	out := []link.PointState{}
	for _, r := range recs {
		if x, err := s.store.Point(r.ID); err == nil {
			light := *x
			light.Machines = withoutConfigs(x.Machines)
			out = append(out, link.PointState{Seal: &light, Pinned: r.Pinned, PinnedUntil: r.PinnedUntil})
		}
	}
	return out, nil
}

// pinned tells whether a pin holds at now.
func pinned(r records.Point, now time.Time) bool {
	return r.Pinned && (r.PinnedUntil == nil || r.PinnedUntil.After(now))
}

// prune drops the points of an incoming group that its ladder lets go.
func (s *Service) prune(ctx context.Context, g *group) {
	recs, err := s.db.Points(ctx, g.rec.ID)
	if err != nil {
		s.log.Error("prune", "group", g.rec.Name, "err", err)
		return
	}
	s.mu.Lock()
	keep := g.promise().Keep
	in := g.rec.Direction == "in"
	s.mu.Unlock()
	now := s.clk.Now()
	var ps []ladder.Point
	for _, r := range recs {
		ps = append(ps, ladder.Point{ID: r.ID, Capture: r.CaptureAt, Pinned: pinned(r, now), InUse: s.store.InUse(r.ID)})
	}
	dropped := 0
	for _, v := range keep.Judge(ps, now) {
		if v.Keep || !in || len(keep) == 0 {
			continue
		}
		if err := s.dropPoint(ctx, v.Point.ID); err != nil {
			s.log.Error("prune", "group", g.rec.Name, "point", v.Point.ID, "err", err)
			continue
		}
		dropped++
	}
	s.mu.Lock()
	g.marks++
	if dropped > 0 {
		s.sweepDue = true
	}
	s.mu.Unlock()
	if err := s.countPoints(ctx, g); err != nil {
		s.log.Error("count points", "group", g.rec.Name, "err", err)
	}
}

func (s *Service) dropPoint(ctx context.Context, id string) error {
	if err := s.store.Drop(id); err != nil && !errors.Is(err, points.ErrNotFound) {
		return err
	}
	return s.db.DeletePoint(ctx, id)
}

func (s *Service) pruneAll(ctx context.Context) {
	s.mu.Lock()
	var in []*group
	for _, g := range s.groups {
		if g.rec.Direction == "in" {
			in = append(in, g)
		}
	}
	s.mu.Unlock()
	for _, g := range in {
		s.prune(ctx, g)
	}
}

// sweep gives room back after points were dropped.
func (s *Service) sweep(ctx context.Context) {
	s.mu.Lock()
	due := s.sweepDue
	s.sweepDue = false
	s.mu.Unlock()
	if !due {
		return
	}
	x, err := s.store.Sweep(ctx)
	if err != nil && ctx.Err() == nil {
		s.log.Warn("sweep", "err", err)
	} else if x.Packs > 0 {
		s.log.Info("swept the point store", "packs", x.Packs, "freedBytes", x.Freed)
	}
}

// Points lists the points of a group, or of all, newest first.
func (s *Service) Points(ctx context.Context, groupText string) ([]api.Point, error) {
	id := ""
	if groupText != "" {
		s.mu.Lock()
		g, err := s.findGroup(groupText)
		s.mu.Unlock()
		if err != nil {
			return nil, err
		}
		id = g.rec.ID
	}
	recs, err := s.db.Points(ctx, id)
	if err != nil {
		return nil, err
	}
	by := map[string][]records.Point{}
	for _, r := range recs {
		by[r.GroupID] = append(by[r.GroupID], r)
	}
	out := []api.Point{}
	for _, rs := range by {
		vs, err := s.pointViews(rs)
		if err != nil {
			return nil, err
		}
		out = append(out, vs...)
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].CaptureAt.After(out[j].CaptureAt) })
	return out, nil
}

// pointViews shows the points of one group.
func (s *Service) pointViews(recs []records.Point) ([]api.Point, error) {
	now := s.clk.Now()
	s.mu.Lock()
	g := s.groups[recs[0].GroupID]
	s.mu.Unlock()
	if g == nil {
		return nil, nil
	}
	s.mu.Lock()
	keep, name := g.promise().Keep, g.rec.Name
	s.mu.Unlock()
	rung := map[string]int{}
	var ps []ladder.Point
	for _, r := range recs {
		ps = append(ps, ladder.Point{ID: r.ID, Capture: r.CaptureAt, Pinned: pinned(r, now)})
	}
	newest := ""
	for i, v := range keep.Judge(ps, now) {
		rung[v.Point.ID] = v.Rung
		if i == 0 {
			newest = v.Point.ID
		}
	}
	var out []api.Point
	for _, r := range recs {
		var x points.Seal
		if err := json.Unmarshal(r.Seal, &x); err != nil {
			return nil, fmt.Errorf("point record %s: %w", r.ID, err)
		}
		v := api.Point{ID: r.ID, Number: x.Number, Group: r.GroupID, GroupName: name, CaptureAt: r.CaptureAt, SealedAt: x.SealedAt, Consistency: x.Consistency, Held: r.Held, Newest: r.ID == newest,
			Pinned: pinned(r, now), PinnedUntil: r.PinnedUntil, InUse: s.store.InUse(r.ID), Rung: rung[r.ID], LosesSeconds: max(0, seconds(now.Sub(r.CaptureAt))),
			UsedBytes: x.UsedBytes, ChangedBytes: x.ChangedBytes, ShippedBytes: x.ShippedBytes, Root: x.Root.String(), Checkpoint: x.Checkpoint, Machines: []api.PointMachine{}}
		for _, m := range x.Machines {
			pm := api.PointMachine{ID: m.ID, Name: m.Name, Disks: []api.PointDisk{}}
			for _, d := range m.Disks {
				pm.Disks = append(pm.Disks, api.PointDisk{Key: d.Key, SizeBytes: d.Size, Root: d.Root.String()})
			}
			v.Machines = append(v.Machines, pm)
		}
		out = append(out, v)
	}
	return out, nil
}

// pointRec resolves a point by ID.
func (s *Service) pointRec(ctx context.Context, id string) (records.Point, error) {
	r, err := s.db.Point(ctx, id)
	if errors.Is(err, records.ErrNotFound) {
		return r, problem.NotFound("point", id)
	}
	return r, err
}

// heldRec is pointRec for points of this site's own store.
func (s *Service) heldRec(ctx context.Context, id string) (records.Point, error) {
	r, err := s.pointRec(ctx, id)
	if err == nil && !r.Held {
		s.mu.Lock()
		site := "the recovery site"
		if g := s.groups[r.GroupID]; g != nil {
			site = g.rec.RecoveryName
		}
		s.mu.Unlock()
		return r, problem.Conflict("This point is held at %s. Do it there.", site)
	}
	return r, err
}

// Point gives one.
func (s *Service) Point(ctx context.Context, id string) (api.Point, error) {
	r, err := s.pointRec(ctx, id)
	if err != nil {
		return api.Point{}, err
	}
	all, err := s.Points(ctx, r.GroupID)
	for _, v := range all {
		if v.ID == r.ID {
			return v, nil
		}
	}
	return api.Point{}, errors.Join(err, problem.NotFound("point", id))
}

// PinPoint pins or unpins a point.
func (s *Service) PinPoint(ctx context.Context, who, id string, in api.PointPatch) (api.Point, error) {
	r, err := s.heldRec(ctx, id)
	if err != nil {
		return api.Point{}, err
	}
	if in.Until != nil && !in.Until.After(s.clk.Now()) {
		return api.Point{}, problem.Invalid("until", "The pin would end in the past; give a later time or none.")
	}
	if !in.Pinned {
		in.Until = nil
	}
	if err := s.db.PinPoint(ctx, r.ID, in.Pinned, in.Until); err != nil {
		return api.Point{}, err
	}
	v, err := s.Point(ctx, id)
	if err == nil {
		s.mu.Lock()
		if g := s.groups[r.GroupID]; g != nil {
			g.marks++
		}
		s.mu.Unlock()
		s.note(ctx, who, "point", v.GroupName, "%s %s point %d of %s", who, map[bool]string{true: "pinned", false: "unpinned"}[in.Pinned], v.Number, v.GroupName)
		s.hub.send(Event{Type: "point", ID: r.ID, Group: r.GroupID})
	}
	return v, err
}

// DeletePoint deletes a point on an administrator's word. The newest one of a
// living group, a pinned one and one in use stay.
func (s *Service) DeletePoint(ctx context.Context, who, id string) error {
	if _, err := s.heldRec(ctx, id); err != nil {
		return err
	}
	v, err := s.Point(ctx, id)
	if err != nil {
		return err
	}
	s.mu.Lock()
	g := s.groups[v.Group]
	ended := g == nil || g.rec.Direction == "ended"
	s.mu.Unlock()
	switch {
	case v.Newest && !ended:
		return problem.Conflict("This is the newest point of %s: without it, more would be lost. Delete the group if it is no longer wanted.", v.GroupName)
	case v.Pinned:
		return problem.Conflict("Point %d is pinned. Unpin it first.", v.Number)
	case v.InUse:
		return problem.Conflict("Point %d is being served or exported. Stop that first.", v.Number)
	}
	if err := s.dropPoint(ctx, id); err != nil {
		if errors.Is(err, points.ErrInUse) {
			return problem.Conflict("Point %d is being served or exported. Stop that first.", v.Number)
		}
		return err
	}
	s.note(ctx, who, "point", v.GroupName, "%s deleted point %d of %s, captured %s", who, v.Number, v.GroupName, v.CaptureAt.UTC().Format(time.RFC3339))
	s.mu.Lock()
	s.sweepDue = true
	if g != nil {
		g.marks++
	}
	s.mu.Unlock()
	s.hub.send(Event{Type: "point", ID: id, Group: v.Group})
	if g != nil {
		return s.countPoints(ctx, g)
	}
	return nil
}

// ExportPoint writes the disks of a point as raw files into a folder on this
// site's host.
func (s *Service) ExportPoint(ctx context.Context, who, id string, in api.ExportRequest) (api.Operation, error) {
	if _, err := s.heldRec(ctx, id); err != nil {
		return api.Operation{}, err
	}
	if !filepath.IsAbs(in.Directory) {
		return api.Operation{}, problem.Invalid("directory", "Give a whole path on the host of %s, such as /var/tmp/export.", s.site.Name)
	}
	x, release, err := s.store.Use(id)
	if err != nil {
		return api.Operation{}, problem.NotFound("point", id)
	}
	type job struct {
		path string
		disk points.SealDisk
	}
	var jobs []job
	var total int64
	wanted := map[string]bool{}
	if in.Machines != nil {
		for _, m := range *in.Machines {
			wanted[strings.ToLower(m)] = true
		}
	}
	some := len(wanted) > 0
	for _, m := range x.Machines {
		name, id := strings.ToLower(m.Name), strings.ToLower(m.ID)
		if some && !wanted[name] && !wanted[id] {
			continue
		}
		delete(wanted, name)
		delete(wanted, id)
		for _, d := range m.Disks {
			jobs = append(jobs, job{filepath.Join(in.Directory, fmt.Sprintf("%s.%s.raw", safeName(m.Name), safeName(d.Key))), d})
			total += d.Size
		}
	}
	err = nil
	for m := range wanted {
		err = problem.Invalid("machines", "Point %d of %s has no machine %q.", x.Number, x.Group.Name, m)
	}
	if err == nil {
		if mk := os.MkdirAll(in.Directory, 0o700); mk != nil {
			err = problem.Invalid("directory", "The folder cannot be made on the host of %s: %v", s.site.Name, mk)
		}
	}
	for _, j := range jobs {
		if _, st := os.Stat(j.path); err == nil && st == nil {
			err = problem.Invalid("directory", "%s exists already; choose an empty folder, nothing is overwritten.", j.path)
		}
	}
	if err != nil {
		release()
		return api.Operation{}, err
	}
	op, err := s.startOperation(ctx, who, "export", fmt.Sprintf("point %d of %s", x.Number, x.Group.Name), func(ctx context.Context, o *operation) (string, error) {
		defer release()
		var done int64
		for _, j := range jobs {
			if err := s.exportDisk(ctx, j.path, j.disk, func(n int64) { s.progress(o, done+n, total, "") }); err != nil {
				return "", err
			}
			done += j.disk.Size
			s.progress(o, done, total, "wrote "+j.path)
		}
		noun := "disks"
		if len(jobs) == 1 {
			noun = "disk"
		}
		return fmt.Sprintf("%d %s in %s, every block checked.", len(jobs), noun, in.Directory), nil
	})
	if err != nil {
		release()
	}
	return op, err
}

func safeName(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '-' || r == '_' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' {
			return r
		}
		return '_'
	}, s)
}

// exportDisk writes one disk as a sparse raw file, whole or not at all.
func (s *Service) exportDisk(ctx context.Context, path string, d points.SealDisk, progress func(int64)) (err error) {
	part := path + ".part"
	f, err := os.OpenFile(part, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("export: %w", err)
	}
	defer func() {
		if err != nil {
			_ = f.Close()
			_ = os.Remove(part)
		}
	}()
	if err := f.Truncate(d.Size); err != nil {
		return fmt.Errorf("export: %w", err)
	}
	r := s.store.Disk(d.Root, d.Size)
	buf := make([]byte, 4<<20)
	for off := int64(0); off < d.Size; {
		if err := ctx.Err(); err != nil {
			return err
		}
		ext, err := r.Extents(off, min(int64(len(buf)), d.Size-off))
		if err != nil {
			return fmt.Errorf("export %s: %w", path, err)
		}
		for _, e := range ext {
			if !e.Zero {
				if _, err := r.ReadAt(buf[:e.Length], off); err != nil && !errors.Is(err, io.EOF) {
					return fmt.Errorf("export %s: %w", path, err)
				}
				if _, err := f.WriteAt(buf[:e.Length], off); err != nil {
					return fmt.Errorf("export: %w", err)
				}
			}
			off += e.Length
		}
		progress(off)
	}
	if err := errors.Join(f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("export: %w", err)
	}
	return os.Rename(part, path)
}

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
			u := url.URL{Scheme: "nbd", Host: s.nbdL.Addr().(*net.TCPAddr).String(), Path: "/" + name}
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
