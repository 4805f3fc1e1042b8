// Package browser drives Debian's Chromium, headless, for the tests of the
// console and for its pictures.
package browser

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"
)

// ErrMissing says that Chromium is not installed.
var ErrMissing = errors.New("chromium is not installed (Debian's package chromium)")

// Open starts a browser with an empty profile and one tab. The function that
// it returns ends it.
func Open(ctx context.Context, width, height int) (context.Context, func(), error) {
	path, err := exec.LookPath("chromium")
	if err != nil {
		return nil, nil, ErrMissing
	}
	dir, err := os.MkdirTemp("", "kestrel-browser")
	if err != nil {
		return nil, nil, err
	}
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.UserDataDir(dir), chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.WindowSize(width, height), chromedp.WSURLReadTimeout(60*time.Second),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true),
		// A page that was left is not kept alive, so that nothing is read from it.
		chromedp.Flag("disable-features", "Translate,BlinkGenPropertyTrees,BackForwardCache"),
		chromedp.Flag("disable-sync", true), chromedp.Flag("lang", "en-GB"), chromedp.Env("LANG=en_GB.UTF-8"))
	alloc, stopAlloc := chromedp.NewExecAllocator(ctx, opts...)
	tab, stopTab := chromedp.NewContext(alloc)
	stop := func() { stopTab(); stopAlloc(); _ = os.RemoveAll(dir) }
	if err := chromedp.Do(tab, Size(width, height)); err != nil {
		stop()
		return nil, nil, fmt.Errorf("start chromium: %w", err)
	}
	return tab, stop, nil
}

// SignIn signs in at the console at url as a person does.
func SignIn(url, name, password string) chromedp.Action[chromedp.Void] {
	return chromedp.Steps(chromedp.Navigate(url+"/sign-in"),
		chromedp.SendKeys(chromedp.CSS(`input[name="name"]`), name),
		chromedp.SendKeys(chromedp.CSS(`input[name="password"]`), password),
		chromedp.Click(chromedp.CSS(`button[type="submit"]`)),
		chromedp.WaitVisible(chromedp.CSS(`#content`)))
}

// Size changes the tab's size.
func Size(width, height int) chromedp.Action[chromedp.Void] {
	return chromedp.EmulateViewport(int64(width), int64(height))
}

// See waits until the page shows text.
func See(text string) chromedp.Action[chromedp.Void] {
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		_, err := chromedp.Poll[bool](fmt.Sprintf(`document.body.innerText.replace(/\s+/g, " ").includes(%q)`, text))(ctx, t)
		return chromedp.Void{}, err
	}
}

// Press clicks the button, link, item of a menu or summary of details with this text.
func Press(text string) chromedp.Action[chromedp.Void] {
	return chromedp.Click(chromedp.Search(fmt.Sprintf(`//button[normalize-space()=%q and not(@disabled)] | //a[normalize-space()=%q] | //*[@role="menuitem" and normalize-space()=%q] | //summary[normalize-space()=%q]`, text, text, text, text)))
}

// Fill types into the input with this label.
func Fill(label, text string) chromedp.Action[chromedp.Void] {
	sel := chromedp.Search(fmt.Sprintf(`//*[@id=//label[normalize-space()=%q]/@for] | //*[@aria-label=%q]`, label, label))
	return chromedp.Steps(chromedp.Click(sel), chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		return chromedp.Do(ctx, chromedp.KeyEvent("a", chromedp.KeyModifiers(chromedp.ModifierCtrl)), chromedp.KeyEvent("\b"))
	}), chromedp.SendKeys(sel, text))
}

// Choose picks an option of a list by its value. It sets the value as the
// browser does, so that the page hears of it.
func Choose(label, value string) chromedp.Action[chromedp.Void] {
	script := fmt.Sprintf(`(() => {
		const l = [...document.querySelectorAll("label")].find((x) => x.textContent.trim() === %q);
		const s = document.getElementById(l.htmlFor);
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, %q);
		s.dispatchEvent(new Event("change", { bubbles: true }));
		return s.value;
	})()`, label, value)
	return chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		got, err := chromedp.Run(ctx, chromedp.Evaluate[string](script))
		if err == nil && got != value {
			err = fmt.Errorf("%s has no option %q", label, value)
		}
		return err
	})
}

// Authenticator gives the tab an authenticator whose owner says yes to everything, as a
// phone in somebody's hand does.
func Authenticator() chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		if _, err := cdp.Call(ctx, t, webauthn.Enable, webauthn.EnableParams{}); err != nil {
			return err
		}
		_, err := cdp.Call(ctx, t, webauthn.AddVirtualAuthenticator, webauthn.AddVirtualAuthenticatorParams{Options: &webauthn.VirtualAuthenticatorOptions{
			Protocol: webauthn.AuthenticatorProtocolCtap2, Transport: webauthn.AuthenticatorTransportInternal, HasResidentKey: true, HasUserVerification: true, IsUserVerified: true, AutomaticPresenceSimulation: true}})
		return err
	})
}

// Picture writes what the tab shows to a PNG file.
func Picture(ctx context.Context, path string) error {
	b, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	return os.WriteFile(path, b, 0o644)
}
