package httpapi

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/service"
)

// handlers puts the service behind the contract's generated interface.
type handlers struct {
	svc    *service.Service
	secure bool
}

var _ api.StrictServerInterface = (*handlers)(nil)

func value[T any](p *T) T {
	if p == nil {
		var zero T
		return zero
	}
	return *p
}

// signedIn answers with a session cookie.
type signedIn struct {
	me     api.Me
	secret string
	secure bool
}

func (s signedIn) write(w http.ResponseWriter) error {
	http.SetCookie(w, &http.Cookie{Name: cookieName, Value: s.secret, Path: "/", HttpOnly: true, Secure: s.secure, SameSite: http.SameSiteStrictMode})
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(http.StatusOK)
	return json.NewEncoder(w).Encode(s.me)
}

// VisitSignInResponse implements api.SignInResponseObject.
func (s signedIn) VisitSignInResponse(w http.ResponseWriter) error { return s.write(w) }

// VisitWelcomeResponse implements api.WelcomeResponseObject.
func (s signedIn) VisitWelcomeResponse(w http.ResponseWriter) error { return s.write(w) }

func (h *handlers) SignIn(ctx context.Context, request api.SignInRequestObject) (api.SignInResponseObject, error) {
	me, secret, err := h.svc.SignIn(ctx, *request.Body)
	return signedIn{me, secret, h.secure}, err
}

func (h *handlers) Welcome(ctx context.Context, request api.WelcomeRequestObject) (api.WelcomeResponseObject, error) {
	me, secret, err := h.svc.Welcome(ctx, *request.Body)
	return signedIn{me, secret, h.secure}, err
}

type signedOut struct{}

// VisitSignOutResponse implements api.SignOutResponseObject.
func (signedOut) VisitSignOutResponse(w http.ResponseWriter) error {
	http.SetCookie(w, &http.Cookie{Name: cookieName, Path: "/", MaxAge: -1, HttpOnly: true, SameSite: http.SameSiteStrictMode})
	w.WriteHeader(http.StatusNoContent)
	return nil
}

type secretKey struct{}

func (h *handlers) SignOut(ctx context.Context, _ api.SignOutRequestObject) (api.SignOutResponseObject, error) {
	secret, _ := ctx.Value(secretKey{}).(string)
	return signedOut{}, h.svc.SignOut(ctx, secret)
}

// eventStream writes events as they come. A comment now and then keeps the
// connection from being taken for dead.
type eventStream struct {
	ctx    context.Context
	events <-chan service.Event
	stop   func()
}

// VisitStreamEventsResponse implements api.StreamEventsResponseObject.
func (s eventStream) VisitStreamEventsResponse(w http.ResponseWriter) error {
	defer s.stop()
	f := http.NewResponseController(w)
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(http.StatusOK)
	if _, err := io.WriteString(w, ": hello\n\n"); err != nil {
		return nil
	}
	quiet := time.NewTicker(20 * time.Second)
	defer quiet.Stop()
	for {
		if f.Flush() != nil {
			return nil // the client is gone
		}
		select {
		case <-s.ctx.Done():
			return nil
		case <-quiet.C:
			_, _ = io.WriteString(w, ": still here\n\n")
		case e, ok := <-s.events:
			if !ok {
				return nil
			}
			b, err := json.Marshal(e)
			if err != nil {
				return err
			}
			_, _ = fmt.Fprintf(w, "data: %s\n\n", b)
		}
	}
}

func (h *handlers) StreamEvents(ctx context.Context, _ api.StreamEventsRequestObject) (api.StreamEventsResponseObject, error) {
	events, stop := h.svc.Listen()
	return eventStream{ctx, events, stop}, nil
}

func (h *handlers) ListActivity(ctx context.Context, request api.ListActivityRequestObject) (api.ListActivityResponseObject, error) {
	v, err := h.svc.Activity(ctx, int64(value(request.Params.Before)), value(request.Params.Limit), value(request.Params.Q))
	return api.ListActivity200JSONResponse(v), err
}

func (h *handlers) GetBoard(ctx context.Context, _ api.GetBoardRequestObject) (api.GetBoardResponseObject, error) {
	v, err := h.svc.Board(ctx)
	return api.GetBoard200JSONResponse(v), err
}

func (h *handlers) Forecast(ctx context.Context, request api.ForecastRequestObject) (api.ForecastResponseObject, error) {
	v, err := h.svc.Forecast(ctx, *request.Body)
	return api.Forecast200JSONResponse(v), err
}

func (h *handlers) ListGroups(_ context.Context, _ api.ListGroupsRequestObject) (api.ListGroupsResponseObject, error) {
	return api.ListGroups200JSONResponse(h.svc.Groups()), nil
}

func (h *handlers) CreateGroup(ctx context.Context, request api.CreateGroupRequestObject) (api.CreateGroupResponseObject, error) {
	v, err := h.svc.CreateGroup(ctx, who(ctx), *request.Body)
	return api.CreateGroup201JSONResponse(v), err
}

func (h *handlers) DeleteGroup(ctx context.Context, request api.DeleteGroupRequestObject) (api.DeleteGroupResponseObject, error) {
	return api.DeleteGroup204Response{}, h.svc.DeleteGroup(ctx, who(ctx), request.ID, value(request.Params.Points), value(request.Params.WithoutPeer))
}

func (h *handlers) GetGroup(_ context.Context, request api.GetGroupRequestObject) (api.GetGroupResponseObject, error) {
	v, err := h.svc.Group(request.ID)
	return api.GetGroup200JSONResponse(v), err
}

func (h *handlers) UpdateGroup(ctx context.Context, request api.UpdateGroupRequestObject) (api.UpdateGroupResponseObject, error) {
	v, err := h.svc.UpdateGroup(ctx, who(ctx), request.ID, *request.Body)
	return api.UpdateGroup200JSONResponse(v), err
}

func (h *handlers) ListCycles(ctx context.Context, request api.ListCyclesRequestObject) (api.ListCyclesResponseObject, error) {
	v, err := h.svc.Cycles(ctx, request.ID, value(request.Params.Limit))
	return api.ListCycles200JSONResponse(v), err
}

func (h *handlers) GetExposure(ctx context.Context, request api.GetExposureRequestObject) (api.GetExposureResponseObject, error) {
	v, err := h.svc.Exposure(ctx, request.ID, request.Params.From, request.Params.To)
	return api.GetExposure200JSONResponse(v), err
}

func (h *handlers) PauseGroup(ctx context.Context, request api.PauseGroupRequestObject) (api.PauseGroupResponseObject, error) {
	v, err := h.svc.SetPaused(ctx, who(ctx), request.ID, true)
	return api.PauseGroup200JSONResponse(v), err
}

func (h *handlers) ResumeGroup(ctx context.Context, request api.ResumeGroupRequestObject) (api.ResumeGroupResponseObject, error) {
	v, err := h.svc.SetPaused(ctx, who(ctx), request.ID, false)
	return api.ResumeGroup200JSONResponse(v), err
}

func (h *handlers) RunCycle(ctx context.Context, request api.RunCycleRequestObject) (api.RunCycleResponseObject, error) {
	v, err := h.svc.RunCycle(ctx, who(ctx), request.ID, request.Params.Compare != nil && *request.Params.Compare)
	return api.RunCycle202JSONResponse(v), err
}

func (h *handlers) ListInvitations(ctx context.Context, _ api.ListInvitationsRequestObject) (api.ListInvitationsResponseObject, error) {
	v, err := h.svc.Invitations(ctx)
	return api.ListInvitations200JSONResponse(v), err
}

func (h *handlers) CreateInvitation(ctx context.Context, request api.CreateInvitationRequestObject) (api.CreateInvitationResponseObject, error) {
	v, err := h.svc.Invite(ctx, who(ctx), *request.Body)
	return api.CreateInvitation201JSONResponse(v), err
}

func (h *handlers) DeleteInvitation(ctx context.Context, request api.DeleteInvitationRequestObject) (api.DeleteInvitationResponseObject, error) {
	return api.DeleteInvitation204Response{}, h.svc.DeleteInvitation(ctx, who(ctx), request.ID)
}

func (h *handlers) ListLinks(_ context.Context, _ api.ListLinksRequestObject) (api.ListLinksResponseObject, error) {
	return api.ListLinks200JSONResponse(h.svc.Links()), nil
}

func (h *handlers) AcceptInvitation(ctx context.Context, request api.AcceptInvitationRequestObject) (api.AcceptInvitationResponseObject, error) {
	v, err := h.svc.Accept(ctx, who(ctx), *request.Body)
	return api.AcceptInvitation201JSONResponse(v), err
}

func (h *handlers) DeleteLink(ctx context.Context, request api.DeleteLinkRequestObject) (api.DeleteLinkResponseObject, error) {
	return api.DeleteLink204Response{}, h.svc.DeleteLink(ctx, who(ctx), request.ID)
}

func (h *handlers) EditLink(ctx context.Context, request api.EditLinkRequestObject) (api.EditLinkResponseObject, error) {
	l, err := h.svc.EditLink(ctx, who(ctx), request.ID, *request.Body)
	return api.EditLink200JSONResponse(l), err
}

func (h *handlers) TestLink(ctx context.Context, request api.TestLinkRequestObject) (api.TestLinkResponseObject, error) {
	v, err := h.svc.TestLink(ctx, request.ID)
	return api.TestLink200JSONResponse(v), err
}

func (h *handlers) ListMachines(_ context.Context, request api.ListMachinesRequestObject) (api.ListMachinesResponseObject, error) {
	v, err := h.svc.Machines(service.MachineFilter{Query: value(request.Params.Q), Platform: value(request.Params.Platform), Folder: value(request.Params.Folder),
		Tag: value(request.Params.Tag), Power: value(request.Params.Power), Protection: value(request.Params.Protection)})
	return api.ListMachines200JSONResponse(v), err
}

func (h *handlers) ListOperations(ctx context.Context, request api.ListOperationsRequestObject) (api.ListOperationsResponseObject, error) {
	v, err := h.svc.Operations(ctx, value(request.Params.Limit))
	return api.ListOperations200JSONResponse(v), err
}

func (h *handlers) CancelOperation(ctx context.Context, request api.CancelOperationRequestObject) (api.CancelOperationResponseObject, error) {
	return api.CancelOperation204Response{}, h.svc.CancelOperation(ctx, who(ctx), request.ID)
}

func (h *handlers) GetOperation(ctx context.Context, request api.GetOperationRequestObject) (api.GetOperationResponseObject, error) {
	v, err := h.svc.Operation(ctx, request.ID)
	return api.GetOperation200JSONResponse(v), err
}

func (h *handlers) ListPlatforms(_ context.Context, _ api.ListPlatformsRequestObject) (api.ListPlatformsResponseObject, error) {
	return api.ListPlatforms200JSONResponse(h.svc.Platforms()), nil
}

func (h *handlers) CreatePlatform(ctx context.Context, request api.CreatePlatformRequestObject) (api.CreatePlatformResponseObject, error) {
	v, err := h.svc.CreatePlatform(ctx, who(ctx), *request.Body)
	return api.CreatePlatform201JSONResponse(v), err
}

func (h *handlers) TestPlatform(ctx context.Context, request api.TestPlatformRequestObject) (api.TestPlatformResponseObject, error) {
	v, err := h.svc.TestPlatform(ctx, *request.Body)
	return api.TestPlatform200JSONResponse(v), err
}

func (h *handlers) DeletePlatform(ctx context.Context, request api.DeletePlatformRequestObject) (api.DeletePlatformResponseObject, error) {
	return api.DeletePlatform204Response{}, h.svc.DeletePlatform(ctx, who(ctx), request.ID)
}

func (h *handlers) GetInventory(_ context.Context, request api.GetInventoryRequestObject) (api.GetInventoryResponseObject, error) {
	v, err := h.svc.Inventory(request.ID)
	return api.GetInventory200JSONResponse(v), err
}

func (h *handlers) RetestPlatform(ctx context.Context, request api.RetestPlatformRequestObject) (api.RetestPlatformResponseObject, error) {
	v, err := h.svc.RetestPlatform(ctx, request.ID)
	return api.RetestPlatform200JSONResponse(v), err
}

func (h *handlers) ListPoints(ctx context.Context, request api.ListPointsRequestObject) (api.ListPointsResponseObject, error) {
	v, err := h.svc.Points(ctx, value(request.Params.Group))
	return api.ListPoints200JSONResponse(v), err
}

func (h *handlers) DeletePoint(ctx context.Context, request api.DeletePointRequestObject) (api.DeletePointResponseObject, error) {
	return api.DeletePoint204Response{}, h.svc.DeletePoint(ctx, who(ctx), request.ID)
}

func (h *handlers) GetPoint(ctx context.Context, request api.GetPointRequestObject) (api.GetPointResponseObject, error) {
	v, err := h.svc.Point(ctx, request.ID)
	return api.GetPoint200JSONResponse(v), err
}

func (h *handlers) UpdatePoint(ctx context.Context, request api.UpdatePointRequestObject) (api.UpdatePointResponseObject, error) {
	v, err := h.svc.PinPoint(ctx, who(ctx), request.ID, *request.Body)
	return api.UpdatePoint200JSONResponse(v), err
}

func (h *handlers) ExportPoint(ctx context.Context, request api.ExportPointRequestObject) (api.ExportPointResponseObject, error) {
	v, err := h.svc.ExportPoint(ctx, who(ctx), request.ID, *request.Body)
	return api.ExportPoint202JSONResponse(v), err
}

func (h *handlers) GetSession(ctx context.Context, _ api.GetSessionRequestObject) (api.GetSessionResponseObject, error) {
	return api.GetSession200JSONResponse(h.svc.Me(who(ctx))), nil
}

func (h *handlers) ListShares(_ context.Context, _ api.ListSharesRequestObject) (api.ListSharesResponseObject, error) {
	return api.ListShares200JSONResponse(h.svc.Shares()), nil
}

func (h *handlers) CreateShare(ctx context.Context, request api.CreateShareRequestObject) (api.CreateShareResponseObject, error) {
	v, err := h.svc.CreateShare(ctx, who(ctx), *request.Body)
	return api.CreateShare201JSONResponse(v), err
}

func (h *handlers) DeleteShare(ctx context.Context, request api.DeleteShareRequestObject) (api.DeleteShareResponseObject, error) {
	return api.DeleteShare204Response{}, h.svc.DeleteShare(ctx, who(ctx), request.ID)
}

func (h *handlers) GetStore(_ context.Context, _ api.GetStoreRequestObject) (api.GetStoreResponseObject, error) {
	return api.GetStore200JSONResponse(h.svc.Store()), nil
}

func (h *handlers) CheckStore(ctx context.Context, _ api.CheckStoreRequestObject) (api.CheckStoreResponseObject, error) {
	v, err := h.svc.CheckStore(ctx, who(ctx))
	return api.CheckStore202JSONResponse(v), err
}

func (h *handlers) RewriteStore(ctx context.Context, _ api.RewriteStoreRequestObject) (api.RewriteStoreResponseObject, error) {
	v, err := h.svc.RewriteStore(ctx, who(ctx))
	return api.RewriteStore202JSONResponse(v), err
}

func (h *handlers) ListCopies(context.Context, api.ListCopiesRequestObject) (api.ListCopiesResponseObject, error) {
	return api.ListCopies200JSONResponse(h.svc.Copies()), nil
}

func (h *handlers) CarryCopy(ctx context.Context, request api.CarryCopyRequestObject) (api.CarryCopyResponseObject, error) {
	v, err := h.svc.CarryCopy(ctx, who(ctx), *request.Body)
	return api.CarryCopy202JSONResponse(v), err
}

func (h *handlers) DeleteCopy(ctx context.Context, request api.DeleteCopyRequestObject) (api.DeleteCopyResponseObject, error) {
	return api.DeleteCopy204Response{}, h.svc.DeleteCopy(ctx, who(ctx), request.ID)
}

func (h *handlers) ListLosses(context.Context, api.ListLossesRequestObject) (api.ListLossesResponseObject, error) {
	return api.ListLosses200JSONResponse(h.svc.Losses()), nil
}

func (h *handlers) SweepStore(ctx context.Context, _ api.SweepStoreRequestObject) (api.SweepStoreResponseObject, error) {
	v, err := h.svc.SweepStore(ctx, who(ctx))
	return api.SweepStore202JSONResponse(v), err
}

func (h *handlers) ListTokens(ctx context.Context, _ api.ListTokensRequestObject) (api.ListTokensResponseObject, error) {
	v, err := h.svc.Tokens(ctx)
	return api.ListTokens200JSONResponse(v), err
}

func (h *handlers) CreateToken(ctx context.Context, request api.CreateTokenRequestObject) (api.CreateTokenResponseObject, error) {
	v, err := h.svc.CreateToken(ctx, who(ctx), *request.Body)
	return api.CreateToken201JSONResponse(v), err
}

func (h *handlers) DeleteToken(ctx context.Context, request api.DeleteTokenRequestObject) (api.DeleteTokenResponseObject, error) {
	return api.DeleteToken204Response{}, h.svc.DeleteToken(ctx, who(ctx), request.ID)
}

func (h *handlers) ListLandings(_ context.Context, _ api.ListLandingsRequestObject) (api.ListLandingsResponseObject, error) {
	return api.ListLandings200JSONResponse(h.svc.Landings()), nil
}

func (h *handlers) CreateLandings(ctx context.Context, request api.CreateLandingsRequestObject) (api.CreateLandingsResponseObject, error) {
	v, err := h.svc.CreateLandings(ctx, who(ctx), *request.Body)
	return api.CreateLandings201JSONResponse(v), err
}

func (h *handlers) GetLanding(_ context.Context, request api.GetLandingRequestObject) (api.GetLandingResponseObject, error) {
	v, err := h.svc.Landing(request.ID)
	return api.GetLanding200JSONResponse(v), err
}

func (h *handlers) DeleteLanding(ctx context.Context, request api.DeleteLandingRequestObject) (api.DeleteLandingResponseObject, error) {
	return api.DeleteLanding204Response{}, h.svc.DeleteLanding(ctx, who(ctx), request.ID)
}
