package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"kestrel/internal/api"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/qcow2"
)

// Formats of exported disks.
const (
	formatRaw   = "raw"
	formatQcow2 = "qcow2"
)

// ExportPoint writes the disks of a point as files into a folder on this site's
// host.
func (s *Service) ExportPoint(ctx context.Context, who, id string, in api.ExportRequest) (api.Operation, error) {
	if _, err := s.heldRec(ctx, id); err != nil {
		return api.Operation{}, err
	}
	if !filepath.IsAbs(in.Directory) {
		return api.Operation{}, problem.Invalid("directory", "Give a whole path on the host of %s, such as /var/tmp/export.", s.site.Name)
	}
	format := formatRaw
	if in.Format != nil && *in.Format != "" {
		format = *in.Format
	}
	if format != formatRaw && format != formatQcow2 {
		return api.Operation{}, problem.Invalid("format", "%q is not known: choose raw or qcow2.", format)
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
			jobs = append(jobs, job{filepath.Join(in.Directory, fmt.Sprintf("%s.%s.%s", safeName(m.Name), safeName(d.Key), format)), d})
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
			if err := s.exportDisk(ctx, j.path, format, j.disk, func(n int64) { s.progress(o, done+n, total, "") }); err != nil {
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

// exportDisk writes one disk as a file without its zero areas, whole or not at
// all.
func (s *Service) exportDisk(ctx context.Context, path, format string, d points.SealDisk, progress func(int64)) (err error) {
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
	var to io.WriterAt = f
	finish := func() error { return f.Truncate(d.Size) }
	if format == formatQcow2 {
		w, err := qcow2.NewWriter(f, d.Size)
		if err != nil {
			return fmt.Errorf("export: %w", err)
		}
		to, finish = w, w.Finish
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
				if _, err := to.WriteAt(buf[:e.Length], off); err != nil {
					return fmt.Errorf("export: %w", err)
				}
			}
			off += e.Length
		}
		progress(off)
	}
	if err := finish(); err != nil {
		return fmt.Errorf("export: %w", err)
	}
	if err := errors.Join(f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("export: %w", err)
	}
	return os.Rename(part, path)
}
