package e2e

import (
	"context"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/support/browser"
)

// peopleInTheConsole: two people for what destroys, a second factor that is demanded, and
// a page that ends with what its reader may do.
func peopleInTheConsole(t *testing.T, tab context.Context, w *world) {
	at := func(path string) chromedp.Action[chromedp.Void] { return chromedp.Navigate(w.home.url + path) }
	inv := must[api.PersonInvitation](w.home, "POST", "/people", api.NewPerson{Role: "administrator"})
	res := w.home.raw("POST", "/welcome", "", api.Welcome{Token: inv.Link[strings.Index(inv.Link, "#")+1:], Name: "second-mate", Password: password})
	require.NoError(t, res.Body.Close())
	tick := func(text string) chromedp.Action[chromedp.Void] {
		return chromedp.Click(chromedp.Search(`//label[contains(normalize-space(), "` + text + `")]/input`))
	}

	do(t, tab, "two people", browser.SignIn(w.home.url, person, password), at("/access"), browser.See("A second administrator has to consent to"), tick("Removing links"), browser.Press("Save the safeguards"), chromedp.WaitVisible(chromedp.Search(`//button[text()="Save the safeguards" and @disabled]`)))
	w.eventually("the safeguards are kept", func() bool { // the button is pale while they are being saved, too
		return slices.Equal([]string{"unpair", "people", "safeguards"}, must[api.Safeguards](w.home, "GET", "/safeguards", nil).Consent)
	})
	do(t, tab, "asked", tick("Removing links"), browser.Press("Save the safeguards"), browser.See("A second person has to consent first"), at("/access"), browser.See("You want to change the safeguards"), browser.See("waits for a second person"))
	axe(t, tab, "access")
	do(t, tab, "consented to", browser.SignIn(w.home.url, "second-mate", password), browser.See("asks a second person to consent"), browser.Press("Consent or refuse →"), browser.Press("Consent"), browser.See("can be done once"))
	do(t, tab, "done", browser.SignIn(w.home.url, person, password), at("/access"), browser.See("do the same again now"), tick("Removing links"), browser.Press("Save the safeguards"), browser.See("● done"))
	require.Empty(t, must[api.Safeguards](w.home, "GET", "/safeguards", nil).Consent)

	// Whoever is demanded a second factor sets it up and goes on.
	do(t, tab, "a viewer", browser.SignIn(w.home.url, "deck-hand", password), browser.See("● live"))
	put := func(roles ...string) {
		v := api.Safeguards{SecondFactor: append([]string{}, roles...), Consent: []string{}, ConsentHours: 24}
		require.Equal(t, v.SecondFactor, must[api.Safeguards](w.home, "PUT", "/safeguards", v).SecondFactor)
	}
	put("viewer")
	do(t, tab, "is held", at("/groups"), browser.See("One thing first, deck-hand"))
	axe(t, tab, "held")
	do(t, tab, "sets it up", browser.Press("Set up a second factor"), browser.See("type the secret"))
	seed, err := chromedp.Run(tab, chromedp.Evaluate[string](`document.querySelector("main code").textContent`))
	require.NoError(t, err)
	require.Regexp(t, regexp.MustCompile(`^[A-Z2-7]{32}$`), seed)
	axe(t, tab, "second factor")
	code := func(at time.Time) string {
		c, err := totp.GenerateCode(seed, at)
		require.NoError(t, err)
		return c
	}
	do(t, tab, "shows a code", browser.Fill("Code that it shows", code(time.Now())), browser.Press("It is set up"), browser.See("recovery codes let you in"), browser.Press("I have kept them"), browser.See("● live"))
	do(t, tab, "signs in with it", chromedp.Click(chromedp.Search(`//button[@aria-label="Sign out"]`)), browser.See("Sign in"), browser.Fill("Name", "deck-hand"), browser.Fill("Password", password), browser.Press("Sign in"), browser.See("or a recovery code"))
	axe(t, tab, "code")
	// The step after is good as well; the one that set it up is used.
	do(t, tab, "with a code", browser.Fill("Code", code(time.Now().Add(30*time.Second))), browser.Press("Sign in"), browser.See("● live"))

	// What is revoked is gone at once, also for a page that is open.
	require.True(t, must[api.Person](w.home, "PATCH", "/people/deck-hand", api.EditPerson{Disabled: new(true)}).Disabled)
	do(t, tab, "out", browser.See("Sign in"))
	put()

	// A passkey signs in alone, and the password beside it does no longer.
	do(t, tab, "an authenticator", browser.Authenticator(), browser.SignIn(w.home.named(), "second-mate", password), chromedp.Navigate(w.home.named()+"/access"), browser.Fill("A passkey called", "a phone"), browser.Press("Add a passkey"), browser.See("a phone a passkey"))
	axe(t, tab, "passkeys")
	do(t, tab, "password alone", chromedp.Click(chromedp.Search(`//button[@aria-label="Sign out"]`)), browser.See("Sign in"), browser.Fill("Name", "second-mate"), browser.Fill("Password", password), browser.Press("Sign in"), browser.See("sign in with the passkey"))
	axe(t, tab, "sign-in with a passkey")
	do(t, tab, "by the passkey", browser.Press("Sign in with a passkey"), browser.See("● live"), browser.See("second-mate"))
}
