// Package metrics lists what a site shows to an administrator's own monitoring. The list is
// the only one: what is collected, documented and drawn follows from it.
package metrics

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// Metric is one of them: a gauge of Prometheus.
type Metric struct {
	Name   string
	Help   string
	Unit   string // of Grafana: s, bytes, short or dateTimeFromNow
	Labels []string
}

// Names of metrics.
const (
	Exposure   = "kestrel_group_exposure_seconds"
	Target     = "kestrel_group_rpo_target_seconds"
	Backlog    = "kestrel_group_backlog_bytes"
	Points     = "kestrel_group_points"
	LostPoints = "kestrel_group_lost_points"
	Health     = "kestrel_group_health"
	Ready      = "kestrel_group_ready"
	LinkUp     = "kestrel_link_up"
	PlatformUp = "kestrel_platform_up"
	Alerts     = "kestrel_alerts_open"
	StoreBytes = "kestrel_store_bytes"
	StoreFree  = "kestrel_store_free_bytes"
	StoreFloor = "kestrel_store_floor_bytes"
	StoreBad   = "kestrel_store_bad_records"
	Verified   = "kestrel_store_verified_timestamp_seconds"
)

// All lists them.
func All() []Metric {
	group := []string{"group", "direction"}
	return []Metric{
		{Exposure, "Time that would be lost if the home site went dark now.", "s", group},
		{Target, "RPO target.", "s", group},
		{Backlog, "Changed bytes not yet sealed at the recovery site.", "bytes", group},
		{Points, "Recovery points.", "short", group},
		{LostPoints, "Recovery points that cannot be read whole.", "short", group},
		{Health, "1 for the group's present health.", "short", append(slices.Clone(group), "health")},
		{Ready, "1 if the group would recover right now, 0 if it would not; left out if that is not known.", "short", group},
		{LinkUp, "1 if the link to a site is up.", "short", []string{"peer"}},
		{PlatformUp, "1 if a platform answers.", "short", []string{"platform"}},
		{Alerts, "Alerts that are open.", "short", []string{"level"}},
		{StoreBytes, "Bytes of the point store's packs.", "bytes", nil},
		{StoreFree, "Room left for the point store.", "bytes", nil},
		{StoreFloor, "Room that arriving cycles have to leave.", "bytes", nil},
		{StoreBad, "Records of the point store that are damaged and not replaced.", "short", nil},
		{Verified, "When a pass over all of the point store last ended.", "dateTimeFromNow", nil},
	}
}

// Document is the list as Markdown.
func Document() []byte {
	var b bytes.Buffer
	b.WriteString(`# Metrics

What ` + "`/metrics`" + ` shows beside what every Go program does, as gauges of Prometheus. This page and
[the dashboard](../packaging/grafana/kestrel-tide.json) are made from the list in
` + "`internal/metrics`" + ` by ` + "`./dev generate`" + `; [recording and alerting rules](../packaging/prometheus/kestrel-tide.rules.yml)
are beside it.

| metric | labels | it is |
|---|---|---|
`)
	for _, m := range All() {
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", m.Name, strings.Join(m.Labels, ", "), m.Help)
	}
	return b.Bytes()
}

type panel struct {
	ID          int            `json:"id"`
	Title       string         `json:"title"`
	Description string         `json:"description"`
	Type        string         `json:"type"`
	GridPos     map[string]int `json:"gridPos"`
	Datasource  map[string]any `json:"datasource"`
	FieldConfig map[string]any `json:"fieldConfig"`
	Targets     []target       `json:"targets"`
}

type target struct {
	RefID        string `json:"refId"`
	Expr         string `json:"expr"`
	LegendFormat string `json:"legendFormat"`
}

// Dashboard is a dashboard of Grafana with a panel for each metric.
func Dashboard() ([]byte, error) {
	source := map[string]any{"type": "prometheus", "uid": "${datasource}"}
	var panels []panel
	for i, m := range All() {
		legend := ""
		for _, l := range m.Labels {
			legend += "{{" + l + "}} "
		}
		panels = append(panels, panel{ID: i + 1, Title: strings.TrimSuffix(m.Help, "."), Description: m.Name, Type: "timeseries", GridPos: map[string]int{"h": 8, "w": 12, "x": 12 * (i % 2), "y": 8 * (i / 2)}, Datasource: source,
			FieldConfig: map[string]any{"defaults": map[string]any{"unit": m.Unit}, "overrides": []any{}}, Targets: []target{{"A", m.Name + `{instance=~"$site"}`, strings.TrimSpace("{{instance}} " + legend)}}})
	}
	out, err := json.MarshalIndent(map[string]any{"title": "Kestrel Tide", "uid": "kestrel-tide", "schemaVersion": 39, "version": 1, "editable": true, "refresh": "30s", "time": map[string]string{"from": "now-6h", "to": "now"}, "tags": []string{"kestrel-tide"}, "panels": panels,
		"templating": map[string]any{"list": []any{
			map[string]any{"name": "datasource", "type": "datasource", "query": "prometheus"},
			map[string]any{"name": "site", "type": "query", "datasource": source, "query": "label_values(" + StoreBytes + ", instance)", "multi": true, "includeAll": true, "refresh": 2},
		}}}, "", "  ")
	return append(out, '\n'), err
}
