package memory

import (
	"context"
	"slices"
	"time"

	"kestrel/internal/records"
)

// Platforms implements inventory.Records.
func (db *DB) Platforms(context.Context) ([]records.Platform, error) { return all(db, db.platforms) }

// AddPlatform implements inventory.Records.
func (db *DB) AddPlatform(_ context.Context, p records.Platform) error {
	return db.set(func() { db.platforms[p.ID] = p })
}

// DeletePlatform implements inventory.Records.
func (db *DB) DeletePlatform(_ context.Context, id string) error {
	return db.set(func() { delete(db.platforms, id) })
}

// Served implements serving.Records.
func (db *DB) Served(context.Context) ([]records.Served, error) { return all(db, db.served) }

// AddServed implements serving.Records.
func (db *DB) AddServed(_ context.Context, s records.Served) error {
	return db.set(func() { db.served[s.ID] = s })
}

// SaveServed implements serving.Records.
func (db *DB) SaveServed(_ context.Context, s records.Served) error {
	return db.AddServed(context.Background(), s)
}

// DeleteServed implements serving.Records.
func (db *DB) DeleteServed(_ context.Context, id string) error {
	return db.set(func() { delete(db.served, id) })
}

// Landings implements landing.Records.
func (db *DB) Landings(context.Context) ([]records.Landing, error) { return all(db, db.landings) }

// AddLanding implements landing.Records.
func (db *DB) AddLanding(_ context.Context, l records.Landing) error {
	return db.set(func() { db.landings[l.ID] = l })
}

// SaveLanding implements landing.Records.
func (db *DB) SaveLanding(_ context.Context, l records.Landing) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	was, ok := db.landings[l.ID]
	if !ok {
		return missing("landing")
	}
	was.State, was.Detail = l.State, slices.Clone(l.Detail)
	db.landings[l.ID] = was
	return nil
}

// DeleteLanding implements landing.Records.
func (db *DB) DeleteLanding(_ context.Context, id string) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	if _, ok := db.landings[id]; !ok {
		return missing("landing")
	}
	delete(db.landings, id)
	return nil
}

func (db *DB) set(f func()) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	f()
	return nil
}

func all[T any](db *DB, m map[string]T) ([]T, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	var out []T
	for _, x := range m {
		out = append(out, x)
	}
	return out, nil
}

// LeftOut implements inventory.Records.
func (db *DB) LeftOut(context.Context) ([]records.LeftOut, error) { return all(db, db.left) }

// LeaveOut implements inventory.Records.
func (db *DB) LeaveOut(_ context.Context, ms []records.LeftOut) error {
	return db.set(func() {
		for _, m := range ms {
			db.left[m.Platform+"/"+m.Machine] = m
		}
	})
}

// TakeBack implements inventory.Records.
func (db *DB) TakeBack(_ context.Context, ms []records.LeftOut) error {
	return db.set(func() {
		for _, m := range ms {
			delete(db.left, m.Platform+"/"+m.Machine)
		}
	})
}

// AddCoverage implements coverage.Records.
func (db *DB) AddCoverage(_ context.Context, c records.Coverage, forget time.Time) error {
	return db.set(func() {
		db.coverage = append(slices.DeleteFunc(db.coverage, func(x records.Coverage) bool { return x.At.Before(forget) || x.At.Equal(c.At) }), c)
	})
}

// CoverageSince implements coverage.Records.
func (db *DB) CoverageSince(_ context.Context, from time.Time) ([]records.Coverage, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	return slices.DeleteFunc(slices.Clone(db.coverage), func(x records.Coverage) bool { return x.At.Before(from) }), nil
}

// Surveys implements survey.Records.
func (db *DB) Surveys(context.Context) ([]records.Survey, error) {
	out, err := all(db, db.surveys)
	slices.SortFunc(out, func(a, b records.Survey) int { return b.StartedAt.Compare(a.StartedAt) })
	return out, err
}

// PutSurvey implements survey.Records.
func (db *DB) PutSurvey(_ context.Context, s records.Survey) error {
	return db.set(func() { db.surveys[s.ID] = s })
}

// DeleteSurvey implements survey.Records.
func (db *DB) DeleteSurvey(_ context.Context, id string) error {
	return db.set(func() {
		delete(db.surveys, id)
		db.samples = slices.DeleteFunc(db.samples, func(s records.SurveySample) bool { return s.Survey == id })
	})
}

// AddSurveySample implements survey.Records.
func (db *DB) AddSurveySample(_ context.Context, s records.SurveySample) error {
	return db.set(func() { db.samples = append(db.samples, s) })
}

// SurveySamples implements survey.Records.
func (db *DB) SurveySamples(_ context.Context, survey string) ([]records.SurveySample, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	return slices.DeleteFunc(slices.Clone(db.samples), func(s records.SurveySample) bool { return s.Survey != survey }), nil
}

// Tiers implements tiers.Records.
func (db *DB) Tiers(context.Context) ([]records.Tier, error) { return all(db, db.tiers) }

// PutTier implements tiers.Records.
func (db *DB) PutTier(_ context.Context, t records.Tier, at time.Time, who string) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	if db.tiers[t.ID].Revision != t.Revision-1 {
		return records.ErrStale
	}
	db.tiers[t.ID] = t
	db.tierHistory = append(db.tierHistory, records.TierRevision{Tier: t.ID, Revision: t.Revision, Settings: t.Settings, At: at, Who: who})
	return nil
}

// DeleteTier implements tiers.Records.
func (db *DB) DeleteTier(_ context.Context, id string) error {
	return db.set(func() { delete(db.tiers, id) })
}

// TierHistory implements tiers.Records.
func (db *DB) TierHistory(_ context.Context, id string) ([]records.TierRevision, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	out := slices.DeleteFunc(slices.Clone(db.tierHistory), func(r records.TierRevision) bool { return r.Tier != id })
	slices.Reverse(out)
	return out, nil
}

// Berths implements berths.Records.
func (db *DB) Berths(context.Context) ([]records.Berth, error) { return all(db, db.berths) }

// PutBerth implements berths.Records.
func (db *DB) PutBerth(_ context.Context, b records.Berth) error {
	db.mu.Lock()
	defer db.mu.Unlock()
	if was := db.berths[b.Kind+b.Subject]; was.Revision != b.Revision-1 {
		return records.ErrStale
	}
	db.berths[b.Kind+b.Subject] = b
	return nil
}
