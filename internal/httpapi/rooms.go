package httpapi

import (
	"context"
	"encoding/json"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/audit"
	"kestrel/internal/berths"
	"kestrel/internal/core/actor"
	"kestrel/internal/directory"
	"kestrel/internal/events"
	"kestrel/internal/inventory"
	"kestrel/internal/keeper"
	"kestrel/internal/listing"
	"kestrel/internal/meter"
	"kestrel/internal/overview"
	"kestrel/internal/peering"
	"kestrel/internal/records"
	"kestrel/internal/safeguard"
	"kestrel/internal/signon"
	"kestrel/internal/tracing"
)

// Rooms is what the interface asks of a site; each is as small as it can be.
type Rooms struct {
	Version    string
	Site       Site
	Access     Access
	Safeguards Safeguards
	SignOn     *signon.SignOn // nil: people sign in here only
	Box        Box            // for what browsers keep for us
	Courier    Courier        // nil: the trail is sent nowhere
	Trail      Trail
	Notary     Notary
	Events     Events
	Directory  Directory
	Groups     Groups
	Overview   Overview
	Platforms  Platforms
	Links      Links
	Points     Points
	Store      Store
	Serving    Serving
	Landings   Landings
	Recovery   Recovery
	Names      Names
	Operations Operations
	Coverage   Coverage
	Surveys    Surveys
	Tiers      Tiers
	Berths     Berths
	Foresight  Foresight
	Estate     Estate
	Lookout    Lookout
	Watch      Watch
	Notify     Notify
	Meter      Meter
	Reports    Reports
	Tracing    *tracing.Tracing // nil: nobody is told of requests
}

// Estate is the settings of the site as a file.
type Estate interface {
	Apply(ctx context.Context, who actor.Actor, in api.ApplyRequest) (api.Applied, error)
	Export(asSeenFrom string) (string, error)
}

// Foresight foretells how groups fare.
type Foresight interface {
	Site(ctx context.Context, in api.SiteForecastRequest, see func(directory.Record) bool) (api.SiteForecast, error)
	Past(ctx context.Context, group string) ([]api.PastForecast, error)
}

// Berths is how machines arrive at their recovery sites.
type Berths interface {
	Show(ctx context.Context, who actor.Actor, group string) (berths.View, error)
	Preview(ctx context.Context, who actor.Actor, group string, wish json.RawMessage) (berths.View, error)
	Write(ctx context.Context, who actor.Actor, group string, revision int64, wish json.RawMessage) (berths.View, error)
	Default(of, id string) (berths.DefaultView, error)
	PreviewDefault(of, id string, wish json.RawMessage) (berths.DefaultView, error)
	Back(ctx context.Context, who actor.Actor, group string) (berths.BackView, error)
	WriteDefault(ctx context.Context, who actor.Actor, of, id string, revision int64, wish json.RawMessage) (berths.DefaultView, error)
}

// Tiers is the named promises.
type Tiers interface {
	List(site string, see func(directory.Record) bool) []api.Tier
	Show(ctx context.Context, site, id string) (api.Tier, error)
	Make(ctx context.Context, who actor.Actor, in api.NewTier) (id string, err error)
	Change(ctx context.Context, who actor.Actor, id string, in api.TierPatch) error
	Foresee(ctx context.Context, id string, in api.TierPatch) (api.TierPreview, error)
	Delete(ctx context.Context, who actor.Actor, id string) error
}

// Surveys is watching machines before they are protected.
type Surveys interface {
	List() []api.Survey
	Show(ctx context.Context, id string) (api.Survey, error)
	Start(ctx context.Context, who actor.Actor, name string, machines []string, length time.Duration) (id string, err error)
	Stop(ctx context.Context, who actor.Actor, id string) error
	Delete(ctx context.Context, who actor.Actor, id string) error
}

// Coverage is what protects machines, and the rules by which they join groups.
type Coverage interface {
	Show(ctx context.Context, site string, peers []api.SiteCoverage, see func(directory.Record) bool) (api.Coverage, error)
	Preview(in api.RulePreviewRequest) (api.RulePreview, error)
}

// Site is the site itself.
type Site interface {
	Self() records.Site
	Now() time.Time
	Ready(ctx context.Context) error
}

// Access is people, sessions and tokens.
type Access interface {
	Welcome(ctx context.Context, w api.Welcome, from string) (actor.Actor, string, error)
	SignIn(ctx context.Context, in api.SignIn, from string) (actor.Actor, string, error)
	ChangePassword(ctx context.Context, who actor.Actor, in api.NewPassword, secret string) error
	Sessions(ctx context.Context, who actor.Actor, secret string) ([]api.Session, error)
	EndSession(ctx context.Context, who actor.Actor, id string) error
	HasPasskeys() bool
	Passkeys(ctx context.Context, who actor.Actor) ([]api.Passkey, error)
	BeginPasskey(ctx context.Context, who actor.Actor) (api.PasskeyCeremony, error)
	AddPasskey(ctx context.Context, who actor.Actor, in api.NewPasskey) (api.Passkey, error)
	DeletePasskey(ctx context.Context, who actor.Actor, id string) error
	BeginSignIn(ctx context.Context) (api.PasskeyCeremony, error)
	SignInByPasskey(ctx context.Context, in api.PasskeyAnswer, from string) (actor.Actor, string, error)
	SignOn(ctx context.Context, id signon.Identity, label string, grants []actor.Grant, from string) (actor.Actor, string, error)
	SignOut(ctx context.Context, who actor.Actor, secret string) error
	While(ctx context.Context, secret string) (context.Context, context.CancelFunc)
	WhoIs(ctx context.Context, secret, from string) (actor.Actor, error)
	People(ctx context.Context) ([]api.Person, error)
	Role(ctx context.Context, id string) (name string, role actor.Role, err error)
	SecondFactor(ctx context.Context, who actor.Actor) (v api.SecondFactor, elsewhere bool, err error)
	BeginSecondFactor(ctx context.Context, who actor.Actor) (api.SecondFactorSeed, error)
	ConfirmSecondFactor(ctx context.Context, who actor.Actor, in api.SecondFactorCode) (api.RecoveryCodes, error)
	RemoveSecondFactor(ctx context.Context, who actor.Actor, in api.Password) error
	InvitePerson(ctx context.Context, who actor.Actor, in api.NewPerson) (api.PersonInvitation, error)
	EditPerson(ctx context.Context, who actor.Actor, id string, in api.EditPerson) (api.Person, error)
	ResetPassword(ctx context.Context, who actor.Actor, id string) (api.PersonInvitation, error)
	DeletePerson(ctx context.Context, who actor.Actor, id string) error
	Tokens(ctx context.Context, who actor.Actor) ([]api.Token, error)
	CreateToken(ctx context.Context, who actor.Actor, in api.NewToken, by string) (api.TokenSecret, error)
	DeleteToken(ctx context.Context, who actor.Actor, id string) error
}

// Safeguards is what the site demands of its people.
type Safeguards interface {
	View() api.Safeguards
	Set(ctx context.Context, who actor.Actor, in api.Safeguards) (api.Safeguards, error)
	Pass(ctx context.Context, who actor.Actor, act safeguard.Act) error
	List(ctx context.Context, who actor.Actor) ([]api.Consent, error)
	Needs(ctx context.Context, who actor.Actor) ([]api.Need, error)
	Answer(ctx context.Context, who actor.Actor, id string, give bool) (api.Consent, error)
}

// Box encrypts.
type Box interface {
	Seal(secret string) []byte
	Open(b []byte) (string, error)
}

// Courier sends the trail to a log server.
type Courier interface{ Need() (api.Need, bool) }

// Trail is the audit trail.
type Trail interface {
	Lines(ctx context.Context, f records.Sought) ([]records.Activity, error)
	Note(ctx context.Context, who actor.Actor, o audit.Object, format string, a ...any)
}

// Notary holds the trail against what was signed of it.
type Notary interface {
	Verify(ctx context.Context, witnesses []audit.Witness) (audit.Verdict, error)
}

// Events tells what changes.
type Events interface {
	Listen() (events <-chan events.Event, stop func())
}

// Directory finds groups.
type Directory interface {
	Get(id string) (directory.Record, bool)
	Find(text string) (directory.Record, error)
	All() []directory.Record
}

// Groups is what is asked of groups.
type Groups interface {
	Create(ctx context.Context, who actor.Actor, in api.NewGroup) (id string, err error)
	Update(ctx context.Context, who actor.Actor, id string, in api.GroupPatch, match *int64) error
	StopDeletion(ctx context.Context, who actor.Actor, id string) error
	Preview(ctx context.Context, id string, in api.GroupPatch) (api.Preview, error)
	Pause(ctx context.Context, who actor.Actor, id string, in *api.PauseRequest) error
	Resume(ctx context.Context, who actor.Actor, id string) error
	CopyTo(ctx context.Context, who actor.Actor, id string, in api.GroupDestination) error
	Run(ctx context.Context, who actor.Actor, id string, compare bool) error
	Delete(ctx context.Context, who actor.Actor, id, points string, withoutPeer bool) error
	Forecast(ctx context.Context, in api.ForecastRequest) (api.Forecast, error)
}

// Overview is how groups stand.
type Overview interface {
	Group(id string) (api.Group, error)
	List(f overview.Filter) ([]api.Group, int, error)
	Cycles(ctx context.Context, id string, before int64, limit int, since time.Time) ([]api.Cycle, error)
	Exposure(ctx context.Context, id string, from, to *time.Time) (api.Exposure, error)
	Attainment(ctx context.Context, by, direction string, from, to *time.Time, see func(r directory.Record) bool) (api.Attainment, error)
	Figures(by string, see func(r directory.Record) bool, ready func(r directory.Record) (ready, known bool)) (api.Figures, error)
	Calendar(q overview.CalendarOf) (api.Calendar, error)
	Carried(ctx context.Context, id string, since *time.Time) (api.Carried, error)
	Board(ctx context.Context, see func(r directory.Record) bool, page listing.Page) (api.Board, error)
}

// Meter is how what comes and goes went.
type Meter interface {
	View(ctx context.Context, of meter.Of) (api.Measures, error)
}

// Platforms is platforms and their machines.
type Platforms interface {
	Platforms() []api.Platform
	Resources(id string) (api.Inventory, error)
	Machines(f inventory.MachineFilter) ([]api.Machine, int, error)
	LeaveOut(ctx context.Context, who actor.Actor, texts []string, reason string) error
	TakeBack(ctx context.Context, who actor.Actor, texts []string) error
	Test(ctx context.Context, in api.NewPlatform) (api.ConnectionTest, error)
	Retest(ctx context.Context, id string) (api.ConnectionTest, error)
	Create(ctx context.Context, who actor.Actor, in api.NewPlatform) (api.Platform, error)
	Delete(ctx context.Context, who actor.Actor, id string) error
}

// Links is paired sites.
type Links interface {
	Covered() []peering.Covered
	Links() []api.Link
	Find(text string) (peering.Link, error)
	Invite(ctx context.Context, who actor.Actor, in api.NewInvitation) (api.InvitationSecret, error)
	Invitations(ctx context.Context) ([]api.Invitation, error)
	DeleteInvitation(ctx context.Context, who actor.Actor, id string) error
	Accept(ctx context.Context, who actor.Actor, in api.AcceptInvitation) (api.Link, error)
	Edit(ctx context.Context, who actor.Actor, id string, in api.EditLink) (api.Link, error)
	Test(ctx context.Context, id string) (api.ConnectionTest, error)
	Witnesses(ctx context.Context) []audit.Witness
	Delete(ctx context.Context, who actor.Actor, id string) error
}

// Points is recovery points.
type Points interface {
	List(ctx context.Context, f keeper.Filter) ([]api.Point, int, error)
	Point(ctx context.Context, id string) (api.Point, error)
	GroupOf(ctx context.Context, id string) (string, error)
	Lock(ctx context.Context, who actor.Actor, id string, in api.LockRequest) (api.Point, error)
	Pin(ctx context.Context, who actor.Actor, id string, in api.PointPatch) (api.Point, error)
	Delete(ctx context.Context, who actor.Actor, id string) error
	Export(ctx context.Context, who actor.Actor, id string, in api.ExportRequest) (api.Operation, error)
}

// Store is the point store.
type Store interface {
	StoreView() api.Store
	Spaces(see func(group string) bool) []api.StoreSpace
	Losses(see func(group string) bool) []api.Loss
	VerifyStore(ctx context.Context, who actor.Actor) (api.Operation, error)
	RewriteStore(ctx context.Context, who actor.Actor) (api.Operation, error)
	SweepStore(ctx context.Context, who actor.Actor) (api.Operation, error)
	Copies() []api.Copy
	CarryCopy(ctx context.Context, who actor.Actor, in api.NewCopy) (api.Operation, error)
	DeleteCopy(ctx context.Context, who actor.Actor, id string) error
}

// Serving is points that are served.
type Serving interface {
	Served(see func(group string) bool) []api.Served
	GroupOf(id string) (string, error)
	Serve(ctx context.Context, who actor.Actor, in api.NewServed) (api.Served, error)
	Stop(ctx context.Context, who actor.Actor, id string) error
}

// Landings is machines that were made from points.
type Landings interface {
	List(see func(group string) bool, query string, page listing.Page) ([]api.Landing, int, error)
	Get(id string) (api.Landing, error)
	GroupOf(id string) (string, error)
	Create(ctx context.Context, who actor.Actor, in api.NewLanding, checkOnly bool) ([]api.Landing, error)
	Switch(ctx context.Context, who actor.Actor, id, to string) error
	Screen(ctx context.Context, id string) ([]byte, error)
	Remove(ctx context.Context, who actor.Actor, id string) error
}

// Names are DNS servers whose names runbooks change.
type Names interface {
	List() []api.DNSServer
	Add(ctx context.Context, who actor.Actor, in api.NewDNSServer) (api.DNSServer, error)
	Delete(ctx context.Context, who actor.Actor, id string) error
	Test(ctx context.Context, who actor.Actor, id, name string) (api.DNSServerTest, error)
}

// Recovery is drills and failovers.
type Recovery interface {
	PlanFailover(ctx context.Context, who actor.Actor, group string, in api.NewFailover) (api.FailoverPlan, error)
	StartFailover(ctx context.Context, who actor.Actor, group string, in api.NewFailover) (api.Failover, error)
	AcceptFailover(ctx context.Context, who actor.Actor, id string, in api.FailoverAccept) (api.Failover, error)
	BackOutFailover(ctx context.Context, who actor.Actor, id string, in api.FailoverBackOut) (api.Failover, error)
	RepointFailover(ctx context.Context, who actor.Actor, id string, in api.FailoverPoint) (api.Failover, error)
	PlanFlotilla(ctx context.Context, who actor.Actor, in api.NewFlotilla) (api.FlotillaPlan, error)
	StartFlotilla(ctx context.Context, who actor.Actor, in api.NewFlotilla) (api.Flotilla, error)
	GetFlotilla(id string) (api.Flotilla, error)
	ListFlotillas() []api.Flotilla
	SteerFlotilla(ctx context.Context, who actor.Actor, id string, in api.FlotillaSteer) (api.Flotilla, error)
	StepFailover(ctx context.Context, who actor.Actor, id string, in api.StepDecision) (api.Failover, error)
	StepDrill(ctx context.Context, who actor.Actor, id string, in api.StepDecision) (api.Drill, error)
	SteerFailover(ctx context.Context, who actor.Actor, id string, in api.FailoverSteer) (api.Failover, error)
	GetFailover(id string) (api.Failover, error)
	FailoverGroup(id string) (string, error)
	ListFailovers(group string, see func(id string) bool) ([]api.Failover, error)
	FailoverScreen(ctx context.Context, id, machine string) ([]byte, error)
	RemoveFormer(ctx context.Context, who actor.Actor, group, confirm string) (left []string, err error)
	ShutDownFormer(ctx context.Context, who actor.Actor, group string, atOnce bool) error
	Plan(ctx context.Context, who actor.Actor, group string, in api.NewDrill) (api.DrillPlan, error)
	Start(ctx context.Context, who actor.Actor, group string, in api.NewDrill) (api.Drill, error)
	End(ctx context.Context, who actor.Actor, id string, in api.DrillEnd) (api.Drill, error)
	Get(id string) (api.Drill, error)
	GroupOf(id string) (string, error)
	List(group string, see func(id string) bool) ([]api.Drill, error)
	Screen(ctx context.Context, id, machine string) ([]byte, error)
	Rounds(ctx context.Context) ([]api.DrillRound, error)
	AddRound(ctx context.Context, who actor.Actor, in api.NewDrillRound) (api.DrillRound, error)
	RemoveRound(ctx context.Context, who actor.Actor, id string) error
	Register(ctx context.Context, see func(id string) bool) (api.EvidenceRegister, error)
	Evidence(ctx context.Context, id string) (records.Evidence, error)
}

// Operations is long work.
type Operations interface {
	List(ctx context.Context, limit, skip int) ([]api.Operation, error)
	Get(ctx context.Context, id string) (api.Operation, error)
	Stop(ctx context.Context, who actor.Actor, id string) error
}
