package foresight

import (
	"context"
	"errors"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/clock"
	"kestrel/internal/core/forecast"
	"kestrel/internal/core/span"
	"kestrel/internal/directory"
	"kestrel/internal/records"
)

const (
	// rememberFor is how long what was foretold is kept.
	rememberFor = 90 * span.Day
	// ahead is for how long it is foretold what is remembered.
	ahead = span.Day
	// again is how long after it nothing was known of a group it is looked at again: it takes
	// a forecast of the whole site.
	again = 10 * time.Minute
)

// Run foretells once a day, and judges what was foretold when its time is over, until ctx
// ends.
func (f *Foresight) Run(ctx context.Context) {
	// Not at once: when a service starts, people wait for what it shows.
	for clock.Sleep(ctx, f.Clock, f.Every) == nil {
		_, err := f.busy(ctx, f.Clock.Now()) // by which cycles are begun as well
		if err := errors.Join(err, f.judge(ctx), f.remember(ctx)); err != nil && ctx.Err() == nil {
			f.Log.Warn("remember forecasts", "err", err)
		}
	}
}

// remember keeps what is foretold of each group for a day. Of a group of which nothing is
// known it would be worth nothing.
func (f *Foresight) remember(ctx context.Context) error {
	now := f.Clock.Now().UTC().Truncate(time.Second)
	newest, err := f.DB.NewestForecasts(ctx)
	if err != nil {
		return err
	}
	due := map[string]bool{}
	for _, r := range f.Groups.All() {
		if r.Direction != directory.Out || r.Spec.PausedAt(now) {
			continue
		}
		if made, is := newest[r.ID]; (!is || !made.Add(ahead).After(now)) && now.Sub(f.tried[r.ID]).Abs() >= again {
			due[r.ID] = true
		}
	}
	if len(due) == 0 {
		return nil
	}
	s, err := f.scene(ctx, now, ahead)
	if err != nil {
		return err
	}
	out := forecast.Run(s.in)
	f.tried = map[string]time.Time{}
	for id := range due {
		f.tried[id] = now
	}
	for i, o := range out.Groups {
		if !due[o.ID] || o.Unknown || s.from[i] == fromNone && !s.in.Groups[i].Captured.IsZero() {
			continue
		}
		rec := records.Forecast{GroupID: o.ID, MadeAt: now, Until: now.Add(ahead), Worst: secs(o.Worst), Bytes: int64(o.Bytes), Within: o.Within}
		if !o.Seeded.IsZero() {
			rec.SeededAt = new(o.Seeded.UTC())
		}
		if err := f.DB.PutForecast(ctx, rec); err != nil {
			return err
		}
	}
	return f.DB.TrimForecasts(ctx, now.Add(-rememberFor))
}

// judge notes what came of what was foretold.
func (f *Foresight) judge(ctx context.Context) error {
	due, err := f.DB.DueForecasts(ctx, f.Clock.Now())
	if err != nil {
		return err
	}
	for _, x := range due {
		r, ok := f.Groups.Get(x.GroupID)
		if !ok {
			continue
		}
		e, err := f.History.Exposure(ctx, r, &x.MadeAt, &x.Until)
		if err != nil {
			return err
		}
		bytes, err := f.DB.ShippedBetween(ctx, x.GroupID, x.MadeAt, x.Until)
		if err != nil {
			return err
		}
		x.CameWorst, x.CameBytes, x.CameWithin = &e.WorstSeconds, &bytes, &e.KeptShare
		if x.SeededAt != nil && len(e.Vertices) > 0 {
			first := e.Vertices[0].At // before the first point there is no exposure
			x.CameSeeded = &first
		}
		if err := f.DB.PutForecast(ctx, x); err != nil {
			return err
		}
	}
	return nil
}

// Past lists what was foretold of a group, and what came of it.
func (f *Foresight) Past(ctx context.Context, group string) ([]api.PastForecast, error) {
	r, err := f.Groups.Find(group)
	if err != nil {
		return nil, err
	}
	all, err := f.DB.Forecasts(ctx, r.ID, 90)
	if err != nil {
		return nil, err
	}
	out := []api.PastForecast{}
	for _, x := range all {
		out = append(out, api.PastForecast{MadeAt: x.MadeAt.UTC(), Until: x.Until.UTC(), WorstSeconds: x.Worst, Bytes: x.Bytes, Within: x.Within, SeedFinishAt: x.SeededAt,
			CameWorstSeconds: x.CameWorst, CameBytes: x.CameBytes, CameWithin: x.CameWithin, CameSeedFinishAt: x.CameSeeded})
	}
	return out, nil
}
