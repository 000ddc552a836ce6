// Package browser drives a headless Chromium for tests and pictures.
package browser

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"time"

	"github.com/chromedp/chromedp"
)

// ErrMissing is answered where no Chromium is installed.
var ErrMissing = errors.New("Chromium is not installed: install Debian's package chromium")

// Start starts a Chromium with a fresh profile and answers a context of its
// first tab, 1280 by 800. The function it answers ends it.
func Start(ctx context.Context, timeout time.Duration) (context.Context, func(), error) {
	path, err := exec.LookPath("chromium")
	if err != nil {
		return nil, nil, ErrMissing
	}
	profile, err := os.MkdirTemp("", "ombak-chromium-")
	if err != nil {
		return nil, nil, err
	}
	opts := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(path), chromedp.UserDataDir(profile), chromedp.WindowSize(1280, 800),
		chromedp.NoSandbox, chromedp.DisableGPU, chromedp.Flag("disable-quic", true), chromedp.Flag("no-first-run", true),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.Flag("hide-scrollbars", true))
	ctx, cancelAll := chromedp.NewExecAllocator(ctx, opts...)
	ctx, cancelTab := chromedp.NewContext(ctx)
	ctx, cancelTime := context.WithTimeout(ctx, timeout)
	end := func() {
		cancelTime()
		cancelTab()
		cancelAll()
		os.RemoveAll(profile) // only clears up: a profile left in the temporary folder does no harm
	}
	if err := chromedp.Run(ctx, chromedp.EmulateViewport(1280, 800)); err != nil {
		end()
		return nil, nil, err
	}
	return ctx, end, nil
}
