package web

import (
	"fmt"
	"html"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"testing"

	"ombak/internal/core/page"
	"ombak/internal/web/formtest"
)

// Every list shows its folders, and of a folder what lies in it or below; a line is put into one by its name, which
// makes it, or dragged there, and taken back; the finder knows it.
func TestFoldersOfLists(t *testing.T) {
	d := newSite(t).drafting()
	d.newPage("guide", true, page.New("Guide", "<p>Read.</p>", "Send"))
	d.exec("insert into audience (name, live, rule, asks, created_at, changed_at, swept_at) " +
		"values ('Norway', false, '{}', '{}', now(), now(), now())")
	d.exec("insert into mailing (name, plan, made_at) values ('Spring news', '{}', now())")
	d.put("/content/shelf/new", map[string]string{"kind": "file", "title": "Data sheet"}, "sheet.pdf",
		[]byte("%PDF-1.4 first"))
	d.exec("insert into event (name, starts_at, ends_at, zone, made_at) " +
		"values ('Clinic', '2026-06-01', '2026-06-02', 'UTC', now())")
	res, _ := d.do("POST", "/content/messages/new", url.Values{"name": {"Invitation"}, "starter": {"letter"}})
	var message int64
	if _, err := fmt.Sscanf(res.Header.Get("Location"), "/content/messages/%d", &message); err != nil {
		t.Fatal(err)
	}
	for _, x := range []struct {
		kind, list, name string
		id               int64
	}{
		{"sequence", "/sequences", "Guide", d.id}, {"message", "/content", "Invitation", message},
		{"page", "/content/pages", "Guide", 1}, {"email", "/content/emails", "Spring news", 1},
		{"event", "/content/events", "Clinic", 1}, {"shelf", "/content/shelf", "Data sheet", 1},
		{"audience", "/people/audiences", "Norway", 1},
	} {
		form := url.Values{"kind": {x.kind}, "id": {fmt.Sprint(x.id)}, "back": {x.list}}
		if _, body := d.do("GET", x.list, nil); !strings.Contains(body, `href="/content/folders/file?back=`) ||
			!strings.Contains(body, `data-thing="`+fmt.Sprint(x.id)+`" draggable="true"`) {
			t.Fatalf("%s has no way into a folder", x.list)
		}
		if _, body := d.do("GET", "/content/folders/file?"+form.Encode(), nil); !strings.Contains(body, "Where “"+x.name) {
			t.Fatalf("%s: nobody is asked where it is to lie", x.kind)
		}
		form.Set("path", "Spring / "+x.kind)
		form.Set("note", "Brings "+x.kind)
		if res, _ := d.do("POST", "/content/folders/file", form); res.Header.Get("Location") != x.list {
			t.Fatalf("%s: %s", x.kind, res.Status)
		}
		_, body := d.do("GET", x.list, nil)
		if !strings.Contains(asRead(body), "lies in Spring / "+x.kind) || !strings.Contains(body, "Brings "+x.kind) {
			t.Errorf("%s does not say where it lies, and what it is for", x.list)
		}
		var spring, other int64
		if err := d.s.DB().QueryRowContext(t.Context(), "select id from folder where name = 'Spring'").Scan(&spring); err != nil {
			t.Fatal(err)
		}
		d.exec("insert into folder (name) values ('Other " + x.kind + "')")
		if err := d.s.DB().QueryRowContext(t.Context(), "select max(id) from folder").Scan(&other); err != nil {
			t.Fatal(err)
		}
		row := fmt.Sprintf(`data-thing="%d"`, x.id)
		if _, body := d.do("GET", fmt.Sprintf("%s?folder=%d", x.list, spring), nil); !strings.Contains(body, row) {
			t.Errorf("%s: it is not in the folder above its own", x.list)
		}
		if _, body := d.do("GET", fmt.Sprintf("%s?folder=%d", x.list, other), nil); strings.Contains(body, row) {
			t.Errorf("%s: it is in another folder too", x.list)
		}
		// Dragged to another, and back.
		form = url.Values{"kind": {x.kind}, "id": {fmt.Sprint(x.id)}, "back": {x.list}, "into": {fmt.Sprint(other)}}
		d.do("POST", "/content/folders/file", form)
		_, body = d.do("GET", x.list, nil)
		if !strings.Contains(asRead(body), "lies in Other "+x.kind) || !strings.Contains(body, "Brings "+x.kind) {
			t.Errorf("%s: it was not dragged there as it was", x.list)
		}
		undo := regexp.MustCompile(`action="(/content/folders/file\?[^"]+)"`).FindStringSubmatch(body)
		if undo == nil {
			t.Fatalf("%s: it cannot be taken back", x.list)
		}
		d.do("POST", html.UnescapeString(undo[1]), url.Values{})
		if _, body := d.do("GET", x.list, nil); !strings.Contains(asRead(body), "lies in Spring / "+x.kind) {
			t.Errorf("%s: it is not taken back", x.list)
		}
	}
	if _, body := d.do("GET", "/find?q=spring+mess", nil); !strings.Contains(body, "Spring / message") {
		t.Error("the finder does not know a folder")
	}
	_, body := d.do("GET", "/content/folders?folder=2", nil)
	if !strings.Contains(body, fmt.Sprintf("/sequences/%d", d.id)) || !strings.Contains(body, "Brings sequence") {
		t.Error("a folder does not show what lies in it")
	}
	for _, wrong := range []url.Values{{"path": {"a/b/c/d/e/f/g"}}, {"path": {strings.Repeat("x", 61)}}} {
		wrong.Set("kind", "message")
		wrong.Set("id", fmt.Sprint(message))
		res, body := d.do("POST", "/content/folders/file", wrong)
		if res.StatusCode != http.StatusUnprocessableEntity || formtest.Sent(t, body).Get("path") != wrong.Get("path") {
			t.Errorf("%v: %s, and what was typed is gone", wrong, res.Status)
		}
	}
	// A folder is renamed, moved and removed; what lay in it lies where it lay.
	d.do("POST", "/content/folders", url.Values{"id": {"2"}, "name": {"Plans"}, "within": {"Other sequence"}})
	if _, body := d.do("GET", "/content/folders?folder=2", nil); !strings.Contains(body, "Other sequence / Plans") {
		t.Error("it is not moved")
	}
	d.do("POST", "/content/folders", url.Values{"id": {"2"}, "name": {"Plans"}, "within": {"Nowhere"}})
	if _, body := d.do("GET", "/content/folders?folder=2", nil); !strings.Contains(body, "There is no folder “Nowhere”") {
		t.Error("it went nowhere")
	}
	d.do("POST", "/content/folders/remove", url.Values{"id": {"2"}})
	if _, body := d.do("GET", "/sequences", nil); !strings.Contains(asRead(body), "Other sequence</a>") {
		t.Error("what lay in it is lost")
	}
}

// The model of scores lies in a folder too, with what it is for, and is found there.
func TestAModelLiesInAFolder(t *testing.T) {
	x := newSite(t)
	x.scored()
	v := x.visitor().signIn("marketer")
	if page := v.follow("/scoring", nil); !strings.Contains(page, "kind=model") || !strings.Contains(page, "id=1") {
		t.Error("it cannot be put into a folder")
	}
	v.follow("/content/folders/file?kind=model&id=1&back=/scoring",
		url.Values{"kind": {"model"}, "id": {"1"}, "path": {"Spring / Lines"}, "note": {"for the buoys"}, "back": {"/scoring"}})
	if page := v.follow("/scoring", nil); !strings.Contains(page, "Spring / Lines") {
		t.Error("the page does not say where it lies")
	}
	page := v.follow("/content/folders?folder=2", nil)
	for _, want := range []string{"Engagement", "for the buoys", "/scoring?model=1"} {
		if !strings.Contains(page, want) {
			t.Errorf("the folder does not show %q", want)
		}
	}
}
