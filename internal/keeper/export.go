package keeper

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"kestrel/internal/api"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/words"
	"kestrel/internal/operation"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/qcow2"
)

// Formats of exported disks.
const (
	formatRaw   = "raw"
	formatQcow2 = "qcow2"
)

// exportInput is what an export is asked for with, as it is stored.
type exportInput struct {
	Point     string       `json:"point"`
	Directory string       `json:"directory"`
	Format    string       `json:"format"`
	Files     []exportFile `json:"files"`
}

type exportFile struct {
	Path    string `json:"path"`
	Machine string `json:"machine"` // ID
	Disk    string `json:"disk"`
}

// Export writes the disks of a point as files into a folder on this site's host. It
// goes on after a restart with the disks that are not written yet.
func (k *Keeper) Export(ctx context.Context, who actor.Actor, id string, in api.ExportRequest) (api.Operation, error) {
	if _, err := k.Mine(ctx, id); err != nil {
		return api.Operation{}, err
	}
	if !filepath.IsAbs(in.Directory) {
		return api.Operation{}, problem.Invalid("directory", "Give a whole path on the host of %s, such as /var/tmp/export.", k.Site)
	}
	job := exportInput{Point: id, Directory: in.Directory, Format: formatRaw}
	if in.Format != nil && *in.Format != "" {
		job.Format = *in.Format
	}
	if job.Format != formatRaw && job.Format != formatQcow2 {
		return api.Operation{}, problem.Invalid("format", "%q is not known: choose raw or qcow2.", job.Format)
	}
	x, _, release, err := k.Use(id)
	if err != nil {
		return api.Operation{}, problem.NotFound("point", id)
	}
	defer release()
	machines, faults := Choose(x, in.Machines)
	if len(faults) > 0 {
		return api.Operation{}, problem.InvalidFields(faults...)
	}
	for _, m := range machines {
		for _, d := range m.Disks {
			job.Files = append(job.Files, exportFile{filepath.Join(in.Directory, fmt.Sprintf("%s.%s.%s", SafeName(m.Name), SafeName(d.Key), job.Format)), m.ID, d.Key})
		}
	}
	root, dir, err := k.Exports.Find(in.Directory)
	if err != nil {
		return api.Operation{}, problem.Invalid("directory", "Points of %s are not exported to %s: %v.", k.Site, in.Directory, err)
	}
	defer func() { _ = root.Close() }()
	for _, f := range job.Files {
		if _, err := root.Stat(filepath.Join(dir, filepath.Base(f.Path))); err == nil {
			return api.Operation{}, problem.Invalid("directory", "%s exists already; choose an empty folder, nothing is overwritten.", f.Path)
		}
	}
	if err := root.MkdirAll(dir, 0o700); err != nil {
		return api.Operation{}, problem.Invalid("directory", "The folder cannot be made on the host of %s: %v", k.Site, err)
	}
	return k.Operations.Start(ctx, who, kindExport, fmt.Sprintf("point %d of %s", x.Number, x.Group.Name), job)
}

// Choose picks machines of a point by name or ID; all if none is named.
func Choose(x *points.Seal, wish *[]string) ([]points.SealMachine, []problem.Field) {
	if wish == nil || len(*wish) == 0 {
		return x.Machines, nil
	}
	var out []points.SealMachine
	var faults []problem.Field
	taken := map[string]bool{}
	for n, text := range *wish {
		found := false
		for _, m := range x.Machines {
			if m.ID != text && !strings.EqualFold(m.Name, text) {
				continue
			}
			found = true
			if !taken[m.ID] {
				taken[m.ID] = true
				out = append(out, m)
			}
			break
		}
		if !found {
			faults = append(faults, problem.Field{Field: fmt.Sprintf("machines[%d]", n), Message: fmt.Sprintf("Point %d of %s has no machine %q.", x.Number, x.Group.Name, text)})
		}
	}
	return out, faults
}

func (k *Keeper) runExport(ctx context.Context, w *operation.Work) (string, error) {
	var in exportInput
	if err := w.Input(&in); err != nil {
		return "", err
	}
	x, from, release, err := k.Use(in.Point)
	if err != nil {
		return "", fmt.Errorf("the point is gone: %w", err)
	}
	defer release()
	var done, total int64
	disks := make([]points.SealDisk, len(in.Files))
	for i, f := range in.Files {
		d, ok := x.Disk(f.Machine, f.Disk)
		if !ok {
			return "", fmt.Errorf("the point has no disk %s of %s", f.Disk, f.Machine)
		}
		disks[i] = d
		total += d.Size
	}
	for i, f := range in.Files {
		err := w.Step(ctx, "wrote "+f.Path, func(ctx context.Context) error {
			root, rel, err := k.Exports.Find(f.Path)
			if err != nil {
				return fmt.Errorf("export to %s: %w", f.Path, err)
			}
			defer func() { _ = root.Close() }()
			// What an attempt that was cut off has written of it.
			if err := root.Remove(rel + partSuffix); err != nil && !errors.Is(err, os.ErrNotExist) {
				return err
			}
			if err := k.exportDisk(ctx, from.Disk(disks[i].Root, disks[i].Size), root, rel, in.Format, func(n int64) { w.Progress(done+n, total) }); err != nil {
				return err
			}
			w.Log("wrote %s", f.Path)
			return nil
		})
		if err != nil {
			return "", err
		}
		done += disks[i].Size
		w.Progress(done, total)
	}
	return fmt.Sprintf("%s in %s, every block checked.", words.Count(len(in.Files), "disk"), in.Directory), nil
}

// partSuffix marks a file that is not whole yet.
const partSuffix = ".part"

// SafeName makes a name fit for files and exports.
func SafeName(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '-' || r == '_' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' {
			return r
		}
		return '_'
	}, s)
}

// roomFor refuses writing where it would take the room that arriving cycles need.
func (k *Keeper) roomFor(f *os.File) error {
	st, err := f.Stat()
	if err != nil {
		return fmt.Errorf("export: %w", err)
	}
	own, err := os.Stat(k.Store.Dir())
	if err != nil {
		return nil // the store is on no disk of this host
	}
	a, ok := st.Sys().(*syscall.Stat_t)
	b, same := own.Sys().(*syscall.Stat_t)
	if !ok || !same || a.Dev != b.Dev {
		return nil
	}
	if err := k.Store.Room(); err != nil {
		return fmt.Errorf("export beside the point store: %w", err)
	}
	return nil
}

// exportDisk writes one disk as a file without its zero areas, whole or not at
// all.
func (k *Keeper) exportDisk(ctx context.Context, r *points.DiskReader, root *os.Root, path, format string, progress func(int64)) (err error) {
	part := path + partSuffix
	f, err := root.OpenFile(part, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("export: %w", err)
	}
	defer func() {
		if err != nil {
			_ = f.Close()
			_ = root.Remove(part)
		}
	}()
	var to io.WriterAt = f
	finish := func() error { return f.Truncate(r.Size()) }
	if format == formatQcow2 {
		w, err := qcow2.NewWriter(f, r.Size())
		if err != nil {
			return fmt.Errorf("export: %w", err)
		}
		to, finish = w, w.Finish
	}
	buf := make([]byte, 4<<20)
	for off := int64(0); off < r.Size(); {
		if err := errors.Join(ctx.Err(), k.roomFor(f)); err != nil {
			return err
		}
		ext, err := r.Extents(off, min(int64(len(buf)), r.Size()-off))
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
	return root.Rename(part, path)
}
