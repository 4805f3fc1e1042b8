package httpapi

import (
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"

	"kestrel/internal/overview"
)

// metrics shows what an administrator's own monitoring wants to know.
func metrics(rooms Rooms) *prometheus.Registry {
	r := prometheus.NewRegistry()
	r.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}), &collector{rooms: rooms,
		exposure: prometheus.NewDesc("kestrel_group_exposure_seconds", "Time that would be lost if the home site went dark now.", []string{"group", "direction"}, nil),
		target:   prometheus.NewDesc("kestrel_group_rpo_target_seconds", "RPO target.", []string{"group", "direction"}, nil),
		backlog:  prometheus.NewDesc("kestrel_group_backlog_bytes", "Changed bytes not yet sealed at the recovery site.", []string{"group", "direction"}, nil),
		points:   prometheus.NewDesc("kestrel_group_points", "Recovery points.", []string{"group", "direction"}, nil),
		healthy:  prometheus.NewDesc("kestrel_group_health", "1 for the group's present health.", []string{"group", "direction", "health"}, nil),
		up:       prometheus.NewDesc("kestrel_link_up", "Whether the link to a site is up.", []string{"peer"}, nil),
		store:    prometheus.NewDesc("kestrel_store_bytes", "Bytes of the point store's packs.", nil, nil),
		floor:    prometheus.NewDesc("kestrel_store_floor_bytes", "Room that arriving cycles have to leave.", nil, nil),
		lost:     prometheus.NewDesc("kestrel_group_lost_points", "Recovery points that cannot be read whole.", []string{"group", "direction"}, nil),
		bad:      prometheus.NewDesc("kestrel_store_bad_records", "Records of the point store that are damaged and not replaced.", nil, nil),
		verified: prometheus.NewDesc("kestrel_store_verified_timestamp_seconds", "When a pass over all of the point store last ended.", nil, nil),
		free:     prometheus.NewDesc("kestrel_store_free_bytes", "Room left for the point store.", nil, nil),
	})
	return r
}

type collector struct {
	rooms                                                                                   Rooms
	exposure, target, backlog, points, healthy, up, store, free, floor, lost, bad, verified *prometheus.Desc
}

func (c *collector) Describe(ch chan<- *prometheus.Desc) { prometheus.DescribeByCollect(c, ch) }

func (c *collector) Collect(ch chan<- prometheus.Metric) {
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		ch <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	// Names are unique only among the groups of one home site.
	seen := map[string]bool{}
	groups, _, err := c.rooms.Overview.List(overview.Filter{})
	if err != nil {
		return // it has no filter to be wrong
	}
	for _, g := range groups {
		name, dir := g.Name, string(g.Direction)
		if seen[name+dir] {
			name += " (" + g.Home + ", " + g.ID + ")"
		}
		seen[name+dir] = true
		if g.ExposureSeconds != nil {
			gauge(c.exposure, float64(*g.ExposureSeconds), name, dir)
		}
		if g.BacklogBytes != nil {
			gauge(c.backlog, float64(*g.BacklogBytes), name, dir)
		}
		gauge(c.target, float64(g.Promise.RpoTargetSeconds), name, dir)
		gauge(c.points, float64(g.Points), name, dir)
		gauge(c.lost, float64(g.LostPoints), name, dir)
		gauge(c.healthy, 1, name, dir, g.Health)
	}
	for _, l := range c.rooms.Links.Links() {
		up := 0.0
		if l.Up {
			up = 1
		}
		gauge(c.up, up, l.Peer)
	}
	st := c.rooms.Store.StoreView()
	gauge(c.store, float64(st.PackBytes))
	gauge(c.free, float64(st.FreeBytes))
	gauge(c.floor, float64(st.FloorBytes))
	gauge(c.bad, float64(st.BadRecords))
	if st.Verify.EndedAt != nil {
		gauge(c.verified, float64(st.Verify.EndedAt.Unix()))
	}
}
