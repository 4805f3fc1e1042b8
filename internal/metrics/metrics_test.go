package metrics_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"kestrel/internal/metrics"
)

const root = "../.."

// What is documented and drawn is what is collected: ./dev generate writes it.
func TestGeneratedFiles(t *testing.T) {
	doc, err := os.ReadFile(filepath.Join(root, "docs/metrics.md"))
	require.NoError(t, err)
	require.Equal(t, string(metrics.Document()), string(doc))
	want, err := metrics.Dashboard()
	require.NoError(t, err)
	board, err := os.ReadFile(filepath.Join(root, "packaging/grafana/kestrel-tide.json"))
	require.NoError(t, err)
	require.Equal(t, string(want), string(board))
	var v struct {
		Panels []struct{ Targets []struct{ Expr string } }
	}
	require.NoError(t, json.Unmarshal(board, &v))
	require.Len(t, v.Panels, len(metrics.All()))
}

// The rules are what Prometheus reads, fire and end, and use metrics that there are.
func TestRules(t *testing.T) {
	path, err := filepath.Abs(filepath.Join(root, "packaging/prometheus/kestrel-tide.rules.yml"))
	require.NoError(t, err)
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	var names []string
	for _, m := range metrics.All() {
		names = append(names, m.Name)
	}
	for _, used := range regexp.MustCompile(`kestrel_[a-z_]+`).FindAllString(string(b), -1) {
		require.Contains(t, names, used)
	}
	promtool, err := exec.LookPath("promtool")
	require.NoError(t, err, "./dev test installs it")
	out, err := exec.Command(promtool, "check", "rules", path).CombinedOutput()
	require.NoError(t, err, "%s", out)

	tests := filepath.Join(t.TempDir(), "tests.yml")
	require.NoError(t, os.WriteFile(tests, []byte(`
rule_files: [`+path+`]
evaluation_interval: 1m
tests:
  - interval: 1m
    input_series:
      - {series: 'kestrel_group_exposure_seconds{group="Ticketing",direction="out",instance="n"}', values: '100 400 400 400 100'}
      - {series: 'kestrel_group_rpo_target_seconds{group="Ticketing",direction="out",instance="n"}', values: '300x4'}
      - {series: 'kestrel_link_up{peer="Eastmole",instance="n"}', values: '1 0x10'}
      - {series: 'kestrel_store_free_bytes{instance="n"}', values: '1e9-1e6x300'}
      - {series: 'kestrel_store_floor_bytes{instance="n"}', values: '1e8x300'}
    alert_rule_test:
      - {eval_time: 1m, alertname: KestrelGroupOverTarget}
      - eval_time: 3m
        alertname: KestrelGroupOverTarget
        exp_alerts: [{exp_labels: {severity: critical, group: Ticketing, direction: out, instance: n}, exp_annotations: {summary: 'Ticketing is over its target', description: 'Exposure is 1.333 times the RPO target.'}}]
      - {eval_time: 4m, alertname: KestrelGroupOverTarget}
      - eval_time: 4m
        alertname: KestrelLinkDown
        exp_alerts: [{exp_labels: {severity: critical, peer: Eastmole, instance: n}, exp_annotations: {summary: 'The link to Eastmole is down'}}]
      - eval_time: 5h
        alertname: KestrelStoreFilling
        exp_alerts: [{exp_labels: {severity: warning, instance: n}, exp_annotations: {summary: 'The point store is full within two weeks'}}]
    promql_expr_test:
      - {expr: 'kestrel:groups:within_target', eval_time: 2m, exp_samples: [{labels: 'kestrel:groups:within_target{instance="n"}', value: 0}]}
`), 0o600))
	out, err = exec.Command(promtool, "test", "rules", tests).CombinedOutput()
	require.NoError(t, err, "%s", out)
}

// No two have the same name, and all say what they are.
func TestMetrics(t *testing.T) {
	var names []string
	for _, m := range metrics.All() {
		require.False(t, slices.Contains(names, m.Name), m.Name)
		require.Regexp(t, `^kestrel_[a-z_]+$`, m.Name)
		require.NotEmpty(t, m.Help)
		names = append(names, m.Name)
	}
}
