package web

import (
	"fmt"
	"html"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"ombak/internal/core/sequence"
	"ombak/internal/store"
)

// From a starter to a launch: its parts are made from the parts list, and people are put in,
// held and taken out by hand, from their page and from the list.
func TestPlanFirstPartsLater(t *testing.T) {
	x := newSite(t)
	ana := x.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example", Country: "NO"})
	x.meet(store.NewPerson{First: "Bo", Email: "bo@x.example"})
	v := x.visitor().signIn("marketer")
	res, _ := v.do("POST", "/sequences", url.Values{"name": {""}, "starter": {"three"}})
	at := res.Header.Get("Location")
	if res.StatusCode != http.StatusSeeOther || !strings.HasPrefix(at, "/sequences/") {
		t.Fatalf("begun: %s %s", res.Status, at)
	}
	var id int64
	fmt.Sscanf(at, "/sequences/%d", &id)
	d := drafting{visitor: v, id: id}
	_, body := v.do("GET", at+"/parts", nil)
	if !strings.Contains(body, "3</b> of 3 to be made") || strings.Count(body, "Write it") != 3 {
		t.Errorf("the parts list: %.2000s", body)
	}
	first := d.draft().Plan.V.Start
	user, err := x.s.Users(t.Context())
	x.must(err)
	d.post(fmt.Sprintf("/steps/%d/making", first), url.Values{"who": {fmt.Sprint(user[0].ID)}, "by": {"2026-04-01"}})
	if m := d.draft().Plan.V.Step(first).About().Make; m.Who != user[0].ID || m.By.String() != "2026-04-01" {
		t.Errorf("who makes it: %+v", m)
	}
	if _, body = v.do("GET", at+"/parts", nil); !strings.Contains(body, "late") {
		t.Error("what is late is not said to be")
	}
	if _, body = d.post(fmt.Sprintf("/steps/%d/making", first), url.Values{"by": {"soon"}}); !strings.Contains(body,
		"Choose a day") {
		t.Error("a day that is none is kept")
	}
	for _, p := range d.draft().Plan.V.Parts() {
		res, _ := v.do("POST", fmt.Sprintf("%s/steps/%d/make", at, p.Step), url.Values{"n": {fmt.Sprint(d.draft().N)}})
		to := res.Header.Get("Location")
		if !strings.HasPrefix(to, "/content/messages/") {
			t.Fatalf("made: %s to %s", res.Status, to)
		}
		w := &writer{visitor: v, x: x, t: t, at: to}
		fmt.Sscanf(to, "/content/messages/%d", &w.id)
		if code, _ := w.press(0, 0, "keep", "subject", "Hello"); code != http.StatusSeeOther {
			t.Fatalf("kept: %d", code)
		}
	}
	if _, body = d.post(fmt.Sprintf("/steps/%d/make", first), url.Values{}); !strings.Contains(body, "nothing is missing") &&
		!strings.Contains(body, "Nothing is missing") {
		t.Error("a part is made twice")
	}
	d.post("/settings", setting("", "hand", "name", "Three", "ground", "other existing customers"))
	_, body = v.do("GET", at+"/launch", nil)
	if body = html.UnescapeString(body); !strings.Contains(body, "whom somebody puts in by hand") ||
		!strings.Contains(body, "Day 23") {
		t.Errorf("the launch does not say what goes out when: %.3000s", body)
	}
	if _, body = d.post("/launch", url.Values{}); !strings.Contains(body, "Launched.") {
		t.Fatalf("not launched: %.900s", body)
	}
	page := fmt.Sprintf("/people/%d", ana)
	way := func(do string, kv ...string) string {
		t.Helper()
		form := url.Values{"do": {do}, "sequence": {fmt.Sprint(id)}}
		for i := 0; i < len(kv); i += 2 {
			form.Set(kv[i], kv[i+1])
		}
		v.do("POST", page+"/way", form)
		_, body := v.do("GET", page, nil)
		return html.UnescapeString(body)
	}
	for _, c := range []struct{ do, want string }{{"put in", "Put in."}, {"put in", "does not let them in: are on it"},
		{"hold", "Held: nothing goes out"}, {"hold", "it is so already"}, {"let go on", "They go on."}, {"sing", "nobody can do"}} {
		if body := way(c.do); !strings.Contains(body, c.want) && !strings.Contains(body, strings.ToUpper(c.want[:1])+c.want[1:]) {
			t.Errorf("%s: %q is not said", c.do, c.want)
		}
	}
	second := d.draft().Plan.V.Step(first).About().To[sequence.Next]
	if body := way("move", "step", fmt.Sprint(second)); !strings.Contains(body, "at “Second”") {
		t.Error("she is not moved to the second")
	} else {
		_, link, _ := strings.Cut(body, `<a href="/content/messages/`)
		link, _, _ = strings.Cut(link, `"`)
		if _, words := v.do("GET", "/content/messages/"+link, nil); !strings.Contains(words, "Words for Ana alone") {
			t.Errorf("what her next email says cannot be changed for her: %q leads to %.300s", link, words)
		}
	}
	if body := way("take out"); !strings.Contains(body, "taken out by hand") {
		t.Error("she is not taken out")
	}
	// Many at once, as work that is watched.
	res, _ = v.do("POST", "/people/bulk", url.Values{"everybody": {"1"}, "do": {"put in"}, "sequence": {fmt.Sprint(id)}})
	if to := res.Header.Get("Location"); !strings.HasPrefix(to, "/people/work/") {
		t.Fatalf("many: %s to %s", res.Status, to)
	}
	x.must(x.e.RunBatches(t.Context()))
	if n, err := x.s.EnteredSince(t.Context(), id, now); err != nil || n != 2 { // Ana has been there
		t.Errorf("%d have entered, %v", n, err)
	}
	if res, _ := x.visitor().signIn("rep").do("POST", page+"/way", url.Values{"do": {"put in"}}); res.StatusCode !=
		http.StatusForbidden {
		t.Errorf("a rep: %s", res.Status)
	}
	// As a file, and back; as a list.
	res, file := v.do("GET", at+"/file", nil)
	if res.StatusCode != http.StatusOK || !strings.Contains(file, `"ombak": "sequence"`) {
		t.Errorf("the file: %s", res.Status)
	}
	if to, said := v.bring("sequence.json", file); !strings.HasPrefix(to, "/sequences/") || !strings.Contains(said, "Imported") {
		t.Errorf("imported: %s, %.300s", to, said)
	}
	if to, said := v.bring("sequence.json", "{}"); to != "/sequences?new=1" || !strings.Contains(said, "no file of a sequence") {
		t.Errorf("no sequence: %s, %.300s", to, said)
	}
	if _, body = v.do("GET", at+"?as=list", nil); !strings.Contains(body, "told-steps") || strings.Contains(body, `id="map"`) {
		t.Error("it is not told as a list")
	}
	if _, body = v.do("GET", at, nil); !strings.Contains(body, "told-steps") {
		t.Error("it is not told as was chosen last")
	}
	if _, body = v.do("GET", at+"?as=map", nil); !strings.Contains(body, `id="map"`) {
		t.Error("it is not drawn again")
	}
}

// bring imports a file, and answers where it leads and what is said there.
func (v *visitor) bring(name, text string) (to, said string) {
	v.t.Helper()
	res, _ := v.upload("/sequences/import", name, []byte(text))
	if to = res.Header.Get("Location"); to != "" {
		_, said = v.do("GET", to, nil)
	}
	return to, html.UnescapeString(said)
}
