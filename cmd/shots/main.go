// Command shots takes the pictures of docs/screenshots from a running demo:
// shots http://127.0.0.1:8080 docs/screenshots [NAME …]. A name with a path
// behind it, NAME=/people/tags, is a picture of that, as the marketer or whoever -as names sees it.
package main

import (
	"context"
	"flag"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ombak/internal/browser"
)

// keen are people in Canada who clicked at least three times in 180 days.
var keen = url.QueryEscape(`{"all":[{"if":{"field":"country","op":"is","value":"CA"}},{"if":{"signal":{"kind":5},` +
	`"op":"at least","n":3,"days":180}}]}`)

// shot is one picture: who looks, at what, in which scheme.
type shot struct {
	name, who, path, scheme, before string

	file string // its name, where it is another
}

var shots = []shot{
	{"today", "Ines Radu", "/today", "light", "", ""},
	{"people", "Ines Radu", "/people?rule=" + keen, "light", "", ""},
	{"person", "Ines Radu", "/sequences/1/people?step=7&which=passed", "light",
		`document.querySelector('.list td a').click()`, ""},
	{"audience", "Ines Radu", "/people/audiences/4", "light", "", ""},
	{"event", "Ines Radu", "/content/events/1", "light", "", ""},
	{"import", "Ines Radu", "/people/imports", "light", `document.querySelector('.list td a').click()`, ""},
	{"message", "Ines Radu", "/content/messages/3?at=2", "light", "", ""},
	{"one-off-email", "Ines Radu", "/content/emails/1", "light", "", ""},
	{"page", "Ines Radu", "/content/pages/1", "light", "", ""},
	{"sequence-running", "Ines Radu", "/sequences/2?step=2", "light", "", ""},
	{"sequence-draft", "Ines Radu", "/sequences/1?view=draft&plus=3.happened", "light", "", ""},
	{"booking", "", "/b/water-talk?zone=Asia/Singapore", "light", `document.querySelector('.slots a').click()`, ""},
	{"scoring", "Ines Radu", "/scoring", "light", "", ""},
	{"desk", "Tomas Vale", "/desk", "light", "", ""},
	{"pipeline", "Uma Okoye", "/pipeline", "light", "", ""},
	{"course", "Uma Okoye", "/pipeline/course", "light", "", ""},
	{"settings", "Wira Sandoval", "/settings", "light", "", ""},
	{"public-page", "", "/p/oxygen-alarms", "light", "", ""},
	{"mailbox", "", "mailbox", "light", `document.querySelector('nav a').click()`, ""},
}

var (
	width  = flag.Int64("width", 1280, "how wide the page is shown")
	height = flag.Int64("height", 800, "how high")
	scheme = flag.String("scheme", "", "light or dark, whatever a picture's own is")
	as     = flag.String("as", "Ines Radu", "who looks at pages that are given as NAME=/path")
)

func main() {
	flag.Parse()
	if flag.NArg() < 2 {
		fmt.Fprintln(os.Stderr,
			"shots [-width N] [-height N] [-scheme light|dark] [-as NAME] ADDRESS FOLDER [NAME …]; the mailbox's "+
				"address in "+
				"OMBAK_SHOTS_MAILBOX")
		os.Exit(2)
	}
	if err := run(flag.Arg(0), flag.Arg(1), flag.Args()[2:]); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

func run(base, dir string, only []string) error {
	t, err := browser.Start(context.Background())
	if err != nil {
		return err
	}
	defer t.Close()
	if err := t.Size(*width, *height); err != nil {
		return err
	}
	who := ""
	list := shots
	for _, n := range only {
		if name, path, ok := strings.Cut(n, "="); ok {
			list = append(list, shot{name: n, who: *as, path: path, scheme: "light"})
			list[len(list)-1].file = name
		}
	}
	for _, s := range list {
		if len(only) > 0 && !slices.Contains(only, s.name) {
			continue
		}
		if err := take(t, base, dir, s, &who); err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
	}
	return nil
}

func take(t *browser.Tab, base, dir string, s shot, who *string) error {
	if *scheme != "" {
		s.scheme = *scheme
	}
	if s.who != "" && s.who != *who {
		if err := t.Go(base + "/sign-in"); err != nil {
			return err
		}
		if err := t.Press(s.who); err != nil {
			return err
		}
		if err := t.Find(".places"); err != nil {
			return err
		}
		*who = s.who
	}
	address := base + s.path
	if s.path == "mailbox" {
		if address = os.Getenv("OMBAK_SHOTS_MAILBOX"); address == "" {
			return nil
		}
	}
	if err := t.Go(base + "/healthz"); err != nil {
		return err
	}
	if _, err := t.Eval(fmt.Sprintf("document.cookie = 'ombak_scheme=%s; path=/'", s.scheme)); err != nil {
		return err
	}
	if err := t.Go(address); err != nil {
		return err
	}
	time.Sleep(500 * time.Millisecond)
	if s.before != "" {
		if _, err := t.Eval("(() => {" + s.before + "})()"); err != nil {
			return err
		}
		time.Sleep(time.Second)
	}
	png, err := t.Picture()
	if err != nil {
		return err
	}
	if s.file == "" {
		s.file = s.name
	}
	return os.WriteFile(filepath.Join(dir, s.file+".png"), png, 0o644)
}
