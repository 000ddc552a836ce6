// Command shots takes the pictures of docs/screenshots from a running demo:
// shots http://127.0.0.1:8080 docs/screenshots [NAME …]
package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"

	"ombak/internal/browser"
)

// shot is one picture: who looks, at what, in which scheme.
type shot struct{ name, who, path, scheme, before string }

var shots = []shot{
	{"sign-in", "", "/sign-in", "light", ""},
	{"today", "Ines Radu", "/today", "light", ""},
	{"people", "Ines Radu", "/people", "light", ""},
	{"person", "Ines Radu", "/people?order=score", "light", `document.querySelector('#rows a').click()`},
	{"content", "Ines Radu", "/content", "light", ""},
	{"message", "Ines Radu", "/content/messages/2", "light", ""},
	{"page", "Ines Radu", "/content/pages/1", "light", ""},
	{"sequences", "Ines Radu", "/sequences", "light", ""},
	{"sequence-running", "Ines Radu", "/sequences/2?step=2", "light", ""},
	{"sequence-draft", "Ines Radu", "/sequences/1?view=draft&plus=3.happened", "light", ""},
	{"sequence-dark", "Ines Radu", "/sequences/1", "dark", ""},
	{"scoring", "Ines Radu", "/scoring", "light", ""},
	{"desk", "Tomas Vale", "/desk", "light", ""},
	{"pipeline", "Uma Okoye", "/pipeline", "light", ""},
	{"finder", "Ines Radu", "/people", "light", `document.querySelector('[data-find]').click(); const i = document.querySelector('#finder input'); i.value = 'ha'; i.dispatchEvent(new Event('input'))`},
	{"public-page", "", "/p/oxygen-alarms", "light", ""},
	{"mailbox", "", "mailbox", "light", `document.querySelector('nav a').click()`},
}

func main() {
	if len(os.Args) < 3 {
		fmt.Fprintln(os.Stderr, "shots ADDRESS FOLDER [NAME …]; the mailbox's address in OMBAK_SHOTS_MAILBOX")
		os.Exit(2)
	}
	if err := run(os.Args[1], os.Args[2], os.Args[3:]); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

func run(base, dir string, only []string) error {
	ctx, end, err := browser.Start(context.Background(), 5*time.Minute)
	if err != nil {
		return err
	}
	defer end()
	who := ""
	for _, s := range shots {
		if len(only) > 0 && !slices.Contains(only, s.name) {
			continue
		}
		if s.who != "" && s.who != who {
			who = s.who
			if err := chromedp.Run(ctx, chromedp.Navigate(base+"/sign-in"), chromedp.Click(fmt.Sprintf(`//button[contains(., %q)]`, s.who), chromedp.BySearch), chromedp.WaitVisible(".places")); err != nil {
				return fmt.Errorf("signing in as %s: %w", s.who, err)
			}
		}
		address := base + s.path
		if s.path == "mailbox" {
			if address = os.Getenv("OMBAK_SHOTS_MAILBOX"); address == "" {
				continue
			}
		}
		var png []byte
		actions := []chromedp.Action{
			emulation.SetEmulatedMedia().WithFeatures([]*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: s.scheme}}),
			chromedp.Navigate(address), chromedp.Sleep(400 * time.Millisecond),
		}
		if s.before != "" {
			actions = append(actions, chromedp.Evaluate(s.before, nil), chromedp.Sleep(900*time.Millisecond))
		}
		if err := chromedp.Run(ctx, append(actions, chromedp.CaptureScreenshot(&png))...); err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		if err := os.WriteFile(filepath.Join(dir, s.name+".png"), png, 0o644); err != nil {
			return err
		}
	}
	return nil
}
