package httpapi

import (
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"

	"kestrel/internal/metrics"
	"kestrel/internal/overview"
)

// newMetrics shows what an administrator's own monitoring wants to know.
func newMetrics(rooms Rooms) *prometheus.Registry {
	c := &collector{rooms: rooms, descs: map[string]*prometheus.Desc{}}
	for _, m := range metrics.All() {
		c.descs[m.Name] = prometheus.NewDesc(m.Name, m.Help, m.Labels, nil)
	}
	r := prometheus.NewRegistry()
	r.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}), c)
	return r
}

type collector struct {
	rooms Rooms
	descs map[string]*prometheus.Desc
}

func (c *collector) Describe(ch chan<- *prometheus.Desc) { prometheus.DescribeByCollect(c, ch) }

func truth(is bool) float64 {
	if is {
		return 1
	}
	return 0
}

func (c *collector) Collect(ch chan<- prometheus.Metric) {
	gauge := func(name string, v float64, labels ...string) {
		ch <- prometheus.MustNewConstMetric(c.descs[name], prometheus.GaugeValue, v, labels...)
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
			gauge(metrics.Exposure, float64(*g.ExposureSeconds), name, dir)
		}
		if g.BacklogBytes != nil {
			gauge(metrics.Backlog, float64(*g.BacklogBytes), name, dir)
		}
		gauge(metrics.Target, float64(g.Promise.RpoTargetSeconds), name, dir)
		gauge(metrics.Points, float64(g.Points), name, dir)
		gauge(metrics.LostPoints, float64(g.LostPoints), name, dir)
		gauge(metrics.Health, 1, name, dir, g.Health)
		if r, ok := c.rooms.Directory.Get(g.ID); ok {
			if x, known := c.rooms.Lookout.Of(r); known {
				gauge(metrics.Ready, truth(x.Ready), name, dir)
			}
		}
	}
	for _, l := range c.rooms.Links.Links() {
		gauge(metrics.LinkUp, truth(l.Up), l.Peer)
	}
	for _, p := range c.rooms.Platforms.Platforms() {
		gauge(metrics.PlatformUp, truth(p.Reachable), p.Name)
	}
	open := map[string]int{"urgent": 0, "warning": 0}
	for _, a := range c.rooms.Watch.Alerts(nil) {
		open[string(a.Level)]++
	}
	for level, n := range open {
		gauge(metrics.Alerts, float64(n), level)
	}
	st := c.rooms.Store.StoreView()
	gauge(metrics.StoreBytes, float64(st.PackBytes))
	gauge(metrics.StoreFree, float64(st.FreeBytes))
	gauge(metrics.StoreFloor, float64(st.FloorBytes))
	gauge(metrics.StoreBad, float64(st.BadRecords))
	if st.Verify.EndedAt != nil {
		gauge(metrics.Verified, float64(st.Verify.EndedAt.Unix()))
	}
}
