package httpapi

import (
	"context"
	"encoding/json"
	"fmt"

	"kestrel/internal/api"
)

// as gives a value another type of the same shape: the room's own, and the contract's.
func as[T any](v any) (out T, err error) {
	b, err := json.Marshal(v)
	if err == nil {
		err = json.Unmarshal(b, &out)
	}
	if err != nil {
		err = fmt.Errorf("say it as the contract does: %w", err)
	}
	return out, err
}

// told answers with what a room tells, in the contract's type.
func told[T any](v any, err error) (out T, _ error) {
	if err != nil {
		return out, err
	}
	return as[T](v)
}

func (h *handlers) GetBerth(ctx context.Context, request api.GetBerthRequestObject) (api.GetBerthResponseObject, error) {
	v, err := h.Berths.Show(ctx, who(ctx), request.ID)
	return told[api.GetBerth200JSONResponse](v, err)
}

func (h *handlers) SetBerth(ctx context.Context, request api.SetBerthRequestObject) (api.SetBerthResponseObject, error) {
	wish, err := json.Marshal(request.Body.Berth)
	if err != nil {
		return nil, err
	}
	v, err := h.Berths.Write(ctx, who(ctx), request.ID, request.Body.Revision, wish)
	return told[api.SetBerth200JSONResponse](v, err)
}

func (h *handlers) PreviewBerth(ctx context.Context, request api.PreviewBerthRequestObject) (api.PreviewBerthResponseObject, error) {
	wish, err := json.Marshal(request.Body)
	if err != nil {
		return nil, err
	}
	v, err := h.Berths.Preview(ctx, who(ctx), request.ID, wish)
	return told[api.PreviewBerth200JSONResponse](v, err)
}

func (h *handlers) GetBerthBack(ctx context.Context, request api.GetBerthBackRequestObject) (api.GetBerthBackResponseObject, error) {
	v, err := h.Berths.Back(ctx, who(ctx), request.ID)
	return told[api.GetBerthBack200JSONResponse](v, err)
}

func (h *handlers) GetBerthDefault(_ context.Context, request api.GetBerthDefaultRequestObject) (api.GetBerthDefaultResponseObject, error) {
	v, err := h.Berths.Default(request.Of, request.ID)
	return told[api.GetBerthDefault200JSONResponse](v, err)
}

func (h *handlers) SetBerthDefault(ctx context.Context, request api.SetBerthDefaultRequestObject) (api.SetBerthDefaultResponseObject, error) {
	wish, err := json.Marshal(request.Body.Berth)
	if err != nil {
		return nil, err
	}
	v, err := h.Berths.WriteDefault(ctx, who(ctx), request.Of, request.ID, request.Body.Revision, wish)
	return told[api.SetBerthDefault200JSONResponse](v, err)
}

func (h *handlers) PreviewBerthDefault(_ context.Context, request api.PreviewBerthDefaultRequestObject) (api.PreviewBerthDefaultResponseObject, error) {
	wish, err := json.Marshal(request.Body)
	if err != nil {
		return nil, err
	}
	v, err := h.Berths.PreviewDefault(request.Of, request.ID, wish)
	return told[api.PreviewBerthDefault200JSONResponse](v, err)
}
