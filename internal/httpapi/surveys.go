package httpapi

import (
	"context"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/span"
)

func (h *handlers) ListSurveys(context.Context, api.ListSurveysRequestObject) (api.ListSurveysResponseObject, error) {
	return api.ListSurveys200JSONResponse(h.Surveys.List()), nil
}

func (h *handlers) StartSurvey(ctx context.Context, request api.StartSurveyRequestObject) (api.StartSurveyResponseObject, error) {
	in := request.Body
	id, err := h.Surveys.Start(ctx, who(ctx), in.Name, in.Machines, span.Times(in.ForSeconds, time.Second))
	if err != nil {
		return nil, err
	}
	v, err := h.Surveys.Show(ctx, id)
	return api.StartSurvey201JSONResponse(v), err
}

func (h *handlers) GetSurvey(ctx context.Context, request api.GetSurveyRequestObject) (api.GetSurveyResponseObject, error) {
	v, err := h.Surveys.Show(ctx, request.ID)
	return api.GetSurvey200JSONResponse(v), err
}

func (h *handlers) StopSurvey(ctx context.Context, request api.StopSurveyRequestObject) (api.StopSurveyResponseObject, error) {
	return api.StopSurvey204Response{}, h.Surveys.Stop(ctx, who(ctx), request.ID)
}

func (h *handlers) DeleteSurvey(ctx context.Context, request api.DeleteSurveyRequestObject) (api.DeleteSurveyResponseObject, error) {
	return api.DeleteSurvey204Response{}, h.Surveys.Delete(ctx, who(ctx), request.ID)
}
