package httpapi

import (
	"bytes"
	"context"
	"encoding/json"

	"kestrel/internal/api"
	"kestrel/internal/recovery"
)

func (h *handlers) PlanDrill(ctx context.Context, request api.PlanDrillRequestObject) (api.PlanDrillResponseObject, error) {
	v, err := h.Recovery.Plan(ctx, who(ctx), request.ID, *request.Body)
	return api.PlanDrill200JSONResponse(v), err
}

func (h *handlers) StartDrill(ctx context.Context, request api.StartDrillRequestObject) (api.StartDrillResponseObject, error) {
	v, err := h.Recovery.Start(ctx, who(ctx), request.ID, *request.Body)
	return api.StartDrill201JSONResponse(v), err
}

func (h *handlers) ListDrills(ctx context.Context, request api.ListDrillsRequestObject) (api.ListDrillsResponseObject, error) {
	v, err := h.Recovery.List(value(request.Params.Group), h.seesID(ctx))
	return api.ListDrills200JSONResponse(v), err
}

func (h *handlers) GetDrill(_ context.Context, request api.GetDrillRequestObject) (api.GetDrillResponseObject, error) {
	v, err := h.Recovery.Get(request.ID)
	return api.GetDrill200JSONResponse(v), err
}

func (h *handlers) EndDrill(ctx context.Context, request api.EndDrillRequestObject) (api.EndDrillResponseObject, error) {
	v, err := h.Recovery.End(ctx, who(ctx), request.ID, *request.Body)
	return api.EndDrill200JSONResponse(v), err
}

func (h *handlers) GetDrillScreen(ctx context.Context, request api.GetDrillScreenRequestObject) (api.GetDrillScreenResponseObject, error) {
	png, err := h.Recovery.Screen(ctx, request.ID, request.Machine)
	return api.GetDrillScreen200ImagePngResponse{Body: bytes.NewReader(png), ContentLength: int64(len(png))}, err
}

func (h *handlers) ListEvidence(ctx context.Context, _ api.ListEvidenceRequestObject) (api.ListEvidenceResponseObject, error) {
	v, err := h.Recovery.Register(ctx, h.seesID(ctx))
	return api.ListEvidence200JSONResponse(v), err
}

func (h *handlers) GetEvidence(ctx context.Context, request api.GetEvidenceRequestObject) (api.GetEvidenceResponseObject, error) {
	e, err := h.Recovery.Evidence(ctx, request.ID)
	if err != nil {
		return nil, err
	}
	if value(request.Params.Format) != "pdf" {
		var file api.GetEvidence200JSONResponse
		err := json.Unmarshal(e.File, &file)
		return file, err
	}
	pdf, err := recovery.Paper(e.File)
	return api.GetEvidence200ApplicationPdfResponse{Body: bytes.NewReader(pdf), ContentLength: int64(len(pdf))}, err
}

func (h *handlers) ListDrillRounds(ctx context.Context, _ api.ListDrillRoundsRequestObject) (api.ListDrillRoundsResponseObject, error) {
	v, err := h.Recovery.Rounds(ctx)
	return api.ListDrillRounds200JSONResponse(v), err
}

func (h *handlers) AddDrillRound(ctx context.Context, request api.AddDrillRoundRequestObject) (api.AddDrillRoundResponseObject, error) {
	v, err := h.Recovery.AddRound(ctx, who(ctx), *request.Body)
	return api.AddDrillRound201JSONResponse(v), err
}

func (h *handlers) RemoveDrillRound(ctx context.Context, request api.RemoveDrillRoundRequestObject) (api.RemoveDrillRoundResponseObject, error) {
	return api.RemoveDrillRound204Response{}, h.Recovery.RemoveRound(ctx, who(ctx), request.ID)
}
