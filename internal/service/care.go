package service

import (
	"context"
	"fmt"
	"iter"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/span"
	"kestrel/internal/points"
	"kestrel/internal/problem"
)

// runWish is what a recovery site says when it asks for a cycle.
type runWish struct {
	Compare bool `json:"compare"`
}

// checkCompare reads after what time a group is compared.
func checkCompare(in *int64, before int64) (int64, []problem.Field) {
	if in == nil {
		return before, nil
	}
	if *in != 0 && *in < 3600 || *in > 10*365*86400 {
		return before, []problem.Field{{Field: "compareEverySeconds", Message: "Comparing reads all of the disks: give an hour or more, such as 30d, or 0 for only when asked."}}
	}
	return *in, nil
}

// compareDue tells whether the next cycle is to read all of the disks; the
// service's lock is held.
func (g *group) compareDue(now time.Time) bool {
	if g.set.CompareEvery == 0 {
		return false
	}
	last := g.rec.CreatedAt
	if g.rec.ComparedAt != nil {
		last = *g.rec.ComparedAt
	}
	return now.Sub(last) >= time.Duration(g.set.CompareEvery)*time.Second
}

// damage sums up what a group's points have lost.
type damage struct {
	points int
	lost   int64 // bytes that home does not have any more
}

// hope says what becomes of it.
func (d damage) hope(home string) string {
	if d.lost == 0 {
		return home + " is asked for the bad blocks with the next cycle."
	}
	return fmt.Sprintf("%s of bad blocks are not at %s any more. Other points are not affected.", bytesText(float64(d.lost)), home)
}

// hurt sums up the losses of a group's points in this site's store.
func (s *Service) hurt(group string) damage {
	lost, tried := s.store.Lost()
	if len(lost) == 0 {
		return damage{}
	}
	of := map[string]bool{}
	for _, x := range s.store.Points(group) {
		of[x.Point] = true
	}
	s.mu.Lock()
	g := s.groups[group]
	ended := g == nil || g.rec.Direction == "ended"
	s.mu.Unlock()
	var d damage
	seen := map[string]bool{}
	for _, l := range lost {
		if !of[l.Point] {
			continue
		}
		if !seen[l.Point] {
			seen[l.Point] = true
			d.points++
		}
		if ended || tried(l) {
			d.lost += l.Count * points.BlockSize
		}
	}
	return d
}

// lostByPoint gives the bytes that points have lost.
func (s *Service) lostByPoint() map[string]int64 {
	lost, _ := s.store.Lost()
	out := map[string]int64{}
	for _, l := range lost {
		out[l.Point] += l.Count * points.BlockSize
	}
	return out
}

// lostByMachine gives, for the machines of a point that have lost some, the bytes
// of their disks that cannot be read.
func (s *Service) lostByMachine(x *points.Seal) iter.Seq2[points.SealMachine, int64] {
	lost, _ := s.store.Lost()
	return func(yield func(points.SealMachine, int64) bool) {
		for _, m := range x.Machines {
			var sum int64
			for _, l := range lost {
				if l.Point == x.Point && l.Machine == m.ID {
					sum += l.Count * points.BlockSize
				}
			}
			if sum > 0 && !yield(m, sum) {
				return
			}
		}
	}
}

// noteDamage finds out what points lose by what was found bad, or have again,
// and tells of it.
func (s *Service) noteDamage(ctx context.Context) {
	if s.store.LostDue() {
		if _, err := s.store.FindLost(ctx); err != nil {
			s.log.Error("find what points have lost", "err", err)
			return
		}
	}
	s.mu.Lock()
	before := map[string]damage{}
	for id, g := range s.groups {
		if g.rec.Direction != "out" {
			before[id] = g.lost
		}
	}
	s.mu.Unlock()
	for id, was := range before {
		now := s.hurt(id)
		if now == was {
			continue
		}
		s.mu.Lock()
		g := s.groups[id]
		if g == nil {
			s.mu.Unlock()
			continue
		}
		g.lost = now
		g.marks++
		name, home := g.rec.Name, g.rec.HomeName
		s.mu.Unlock()
		switch {
		case now.points == 0:
			s.note(ctx, "kestrel", "point", name, "%s: what its points had lost was fetched again from %s", name, home)
		case now.points > was.points || now.lost > was.lost:
			s.log.Warn("points cannot be read whole", "group", name, "points", now.points, "lostBytes", now.lost)
			s.note(ctx, "kestrel", "point", name, "%s: points that cannot be read whole: %d. %s", name, now.points, now.hope(home))
		}
		s.changed(g)
	}
}

// scrub verifies the whole store again and again, each time within the time
// set, as evenly as may be.
func (s *Service) scrub(ctx context.Context) {
	s.noteDamage(ctx) // of earlier runs
	const look = time.Minute
	for {
		st := s.store.Scrub()
		due := s.cfg.ScrubEvery > 0 && (st.Began.IsZero() || st.Ended.IsZero() || s.clk.Now().Sub(st.Began) >= s.cfg.ScrubEvery)
		if due {
			if err := s.store.ScrubOn(ctx, s.scrubPace); err != nil && ctx.Err() == nil {
				s.log.Error("verify the point store", "err", err)
			} else if err == nil {
				st := s.store.Scrub()
				s.log.Info("verified the point store", "bytes", st.Done, "bad", st.Bad, "took", span.Format(st.Ended.Sub(st.Began)))
				if st.Bad > 0 {
					s.note(ctx, "kestrel", "store", s.site.Name, "The pass over the point store found %d bad records", st.Bad)
				}
			}
		}
		if due || s.store.LostDue() {
			s.noteDamage(ctx)
		}
		select {
		case <-ctx.Done():
			return
		case <-s.clk.After(look):
		}
	}
}

// scrubPace waits as long as these bytes may take: the pass is to end in four
// fifths of the time set, but need not be slower than 8 MiB/s.
func (s *Service) scrubPace(ctx context.Context, bytes int64) error {
	st := s.store.Scrub()
	left := s.cfg.ScrubEvery * 4 / 5
	if !st.Began.IsZero() && st.Ended.IsZero() {
		left -= s.clk.Now().Sub(st.Began)
	}
	todo := max(s.store.Usage().PackBytes-st.Done, bytes)
	rate := max(float64(todo)/max(left.Seconds(), 1), 8<<20)
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-s.clk.After(time.Duration(float64(bytes) / rate * float64(time.Second))):
		return nil
	}
}

func (s *Service) scrubView() api.Scrub {
	st := s.store.Scrub()
	v := api.Scrub{EverySeconds: max(0, seconds(s.cfg.ScrubEvery)), Running: !st.Began.IsZero() && st.Ended.IsZero(), BeganAt: orNil(st.Began), EndedAt: orNil(st.Last()), DoneBytes: st.Done, BadRecords: st.Bad}
	return v
}

// Losses lists what points of this site's store cannot be read.
func (s *Service) Losses() []api.Loss {
	lost, tried := s.store.Lost()
	out := []api.Loss{}
	for _, l := range lost {
		x, err := s.store.Point(l.Point)
		if err != nil {
			continue // dropped since
		}
		v := api.Loss{Point: l.Point, PointNumber: x.Number, Group: x.Group.ID, GroupName: x.Group.Name, CaptureAt: x.CaptureAt, Machine: l.Machine, Disk: l.Disk,
			OffsetBytes: l.Index * points.BlockSize, LengthBytes: l.Count * points.BlockSize, State: "awaited"}
		for _, m := range x.Machines {
			if m.ID == l.Machine {
				v.Machine = m.Name
			}
		}
		s.mu.Lock()
		g := s.groups[x.Group.ID]
		ended := g == nil || g.rec.Direction == "ended"
		s.mu.Unlock()
		if ended || tried(l) {
			v.State = "lost"
		}
		out = append(out, v)
	}
	return out
}
