package simsite

import (
	"context"
	"fmt"
	"math/rand/v2"
	"sync"
	"time"

	"kestrel/internal/clock"
	"kestrel/internal/core/change"
	"kestrel/internal/core/exposure"
	"kestrel/internal/core/forecast"
	"kestrel/internal/core/pace"
	"kestrel/internal/core/schedule"
	"kestrel/internal/cycle"
	"kestrel/internal/directory"
	"kestrel/internal/foresight"
	"kestrel/internal/points"
)

// Compared is what was foretold of a group beside what came.
type Compared struct {
	Name                   string
	SeedFinish, CameSeeded time.Duration // since the beginning
	Worst, CameWorst       time.Duration
	Bytes, CameBytes       float64
	Within, CameWithin     float64
	Cycles, CameCycles     int
}

// Foretold runs a site on which nothing fails, over a link that is shared as the real one
// is, and holds what was foretold against what came: of first copies at the beginning, and
// of some hours after others that it was learned from.
func Foretold(seed uint64, groups int, rate int64, learn, ahead time.Duration) ([]Compared, error) {
	end, stop := context.WithCancel(context.Background())
	defer stop()
	w := newWorld(end, end, Plan{Seed: seed, Groups: groups})
	w.calm, w.road = true, newRoad(rate)
	if err := w.begin(); err != nil {
		return nil, err
	}
	var wg sync.WaitGroup
	wg.Go(w.beats)
	wg.Go(func() { w.recovery.Keeper.Run(end) })
	began := time.Now()
	seeds := w.foretell(rate, ahead)
	time.Sleep(learn + offGrid)
	from := time.Now()
	sent := w.road.sums()
	out := w.foretell(rate, ahead)
	time.Sleep(ahead)
	came := w.road.sums()
	w.mu.Lock()
	stopMover := w.stopMover
	w.mu.Unlock()
	stopMover()
	stop()
	wg.Wait()
	w.road.rest()
	var all []Compared
	for i, o := range out.Groups {
		c := Compared{Name: w.name(o.ID), Worst: o.Worst, Bytes: o.Bytes, Within: o.Within, Cycles: o.Cycles, CameBytes: float64(came[o.ID] - sent[o.ID]), SeedFinish: seeds.Groups[i].Seeded.Sub(began)}
		w.fill(&c, o.ID, began, from, from.Add(ahead))
		all = append(all, c)
	}
	for _, s := range []interface{ Close() error }{w.home.Store, w.recovery.Store} {
		if err := s.Close(); err != nil {
			return all, err
		}
	}
	return all, w.fault
}

func (w *world) name(id string) string {
	r, _ := w.home.Groups.Get(id)
	return r.Spec.Name
}

// fill enters what came.
func (w *world) fill(c *Compared, id string, began, from, to time.Time) {
	arrivals := w.arrived[id]
	if len(arrivals) == 0 {
		return
	}
	c.CameSeeded = arrivals[0].Sealed.Sub(began)
	for _, a := range arrivals {
		if a.Sealed.After(from) && !a.Sealed.After(to) {
			c.CameCycles++
		}
	}
	k := exposure.Judge(exposure.Sawtooth(arrivals, from, to), w.targets[id])
	c.CameWorst, c.CameWithin = k.Worst, k.Share()
}

// foretell asks what the service would: by what was measured, or assumed before there is
// anything to be measured.
func (w *world) foretell(rate int64, ahead time.Duration) forecast.Output {
	now := time.Now()
	in := forecast.Input{Now: now, For: ahead, Limits: schedule.Limits{Site: slots}, Links: []forecast.Link{{ID: wayID, Plan: pace.Plan{Rate: rate}}}}
	groups, _, m := w.rooms()
	for _, r := range groups.All() {
		x := m.Standing(r)
		g := forecast.Group{ID: r.ID, Name: r.Spec.Name, Link: wayID, Target: r.Spec.Promise.Target, Cadence: r.Spec.Promise.Cadence, Anchor: r.Anchor, Weight: r.Spec.Priority.Weight(), Last: x.Last, Captured: x.Captured, Length: x.Length, SeedBytes: w.seedBytes(r)}
		if foresight.Measure(&g, x.Cycles, x.Change); len(g.Change) == 0 {
			g.Change, g.Lead, g.Tail = change.Steady(w.changes(r)), simLead, simTail // as a survey would have it
		}
		foresight.Underway(&g, x, now)
		in.Groups = append(in.Groups, g)
	}
	return forecast.Run(in)
}

// seedBytes is what a group's first copy holds, and changes a second what it changes.
func (w *world) seedBytes(r directory.Record) int64 {
	if w.crowd != nil {
		return int64(w.changes(r) * 60) // it is not about first copies
	}
	return int64(float64(w.draw("seed", r.ID).IntN(900)+100) * 1e6)
}

func (w *world) changes(r directory.Record) float64 {
	return float64(w.draw("changes", r.ID).IntN(900)+100) * 10
}

// What a cycle takes besides copying.
const (
	simLead = 2 * time.Second
	simTail = 3 * time.Second
)

// carry is a cycle whose bytes cross the road.
func (w *world) carry(ctx context.Context, to cycle.Remote, clk clock.Clock, job cycle.Job, rec directory.Record, report func(cycle.Progress)) (*points.Seal, error) {
	if err := clock.Sleep(ctx, clk, simLead); err != nil {
		return nil, err
	}
	at := clk.Now().UTC()
	bytes := w.seedBytes(rec)
	w.mu.Lock()
	if before := w.arrived[rec.ID]; len(before) > 0 {
		r := w.road.jitter[rec.ID]
		if r == nil {
			r = w.draw("jitter", rec.ID)
			w.road.jitter[rec.ID] = r
		}
		jitter := 0.95 + 0.1*r.Float64() // machines do not change by the second as they do by the day
		bytes = int64(w.changes(rec) * jitter * at.Sub(before[len(before)-1].Capture).Seconds())
	}
	w.mu.Unlock()
	p := cycle.Progress{Kind: kindOf(job), Phase: "ship", CaptureAt: at, TotalBytes: bytes, ReadBytes: bytes, ChangedBytes: bytes, WireBytes: bytes, ShippedBytes: bytes, Phases: []cycle.Phase{{Name: "ship", From: at}}}
	p.ReadBytes, p.ChangedBytes, p.WireBytes, p.ShippedBytes = 0, 0, 0, 0
	report(p)
	err := w.road.cross(ctx, rec.ID, weightOf(to), bytes, func(n int64) {
		p.ReadBytes, p.ChangedBytes, p.WireBytes, p.ShippedBytes = p.ReadBytes+n, p.ChangedBytes+n, p.WireBytes+n, p.ShippedBytes+n
		report(p)
	})
	if err != nil {
		return nil, err
	}
	now := clk.Now().UTC()
	p.Phases[0].To = &now
	report(p)
	if err := clock.Sleep(ctx, clk, simTail); err != nil {
		return nil, err
	}
	m := rec.Spec.Machines[0]
	opened, err := to.Open(ctx, cycle.OpenRequest{ID: job.ID, Group: job.Group, BasePoint: job.BasePoint, Disks: []cycle.OpenRequestDisk{{Machine: m.ID, Key: "d", Size: m.SizeBytes(), UseBase: job.BasePoint != ""}}})
	if err != nil || opened.Sealed != nil {
		return opened.Sealed, err
	}
	seal, err := to.Seal(ctx, opened.Intake, points.Seal{CaptureAt: at, Consistency: "crash", Checkpoint: job.Checkpoint, Machines: []points.SealMachine{{ID: m.ID, Name: m.Name, Disks: []points.SealDisk{{Key: "d", Size: m.SizeBytes()}}}}})
	if err != nil {
		return nil, fmt.Errorf("seal: %w", err)
	}
	w.mu.Lock()
	w.arrived[rec.ID] = append(w.arrived[rec.ID], exposure.Arrival{Capture: seal.CaptureAt, Sealed: seal.SealedAt})
	w.mu.Unlock()
	return seal, nil
}

// weightOf is the share of the road that a cycle was given.
func weightOf(to cycle.Remote) float64 {
	if f, ok := to.(far); ok {
		return f.weight
	}
	return 1
}

// road is a link that is shared by the queue of the real one.
type road struct {
	rate int64

	mu    sync.Mutex
	queue pace.Queue
	turn  map[*pace.Piece]chan struct{}
	busy  bool
	sent  map[string]int64

	jitter map[string]*rand.Rand // by group; the world's lock is held
}

func newRoad(rate int64) *road {
	return &road{rate: rate, turn: map[*pace.Piece]chan struct{}{}, jitter: map[string]*rand.Rand{}}
}

// pieceTime is how long a piece takes: much more than the real ones, which makes no
// difference over minutes.
const pieceTime = time.Second

func (r *road) cross(ctx context.Context, flow string, weight float64, bytes int64, crossed func(n int64)) error {
	piece := int64(float64(r.rate) * pieceTime.Seconds())
	for bytes > 0 {
		n := min(piece, bytes)
		bytes -= n
		turn := make(chan struct{})
		r.mu.Lock()
		r.turn[r.queue.Add(flow, weight, n)] = turn
		if !r.busy {
			r.busy = true
			go r.serve()
		}
		r.mu.Unlock()
		select {
		case <-turn:
		case <-ctx.Done():
			return ctx.Err()
		}
		r.mu.Lock()
		if r.sent == nil {
			r.sent = map[string]int64{}
		}
		r.sent[flow] += n
		r.mu.Unlock()
		crossed(n)
	}
	return nil
}

func (r *road) serve() {
	for {
		r.mu.Lock()
		p, nap := r.queue.Next(time.Now(), r.rate)
		if p == nil && nap == 0 {
			r.busy = false
			r.mu.Unlock()
			return
		}
		var turn chan struct{}
		if p != nil {
			turn = r.turn[p]
			delete(r.turn, p)
		}
		r.mu.Unlock()
		if p != nil {
			close(turn)
			continue
		}
		time.Sleep(nap)
	}
}

// rest waits until nothing is on the road.
func (r *road) rest() {
	for {
		r.mu.Lock()
		busy := r.busy
		r.mu.Unlock()
		if !busy {
			return
		}
		time.Sleep(pieceTime)
	}
}

// sums is what each flow has sent.
func (r *road) sums() map[string]int64 {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := map[string]int64{}
	for k, n := range r.sent {
		out[k] = n
	}
	return out
}
