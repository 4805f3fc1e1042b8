package bench

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/platform"
	"kestrel/internal/platform/libvirt"
	"kestrel/internal/support/realsite"
)

// realRecoveries times planned failovers of one real guest and of four, and compares the first
// with the start of the same guest from a local disk.
func realRecoveries(ctx context.Context, o Options, r *Result) error {
	if realsite.Missing() != "" {
		return nil // the table says which figures are not there
	}
	for _, n := range pick(o.Quick, []int{1}, []int{1, 4}) {
		pair, err := realsite.StartPair(ctx)
		if err != nil {
			return err
		}
		err = with(ctx, o, nil, func(w *world) error {
			b := &realBench{world: w, Pair: pair, figures: r.Figures}
			for s, d := range map[*site]*realsite.Daemon{w.home: pair.Home, w.recovery: pair.Away} {
				if _, err := call[api.Platform](ctx, s, "POST", "/platforms", api.NewPlatform{Name: "quay", Kind: "libvirt", Address: d.URI}); err != nil {
					return err
				}
			}
			return b.recovered(ctx, n)
		})
		pair.Stop()
		if err != nil {
			return fmt.Errorf("%d real guests: %w", n, err)
		}
		r.Runs++
	}
	return nil
}

func (r *realBench) recovered(ctx context.Context, n int) error {
	var names []string
	for i := range n {
		names = append(names, fmt.Sprintf("boarding-%d", i+1))
		if err := r.add(ctx, realsite.Guest{Name: names[i], Address: fmt.Sprintf("10.77.3.%d", 11+i), Segment: "230.77.0.1:7413"}); err != nil {
			return err
		}
	}
	id, err := r.protect(ctx, api.NewGroup{Name: "bench", Machines: names})
	if err != nil {
		return err
	}
	none := "none"
	_, err = call[api.BerthView](ctx, r.recovery, http.MethodPut, "/groups/"+id+"/berth", api.WriteBerth{Berth: api.Berth{Platform: new("quay"), Name: new("{name}"), Networks: &[]api.BerthNetwork{{Home: "segment 230.77.0.1:7413", Live: &none}},
		Waves: &[]api.BerthWave{{Number: 1, Check: new("agent")}}}})
	if err != nil {
		return err
	}
	f, err := failedOver(ctx, r.world, id)
	if err != nil {
		return err
	}
	began, running := at(f, "starting"), time.Time{}
	for _, m := range f.Machines {
		if m.StartedAt.After(running) {
			running = *m.StartedAt
		}
	}
	figure := func(name string, d time.Duration) { r.figures[fmt.Sprintf("%s_real_%d_s", name, n)] = d.Seconds() }
	figure("before_start", began.Sub(f.StartedAt))
	figure("running", running.Sub(began))
	figure("checked", f.OpenAt.Sub(began))
	if n == 1 {
		local, err := r.localStart(ctx, f)
		if err != nil {
			return fmt.Errorf("start from a local disk: %w", err)
		}
		figure("local_start", local)
		r.figures["recovery_over_local_start"] = f.OpenAt.Sub(began).Seconds() / local.Seconds()
	}
	from := time.Now()
	if _, err := call[api.Failover](ctx, r.recovery, http.MethodPost, "/failovers/"+f.ID+"/back-out", api.FailoverBackOut{Confirm: "bench"}); err != nil {
		return err
	}
	if _, err := awaited(ctx, r.world, f.ID, "over"); err != nil {
		return err
	}
	figure("cleared", time.Since(from))
	return nil
}

// localStart is how long the same guest takes to start once its disks are local: from being
// switched on until its agent answers, the median of three.
func (r *realBench) localStart(ctx context.Context, f api.Failover) (time.Duration, error) {
	if err := until(ctx, func() (bool, error) {
		x, err := call[api.Failover](ctx, r.recovery, http.MethodGet, "/failovers/"+f.ID, nil)
		return x.LocalBytes != nil && *x.LocalBytes == *x.TotalBytes, err
	}); err != nil {
		return 0, err
	}
	d, err := libvirt.New(libvirt.Settings{Hosts: []string{r.Away.URI}})
	if err != nil {
		return 0, err
	}
	defer d.Close()
	id := *f.Machines[0].Landing
	var took []float64
	for range 3 {
		if err := d.Switch(ctx, id, platform.SwitchOff); err != nil {
			return 0, err
		}
		if err := until(ctx, func() (bool, error) {
			now, err := d.Landed(ctx, id)
			return now.Power == platform.PowerOff, err
		}); err != nil {
			return 0, err
		}
		from := time.Now()
		if err := d.Switch(ctx, id, platform.SwitchOn); err != nil {
			return 0, err
		}
		if err := until(ctx, func() (bool, error) { return d.AgentAnswers(ctx, id) == nil, nil }); err != nil {
			return 0, err
		}
		took = append(took, time.Since(from).Seconds())
	}
	return time.Duration(median(took) * float64(time.Second)), nil
}
