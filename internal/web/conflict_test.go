package web

import (
	"fmt"
	"html"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"ombak/internal/core/message"
	"ombak/internal/core/page"
	"ombak/internal/store"
	"ombak/internal/web/formtest"
)

// twoTabs has the same form open twice: what the first keeps is not undone by
// the second, who is told, sees both sides, and can take either.
func twoTabs(
	t *testing.T, v *visitor, address string, first, second func(url.Values), line, theirs, mine string,
	now func() string,
) {
	t.Helper()
	_, body := v.do("GET", address, nil)
	a, b := formtest.Sent(t, body), formtest.Sent(t, body)
	first(a)
	if res, _ := v.do("POST", address, a); res.StatusCode != http.StatusSeeOther {
		t.Fatalf("the first tab: %d", res.StatusCode)
	}
	second(b)
	b.Set("quiet", "1") // also where it is kept by itself while somebody types
	res, raw := v.do("POST", address, b)
	body = html.UnescapeString(raw)
	if res.StatusCode != http.StatusConflict || now() != theirs {
		t.Fatalf("the second tab: %d, and it says %q now", res.StatusCode, now())
	}
	for _, want := range []string{line, theirs, mine, "Take what I typed", "Leave it as it stands"} {
		if !strings.Contains(body, want) {
			t.Errorf("both sides are shown without %q", want)
		}
	}
	if res, _ = v.do("POST", address, formtest.Sent(t, raw)); res.StatusCode != http.StatusSeeOther || now() != mine {
		t.Errorf("chosen: %d, and it says %q", res.StatusCode, now())
	}
}

func TestTwoTabsOnAMessage(t *testing.T) {
	x := newSite(t)
	v := x.visitor().signIn("marketer")
	res, _ := v.do("POST", "/content/messages/new", url.Values{"name": {"Guide"}, "starter": {"letter"}})
	at := res.Header.Get("Location")
	subject := func() string {
		d, err := x.s.MessageDraft(t.Context(), 1)
		x.must(err)
		return d.Doc.V.Subject[message.Else]
	}
	twoTabs(t, v, at, func(f url.Values) { f.Set("subject", "From the first tab") },
		func(f url.Values) {
			f.Set("subject", "From the second")
		}, "Subject", "From the first tab", "From the second", subject)
	// A tab that changes nothing, or changes to what is there, is in nobody's way.
	_, body := v.do("GET", at, nil)
	old := formtest.Sent(t, body)
	old.Set("base", "0123456789abcdef")
	if res, _ := v.do("POST", at, old); res.StatusCode != http.StatusSeeOther {
		t.Errorf("an old tab in which nothing was typed: %d", res.StatusCode)
	}
}

func TestTwoTabsOnAPage(t *testing.T) {
	x := newSite(t)
	v := x.visitor().signIn("marketer")
	x.must(x.s.InTx(t.Context(), func(tx store.Tx) error {
		_, err := tx.SavePage(t.Context(),
			store.Page{Slug: "alarms", Doc: store.JSON[page.Document]{V: page.New("Alarms", "<p>x</p>", "Send")}}, nil,
			now)
		return err
	}))
	title := func() string {
		d, err := x.s.PageDraft(t.Context(), 1)
		x.must(err)
		return d.Doc.V.Title
	}
	twoTabs(t, v, "/content/pages/1", func(f url.Values) { f.Set("title", "The first title") },
		func(f url.Values) {
			f.Set("title", "The second title")
		}, "Title", "The first title", "The second title", title)
}

func TestTwoTabsOnAOneOffEmail(t *testing.T) {
	x := newSite(t)
	v := x.visitor().signIn("marketer")
	res, _ := v.do("POST", "/content/emails/new", url.Values{"name": {"News"}})
	at := res.Header.Get("Location")
	name := func() (s string) {
		x.must(x.s.DB().QueryRow("select name from mailing").Scan(&s))
		return s
	}
	twoTabs(t, v, at, func(f url.Values) { f.Set("utm_source", "first"); f.Set("name", "From the first tab") },
		func(f url.Values) { f.Set("name", "From the second") }, "Name", "From the first tab", "From the second", name)
	// What is refused is not what is there: the form still says from which state it was drawn.
	_, body := v.do("GET", at, nil)
	f := formtest.Sent(t, body)
	f.Set("rest", "many")
	res, body = v.do("POST", at, f)
	again := formtest.Sent(t, body)
	if again.Set("rest", "7"); res.StatusCode != http.StatusUnprocessableEntity || again.Get("base") != f.Get("base") {
		t.Errorf("refused: %d, from %q", res.StatusCode, again.Get("base"))
	}
	if res, _ := v.do("POST", at, again); res.StatusCode != http.StatusSeeOther {
		t.Errorf("mended: %d", res.StatusCode)
	}
}

func TestTwoTabsOnASequence(t *testing.T) {
	d := newSite(t).drafting()
	d.post("/insert", url.Values{"from": {"0"}, "kind": {"pause"}})
	n := d.draft().N
	id := d.draft().Plan.V.Start
	step := fmt.Sprintf("/sequences/%d/steps/%d", d.id, id)
	form := func(title string) url.Values {
		return url.Values{"n": {fmt.Sprint(n)}, "view": {"draft"}, "title": {title}, "for": {"4"}, "for-unit": {"days"}}
	}
	if res, _ := d.do("POST", step, form("First")); res.StatusCode != http.StatusSeeOther {
		t.Fatalf("the first tab: %d", res.StatusCode)
	}
	res, body := d.do("POST", step, form("Second"))
	if res.StatusCode != http.StatusConflict || !strings.Contains(body, "First") || !strings.Contains(body, "Second") {
		t.Fatalf("the second tab: %d", res.StatusCode)
	}
	if res, _ := d.do("POST", step, formtest.Sent(t, body)); res.StatusCode != http.StatusSeeOther ||
		d.draft().Plan.V.Step(id).About().Title != "Second" {
		t.Errorf("chosen: %d, %q", res.StatusCode, d.draft().Plan.V.Step(id).About().Title)
	}
	// What was typed into a step that is gone is said, so that it is not lost.
	stale := form("Third")
	d.post(fmt.Sprintf("/steps/%d/remove", id), url.Values{})
	res, body = d.do("POST", step, stale)
	if body = html.UnescapeString(body); res.StatusCode != http.StatusConflict ||
		!strings.Contains(body, "You had typed “Third”") {
		t.Errorf("a step that is gone: %d", res.StatusCode)
	}
}
