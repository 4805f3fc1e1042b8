package bench

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/digitalocean/go-libvirt"

	"kestrel/internal/api"
	"kestrel/internal/support/realsite"
)

// real measures cycles and landings of real guests, and what the guests notice.
func real(ctx context.Context, o Options) (Result, error) {
	f := map[string]float64{}
	var totals []float64
	pair, err := realsite.StartPair(ctx)
	if err != nil {
		return Result{}, err
	}
	defer pair.Stop()
	err = with(ctx, o, nil, func(w *world) error {
		r := &realBench{world: w, Pair: pair, figures: f}
		for s, d := range map[*site]*realsite.Daemon{w.home: pair.Home, w.recovery: pair.Away} {
			if _, err := call[api.Platform](ctx, s, "POST", "/platforms", api.NewPlatform{Name: "quay", Kind: "libvirt", Address: d.URI}); err != nil {
				return err
			}
		}
		if totals, err = r.cycles(ctx, pick(o.Quick, 5, 15)); err != nil {
			return fmt.Errorf("cycles: %w", err)
		}
		if err := r.latency(ctx, pick(o.Quick, 10*time.Second, 20*time.Second)); err != nil {
			return fmt.Errorf("latency: %w", err)
		}
		if err := r.landings(ctx, pick(o.Quick, 1, 3)); err != nil {
			return fmt.Errorf("landings: %w", err)
		}
		return nil
	})
	return Result{Figures: f, Runs: len(totals), Raw: totals, RawUnit: "ms of an incremental cycle of two guests", Aim: "ratio_guest_p99 ≤ 1.3; ratio_start_by_size about 1"}, err
}

type realBench struct {
	*world
	*realsite.Pair
	figures map[string]float64
	group   string
}

func (r *realBench) add(ctx context.Context, g realsite.Guest) error {
	if err := r.Home.Add(ctx, r.Image, g); err != nil {
		return err
	}
	wait, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	_, err := r.Home.Await(wait, g.Name, "TX", 1, 0)
	return err
}

// protect makes a group, once the service has seen its machines.
func (r *realBench) protect(ctx context.Context, in api.NewGroup) (string, error) {
	in.Link, in.Promise = "recovery", &api.Promise{RpoTargetSeconds: 3600, Keep: []api.Rung{{ForSeconds: 3600}}}
	var g api.Group
	err := until(ctx, func() (bool, error) {
		if _, err := call[api.ConnectionTest](ctx, r.home, "POST", "/platforms/quay/test", nil); err != nil {
			return false, err
		}
		var err error
		g, err = call[api.Group](ctx, r.home, "POST", "/groups", in)
		return err == nil, nil
	})
	if err == nil {
		err = r.awaitCycle(ctx, g.ID, 1)
	}
	return g.ID, err
}

// cycles takes an incremental cycle of two guests apart.
func (r *realBench) cycles(ctx context.Context, n int) ([]float64, error) {
	for _, g := range []realsite.Guest{{Name: "boarding-db", Address: "10.77.3.11", Segment: "230.77.0.1:7413"}, {Name: "boarding-app", After: "boarding-db", Address: "10.77.3.12", Segment: "230.77.0.1:7413"}} {
		if err := r.add(ctx, g); err != nil {
			return nil, err
		}
	}
	var err error
	names := []string{"boarding-db", "boarding-app"}
	if r.group, err = r.protect(ctx, api.NewGroup{Name: "Boarding", Machines: names, Quiesce: rest(names)}); err != nil {
		return nil, err
	}
	phases := map[string][]float64{}
	for range n {
		if err := r.Home.Writes(ctx, names...); err != nil {
			return nil, err
		}
		c, err := r.cycle(ctx, r.group)
		if err != nil {
			return nil, err
		}
		if c.Kind != "changes" || c.Quiet == nil {
			return nil, fmt.Errorf("cycle %d is of kind %s", c.Number, c.Kind)
		}
		for _, p := range c.Phases {
			phases[p.Name] = append(phases[p.Name], p.To.Sub(p.From).Seconds()*1000)
		}
		for _, q := range *c.Quiet {
			if !q.Done {
				return nil, errors.New("a guest could not be brought to rest: " + *q.Why)
			}
			phases["held"] = append(phases["held"], q.HeldMillis)
		}
		phases["total"] = append(phases["total"], c.EndedAt.Sub(c.StartedAt).Seconds()*1000)
		phases["changed_mib"] = append(phases["changed_mib"], float64(c.ChangedBytes)/mib)
	}
	for name, xs := range phases {
		unit := "_ms"
		if strings.HasSuffix(name, "_mib") {
			unit = ""
		}
		r.figures["cycle_"+name+unit] = median(xs)
	}
	r.figures["cycle_held_p95_ms"] = quantile(phases["held"], 0.95)
	// The same two, suspended instead of frozen.
	if _, err := call[api.Group](ctx, r.home, "PATCH", "/groups/"+r.group, api.GroupPatch{Quiesce: rest(nil)}); err != nil {
		return nil, err
	}
	var held []float64
	for range n {
		c, err := r.cycle(ctx, r.group)
		if err != nil {
			return nil, err
		}
		for _, q := range *c.Quiet {
			held = append(held, q.HeldMillis)
		}
	}
	r.figures["cycle_suspended_ms"] = median(held)
	return phases["total"], nil
}

// latency compares what a guest measures of its durable writes without cycles,
// with a cycle every five seconds, and with cycles back to back.
func (r *realBench) latency(ctx context.Context, window time.Duration) error {
	one, err := r.protectOne(ctx)
	if err != nil {
		return err
	}
	during := func(work func(ctx context.Context) error) ([]float64, error) {
		_, end := r.Home.Newest("ferry")
		ctx, cancel := context.WithTimeout(ctx, window)
		defer cancel()
		for ctx.Err() == nil {
			if err := work(ctx); err != nil && ctx.Err() == nil {
				return nil, err
			}
		}
		var took []float64
		lines, _ := r.Home.Said("ferry", end)
		for _, l := range lines {
			for _, t := range l.Took {
				took = append(took, t.Seconds()*1000)
			}
		}
		if len(took) < 50 {
			return nil, fmt.Errorf("the guest measured only %d writes", len(took))
		}
		return took, nil
	}
	rest := func(ctx context.Context) error { <-ctx.Done(); return nil }
	var cycles int
	every := func(pace time.Duration) func(context.Context) error {
		return func(ctx context.Context) error {
			next := time.After(pace)
			cycles++
			if _, err := r.cycle(ctx, one); err != nil {
				return err
			}
			select {
			case <-next:
			case <-ctx.Done():
			}
			return nil
		}
	}
	// The others would only take turns with it on the processors.
	for _, n := range []string{"boarding-db", "boarding-app"} {
		if err := r.Home.Domain(n, func(l *libvirt.Libvirt, dom libvirt.Domain) error {
			return l.DomainDestroyFlags(dom, libvirt.DomainDestroyGraceful)
		}); err != nil {
			return err
		}
	}
	var without, without5, with, with5 []float64
	for range 3 { // in turns, so that a change of the machine's load meets all
		for _, part := range []struct {
			work func(context.Context) error
			to   *[]float64
		}{{rest, &without}, {every(0), &with}, {rest, &without5}, {every(5 * time.Second), &with5}} {
			cycles = 0
			took, err := during(part.work)
			if err != nil {
				return err
			}
			*part.to = append(*part.to, took...)
			if part.to == &with {
				r.figures["guest_cycles_a_minute"] = float64(cycles) / window.Minutes()
			}
			// The last one may have been cut off.
			if err := until(ctx, func() (bool, error) {
				g, err := call[api.Group](ctx, r.home, "GET", "/groups/"+one, nil)
				return g.Running == nil, err
			}); err != nil {
				return err
			}
		}
	}
	without = append(without, without5...)
	r.figures["guest_p50_ms"], r.figures["guest_p50_cycles_ms"] = median(without), median(with5)
	r.figures["guest_p99_ms"], r.figures["guest_p99_cycles_ms"] = quantile(without, 0.99), quantile(with5, 0.99)
	r.figures["guest_p99_back_to_back_ms"] = quantile(with, 0.99)
	r.figures["ratio_guest_p99"] = quantile(with5, 0.99) / quantile(without, 0.99)
	r.figures["ratio_guest_p99_back_to_back"] = quantile(with, 0.99) / quantile(without, 0.99)
	r.figures["guest_max_cycles_ms"] = quantile(append(with5, with...), 1)
	return nil
}

func (r *realBench) protectOne(ctx context.Context) (string, error) {
	if err := r.add(ctx, realsite.Guest{Name: "ferry", Every: 50 * time.Millisecond}); err != nil {
		return "", err
	}
	return r.protect(ctx, api.NewGroup{Name: "Ferry", Machines: []string{"ferry"}})
}

// landings measures from the wish to the first data that a guest reads, for a
// small and a large disk, and how fast disks become local.
func (r *realBench) landings(ctx context.Context, n int) error {
	const data = 96
	if err := r.Home.Domain("ferry", func(l *libvirt.Libvirt, dom libvirt.Domain) error {
		return l.DomainDestroyFlags(dom, libvirt.DomainDestroyGraceful)
	}); err != nil {
		return err
	}
	for _, g := range []realsite.Guest{{Name: "dinghy"}, {Name: "tanker", DiskMiB: [2]int{8192, 128}}} {
		if err := r.add(ctx, g); err != nil {
			return err
		}
		if err := r.Home.Exec(ctx, g.Name, fmt.Sprintf("dd if=/dev/urandom of=/a/cargo bs=1M count=%d conv=fsync 2>/dev/null", data)); err != nil {
			return err
		}
		id, err := r.protect(ctx, api.NewGroup{Name: g.Name, Machines: []string{g.Name}})
		if err != nil {
			return err
		}
		points, err := call[[]api.Point](ctx, r.recovery, "GET", "/points?group="+id, nil)
		if err != nil {
			return err
		}
		var start, first, rate []float64
		for range n {
			began := time.Now()
			ls, err := call[[]api.Landing](ctx, r.recovery, "POST", "/landings", api.NewLanding{Point: points[0].ID, Platform: new("quay")})
			if err != nil {
				return err
			}
			var ear *realsite.Ear
			if err := until(ctx, func() (bool, error) {
				ear, err = r.Away.Listen(g.Name)
				return err == nil, nil
			}); err != nil {
				return err
			}
			if _, err := ear.Await(ctx, "FOUND"); err != nil {
				return err
			}
			first = append(first, time.Since(began).Seconds())
			_ = ear.Close()
			l := ls[0]
			if err := until(ctx, func() (bool, error) {
				l, err = call[api.Landing](ctx, r.recovery, "GET", "/landings/"+l.ID, nil)
				return l.State == api.LandingStateLocal, err
			}); err != nil {
				return err
			}
			start = append(start, l.StartedAt.Sub(l.CreatedAt).Seconds())
			// Copying begins 15 s after the start.
			rate = append(rate, float64(points[0].UsedBytes)/mib/(l.LocalAt.Sub(*l.StartedAt).Seconds()-15))
			if _, err := call[any](ctx, r.recovery, "DELETE", "/landings/"+l.ID, nil); err != nil {
				return err
			}
		}
		r.figures["start_"+g.Name+"_s"], r.figures["data_"+g.Name+"_s"], r.figures["local_"+g.Name+"_mib_s"] = median(start), median(first), median(rate)
	}
	r.figures["ratio_start_by_size"] = r.figures["start_tanker_s"] / r.figures["start_dinghy_s"]
	r.figures["ratio_data_by_size"] = r.figures["data_tanker_s"] / r.figures["data_dinghy_s"]
	return nil
}

// rest asks that guests are brought to rest, if they can be.
func rest(machines []string) *[]api.QuiesceOf {
	out := []api.QuiesceOf{}
	for _, m := range machines {
		out = append(out, api.QuiesceOf{Machine: m, Mode: "try"})
	}
	return &out
}
