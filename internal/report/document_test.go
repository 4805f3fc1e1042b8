package report_test

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/core/span"
	"kestrel/internal/report"
)

var now = time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)

// made is a report of some groups over some days.
func made(groups, days int) api.Report {
	v := api.Report{Site: "Norhaven", From: now.AddDate(0, 0, -days), To: now, MadeAt: now, By: "group", Groups: groups, Coverage: api.ReportCoverage{Counts: api.CoverageCounts{Machines: 10, Protected: 8, Share: 0.8}},
		Stores: []api.ReportStore{{Name: "the point store", UsedLastBytes: 3 << 30, UsedMostBytes: 4 << 30, FreeBytes: new(int64(1 << 40)), FillsAt: new(now.AddDate(0, 0, 12))}}, Links: []api.ReportLink{{Peer: "Eastmole", OutMean: 1 << 20, OutMost: 2 << 20}}}
	for i := range groups {
		v.Attainment.Rows = append(v.Attainment.Rows, api.AttainmentRow{Name: fmt.Sprintf("Group %03d", i), Groups: 1, KeptShare: 0.99995, OverSeconds: 90, WorstSeconds: 3725, WorstAt: new(now.Add(-time.Hour)), CoveredSeconds: 1000, Sealed: i, ChangedBytes: 1 << 30, WireBytes: 1 << 29})
	}
	v.Attainment.Total = api.AttainmentRow{Name: "all", Groups: groups, KeptShare: 0.99995, CoveredSeconds: 1000, OverSeconds: 90, Sealed: 7, ChangedBytes: 2 << 30, WireBytes: 1 << 30}
	for i := range days {
		at := v.From.Truncate(span.Day).AddDate(0, 0, i)
		v.Days = append(v.Days, api.ReportDay{At: at, KeptShare: 1, CoveredSeconds: 86400, OverSeconds: int64(i) * 60, ChangedBytes: int64(i) << 20, WireBytes: int64(i) << 19})
		v.Coverage.Days = append(v.Coverage.Days, api.CoverageShare{At: at, Share: 0.8, Machines: 10})
		v.Stores[0].Days = append(v.Stores[0].Days, api.Measured{At: at, Mean: 1 << 30, Most: float64(i) * (1 << 28)})
	}
	return v
}

// read gives the pages of a document as text.
func read(t *testing.T, pdf []byte) []string {
	t.Helper()
	c := exec.Command("pdftotext", "-layout", "-", "-")
	c.Stdin = bytes.NewReader(pdf)
	text, err := c.Output()
	require.NoError(t, err)
	return strings.Split(strings.TrimSuffix(string(text), "\f"), "\f")
}

// A document says what the report says, in any letters, with its pages numbered; what is too
// long for a column is cut and says so.
func TestDocument(t *testing.T) {
	v := made(120, 30)
	v.Attainment.Rows[3].Name = "Прибытие"
	v.Attainment.Rows[4].Name = strings.Repeat("very long ", 12)
	v.Only = new("that follow the tier Harbour-1")
	v.Failovers = []api.ReportFailover{{Group: "Ticketing", Home: "Norhaven", StartedAt: now.Add(-time.Hour), StartedBy: "=anna", Planned: true, Point: 43, State: "accepted", Machines: 3, TookSeconds: new(int64(245)), RtoTargetSeconds: 3600, RpoTargetSeconds: 900}, {Group: "Gates", StartedAt: now.Add(-2 * time.Hour), State: "open", LosesSeconds: 300}}
	v.Drills = api.ReportDrills{Passed: 1, Failed: 1, Rows: []api.ReportDrill{{Group: "Ticketing", StartedAt: now.Add(-time.Hour), StartedBy: "=anna", Point: 42, Result: "passed", Machines: 3, TookSeconds: new(int64(245)), RtoTargetSeconds: 3600}, {Group: "Gates", StartedAt: now.Add(-2 * time.Hour), Result: "failed", Note: new("no light")}},
		Due: []api.ReportDrillDue{{Group: "Fuel ledger", DueAt: now.AddDate(0, 0, -3)}}}
	pdf, err := report.Document(v)
	require.NoError(t, err)
	pages := read(t, pdf)
	require.Greater(t, len(pages), 3)
	all := strings.Join(pages, "\n")
	for i, p := range pages {
		require.Contains(t, p, fmt.Sprintf("page %d of %d", i+1, len(pages)))
		require.Contains(t, p, "made 2026-11-26 12:00 UTC")
	}
	for _, text := range []string{"Norhaven: how promises were kept", "From 2026-10-27 12:00 to 2026-11-26 12:00", "Of 120 groups that follow the tier Harbour-1.", "Within the promise of the time for > 99.99 % of it", "8 of 10 machines at Norhaven are protected (80.00 %)", "full about 2026-12-08",
		"Прибытие", "very long very", "…", "1 h 2 min", "Attainment", "Change", "Coverage", "Capacity", "Eastmole", "(2.0 : 1)", "1 passed, 1 failed, 0 ended before they could tell. 1 group had a drill due", "2 recoveries tried, 1 passed; a drill is due of 1 group.", "4 min 5 s", "Fuel ledger", "none passed yet", "Failovers", "not planned", "accepted"} {
		require.Contains(t, all, text)
	}
	table, err := report.Table(v, report.Drills)
	require.NoError(t, err)
	rows, err := csv.NewReader(bytes.NewReader(table)).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 3)
	require.Equal(t, []string{"Ticketing", "2026-11-26T11:00:00Z", "'=anna", "42"}, rows[1][:4])
	require.Equal(t, "no light", rows[2][9])
	table, err = report.Table(v, report.Failovers)
	require.NoError(t, err)
	rows, err = csv.NewReader(bytes.NewReader(table)).ReadAll()
	require.NoError(t, err)
	require.Equal(t, []string{"Ticketing", "Norhaven", "2026-11-26T11:00:00Z", "'=anna", "true", "43"}, rows[1][:6])
	require.Equal(t, "300", rows[2][9])
	require.Greater(t, strings.Count(all, "Group   "), 1, "the heads of a table are on each of its pages")
}

// Nothing to tell is told, and breaks nothing; neither do very many days.
func TestDocumentsOfLittleAndMuch(t *testing.T) {
	for _, v := range []api.Report{made(0, 0), made(1, 1), made(2, 400), {Site: "Norhaven", From: now.Add(-time.Second), To: now, MadeAt: now}} {
		pdf, err := report.Document(v)
		require.NoError(t, err)
		require.NotEmpty(t, read(t, pdf))
	}
	require.Contains(t, read(t, mustDocument(t, made(0, 0)))[0], "of the time for")
}

func mustDocument(t *testing.T, v api.Report) []byte {
	t.Helper()
	b, err := report.Document(v)
	require.NoError(t, err)
	return b
}

// Tables are CSV whose lines all have their columns, and hold no formula.
func TestTables(t *testing.T) {
	v := made(3, 5)
	v.Attainment.Rows[0].Name = `=HYPERLINK("https://evil.example","x"), "quoted"`
	want := map[string]int{report.Attainment: 3, report.Days: 5, report.Coverage: 5, report.Stores: 1, report.Links: 1, "": 3}
	for which, n := range want {
		b, err := report.Table(v, which)
		require.NoError(t, err)
		rows, err := csv.NewReader(bytes.NewReader(b)).ReadAll()
		require.NoError(t, err, which)
		require.Len(t, rows, n+1, which)
		if which == "" {
			require.Equal(t, "'"+v.Attainment.Rows[0].Name, rows[1][0])
			require.Equal(t, []string{"0.99995", "90", "3725", "2026-11-26T11:00:00Z", ""}, rows[1][2:7])
		}
	}
}
