// Package clock makes time a value: what needs the time is given a Clock, so
// that a test or a rehearsal can run hours in seconds.
package clock

import (
	"context"
	"sync"
	"time"
)

// Clock tells the time and wakes.
type Clock interface {
	Now() time.Time
	// After sends once when d has passed on this clock.
	After(d time.Duration) <-chan time.Time
}

// Wall is the wall clock.
type Wall struct{}

// Now implements Clock.
func (Wall) Now() time.Time { return time.Now() }

// After implements Clock.
func (Wall) After(d time.Duration) <-chan time.Time { return time.After(d) }

// Fast runs some times as fast as the wall clock, from a chosen instant.
type Fast struct {
	mu    sync.Mutex
	base  time.Time // on this clock
	at    time.Time // on the wall clock, when this one stood at base
	speed float64
	// changed is closed when the speed changes, so that waits count anew.
	changed chan struct{}
}

// NewFast begins a fast clock at origin.
func NewFast(origin time.Time, speed float64) *Fast {
	return &Fast{base: origin, at: time.Now(), speed: speed, changed: make(chan struct{})}
}

// Now implements Clock.
func (f *Fast) Now() time.Time {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.now()
}

func (f *Fast) now() time.Time {
	return f.base.Add(time.Duration(float64(time.Since(f.at)) * f.speed))
}

// SetSpeed changes the speed from now on.
func (f *Fast) SetSpeed(speed float64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.base, f.at, f.speed = f.now(), time.Now(), speed
	close(f.changed)
	f.changed = make(chan struct{})
}

// After implements Clock.
func (f *Fast) After(d time.Duration) <-chan time.Time {
	out := make(chan time.Time, 1)
	due := f.Now().Add(d)
	go func() {
		for {
			f.mu.Lock()
			left, speed, changed := due.Sub(f.now()), f.speed, f.changed
			f.mu.Unlock()
			if left <= 0 {
				out <- due
				return
			}
			select {
			case <-time.After(time.Duration(float64(left) / speed)):
			case <-changed:
			}
		}
	}()
	return out
}

// Sleep waits for d on c or until ctx ends, and then gives its error.
func Sleep(ctx context.Context, c Clock, d time.Duration) error {
	if d <= 0 {
		return ctx.Err()
	}
	select {
	case <-c.After(d):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
