package httpapi

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"strings"

	"github.com/labstack/echo/v5"

	"kestrel/internal/api"
	"kestrel/internal/problem"
	"kestrel/internal/signon"
)

// refusedCookie holds why somebody was not let in, for the page that says so.
const refusedCookie = "kestrel_refused"

// signOnCookie holds what a sign-in at a provider has to come back with.
const signOnCookie = "kestrel_sign_on"

// GetSignInWays implements api.StrictServerInterface.
func (h *handlers) GetSignInWays(context.Context, api.GetSignInWaysRequestObject) (api.GetSignInWaysResponseObject, error) {
	v := api.GetSignInWays200JSONResponse{Passkeys: h.Access.HasPasskeys()}
	if h.SignOn != nil {
		v.SignOn = &h.SignOn.Label
	}
	return v, nil
}

// beginSignOn sends a browser to the provider.
func (h *handlers) beginSignOn(c *echo.Context) error {
	ctx := c.Request().Context()
	to := c.Request().URL.Query().Get("to")
	if !strings.HasPrefix(to, "/") || strings.HasPrefix(to, "//") || strings.Contains(to, "\\") {
		to = "/" // never to another site
	}
	where, state, err := h.SignOn.Begin(ctx, to, h.Site.Now())
	if err != nil {
		return h.notSignedOn(c, err)
	}
	b, err := json.Marshal(state)
	if err != nil {
		return err
	}
	c.SetCookie(h.signOnCookie(base64.RawURLEncoding.EncodeToString(h.Box.Seal(string(b))), 600))
	return c.Redirect(http.StatusSeeOther, where)
}

// endSignOn takes in who comes back from the provider.
func (h *handlers) endSignOn(c *echo.Context) error {
	ctx := c.Request().Context()
	q := c.Request().URL.Query()
	c.SetCookie(h.signOnCookie("", -1))
	if q.Get("error") != "" {
		return h.notSignedOn(c, errors.New("the provider refused: "+q.Get("error")))
	}
	var state signon.State
	if cookie, err := c.Cookie(signOnCookie); err == nil {
		if b, err := base64.RawURLEncoding.DecodeString(cookie.Value); err == nil {
			if text, err := h.Box.Open(b); err == nil {
				_ = json.Unmarshal([]byte(text), &state) // what is no state is refused next
			}
		}
	}
	id, err := h.SignOn.Finish(ctx, state, q.Get("state"), q.Get("code"), h.Site.Now())
	if err != nil {
		return h.notSignedOn(c, err)
	}
	_, secret, err := h.Access.SignOn(ctx, id, h.SignOn.Label, h.SignOn.Grants, from(ctx))
	if err != nil {
		return h.notSignedOn(c, err)
	}
	c.SetCookie(sessionCookie(secret, h.secure))
	return c.Redirect(http.StatusSeeOther, state.To)
}

func (h *handlers) signOnCookie(value string, seconds int) *http.Cookie {
	// Lax, since the browser comes back from another site.
	return &http.Cookie{Name: signOnCookie, Value: value, Path: "/sign-on", MaxAge: seconds, HttpOnly: true, Secure: h.secure, SameSite: http.SameSiteLaxMode}
}

// notSignedOn sends a browser to the page where one signs in, with the reason. What went
// wrong at the provider is written to the log, and not shown.
func (h *handlers) notSignedOn(c *echo.Context, err error) error {
	why := "It did not work. Try again; the site's log says why."
	if p, ok := problem.Of(err); ok && p.Detail != "" {
		why = p.Detail
	} else {
		h.log.Warn("sign-on", "err", err)
	}
	// Not in the address: nobody shall put words into this site's mouth by a link.
	c.SetCookie(&http.Cookie{Name: refusedCookie, Value: url.PathEscape(why), Path: "/sign-in", MaxAge: 60, Secure: h.secure, SameSite: http.SameSiteLaxMode})
	return c.Redirect(http.StatusSeeOther, "/sign-in?refused=1")
}
