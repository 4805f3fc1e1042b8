package httpapi

import (
	"bytes"
	"context"
	"slices"
	"strings"

	"kestrel/internal/api"
	"kestrel/internal/core/actor"
	"kestrel/internal/problem"
	"kestrel/internal/report"
)

// Reports makes reports, and has them sent by calendar.
type Reports interface {
	Make(ctx context.Context, of report.Of) (api.Report, error)
	Plans(ctx context.Context) ([]api.ReportPlan, error)
	Create(ctx context.Context, who actor.Actor, in api.NewReportPlan) (api.ReportPlan, error)
	Edit(ctx context.Context, who actor.Actor, text string, in api.NewReportPlan) (api.ReportPlan, error)
	Delete(ctx context.Context, who actor.Actor, text string) error
	Send(ctx context.Context, who actor.Actor, text string) error
}

func (h *handlers) GetReport(ctx context.Context, request api.GetReportRequestObject) (api.GetReportResponseObject, error) {
	p := request.Params
	if f := value(p.Format); !slices.Contains([]string{"", "json", "csv", "pdf"}, f) {
		return nil, problem.Invalid("format", "%q is none of json, csv, pdf.", f)
	}
	if t := value(p.Table); t != "" && !slices.Contains(report.Tables(), t) {
		return nil, problem.Invalid("table", "%q is none of %s.", t, strings.Join(report.Tables(), ", "))
	}
	v, err := h.Reports.Make(ctx, report.Of{From: p.From, To: p.To, By: value(p.By), Which: report.Which{Tier: value(p.Tier), Tag: value(p.Tag), Peer: value(p.Peer)}, See: sees(ctx)})
	if err != nil {
		return nil, err
	}
	switch value(p.Format) {
	case "csv":
		b, err := report.Table(v, value(p.Table))
		return api.GetReport200TextCsvResponse{Body: bytes.NewReader(b), ContentLength: int64(len(b))}, err
	case "pdf":
		b, err := report.Document(v)
		return api.GetReport200ApplicationPdfResponse{Body: bytes.NewReader(b), ContentLength: int64(len(b))}, err
	}
	return api.GetReport200JSONResponse(v), nil
}

func (h *handlers) ListReportPlans(ctx context.Context, _ api.ListReportPlansRequestObject) (api.ListReportPlansResponseObject, error) {
	v, err := h.Reports.Plans(ctx)
	return api.ListReportPlans200JSONResponse(v), err
}

func (h *handlers) CreateReportPlan(ctx context.Context, request api.CreateReportPlanRequestObject) (api.CreateReportPlanResponseObject, error) {
	v, err := h.Reports.Create(ctx, who(ctx), *request.Body)
	return api.CreateReportPlan201JSONResponse(v), err
}

func (h *handlers) SetReportPlan(ctx context.Context, request api.SetReportPlanRequestObject) (api.SetReportPlanResponseObject, error) {
	v, err := h.Reports.Edit(ctx, who(ctx), request.ID, *request.Body)
	return api.SetReportPlan200JSONResponse(v), err
}

func (h *handlers) DeleteReportPlan(ctx context.Context, request api.DeleteReportPlanRequestObject) (api.DeleteReportPlanResponseObject, error) {
	return api.DeleteReportPlan204Response{}, h.Reports.Delete(ctx, who(ctx), request.ID)
}

func (h *handlers) SendReportPlan(ctx context.Context, request api.SendReportPlanRequestObject) (api.SendReportPlanResponseObject, error) {
	return api.SendReportPlan204Response{}, h.Reports.Send(ctx, who(ctx), request.ID)
}
