package web

import (
	"net/http"
	"strings"
	"testing"

	"ombak/internal/web/settings"
)

// Everybody who signs in reads the guide of docs, chapter by chapter.
func TestTheGuideIsRead(t *testing.T) {
	d, err := settings.Guide()
	if err != nil || len(d.Chapters) < 8 || d.Title == "" {
		t.Fatalf("%q with %d chapters, %v", d.Title, len(d.Chapters), err)
	}
	x := newSite(t)
	for _, role := range []string{"rep", "marketer", "lead", "admin"} {
		res, body := x.visitor().signIn(role).do("GET", "/guide", nil)
		if res.StatusCode != http.StatusOK {
			t.Fatalf("the %s is answered %d", role, res.StatusCode)
		}
		for _, c := range d.Chapters {
			if !strings.Contains(body, `href="#`+c.ID+`"`) || !strings.Contains(body, `<h2 id="`+c.ID+`"`) {
				t.Errorf("the %s finds no way to %q", role, c.Title)
			}
		}
	}
	if res, _ := x.visitor().do("GET", "/guide", nil); res.StatusCode != http.StatusSeeOther {
		t.Errorf("a stranger is answered %d", res.StatusCode)
	}
}
