package simsite

import (
	"cmp"
	"context"
	"fmt"
	"math/rand/v2"
	"sync"
	"time"

	"kestrel/internal/core/cadence"
	"kestrel/internal/core/exposure"
	"kestrel/internal/core/schedule"
)

// Orders in which cycles can begin.
const (
	ByTarget  = "by target"         // as the service does
	ByGrid    = "at fixed times"    // each when it falls due, however many run
	ByArrival = "first come, first" // in the order in which they fall due
)

// Crowd is many groups on one link, on which nothing fails.
type Crowd struct {
	Seed   uint64
	Groups int
	// Load is what changes as a share of what the link carries.
	Load  float64
	Order string
	// Learn is how long it runs before it is looked at, For how long it is looked at.
	Learn, For time.Duration
}

// Crowded runs one, and gives the share of the time of its groups that was within their
// targets, the most that any order could have kept by schedule.Bound, and how many cycles
// there were.
func Crowded(c Crowd) (kept, bound float64, cycles int, err error) {
	end, stop := context.WithCancel(context.Background())
	defer stop()
	w := newWorld(end, end, Plan{Seed: c.Seed, Groups: c.Groups})
	w.calm, w.crowd, w.road = true, &c, newRoad(1)
	if err := w.begin(); err != nil {
		return 0, 0, 0, err
	}
	var wg sync.WaitGroup
	wg.Go(w.beats)
	wg.Go(func() { w.recovery.Keeper.Run(end) })
	time.Sleep(c.Learn + offGrid)
	from := time.Now()
	time.Sleep(c.For)
	w.mu.Lock()
	stopMover := w.stopMover
	w.mu.Unlock()
	stopMover()
	stop()
	wg.Wait()
	w.road.rest()
	var facts []schedule.Facts
	var whole exposure.Kept
	for _, r := range w.home.Groups.All() {
		k := exposure.Judge(exposure.Sawtooth(w.arrived[r.ID], from, from.Add(c.For)), w.targets[r.ID])
		whole.Covered, whole.Over = whole.Covered+k.Covered, whole.Over+k.Over
		for _, a := range w.arrived[r.ID] {
			if a.Sealed.After(from) {
				cycles++
			}
		}
		// What never changes twice takes the same share of a link, however late it is copied.
		share := w.changes(r) / float64(w.road.rate)
		target := r.Spec.Promise.Target
		facts = append(facts, schedule.Facts{ID: r.ID, Target: target, Work: time.Duration(share * float64(target) / (1 + share))})
	}
	for _, s := range []interface{ Close() error }{w.home.Store, w.recovery.Store} {
		if err := s.Close(); err != nil {
			return 0, 0, 0, err
		}
	}
	return whole.Share(), schedule.Bound(facts), cycles, w.fault
}

// promises are tight ones and wide ones, of groups that are copied often and seldom.
func (Crowd) promises(r *rand.Rand) (time.Duration, cadence.Cadence) {
	every := []time.Duration{10 * time.Minute, 20 * time.Minute, time.Hour, 4 * time.Hour}[r.IntN(4)]
	return every * time.Duration([]int{120, 150, 300}[r.IntN(3)]) / 100, cadence.Cadence{Every: every}
}

// crowding decides in the order of a crowd.
func (w *world) crowding(now time.Time, fs []schedule.Facts, busy schedule.Load) schedule.Decision {
	if w.crowd.Order == ByTarget {
		return schedule.Decide(now, fs, busy)
	}
	for i := range fs {
		fs[i].Spilled, fs[i].Early = false, nil
	}
	whole := schedule.Decide(now, fs, schedule.Load{})
	for i := range whole.Start {
		whole.Start[i].Share = 1
	}
	if w.crowd.Order == ByGrid {
		return whole
	}
	since := map[string]time.Time{}
	for _, f := range fs {
		since[f.ID] = f.DueSince
	}
	return inOrder(whole, busy, func(a, b schedule.Start) int {
		return cmp.Or(since[a.ID].Compare(since[b.ID]), cmp.Compare(a.ID, b.ID))
	})
}

// String says what a crowd is.
func (c Crowd) String() string {
	return fmt.Sprintf("%d groups, load %.2f, %s", c.Groups, c.Load, c.Order)
}
