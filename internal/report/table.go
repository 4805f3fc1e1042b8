package report

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"strconv"
	"strings"
	"time"

	"kestrel/internal/api"
)

// Tables are what a report can be had of as CSV.
const (
	Attainment = "attainment"
	Days       = "days"
	Coverage   = "coverage"
	Stores     = "stores"
	Links      = "links"
	Drills     = "drills"
	Failovers  = "failovers"
)

// Tables lists them.
func Tables() []string { return []string{Attainment, Days, Coverage, Stores, Links, Drills, Failovers} }

// Table gives a table of a report as CSV (RFC 4180), its first line the names of the columns.
// Times are RFC 3339 in UTC, lengths of time seconds, sizes bytes, shares from 0 to 1.
func Table(v api.Report, which string) ([]byte, error) {
	var rows [][]string
	add := func(cells ...any) {
		var row []string
		for _, c := range cells {
			row = append(row, cell(c))
		}
		rows = append(rows, row)
	}
	switch which {
	case "", Attainment:
		add(v.By, "groups", "kept_share", "over_seconds", "worst_seconds", "worst_at", "worst_group", "covered_seconds", "held_seconds", "held_over_seconds", "cycles_sealed", "cycles_failed", "starts_missed", "changed_bytes", "sent_bytes", "longest_cycle_seconds", "longest_wait_seconds")
		for _, r := range v.Attainment.Rows {
			add(r.Name, r.Groups, r.KeptShare, r.OverSeconds, r.WorstSeconds, r.WorstAt, r.WorstGroup, r.CoveredSeconds, r.PausedSeconds, r.PausedOverSeconds, r.Sealed, r.Failed, r.Missed, r.ChangedBytes, r.WireBytes, r.LongestCycleSeconds, r.LongestWaitSeconds)
		}
	case Days:
		add("day", "kept_share", "covered_seconds", "over_seconds", "worst_seconds", "cycles_sealed", "cycles_failed", "starts_missed", "changed_bytes", "sent_bytes")
		for _, d := range v.Days {
			add(d.At.Format(time.DateOnly), d.KeptShare, d.CoveredSeconds, d.OverSeconds, d.WorstSeconds, d.Sealed, d.Failed, d.Missed, d.ChangedBytes, d.WireBytes)
		}
	case Coverage:
		add("day", "share", "machines")
		for _, d := range v.Coverage.Days {
			add(d.At.Format(time.DateOnly), d.Share, d.Machines)
		}
	case Stores:
		add("store", "used_first_bytes", "used_last_bytes", "used_most_bytes", "free_bytes", "fills_at", "whole_bytes", "needed_bytes")
		for _, s := range v.Stores {
			add(s.Name, s.UsedFirstBytes, s.UsedLastBytes, s.UsedMostBytes, s.FreeBytes, s.FillsAt, s.WholeBytes, s.NeededBytes)
		}
	case Links:
		add("site", "out_mean_bytes_per_second", "out_most_bytes_per_second", "in_mean_bytes_per_second", "in_most_bytes_per_second")
		for _, l := range v.Links {
			add(l.Peer, l.OutMean, l.OutMost, l.InMean, l.InMost)
		}
	case Drills:
		add("group", "started_at", "started_by", "point", "captured_at", "result", "machines", "ran_after_seconds", "rto_target_seconds", "note")
		for _, x := range v.Drills.Rows {
			add(x.Group, &x.StartedAt, x.StartedBy, x.Point, &x.CaptureAt, x.Result, x.Machines, x.TookSeconds, x.RtoTargetSeconds, x.Note)
		}
	case Failovers:
		add("group", "home", "started_at", "started_by", "planned", "point", "captured_at", "state", "machines", "lost_seconds", "rpo_target_seconds", "ran_after_seconds", "rto_target_seconds", "ended_at")
		for _, x := range v.Failovers {
			add(x.Group, x.Home, &x.StartedAt, x.StartedBy, x.Planned, x.Point, &x.CaptureAt, x.State, x.Machines, x.LosesSeconds, x.RpoTargetSeconds, x.TookSeconds, x.RtoTargetSeconds, x.EndedAt)
		}
	}
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	w.UseCRLF = true
	if err := w.WriteAll(rows); err != nil {
		return nil, fmt.Errorf("write the table: %w", err)
	}
	return b.Bytes(), nil
}

// cell writes a value. A name that a spreadsheet would take for a formula is given a quote
// before it, as OWASP advises (CSV Injection).
func cell(v any) string {
	switch x := v.(type) {
	case string:
		if x != "" && strings.ContainsRune("=+-@\t\r", rune(x[0])) {
			return "'" + x
		}
		return x
	case *string:
		if x != nil {
			return cell(*x)
		}
	case *time.Time:
		if x != nil {
			return x.UTC().Format(time.RFC3339)
		}
	case *int64:
		if x != nil {
			return strconv.FormatInt(*x, 10)
		}
	case float64:
		return strconv.FormatFloat(x, 'f', -1, 64)
	default:
		return fmt.Sprint(x)
	}
	return ""
}
