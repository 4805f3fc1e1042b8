package httpapi

import (
	"context"
	"slices"

	"kestrel/internal/api"
	"kestrel/internal/directory"
	"kestrel/internal/listing"
	"kestrel/internal/lookout"
)

// Lookout tells whether groups would recover right now.
type Lookout interface {
	Of(r directory.Record) (lookout.Seen, bool)
}

func (h *handlers) readiness(r directory.Record) api.GroupReadiness {
	x, known := h.Lookout.Of(r)
	v := api.GroupReadiness{ID: r.ID, Name: r.Spec.Name, Direction: string(r.Direction), Home: r.HomeName, Recovery: r.RecoveryName, Known: known, Ready: known && x.Ready, Findings: []api.ReadinessFinding{}}
	if !x.At.IsZero() {
		v.At = new(x.At.UTC())
	}
	for _, f := range x.Findings {
		y := api.ReadinessFinding{Kind: f.Kind, Stops: f.Stops, What: f.What, Mend: f.Mend, Page: f.Page, Since: f.Since.UTC()}
		if f.Machine != "" {
			y.Machine = &f.Machine
		}
		v.Findings = append(v.Findings, y)
	}
	return v
}

func (h *handlers) GetReadiness(_ context.Context, request api.GetReadinessRequestObject) (api.GetReadinessResponseObject, error) {
	r, err := h.Directory.Find(request.ID)
	return api.GetReadiness200JSONResponse(h.readiness(r)), err
}

func (h *handlers) ListReadiness(ctx context.Context, _ api.ListReadinessRequestObject) (api.ListReadinessResponseObject, error) {
	out := api.ListReadiness200JSONResponse{Site: h.Site.Self().Name, List: []api.GroupReadiness{}}
	sees := sees(ctx)
	for _, r := range h.Directory.All() {
		if r.Direction == directory.Ended || !sees(r) {
			continue
		}
		v := h.readiness(r)
		out.Groups++
		switch {
		case !v.Known:
			out.Unknown++
		case v.Ready:
			out.Ready++
		}
		out.List = append(out.List, v)
	}
	rank := func(v api.GroupReadiness) int {
		switch {
		case v.Known && !v.Ready:
			return 0
		case !v.Known:
			return 1
		case len(v.Findings) > 0:
			return 2
		}
		return 3
	}
	slices.SortStableFunc(out.List, func(a, b api.GroupReadiness) int {
		if d := rank(a) - rank(b); d != 0 {
			return d
		}
		return listing.Fold(a.Name, b.Name)
	})
	return out, nil
}
