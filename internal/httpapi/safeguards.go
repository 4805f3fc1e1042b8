package httpapi

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"kestrel/internal/api"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/consent"
	"kestrel/internal/core/words"
	"kestrel/internal/safeguard"
)

// guarded tells what a request would do for which a site may want two people; false if it
// does nothing of the kind.
type guarded func(h *handlers, ctx context.Context, request any) (safeguard.Act, bool, error)

// guards lists the operations that may need a second person, by their name in the contract.
func guards() map[string]guarded {
	return map[string]guarded{
		"DeletePoint": func(h *handlers, ctx context.Context, request any) (safeguard.Act, bool, error) {
			id := request.(api.DeletePointRequestObject).ID
			p, err := h.Points.Point(ctx, id)
			return safeguard.Act{Kind: consent.DeletePoints, What: fmt.Sprintf("delete point %d of %s, captured %s", p.Number, p.GroupName, minute(p.CaptureAt)), Exact: id}, true, err
		},
		"UpdateGroup": func(h *handlers, ctx context.Context, request any) (safeguard.Act, bool, error) {
			r := request.(api.UpdateGroupRequestObject)
			if p, t := r.Body.Promise, r.Body.PromiseText; (p == nil || p.Keep == nil) && (t == nil || t.Keep == nil) && r.Body.Tier == nil && r.Body.LikeTier == nil {
				return safeguard.Act{}, false, nil
			}
			v, err := h.Groups.Preview(ctx, r.ID, *r.Body)
			if err != nil || v.DropsPoints == 0 || len(v.Faults) > 0 {
				return safeguard.Act{}, false, err // what is wrong is said by who makes the change
			}
			g, err := h.Directory.Find(r.ID)
			return safeguard.Act{Kind: consent.DeletePoints, What: fmt.Sprintf("keep fewer points of %s, of which %s would go", g.Spec.Name, words.Count(v.DropsPoints, "point")), Exact: []any{g.ID, r.Body}}, true, err
		},
		"UpdateTier": func(h *handlers, ctx context.Context, request any) (safeguard.Act, bool, error) {
			r := request.(api.UpdateTierRequestObject)
			v, err := h.Tiers.Foresee(ctx, r.ID, *r.Body)
			if err != nil || len(v.Faults) > 0 {
				return safeguard.Act{}, false, err
			}
			lost := 0
			for _, g := range v.Groups {
				lost += g.DropsPoints
			}
			return safeguard.Act{Kind: consent.DeletePoints, What: fmt.Sprintf("keep fewer points of the groups of tier %s, of which %s would go", r.ID, words.Count(lost, "point")), Exact: []any{r.ID, r.Body}}, lost > 0, nil
		},
		"DeleteGroup": func(h *handlers, _ context.Context, request any) (safeguard.Act, bool, error) {
			r := request.(api.DeleteGroupRequestObject)
			if value(r.Params.Points) != "delete" {
				return safeguard.Act{}, false, nil
			}
			g, err := h.Directory.Find(r.ID)
			return safeguard.Act{Kind: consent.EndGroups, What: fmt.Sprintf("end the group %s and delete its points", g.Spec.Name), Exact: []any{g.ID, r.Params}}, true, err
		},
		"DeleteLink": func(h *handlers, _ context.Context, request any) (safeguard.Act, bool, error) {
			l, err := h.Links.Find(request.(api.DeleteLinkRequestObject).ID)
			return safeguard.Act{Kind: consent.Unpair, What: "remove the link to " + l.Peer, Exact: l.ID}, true, err
		},
		"CreateInvitation": func(_ *handlers, _ context.Context, request any) (safeguard.Act, bool, error) {
			b := request.(api.CreateInvitationRequestObject).Body
			return safeguard.Act{Kind: consent.Unpair, What: fmt.Sprintf("let %s come with another key", value(b.ForSite)), Exact: b}, value(b.NewKey), nil
		},
		"AcceptInvitation": func(_ *handlers, _ context.Context, request any) (safeguard.Act, bool, error) {
			b := request.(api.AcceptInvitationRequestObject).Body
			return safeguard.Act{Kind: consent.Unpair, What: "accept an invitation of a paired site that has another key", Exact: b}, value(b.NewKey), nil
		},
		"InvitePerson": func(_ *handlers, _ context.Context, request any) (safeguard.Act, bool, error) {
			b := request.(api.InvitePersonRequestObject).Body
			return safeguard.Act{Kind: consent.People, What: "invite an administrator", Exact: b}, b.Role == string(actor.Administrator), nil
		},
		"EditPerson": func(h *handlers, ctx context.Context, request any) (safeguard.Act, bool, error) {
			r := request.(api.EditPersonRequestObject)
			name, role, err := h.Access.Role(ctx, r.ID)
			return safeguard.Act{Kind: consent.People, What: fmt.Sprintf("change %s, who is %s: %s", name, words.Article(string(role)), edits(*r.Body)), Exact: []any{name, r.Body}}, role == actor.Administrator || value(r.Body.Role) == string(actor.Administrator), err
		},
		"ResetPassword": aboutPerson("make a link with which %s sets another password", func(r api.ResetPasswordRequestObject) string { return r.ID }),
		"DeletePerson":  aboutPerson("remove %s", func(r api.DeletePersonRequestObject) string { return r.ID }),
		"SetSafeguards": func(_ *handlers, _ context.Context, request any) (safeguard.Act, bool, error) {
			b := request.(api.SetSafeguardsRequestObject).Body
			return safeguard.Act{Kind: consent.Safeguards, What: "change the safeguards: " + safeguard.Text(*b), Exact: b}, true, nil
		},
	}
}

// edits says what would be changed of somebody.
func edits(in api.EditPerson) string {
	var out []string
	if in.Role != nil {
		out = append(out, "role to "+*in.Role)
	}
	if in.Tags != nil {
		out = append(out, "limited to "+words.Count(len(*in.Tags), "tag"))
	}
	if in.Disabled != nil {
		out = append(out, map[bool]string{true: "disabled", false: "enabled"}[*in.Disabled])
	}
	if value(in.SecondFactorOff) {
		out = append(out, "second factor off")
	}
	if len(out) == 0 {
		return "nothing"
	}
	return strings.Join(out, ", ")
}

// aboutPerson guards what is done to an administrator.
func aboutPerson[T any](what string, id func(T) string) guarded {
	return func(h *handlers, ctx context.Context, request any) (safeguard.Act, bool, error) {
		name, role, err := h.Access.Role(ctx, id(request.(T)))
		return safeguard.Act{Kind: consent.People, What: fmt.Sprintf(what, name), Exact: []string{what, name}}, role == actor.Administrator, err
	}
}

func minute(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 MST") }

// consented lets pass what needs no second person, or what one consented to.
func (h *handlers) consented(c *echo.Context, operation string, request any, onGroup bool, tags []string) error {
	guard, ok := h.guards[operation]
	if !ok || len(h.Safeguards.View().Consent) == 0 {
		return nil // what an act would do is not looked at for nothing
	}
	ctx := c.Request().Context()
	act, needs, err := guard(h, ctx, request)
	if err != nil || !needs {
		return err
	}
	act.Group, act.Tags = onGroup, tags
	return h.Safeguards.Pass(ctx, who(ctx), act)
}

func (h *handlers) GetSafeguards(context.Context, api.GetSafeguardsRequestObject) (api.GetSafeguardsResponseObject, error) {
	return api.GetSafeguards200JSONResponse(h.Safeguards.View()), nil
}

func (h *handlers) SetSafeguards(ctx context.Context, request api.SetSafeguardsRequestObject) (api.SetSafeguardsResponseObject, error) {
	v, err := h.Safeguards.Set(ctx, who(ctx), *request.Body)
	return api.SetSafeguards200JSONResponse(v), err
}

func (h *handlers) ListConsents(ctx context.Context, _ api.ListConsentsRequestObject) (api.ListConsentsResponseObject, error) {
	v, err := h.Safeguards.List(ctx, who(ctx))
	return api.ListConsents200JSONResponse(v), err
}

func (h *handlers) GiveConsent(ctx context.Context, request api.GiveConsentRequestObject) (api.GiveConsentResponseObject, error) {
	v, err := h.Safeguards.Answer(ctx, who(ctx), request.ID, true)
	return api.GiveConsent200JSONResponse(v), err
}

func (h *handlers) RefuseConsent(ctx context.Context, request api.RefuseConsentRequestObject) (api.RefuseConsentResponseObject, error) {
	v, err := h.Safeguards.Answer(ctx, who(ctx), request.ID, false)
	return api.RefuseConsent200JSONResponse(v), err
}

func (h *handlers) BeginSecondFactor(ctx context.Context, _ api.BeginSecondFactorRequestObject) (api.BeginSecondFactorResponseObject, error) {
	v, err := h.Access.BeginSecondFactor(ctx, who(ctx))
	return api.BeginSecondFactor201JSONResponse(v), err
}

func (h *handlers) ConfirmSecondFactor(ctx context.Context, request api.ConfirmSecondFactorRequestObject) (api.ConfirmSecondFactorResponseObject, error) {
	v, err := h.Access.ConfirmSecondFactor(ctx, who(ctx), *request.Body)
	return api.ConfirmSecondFactor200JSONResponse(v), err
}

func (h *handlers) RemoveSecondFactor(ctx context.Context, request api.RemoveSecondFactorRequestObject) (api.RemoveSecondFactorResponseObject, error) {
	return api.RemoveSecondFactor204Response{}, h.Access.RemoveSecondFactor(ctx, who(ctx), *request.Body)
}

func (h *handlers) ListPasskeys(ctx context.Context, _ api.ListPasskeysRequestObject) (api.ListPasskeysResponseObject, error) {
	v, err := h.Access.Passkeys(ctx, who(ctx))
	return api.ListPasskeys200JSONResponse(v), err
}

func (h *handlers) BeginPasskey(ctx context.Context, _ api.BeginPasskeyRequestObject) (api.BeginPasskeyResponseObject, error) {
	v, err := h.Access.BeginPasskey(ctx, who(ctx))
	return api.BeginPasskey200JSONResponse(v), err
}

func (h *handlers) AddPasskey(ctx context.Context, request api.AddPasskeyRequestObject) (api.AddPasskeyResponseObject, error) {
	v, err := h.Access.AddPasskey(ctx, who(ctx), *request.Body)
	return api.AddPasskey201JSONResponse(v), err
}

func (h *handlers) DeletePasskey(ctx context.Context, request api.DeletePasskeyRequestObject) (api.DeletePasskeyResponseObject, error) {
	return api.DeletePasskey204Response{}, h.Access.DeletePasskey(ctx, who(ctx), request.ID)
}

func (h *handlers) BeginSignIn(ctx context.Context, _ api.BeginSignInRequestObject) (api.BeginSignInResponseObject, error) {
	v, err := h.Access.BeginSignIn(ctx)
	return api.BeginSignIn200JSONResponse(v), err
}

func (h *handlers) SignInByPasskey(ctx context.Context, request api.SignInByPasskeyRequestObject) (api.SignInByPasskeyResponseObject, error) {
	a, secret, err := h.Access.SignInByPasskey(ctx, *request.Body, from(ctx))
	return h.signedIn(ctx, a, secret, err)
}
