package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/qcow2"
)

const (
	keepCopies    = 14 * 24 * time.Hour
	keepCopiesMax = 365 * 24 * time.Hour
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
func openImage(path string) (image, io.Closer, error) {
	st, err := os.Stat(path)
	if err != nil {
		return nil, nil, err
	}
	if !st.Mode().IsRegular() {
		return nil, nil, errors.New("it is not a file")
	}
	f, err := os.Open(path)
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

// CarryCopy takes an image that was carried over by hand into this site's store,
// so that a first copy ships only what differs from it.
func (s *Service) CarryCopy(ctx context.Context, who string, in api.NewCopy) (api.Operation, error) {
	if !filepath.IsAbs(in.Path) {
		return api.Operation{}, problem.Invalid("path", "Give a whole path on the host of %s, such as /mnt/disk/tick-db.qcow2.", s.site.Name)
	}
	keep := keepCopies
	if in.KeepSeconds != nil {
		if *in.KeepSeconds < 60 || *in.KeepSeconds > int64(keepCopiesMax/time.Second) {
			return api.Operation{}, problem.Invalid("keepSeconds", "Keep a copy for a minute to a year; 14 days if left out.")
		}
		keep = time.Duration(*in.KeepSeconds) * time.Second
	}
	if err := s.store.Room(); err != nil {
		return api.Operation{}, problem.Conflict("There is no room for it: %v.", err)
	}
	im, file, err := openImage(in.Path)
	if err != nil {
		return api.Operation{}, problem.Invalid("path", "%s cannot be read as a raw or qcow2 image on the host of %s: %v.", in.Path, s.site.Name, err)
	}
	name := filepath.Base(in.Path)
	op, err := s.startOperation(ctx, who, "copy", name, func(ctx context.Context, o *operation) (string, error) {
		defer func() { _ = file.Close() }()
		before := s.store.Usage().PackBytes
		c, err := s.store.Carry(ctx, name, im, im.Size(), s.clk.Now().Add(keep), func(done int64) { s.progress(o, done, im.Size(), "") })
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("%s of it are in the store, %s of them new; kept until %s.", bytesText(float64(c.Used)), bytesText(float64(max(0, s.store.Usage().PackBytes-before))), c.Until.Format("2006-01-02 15:04 MST")), nil
	})
	if err != nil {
		return op, errors.Join(err, file.Close())
	}
	return op, nil
}

// Copies lists the copies that were carried over.
func (s *Service) Copies() []api.Copy {
	out := []api.Copy{}
	for _, c := range s.store.CarriedCopies() {
		out = append(out, api.Copy{ID: c.ID, Name: c.Name, SizeBytes: c.Size, UsedBytes: c.Used, AddedAt: c.Added, KeptUntil: c.Until})
	}
	return out
}

// DeleteCopy gives a copy up; what points share with it stays.
func (s *Service) DeleteCopy(ctx context.Context, who, id string) error {
	for _, c := range s.store.CarriedCopies() {
		if c.ID != id {
			continue
		}
		if err := s.store.Drop(id); err != nil {
			return err
		}
		s.mu.Lock()
		s.sweepDue = true
		s.mu.Unlock()
		s.note(ctx, who, "store", c.Name, "%s gave up the copy %s", who, c.Name)
		return nil
	}
	return problem.NotFound("copy", id)
}

// forgetCopies gives up those whose time is over.
func (s *Service) forgetCopies() {
	n, err := s.store.ForgetCarried(s.clk.Now())
	if err != nil && !errors.Is(err, points.ErrInUse) {
		s.log.Error("forget copies", "err", err)
	}
	if n > 0 {
		s.mu.Lock()
		s.sweepDue = true
		s.mu.Unlock()
	}
}
