package httpapi

import (
	"context"

	"kestrel/internal/api"
	"kestrel/internal/coverage"
)

func (h *handlers) GetCoverage(ctx context.Context, _ api.GetCoverageRequestObject) (api.GetCoverageResponseObject, error) {
	var peers []api.SiteCoverage
	for _, p := range h.Links.Covered() {
		peers = append(peers, api.SiteCoverage{Site: p.Site, Counts: coverage.CountsView(p.Counts), At: p.At})
	}
	v, err := h.Coverage.Show(ctx, h.Site.Self().Name, peers, h.limited(ctx))
	return api.GetCoverage200JSONResponse(v), err
}

func (h *handlers) PreviewRule(_ context.Context, request api.PreviewRuleRequestObject) (api.PreviewRuleResponseObject, error) {
	v, err := h.Coverage.Preview(*request.Body)
	return api.PreviewRule200JSONResponse(v), err
}

func (h *handlers) LeaveOutMachines(ctx context.Context, request api.LeaveOutMachinesRequestObject) (api.LeaveOutMachinesResponseObject, error) {
	return api.LeaveOutMachines204Response{}, h.Platforms.LeaveOut(ctx, who(ctx), request.Body.Machines, request.Body.Reason)
}

func (h *handlers) TakeBackMachines(ctx context.Context, request api.TakeBackMachinesRequestObject) (api.TakeBackMachinesResponseObject, error) {
	return api.TakeBackMachines204Response{}, h.Platforms.TakeBack(ctx, who(ctx), request.Body.Machines)
}
