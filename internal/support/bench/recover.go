package bench

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/points"
)

const (
	// recoveredDisk is the size of each machine's disk, and recoveredWrites how many blocks are
	// written over there before the way back.
	recoveredDisk   = 32 * mib
	recoveredWrites = 64
)

// recoveries times failovers of many machines, their being backed out, and what is shipped on
// the way back.
func recoveries(ctx context.Context, o Options) (Result, error) {
	r := Result{Figures: map[string]float64{}, RawUnit: "s", Aim: "shipped over changed ≤ 1.2; recovery over local start ≤ 1.5"}
	for _, n := range pick(o.Quick, []int{1, 10}, []int{1, 10, 50}) {
		var machines []machineSpec
		var names []string
		for i := range n {
			name := fmt.Sprintf("machine-%02d", i)
			names = append(names, name)
			machines = append(machines, machineSpec{name: name, disks: []int64{recoveredDisk}})
		}
		err := with(ctx, o, machines, func(w *world) error {
			for i, name := range names {
				if err := w.mixed(name, 0, recoveredDisk, uint64(i)); err != nil {
					return err
				}
			}
			return recovered(ctx, w, names, &r)
		})
		if err != nil {
			return r, err
		}
	}
	return r, realRecoveries(ctx, o, &r)
}

// recovered fails a group over, backs out, fails it over again, and accepts it.
func recovered(ctx context.Context, w *world, names []string, r *Result) error {
	ps, err := call[[]api.Platform](ctx, w.home, http.MethodGet, "/platforms", nil)
	if err != nil {
		return err
	}
	// The one lab is the platform of both sites: what is measured is the way of a failover.
	if _, err := call[api.Platform](ctx, w.recovery, http.MethodPost, "/platforms", api.NewPlatform{Name: "lab", Kind: "lab", Address: ps[0].Address, User: new("lab"), Password: new(password)}); err != nil {
		return err
	}
	id, err := w.protect(ctx, "bench", 0, names...)
	if err != nil {
		return err
	}
	if _, err := call[api.BerthView](ctx, w.recovery, http.MethodPut, "/groups/"+id+"/berth", api.WriteBerth{Berth: api.Berth{Platform: new("lab"), Name: new("{name}-there")}}); err != nil {
		return err
	}
	n := len(names)
	figure := func(name string, d time.Duration) {
		r.Figures[fmt.Sprintf("%s_%d_s", name, n)] = d.Seconds()
		r.Raw = append(r.Raw, d.Seconds())
	}
	f, err := failedOver(ctx, w, id)
	if err != nil {
		return err
	}
	began := at(f, "starting")
	running := began
	for _, m := range f.Machines {
		if m.StartedAt != nil && m.StartedAt.After(running) {
			running = *m.StartedAt
		}
	}
	figure("before_start", began.Sub(f.StartedAt))
	figure("running", running.Sub(began))
	figure("checked", f.OpenAt.Sub(began))
	from := time.Now()
	if _, err := call[api.Failover](ctx, w.recovery, http.MethodPost, "/failovers/"+f.ID+"/back-out", api.FailoverBackOut{Confirm: "bench"}); err != nil {
		return err
	}
	if _, err := awaited(ctx, w, f.ID, "over"); err != nil {
		return err
	}
	figure("cleared", time.Since(from))
	if f, err = failedOver(ctx, w, id); err != nil {
		return err
	}
	// A lab's guests write when their disks are local.
	if err := until(ctx, func() (bool, error) {
		f, err = call[api.Failover](ctx, w.recovery, http.MethodGet, "/failovers/"+f.ID, nil)
		return f.LocalBytes != nil && *f.LocalBytes == *f.TotalBytes, err
	}); err != nil {
		return err
	}
	rnd := rand.New(rand.NewPCG(3, 3))
	b := make([]byte, points.BlockSize)
	for i := range int64(recoveredWrites) {
		noise(b, rnd)
		if err := w.lab.Write(*f.Machines[0].Landing, "disk-0", b, i*3*points.BlockSize); err != nil {
			return err
		}
	}
	if _, err := call[api.Failover](ctx, w.recovery, http.MethodPost, "/failovers/"+f.ID+"/accept", api.FailoverAccept{Confirm: "bench"}); err != nil {
		return err
	}
	if _, err := awaited(ctx, w, f.ID, "over"); err != nil {
		return err
	}
	return until(ctx, func() (bool, error) {
		cs, err := call[[]api.Cycle](ctx, w.recovery, http.MethodGet, "/groups/"+id+"/cycles?limit=1", nil)
		if err != nil || len(cs) == 0 || cs[0].State != "sealed" {
			return false, err
		}
		r.Figures[fmt.Sprintf("shipped_over_changed_%d", n)] = float64(cs[0].ShippedBytes) / (recoveredWrites * points.BlockSize)
		r.Runs++
		return true, nil
	})
}

// failedOver has a group run at the recovery site.
func failedOver(ctx context.Context, w *world, id string) (api.Failover, error) {
	f, err := call[api.Failover](ctx, w.recovery, http.MethodPost, "/groups/"+id+"/failovers", api.NewFailover{Planned: new(true), Confirm: new("bench")})
	if err != nil {
		return f, err
	}
	return awaited(ctx, w, f.ID, "open")
}

func awaited(ctx context.Context, w *world, id, state string) (f api.Failover, err error) {
	err = until(ctx, func() (bool, error) {
		f, err = call[api.Failover](ctx, w.recovery, http.MethodGet, "/failovers/"+id, nil)
		return f.State == state, err
	})
	return f, err
}

// at is when a stage of a failover began.
func at(f api.Failover, stage string) time.Time {
	for _, s := range f.Stages {
		if s.Name == stage && s.BeganAt != nil {
			return *s.BeganAt
		}
	}
	return time.Time{}
}
