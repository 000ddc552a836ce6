package web

import (
	"fmt"
	"html"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"testing"

	"ombak/internal/core/message"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/store"
	"ombak/internal/web/formtest"
)

// writer is a marketer at a new message.
type writer struct {
	*visitor
	x  *site
	t  testing.TB
	at string
	id int64
}

func (x *site) writing(starter string) *writer {
	x.t.Helper()
	w := &writer{visitor: x.visitor().signIn("marketer"), x: x, t: x.t}
	res, _ := w.do("POST", "/content/messages/new", url.Values{"name": {"Letter"}, "starter": {starter}})
	w.at = res.Header.Get("Location")
	if _, err := fmt.Sscanf(w.at, "/content/messages/%d", &w.id); err != nil || res.StatusCode != http.StatusSeeOther {
		x.t.Fatalf("a new message: %s to %q", res.Status, w.at)
	}
	return w
}

// form is what a browser would send of the writer, with a section open and a
// group's words shown.
func (w *writer) form(at int, group int64) url.Values {
	w.t.Helper()
	_, body := w.do("GET", fmt.Sprintf("%s?at=%d&for=%d", w.at, at, group), nil)
	v := formtest.Sent(w.t, body)
	for _, k := range []string{"do", "show", "_csrf"} {
		v.Del(k)
	}
	return v
}

// press sends the form with some fields changed and a button pressed.
func (w *writer) press(at int, group int64, do string, kv ...string) (int, string) {
	w.t.Helper()
	v := w.form(at, group)
	for i := 0; i+1 < len(kv); i += 2 {
		v.Set(kv[i], kv[i+1])
	}
	v.Set("do", do)
	res, body := w.do("POST", w.at, v)
	return res.StatusCode, body
}

func (w *writer) draft() *message.Document {
	w.t.Helper()
	d, err := w.x.s.MessageDraft(w.t.Context(), w.id)
	w.x.must(err)
	return &d.Doc.V
}

func (w *writer) keep() (int, string) {
	w.t.Helper()
	return w.press(0, 0, "keep")
}

// TestWritingAMessage puts a message together section by section, takes steps
// back, keeps it, and sees that what is kept stays when the draft goes on.
func TestWritingAMessage(t *testing.T) {
	x := newSite(t)
	w := x.writing("empty")
	if code, body := w.keep(); code != http.StatusUnprocessableEntity ||
		!strings.Contains(body, "The message has no subject") {
		t.Errorf("an empty message was kept: %d", code)
	}
	for i, k := range []string{"heading", "text", "list", "button", "picture", "quote", "divider", "signature"} {
		if code, _ := w.press(i, 0, fmt.Sprintf("add %s %d", k, i)); code != http.StatusSeeOther {
			t.Fatalf("putting in %s: %d", k, code)
		}
	}
	type typed []string
	for at, kv := range map[int]typed{1: {"text", "Oxygen <at> night"},
		2: {"text", `<div onclick="x()">Dear {{ person.first_name | default: "you" }}<script>1</script></div>`},
		3: {"items", "one\r\n\r\ntwo "},
		4: {"label", "Read it", "link", "https://karang.example/"},
		5: {"picture", "https://karang.example/b.png", "alt", "A buoy"},
		6: {"text", "<div>It rang</div>", "by", "Somebody"}} {
		if code, body := w.press(at, 0, "", append(kv, "subject", "Three alarms")...); code != http.StatusSeeOther {
			t.Fatalf("section %d: %d %s", at, code, body)
		}
	}
	d := w.draft()
	if len(d.Sections) != 8 || d.Subject[0] != "Three alarms" || d.Sections[0].For[0].Text != "Oxygen <at> night" ||
		strings.Contains(d.Sections[1].For[0].Text, "script") || len(d.Sections[2].For[0].Items) != 2 ||
		d.Sections[3].For[0].Link == "" || d.Sections[5].For[0].By != "Somebody" {
		t.Fatalf("%+v", d)
	}
	// What a form shows, sent back as it is, changes nothing and is no step.
	before, err := x.s.MessageDraft(t.Context(), w.id)
	x.must(err)
	for at := range 9 {
		w.press(at, 0, "")
	}
	after, err := x.s.MessageDraft(t.Context(), w.id)
	x.must(err)
	if after.N != before.N {
		t.Errorf("looking at it made %d steps", after.N-before.N)
	}
	order := func() string {
		var out []string
		for _, s := range w.draft().Sections {
			out = append(out, fmt.Sprint(s.ID))
		}
		return strings.Join(out, " ")
	}
	w.press(0, 0, "order 8,7,6,5,4,3,2,1")
	w.press(0, 0, "move 1 -2")
	w.press(0, 0, "copy 3")
	w.press(0, 0, "remove 8")
	if order() != "7 6 5 4 1 3 9 2" {
		t.Errorf("arranged: %s", order())
	}
	for range 2 {
		w.press(0, 0, "undo")
	}
	if order() != "8 7 6 5 4 1 3 2" {
		t.Errorf("two steps back: %s", order())
	}
	w.press(0, 0, "redo")
	if order() != "8 7 6 5 4 1 3 9 2" {
		t.Errorf("and one on: %s", order())
	}
	if code, _ := w.keep(); code != http.StatusSeeOther {
		t.Fatalf("keeping: %d", code)
	}
	m, err := x.s.Message(t.Context(), w.id)
	x.must(err)
	if m.Version != 1 || m.Open || len(m.Doc.V.Sections) != 9 {
		t.Errorf("kept: version %d, changed since: %v", m.Version, m.Open)
	}
	w.press(0, 0, "remove 9")
	if m, err = x.s.Message(t.Context(), w.id); err != nil || !m.Open || len(m.Doc.V.Sections) != 9 {
		t.Errorf("an edit reached what was kept: %v", err)
	}
	if _, body := w.do("GET", w.at, nil); !strings.Contains(body, "changed since version 1") ||
		!strings.Contains(body, "Oxygen &lt;at&gt; night") {
		t.Error("the page does not say that the draft went on")
	}
	// What cannot be.
	for do, kv := range map[string]typed{"": {"reply_to", "nobody"}, " ": {"cc", "a@b.example, c"},
		"  ": {"event", "Clinic", "when", "tomorrow"}, "add marquee 0": nil, "remove 99": nil, "unset 2": nil} {
		if code, body := w.press(2, 0, do, kv...); code != http.StatusUnprocessableEntity ||
			!strings.Contains(body, "still in the draft") {
			t.Errorf("%q %v: %d", do, kv, code)
		}
	}
	if code, _ := w.press(0, 0, "explode"); code != http.StatusBadRequest {
		t.Errorf("an unknown button: %d", code)
	}
	w.press(0, 0, "", "reply_to", "Ines@Karang.example", "cc", "a@b.example; c@b.example", "event", "Clinic", "when",
		"2026-05-04T10:00", "minutes", "45", "style", "designed", "bare", "1")
	d = w.draft()
	if d.ReplyTo != "ines@karang.example" || len(d.Cc) != 2 || d.Invite == nil || d.Invite.Minutes != 45 ||
		d.Style != message.Designed || !d.Bare {
		t.Errorf("envelope: %+v", d)
	}
	w.press(0, 0, "", "event", "", "when", "")
	if w.draft().Invite != nil {
		t.Error("the invitation stays")
	}
	res, _ := w.do("POST", w.at+"/copy", url.Values{})
	if _, body := w.do("GET", res.Header.Get("Location"), nil); !strings.Contains(body, "Copy of Letter") ||
		!strings.Contains(body, "a draft, not kept yet") {
		t.Error("the copy")
	}
	w.do("POST", res.Header.Get("Location")+"/name", url.Values{"name": {"Second"}})
	w.do("POST", res.Header.Get("Location")+"/remove", url.Values{})
	if _, body := w.do("GET", "/content", nil); strings.Contains(body, `">Second</a>`) ||
		!strings.Contains(body, "put it back") {
		t.Error("a removed message is still listed, or cannot come back")
	}
	w.do("POST", res.Header.Get("Location")+"/back", url.Values{})
	if _, body := w.do("GET", "/content", nil); !strings.Contains(body, `">Second</a>`) {
		t.Error("it did not come back")
	}
}

// TestWordsForGroups describes a group of readers, writes for it, and sees each
// reader get their own.
func TestWordsForGroups(t *testing.T) {
	x := newSite(t)
	x.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	hans := x.meet(store.NewPerson{First: "Hans", Email: "hans@x.example"})
	users, err := x.s.Users(t.Context())
	x.must(err)
	x.must(x.e.ChangePerson(t.Context(), hans, person.Values{person.Language: "de"}, users[0].ID))
	w := x.writing("letter")
	form := url.Values{"name": {"German readers"}, "do": {"save"}, "j.r": {"all"}, "s.r.0": {"field language"},
		"k.r.0": {"field language"}, "o.r.0": {"is"}, "v.r.0": {""}}
	if res, body := w.do("POST", "/content/groups/new", form); res.StatusCode != http.StatusUnprocessableEntity ||
		!strings.Contains(body, "needs a value") {
		t.Errorf("a group of nobody in particular: %s", res.Status)
	}
	form.Set("v.r.0", "German")
	if _, body := w.do("GET", "/content/groups/new?"+form.Encode(), nil); !strings.Contains(body,
		"<b>1</b> person now") {
		t.Error("the group is not counted as one goes")
	}
	if res, _ := w.do("POST", "/content/groups/new", form); res.StatusCode != http.StatusSeeOther {
		t.Fatalf("keeping a group: %s", res.Status)
	}
	list, err := x.s.ReaderGroups(t.Context())
	x.must(err)
	g := list[0].ID
	w.press(1, 0, "", "subject", "Hello", "text", "<div>Dear all</div>")
	w.press(0, 0, "use", "use", fmt.Sprint(g))
	w.press(1, g, "", "text", "<div>Liebe Leute</div>")
	if d := w.draft(); d.Sections[0].For[g].Text != "<div>Liebe Leute</div>" ||
		d.Sections[0].For[0].Text != "<div>Dear all</div>" || len(d.Subject) != 1 {
		t.Fatalf("%+v", d)
	}
	w.press(0, g, "", "subject", "Hallo")
	if d := w.draft(); d.Subject[g] != "Hallo" || d.Subject[0] != "Hello" {
		t.Errorf("subjects %v", d.Subject)
	}
	if _, body := w.do("GET", w.at+fmt.Sprintf("?for=%d", g), nil); !strings.Contains(body, "Liebe Leute") ||
		strings.Contains(body, "Dear all</div>") || !strings.Contains(body, "everyone else’s") ||
		!strings.Contains(body, "reads everyone else’s") {
		t.Error("the group's words are not shown in place, or the grid is missing")
	}
	for reader, want := range map[int64][3]string{hans: {"Hallo", "Liebe Leute", "German readers"},
		hans - 1: {"Hello", "Dear all", "everyone else"}} {
		_, page := w.do("GET", fmt.Sprintf("%s/preview?reader=%d&as=text", w.at, reader), nil)
		_, letter := w.do("GET", fmt.Sprintf("%s/letter?reader=%d", w.at, reader), nil)
		if !strings.Contains(page, want[0]) || !strings.Contains(letter, want[1]) || !strings.Contains(page, want[2]) ||
			!strings.Contains(page, want[1]) {
			t.Errorf("reader %d does not get %v", reader, want)
		}
	}
	w.press(1, g, "unset 1")
	if len(w.draft().Sections[0].For) != 1 {
		t.Error("a version was not given up")
	}
	w.keep()
	if res, _ := w.do("POST", fmt.Sprintf("/content/groups/%d/remove", g),
		url.Values{}); res.StatusCode != http.StatusSeeOther {
		t.Errorf("removing: %s", res.Status)
	}
	if _, body := w.do("GET", "/content/groups", nil); !strings.Contains(body, "Tick that it may go") ||
		!strings.Contains(body, "German readers</a>") {
		t.Error("a group in use goes without a word")
	}
	w.do("POST", fmt.Sprintf("/content/groups/%d/remove", g), url.Values{"sure": {"1"}})
	if d := w.draft(); len(d.Groups) != 1 || d.GroupOf(nil1{}, now) != message.Else {
		t.Error("a message lost the group that is gone from the list")
	}
}

func TestPreviewAndProof(t *testing.T) {
	x := newSite(t)
	ana := x.meet(store.NewPerson{First: "<b>Ana", Email: "ana@fjord.example"})
	long := x.meet(store.NewPerson{First: "Maximiliane-Konstanze", Last: "von und zu Hohenlangenfeld",
		Email: "max@x.example", Company: "A very long name indeed", Domain: "x.example"})
	w := x.writing("letter")
	w.press(1, 0, "", "subject", "S", "text",
		`<div>Dear {{ person.first_name }} {{ person.last_name }}, <a href="/p/gone">look</a></div>`)
	_, body := w.do("GET", w.at+"/proof", nil)
	if !strings.Contains(body, "there is no such page") || !strings.Contains(body, "<b>1</b> would not get it") ||
		!strings.Contains(body, "“Last name” is not known") || !strings.Contains(body, "to be mended") {
		t.Errorf("proof: %s", body)
	}
	people := regexp.MustCompile(`<a href="([^"]+)"><b>1</b> would`).FindStringSubmatch(body)
	if people == nil {
		t.Fatal("the figure does not lead to the people behind it")
	}
	if _, list := w.do("GET", html.UnescapeString(people[1]), nil); !strings.Contains(list, "ana@fjord.example") ||
		strings.Contains(list, "max@x.example") {
		t.Error("it leads to others")
	}
	if _, body := w.do("GET", fmt.Sprintf("%s/preview?reader=%d", w.at, ana), nil); !strings.Contains(body,
		"person.last_name has no value and no fallback") || strings.Contains(body, "<b>Ana</h1>") {
		t.Errorf("a reader who would not get it: %s", body)
	}
	w.press(1, 0, "", "text", `<div>Dear {{ person.first_name }} {{ person.last_name | default: "x" }}</div>`,
		"preheader", "p")
	if _, body := w.do("GET", w.at+"/proof", nil); !strings.Contains(body, "sound") {
		t.Errorf("mended, the proof says %s", body)
	}
	_, page := w.do("GET", w.at+"/preview", nil)
	if !strings.Contains(page, fmt.Sprintf("reader=%d&amp;scheme=light&amp;wide=desktop\" data-key=\"l\"", long)) {
		t.Error("the longest name is not offered")
	}
	// A reader is found by words of the name, however written, and stays found while the view changes.
	if _, page := w.do("GET", w.at+"/preview?text=+ANA++fjord.ex", nil); !strings.Contains(page,
		"ana@fjord.example</dd>") || !strings.Contains(page, "1 of 1") ||
		!strings.Contains(page, "text=ANA&#43;fjord.ex&amp;wide=phone") {
		t.Errorf("Ana is not found: %s", page)
	}
	if _, page := w.do("GET", w.at+"/preview?text=%3Cnobody", nil); !strings.Contains(page,
		"Nobody here has “&lt;nobody”") {
		t.Error("that nobody is called so is not said")
	}
	res, letter := w.do("GET", fmt.Sprintf("%s/letter?reader=%d&scheme=dark", w.at, ana), nil)
	if !strings.Contains(letter, "Dear &lt;b&gt;Ana x") || !strings.Contains(letter, "@media all{") ||
		!strings.Contains(res.Header.Get("Content-Security-Policy"), "sandbox") {
		t.Errorf("the letter: %s", letter)
	}
	if _, letter := w.do("GET", fmt.Sprintf("%s/letter?reader=%d", w.at, ana), nil); strings.Contains(letter,
		"@media all{") {
		t.Error("a light letter is dark")
	}
	// Words for one reader alone.
	one := fmt.Sprintf("%s/readers/%d", w.at, ana)
	if res, _ := w.do("GET", one, nil); res.StatusCode != http.StatusSeeOther {
		t.Errorf("before anything was kept: %s", res.Status)
	}
	w.keep()
	_, body = w.do("GET", one, nil)
	form := formtest.Sent(t, body)
	form.Del("do")
	form.Set("1.text", "<div>Only for {{ person.shoe }}</div>")
	if res, body := w.do("POST", one, form); res.StatusCode != http.StatusUnprocessableEntity ||
		!strings.Contains(body, "there is no merge field person.shoe") || !strings.Contains(body, "Only for") {
		t.Errorf("words that cannot be filled in: %s", res.Status)
	}
	form.Set("1.text", "<div>Only for you<script>1</script></div>")
	form.Set("subject", "Ana, a word")
	if res, _ := w.do("POST", one, form); res.StatusCode != http.StatusSeeOther {
		t.Fatalf("keeping words for one: %s", res.Status)
	}
	for reader, want := range map[int64]string{ana: "Only for you", long: "Maximiliane"} {
		if _, letter := w.do("GET", fmt.Sprintf("%s/letter?reader=%d", w.at, reader), nil); !strings.Contains(letter,
			want) || strings.Contains(letter, "<script>") {
			t.Errorf("reader %d gets %s", reader, letter)
		}
	}
	if _, page := w.do("GET", fmt.Sprintf("%s/preview?reader=%d", w.at, ana), nil); !strings.Contains(page,
		"for this reader alone") || !strings.Contains(page, "Ana, a word") {
		t.Error("the preview does not say that the words are theirs alone")
	}
	w.do("POST", one, url.Values{"do": {"forget"}})
	if _, letter := w.do("GET", fmt.Sprintf("%s/letter?reader=%d", w.at, ana), nil); strings.Contains(letter,
		"Only for you") {
		t.Error("words for one were not given up")
	}
	if res, _ := w.do("POST", w.at+"/test",
		url.Values{"reader": {fmt.Sprint(long)}}); res.StatusCode != http.StatusSeeOther {
		t.Errorf("a test: %s", res.Status)
	}
	v := x.visitor().signIn("rep")
	v.do("POST", "/signature",
		url.Values{"signature": {`<div>Tomas<script>x</script> <a href="javascript:x">y</a></div>`}})
	if _, body := v.do("GET", "/signature", nil); !strings.Contains(body, "Tomas") ||
		strings.Contains(body, "javascript:") || strings.Contains(body, "&lt;script") {
		t.Error("the signature")
	}
}

// nil1 is somebody of whom nothing is known.
type nil1 struct{ rule.Facts }

func (nil1) Record() *rule.Record { return &rule.Record{} }
