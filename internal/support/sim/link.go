package sim

import (
	"context"
	"errors"
	"math/rand/v2"

	"kestrel/internal/cycle"
	"kestrel/internal/points"
)

var errCut = errors.New("the link was cut")

// wire is a link to the store that fails before, after or in the middle of a
// request, repeats requests, and brings some to the other side late.
type wire struct {
	rng   *rand.Rand
	store func() *points.Store
	one   int // in so many requests something goes wrong; 0: never
	// late are requests that were given up here and arrive there all the same.
	late []func()
}

func (w *wire) call(work func() error) error {
	if len(w.late) > 0 && w.rng.IntN(3) == 0 {
		w.late[0]()
		w.late = w.late[1:]
	}
	if w.one == 0 || w.rng.IntN(w.one) > 0 {
		return work()
	}
	switch w.rng.IntN(4) {
	case 0: // lost on the way
	case 1: // the answer is lost
		_ = work()
	case 2: // sent twice
		_ = work()
		return work()
	case 3:
		w.late = append(w.late, func() { _ = work() })
	}
	return errCut
}

func (w *wire) at() cycle.At { return cycle.At{Store: w.store()} }

func (w *wire) Open(ctx context.Context, r cycle.OpenRequest) (out cycle.Opened, err error) {
	err = w.call(func() (err error) {
		out, err = w.at().Open(ctx, r)
		return err
	})
	return out, err
}

func (w *wire) Missing(ctx context.Context, intake string, names []points.Name) (out []bool, err error) {
	err = w.call(func() (err error) {
		out, err = w.at().Missing(ctx, intake, names)
		return err
	})
	return out, err
}

func (w *wire) Ship(ctx context.Context, intake string, blocks []cycle.Block, entries []points.Entry) (sent cycle.Sent, err error) {
	var copied []cycle.Block // the sender uses its room again
	for _, b := range blocks {
		b.Stored = append([]byte(nil), b.Stored...)
		copied = append(copied, b)
	}
	if w.one > 0 && w.rng.IntN(w.one) == 0 {
		// Cut in the middle of the body.
		copied = copied[:w.rng.IntN(len(copied)+1)]
		err = w.call(func() error {
			_, err := w.at().Ship(ctx, intake, copied, nil)
			return err
		})
		return sent, errors.Join(errCut, err)
	}
	err = w.call(func() error {
		_, err := w.at().Ship(ctx, intake, copied, entries)
		sent.Blocks = len(copied)
		return err
	})
	return sent, err
}

func (w *wire) Seal(ctx context.Context, intake string, x points.Seal) (out *points.Seal, err error) {
	err = w.call(func() (err error) {
		out, err = w.at().Seal(ctx, intake, x)
		return err
	})
	return out, err
}
