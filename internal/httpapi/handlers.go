package httpapi

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"strconv"
	"strings"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/audit"
	"kestrel/internal/core/words"
	"kestrel/internal/events"
	"kestrel/internal/inventory"
	"kestrel/internal/keeper"
	"kestrel/internal/listing"
	"kestrel/internal/overview"
	"kestrel/internal/problem"
	"kestrel/internal/records"
	"kestrel/internal/watch"
)

// handlers puts the rooms behind the contract's generated interface.
type handlers struct {
	Rooms
	secure bool
	door   Door
	log    *slog.Logger
	rules  map[string]rule
	guards map[string]guarded
	lately lately
	denied denied
}

var _ api.StrictServerInterface = (*handlers)(nil)

func value[T any](p *T) T {
	if p == nil {
		var zero T
		return zero
	}
	return *p
}

// eventStream writes events as they come. A comment now and then keeps the
// connection from being taken for dead.
type eventStream struct {
	ctx    context.Context
	events <-chan events.Event
	stop   func()
	see    func(group string) bool
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
			if id := groupOf(e); id != "" && !s.see(id) {
				continue
			}
			b, err := json.Marshal(e)
			if err != nil {
				return err
			}
			_, _ = fmt.Fprintf(w, "data: %s\n\n", b)
		}
	}
}

// groupOf is the group that an event is about, if it is about one.
func groupOf(e events.Event) string {
	if e.Type == "group" {
		return e.ID
	}
	return e.Group
}

func (h *handlers) StreamEvents(ctx context.Context, _ api.StreamEventsRequestObject) (api.StreamEventsResponseObject, error) {
	all, stop := h.Events.Listen()
	ctx, end := h.Access.While(ctx, secretOf(ctx))
	return eventStream{ctx, all, func() { end(); stop() }, h.seesID(ctx)}, nil
}

// activityPage is how many lines are read at a time for somebody who sees some.
const activityPage = 500

func (h *handlers) VerifyActivity(ctx context.Context, _ api.VerifyActivityRequestObject) (api.VerifyActivityResponseObject, error) {
	witnesses := h.Links.Witnesses(ctx)
	v, err := h.Notary.Verify(ctx, witnesses)
	if err != nil {
		return nil, err
	}
	out := api.VerifyActivity200JSONResponse{Ok: len(v.Faults) == 0, Lines: v.Lines, Unchained: v.Unchained, SignedHeads: v.Heads, Witnesses: []api.TrailWitness{}, Faults: append([]string{}, v.Faults...)}
	for _, w := range witnesses {
		x := api.TrailWitness{Site: w.Name, Heads: len(w.Heads)}
		if w.Err != nil {
			x.Error = new(words.Upper(w.Err.Error()))
		}
		out.Witnesses = append(out.Witnesses, x)
	}
	return out, nil
}

func (h *handlers) ListActivity(ctx context.Context, request api.ListActivityRequestObject) (api.ListActivityResponseObject, error) {
	p := request.Params
	limit := value(p.Limit)
	if limit <= 0 || limit > activityPage {
		limit = 100
	}
	f := records.Sought{Before: int64(value(p.Before)), Text: value(p.Q), Kind: value(p.Kind), By: value(p.By), Since: value(p.Since), Until: value(p.Until)}
	limited := len(who(ctx).Tags) > 0
	see := h.seesID(ctx)
	out := api.ListActivity200JSONResponse{}
	for len(out) < limit {
		f.Limit = limit
		if limited {
			f.Limit = activityPage
		}
		lines, err := h.Trail.Lines(ctx, f)
		if err != nil {
			return nil, err
		}
		for _, l := range lines {
			f.Before = l.ID
			if limited && (l.Object == "" || !see(l.Object)) {
				continue
			}
			v := api.Activity{ID: l.ID, At: l.At, Who: l.Who, Actor: l.Actor, Kind: l.Kind, Subject: l.Subject, Text: l.Text, Revision: l.Revision, Number: l.Number, Changes: []api.Change{}}
			if len(l.Hash) > 0 {
				v.Hash = new(hex.EncodeToString(l.Hash))
			}
			if l.Origin != "" {
				v.Origin = &l.Origin
			}
			if l.Object != "" {
				v.Object = &l.Object
			}
			changes, err := audit.ChangesOf(l)
			if err != nil {
				return nil, err
			}
			for _, c := range changes {
				v.Changes = append(v.Changes, api.Change{Field: c.Field, From: c.From, To: c.To})
			}
			if out = append(out, v); len(out) == limit {
				break
			}
		}
		if len(lines) < f.Limit {
			break
		}
	}
	return out, nil
}

func (h *handlers) GetBoard(ctx context.Context, request api.GetBoardRequestObject) (api.GetBoardResponseObject, error) {
	v, err := h.Overview.Board(ctx, sees(ctx), listing.Page{Limit: value(request.Params.Limit), Skip: value(request.Params.Skip)})
	if err != nil {
		return nil, err
	}
	h.linkHealth(v.Links)
	needs, err := h.Safeguards.Needs(ctx, who(ctx))
	if h.Courier != nil && len(who(ctx).Tags) == 0 {
		if n, ok := h.Courier.Need(); ok {
			needs = append(needs, n)
		}
	}
	v.Needs, v.NeedsTotal = append(needs, v.Needs...), v.NeedsTotal+len(needs)
	return api.GetBoard200JSONResponse(v), err
}

func (h *handlers) Forecast(ctx context.Context, request api.ForecastRequestObject) (api.ForecastResponseObject, error) {
	v, err := h.Groups.Forecast(ctx, *request.Body)
	return api.Forecast200JSONResponse(v), err
}

func (h *handlers) ListGroups(ctx context.Context, request api.ListGroupsRequestObject) (api.ListGroupsResponseObject, error) {
	p := request.Params
	v, total, err := h.Overview.List(overview.Filter{Query: value(p.Q), Tag: value(p.Tag), Direction: value(p.Direction), Health: value(p.Health), See: sees(ctx), Page: listing.Page{Sort: value(p.Sort), Limit: value(p.Limit), Skip: value(p.Skip)}})
	return api.ListGroups200JSONResponse{Body: v, Headers: api.ListGroups200ResponseHeaders{XTotalCount: &total}}, err
}

func (h *handlers) ListGroupNames(ctx context.Context, _ api.ListGroupNamesRequestObject) (api.ListGroupNamesResponseObject, error) {
	v := api.ListGroupNames200JSONResponse{}
	for _, r := range h.Directory.All() {
		if !sees(ctx)(r) {
			continue
		}
		n := api.GroupName{ID: r.ID, Name: r.Spec.Name, Direction: string(r.Direction), Peer: r.Other(), Tags: append([]string{}, r.Spec.Tags...)}
		if r.Spec.Tier != nil {
			n.Tier = &r.Spec.Tier.Tier.Name
		}
		v = append(v, n)
	}
	return v, nil
}

func (h *handlers) CreateGroup(ctx context.Context, request api.CreateGroupRequestObject) (api.CreateGroupResponseObject, error) {
	id, err := h.Groups.Create(ctx, who(ctx), *request.Body)
	if err != nil {
		return nil, err
	}
	v, err := h.Overview.Group(id)
	return api.CreateGroup201JSONResponse(v), err
}

func (h *handlers) DeleteGroup(ctx context.Context, request api.DeleteGroupRequestObject) (api.DeleteGroupResponseObject, error) {
	return api.DeleteGroup204Response{}, h.Groups.Delete(ctx, who(ctx), request.ID, value(request.Params.Points), value(request.Params.WithoutPeer))
}

// etag is the revision of a group, for If-Match.
func etag(v api.Group) *string { return new(strconv.Quote(strconv.FormatInt(v.Revision, 10))) }

// matched reads an If-Match.
func matched(header *string) (*int64, error) {
	if header == nil || strings.TrimSpace(*header) == "*" {
		return nil, nil
	}
	n, err := strconv.ParseInt(strings.Trim(strings.TrimSpace(*header), `"`), 10, 64)
	if err != nil {
		return nil, problem.Invalid("If-Match", "Give the ETag that the group was read with, such as %q.", `"7"`)
	}
	return &n, nil
}

func (h *handlers) GetGroup(_ context.Context, request api.GetGroupRequestObject) (api.GetGroupResponseObject, error) {
	v, err := h.Overview.Group(request.ID)
	return api.GetGroup200JSONResponse{Body: v, Headers: api.GetGroup200ResponseHeaders{ETag: etag(v)}}, err
}

func (h *handlers) UpdateGroup(ctx context.Context, request api.UpdateGroupRequestObject) (api.UpdateGroupResponseObject, error) {
	match, err := matched(request.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	r, err := h.Directory.Find(request.ID)
	if err != nil {
		return nil, err
	}
	if err := h.Groups.Update(ctx, who(ctx), r.ID, *request.Body, match); err != nil {
		return nil, err
	}
	v, err := h.Overview.Group(r.ID)
	return api.UpdateGroup200JSONResponse{Body: v, Headers: api.UpdateGroup200ResponseHeaders{ETag: etag(v)}}, err
}

func (h *handlers) PreviewGroup(ctx context.Context, request api.PreviewGroupRequestObject) (api.PreviewGroupResponseObject, error) {
	v, err := h.Groups.Preview(ctx, request.ID, *request.Body)
	return api.PreviewGroup200JSONResponse(v), err
}

func (h *handlers) ListCycles(ctx context.Context, request api.ListCyclesRequestObject) (api.ListCyclesResponseObject, error) {
	v, err := h.Overview.Cycles(ctx, request.ID, value(request.Params.Before), value(request.Params.Limit), value(request.Params.Since))
	return api.ListCycles200JSONResponse(v), err
}

func (h *handlers) GetExposure(ctx context.Context, request api.GetExposureRequestObject) (api.GetExposureResponseObject, error) {
	v, err := h.Overview.Exposure(ctx, request.ID, request.Params.From, request.Params.To)
	return api.GetExposure200JSONResponse(v), err
}

func (h *handlers) PauseGroup(ctx context.Context, request api.PauseGroupRequestObject) (api.PauseGroupResponseObject, error) {
	if err := h.Groups.Pause(ctx, who(ctx), request.ID, request.Body); err != nil {
		return nil, err
	}
	v, err := h.Overview.Group(request.ID)
	return api.PauseGroup200JSONResponse(v), err
}

func (h *handlers) ResumeGroup(ctx context.Context, request api.ResumeGroupRequestObject) (api.ResumeGroupResponseObject, error) {
	if err := h.Groups.Resume(ctx, who(ctx), request.ID); err != nil {
		return nil, err
	}
	v, err := h.Overview.Group(request.ID)
	return api.ResumeGroup200JSONResponse(v), err
}

func (h *handlers) CopyTo(ctx context.Context, request api.CopyToRequestObject) (api.CopyToResponseObject, error) {
	if err := h.Groups.CopyTo(ctx, who(ctx), request.ID, *request.Body); err != nil {
		return nil, err
	}
	v, err := h.Overview.Group(request.ID)
	return api.CopyTo200JSONResponse(v), err
}

func (h *handlers) StopDeletion(ctx context.Context, request api.StopDeletionRequestObject) (api.StopDeletionResponseObject, error) {
	if err := h.Groups.StopDeletion(ctx, who(ctx), request.ID); err != nil {
		return nil, err
	}
	v, err := h.Overview.Group(request.ID)
	return api.StopDeletion200JSONResponse(v), err
}

func (h *handlers) RunCycle(ctx context.Context, request api.RunCycleRequestObject) (api.RunCycleResponseObject, error) {
	if err := h.Groups.Run(ctx, who(ctx), request.ID, value(request.Params.Compare)); err != nil {
		return nil, err
	}
	v, err := h.Overview.Group(request.ID)
	return api.RunCycle202JSONResponse(v), err
}

func (h *handlers) ListInvitations(ctx context.Context, _ api.ListInvitationsRequestObject) (api.ListInvitationsResponseObject, error) {
	v, err := h.Links.Invitations(ctx)
	return api.ListInvitations200JSONResponse(v), err
}

func (h *handlers) CreateInvitation(ctx context.Context, request api.CreateInvitationRequestObject) (api.CreateInvitationResponseObject, error) {
	v, err := h.Links.Invite(ctx, who(ctx), *request.Body)
	return api.CreateInvitation201JSONResponse(v), err
}

func (h *handlers) DeleteInvitation(ctx context.Context, request api.DeleteInvitationRequestObject) (api.DeleteInvitationResponseObject, error) {
	return api.DeleteInvitation204Response{}, h.Links.DeleteInvitation(ctx, who(ctx), request.ID)
}

func (h *handlers) ListLinks(context.Context, api.ListLinksRequestObject) (api.ListLinksResponseObject, error) {
	v := h.Links.Links()
	h.linkHealth(v)
	return api.ListLinks200JSONResponse(v), nil
}

func (h *handlers) AcceptInvitation(ctx context.Context, request api.AcceptInvitationRequestObject) (api.AcceptInvitationResponseObject, error) {
	v, err := h.Links.Accept(ctx, who(ctx), *request.Body)
	return api.AcceptInvitation201JSONResponse(v), err
}

func (h *handlers) DeleteLink(ctx context.Context, request api.DeleteLinkRequestObject) (api.DeleteLinkResponseObject, error) {
	return api.DeleteLink204Response{}, h.Links.Delete(ctx, who(ctx), request.ID)
}

func (h *handlers) EditLink(ctx context.Context, request api.EditLinkRequestObject) (api.EditLinkResponseObject, error) {
	v, err := h.Links.Edit(ctx, who(ctx), request.ID, *request.Body)
	return api.EditLink200JSONResponse(v), err
}

// tested notes that somebody had the site connect to something: it tells them whether
// anything is there.
func (h *handlers) tested(ctx context.Context, kind, name string, v api.ConnectionTest, err error) {
	if err != nil {
		return // there is no such thing, and nothing was asked
	}
	how := map[bool]string{true: "it answers", false: "it does not answer as it should"}[v.Ok]
	h.Trail.Note(ctx, who(ctx), audit.Object{Kind: kind, Name: name}, "%s tested the connection to the %s %s: %s", who(ctx), kind, name, how)
}

func (h *handlers) TestLink(ctx context.Context, request api.TestLinkRequestObject) (api.TestLinkResponseObject, error) {
	v, err := h.Links.Test(ctx, request.ID)
	h.tested(ctx, "link", request.ID, v, err)
	return api.TestLink200JSONResponse(v), err
}

func (h *handlers) ListMachines(ctx context.Context, request api.ListMachinesRequestObject) (api.ListMachinesResponseObject, error) {
	p := request.Params
	f := inventory.MachineFilter{Query: value(p.Q), Platform: value(p.Platform), Folder: value(p.Folder), Tag: value(p.Tag), Power: value(p.Power), Coverage: value(p.Coverage), Page: listing.Page{Sort: value(p.Sort), Limit: value(p.Limit), Skip: value(p.Skip)}}
	if len(who(ctx).Tags) > 0 {
		// Whoever sees some groups sees their machines.
		see := h.seesID(ctx)
		f.See = func(group string) bool { return group != "" && see(group) }
	}
	v, total, err := h.Platforms.Machines(f)
	for i := range v {
		v[i].Health = h.machineHealth(v[i])
	}
	return api.ListMachines200JSONResponse{Body: v, Headers: api.ListMachines200ResponseHeaders{XTotalCount: &total}}, err
}

func (h *handlers) ListOperations(ctx context.Context, request api.ListOperationsRequestObject) (api.ListOperationsResponseObject, error) {
	v, err := h.Operations.List(ctx, value(request.Params.Limit), value(request.Params.Skip))
	out := api.ListOperations200JSONResponse{}
	for _, o := range v {
		if mine(ctx, o) {
			out = append(out, o)
		}
	}
	return out, err
}

// mine tells whether somebody who sees some groups may see an operation: what they
// started themselves.
func mine(ctx context.Context, o api.Operation) bool {
	return len(who(ctx).Tags) == 0 || o.StartedBy == who(ctx).String()
}

func (h *handlers) CancelOperation(ctx context.Context, request api.CancelOperationRequestObject) (api.CancelOperationResponseObject, error) {
	return api.CancelOperation204Response{}, h.Operations.Stop(ctx, who(ctx), request.ID)
}

func (h *handlers) GetOperation(ctx context.Context, request api.GetOperationRequestObject) (api.GetOperationResponseObject, error) {
	v, err := h.Operations.Get(ctx, request.ID)
	if err == nil && !mine(ctx, v) {
		return nil, problem.NotFound("operation", request.ID)
	}
	return api.GetOperation200JSONResponse(v), err
}

func (h *handlers) ListPlatforms(context.Context, api.ListPlatformsRequestObject) (api.ListPlatformsResponseObject, error) {
	v := h.Platforms.Platforms()
	for i := range v {
		v[i].Health = h.condition(watch.Platform, v[i].ID)
	}
	return api.ListPlatforms200JSONResponse(v), nil
}

func (h *handlers) CreatePlatform(ctx context.Context, request api.CreatePlatformRequestObject) (api.CreatePlatformResponseObject, error) {
	v, err := h.Platforms.Create(ctx, who(ctx), *request.Body)
	return api.CreatePlatform201JSONResponse(v), err
}

func (h *handlers) TestPlatform(ctx context.Context, request api.TestPlatformRequestObject) (api.TestPlatformResponseObject, error) {
	v, err := h.Platforms.Test(ctx, *request.Body)
	h.tested(ctx, "platform", request.Body.Address, v, err)
	return api.TestPlatform200JSONResponse(v), err
}

func (h *handlers) DeletePlatform(ctx context.Context, request api.DeletePlatformRequestObject) (api.DeletePlatformResponseObject, error) {
	return api.DeletePlatform204Response{}, h.Platforms.Delete(ctx, who(ctx), request.ID)
}

func (h *handlers) GetInventory(_ context.Context, request api.GetInventoryRequestObject) (api.GetInventoryResponseObject, error) {
	v, err := h.Platforms.Resources(request.ID)
	return api.GetInventory200JSONResponse(v), err
}

func (h *handlers) RetestPlatform(ctx context.Context, request api.RetestPlatformRequestObject) (api.RetestPlatformResponseObject, error) {
	v, err := h.Platforms.Retest(ctx, request.ID)
	h.tested(ctx, "platform", request.ID, v, err)
	return api.RetestPlatform200JSONResponse(v), err
}

func (h *handlers) ListPoints(ctx context.Context, request api.ListPointsRequestObject) (api.ListPointsResponseObject, error) {
	p := request.Params
	f := keeper.Filter{Before: p.Before, After: p.After, Consistent: value(p.Consistent), Page: listing.Page{Sort: value(p.Sort), Limit: value(p.Limit), Skip: value(p.Skip)}}
	see := sees(ctx)
	if p.Group != nil && *p.Group != "" {
		r, err := h.Directory.Find(*p.Group)
		if err == nil && !see(r) {
			err = problem.NotFound("group", *p.Group)
		}
		if err != nil {
			return nil, err
		}
		f.Groups = []string{r.ID}
	} else if len(who(ctx).Tags) > 0 {
		f.Groups = []string{}
		for _, r := range h.Directory.All() {
			if see(r) {
				f.Groups = append(f.Groups, r.ID)
			}
		}
	}
	v, total, err := h.Points.List(ctx, f)
	return api.ListPoints200JSONResponse{Body: v, Headers: api.ListPoints200ResponseHeaders{XTotalCount: &total}}, err
}

func (h *handlers) DeletePoint(ctx context.Context, request api.DeletePointRequestObject) (api.DeletePointResponseObject, error) {
	return api.DeletePoint204Response{}, h.Points.Delete(ctx, who(ctx), request.ID)
}

func (h *handlers) GetPoint(ctx context.Context, request api.GetPointRequestObject) (api.GetPointResponseObject, error) {
	v, err := h.Points.Point(ctx, request.ID)
	return api.GetPoint200JSONResponse(v), err
}

func (h *handlers) UpdatePoint(ctx context.Context, request api.UpdatePointRequestObject) (api.UpdatePointResponseObject, error) {
	v, err := h.Points.Pin(ctx, who(ctx), request.ID, *request.Body)
	return api.UpdatePoint200JSONResponse(v), err
}

func (h *handlers) LockPoint(ctx context.Context, request api.LockPointRequestObject) (api.LockPointResponseObject, error) {
	v, err := h.Points.Lock(ctx, who(ctx), request.ID, *request.Body)
	return api.LockPoint200JSONResponse(v), err
}

func (h *handlers) ExportPoint(ctx context.Context, request api.ExportPointRequestObject) (api.ExportPointResponseObject, error) {
	v, err := h.Points.Export(ctx, who(ctx), request.ID, *request.Body)
	return api.ExportPoint202JSONResponse(v), err
}

func (h *handlers) ListServed(ctx context.Context, _ api.ListServedRequestObject) (api.ListServedResponseObject, error) {
	return api.ListServed200JSONResponse(h.Serving.Served(h.seesID(ctx))), nil
}

func (h *handlers) ServePoint(ctx context.Context, request api.ServePointRequestObject) (api.ServePointResponseObject, error) {
	v, err := h.Serving.Serve(ctx, who(ctx), *request.Body)
	return api.ServePoint201JSONResponse(v), err
}

func (h *handlers) StopServing(ctx context.Context, request api.StopServingRequestObject) (api.StopServingResponseObject, error) {
	return api.StopServing204Response{}, h.Serving.Stop(ctx, who(ctx), request.ID)
}

func (h *handlers) GetStore(context.Context, api.GetStoreRequestObject) (api.GetStoreResponseObject, error) {
	v := h.Store.StoreView()
	v.Health = h.condition(watch.Store, v.Directory)
	if v.LongTerm != nil {
		v.LongTerm.Health = h.condition(watch.Store, v.LongTerm.Directory)
	}
	return api.GetStore200JSONResponse(v), nil
}

func (h *handlers) GetStoreSpace(ctx context.Context, _ api.GetStoreSpaceRequestObject) (api.GetStoreSpaceResponseObject, error) {
	return api.GetStoreSpace200JSONResponse(h.Store.Spaces(h.seesID(ctx))), nil
}

func (h *handlers) VerifyStore(ctx context.Context, _ api.VerifyStoreRequestObject) (api.VerifyStoreResponseObject, error) {
	v, err := h.Store.VerifyStore(ctx, who(ctx))
	return api.VerifyStore202JSONResponse(v), err
}

func (h *handlers) RewriteStore(ctx context.Context, _ api.RewriteStoreRequestObject) (api.RewriteStoreResponseObject, error) {
	v, err := h.Store.RewriteStore(ctx, who(ctx))
	return api.RewriteStore202JSONResponse(v), err
}

func (h *handlers) ListCopies(context.Context, api.ListCopiesRequestObject) (api.ListCopiesResponseObject, error) {
	return api.ListCopies200JSONResponse(h.Store.Copies()), nil
}

func (h *handlers) CarryCopy(ctx context.Context, request api.CarryCopyRequestObject) (api.CarryCopyResponseObject, error) {
	v, err := h.Store.CarryCopy(ctx, who(ctx), *request.Body)
	return api.CarryCopy202JSONResponse(v), err
}

func (h *handlers) DeleteCopy(ctx context.Context, request api.DeleteCopyRequestObject) (api.DeleteCopyResponseObject, error) {
	return api.DeleteCopy204Response{}, h.Store.DeleteCopy(ctx, who(ctx), request.ID)
}

func (h *handlers) ListLosses(ctx context.Context, _ api.ListLossesRequestObject) (api.ListLossesResponseObject, error) {
	return api.ListLosses200JSONResponse(h.Store.Losses(h.seesID(ctx))), nil
}

func (h *handlers) SweepStore(ctx context.Context, _ api.SweepStoreRequestObject) (api.SweepStoreResponseObject, error) {
	v, err := h.Store.SweepStore(ctx, who(ctx))
	return api.SweepStore202JSONResponse(v), err
}

func (h *handlers) ListLandings(ctx context.Context, request api.ListLandingsRequestObject) (api.ListLandingsResponseObject, error) {
	p := request.Params
	v, total, err := h.Landings.List(h.seesID(ctx), value(p.Q), listing.Page{Sort: value(p.Sort), Limit: value(p.Limit), Skip: value(p.Skip)})
	return api.ListLandings200JSONResponse{Body: v, Headers: api.ListLandings200ResponseHeaders{XTotalCount: &total}}, err
}

func (h *handlers) CreateLandings(ctx context.Context, request api.CreateLandingsRequestObject) (api.CreateLandingsResponseObject, error) {
	v, err := h.Landings.Create(ctx, who(ctx), *request.Body, value(request.Params.CheckOnly))
	return api.CreateLandings201JSONResponse(v), err
}

func (h *handlers) GetLanding(_ context.Context, request api.GetLandingRequestObject) (api.GetLandingResponseObject, error) {
	v, err := h.Landings.Get(request.ID)
	return api.GetLanding200JSONResponse(v), err
}

func (h *handlers) SwitchLanding(ctx context.Context, request api.SwitchLandingRequestObject) (api.SwitchLandingResponseObject, error) {
	return api.SwitchLanding204Response{}, h.Landings.Switch(ctx, who(ctx), request.ID, request.Body.To)
}

func (h *handlers) GetLandingScreen(ctx context.Context, request api.GetLandingScreenRequestObject) (api.GetLandingScreenResponseObject, error) {
	shot, err := h.Landings.Screen(ctx, request.ID)
	return api.GetLandingScreen200ImagePngResponse{Body: bytes.NewReader(shot), ContentLength: int64(len(shot))}, err
}

func (h *handlers) DeleteLanding(ctx context.Context, request api.DeleteLandingRequestObject) (api.DeleteLandingResponseObject, error) {
	return api.DeleteLanding204Response{}, h.Landings.Remove(ctx, who(ctx), request.ID)
}
