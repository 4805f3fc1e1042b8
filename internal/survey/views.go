package survey

import (
	"context"
	"slices"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/change"
	"kestrel/internal/core/span"
	"kestrel/internal/records"
)

// cadences are those that a survey says the needs of.
func cadences() []time.Duration {
	return []time.Duration{time.Minute, 5 * time.Minute, 15 * time.Minute, 30 * time.Minute, time.Hour, 6 * time.Hour}
}

// List lists surveys, newest first.
func (s *Surveys) List() []api.Survey {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []api.Survey{}
	for _, x := range s.byID {
		out = append(out, x.view())
	}
	slices.SortFunc(out, func(a, b api.Survey) int { return b.StartedAt.Compare(a.StartedAt) })
	return out
}

// view is a survey without what it saw; the lock is held.
func (x *state) view() api.Survey {
	v := api.Survey{ID: x.rec.ID, Name: x.rec.Name, StartedAt: x.rec.StartedAt.UTC(), EndsAt: x.rec.EndsAt.UTC(), StartedBy: x.rec.StartedBy, Machines: []api.SurveyMachine{}}
	if x.rec.EndedAt != nil {
		v.EndedAt = new(x.rec.EndedAt.UTC())
	}
	for _, m := range x.machines {
		y := api.SurveyMachine{ID: m.key(), Name: m.Name, SizeBytes: m.SizeBytes, UsedBytes: m.UsedBytes}
		v.UsedBytes += m.UsedBytes
		if m.Note != "" {
			y.Note = &m.Note
		}
		v.Machines = append(v.Machines, y)
	}
	return v
}

// samplesOf groups samples by machine.
func samplesOf(all []records.SurveySample) map[string][]change.Sample {
	out := map[string][]change.Sample{}
	for _, x := range all {
		out[x.Machine] = append(out[x.Machine], change.Sample{From: x.FromAt, After: time.Duration(x.AfterSeconds) * time.Second, Bytes: x.Bytes})
	}
	return out
}

// Show tells what a survey has seen so far, and what the machines would need.
func (s *Surveys) Show(ctx context.Context, id string) (api.Survey, error) {
	x, err := s.find(id)
	if err != nil {
		return api.Survey{}, err
	}
	s.mu.Lock()
	v := x.view()
	s.mu.Unlock()
	all, err := s.DB.SurveySamples(ctx, v.ID)
	if err != nil {
		return v, err
	}
	by := samplesOf(all)
	var typical, busiest []change.Curve
	for i, m := range v.Machines {
		mine := by[m.ID]
		v.Machines[i].Samples = len(mine)
		t := change.Typical(mine)
		typical, busiest = append(typical, t), append(busiest, change.Busiest(mine))
		if len(t) > 0 {
			v.Machines[i].HourBytes = new(int64(t.Within(time.Hour)))
		}
	}
	t, b := change.Sum(typical...), change.Sum(busiest...)
	v.Curve, v.Needs, v.Hours = &[]api.SurveyStretch{}, &[]api.SurveyNeed{}, &[]api.SurveyHour{}
	for _, x := range t {
		*v.Curve = append(*v.Curve, api.SurveyStretch{WithinSeconds: int64(x.Within / time.Second), TypicalBytes: int64(x.Bytes), BusiestBytes: int64(b.Within(x.Within))})
	}
	for _, every := range cadences() {
		// Less often than was watched is reckoned, and not said before an hour was seen.
		if len(t) == 0 || every > time.Hour && t[len(t)-1].Within < time.Hour {
			continue
		}
		*v.Needs = append(*v.Needs, api.SurveyNeed{CadenceSeconds: int64(every / time.Second), TypicalBytesPerSecond: t.Rate(every), BusiestBytesPerSecond: b.Rate(every), DayBytes: int64(t.Within(every) * float64(span.Day/every))})
	}
	var joined []change.Sample
	for _, m := range by {
		joined = append(joined, m...)
	}
	for _, h := range change.Week(joined, time.UTC) {
		*v.Hours = append(*v.Hours, api.SurveyHour{Hour: h.Hour, Share: h.Share})
	}
	return v, nil
}

// Change is how much machines change together by the newest survey of each, by their
// platform and their IDs on it; the second result is false if not all were surveyed.
func (s *Surveys) Change(ctx context.Context, platform string, machines []string) (change.Curve, bool, error) {
	s.mu.Lock()
	newest := map[string]records.Survey{}
	for _, x := range s.byID {
		for _, m := range x.machines {
			if m.Platform == platform && slices.Contains(machines, m.ID) && newest[m.key()].StartedAt.Before(x.rec.StartedAt) {
				newest[m.key()] = x.rec
			}
		}
	}
	s.mu.Unlock()
	if len(machines) == 0 || len(newest) < len(machines) {
		return nil, false, nil
	}
	seen := map[string]map[string][]change.Sample{}
	var all []change.Curve
	for key, rec := range newest {
		if seen[rec.ID] == nil {
			samples, err := s.DB.SurveySamples(ctx, rec.ID)
			if err != nil {
				return nil, false, err
			}
			seen[rec.ID] = samplesOf(samples)
		}
		c := change.Typical(seen[rec.ID][key])
		if len(c) == 0 {
			return nil, false, nil
		}
		all = append(all, c)
	}
	return change.Sum(all...), true, nil
}
