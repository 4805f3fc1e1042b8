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

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/page"
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
		chromedp.Flag("disable-sync", true), chromedp.Flag("lang", "en-GB"), chromedp.Env("LANG=en_GB.UTF-8"))
	alloc, stopAlloc := chromedp.NewExecAllocator(ctx, opts...)
	tab, stopTab := chromedp.NewContext(alloc)
	stop := func() { stopTab(); stopAlloc(); _ = os.RemoveAll(dir) }
	if err := chromedp.Run(tab, emulation.SetDeviceMetricsOverride(int64(width), int64(height), 1, false)); err != nil {
		stop()
		return nil, nil, fmt.Errorf("start chromium: %w", err)
	}
	return tab, stop, nil
}

// SignIn gives the tab a session that was made through the API.
func SignIn(url, cookie string) chromedp.Action {
	return network.SetCookie("kestrel_session", cookie).WithURL(url).WithHTTPOnly(true)
}

// Size changes the tab's size.
func Size(width, height int) chromedp.Action {
	return emulation.SetDeviceMetricsOverride(int64(width), int64(height), 1, false)
}

// Picture writes what the tab shows to a PNG file.
func Picture(path string) chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) error {
		b, err := page.CaptureScreenshot().Do(ctx)
		if err != nil {
			return err
		}
		return os.WriteFile(path, b, 0o644)
	})
}
