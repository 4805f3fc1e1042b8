package demo

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"path/filepath"

	"kestrel/internal/berths"
	"kestrel/internal/site"
)

// berthPlan is the default of a link at the site where machines arrive.
type berthPlan struct {
	at, from string
	berth    map[string]any
}

// berthPlans has one mistake planted: by the rule for all of the quay's addresses,
// track-ingest of Vessel tracking would have the address of freight-db at Eastmole.
func berthPlans() []berthPlan {
	network := func(home, live, drill string) map[string]string {
		return map[string]string{"home": home, "live": live, "drill": drill}
	}
	return []berthPlan{
		{"Eastmole", "Norhaven", map[string]any{"platform": "eastmole-lab", "pool": "recovery", "datastore": "vault-2", "folder": "/mole/arrivals", "name": "{name}-em", "drillPercent": 50, "suffix": "mole.skerry.example", "dns": []string{"10.60.4.2"},
			"networks": []any{network("quay-lan", "mole-lan", "drill-lan"), network("camera-lan", "recovery-cams", "drill-cams")},
			"rules":    []string{"on quay-lan 10.40.8.0/24 -> 10.60.4.0/24 gateway 10.60.4.1", "on camera-lan 10.40.20.0/24 -> 10.60.20.0/24 gateway 10.60.20.1"}}},
		{"Norhaven", "Eastmole", map[string]any{"pool": "recovery", "datastore": "array-a", "name": "{name}-nh", "networks": []any{network("mole-lan", "quay-lan", "trial-lan")},
			"rules": []string{"10.60.4.0-10.60.4.63 -> 10.40.8.128/24 gateway 10.40.8.1"}}},
	}
}

// ticketingBerth is how the booth comes up: database, then what asks it, then what people
// see, on addresses that are free.
func ticketingBerth() map[string]any {
	return map[string]any{"rules": []string{"on quay-lan 10.40.8.10-10.40.8.19 -> 10.60.4.110/24 gateway 10.60.4.1"},
		"machines": []any{map[string]any{"machine": "tick-db", "before": sluice}, map[string]any{"machine": "tick-app", "wave": 2}, map[string]any{"machine": "tick-web", "wave": 3, "memoryBytes": 1 << 30}},
		"waves":    []any{map[string]any{"number": 1, "check": "port 5432", "waitSeconds": 10}, map[string]any{"number": 2, "check": "port 8080"}}}
}

// freightBerth is how the freight desk comes up, with what people at the quay have to do.
func freightBerth() map[string]any {
	return map[string]any{
		"networks": []any{map[string]any{"home": "mole-dmz", "live": "none", "drill": "none"}},
		"machines": []any{map[string]any{"machine": "freight-app", "wave": 2}},
		"needs":    []string{"Harbour gates"},
		"steps": []any{
			map[string]any{"name": "quiet the quay", "after": 0, "kind": "wait", "spanSeconds": 2},
			map[string]any{"name": "database is up", "after": 1, "kind": "serial", "machine": "freight-db", "text": "login:"},
			map[string]any{"name": "desk answers", "after": 2, "kind": "http", "url": "http://freight-app:8443/", "text": "is well", "onFailure": "go-on"},
			map[string]any{"name": "try a consignment", "after": 2, "kind": "person", "text": "Book a test consignment and cancel it.", "only": "failover", "limitSeconds": 1800},
		}}
}

// sluice is a command of Eastmole's host: what stands between the harbours and the booth's
// database there is opened before the database starts.
const sluice = "open-sluice"

// makeCommands puts the commands of a site's host where its service finds them.
func makeCommands(s place) error {
	if s.name != "Eastmole" {
		return nil
	}
	dir := filepath.Join(s.dir, "site", "commands")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fmt.Errorf("make the folder of commands: %w", err)
	}
	script := "#!/bin/sh\n# Kestrel Tide runs this before a machine starts; it stands for a call to a firewall.\necho \"$(date -Is) opened for $KESTREL_NAME ($KESTREL_KIND)\" >>opened.log\n"
	return os.WriteFile(filepath.Join(dir, sluice), []byte(script), 0o755)
}

// makeBerths says what is usual of a link, at the sites where machines arrive.
func (d *demo) makeBerths(ctx context.Context, sites map[string]*site.Site) error {
	for _, p := range berthPlans() {
		text, err := json.Marshal(p.berth)
		if err != nil {
			return err
		}
		if _, err := sites[p.at].Berths.WriteDefault(ctx, d.person(), berths.OfLink, p.from, 0, text); err != nil {
			return fmt.Errorf("berth of the link with %s at %s: %w", p.from, p.at, err)
		}
	}
	return nil
}

// putBerth says how a group's machines arrive, as people do.
func (d *demo) putBerth(ctx context.Context, at, group string, berth map[string]any) error {
	return d.send(ctx, "PUT", at, "/groups/"+url.PathEscape(group)+"/berth", map[string]any{"revision": 0, "berth": berth})
}
