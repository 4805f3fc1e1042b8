package foresight_test

import (
	"context"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/core/change"
	"kestrel/internal/foresight"
	"kestrel/internal/records"
	"kestrel/internal/support/rooms"
)

// kept is what is foretold, by when that was, and what is known from outside.
type kept struct {
	foresight.Records
	mu    sync.Mutex
	all   []records.Forecast
	asked int // how often it was asked what a survey saw
	knows bool
}

func (k *kept) PutForecast(_ context.Context, f records.Forecast) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	for i, x := range k.all {
		if x.GroupID == f.GroupID && x.MadeAt.Equal(f.MadeAt) {
			k.all[i] = f
			return nil
		}
	}
	k.all = append(k.all, f)
	return nil
}

func (k *kept) DueForecasts(_ context.Context, now time.Time) (due []records.Forecast, _ error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, x := range k.all {
		if x.CameWorst == nil && !x.Until.After(now) {
			due = append(due, x)
		}
	}
	return due, nil
}

func (k *kept) NewestForecasts(context.Context) (map[string]time.Time, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	out := map[string]time.Time{}
	for _, x := range k.all {
		out[x.GroupID] = x.MadeAt
	}
	return out, nil
}

func (k *kept) TrimForecasts(context.Context, time.Time) error { return nil }
func (k *kept) ChangedByHour(context.Context, time.Time) ([]records.ChangedInHour, error) {
	return nil, nil
}
func (k *kept) ShippedBetween(context.Context, string, time.Time, time.Time) (int64, error) {
	return 7, nil
}

func (k *kept) surveyed(context.Context, string, []string) (change.Curve, bool, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.asked++
	return change.Curve{{Within: time.Hour, Bytes: 1 << 20}}, k.knows, nil
}

func (k *kept) look(f func()) {
	k.mu.Lock()
	defer k.mu.Unlock()
	f()
}

// Once a day it is foretold, and judged when the day is over. A group of which nothing is
// known does not have the whole site foretold at every look.
func TestADayIsForetoldAndJudged(t *testing.T) {
	ctx, home, _ := rooms.Paired(t)
	g, err := home.Sealed(ctx, rooms.NewGroup())
	require.NoError(t, err)
	k := &kept{}
	f := foresight.New(foresight.Config{DB: k, Groups: home.Groups, Inventory: home.Inventory, Peering: home.Peering, Mover: home.Mover, Keeper: home.Keeper, History: home.History, Clock: home.Clock, Log: home.Log, Surveyed: k.surveyed, Every: 5 * time.Millisecond})
	end, cancel := context.WithCancel(ctx)
	var wg sync.WaitGroup
	wg.Go(func() { f.Run(end) })
	defer wg.Wait()
	defer cancel()
	holds := func(is func() bool) {
		t.Helper()
		require.Eventually(t, func() (ok bool) { k.look(func() { ok = is() }); return ok }, time.Minute, time.Millisecond)
	}
	holds(func() bool { return k.asked == 1 })
	home.Clock.Set(9 * time.Minute)
	require.Never(t, func() (again bool) { k.look(func() { again = k.asked > 1 || len(k.all) > 0 }); return again }, 200*time.Millisecond, 10*time.Millisecond, "nothing is known of it")
	home.Clock.Set(11 * time.Minute)
	holds(func() bool { return k.asked == 2 })
	k.look(func() { k.knows = true })
	home.Clock.Set(22 * time.Minute)
	holds(func() bool { return len(k.all) == 1 })
	k.look(func() {
		require.Equal(t, g.ID, k.all[0].GroupID)
		require.Equal(t, 24*time.Hour, k.all[0].Until.Sub(k.all[0].MadeAt))
		require.Positive(t, k.all[0].Bytes)
	})
	home.Clock.Set(23 * time.Hour)
	require.Never(t, func() (more bool) { k.look(func() { more = len(k.all) > 1 || k.all[0].CameBytes != nil }); return more }, 200*time.Millisecond, 10*time.Millisecond, "its day is not over")
	home.Clock.Set(25 * time.Hour)
	holds(func() bool { return len(k.all) == 2 && k.all[0].CameBytes != nil })
	k.look(func() { require.EqualValues(t, 7, *k.all[0].CameBytes) })
}
