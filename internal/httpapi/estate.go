package httpapi

import (
	"context"

	"kestrel/internal/api"
	"kestrel/internal/estate"
)

// wholeSite refuses whoever is limited to some groups: a file has all of them.
func wholeSite(ctx context.Context) error {
	if len(who(ctx).Tags) > 0 {
		return forbidden(who(ctx).String() + " is limited to some groups, and a file has all of them.")
	}
	return nil
}

func (h *handlers) ExportEstate(ctx context.Context, request api.ExportEstateRequestObject) (api.ExportEstateResponseObject, error) {
	if err := wholeSite(ctx); err != nil {
		return nil, err
	}
	from := ""
	if request.Params.AsSeenFrom != nil {
		from = *request.Params.AsSeenFrom
	}
	text, err := h.Estate.Export(from)
	return api.ExportEstate200JSONResponse{Text: text}, err
}

func (h *handlers) ApplyEstate(ctx context.Context, request api.ApplyEstateRequestObject) (api.ApplyEstateResponseObject, error) {
	if err := wholeSite(ctx); err != nil {
		return nil, err
	}
	v, err := h.Estate.Apply(ctx, who(ctx), *request.Body)
	return api.ApplyEstate200JSONResponse(v), err
}

func (h *handlers) GetEstateSchema(context.Context, api.GetEstateSchemaRequestObject) (api.GetEstateSchemaResponseObject, error) {
	return told[api.GetEstateSchema200JSONResponse](estate.Schema(), nil)
}
