package httpapi

import (
	"context"

	"kestrel/internal/api"
)

func (h *handlers) StepFailover(ctx context.Context, request api.StepFailoverRequestObject) (api.StepFailoverResponseObject, error) {
	v, err := h.Recovery.StepFailover(ctx, who(ctx), request.ID, *request.Body)
	return api.StepFailover200JSONResponse(v), err
}

func (h *handlers) StepDrill(ctx context.Context, request api.StepDrillRequestObject) (api.StepDrillResponseObject, error) {
	v, err := h.Recovery.StepDrill(ctx, who(ctx), request.ID, *request.Body)
	return api.StepDrill200JSONResponse(v), err
}

func (h *handlers) ListDNSServers(context.Context, api.ListDNSServersRequestObject) (api.ListDNSServersResponseObject, error) {
	return api.ListDNSServers200JSONResponse(h.Names.List()), nil
}

func (h *handlers) AddDNSServer(ctx context.Context, request api.AddDNSServerRequestObject) (api.AddDNSServerResponseObject, error) {
	v, err := h.Names.Add(ctx, who(ctx), *request.Body)
	return api.AddDNSServer201JSONResponse(v), err
}

func (h *handlers) RemoveDNSServer(ctx context.Context, request api.RemoveDNSServerRequestObject) (api.RemoveDNSServerResponseObject, error) {
	return api.RemoveDNSServer204Response{}, h.Names.Delete(ctx, who(ctx), request.ID)
}

func (h *handlers) TestDNSServer(ctx context.Context, request api.TestDNSServerRequestObject) (api.TestDNSServerResponseObject, error) {
	v, err := h.Names.Test(ctx, who(ctx), request.ID, request.Body.Name)
	return api.TestDNSServer200JSONResponse(v), err
}

func (h *handlers) ListFlotillas(context.Context, api.ListFlotillasRequestObject) (api.ListFlotillasResponseObject, error) {
	return api.ListFlotillas200JSONResponse(h.Recovery.ListFlotillas()), nil
}

func (h *handlers) PlanFlotilla(ctx context.Context, request api.PlanFlotillaRequestObject) (api.PlanFlotillaResponseObject, error) {
	v, err := h.Recovery.PlanFlotilla(ctx, who(ctx), *request.Body)
	return api.PlanFlotilla200JSONResponse(v), err
}

func (h *handlers) StartFlotilla(ctx context.Context, request api.StartFlotillaRequestObject) (api.StartFlotillaResponseObject, error) {
	v, err := h.Recovery.StartFlotilla(ctx, who(ctx), *request.Body)
	return api.StartFlotilla201JSONResponse(v), err
}

func (h *handlers) GetFlotilla(_ context.Context, request api.GetFlotillaRequestObject) (api.GetFlotillaResponseObject, error) {
	v, err := h.Recovery.GetFlotilla(request.ID)
	return api.GetFlotilla200JSONResponse(v), err
}

func (h *handlers) SteerFlotilla(ctx context.Context, request api.SteerFlotillaRequestObject) (api.SteerFlotillaResponseObject, error) {
	v, err := h.Recovery.SteerFlotilla(ctx, who(ctx), request.ID, *request.Body)
	return api.SteerFlotilla200JSONResponse(v), err
}
