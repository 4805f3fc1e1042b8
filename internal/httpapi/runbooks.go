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
