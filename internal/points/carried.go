package points

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"
)

// CarriedGroup is the group of copies that were carried over by hand. They are
// kept as points are, so that first copies find their blocks here.
const CarriedGroup = "00000000-0000-4000-8000-ca441ed00000"

// Carried is an image that was carried over by hand.
type Carried struct {
	ID    string
	Name  string // of the file
	Size  int64
	Used  int64 // bytes that are not zero
	Added time.Time
	Until time.Time
}

type carriedSettings struct {
	Until time.Time `json:"until"`
}

// CarriedAs is the group of a seal that is kept as what was carried over is, until an instant,
// under a name.
func CarriedAs(name string, until time.Time) SealGroup {
	settings, _ := json.Marshal(carriedSettings{until.UTC()}) // an instant always marshals
	return SealGroup{ID: CarriedGroup, Name: name, Settings: settings}
}

// carriedOver is the name of the group of an image that has a name of its own.
const carriedOver = "carried over"

// Carry takes an image into the store, where it is kept until an instant. Told
// is called with the bytes read so far.
func (s *Store) Carry(ctx context.Context, name string, image io.ReaderAt, size int64, until time.Time, told func(done int64)) (Carried, error) {
	in, _, err := s.OpenIntake(IntakeSpec{ID: uuid.NewString(), Group: CarriedAs(carriedOver, until),
		Disks: []IntakeDisk{{Machine: "image", Key: "image", Size: size}}})
	if err != nil {
		return Carried{}, fmt.Errorf("take in %s: %w", name, err)
	}
	const stretch = 64 // blocks, 4 MiB
	next := make(chan int64)
	read := make(chan int64, 16)
	g, gctx := errgroup.WithContext(ctx)
	g.Go(func() error {
		defer close(next)
		for at := int64(0); at < Blocks(size); at += stretch {
			select {
			case next <- at:
			case <-gctx.Done():
				return gctx.Err()
			}
		}
		return nil
	})
	var workers errgroup.Group
	used := make([]int64, 2)
	for w := range used {
		workers.Go(func() error {
			buf, encoded := make([]byte, stretch*BlockSize), make([]byte, 0, MaxEncoded)
			for at := range next {
				n := min(stretch, Blocks(size)-at)
				b := buf[:n*BlockSize]
				whole := min(int64(len(b)), size-at*BlockSize)
				if _, err := image.ReadAt(b[:whole], at*BlockSize); err != nil && !errors.Is(err, io.EOF) {
					return fmt.Errorf("read %s at %d: %w", name, at*BlockSize, err)
				}
				clear(b[whole:])
				n, err := in.carry(b, at, encoded)
				if err != nil {
					return err
				}
				used[w] += n
				read <- whole
			}
			return nil
		})
	}
	g.Go(func() error {
		defer close(read)
		return workers.Wait()
	})
	var done int64
	for n := range read {
		done += n
		told(done)
	}
	if err := g.Wait(); err != nil {
		in.Abandon()
		return Carried{}, err
	}
	now := s.now().UTC()
	x, err := in.Seal(Seal{CaptureAt: now, Consistency: "crash", UsedBytes: used[0] + used[1], Machines: []SealMachine{{ID: "image", Name: name, Disks: []SealDisk{{Key: "image"}}}}})
	if err != nil {
		in.Abandon()
		return Carried{}, err
	}
	return carried(x), nil
}

// carry takes in a stretch of blocks.
func (in *Intake) carry(b []byte, at int64, room []byte) (used int64, err error) {
	var names []Name
	var entries []Entry
	for i := int64(0); i*BlockSize < int64(len(b)); i++ {
		name := NameOf(b[i*BlockSize : (i+1)*BlockSize])
		names = append(names, name)
		if !name.IsZero() {
			entries = append(entries, Entry{Index: at + i, Count: 1, Name: name})
			used += BlockSize
		}
	}
	for i, missing := range in.Missing(names) {
		if !missing {
			continue
		}
		enc, stored := Encode(room, b[i*BlockSize:(i+1)*BlockSize], EncodingS2)
		if err := in.Put(names[i], enc, BlockSize, stored); err != nil {
			return 0, err
		}
	}
	return used, in.Record(entries)
}

func carried(x *Seal) Carried {
	var set carriedSettings
	_ = json.Unmarshal(x.Group.Settings, &set) // written above
	out := Carried{ID: x.Point, Name: x.Group.Name, Used: x.UsedBytes, Added: x.CaptureAt, Until: set.Until}
	for _, m := range x.Machines {
		if x.Group.Name == carriedOver {
			out.Name = m.Name
		}
		for _, d := range m.Disks {
			out.Size += d.Size
		}
	}
	return out
}

// CarriedCopies lists them, oldest first.
func (s *Store) CarriedCopies() []Carried {
	var out []Carried
	for _, x := range s.Points(CarriedGroup) {
		out = append(out, carried(x))
	}
	return out
}

// ForgetCarried drops those whose time is over.
func (s *Store) ForgetCarried(now time.Time) (int, error) {
	n := 0
	for _, c := range s.CarriedCopies() {
		if !now.Before(c.Until) {
			if err := s.Drop(c.ID); err != nil {
				return n, err
			}
			n++
		}
	}
	return n, nil
}
