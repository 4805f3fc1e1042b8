package httpapi

import (
	"context"

	"kestrel/internal/api"
	"kestrel/internal/meter"
)

func (h *handlers) GetGroupMeasures(ctx context.Context, request api.GetGroupMeasuresRequestObject) (api.GetGroupMeasuresResponseObject, error) {
	r, err := h.Directory.Find(request.ID)
	if err != nil {
		return nil, err
	}
	p := request.Params
	v, err := h.Meter.View(ctx, meter.Of{Subject: r.ID, Kind: meter.Group, What: value(p.What), From: p.From, To: p.To})
	return api.GetGroupMeasures200JSONResponse(v), err
}

func (h *handlers) GetCarried(ctx context.Context, request api.GetCarriedRequestObject) (api.GetCarriedResponseObject, error) {
	v, err := h.Overview.Carried(ctx, request.ID, request.Params.Since)
	return api.GetCarried200JSONResponse(v), err
}

func (h *handlers) GetLinkMeasures(ctx context.Context, request api.GetLinkMeasuresRequestObject) (api.GetLinkMeasuresResponseObject, error) {
	l, err := h.Links.Find(request.ID)
	if err != nil {
		return nil, err
	}
	p := request.Params
	v, err := h.Meter.View(ctx, meter.Of{Subject: l.ID, Kind: meter.Link, What: value(p.What), From: p.From, To: p.To})
	return api.GetLinkMeasures200JSONResponse(v), err
}

func (h *handlers) GetStoreMeasures(ctx context.Context, request api.GetStoreMeasuresRequestObject) (api.GetStoreMeasuresResponseObject, error) {
	p := request.Params
	v, err := h.Meter.View(ctx, meter.Of{Subject: h.Site.Self().ID, Kind: meter.Stores, What: value(p.What), From: p.From, To: p.To})
	return api.GetStoreMeasures200JSONResponse(v), err
}
