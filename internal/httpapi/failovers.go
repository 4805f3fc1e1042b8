package httpapi

import (
	"bytes"
	"context"

	"kestrel/internal/api"
)

func (h *handlers) PlanFailover(ctx context.Context, request api.PlanFailoverRequestObject) (api.PlanFailoverResponseObject, error) {
	v, err := h.Recovery.PlanFailover(ctx, who(ctx), request.ID, *request.Body)
	return api.PlanFailover200JSONResponse(v), err
}

func (h *handlers) StartFailover(ctx context.Context, request api.StartFailoverRequestObject) (api.StartFailoverResponseObject, error) {
	v, err := h.Recovery.StartFailover(ctx, who(ctx), request.ID, *request.Body)
	return api.StartFailover201JSONResponse(v), err
}

func (h *handlers) ListFailovers(ctx context.Context, request api.ListFailoversRequestObject) (api.ListFailoversResponseObject, error) {
	v, err := h.Recovery.ListFailovers(value(request.Params.Group), h.seesID(ctx))
	return api.ListFailovers200JSONResponse(v), err
}

func (h *handlers) GetFailover(_ context.Context, request api.GetFailoverRequestObject) (api.GetFailoverResponseObject, error) {
	v, err := h.Recovery.GetFailover(request.ID)
	return api.GetFailover200JSONResponse(v), err
}

func (h *handlers) AcceptFailover(ctx context.Context, request api.AcceptFailoverRequestObject) (api.AcceptFailoverResponseObject, error) {
	v, err := h.Recovery.AcceptFailover(ctx, who(ctx), request.ID, *request.Body)
	return api.AcceptFailover200JSONResponse(v), err
}

func (h *handlers) BackOutFailover(ctx context.Context, request api.BackOutFailoverRequestObject) (api.BackOutFailoverResponseObject, error) {
	v, err := h.Recovery.BackOutFailover(ctx, who(ctx), request.ID, *request.Body)
	return api.BackOutFailover200JSONResponse(v), err
}

func (h *handlers) RepointFailover(ctx context.Context, request api.RepointFailoverRequestObject) (api.RepointFailoverResponseObject, error) {
	v, err := h.Recovery.RepointFailover(ctx, who(ctx), request.ID, *request.Body)
	return api.RepointFailover200JSONResponse(v), err
}

func (h *handlers) SteerFailover(ctx context.Context, request api.SteerFailoverRequestObject) (api.SteerFailoverResponseObject, error) {
	v, err := h.Recovery.SteerFailover(ctx, who(ctx), request.ID, *request.Body)
	return api.SteerFailover200JSONResponse(v), err
}

func (h *handlers) GetFailoverScreen(ctx context.Context, request api.GetFailoverScreenRequestObject) (api.GetFailoverScreenResponseObject, error) {
	png, err := h.Recovery.FailoverScreen(ctx, request.ID, request.Machine)
	return api.GetFailoverScreen200ImagePngResponse{Body: bytes.NewReader(png), ContentLength: int64(len(png))}, err
}

func (h *handlers) ShutDownFormer(ctx context.Context, request api.ShutDownFormerRequestObject) (api.ShutDownFormerResponseObject, error) {
	return api.ShutDownFormer204Response{}, h.Recovery.ShutDownFormer(ctx, who(ctx), request.ID, value(request.Body.AtOnce))
}

func (h *handlers) RemoveFormer(ctx context.Context, request api.RemoveFormerRequestObject) (api.RemoveFormerResponseObject, error) {
	left, err := h.Recovery.RemoveFormer(ctx, who(ctx), request.ID, request.Body.Confirm)
	return api.RemoveFormer200JSONResponse{Left: append([]string{}, left...)}, err
}
