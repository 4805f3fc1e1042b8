package link_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/cycle"
	"kestrel/internal/link"
	"kestrel/internal/points"
)

func request() cycle.OpenRequest {
	return cycle.OpenRequest{ID: uuid.NewString(), Group: points.SealGroup{ID: uuid.NewString()}, Disks: []cycle.OpenRequestDisk{{Machine: "m", Key: "d", Size: 1 << 40}}}
}

// A cycle of disks that cannot be is refused before anything is made for it.
func TestCyclesThatCannotBe(t *testing.T) {
	require.NoError(t, link.CheckOpen(request()))
	for name, change := range map[string]func(q *cycle.OpenRequest){
		"no UUID":             func(q *cycle.OpenRequest) { q.ID = "../../etc" },
		"no group":            func(q *cycle.OpenRequest) { q.Group.ID = "" },
		"no disks":            func(q *cycle.OpenRequest) { q.Disks = nil },
		"a disk of 2^47":      func(q *cycle.OpenRequest) { q.Disks[0].Size = 1 << 47 },
		"a disk below zero":   func(q *cycle.OpenRequest) { q.Disks[0].Size = -1 },
		"a disk twice":        func(q *cycle.OpenRequest) { q.Disks = append(q.Disks, q.Disks[0]) },
		"a key of two lines":  func(q *cycle.OpenRequest) { q.Disks[0].Key = "a\nb" },
		"a long machine":      func(q *cycle.OpenRequest) { q.Disks[0].Machine = strings.Repeat("m", 300) },
		"large settings":      func(q *cycle.OpenRequest) { q.Group.Settings = make([]byte, 300<<10) },
		"65536 disks":         func(q *cycle.OpenRequest) { q.Disks = make([]cycle.OpenRequestDisk, 1<<16) },
		"too much altogether": func(q *cycle.OpenRequest) { q.Disks = many(10, 60<<40) },
	} {
		q := request()
		change(&q)
		require.Error(t, link.CheckOpen(q), name)
	}
}

func many(n int, size int64) (out []cycle.OpenRequestDisk) {
	for i := range n {
		out = append(out, cycle.OpenRequestDisk{Machine: "m", Key: fmt.Sprint(i), Size: size})
	}
	return out
}

// A point from the future, or of no kind, is none; what the clocks differ by is taken
// off first.
func TestPointsThatCannotBe(t *testing.T) {
	now := time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)
	good := func() points.Seal {
		return points.Seal{CaptureAt: now.Add(-time.Second), Consistency: "crash", Machines: []points.SealMachine{{ID: "m", Name: "tick-db", Config: []byte(`{}`)}}}
	}
	require.NoError(t, link.CheckSeal(good(), now, 0))
	ahead := good()
	ahead.CaptureAt = now.Add(time.Hour)
	require.Error(t, link.CheckSeal(ahead, now, 0))
	require.NoError(t, link.CheckSeal(ahead, now, time.Hour))
	for name, change := range map[string]func(x *points.Seal){
		"the year 9999":      func(x *points.Seal) { x.CaptureAt = time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC) },
		"the year 1":         func(x *points.Seal) { x.CaptureAt = time.Time{} },
		"no kind":            func(x *points.Seal) { x.Consistency = "perfect" },
		"bytes below zero":   func(x *points.Seal) { x.UsedBytes = -1 },
		"a name of escapes":  func(x *points.Seal) { x.Machines[0].Name = "\x1b[2J" },
		"no name":            func(x *points.Seal) { x.Machines[0].Name = "" },
		"a large machine":    func(x *points.Seal) { x.Machines[0].Config = make([]byte, 2<<20) },
		"many machines":      func(x *points.Seal) { x.Machines = make([]points.SealMachine, 300) },
		"a large checkpoint": func(x *points.Seal) { x.Checkpoint = strings.Repeat("c", 300) },
	} {
		x := good()
		change(&x)
		require.Error(t, link.CheckSeal(x, now, 0), name)
	}
}
