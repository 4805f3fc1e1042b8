package httpapi

import (
	"context"

	"kestrel/internal/api"
)

func (h *handlers) ListTiers(ctx context.Context, _ api.ListTiersRequestObject) (api.ListTiersResponseObject, error) {
	return api.ListTiers200JSONResponse(h.Tiers.List(h.Site.Self().Name, h.limited(ctx))), nil
}

func (h *handlers) GetTier(ctx context.Context, request api.GetTierRequestObject) (api.GetTierResponseObject, error) {
	v, err := h.Tiers.Show(ctx, h.Site.Self().Name, request.ID)
	return api.GetTier200JSONResponse(v), err
}

func (h *handlers) CreateTier(ctx context.Context, request api.CreateTierRequestObject) (api.CreateTierResponseObject, error) {
	id, err := h.Tiers.Make(ctx, who(ctx), *request.Body)
	if err != nil {
		return nil, err
	}
	v, err := h.Tiers.Show(ctx, h.Site.Self().Name, id)
	return api.CreateTier201JSONResponse(v), err
}

func (h *handlers) UpdateTier(ctx context.Context, request api.UpdateTierRequestObject) (api.UpdateTierResponseObject, error) {
	if err := h.Tiers.Change(ctx, who(ctx), request.ID, *request.Body); err != nil {
		return nil, err
	}
	v, err := h.Tiers.Show(ctx, h.Site.Self().Name, request.ID)
	return api.UpdateTier200JSONResponse(v), err
}

func (h *handlers) PreviewTier(ctx context.Context, request api.PreviewTierRequestObject) (api.PreviewTierResponseObject, error) {
	v, err := h.Tiers.Foresee(ctx, request.ID, *request.Body)
	return api.PreviewTier200JSONResponse(v), err
}

func (h *handlers) DeleteTier(ctx context.Context, request api.DeleteTierRequestObject) (api.DeleteTierResponseObject, error) {
	return api.DeleteTier204Response{}, h.Tiers.Delete(ctx, who(ctx), request.ID)
}
