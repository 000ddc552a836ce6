package web

import (
	"bytes"
	"fmt"
	"html"
	"io"
	"maps"
	"mime/multipart"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"testing"

	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
	"ombak/internal/store"
)

func TestPeopleInASentence(t *testing.T) {
	x := newSite(t)
	x.scored()
	ana := x.meet(store.NewPerson{First: "Ana", Last: "Strand", Email: "ana@fjord.example", Company: "Fjord Farms",
		Domain: "fjord.example", Country: "NO"})
	x.meet(store.NewPerson{First: "<script>", Last: "Evil", Email: "b@x.example", Country: "CA"})
	x.must(x.e.Record(t.Context(), store.Signal{Person: ana, Signal: signal.Signal{At: now, Kind: signal.Click}}))
	v := x.visitor().signIn("rep")
	norway := "j.r=all&s.r.0=field+country&k.r.0=field+country&o.r.0=is&v.r.0=norway"
	clicked := "j.r=all&s.r.0=signal+5&k.r.0=signal+5&o.r.0=at+least&w.r.0=days&d.r.0=30&n.r.0="
	for _, c := range []struct {
		query string
		total string
		ana   bool
	}{
		{"", "2", true}, {norway, "1", true}, {strings.Replace(norway, "norway", "CA", 1), "1", false},
		{clicked + "1", "1", true}, {clicked + "2", "0", false},
		{strings.Replace(norway, "all", "none", 1), "1", false},
		{url.Values{"rule": {`{"if":{"field":"country","op":"is","value":"NO"}}`}}.Encode(), "1", true},
		{"text=fjord", "1", true}, {"text=%25", "0", false}, {"order=name", "2", true}, {"order=%3Bdrop", "2", true},
		{"after=x", "2", true},
		// a condition that is still being made leaves nobody out
		{"j.r=all&s.r.0=field+country&o.r.0=is&v.r.0=", "2", true},
		{"j.r=all&s.r.0=signal+99&o.r.0=x&n.r.0=-1&d.r.0=x", "2", true}, {"j.r=all&s.r.0=nonsense", "2", true},
	} {
		res, body := v.do("GET", "/people?"+c.query, nil)
		_, count := v.do("GET", "/people/count?"+c.query, nil)
		if res.StatusCode != http.StatusOK || !strings.Contains(count, "<b>"+c.total+"</b>") ||
			strings.Contains(body, "ana@fjord.example") != c.ana {
			t.Errorf("%q: %s, counted %q", c.query, res.Status, count)
		}
		if strings.Contains(body, "<script>Evil") || strings.Contains(body, "<script> Evil") {
			t.Errorf("%q: a name became a script", c.query)
		}
	}
	for _, bad := range []string{"rule=%7B", "rule=" + strings.Repeat("x", 30_000)} {
		if res, _ := v.do("GET", "/people?"+bad, nil); res.StatusCode != http.StatusBadRequest {
			t.Errorf("a rule that is none: %s", res.Status)
		}
	}
	if _, body := v.do("GET", fmt.Sprintf("/people/%d", ana), nil); !strings.Contains(body, "Clicked a link") ||
		!strings.Contains(body, "Fjord Farms") || strings.Contains(body, "Hand over</button>") {
		t.Error("the person's page, for a rep")
	}
	m := x.visitor().signIn("marketer")
	at := fmt.Sprintf("/people/%d", ana)
	if res, body := m.do("POST", at+"/field",
		url.Values{"field": {"owner"}, "value": {"nobody here"}}); res.StatusCode != http.StatusUnprocessableEntity {
		t.Errorf("an owner who is nobody: %s %.200s", res.Status, body)
	}
	users, err := x.s.Users(t.Context())
	x.must(err)
	if res, _ := m.do("POST", at+"/field",
		url.Values{"field": {"owner"}, "value": {users[0].Name}}); res.StatusCode != http.StatusSeeOther {
		t.Errorf("owner: %s", res.Status)
	}
	m.do("POST", at+"/hand-over", url.Values{})
	if _, body := x.visitor().signIn("lead").do("GET", "/desk", nil); !strings.Contains(body, "Ana Strand") {
		t.Error("handed over by hand, she is on no desk")
	}
	m.do("POST", at+"/hand-over", url.Values{})
	if _, body := m.do("GET", at, nil); !strings.Contains(body, "They are with a rep already") {
		t.Error("handed over twice without a word")
	}
}

// TestTheRuleEditor presses the editor's buttons and holds what comes back.
func TestTheRuleEditor(t *testing.T) {
	x := newSite(t)
	v := x.visitor().signIn("marketer")
	form := url.Values{"j.r": {"all"}, "do": {"cond r"}}
	_, body := v.do("GET", "/people/audiences/new?"+form.Encode(), nil)
	if !strings.Contains(body, `name="s.r.0"`) {
		t.Fatal("a pressed plus adds no condition")
	}
	form = url.Values{"j.r": {"all"}, "s.r.0": {"field city"}, "k.r.0": {"field city"}, "o.r.0": {"is"},
		"v.r.0": {"Oban"}, "do": {"group r"}}
	_, body = v.do("GET", "/people/audiences/new?"+form.Encode(), nil)
	if !strings.Contains(body, `name="j.r.1"`) || !strings.Contains(body, `name="s.r.1.0"`) ||
		!strings.Contains(body, `value="Oban"`) {
		t.Fatal("a pressed group adds none, or what was typed is lost")
	}
	form.Set("do", "remove r.0")
	if _, body = v.do("GET", "/people/audiences/new?"+form.Encode(), nil); strings.Contains(body, `value="Oban"`) {
		t.Error("a removed condition is still there")
	}
	// Another subject begins anew.
	form = url.Values{"j.r": {"all"}, "s.r.0": {"signal 5"}, "k.r.0": {"field city"}, "o.r.0": {"is"},
		"v.r.0": {"Oban"}}
	if _, body = v.do("GET", "/people/audiences/new?"+form.Encode(), nil); strings.Contains(body, `value="Oban"`) ||
		!strings.Contains(body, "in the last") {
		t.Error("what was typed for one subject stands for another")
	}
}

func TestAudiencesByForm(t *testing.T) {
	x := newSite(t)
	ana := x.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example", Country: "NO", City: "Bergen"})
	v := x.visitor().signIn("marketer")
	form := url.Values{"name": {"Bergen"}, "do": {"save"}, "j.r": {"all"}, "s.r.0": {"field city"},
		"k.r.0": {"field city"}, "o.r.0": {"is"}, "v.r.0": {""}}
	if res, body := v.do("POST", "/people/audiences/new", form); res.StatusCode != http.StatusUnprocessableEntity ||
		!strings.Contains(body, "City is needs a value") {
		t.Errorf("a rule that is not ready: %s", res.Status)
	}
	form.Set("v.r.0", "bergen")
	if _, body := v.do("GET", "/people/audiences/new?"+form.Encode(), nil); !strings.Contains(body, "1 person now") ||
		!strings.Contains(body, "city is Bergen") {
		t.Error("the editor does not count as one goes, or does not say why")
	}
	res, _ := v.do("POST", "/people/audiences/new", form)
	at := res.Header.Get("Location")
	if res.StatusCode != http.StatusSeeOther || !strings.HasPrefix(at, "/people/audiences/") {
		t.Fatalf("keeping: %s to %q", res.Status, at)
	}
	x.settle()
	if _, body := v.do("GET", at, nil); !strings.Contains(body, "ana@fjord.example") ||
		!strings.Contains(body, "joined") {
		t.Error("nobody joined")
	}
	if _, body := v.do("GET", fmt.Sprintf("/people/%d", ana), nil); !strings.Contains(body, `href="`+at+`"`) {
		t.Error("her page does not say that she is in it")
	}
	if res, _ := v.do("POST", "/people/audiences/new", form); res.StatusCode != http.StatusUnprocessableEntity {
		t.Errorf("a second audience of the name: %s", res.Status)
	}
	// One that another asks for cannot go.
	id := strings.TrimPrefix(at, "/people/audiences/")
	res, body := v.do("POST", "/people/audiences/new",
		url.Values{"name": {"Others"}, "j.r": {"none"}, "s.r.0": {"about audience"}, "k.r.0": {"about audience"},
			"o.r.0": {"is"}, "x.r.0": {id}})
	if res.StatusCode != http.StatusSeeOther {
		t.Fatalf("an audience of an audience: %s %.300s", res.Status, body)
	}
	v.do("POST", at+"/remove", url.Values{})
	if _, body := v.do("GET", at, nil); !strings.Contains(body, "It is in use by the audience “Others”") {
		t.Error("an audience in use went, or nobody said why not")
	}
	// A circle is refused.
	if res, body := v.do("POST", at+"/edit",
		url.Values{"name": {"Bergen"}, "j.r": {"all"}, "s.r.0": {"about audience"}, "k.r.0": {"about audience"},
			"o.r.0": {"is"},
			"x.r.0": {strings.TrimPrefix(res.Header.Get("Location"),
				"/people/audiences/")}}); res.StatusCode != http.StatusUnprocessableEntity ||
		!strings.Contains(body, "cannot ask for itself") {
		t.Errorf("a circle: %s", res.Status)
	}
	res, body = v.do("POST", at+"/export", url.Values{"form": {"csv"}})
	if res.StatusCode != http.StatusOK || !strings.Contains(body, "ana@fjord.example") ||
		!strings.Contains(res.Header.Get("Content-Disposition"), "attachment") {
		t.Errorf("taken out: %s", res.Status)
	}
}

func TestARecordIsEditedInPlace(t *testing.T) {
	x := newSite(t)
	ana := x.meet(store.NewPerson{First: "Ana", Last: "Strand", Email: "ana@fjord.example", Country: "NO"})
	x.meet(store.NewPerson{First: "Bo", Email: "bo@fjord.example"})
	v := x.visitor().signIn("marketer")
	at := fmt.Sprintf("/people/%d", ana)
	for _, c := range []struct{ field, value, want, why string }{
		{"phone", "20 7946 0101", "", "not a telephone number"}, // Norway has no such number
		{"phone", "+44 20 7946 0101", "+44 20 7946 0101", ""},
		{"language", "Norwegian", "Norwegian", ""}, {"language", "Klingonish", "", "no language has this name"},
		{"country", "Norge", "Norway", ""}, {"country", "Atlantis", "", "no country has this name"},
		{"time zone", "Europe/Oslo", "Europe/Oslo", ""}, {"time zone", "Oslo", "", "no time zone has this name"},
		{"profile", "profiles.example/ana", "https://profiles.example/ana", ""},
		{"profile", "javascript:alert(1)", "", "not a web address"},
		{"email", "bo@fjord.example", "", "another record has this address"},
		{"email", "", "", "nobody could find this record again"},
		{"title", "<b>Head</b>", "&lt;b&gt;Head&lt;/b&gt;", ""},
	} {
		if c.field == "email" && c.value == "" {
			x.must(x.e.ChangePerson(t.Context(), ana, person.Values{person.PhoneField: "", person.Profile: ""}, 1))
		}
		res, body := v.do("POST", at+"/field", url.Values{"field": {c.field}, "value": {c.value}})
		if c.why != "" {
			if res.StatusCode != http.StatusUnprocessableEntity ||
				!strings.Contains(strings.ToLower(html.UnescapeString(body)), strings.ToLower(c.why)) ||
				c.value != "" && !strings.Contains(html.UnescapeString(body), `value="`+c.value+`"`) {
				t.Errorf("%s %q: %s, without why or what was typed", c.field, c.value, res.Status)
			}
			continue
		}
		if _, body = v.do("GET", at, nil); res.StatusCode != http.StatusSeeOther ||
			!strings.Contains(strings.ReplaceAll(body, "&#43;", "+"), c.want) {
			t.Errorf("%s %q: %s, not shown as %q", c.field, c.value, res.Status, c.want)
		}
	}
	// Its history can be taken back, one by one.
	x.must(x.e.ChangePerson(t.Context(), ana, person.Values{person.City: "Bodø"}, 1))
	changes, err := x.s.PersonChanges(t.Context(), ana)
	x.must(err)
	v.do("POST", fmt.Sprintf("%s/changes/%d/undo", at, changes[0].ID), url.Values{})
	if p, err := x.s.Person(t.Context(), ana); err != nil || p.City != "" {
		t.Errorf("undone, the city is %q", p.City)
	}
	if res, _ := v.do("POST", fmt.Sprintf("/people/%d/changes/%d/undo", ana+1, changes[0].ID),
		url.Values{}); res.StatusCode != http.StatusNotFound {
		t.Errorf("a change of another person: %s", res.Status)
	}
}

func TestMarksNotesAndRights(t *testing.T) {
	x := newSite(t)
	ana := x.meet(store.NewPerson{First: "Ana", Last: "Strand", Email: "ana@fjord.example", Country: "NO"})
	v := x.visitor().signIn("lead")
	at := fmt.Sprintf("/people/%d", ana)
	for _, form := range []url.Values{
		{"mark": {"tag"}, "on": {"1"}, "what": {"spring fair"}},
		{"mark": {"contact"}, "on": {"1"}, "what": {"ana.strand@fjord.example"}},
		{"mark": {"contact"}, "on": {"1"}, "what": {"+44 20 7946 0102"}},
		{"mark": {"consent"}, "on": {"1"}, "what": {"1"}, "ground": {"said so at the fair"}},
		{"mark": {"stop"}, "on": {"1"}},
	} {
		if res, _ := v.do("POST", at+"/mark", form); res.StatusCode != http.StatusSeeOther {
			t.Errorf("%v: %s", form, res.Status)
		}
	}
	v.do("POST", at+"/notes", url.Values{"text": {"Asks for the winter price."}})
	_, body := v.do("GET", at, nil)
	for _, want := range []string{"spring fair", "ana.strand@fjord.example", "+44 20 7946 0102", "said so at the fair",
		"Asks for the winter price.", "do not contact"} {
		if !strings.Contains(strings.ReplaceAll(body, "&#43;", "+"), want) {
			t.Errorf("the page does not say %q", want)
		}
	}
	if res, _ := v.do("POST", at+"/mark",
		url.Values{"mark": {"consent"}, "on": {"1"}, "what": {"1"}}); res.StatusCode != http.StatusSeeOther {
		t.Error("consent without a ground")
	}
	if _, body := v.do("GET", at, nil); !strings.Contains(body, "Say on what ground") {
		t.Error("consent without a ground was taken")
	}
	res, body := v.do("GET", at+"/everything", nil)
	if res.Header.Get("Content-Type") != "application/json" {
		t.Errorf("everything about her comes as %q", res.Header.Get("Content-Type"))
	}
	for _, want := range []string{"ana@fjord.example", "ana.strand@fjord.example", "spring fair", "said so at the fair",
		"Asks for the winter price."} {
		if !strings.Contains(body, want) {
			t.Errorf("everything about her lacks %q", want)
		}
	}
	v.do("POST", at+"/erase", url.Values{"sure": {"yes"}})
	if res, _ := v.do("GET", at, nil); res.StatusCode != http.StatusOK {
		t.Fatal("she was erased without being sure")
	}
	v.do("POST", at+"/erase", url.Values{"sure": {"erase"}})
	if res, _ := v.do("GET", at, nil); res.StatusCode != http.StatusNotFound {
		t.Errorf("erased: %s", res.Status)
	}
}

// upload sends a file as a browser does.
func (v *visitor) upload(path, name string, file []byte) (*http.Response, string) {
	v.t.Helper()
	var b bytes.Buffer
	w := multipart.NewWriter(&b)
	part, err := w.CreateFormFile("file", name)
	v.must(err)
	_, err = part.Write(file)
	v.must(err)
	v.must(w.Close())
	req, err := http.NewRequestWithContext(v.t.Context(), "POST", v.srv.URL+path, &b)
	v.must(err)
	req.Header.Set("Content-Type", w.FormDataContentType())
	req.Header.Set("Sec-Fetch-Site", "same-origin")
	res, err := v.c.Do(req)
	v.must(err)
	defer res.Body.Close()
	body, err := io.ReadAll(res.Body)
	v.must(err)
	return res, string(body)
}

func TestAListIsBroughtIn(t *testing.T) {
	x := newSite(t)
	x.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	v := x.visitor().signIn("marketer")
	res, _ := v.upload("/people/imports", "fair.csv",
		[]byte("First name;Email;Country;Town\nAna;ana@fjord.example;Norge;Bergen\nBo;bo@fjord.example;Norway;Oslo\nCy;nowhere;Norway;Oslo\nBo;BO@fjord.example;Norway;Oslo\n"))
	at := res.Header.Get("Location")
	if res.StatusCode != http.StatusSeeOther || !strings.HasPrefix(at, "/people/imports/") {
		t.Fatalf("%s to %q", res.Status, at)
	}
	_, body := v.do("GET", at, nil)
	for _, want := range []string{"Guessed from the head", "This is not an email address", "Norway", "Bergen"} {
		if !strings.Contains(html.UnescapeString(body), want) &&
			!strings.Contains(strings.ToLower(body), strings.ToLower(want)) {
			t.Errorf("the preview does not say %q", want)
		}
	}
	form := url.Values{"c0": {"first name"}, "c1": {"email"}, "c2": {"country"}, "c3": {"city"}, "policy": {"fill"},
		"tags": {"spring fair"}, "do": {"check"}}
	if res, _ := v.do("POST", at,
		url.Values{"c0": {"first name"}, "c1": {""}, "c2": {"country"}, "c3": {"city"},
			"policy": {"fill"}}); res.StatusCode != http.StatusUnprocessableEntity {
		t.Errorf("a mapping without an address: %s", res.Status)
	}
	if res, body := v.do("POST", at, form); res.StatusCode != http.StatusSeeOther {
		t.Fatalf("checking: %s %.300s", res.Status, body)
	}
	x.must(x.e.RunBatches(t.Context()))
	_, body = v.do("GET", at, nil)
	if !strings.Contains(body, "1 would be new, 1 would change, 0 would stay as they are, 2 cannot be taken") {
		t.Error("the dry count is wrong or not shown")
	}
	if _, count := v.do("GET", "/people/count", nil); !strings.Contains(count, "<b>1</b>") {
		t.Error("checking has brought somebody in")
	}
	v.do("POST", at+"/start", url.Values{})
	x.must(x.e.RunBatches(t.Context()))
	_, body = v.do("GET", at, nil)
	if !strings.Contains(body, "<b>1</b> new") || !strings.Contains(body, "<b>1</b> updated") ||
		!strings.Contains(body, "the same person as in row 2") {
		t.Error("what became of the rows is not shown")
	}
	res, mend := v.do("GET", at+"/to-mend.csv", nil)
	if !strings.Contains(mend, "Cy,nowhere,Norway,Oslo,Email: this is not an email address") ||
		!strings.Contains(res.Header.Get("Content-Disposition"), "fair-to-mend.csv") {
		t.Errorf("the rows to mend: %q", mend)
	}
	work := strings.Replace(at, "imports", "work", 1)
	v.do("POST", work+"/undo", url.Values{})
	x.must(x.e.RunBatches(t.Context()))
	if _, count := v.do("GET", "/people/count", nil); !strings.Contains(count, "<b>1</b>") {
		t.Error("undone, the new person is still here")
	}
	if p, err := x.s.PersonByEmail(t.Context(), "ana@fjord.example"); err != nil || p.City != "" {
		t.Errorf("undone, the city is %q", p.City)
	}
	// What is no list says so, and leaves nothing.
	for name, file := range map[string]string{"pdf": "%PDF-1.7", "empty": "", "zip": "PK\x03\x04nonsense",
		"head alone": "Name,Email\n"} {
		res, _ := v.upload("/people/imports", "list.csv", []byte(file))
		_, body := v.do("GET", res.Header.Get("Location"), nil)
		if res.Header.Get("Location") != "/people/imports" || !strings.Contains(body, "cannot be read") {
			t.Errorf("%s: to %q", name, res.Header.Get("Location"))
		}
	}
}

func TestBulkActionsAndTheirUndo(t *testing.T) {
	x := newSite(t)
	var ids []string
	for i := range 5 {
		ids = append(ids,
			fmt.Sprint(x.meet(store.NewPerson{Email: fmt.Sprintf("p%d@x.example", i),
				Country: []string{"NO", "CA"}[i%2]})))
	}
	v := x.visitor().signIn("lead")
	do := func(form url.Values) string {
		t.Helper()
		res, body := v.do("POST", "/people/bulk", form)
		if res.StatusCode != http.StatusSeeOther {
			t.Fatalf("%v: %s %.200s", form, res.Status, body)
		}
		x.must(x.e.RunBatches(t.Context()))
		return res.Header.Get("Location")
	}
	tagged := func() int {
		list, err := x.s.Tags(t.Context())
		x.must(err)
		if len(list) == 0 {
			return 0
		}
		return int(list[0].Used)
	}
	do(url.Values{"do": {"tag"}, "tag": {"fair"}, "id": ids[:2]})
	if tagged() != 2 {
		t.Errorf("%d tagged, want 2", tagged())
	}
	// Everybody as described, on all pages; two have it already.
	at := do(url.Values{"do": {"tag"}, "tag": {"Fair"}, "everybody": {"1"},
		"list": {"rule=" + url.QueryEscape(`{"if":{"field":"country","op":"is","value":"NO"}}`)}})
	if tagged() != 4 {
		t.Errorf("%d tagged, want 4", tagged())
	}
	if _, body := v.do("GET", at, nil); !strings.Contains(body, "2 records were changed") {
		t.Error("what was done is not said")
	}
	v.do("POST", at+"/undo", url.Values{})
	x.must(x.e.RunBatches(t.Context()))
	if tagged() != 2 {
		t.Errorf("undone, %d tagged, want 2", tagged())
	}
	do(url.Values{"do": {"stop"}, "id": ids})
	if p, err := x.s.PersonByEmail(t.Context(), "p3@x.example"); err != nil || !p.DoNotContact {
		t.Error("do not contact was not set")
	}
	if got := do(url.Values{"do": {"erase"}, "id": ids[:1], "sure": {"no"}}); !strings.HasPrefix(got, "/people?") {
		t.Errorf("erased without being sure: %s", got)
	}
	do(url.Values{"do": {"erase"}, "id": ids[:1], "sure": {"erase"}})
	if _, count := v.do("GET", "/people/count", nil); !strings.Contains(count, "<b>4</b>") {
		t.Errorf("after erasing one: %s", count)
	}
	for _, bad := range []url.Values{{"do": {"tag"}, "tag": {"x"}}, {"do": {"tag"}, "id": ids},
		{"do": {"consent"}, "id": ids, "purpose": {"1"}}, {"do": {"audience"}, "id": ids}} {
		res, _ := v.do("POST", "/people/bulk", bad)
		if to := res.Header.Get("Location"); !strings.HasPrefix(to, "/people?") {
			t.Errorf("%v leads to %q", bad, to)
		}
	}
}

func TestViewsTagsAndFields(t *testing.T) {
	x := newSite(t)
	x.meet(store.NewPerson{First: "Ana", Email: "ana@x.example", City: "Oban"})
	v := x.visitor().signIn("marketer")
	v.do("POST", "/people/views", url.Values{"name": {"In Oban"}, "list": {"text=oban&order=name"}})
	if _, body := v.do("GET", "/people", nil); !strings.Contains(body, "In Oban") {
		t.Error("a saved view is not offered")
	}
	if _, body := x.visitor().signIn("rep").do("GET", "/people", nil); strings.Contains(body, "In Oban") {
		t.Error("somebody's own view is everybody's")
	}
	v.do("POST", "/people/fields", url.Values{"name": {"Pens"}, "type": {"number"}})
	v.do("POST", "/people/fields", url.Values{"name": {"Fish"}, "type": {"one of"}, "options": {"salmon, trout"}})
	v.do("POST", "/people/fields", url.Values{"name": {"city"}, "type": {"text"}})
	_, body := v.do("GET", "/people/tags", nil)
	if !strings.Contains(body, "Pens") || !strings.Contains(body, "salmon, trout") ||
		!strings.Contains(body, "Every record has a field of this name already") {
		t.Error("own fields")
	}
	if res, _ := v.do("POST", "/people/1/field",
		url.Values{"field": {"own 1"}, "value": {"12"}}); res.StatusCode != http.StatusSeeOther {
		t.Errorf("an own field: %s", res.Status)
	}
	if res, _ := v.do("POST", "/people/1/field",
		url.Values{"field": {"own 2"}, "value": {"shark"}}); res.StatusCode != http.StatusUnprocessableEntity {
		t.Errorf("a value that cannot be chosen: %s", res.Status)
	}
	if _, body := v.do("GET", "/people?col=own+1&col=email", nil); !strings.Contains(body, ">12<") {
		t.Error("an own field is no column")
	}
	v.do("POST", "/people/tags", url.Values{"name": {"Fair"}, "ends": {"2026-01-31"}})
	v.do("POST", "/people/tags", url.Values{"name": {"fair spring"}})
	v.do("POST", "/people/1/mark", url.Values{"mark": {"tag"}, "on": {"1"}, "what": {"fair"}})
	if _, body = v.do("GET", "/people/tags", nil); !strings.Contains(body, "its end has come") {
		t.Error("a tag whose end has come is not ready to be cleaned up")
	}
	if _, body = v.do("GET", "/people/tags/1", nil); !strings.Contains(body, `value="Fair"`) ||
		!strings.Contains(body, ">fair spring</option>") || strings.Contains(body, ">Fair</option>") {
		t.Error("a tag cannot be changed, or merged into itself")
	}
	v.do("POST", "/people/tags/1/merge", url.Values{"into": {"2"}})
	tags, err := x.s.PersonTags(t.Context(), 1)
	x.must(err)
	if len(tags) != 1 || tags[0].Name != "fair spring" {
		t.Errorf("merged, the person has %v", tags)
	}
	v.do("POST", "/people/tags/clean", url.Values{"id": {"2"}})
	if tags, err = x.s.PersonTags(t.Context(), 1); err != nil || len(tags) != 0 {
		t.Errorf("cleaned up, the person has %v", tags)
	}
}

func TestMergingByForm(t *testing.T) {
	x := newSite(t)
	a := x.meet(store.NewPerson{First: "Ana", Last: "Strand", Email: "ana.strand@fjord.example", Company: "Fjord",
		Domain: "fjord.example", City: "Bergen"})
	b := x.meet(store.NewPerson{First: "Ana", Last: "Strand", Email: "anastrand+fair@fjord.example", Company: "Fjord",
		Domain: "fjord.example", Title: "Head of fish health", City: "Oslo"})
	x.must(x.e.Record(t.Context(), store.Signal{Person: b, Signal: signal.Signal{At: now, Kind: signal.Click}}))
	v := x.visitor().signIn("marketer")
	if _, body := v.do("GET", "/people/doubles", nil); !strings.Contains(html.UnescapeString(body),
		"differ by a dot or a plus part") {
		t.Error("the two are not suggested")
	}
	_, body := v.do("GET", fmt.Sprintf("/people/merge?keep=%d&gone=%d", a, b), nil)
	if !strings.Contains(body, "Head of fish health") || !strings.Contains(body, `name="take city"`) {
		t.Error("the two do not stand side by side")
	}
	res, _ := v.do("POST", "/people/merge",
		url.Values{"keep": {fmt.Sprint(a)}, "gone": {fmt.Sprint(b)}, "take title": {"b"}, "take city": {"b"},
			"take email": {"a"}})
	if res.StatusCode != http.StatusSeeOther {
		t.Fatal(res.Status)
	}
	_, body = v.do("GET", fmt.Sprintf("/people/%d", a), nil)
	for _, want := range []string{"Head of fish health", "Oslo", "anastrand+fair@fjord.example", "Clicked a link"} {
		if !strings.Contains(html.UnescapeString(body), want) {
			t.Errorf("merged, the page lacks %q", want)
		}
	}
	if res, _ := v.do("GET", fmt.Sprintf("/people/%d", b), nil); res.StatusCode != http.StatusNotFound {
		t.Errorf("the record that went: %s", res.Status)
	}
	v.do("POST", "/people/work/1/undo", url.Values{})
	if _, body = v.do("GET", fmt.Sprintf("/people/%d", b), nil); !strings.Contains(body, "Head of fish health") ||
		!strings.Contains(body, "Clicked a link") {
		t.Error("undone, the other is not as it was")
	}
	if p, err := x.s.Person(t.Context(), a); err != nil || p.City != "Bergen" || p.Title != "" {
		t.Errorf("undone, the first has %q, %q", p.City, p.Title)
	}
}

// TestAnAudienceEntersASequence chooses an audience as who enters, and asks for
// it in a check.
func TestAnAudienceEntersASequence(t *testing.T) {
	d := newSite(t).drafting()
	a := store.Audience{Name: "Fish farms", Live: true}
	a.Rule.V = rule.FieldIs(person.Country, "NO")
	id, err := d.e.SaveAudience(t.Context(), a)
	d.must(err)
	in := url.Values{"s.r.0": {"about audience"}, "k.r.0": {"about audience"}, "o.r.0": {"is"}, "x.r.0": {fmt.Sprint(id)},
		"j.r": {"all"}}
	form := setting("Norway", "rule")
	maps.Copy(form, in)
	code, body := d.post("/settings", form)
	if code != http.StatusSeeOther ||
		!strings.Contains(html.UnescapeString(body), "everybody with in the audience “Fish farms”") &&
			!strings.Contains(html.UnescapeString(body), "in the audience “Fish farms”") {
		t.Errorf("entry by audience: %d", code)
	}
	d.post("/insert", url.Values{"from": {"0"}, "kind": {"check"}})
	p := d.draft().Plan.V
	if code, body = d.post(fmt.Sprintf("/steps/%d", p.Start),
		with(in, "title", "A farm?")); code != http.StatusSeeOther ||
		!strings.Contains(html.UnescapeString(body), "in the audience “Fish farms”") {
		t.Errorf("a check of an audience: %d", code)
	}
	if use, err := d.s.AudienceUse(t.Context(), id); err != nil || len(use) != 1 || use[0].Kind != "sequence" {
		t.Errorf("used by %v, %v", use, err)
	}
	if err := d.e.RemoveAudience(t.Context(), id); err == nil {
		t.Error("an audience that a sequence asks for was removed")
	}
}

// with is a form with one field more.
func with(v url.Values, key, value string) url.Values {
	v = maps.Clone(v)
	v.Set(key, value)
	return v
}

func TestCompaniesAndAudiencesAreLists(t *testing.T) {
	x := newSite(t)
	for i, name := range []string{"Fjord Farms", "Maple Works", "Kelp Pens"} {
		x.meet(store.NewPerson{First: "Ana", Email: fmt.Sprintf("ana@c%d.example", i), Company: name,
			Domain: fmt.Sprintf("c%d.example", i), Country: []string{"NO", "CA", "NO"}[i]})
		x.must(x.e.ChangeCompany(t.Context(), int64(i+1),
			person.Values{person.Industry: "Ports", person.Size: fmt.Sprint((i + 1) * 100)}, 1))
	}
	v := x.visitor().signIn("marketer")
	order := func(body string, names ...string) bool {
		at := 0
		for _, n := range names {
			i := strings.Index(body[at:], ">"+n+"<")
			if i < 0 {
				return false
			}
			at += i
		}
		return true
	}
	for _, c := range []struct {
		query string
		want  []string
		total string
	}{
		{"", []string{"Fjord Farms", "Kelp Pens", "Maple Works"}, "3"},
		{"order=size", []string{"Kelp Pens", "Maple Works", "Fjord Farms"}, "3"},
		{"order=newest", []string{"Kelp Pens", "Maple Works", "Fjord Farms"}, "3"},
		{"country=Norway", []string{"Fjord Farms", "Kelp Pens"}, "2"},
		{"least=200", []string{"Kelp Pens", "Maple Works"}, "2"},
		{"text=kelp&col=revenue&col=since", []string{"Kelp Pens"}, "1"},
		{"industry=ports&order=x&least=x&after=x", []string{"Fjord Farms", "Kelp Pens", "Maple Works"}, "3"},
	} {
		res, body := v.do("GET", "/people/companies?"+c.query, nil)
		if res.StatusCode != http.StatusOK || !order(body, c.want...) || !strings.Contains(body, "<b>"+c.total+"</b>") {
			t.Errorf("%q: %s, not %v", c.query, res.Status, c.want)
		}
		if _, count := v.do("GET", "/people/companies/count?"+c.query, nil); !strings.Contains(count, "<b>"+c.total+"</b>") {
			t.Errorf("%q counts %q behind the page", c.query, count)
		}
	}
	v.do("POST", "/people/views", url.Values{"kind": {"companies"}, "name": {"Large ones"}, "list": {"least=200"}})
	if _, body := v.do("GET", "/people/companies", nil); !strings.Contains(body, "Large ones") {
		t.Error("a saved view of companies is not offered")
	}
	if _, body := v.do("GET", "/people", nil); strings.Contains(body, "Large ones") {
		t.Error("a view of companies stands among those of people")
	}
	res, _ := v.do("POST", "/people/companies/people", url.Values{"id": {"1", "3"}})
	to := res.Header.Get("Location")
	if _, count := v.do("GET", strings.Replace(to, "/people?", "/people/count?", 1), nil); !strings.Contains(count,
		"<b>2</b>") {
		t.Errorf("the people of two companies: %s at %s", count, to)
	}
	// All as described: the same companies, as a description of their people.
	for list, want := range map[string]string{"": "3", "country=NO": "2", "least=200&industry=Ports": "2",
		"text=c1.exa": "1", "text=kelp&country=CA": "0"} {
		res, _ := v.do("POST", "/people/companies/people", url.Values{"everybody": {"1"}, "list": {list}})
		if _, count := v.do("GET", strings.Replace(res.Header.Get("Location"), "/people?", "/people/count?", 1),
			nil); !strings.Contains(count, "<b>"+want+"</b>") {
			t.Errorf("the people of all companies with %q: %s", list, count)
		}
	}
	if res, _ := v.do("POST", "/people/companies/people",
		url.Values{}); res.Header.Get("Location") != "/people/companies?" {
		t.Errorf("nothing ticked leads to %q", res.Header.Get("Location"))
	}
	if res, body := v.do("GET", "/people/companies/export?form=csv&least=200", nil); res.StatusCode != http.StatusOK ||
		!strings.Contains(body, "Maple Works,c1.example,Ports,200") || strings.Contains(body, "Fjord") {
		t.Errorf("companies as a file: %s %q", res.Status, body)
	}
	if res, _ := v.do("GET", "/people/companies/export?form=vcard", nil); res.StatusCode != http.StatusBadRequest {
		t.Errorf("companies as cards: %s", res.Status)
	}
	// Audiences.
	for _, a := range []store.Audience{{Name: "Norway", Live: true, OwnerID: new(int64)}, {Name: "Circle"}} {
		a.OwnerID = nil
		a.Rule.V = rule.FieldIs(person.Country, "NO")
		_, err := x.e.SaveAudience(t.Context(), a)
		x.must(err)
	}
	x.settle()
	for query, want := range map[string][]string{"": {"Circle", "Norway"}, "order=size": {"Norway", "Circle"},
		"kind=live": {"Norway"}, "kind=hand": {"Circle"}, "kind=mine": {}, "text=country": {"Norway"}} {
		_, body := v.do("GET", "/people/audiences?"+query, nil)
		if !order(body, want...) || len(want) == 1 &&
			order(body, map[string]string{"Norway": "Circle", "Circle": "Norway"}[want[0]]) || len(want) == 0 &&
			!strings.Contains(body, "No audience is like that") {
			t.Errorf("%q does not list %v", query, want)
		}
	}
}

// A page knows how far it has been told of changes when it is made.
func TestAPageKnowsHowFarItWasTold(t *testing.T) {
	x := newSite(t)
	_, body := x.visitor().signIn("rep").do("GET", "/people", nil)
	if !regexp.MustCompile(`data-seen="[0-9a-z]+\.[0-9]+"`).MatchString(body) {
		t.Error("it does not")
	}
}

// A large list is written as work: the page of it shows how far it is and leads to the
// file, for those who may have it.
func TestALargeListIsWrittenAsWork(t *testing.T) {
	x := newSite(t)
	x.e.People.BigExport = 1
	x.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example", Country: "NO"})
	x.meet(store.NewPerson{First: "Bo", Email: "bo@x.example", Country: "CA"})
	v := x.visitor().signIn("marketer")
	res, _ := v.do("POST", "/people/export", url.Values{"form": {"csv"}})
	at := res.Header.Get("Location")
	if res.StatusCode != http.StatusSeeOther || !strings.HasPrefix(at, "/people/work/") {
		t.Fatalf("%s to %s", res.Status, at)
	}
	if _, body := v.do("GET", at, nil); !strings.Contains(body, "You can leave this page meanwhile") ||
		strings.Contains(body, at+"/file") {
		t.Errorf("the page before it is done: %.600s", body)
	}
	if res, _ := v.do("GET", at+"/file", nil); res.StatusCode != http.StatusSeeOther {
		t.Errorf("a file that is not there yet: %s", res.Status)
	}
	x.must(x.e.RunBatches(t.Context()))
	if _, body := v.do("GET", at, nil); !strings.Contains(body, at+"/file") || !strings.Contains(body, "2 people, 1 kB") {
		t.Errorf("the page when it is done: %.900s", body)
	}
	res, file := v.do("GET", at+"/file", nil)
	if res.StatusCode != http.StatusOK || !strings.Contains(file, "ana@fjord.example") ||
		!strings.Contains(file, "bo@x.example") || !strings.Contains(res.Header.Get("Content-Disposition"), `.csv"`) {
		t.Errorf("the file: %s %s", res.Status, file)
	}
	if res, _ := x.visitor().signIn("rep").do("GET", at+"/file", nil); res.StatusCode != http.StatusForbidden {
		t.Errorf("a rep gets it: %s", res.Status)
	}
	if _, body := v.do("GET", "/people/work", nil); !strings.Contains(body, ".csv") {
		t.Error("the list of work does not name it")
	}
	// One of a list of one is answered at once, and another form is none.
	if res, file := v.do("POST", "/people/export?text=ana", url.Values{"form": {"csv"}}); res.StatusCode != http.StatusOK ||
		!strings.Contains(file, "ana@") || strings.Contains(file, "bo@") {
		t.Errorf("one: %s %s", res.Status, file)
	}
	if res, _ := v.do("POST", "/people/export", url.Values{"form": {"exe"}}); res.StatusCode != http.StatusBadRequest {
		t.Errorf("no form: %s", res.Status)
	}
}

// The people of a company are those of its number, whatever else is called as it is.
func TestPeopleOfACompany(t *testing.T) {
	x := newSite(t)
	x.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example", Company: "Fjord"})
	x.meet(store.NewPerson{First: "Bo", Email: "bo@sund.example", Company: "Sund"})
	x.exec("update company set name = 'Fjord', domain = '' where domain = 'sund.example' or name = 'Sund'")
	v := x.visitor().signIn("marketer")
	for _, c := range []struct{ who, not string }{{"Ana", "Bo"}, {"Bo", "Ana"}} {
		var id int64
		x.must(x.s.DB().QueryRowContext(t.Context(), "select company_id from person where first_name = $1", c.who).
			Scan(&id))
		_, body := v.do("GET", fmt.Sprintf("/people/companies/%d", id), nil)
		if !strings.Contains(body, ">"+c.who+"<") || strings.Contains(body, ">"+c.not+"<") {
			t.Errorf("the company of %s shows others", c.who)
		}
	}
}

// A hundred tags are a page: the next ones come on asking, each once, and a page stays small.
func TestManyTags(t *testing.T) {
	x := newSite(t)
	v := x.visitor().signIn("marketer")
	for i := range 230 {
		x.exec(fmt.Sprintf("insert into tag (name, created_at) values ('%s %d', now())", []string{"Tag", "tag", "Ört"}[i%3], i))
	}
	seen, address := map[string]int{}, "/people/tags"
	for range 5 {
		_, body := v.do("GET", address, nil)
		if len(body) > 100_000 {
			t.Fatalf("a page of %d bytes", len(body))
		}
		for _, part := range strings.Split(body, `<a href="/people/tags/`)[1:] {
			name, _, _ := strings.Cut(part, "<")
			seen[name]++
		}
		_, more, ok := strings.Cut(body, `hx-get="/people/tags?after=`)
		if !ok {
			break
		}
		more, _, _ = strings.Cut(more, `"`)
		address = "/people/tags?after=" + html.UnescapeString(more)
	}
	if len(seen) != 230 {
		t.Errorf("%d of 230 tags are met", len(seen))
	}
	for name, n := range seen {
		if n != 1 {
			t.Errorf("%s is met %d times", name, n)
		}
	}
}
