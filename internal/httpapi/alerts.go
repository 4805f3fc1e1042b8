package httpapi

import (
	"context"
	"strings"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/health"
	"kestrel/internal/watch"
)

// Watch is how things are, and what people have to be told of.
type Watch interface {
	Condition(t watch.Thing) (health.Condition, bool)
	Machine(platform, id string) (health.Condition, bool)
	Alerts(see func(group string) bool) []api.Alert
	Cleared(ctx context.Context, from, to *time.Time, limit int, see func(group string) bool) ([]api.Alert, error)
	GroupOf(id string) (string, error)
	Acknowledge(ctx context.Context, who actor.Actor, id string, in api.Acknowledgement) (api.Alert, error)
	Rules() api.AlertRules
	SetRules(ctx context.Context, who actor.Actor, in api.WriteAlertRules) (api.AlertRules, error)
	Silences() []api.Silence
	Silence(ctx context.Context, who actor.Actor, in api.NewSilence) (api.Silence, error)
	EndSilence(ctx context.Context, who actor.Actor, id string) error
}

// Notify is by which channels people are told.
type Notify interface {
	Channels(ctx context.Context) ([]api.Channel, error)
	Create(ctx context.Context, who actor.Actor, in api.WriteChannel) (api.Channel, error)
	Edit(ctx context.Context, who actor.Actor, text string, in api.WriteChannel) (api.Channel, error)
	Delete(ctx context.Context, who actor.Actor, text string) error
	Test(ctx context.Context, who actor.Actor, text string) (api.ChannelTest, error)
}

// condition is how something is; nil before it was looked at.
func (h *handlers) condition(kind, id string) *api.Condition {
	if h.Watch == nil {
		return nil
	}
	c, known := h.Watch.Condition(watch.Thing{Kind: kind, ID: id})
	if !known {
		return nil
	}
	return new(watch.ConditionView(c))
}

// linkHealth adds how links and the sites at their other ends are.
func (h *handlers) linkHealth(ls []api.Link) {
	for i := range ls {
		ls[i].Health, ls[i].PeerHealth = h.condition(watch.Link, ls[i].ID), h.condition(watch.Peer, ls[i].ID)
	}
}

// machineHealth is how a machine is that some group here protects; nil of others.
func (h *handlers) machineHealth(m api.Machine) *api.Condition {
	_, id, _ := strings.Cut(m.ID, "/")
	c, protected := h.Watch.Machine(m.Platform, id)
	if !protected {
		return nil
	}
	return new(watch.ConditionView(c))
}

func (h *handlers) ListAlerts(ctx context.Context, request api.ListAlertsRequestObject) (api.ListAlertsResponseObject, error) {
	p := request.Params
	see := h.seesID(ctx)
	if value(p.State) != "cleared" {
		return api.ListAlerts200JSONResponse(h.Watch.Alerts(see)), nil
	}
	v, err := h.Watch.Cleared(ctx, p.From, p.To, value(p.Limit), see)
	return api.ListAlerts200JSONResponse(v), err
}

func (h *handlers) AcknowledgeAlert(ctx context.Context, request api.AcknowledgeAlertRequestObject) (api.AcknowledgeAlertResponseObject, error) {
	v, err := h.Watch.Acknowledge(ctx, who(ctx), request.ID, *request.Body)
	return api.AcknowledgeAlert200JSONResponse(v), err
}

func (h *handlers) GetAlertRules(context.Context, api.GetAlertRulesRequestObject) (api.GetAlertRulesResponseObject, error) {
	return api.GetAlertRules200JSONResponse(h.Watch.Rules()), nil
}

func (h *handlers) SetAlertRules(ctx context.Context, request api.SetAlertRulesRequestObject) (api.SetAlertRulesResponseObject, error) {
	v, err := h.Watch.SetRules(ctx, who(ctx), *request.Body)
	return api.SetAlertRules200JSONResponse(v), err
}

func (h *handlers) ListSilences(context.Context, api.ListSilencesRequestObject) (api.ListSilencesResponseObject, error) {
	return api.ListSilences200JSONResponse(h.Watch.Silences()), nil
}

func (h *handlers) CreateSilence(ctx context.Context, request api.CreateSilenceRequestObject) (api.CreateSilenceResponseObject, error) {
	v, err := h.Watch.Silence(ctx, who(ctx), *request.Body)
	return api.CreateSilence201JSONResponse(v), err
}

func (h *handlers) EndSilence(ctx context.Context, request api.EndSilenceRequestObject) (api.EndSilenceResponseObject, error) {
	return api.EndSilence204Response{}, h.Watch.EndSilence(ctx, who(ctx), request.ID)
}

func (h *handlers) ListChannels(ctx context.Context, _ api.ListChannelsRequestObject) (api.ListChannelsResponseObject, error) {
	v, err := h.Notify.Channels(ctx)
	return api.ListChannels200JSONResponse(v), err
}

func (h *handlers) CreateChannel(ctx context.Context, request api.CreateChannelRequestObject) (api.CreateChannelResponseObject, error) {
	v, err := h.Notify.Create(ctx, who(ctx), *request.Body)
	return api.CreateChannel201JSONResponse(v), err
}

func (h *handlers) SetChannel(ctx context.Context, request api.SetChannelRequestObject) (api.SetChannelResponseObject, error) {
	v, err := h.Notify.Edit(ctx, who(ctx), request.ID, *request.Body)
	return api.SetChannel200JSONResponse(v), err
}

func (h *handlers) DeleteChannel(ctx context.Context, request api.DeleteChannelRequestObject) (api.DeleteChannelResponseObject, error) {
	return api.DeleteChannel204Response{}, h.Notify.Delete(ctx, who(ctx), request.ID)
}

func (h *handlers) TestChannel(ctx context.Context, request api.TestChannelRequestObject) (api.TestChannelResponseObject, error) {
	v, err := h.Notify.Test(ctx, who(ctx), request.ID)
	return api.TestChannel200JSONResponse(v), err
}

func (h *handlers) GetAttainment(ctx context.Context, request api.GetAttainmentRequestObject) (api.GetAttainmentResponseObject, error) {
	p := request.Params
	v, err := h.Overview.Attainment(ctx, value(p.By), value(p.Direction), p.From, p.To, sees(ctx))
	return api.GetAttainment200JSONResponse(v), err
}
