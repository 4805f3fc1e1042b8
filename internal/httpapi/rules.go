package httpapi

import (
	"context"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v5"
	"golang.org/x/time/rate"

	"kestrel/internal/api"
	"kestrel/internal/audit"
	"kestrel/internal/core/actor"
	"kestrel/internal/directory"
	"kestrel/internal/problem"
)

// rule says what an endpoint needs. Subject, if there is one, tells of which group a
// request is.
type rule struct {
	role    actor.Role
	subject func(h *handlers, ctx context.Context, request any) (group string, err error)
	public  bool // nobody has to be signed in
	own     bool // what somebody who is held may do, too: what they are held for
}

// own is a rule for what concerns whoever asks alone.
func own() rule { return rule{role: actor.Viewer, own: true} }

func site(role actor.Role) rule { return rule{role: role} }

// onGroup is a rule for requests that name a group.
func onGroup[T any](role actor.Role, id func(T) string) rule {
	return rule{role: role, subject: func(h *handlers, _ context.Context, request any) (string, error) {
		r, err := h.Directory.Find(id(request.(T)))
		return r.ID, err
	}}
}

// onPoint is a rule for requests that name a point.
func onPoint[T any](role actor.Role, id func(T) string) rule {
	return rule{role: role, subject: func(h *handlers, ctx context.Context, request any) (string, error) {
		return h.Points.GroupOf(ctx, id(request.(T)))
	}}
}

func onServed[T any](role actor.Role, id func(T) string) rule {
	return rule{role: role, subject: func(h *handlers, _ context.Context, request any) (string, error) {
		return h.Serving.GroupOf(id(request.(T)))
	}}
}

func onLanding[T any](role actor.Role, id func(T) string) rule {
	return rule{role: role, subject: func(h *handlers, _ context.Context, request any) (string, error) {
		return h.Landings.GroupOf(id(request.(T)))
	}}
}

func onDrill[T any](role actor.Role, id func(T) string) rule {
	return rule{role: role, subject: func(h *handlers, _ context.Context, request any) (string, error) {
		return h.Recovery.GroupOf(id(request.(T)))
	}}
}

func onFailover[T any](role actor.Role, id func(T) string) rule {
	return rule{role: role, subject: func(h *handlers, _ context.Context, request any) (string, error) {
		return h.Recovery.FailoverGroup(id(request.(T)))
	}}
}

// rules lists what every endpoint needs, by its name in the contract. One that is
// not listed is allowed to nobody.
func rules() map[string]rule {
	const v, o, a = actor.Viewer, actor.Operator, actor.Administrator
	return map[string]rule{
		"SignIn": {public: true}, "GetSignInWays": {public: true}, "BeginSignIn": {public: true}, "SignInByPasskey": {public: true}, "Welcome": {public: true},
		"GetSession": own(), "SignOut": own(), "BeginSecondFactor": own(), "ConfirmSecondFactor": own(), "ListPasskeys": own(), "BeginPasskey": own(), "AddPasskey": own(),
		"RemoveSecondFactor": site(v), "DeletePasskey": site(v), "ChangePassword": site(v), "ListSessions": site(v), "EndSession": site(v), "StreamEvents": site(v), "GetBoard": site(v), "ListActivity": site(v), "VerifyActivity": site(v),
		// Everybody has tokens of their own, with no more than their own role.
		"ListTokens": site(v), "CreateToken": site(v), "DeleteToken": site(v),
		"ListPeople": site(a), "InvitePerson": site(a), "EditPerson": site(a), "ResetPassword": site(a), "DeletePerson": site(a),
		"GetSafeguards": site(v), "SetSafeguards": site(a),
		// Who may answer is decided of each consent.
		"ListConsents": site(v), "GiveConsent": site(v), "RefuseConsent": site(v),
		"ListPlatforms": site(v), "GetInventory": site(v), "ListMachines": site(v), "GetCoverage": site(v), "GetCalendar": site(v),
		"LeaveOutMachines": site(a), "TakeBackMachines": site(a), "PreviewRule": site(a),
		"ListTiers": site(v), "GetTier": site(o), "CreateTier": site(a), "UpdateTier": site(a), "PreviewTier": site(o), "DeleteTier": site(a),
		"ListSurveys": site(o), "GetSurvey": site(o), "StartSurvey": site(a), "StopSurvey": site(a), "DeleteSurvey": site(a),
		"CreatePlatform": site(a), "TestPlatform": site(a), "RetestPlatform": site(o), "DeletePlatform": site(a),
		"ListLinks": site(v), "TestLink": site(o), "AcceptInvitation": site(a), "EditLink": site(a), "DeleteLink": site(a),
		"ListInvitations": site(a), "CreateInvitation": site(a), "DeleteInvitation": site(a),
		"ListGroups": site(v), "ListGroupNames": site(v), "CreateGroup": site(a), "Forecast": forecastRule(),
		"GetGroup":     onGroup(v, func(r api.GetGroupRequestObject) string { return r.ID }),
		"UpdateGroup":  onGroup(a, func(r api.UpdateGroupRequestObject) string { return r.ID }),
		"DeleteGroup":  onGroup(a, func(r api.DeleteGroupRequestObject) string { return r.ID }),
		"ExportEstate": site(o), "ApplyEstate": site(a), "GetEstateSchema": site(v),
		// What a group could become is for those who decide; how all fare, for all who see them.
		"ForecastSite":    site(v),
		"ListForecasts":   onGroup(v, func(r api.ListForecastsRequestObject) string { return r.ID }),
		"GetBerth":        onGroup(v, func(r api.GetBerthRequestObject) string { return r.ID }),
		"ListReadiness":   site(v),
		"GetReadiness":    onGroup(v, func(r api.GetReadinessRequestObject) string { return r.ID }),
		"GetBerthBack":    onGroup(v, func(r api.GetBerthBackRequestObject) string { return r.ID }),
		"PreviewBerth":    onGroup(v, func(r api.PreviewBerthRequestObject) string { return r.ID }),
		"SetBerth":        onGroup(a, func(r api.SetBerthRequestObject) string { return r.ID }),
		"GetBerthDefault": site(o), "PreviewBerthDefault": site(o), "SetBerthDefault": site(a),
		"PreviewGroup":     onGroup(v, func(r api.PreviewGroupRequestObject) string { return r.ID }),
		"RunCycle":         onGroup(o, func(r api.RunCycleRequestObject) string { return r.ID }),
		"PauseGroup":       onGroup(o, func(r api.PauseGroupRequestObject) string { return r.ID }),
		"StopDeletion":     onGroup(o, func(r api.StopDeletionRequestObject) string { return r.ID }),
		"ResumeGroup":      onGroup(o, func(r api.ResumeGroupRequestObject) string { return r.ID }),
		"ListCycles":       onGroup(v, func(r api.ListCyclesRequestObject) string { return r.ID }),
		"GetExposure":      onGroup(v, func(r api.GetExposureRequestObject) string { return r.ID }),
		"GetCarried":       onGroup(v, func(r api.GetCarriedRequestObject) string { return r.ID }),
		"GetGroupMeasures": onGroup(v, func(r api.GetGroupMeasuresRequestObject) string { return r.ID }),
		"GetLinkMeasures":  site(v), "GetStoreMeasures": site(v), "GetStoreSpace": site(v),
		"ListPoints":      site(v),
		"GetPoint":        onPoint(v, func(r api.GetPointRequestObject) string { return r.ID }),
		"UpdatePoint":     onPoint(o, func(r api.UpdatePointRequestObject) string { return r.ID }),
		"DeletePoint":     onPoint(a, func(r api.DeletePointRequestObject) string { return r.ID }),
		"LockPoint":       onPoint(a, func(r api.LockPointRequestObject) string { return r.ID }),
		"ExportPoint":     onPoint(o, func(r api.ExportPointRequestObject) string { return r.ID }),
		"ListServed":      site(v),
		"ServePoint":      onPoint(o, func(r api.ServePointRequestObject) string { return r.Body.Point }),
		"StopServing":     onServed(o, func(r api.StopServingRequestObject) string { return r.ID }),
		"PlanDrill":       onGroup(o, func(r api.PlanDrillRequestObject) string { return r.ID }),
		"StartDrill":      onGroup(o, func(r api.StartDrillRequestObject) string { return r.ID }),
		"ListDrills":      site(v),
		"GetDrill":        onDrill(v, func(r api.GetDrillRequestObject) string { return r.ID }),
		"EndDrill":        onDrill(o, func(r api.EndDrillRequestObject) string { return r.ID }),
		"GetDrillScreen":  onDrill(o, func(r api.GetDrillScreenRequestObject) string { return r.ID }),
		"PlanFailover":    onGroup(o, func(r api.PlanFailoverRequestObject) string { return r.ID }),
		"StartFailover":   onGroup(o, func(r api.StartFailoverRequestObject) string { return r.ID }),
		"ShutDownFormer":  onGroup(o, func(r api.ShutDownFormerRequestObject) string { return r.ID }),
		"CopyTo":          onGroup(a, func(r api.CopyToRequestObject) string { return r.ID }),
		"RemoveFormer":    onGroup(a, func(r api.RemoveFormerRequestObject) string { return r.ID }),
		"ListFailovers":   site(v),
		"GetFailover":     onFailover(v, func(r api.GetFailoverRequestObject) string { return r.ID }),
		"AcceptFailover":  onFailover(o, func(r api.AcceptFailoverRequestObject) string { return r.ID }),
		"BackOutFailover": onFailover(o, func(r api.BackOutFailoverRequestObject) string { return r.ID }),
		"RepointFailover": onFailover(o, func(r api.RepointFailoverRequestObject) string { return r.ID }),
		"SteerFailover":   onFailover(o, func(r api.SteerFailoverRequestObject) string { return r.ID }),
		"StepFailover":    onFailover(o, func(r api.StepFailoverRequestObject) string { return r.ID }),
		"StepDrill":       onDrill(o, func(r api.StepDrillRequestObject) string { return r.ID }),
		"ListFlotillas":   site(o), "PlanFlotilla": site(o), "StartFlotilla": site(o), "GetFlotilla": site(o), "SteerFlotilla": site(o),
		"ListDNSServers": site(o), "AddDNSServer": site(a), "RemoveDNSServer": site(a), "TestDNSServer": site(a),
		"GetFailoverScreen": onFailover(o, func(r api.GetFailoverScreenRequestObject) string { return r.ID }),
		"ListDrillRounds":   site(o), "AddDrillRound": site(a), "RemoveDrillRound": site(a),
		"ListEvidence": site(v),
		"GetEvidence": {role: v, subject: func(h *handlers, ctx context.Context, request any) (string, error) {
			e, err := h.Recovery.Evidence(ctx, request.(api.GetEvidenceRequestObject).ID)
			return e.GroupID, err
		}},
		"ListLandings": site(v),
		"CreateLandings": onPoint(o, func(r api.CreateLandingsRequestObject) string {
			return r.Body.Point
		}),
		"GetLanding":       onLanding(v, func(r api.GetLandingRequestObject) string { return r.ID }),
		"SwitchLanding":    onLanding(o, func(r api.SwitchLandingRequestObject) string { return r.ID }),
		"GetLandingScreen": onLanding(o, func(r api.GetLandingScreenRequestObject) string { return r.ID }),
		"DeleteLanding":    onLanding(o, func(r api.DeleteLandingRequestObject) string { return r.ID }),
		"GetStore":         site(v), "ListLosses": site(v), "VerifyStore": site(o), "SweepStore": site(o), "RewriteStore": site(a),
		"ListCopies": site(v), "CarryCopy": site(a), "DeleteCopy": site(a),
		"Search": site(v), "GetAttainment": site(v), "GetReport": site(v), "GetFigures": site(v), "GetHappened": site(v), "ListReportPlans": site(o), "CreateReportPlan": site(a), "SetReportPlan": site(a), "DeleteReportPlan": site(a), "SendReportPlan": site(a), "ListAlerts": site(v), "GetAlertRules": site(v), "SetAlertRules": site(a), "ListSilences": site(v), "CreateSilence": site(o), "EndSilence": site(o),
		"AcknowledgeAlert": {role: o, subject: func(h *handlers, _ context.Context, request any) (string, error) {
			return h.Watch.GroupOf(request.(api.AcknowledgeAlertRequestObject).ID)
		}},
		"ListChannels": site(o), "CreateChannel": site(a), "SetChannel": site(a), "DeleteChannel": site(a), "TestChannel": site(a),
		"ListOperations": site(v), "GetOperation": site(v), "CancelOperation": site(o),
	}
}

// forecastRule lets a change of a group that exists be foretold by whoever sees it,
// and a new group by whoever may make one.
func forecastRule() rule {
	return rule{role: actor.Viewer, subject: func(h *handlers, ctx context.Context, request any) (string, error) {
		if g := request.(api.ForecastRequestObject).Body.Group; g != nil && *g != "" {
			r, err := h.Directory.Find(*g)
			return r.ID, err
		}
		if len(who(ctx).Tags) > 0 {
			return "", forbidden(who(ctx).String() + " is limited to some groups, and cannot make new ones.")
		}
		return "", nil
	}}
}

func forbidden(why string) error {
	return &problem.Problem{Status: http.StatusForbidden, Title: "Not allowed; nothing was changed", Detail: why}
}

// decide is where every request of the contract passes: who asks is known, and here
// it is decided whether they may.
func (h *handlers) decide(next api.StrictHandlerFunc, operation string) api.StrictHandlerFunc {
	r, known := h.rules[operation]
	return func(c *echo.Context, request any) (any, error) {
		ctx := c.Request().Context()
		if err := knownQuery(c, request); err != nil {
			return nil, err
		}
		if !known {
			return nil, forbidden("Nobody may do this.")
		}
		if r.public {
			return next(c, request)
		}
		need := actor.Need{Role: r.role}
		var tags []string
		if r.subject != nil {
			id, err := r.subject(h, ctx, request)
			if err != nil {
				return nil, err
			}
			if id != "" {
				need.Group = true
				if g, ok := h.Directory.Get(id); ok {
					tags = g.Spec.Tags
				}
			}
		}
		asks := who(ctx)
		if r.own {
			asks.Held = ""
		}
		if v := asks.May(need, tags); !v.Allowed {
			if v.Hidden {
				return nil, &problem.Problem{Status: http.StatusNotFound, Title: "Not found", Detail: v.Why}
			}
			if c.Request().Method != http.MethodGet && h.denied.tell(who(ctx).String()) {
				h.Trail.Note(ctx, who(ctx), audit.Object{Kind: "person", Name: who(ctx).Name}, "%s was refused: %s (%s)", who(ctx), operation, v.Why)
			}
			return nil, forbidden(v.Why)
		}
		if err := h.consented(c, operation, request, need.Group, tags); err != nil {
			return nil, err
		}
		return next(c, request)
	}
}

// knownQuery refuses query parameters that the contract does not name: a misspelt
// one must not be passed over in silence.
func knownQuery(c *echo.Context, request any) error {
	var known []string
	if f := reflect.ValueOf(request).FieldByName("Params"); f.IsValid() {
		for i := range f.Type().NumField() {
			if name, _, _ := strings.Cut(f.Type().Field(i).Tag.Get("form"), ","); name != "" {
				known = append(known, name)
			}
		}
	}
	for name := range c.Request().URL.Query() {
		if !slices.Contains(known, name) {
			message := "There is no such parameter here."
			if len(known) > 0 {
				message += " Known are " + strings.Join(known, ", ") + "."
			}
			return problem.Invalid(name, "%s", message)
		}
	}
	return nil
}

// sees tells whether whoever asks may see a group.
func sees(ctx context.Context) func(r directory.Record) bool {
	a := who(ctx)
	return func(r directory.Record) bool { return a.Sees(r.Spec.Tags) }
}

// seesID is sees by a group's ID. A group that is gone is seen by those without a
// limit.
func (h *handlers) seesID(ctx context.Context) func(id string) bool {
	a := who(ctx)
	return func(id string) bool {
		if len(a.Tags) == 0 {
			return true
		}
		r, ok := h.Directory.Get(id)
		return ok && a.Sees(r.Spec.Tags)
	}
}

// denied bounds how often the trail tells that somebody was refused: ten times, and then
// once in six seconds.
type denied struct {
	mu sync.Mutex
	by map[string]*rate.Limiter
}

func (d *denied) tell(who string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.by == nil || len(d.by) > 10_000 {
		d.by = map[string]*rate.Limiter{}
	}
	x, ok := d.by[who]
	if !ok {
		x = rate.NewLimiter(rate.Every(6*time.Second), 10)
		d.by[who] = x
	}
	return x.Allow()
}
