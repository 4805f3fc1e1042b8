package httpapi

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"net/http"
	"sync"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/actor"
)

// lately is who came with which secret in the last while, as far as it is remembered.
type lately struct {
	mu  sync.Mutex
	who map[[sha256.Size]byte]seenActor
}

type seenActor struct {
	actor.Actor
	at time.Time
}

// rememberFor and rememberMost bound what is remembered.
const (
	rememberFor  = time.Hour
	rememberMost = 1000
)

func (l *lately) put(secret string, a actor.Actor) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.who == nil || len(l.who) >= rememberMost {
		l.who = map[[sha256.Size]byte]seenActor{}
	}
	l.who[sha256.Sum256([]byte(secret))] = seenActor{a, time.Now()}
}

func (l *lately) get(secret string) (actor.Actor, bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	s, ok := l.who[sha256.Sum256([]byte(secret))]
	return s.Actor, ok && time.Since(s.at) < rememberFor
}

// signedIn answers with a session cookie.
type signedIn struct {
	me     api.Me
	secret string
	secure bool
}

// sessionCookie keeps a session in a browser; without a secret it takes it away.
func sessionCookie(secret string, secure bool) *http.Cookie {
	c := &http.Cookie{Name: cookieName, Value: secret, Path: "/", HttpOnly: true, Secure: secure, SameSite: http.SameSiteStrictMode}
	if secret == "" {
		c.MaxAge = -1
	}
	return c
}

func (s signedIn) write(w http.ResponseWriter) error {
	http.SetCookie(w, sessionCookie(s.secret, s.secure))
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(http.StatusOK)
	return json.NewEncoder(w).Encode(s.me)
}

// VisitSignInResponse implements api.SignInResponseObject.
func (s signedIn) VisitSignInResponse(w http.ResponseWriter) error { return s.write(w) }

// VisitSignInByPasskeyResponse implements api.SignInByPasskeyResponseObject.
func (s signedIn) VisitSignInByPasskeyResponse(w http.ResponseWriter) error { return s.write(w) }

// VisitWelcomeResponse implements api.WelcomeResponseObject.
func (s signedIn) VisitWelcomeResponse(w http.ResponseWriter) error { return s.write(w) }

// me describes who is signed in.
func (h *handlers) me(ctx context.Context, a actor.Actor) (api.Me, error) {
	name := a.Name
	if a.Kind == actor.Token {
		name = a.For
	}
	self := h.Site.Self()
	second, elsewhere, err := h.Access.SecondFactor(ctx, a)
	v := api.Me{Name: name, Role: string(a.Role), Tags: append([]string{}, a.Tags...), Site: self.Name, SiteID: self.ID, Version: h.Version, Now: h.Site.Now().UTC(), SecondFactor: second, SignOn: elsewhere}
	if a.Held != "" {
		v.Held = &a.Held
	}
	return v, err
}

func (h *handlers) signedIn(ctx context.Context, a actor.Actor, secret string, err error) (signedIn, error) {
	if err != nil {
		return signedIn{}, err
	}
	me, err := h.me(ctx, a)
	return signedIn{me, secret, h.secure}, err
}

func (h *handlers) SignIn(ctx context.Context, request api.SignInRequestObject) (api.SignInResponseObject, error) {
	a, secret, err := h.Access.SignIn(ctx, *request.Body, from(ctx))
	return h.signedIn(ctx, a, secret, err)
}

func (h *handlers) Welcome(ctx context.Context, request api.WelcomeRequestObject) (api.WelcomeResponseObject, error) {
	a, secret, err := h.Access.Welcome(ctx, *request.Body, from(ctx))
	return h.signedIn(ctx, a, secret, err)
}

type signedOut struct{ secure bool }

// VisitSignOutResponse implements api.SignOutResponseObject.
func (s signedOut) VisitSignOutResponse(w http.ResponseWriter) error {
	http.SetCookie(w, sessionCookie("", s.secure))
	w.WriteHeader(http.StatusNoContent)
	return nil
}

type secretKey struct{}

// secretOf is the session or token that a request came with.
func secretOf(ctx context.Context) string {
	s, _ := ctx.Value(secretKey{}).(string)
	return s
}

func (h *handlers) ChangePassword(ctx context.Context, request api.ChangePasswordRequestObject) (api.ChangePasswordResponseObject, error) {
	return api.ChangePassword204Response{}, h.Access.ChangePassword(ctx, who(ctx), *request.Body, secretOf(ctx))
}

func (h *handlers) ListSessions(ctx context.Context, _ api.ListSessionsRequestObject) (api.ListSessionsResponseObject, error) {
	v, err := h.Access.Sessions(ctx, who(ctx), secretOf(ctx))
	return api.ListSessions200JSONResponse(v), err
}

func (h *handlers) EndSession(ctx context.Context, request api.EndSessionRequestObject) (api.EndSessionResponseObject, error) {
	return api.EndSession204Response{}, h.Access.EndSession(ctx, who(ctx), request.ID)
}

func (h *handlers) SignOut(ctx context.Context, _ api.SignOutRequestObject) (api.SignOutResponseObject, error) {
	return signedOut{h.secure}, h.Access.SignOut(ctx, who(ctx), secretOf(ctx))
}

func (h *handlers) GetSession(ctx context.Context, _ api.GetSessionRequestObject) (api.GetSessionResponseObject, error) {
	v, err := h.me(ctx, who(ctx))
	return api.GetSession200JSONResponse(v), err
}

func (h *handlers) ListPeople(ctx context.Context, _ api.ListPeopleRequestObject) (api.ListPeopleResponseObject, error) {
	v, err := h.Access.People(ctx)
	return api.ListPeople200JSONResponse(v), err
}

func (h *handlers) InvitePerson(ctx context.Context, request api.InvitePersonRequestObject) (api.InvitePersonResponseObject, error) {
	v, err := h.Access.InvitePerson(ctx, who(ctx), *request.Body)
	return api.InvitePerson201JSONResponse(v), err
}

func (h *handlers) EditPerson(ctx context.Context, request api.EditPersonRequestObject) (api.EditPersonResponseObject, error) {
	v, err := h.Access.EditPerson(ctx, who(ctx), request.ID, *request.Body)
	return api.EditPerson200JSONResponse(v), err
}

func (h *handlers) ResetPassword(ctx context.Context, request api.ResetPasswordRequestObject) (api.ResetPasswordResponseObject, error) {
	v, err := h.Access.ResetPassword(ctx, who(ctx), request.ID)
	return api.ResetPassword201JSONResponse(v), err
}

func (h *handlers) DeletePerson(ctx context.Context, request api.DeletePersonRequestObject) (api.DeletePersonResponseObject, error) {
	return api.DeletePerson204Response{}, h.Access.DeletePerson(ctx, who(ctx), request.ID)
}

func (h *handlers) ListTokens(ctx context.Context, _ api.ListTokensRequestObject) (api.ListTokensResponseObject, error) {
	v, err := h.Access.Tokens(ctx, who(ctx))
	return api.ListTokens200JSONResponse(v), err
}

func (h *handlers) CreateToken(ctx context.Context, request api.CreateTokenRequestObject) (api.CreateTokenResponseObject, error) {
	v, err := h.Access.CreateToken(ctx, who(ctx), *request.Body, secretOf(ctx))
	return api.CreateToken201JSONResponse(v), err
}

func (h *handlers) DeleteToken(ctx context.Context, request api.DeleteTokenRequestObject) (api.DeleteTokenResponseObject, error) {
	return api.DeleteToken204Response{}, h.Access.DeleteToken(ctx, who(ctx), request.ID)
}
