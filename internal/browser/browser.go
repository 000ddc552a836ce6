// Package browser drives a headless Chromium for tests and pictures, in the
// words of somebody who sits before it: go there, press that, type this, see.
package browser

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// ErrMissing is answered where no Chromium is installed.
var ErrMissing = errors.New("Chromium is not installed: install Debian's package chromium-headless-shell, or chromium")

// patience is how long something may take to be seen.
const patience = 15 * time.Second

// Tab is a tab of a browser, 1280 by 800.
type Tab struct {
	ctx context.Context
	end func()
}

// find finds a Chromium: the one that is made to be driven, which has no window to keep and takes half the work of
// the other, or else that.
func find() (string, error) {
	for _, name := range []string{"chromium-headless-shell", "chromium"} {
		if path, err := exec.LookPath(name); err == nil {
			return path, nil
		}
	}
	return "", ErrMissing
}

// Start starts a Chromium with a fresh profile.
func Start(ctx context.Context) (*Tab, error) {
	path, err := find()
	if err != nil {
		return nil, err
	}
	profile, err := os.MkdirTemp("", "ombak-chromium-")
	if err != nil {
		return nil, err
	}
	opts := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(path), chromedp.UserDataDir(profile), chromedp.WindowSize(1280, 800),
		chromedp.NoSandbox, chromedp.DisableGPU, chromedp.NoFirstRun, chromedp.Flag("disable-quic", true),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true),
		chromedp.Flag("hide-scrollbars", true))
	ctx, cancelAll := chromedp.NewExecAllocator(ctx, opts...)
	ctx, cancelTab := chromedp.NewContext(ctx)
	t := &Tab{ctx: ctx, end: func() {
		cancelTab()
		cancelAll()
		os.RemoveAll(profile) // only clears up: a profile left in the temporary folder does no harm
	}}
	if err := chromedp.Do(t.ctx, chromedp.EmulateViewport(1280, 800)); err != nil {
		t.end()
		return nil, err
	}
	return t, nil
}

// Close ends the browser.
func (t *Tab) Close() { t.end() }

func (t *Tab) do(what string, steps ...chromedp.Action[chromedp.Void]) error {
	ctx, cancel := context.WithTimeout(t.ctx, patience)
	defer cancel()
	for {
		err := chromedp.Do(ctx, steps...)
		switch {
		case err == nil:
			return nil
		case ctx.Err() == nil && strings.Contains(err.Error(), "node with given id"):
			time.Sleep(60 * time.Millisecond) // the page drew itself anew between looking and pressing: look again
		default:
			return fmt.Errorf("%s: %w", what, err)
		}
	}
}

// Go goes to an address.
func (t *Tab) Go(address string) error {
	return t.do("going to "+address, chromedp.Navigate(address), chromedp.WaitReady("body"))
}

// Text is what the page shows, without the spaces that only lay it out.
func (t *Tab) Text() (string, error) {
	s, err := chromedp.Run(t.ctx, chromedp.Evaluate[string](`document.body.innerText`))
	return strings.Join(strings.Fields(s), " "), err
}

// Eval runs a script and answers what it comes to, as text.
func (t *Tab) Eval(script string) (string, error) {
	return chromedp.Run(t.ctx, chromedp.Evaluate[string](`String(`+script+`)`))
}

// Run runs a whole script in the page, whatever the page itself lets run.
func (t *Tab) Run(script string) error {
	_, err := chromedp.Run(t.ctx, chromedp.Evaluate[string](script+"\n; 'done'"))
	return err
}

// Until waits until a condition in JavaScript holds, in a page that is there with all its scripts: what is changed
// before they listen is heard by nobody.
func (t *Tab) Until(what, condition string) error {
	condition = `document.readyState === 'complete' && (` + condition + `)`
	deadline := time.Now().Add(patience)
	for {
		// A page that is just being left has no answer; the next one will.
		got, err := t.Eval(`Boolean(` + condition + `)`)
		if err == nil && got == "true" {
			return nil
		}
		if time.Now().After(deadline) {
			text, _ := t.Text()
			return fmt.Errorf("waited %v for %s (last error: %v); the page shows: %.4000s", patience, what, err, text)
		}
		time.Sleep(60 * time.Millisecond)
	}
}

// See waits until the page shows a text.
func (t *Tab) See(text string) error {
	return t.Until(strconv.Quote(text),
		`document.body.innerText.replace(/\s+/g, ' ').includes(`+strconv.Quote(text)+`)`)
}

// Find waits for an element.
func (t *Tab) Find(selector string) error {
	return t.Until(selector, `document.querySelector(`+strconv.Quote(selector)+`)`)
}

// Press presses the first thing to press that says text: a button, a link, or
// what has it as its label.
func (t *Tab) Press(text string) error {
	mark := `(() => {
		document.querySelectorAll('[data-pressing]').forEach(e => e.removeAttribute('data-pressing'));
		const want = ` + strconv.Quote(text) +
		`, says = e => (e.innerText || e.textContent || '').replace(/\s+/g, ' ').trim();
		const label = e => e.getAttribute('aria-label') || '';
		const all = [...document.querySelectorAll('button, a, summary, label')]
			.filter(e => e.getClientRects().length && !e.disabled);
		const e = all.find(e => says(e) === want) || all.find(e => label(e) === want) ||
			all.find(e => says(e).startsWith(want)) || all.find(e => label(e).includes(want)) ||
			all.find(e => says(e).includes(want));
		e?.setAttribute('data-pressing', '');
		return e;
	})()`
	for deadline := time.Now().Add(patience); ; {
		if err := t.Until("something to press that says "+strconv.Quote(text), mark); err != nil {
			return err
		}
		err := t.pressMarked()
		if !errors.Is(err, errGone) || time.Now().After(deadline) {
			return err
		}
	}
}

// errGone is answered where the page drew itself anew between finding and pressing.
var errGone = errors.New("what was to be pressed is gone")

// pressMarked presses what was marked a moment ago. Waiting for it is no use
// where the page has drawn itself anew: the mark went with what it stood at.
func (t *Tab) pressMarked() error {
	ctx, cancel := context.WithTimeout(t.ctx, 2*time.Second)
	defer cancel()
	nodes, err := chromedp.Run(ctx, chromedp.Nodes(chromedp.CSS("[data-pressing]"), chromedp.NodeVisible))
	if err != nil && ctx.Err() != nil && t.ctx.Err() == nil {
		return errGone
	}
	if err == nil {
		ctx, cancel := context.WithTimeout(t.ctx, patience)
		defer cancel()
		err = chromedp.Do(ctx, chromedp.MouseClickNode(nodes[0]))
	}
	if err != nil &&
		(strings.Contains(err.Error(), "node with given id") || strings.Contains(err.Error(), "layout object")) {
		return errGone
	}
	if err != nil {
		return fmt.Errorf("pressing: %w", err)
	}
	return nil
}

// Click presses an element with the mouse.
func (t *Tab) Click(selector string) error {
	if err := t.Find(selector); err != nil {
		return err
	}
	return t.do("pressing "+selector, chromedp.ScrollIntoView(chromedp.CSS(selector)),
		chromedp.Click(chromedp.CSS(selector)))
}

// Type empties a field and types into it.
func (t *Tab) Type(selector, text string) error {
	if err := t.Find(selector); err != nil {
		return err
	}
	s := chromedp.CSS(selector)
	for try := 0; ; try++ {
		err := t.do("typing into "+selector, chromedp.Focus(s),
			chromedp.Evaluate[chromedp.Void](`document.activeElement.select?.()`), chromedp.SendKeys(s, text))
		if err != nil {
			return err
		}
		// A page that draws itself anew meanwhile takes letters with it, as it would a person's.
		got, err := t.Eval(`(e => e.value === undefined ? 'not a field' : e.matches('trix-editor') ? 'not a field' : ` +
			`e.value)(document.querySelector(` + strconv.Quote(selector) + `))`)
		if err != nil || got == text || got == "not a field" {
			return err
		}
		if try == 2 {
			return fmt.Errorf("typed %q into %s, which holds %q", text, selector, got)
		}
	}
}

// Key presses a key where the focus is, or several after one another.
func (t *Tab) Key(keys string) error {
	return t.do("the key "+keys, func(ctx context.Context, tab *chromedp.Target) (none chromedp.Void, err error) {
		for _, r := range keys {
			var down *input.DispatchKeyEventParams
			for _, k := range kb.Encode(r) {
				switch k.Type {
				case kb.KeyDown:
					down = k
					continue
				case kb.KeyChar: // one stroke with its letter, so that a page that takes the stroke takes both
					down.Text, down.UnmodifiedText = k.Text, k.UnmodifiedText
					continue
				}
				for _, stroke := range []*input.DispatchKeyEventParams{down, k} {
					if _, err := cdp.Call(ctx, tab, input.DispatchKeyEvent, *stroke); err != nil {
						return none, err
					}
				}
			}
		}
		return none, nil
	})
}

// Choose chooses what an entry of a select says.
func (t *Tab) Choose(selector, entry string) error {
	if err := t.Find(selector); err != nil {
		return err
	}
	return t.Until("the entry "+strconv.Quote(entry)+" of "+selector, `(() => {
		const s = document.querySelector(`+strconv.Quote(selector)+
		`), o = [...s.options].find(o => o.text.trim().includes(`+strconv.Quote(entry)+`));
		if (!o) return false;
		s.value = o.value;
		s.dispatchEvent(new Event('input', { bubbles: true }));
		s.dispatchEvent(new Event('change', { bubbles: true }));
		return true;
	})()`)
}

// Drag drags one element onto another with the mouse.
func (t *Tab) Drag(from, to string) error {
	return t.do("dragging "+from+" to "+to, chromedp.DragAndDrop(chromedp.CSS(from), chromedp.CSS(to)))
}

// Forget makes the browser one that was never anywhere.
func (t *Tab) Forget() error {
	if _, err := chromedp.Call(t.ctx, network.ClearBrowserCookies, cdp.Empty{}); err != nil {
		return fmt.Errorf("forgetting who sits there: %w", err)
	}
	return nil
}

// Picture is the page as a PNG.
func (t *Tab) Picture() ([]byte, error) { return chromedp.Run(t.ctx, chromedp.CaptureScreenshot()) }

// Size sets how large the page is shown.
func (t *Tab) Size(width, height int64) error {
	return t.do("sizing", chromedp.EmulateViewport(width, height))
}

// Upload chooses a file in a field.
func (t *Tab) Upload(selector, path string) error {
	return t.do("choosing a file", chromedp.SetUploadFiles(chromedp.CSS(selector), []string{path}))
}
