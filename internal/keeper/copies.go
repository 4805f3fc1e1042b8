package keeper

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/audit"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/span"
	"kestrel/internal/cycle"
	"kestrel/internal/operation"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/qcow2"
)

const (
	keepCopies    = 14 * span.Day
	keepCopiesMax = 365 * span.Day
)

// image is a disk image open for reading.
type image interface {
	io.ReaderAt
	Size() int64
}

type rawImage struct {
	*os.File
	size int64
}

func (r rawImage) Size() int64 { return r.size }

// openImage opens a raw or qcow2 image; which one it is shows by itself.
func (k *Keeper) openImage(path string) (image, io.Closer, error) {
	root, rel, err := k.Carried.Find(path)
	if err != nil {
		return nil, nil, err
	}
	defer func() { _ = root.Close() }()
	st, err := root.Stat(rel)
	if err != nil {
		return nil, nil, err
	}
	if !st.Mode().IsRegular() {
		return nil, nil, errors.New("it is not a file")
	}
	f, err := root.Open(rel)
	if err != nil {
		return nil, nil, err
	}
	if !qcow2.Is(f) {
		if st.Size() == 0 {
			return nil, nil, errors.Join(errors.New("it is empty"), f.Close())
		}
		return rawImage{f, st.Size()}, f, nil
	}
	im, err := qcow2.Open(f)
	if err != nil {
		return nil, nil, errors.Join(err, f.Close())
	}
	return im, f, nil
}

// copyInput is what a copy is asked for with, as it is stored.
type copyInput struct {
	Path  string    `json:"path"`
	Until time.Time `json:"until"`
}

// CarryCopy takes an image that was carried over by hand into this site's store, so
// that a first copy ships only what differs from it.
func (k *Keeper) CarryCopy(ctx context.Context, who actor.Actor, in api.NewCopy) (api.Operation, error) {
	if !filepath.IsAbs(in.Path) {
		return api.Operation{}, problem.Invalid("path", "Give a whole path on the host of %s, such as /mnt/disk/tick-db.qcow2.", k.Site)
	}
	keep := keepCopies
	if in.KeepSeconds != nil {
		if *in.KeepSeconds < 60 || *in.KeepSeconds > int64(keepCopiesMax/time.Second) {
			return api.Operation{}, problem.Invalid("keepSeconds", "Keep a copy for a minute to a year; 14 days if left out.")
		}
		keep = span.Times(*in.KeepSeconds, time.Second)
	}
	if err := k.Store.Room(); err != nil {
		return api.Operation{}, problem.Conflict("There is no room for it: %v.", err)
	}
	_, file, err := k.openImage(in.Path)
	if err != nil {
		return api.Operation{}, problem.Invalid("path", "%s cannot be read as a raw or qcow2 image on the host of %s: %v.", in.Path, k.Site, err)
	}
	if err := file.Close(); err != nil {
		return api.Operation{}, err
	}
	return k.Operations.Start(ctx, who, kindCopy, filepath.Base(in.Path), copyInput{in.Path, k.Clock.Now().Add(keep).UTC()})
}

func (k *Keeper) runCopy(ctx context.Context, w *operation.Work) (string, error) {
	var in copyInput
	if err := w.Input(&in); err != nil {
		return "", err
	}
	im, file, err := k.openImage(in.Path)
	if err != nil {
		return "", err
	}
	defer func() { _ = file.Close() }()
	before := k.Store.Usage().PackBytes
	c, err := k.Store.Carry(ctx, filepath.Base(in.Path), im, im.Size(), in.Until, func(done int64) { w.Progress(done, im.Size()) })
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("%s of it are in the store, %s of them new; kept until %s.", span.Bytes(float64(c.Used)), span.Bytes(float64(max(0, k.Store.Usage().PackBytes-before))), c.Until.Format("2006-01-02 15:04 MST")), nil
}

// Carrier is this site's store for what is read here to be shared with what comes: it is kept
// as what was carried over is, beside what else is taken in.
func (k *Keeper) Carrier() cycle.Remote { return carrier{cycle.At{Store: k.Store}} }

type carrier struct{ cycle.At }

// Open implements cycle.Remote.
func (c carrier) Open(_ context.Context, r cycle.OpenRequest) (cycle.Opened, error) {
	spec := points.IntakeSpec{ID: r.ID, Group: r.Group}
	for _, d := range r.Disks {
		spec.Disks = append(spec.Disks, points.IntakeDisk{Machine: d.Machine, Key: d.Key, Size: d.Size})
	}
	for _, in := range c.Store.Intakes(r.Group.ID) {
		if in.ID != r.ID && in.Group.Name == r.Group.Name { // an earlier try's
			in.Abandon()
		}
	}
	in, sealed, err := c.Store.OpenIntake(spec)
	if err != nil || sealed != nil {
		return cycle.Opened{Sealed: sealed}, err
	}
	out := cycle.Opened{Intake: in.Handle()}
	for i := range in.Disks {
		out.Recorded = append(out.Recorded, in.Recorded(i))
	}
	return out, nil
}

// Copies lists the copies that were carried over.
func (k *Keeper) Copies() []api.Copy {
	out := []api.Copy{}
	for _, c := range k.Store.CarriedCopies() {
		out = append(out, api.Copy{ID: c.ID, Name: c.Name, SizeBytes: c.Size, UsedBytes: c.Used, AddedAt: c.Added, KeptUntil: c.Until})
	}
	return out
}

// DeleteCopy gives a copy up; what points share with it stays.
func (k *Keeper) DeleteCopy(ctx context.Context, who actor.Actor, id string) error {
	for _, c := range k.Store.CarriedCopies() {
		if c.ID != id {
			continue
		}
		if err := k.Store.Drop(id); err != nil {
			return err
		}
		k.mu.Lock()
		k.sweepDue = true
		k.mu.Unlock()
		k.wake()
		k.Trail.Note(ctx, who, audit.Object{Kind: "store", Name: c.Name, ID: id}, "%s gave up the copy %s", who, c.Name)
		return nil
	}
	return problem.NotFound("copy", id)
}

// forgetCopies gives up those whose time is over.
func (k *Keeper) forgetCopies() {
	n, err := k.Store.ForgetCarried(k.Clock.Now())
	if err != nil && !errors.Is(err, points.ErrInUse) {
		k.Log.Error("forget copies", "err", err)
	}
	if n > 0 {
		k.mu.Lock()
		k.sweepDue = true
		k.mu.Unlock()
	}
}
