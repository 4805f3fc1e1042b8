package httpapi

import (
	"context"

	"kestrel/internal/api"
)

func (h *handlers) ForecastSite(ctx context.Context, request api.ForecastSiteRequestObject) (api.ForecastSiteResponseObject, error) {
	if len(who(ctx).Tags) > 0 && request.Body.Join != nil {
		return nil, forbidden(who(ctx).String() + " is limited to some groups, and cannot make new ones.")
	}
	v, err := h.Foresight.Site(ctx, *request.Body, h.limited(ctx))
	return api.ForecastSite200JSONResponse(v), err
}

func (h *handlers) ListForecasts(ctx context.Context, request api.ListForecastsRequestObject) (api.ListForecastsResponseObject, error) {
	v, err := h.Foresight.Past(ctx, request.ID)
	return api.ListForecasts200JSONResponse(v), err
}
