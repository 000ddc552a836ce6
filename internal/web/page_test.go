package web

import (
	"fmt"
	"net/http"
	"net/url"
	"os"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/page"
	"ombak/internal/core/person"
	"ombak/internal/store"
	"ombak/internal/web/formtest"
)

func (x *site) exec(query string) {
	x.t.Helper()
	_, err := x.s.DB().ExecContext(x.t.Context(), query)
	x.must(err)
}

// TestAPageByForm writes a page as its writer does, publishes it, and takes it away.
func TestAPageByForm(t *testing.T) {
	x := newSite(t)
	v := x.visitor().signIn("marketer")
	if res, _ := v.do("POST", "/content/pages/new",
		url.Values{"title": {" "}}); res.StatusCode != http.StatusSeeOther ||
		!strings.Contains(res.Header.Get("Location"), "new=1") {
		t.Errorf("without a title: %s", res.Status)
	}
	res, _ := v.do("POST", "/content/pages/new", url.Values{"title": {`Alarms <b>"at night"`}})
	at := res.Header.Get("Location")
	var form url.Values
	press := func(do string, change ...string) string {
		t.Helper()
		_, body := v.do("GET", at, nil)
		form = formtest.Sent(t, body)
		form.Set("do", do)
		for i := 0; i+1 < len(change); i += 2 {
			form[change[i]] = strings.Split(change[i+1], "|")
		}
		res, body := v.do("POST", strings.SplitN(at, "?", 2)[0], form)
		if loc := res.Header.Get("Location"); loc != "" {
			at = loc
			_, body = v.do("GET", at, nil)
		}
		return body
	}
	body := press("open 1")
	if !strings.Contains(body, "the text is empty") || !strings.Contains(body, `Alarms &lt;b&gt;&#34;at night&#34;`) ||
		strings.Contains(body, "<b>\"at") {
		t.Error("the page as it begins does not say what is missing, or is not escaped")
	}
	press("", "text", `<p onclick="x()">Read.<script>1</script></p>`)
	press("add list 1")
	press("", "items", "One\nTwo")
	press("move 2 -1")
	press("copy 2")
	press("remove 3")
	press("add button 0", "title", "Alarms at night")
	press("", "label", "More", "link", "/p/other")
	press("ask seniority")
	press("raise 7")
	press("agree", "at_once", "2", "later", "1")
	press("hide", "c_words", "Yes, write to me.", "c_must", "0")
	press("", "h_field", "city", "h_value", "Oslo", "h_param", "ci ty", "act_do", "tag|task", "act_what",
		"alarms|Call them", "act_to", "0|0", "q_must", "0|1|2|4")
	d, err := x.s.PageDraft(t.Context(), 1)
	x.must(err)
	doc := d.Doc.V
	var blocks []string
	for _, b := range doc.Blocks {
		blocks = append(blocks, fmt.Sprint(b.ID, b.Kind))
	}
	if got := strings.Join(blocks, " "); got != "2list 1text 4button" ||
		strings.Contains(doc.Blocks[1].Content.Text, "script") ||
		strings.Contains(doc.Blocks[1].Content.Text, "onclick") {
		t.Errorf("blocks %s, the text %q", got, doc.Blocks[1].Content.Text)
	}
	var asks []string
	for _, q := range doc.Form.Questions {
		asks = append(asks, fmt.Sprint(q.Field, q.Must, q.Further))
	}
	if got := strings.Join(asks,
		", "); got != "first nametrue false, last nametrue false, companytrue false, emailtrue false, titletrue "+
		"true, countryfalse true, seniorityfalse true, phonefalse true" {
		t.Errorf("it asks %s", got)
	}
	if doc.Form.AtOnce != 2 || !doc.Form.Later || len(doc.Form.Consents) != 1 || !doc.Form.Consents[0].Must ||
		len(doc.Form.Hidden) != 1 ||
		doc.Form.Hidden[0] != (page.Hidden{Field: person.City, Value: "Oslo", Param: "city"}) ||
		len(doc.Form.Acts) != 2 || doc.Form.Acts[1].Act != (act.Task{Words: "Call them"}) {
		t.Errorf("the form: %+v", doc.Form)
	}
	// What is kept while somebody types is kept, and draws nothing.
	_, body = v.do("GET", at, nil)
	form = formtest.Sent(t, body)
	form.Del("do")
	form.Set("quiet", "1")
	form.Set("form_title", "Typed on the way")
	if res, body := v.do("POST", "/content/pages/1", form); res.StatusCode != http.StatusNoContent || body != "" {
		t.Errorf("kept quietly: %s, %d bytes", res.Status, len(body))
	}
	if d, err := x.s.PageDraft(t.Context(), 1); err != nil || d.Doc.V.Form.Title != "Typed on the way" {
		t.Errorf("what was typed is not kept: %v", err)
	}
	form.Set("form_title", "")
	v.do("POST", "/content/pages/1", form)
	body = press("undo")
	if d, err := x.s.PageDraft(t.Context(), 1); err != nil || len(d.Doc.V.Form.Acts) != 0 {
		t.Errorf("not undone: %v", err)
	}
	press("redo")
	for _, do := range []string{"unhide 0", "disagree 0", "unask 7", "unask 99", "order 4,1,2"} {
		press(do)
	}
	if body = press("publish"); !strings.Contains(body, "Published.") {
		t.Errorf("not published: %.2000s", body)
	}
	for _, do := range []string{"order x", "explode"} {
		form.Set("do", do)
		if res, _ := v.do("POST", "/content/pages/1", form); res.StatusCode != http.StatusBadRequest {
			t.Errorf("%q: %s", do, res.Status)
		}
	}
	// The draft as a visitor sees it, the first time and later.
	_, first := v.do("GET", "/content/pages/1/shown", nil)
	_, later := v.do("GET", "/content/pages/1/shown?after=1", nil)
	_, last := v.do("GET", "/content/pages/1/shown?after=2", nil)
	if !strings.Contains(first, `name="f-first-name"`) || strings.Contains(first, `name="f-title"`) ||
		strings.Contains(later, `name="f-first-name"`) || !strings.Contains(later, `name="f-title"`) ||
		strings.Contains(later, `name="f-seniority"`) || !strings.Contains(last, `name="f-seniority"`) ||
		!strings.Contains(first, ">after 3</a>") {
		t.Error("the draft does not show the ladder from the second visit on")
	}
	_, list := v.do("GET", "/content/pages", nil)
	if !strings.Contains(list, "Alarms at night") {
		t.Error("the list lacks it")
	}
	if _, body := x.visitor().do("GET", "/p/alarms-b-at-night", nil); !strings.Contains(body,
		"<h1>Alarms at night</h1>") {
		t.Errorf("visitors do not see it: %.300s", body)
	}
	v.do("POST", "/content/pages/1/remove", nil)
	if res, _ := x.visitor().do("GET", "/p/alarms-b-at-night", nil); res.StatusCode != http.StatusNotFound {
		t.Errorf("visitors still see it: %s", res.Status)
	}
	if _, list := v.do("GET", "/content/pages", nil); !strings.Contains(list, "put it back") {
		t.Error("it cannot be put back")
	}
	v.do("POST", "/content/pages/1/back", nil)
	if res, _ := x.visitor().do("GET", "/p/alarms-b-at-night", nil); res.StatusCode != http.StatusOK {
		t.Errorf("it did not come back: %s", res.Status)
	}
}

// TestTheLadderOverTheWire visits a page three times in one browser, once more with another's address, and from
// another site.
func TestTheLadderOverTheWire(t *testing.T) {
	x := newSite(t)
	doc := page.New("Alarms", "<p>Read.</p>", "Send").WithLadder(person.Title, person.Country)
	doc.Form.Hidden = []page.Hidden{{Field: person.City, Param: "city"}}
	id := x.newPage("alarms", true, doc)
	v := x.visitor()
	asked := func(body string) string {
		var out []string
		for _, f := range []string{"first-name", "last-name", "company", "email", "title", "country"} {
			if strings.Contains(body, `name="f-`+f+`"`) {
				out = append(out, f)
			}
		}
		return strings.Join(out, " ")
	}
	fill := func(answers ...string) (*http.Response, string, string) {
		t.Helper()
		_, body := v.do("GET",
			"/p/alarms?utm_source=trade+letter&city=Oslo&utm_campaign="+strings.Repeat("x", 700)+
				"&f-first-name=Mallory", nil)
		if strings.Contains(body, "Mallory") {
			t.Error("an address fills the form in")
		}
		form := formtest.Sent(t, body)
		v.do("POST", "/p/alarms/started", url.Values{"view": {form.Get("view")}})
		for i := 0; i+1 < len(answers); i += 2 {
			form.Set(answers[i], answers[i+1])
		}
		res, after := v.do("POST", "/p/alarms", form)
		return res, asked(body), after
	}
	res, was, _ := fill("f-first-name", "Ana", "f-last-name", "Strand", "f-company", "Fjord", "f-email",
		"ana@fjord.example", "f-title", "Engineer")
	if was != "first-name last-name company email title" || res.StatusCode != http.StatusOK {
		t.Fatalf("the first time it asks for %s: %s", was, res.Status)
	}
	ana, err := x.s.PersonByEmail(t.Context(), "ana@fjord.example")
	x.must(err)
	if ana.Title != "Engineer" || ana.City != "Oslo" || ana.Source != "trade letter" || ana.Campaign != "" {
		t.Errorf("kept: %+v", ana)
	}
	if res, was, _ = fill("f-email", "ana@fjord.example", "f-country", "Norway"); was != "email country" ||
		res.StatusCode != http.StatusOK {
		t.Errorf("the second time it asks for %s: %s", was, res.Status)
	}
	if _, was, _ = fill("f-email", "ana@fjord.example"); was != "email" {
		t.Errorf("the third time it asks for %s", was)
	}
	// Another person in the same browser is asked all, and what was typed stays.
	res, _, body := fill("f-email", "ben@kelp.example")
	if res.StatusCode != http.StatusUnprocessableEntity || asked(body) != "first-name last-name company email title" ||
		!strings.Contains(body, `value="ben@kelp.example"`) || !strings.Contains(body, "do not know this address") {
		t.Errorf("another’s address: %s, asks for %s", res.Status, asked(body))
	}
	p, err := x.s.Page(t.Context(), id)
	x.must(err)
	if p.Visits != 4 || p.Started != 4 || p.Finished != 3 {
		t.Errorf("%d visits, %d began, %d filled it in; want 4, 4, 3", p.Visits, p.Started, p.Finished)
	}
	// The same view is not finished twice, and one of another page or made up counts nowhere.
	_, body = v.do("GET", "/p/alarms", nil)
	form := formtest.Sent(t, body)
	form.Set("f-email", "ana@fjord.example")
	v.do("POST", "/p/alarms", form)
	v.do("POST", "/p/alarms", form)
	form.Set("view", "1.AAAAAAAAAAAAAAAAAAAA")
	v.do("POST", "/p/alarms", form)
	v.do("POST", "/p/alarms/started", url.Values{"view": {"1.x"}})
	if p, err = x.s.Page(t.Context(), id); err != nil || p.Visits != 5 || p.Finished != 4 {
		t.Errorf("%d visits, %d filled in; want 5 and 4", p.Visits, p.Finished)
	}

	// On a site of our own: framed there and nowhere else.
	frame := func() string {
		res, _ := v.do("GET", "/p/alarms/form?on=https://karang.example", nil)
		return res.Header.Get("Content-Security-Policy") + res.Header.Get("X-Frame-Options")
	}
	if got := frame(); strings.Contains(got, "karang") {
		t.Errorf("framed by anybody: %s", got)
	}
	m := x.visitor().signIn("marketer")
	m.do("POST", "/content/sites", url.Values{"origin": {"https://karang.example"}})
	if got := frame(); !strings.Contains(got, "frame-ancestors 'self' https://karang.example") ||
		strings.Contains(got, "SAMEORIGIN") {
		t.Errorf("not framed by our own site: %s", got)
	}
	if res, _ := v.do("GET", "/p/alarms", nil); res.Header.Get("X-Frame-Options") != "SAMEORIGIN" {
		t.Error("the page itself can be framed")
	}
	other := x.visitor()
	_, body = other.do("GET", "/p/alarms/form?on=https://karang.example&utm_source=site", nil)
	form = formtest.Sent(t, body)
	for k, a := range map[string]string{"f-first-name": "Cy", "f-last-name": "Lunde", "f-company": "Reef",
		"f-email": "cy@reef.example"} {
		form.Set(k, a)
	}
	if res, body := other.do("POST", "/p/alarms/form", form); res.StatusCode != http.StatusOK ||
		!strings.Contains(body, "data-embedded") || !strings.Contains(body, "Thank you") {
		t.Errorf("filled in on another site: %s", res.Status)
	}
	sources, err := x.s.PageSources(t.Context(), id, 10)
	x.must(err)
	found := false
	for _, y := range sources {
		found = found || y.Site == "https://karang.example" && y.Source == "site" && y.Finished == 1
	}
	if !found {
		t.Errorf("the site is not among %+v", sources)
	}
	_, script := v.do("GET", "/f.js", nil)
	if src, err := os.ReadFile("assets/src/embed.js"); err != nil || string(src) != script {
		t.Errorf("the snippet is not what it is made from: %v", err)
	}
	if _, body := m.do("GET", fmt.Sprintf("/content/pages/%d", id), nil); !strings.Contains(body,
		"data-ombak-form=&#34;alarms&#34;") || !strings.Contains(body, "https://karang.example") ||
		!strings.Contains(body, "trade letter") {
		t.Error("the page’s own page lacks its snippet or its figures")
	}
}

// TestWhereAFormLeads sends visitors to pages of our own alone.
func TestWhereAFormLeads(t *testing.T) {
	x := newSite(t)
	n := 0
	for to, want := range map[string]string{"/p/thanks": "/p/thanks",
		"https://karang.example/thanks": "https://karang.example/thanks", "https://elsewhere.example/": "",
		"//elsewhere.example": "", "javascript:alert(1)": "", "https://a@karang.example/": ""} {
		doc := page.New("A", "<p>a</p>", "Send")
		doc.Form.To = to
		n++
		slug := fmt.Sprintf("to-%d", n)
		x.newPage(slug, true, doc)
		x.exec("insert into site (origin, added_at) values ('https://karang.example', now()) on conflict do nothing")
		v := x.visitor()
		form := url.Values{"f-first-name": {"Ana"}, "f-last-name": {"S"}, "f-company": {"F"},
			"f-email": {"ana@fjord.example"}}
		res, _ := v.do("POST", "/p/"+slug, form)
		res2, _ := v.do("GET", "/p/"+slug, nil)
		if csp := res2.Header.Get("Content-Security-Policy"); strings.Contains(csp,
			"form-action 'self' https://karang.example;") != strings.HasPrefix(want, "https:") ||
			strings.Contains(csp, "elsewhere") {
			t.Errorf("%q: a form may lead to %s", to, csp)
		}
		if got := res.Header.Get("Location"); got != want {
			t.Errorf("%q leads to %q, want %q", to, got, want)
		}
	}
	if res, _ := x.visitor().do("POST", "/p/to-1",
		url.Values{"f-first-name": {strings.Repeat("x",
			300<<10)}}); res.StatusCode != http.StatusRequestEntityTooLarge {
		t.Errorf("an enormous form: %s", res.Status)
	}
}

// TestTasksAndAlerts shows them where they are to be done, and takes them off.
func TestTasksAndAlerts(t *testing.T) {
	x := newSite(t)
	ana := x.meet(store.NewPerson{First: "Ana", Last: "Strand", Email: "ana@fjord.example", Company: "Fjord Farms"})
	ben := x.meet(store.NewPerson{First: "Ben", Email: "ben@kelp.example"})
	x.must(x.s.InTx(t.Context(), func(tx store.Tx) error {
		for _, p := range []int64{ana, ben, ben} {
			if err := tx.AddTasks(t.Context(),
				[]store.NewTask{{Person: p, Alert: true, Words: "Took the <guide>", How: "by form “Guide”",
					At: now}}, time.UTC); err != nil {
				return err
			}
		}
		return tx.AddTasks(t.Context(),
			[]store.NewTask{{Person: ana, Words: "Ask which sensor", How: "by form “Clinic”", At: now}}, time.UTC)
	}))
	v := x.visitor().signIn("rep")
	_, desk := v.do("GET", "/desk", nil)
	if strings.Count(desk, "Took the &lt;guide&gt;") != 1 || !strings.Contains(desk, "Ask which sensor") ||
		!strings.Contains(desk, `name="ids" value="1,2"`) || !strings.Contains(desk, "Tasks <b>1</b>") {
		t.Errorf("the desk: %s", desk)
	}
	res, _ := v.do("POST", "/desk/tasks/3", url.Values{"notes": {"An optical one"}})
	if _, desk = v.do("GET", res.Header.Get("Location"), nil); strings.Contains(desk, "<h2>To do</h2>") ||
		!strings.Contains(desk, "Done: Ask which sensor.") || !strings.Contains(desk, "Put it back") {
		t.Error("the task is still there, or cannot be put back")
	}
	v.do("POST", "/desk/tasks/3", nil)
	if _, desk = v.do("GET", "/desk", nil); !strings.Contains(desk, "no longer on the desk") {
		t.Error("a second rep is not told that it is done")
	}
	if _, who := v.do("GET", fmt.Sprintf("/people/%d", ana), nil); !strings.Contains(who, "An optical one") ||
		!strings.Contains(who, "Ask which sensor") {
		t.Error("the person’s line of time lacks the task")
	}
	v.do("POST", "/desk/tasks/back", url.Values{"ids": {"task-3"}, "back": {"https://elsewhere.example"}})
	if _, desk = v.do("GET", "/desk", nil); !strings.Contains(desk, "To do") {
		t.Error("the task is not put back")
	}
	m := x.visitor().signIn("marketer")
	if _, today := m.do("GET", "/today", nil); !strings.Contains(today, "Took the &lt;guide&gt;") {
		t.Error("today tells nothing")
	}
	res, _ = m.do("POST", "/desk/alerts", url.Values{"ids": {"1,2,3,x,-4"}, "back": {"/today"}})
	if to := res.Header.Get("Location"); to != "/today?undo=1,2" {
		t.Errorf("afterwards to %q", to)
	}
	if _, today := m.do("GET", "/today", nil); strings.Contains(today, "Took the") {
		t.Error("what was seen is still told")
	}
}
