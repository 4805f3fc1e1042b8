package httpapi

import (
	"context"
	"net/http"
	"net/http/httptest"
	"reflect"
	"strings"
	"testing"

	"github.com/labstack/echo/v5"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/group"
	"kestrel/internal/directory"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// two are a group that somebody limited to "gold" sees, and one that they do not.
// Points and the rest are named like their groups.
type two struct{}

func (two) Get(id string) (directory.Record, bool) {
	r := directory.Record{ID: id, Spec: group.Spec{Name: id}}
	switch id {
	case "own":
		r.Spec.Tags = []string{"gold"}
	case "other":
		r.Spec.Tags = []string{"silver"}
	default:
		return r, false
	}
	return r, true
}

func (t two) Find(id string) (directory.Record, error) {
	r, ok := t.Get(id)
	if !ok {
		return r, problem.NotFound("group", id)
	}
	return r, nil
}

func (two) All() []directory.Record { return nil }

type (
	pointsOf   struct{ Points }
	servedOf   struct{ Serving }
	landingsOf struct{ Landings }
	drillsOf   struct{ Recovery }
	watchOf    struct{ Watch }
)

func (pointsOf) GroupOf(_ context.Context, id string) (string, error) { return id, nil }
func (servedOf) GroupOf(id string) (string, error)                    { return id, nil }
func (landingsOf) GroupOf(id string) (string, error)                  { return id, nil }
func (drillsOf) Evidence(_ context.Context, id string) (records.Evidence, error) {
	return records.Evidence{GroupID: id}, nil
}
func (drillsOf) GroupOf(id string) (string, error) { return id, nil }

func (drillsOf) FailoverGroup(id string) (string, error) { return id, nil }
func (watchOf) GroupOf(id string) (string, error)        { return id, nil }

// wanted says what every endpoint is to need: v, o or a for a viewer, operator or
// administrator; with + it is on one group.
const wanted = `
	GetSession v, ChangePassword v, ListSessions v, EndSession v, SignOut v, StreamEvents v, GetBoard v, ListActivity v, VerifyActivity v, ListTokens v, CreateToken v, DeleteToken v,
	BeginSecondFactor v, ConfirmSecondFactor v, RemoveSecondFactor v, GetSafeguards v, SetSafeguards a, ListConsents v, GiveConsent v, RefuseConsent v,
	ListPeople a, InvitePerson a, EditPerson a, ResetPassword a, DeletePerson a,
	ListPlatforms v, GetInventory v, ListMachines v, GetCoverage v, GetCalendar v, LeaveOutMachines a, TakeBackMachines a, PreviewRule a, ListTiers v, GetTier o, CreateTier a, UpdateTier a, PreviewTier o, DeleteTier a, ExportEstate o, ApplyEstate a, GetEstateSchema v, ForecastSite v, ListForecasts +v, ListReadiness v, GetReadiness +v, GetBerth +v, GetBerthBack +v, PreviewBerth +v, SetBerth +a, GetBerthDefault o, PreviewBerthDefault o, SetBerthDefault a, ListSurveys o, GetSurvey o, StartSurvey a, StopSurvey a, DeleteSurvey a, CreatePlatform a, TestPlatform a, RetestPlatform o, DeletePlatform a,
	ListLinks v, TestLink o, AcceptInvitation a, EditLink a, DeleteLink a, ListInvitations a, CreateInvitation a, DeleteInvitation a,
	ListGroups v, ListGroupNames v, CreateGroup a, Forecast +v, GetGroup +v, UpdateGroup +a, DeleteGroup +a, PreviewGroup +v, RunCycle +o, PauseGroup +o, ResumeGroup +o, StopDeletion +o, ListCycles +v, GetExposure +v, GetGroupMeasures +v, GetCarried +v, PlanDrill +o, StartDrill +o, ListDrills v, GetDrill +v, EndDrill +o, GetDrillScreen +o, PlanFailover +o, StartFailover +o, ShutDownFormer +o, RemoveFormer +a, CopyTo +a, ListFailovers v, GetFailover +v, AcceptFailover +o, BackOutFailover +o, RepointFailover +o, SteerFailover +o, StepFailover +o, StepDrill +o, ListFlotillas o, PlanFlotilla o, StartFlotilla o, GetFlotilla o, SteerFlotilla o, ListDNSServers o, AddDNSServer a, RemoveDNSServer a, TestDNSServer a, GetFailoverScreen +o, ListDrillRounds o, AddDrillRound a, RemoveDrillRound a, ListEvidence v, GetEvidence +v, GetLinkMeasures v, GetStoreMeasures v, GetStoreSpace v,
	ListPoints v, GetPoint +v, UpdatePoint +o, DeletePoint +a, LockPoint +a, ExportPoint +o, ListServed v, ServePoint +o, StopServing +o,
	ListLandings v, CreateLandings +o, GetLanding +v, SwitchLanding +o, GetLandingScreen +o, DeleteLanding +o,
	GetStore v, ListLosses v, VerifyStore o, SweepStore o, RewriteStore a, ListCopies v, CarryCopy a, DeleteCopy a,
	Search v, GetAttainment v, GetReport v, GetFigures v, GetHappened v, ListReportPlans o, CreateReportPlan a, SetReportPlan a, DeleteReportPlan a, SendReportPlan a, ListAlerts v, AcknowledgeAlert +o, GetAlertRules v, SetAlertRules a, ListSilences v, CreateSilence o, EndSilence o, ListChannels o, CreateChannel a, SetChannel a, DeleteChannel a, TestChannel a,
	ListOperations v, GetOperation v, CancelOperation o,
	SignIn -, GetSignInWays -, BeginSignIn -, SignInByPasskey -, ListPasskeys v, BeginPasskey v, AddPasskey v, DeletePasskey v, Welcome -`

// requestFor makes an operation's request that names a group, point or the like.
func requestFor(t *testing.T, operation, id string) any {
	t.Helper()
	m, ok := reflect.TypeFor[api.StrictServerInterface]().MethodByName(operation)
	require.True(t, ok, operation)
	v := reflect.New(m.Type.In(1)).Elem()
	if f := v.FieldByName("ID"); f.IsValid() {
		f.SetString(id)
	}
	if f := v.FieldByName("Body"); f.IsValid() {
		f.Set(reflect.New(f.Type().Elem()))
		for name, set := range map[string]func(f reflect.Value){
			"Point": func(f reflect.Value) {
				if f.Kind() == reflect.String {
					f.SetString(id)
				}
			},
			"Group": func(f reflect.Value) { f.Set(reflect.ValueOf(&id)) },
		} {
			if x := f.Elem(); x.Kind() == reflect.Struct && x.FieldByName(name).IsValid() {
				set(x.FieldByName(name))
			}
		}
	}
	return v.Interface()
}

// Every endpoint × role × (without a limit, own group, another's group): who may is
// let through, who may not is refused, and another's group is not even there.
func TestEveryEndpointAsksWhoMay(t *testing.T) {
	h := &handlers{Rooms: Rooms{Directory: two{}, Points: pointsOf{}, Serving: servedOf{}, Landings: landingsOf{}, Recovery: drillsOf{}, Watch: watchOf{}}, rules: rules()}
	want := map[string]string{}
	for _, x := range strings.FieldsFunc(wanted, func(r rune) bool { return r == ',' || r == '\n' }) {
		if f := strings.Fields(x); len(f) == 2 {
			want[f[0]] = f[1]
		}
	}
	all := reflect.TypeFor[api.StrictServerInterface]()
	require.Len(t, want, all.NumMethod(), "every operation of the contract is in the list")
	status := func(operation string, a actor.Actor, id string) int {
		e := echo.New()
		r := httptest.NewRequest(http.MethodGet, "/", nil)
		c := e.NewContext(r.WithContext(context.WithValue(r.Context(), actorKey{}, a)), httptest.NewRecorder())
		out, err := h.decide(func(*echo.Context, any) (any, error) { return "through", nil }, operation)(c, requestFor(t, operation, id))
		if err == nil {
			require.Equal(t, "through", out)
			return http.StatusOK
		}
		p, ok := problem.Of(err)
		require.True(t, ok, "%v", err)
		return p.Status
	}
	roles := map[string]int{"v": 0, "o": 1, "a": 2}
	for i := range all.NumMethod() {
		operation := all.Method(i).Name
		w, ok := want[operation]
		require.True(t, ok, "%s is in the list", operation)
		if w == "-" {
			require.Equal(t, http.StatusOK, status(operation, actor.Actor{}, "own"), operation)
			continue
		}
		onGroup := strings.HasPrefix(w, "+")
		least := roles[strings.TrimPrefix(w, "+")]
		require.Equal(t, http.StatusForbidden, status(operation, actor.Actor{}, "own"), "%s: nobody", operation)
		for rank, role := range actor.Roles() {
			free := actor.Actor{Kind: actor.Person, Name: "x", Role: role}
			limited := free
			limited.Tags = []string{"gold"}
			allowed := rank >= least
			expect := func(a actor.Actor, id string, want int) {
				t.Helper()
				require.Equal(t, want, status(operation, a, id), "%s by %s limited to %v on %s", operation, role, a.Tags, id)
			}
			refusal := map[bool]int{true: http.StatusOK, false: http.StatusForbidden}
			expect(free, "own", refusal[allowed])
			expect(free, "other", refusal[allowed])
			if onGroup {
				expect(limited, "own", refusal[allowed])
				expect(limited, "other", http.StatusNotFound)
				continue
			}
			expect(limited, "own", refusal[allowed && least == 0])
		}
	}
	require.Equal(t, http.StatusForbidden, func() int {
		delete(h.rules, "GetBoard")
		return status("GetBoard", actor.Actor{Role: actor.Administrator}, "own")
	}(), "what has no rule is allowed to nobody")
}

// Somebody who sees some groups cannot have a new one foretold, which would tell of
// others' machines and names.
func TestForecastOfANewGroupNeedsNoLimit(t *testing.T) {
	h := &handlers{Rooms: Rooms{Directory: two{}}, rules: rules()}
	r := httptest.NewRequest(http.MethodPost, "/", nil)
	a := actor.Actor{Role: actor.Administrator, Tags: []string{"gold"}}
	c := echo.New().NewContext(r.WithContext(context.WithValue(r.Context(), actorKey{}, a)), httptest.NewRecorder())
	_, err := h.decide(nil, "Forecast")(c, api.ForecastRequestObject{Body: &api.ForecastRequest{}})
	require.ErrorContains(t, err, "limited to some groups")
}

func TestUnknownQueryParametersAreRefused(t *testing.T) {
	e := echo.New()
	for query, ok := range map[string]bool{"": true, "group=x": true, "group=x&before=2026-11-25T00:00:00Z": true, "grup=x": false, "group=x&colour=blue": false} {
		c := e.NewContext(httptest.NewRequest(http.MethodGet, "/points?"+query, nil), httptest.NewRecorder())
		err := knownQuery(c, api.ListPointsRequestObject{})
		if ok {
			require.NoError(t, err, query)
			continue
		}
		p, is := problem.Of(err)
		require.True(t, is)
		require.Contains(t, p.Errors[0].Message, "group, before, after")
	}
	c := e.NewContext(httptest.NewRequest(http.MethodGet, "/board?x=1", nil), httptest.NewRecorder())
	require.Error(t, knownQuery(c, api.GetBoardRequestObject{}))
}

// Bodies with what the contract does not name, or without what it requires, are
// refused; so nothing is unpinned by an empty edit.
func TestBodiesAreWhole(t *testing.T) {
	bind := func(body string, v any) error {
		r := httptest.NewRequest(http.MethodPost, "/", strings.NewReader(body))
		return strictBinder{}.Bind(echo.New().NewContext(r, httptest.NewRecorder()), v)
	}
	for body, field := range map[string]string{
		`{}`:                             "pinned",
		`{"pinned":true,"colour":1}`:     "colour",
		`{"pinned":"yes"}`:               "pinned",
		`{"pinned":true}`:                "",
		`{"pinned":false,"reason":null}`: "reason",
	} {
		err := bind(body, &api.PointPatch{})
		if field == "" {
			require.NoError(t, err, body)
			continue
		}
		p, ok := problem.Of(err)
		require.True(t, ok, body)
		require.Equal(t, field, p.Errors[0].Field, body)
	}
	err := bind(`{"windows":[{"days":"mon","from":"08:00","to":"18:00"}]}`, &api.EditLink{})
	p, ok := problem.Of(err)
	require.True(t, ok)
	require.Equal(t, "windows[0].bytesPerSecond", p.Errors[0].Field)
	require.Error(t, bind(`{"pinned":true} {}`, &api.PointPatch{}))
	require.ErrorContains(t, bind(``, &api.PointPatch{}), "EOF")
}

func TestIfMatch(t *testing.T) {
	for header, want := range map[string]int64{`"7"`: 7, `7`: 7, ` "12" `: 12} {
		n, err := matched(&header)
		require.NoError(t, err)
		require.Equal(t, want, *n)
	}
	n, err := matched(new("*"))
	require.NoError(t, err)
	require.Nil(t, n)
	_, err = matched(new(`"abc"`))
	require.Error(t, err)
}

// Whoever is held may do what they are held for and nothing else.
func TestWhoIsHeldMayDoLittle(t *testing.T) {
	h := &handlers{Rooms: Rooms{Directory: two{}, Points: pointsOf{}, Serving: servedOf{}, Landings: landingsOf{}, Recovery: drillsOf{}, Watch: watchOf{}}, rules: rules()}
	held := actor.Actor{Kind: actor.Person, Name: "anna", Role: actor.Administrator, Held: "Set up a second factor first."}
	var may []string
	all := reflect.TypeFor[api.StrictServerInterface]()
	for i := range all.NumMethod() {
		operation := all.Method(i).Name
		r := httptest.NewRequest(http.MethodGet, "/", nil)
		c := echo.New().NewContext(r.WithContext(context.WithValue(r.Context(), actorKey{}, held)), httptest.NewRecorder())
		_, err := h.decide(func(*echo.Context, any) (any, error) { return nil, nil }, operation)(c, requestFor(t, operation, "own"))
		if err == nil {
			may = append(may, operation)
			continue
		}
		require.ErrorContains(t, err, "Set up a second factor", operation)
	}
	require.ElementsMatch(t, []string{"GetSession", "SignOut", "BeginSecondFactor", "ConfirmSecondFactor", "SignIn", "GetSignInWays", "BeginSignIn", "SignInByPasskey", "ListPasskeys", "BeginPasskey", "AddPasskey", "Welcome"}, may)
}

// What is guarded is in the contract, and needs an administrator in any case.
func TestWhatIsGuarded(t *testing.T) {
	for operation := range guards() {
		require.Equal(t, actor.Administrator, rules()[operation].role, operation)
	}
}
