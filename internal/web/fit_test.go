package web

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// TestTheFitByForm writes a fit and bands, line by line, and finds them where
// people are shown.
func TestTheFitByForm(t *testing.T) {
	x := newSite(t)
	x.scored()
	ana := x.meet(store.NewPerson{First: "Ana", Last: "Strand", Email: "ana@fjord.example", Country: "NO"})
	x.meet(store.NewPerson{First: "Bo", Email: "bo@x.example", Country: "CA"})
	v := x.visitor().signIn("marketer")
	if _, body := v.do("GET", "/scoring/fit", nil); !strings.Contains(body, "Nothing makes a fit yet") {
		t.Error("an empty fit says nothing")
	}
	kept, err := x.s.Model(t.Context())
	x.must(err)
	form := url.Values{"form": {"1"}, "do": {"line"}, "since": {fmt.Sprint(kept.DraftChanges)}}
	if _, body := v.do("GET", "/scoring/fit?"+form.Encode(), nil); !strings.Contains(body, `name="p.f0"`) ||
		!strings.Contains(body, `name="s.f0.0"`) || strings.Contains(body, `value="score"`) {
		t.Error("another line adds none, or offers what a fit cannot ask")
	}
	line := func(n int, points, country string) {
		f := fmt.Sprintf("f%d", n)
		form.Set("p."+f, points)
		for k, val := range map[string]string{"j." + f: "all", "s." + f + ".0": "field country",
			"k." + f + ".0": "field country", "o." + f + ".0": "is", "v." + f + ".0": country} {
			form.Set(k, val)
		}
	}
	line(0, "30", "norway")
	line(2, "ten", "CA") // the second was removed in between
	form.Set("do", "save")
	form["fbn"], form["fbf"] = []string{"far", "near", ""}, []string{"0", "50", ""}
	form["bn"], form["bf"] = []string{"calm", "high"}, []string{"0", "15"}
	if res, body := v.do("POST", "/scoring/fit", form); res.StatusCode != http.StatusUnprocessableEntity ||
		!strings.Contains(body, "“ten”") && !strings.Contains(body, "&#34;ten&#34;") ||
		!strings.Contains(body, `value="ten"`) || !strings.Contains(body, `value="near"`) {
		t.Errorf("points that are no number: %s", res.Status)
	}
	form.Set("p.f2", "10")
	form["fbf"] = []string{"5", "50", ""}
	if res, body := v.do("POST", "/scoring/fit", form); res.StatusCode != http.StatusUnprocessableEntity ||
		!strings.Contains(body, "begins at 0") {
		t.Errorf("a lowest band from 5: %s", res.Status)
	}
	form["fbf"] = []string{"0", "50", ""}
	if res, _ := v.do("POST", "/scoring/fit", form); res.StatusCode != http.StatusSeeOther {
		t.Fatalf("keeping: %s", res.Status)
	}
	if kept, err = x.s.Model(t.Context()); err != nil || kept.Draft == nil || len(kept.Fit) != 0 {
		t.Fatalf("it is no draft: %+v, %v", kept, err)
	}
	v.do("POST", "/scoring/draft/over", url.Values{"since": {fmt.Sprint(kept.DraftChanges)}})
	m, err := x.s.Model(t.Context())
	x.must(err)
	if len(m.Fit) != 2 || m.Fit[0].If.All[0].If.Value != "NO" || m.Fit[1].Points != 10 || len(m.FitBands) != 2 ||
		len(m.Bands) != 2 || len(m.Rules) != 1 {
		t.Fatalf("kept: %+v", m)
	}
	if _, body := v.do("GET", "/scoring/fit", nil); !strings.Contains(body, "2 people by fit") ||
		!strings.Contains(body, "1 people with a fit of 70 to 79") {
		t.Error("where people stand is not shown")
	}
	if _, body := v.do("GET", fmt.Sprintf("/people/%d", ana), nil); !strings.Contains(body, "<b>75</b> fit, near") ||
		!strings.Contains(body, "country is Norway") {
		t.Error("her page does not say her fit")
	}
	ask := rule.Rule{If: &rule.Condition{About: rule.ByFit, Op: rule.AtLeast, N: 50}}
	q := shell.ListQuery{Rule: ask, Order: store.ByScore, Columns: []string{"fit"}}
	if _, body := v.do("GET", "/people?"+q.Values().Encode(), nil); !strings.Contains(body, "ana@fjord.example") ||
		strings.Contains(body, "bo@x.example") || !strings.Contains(body, ">75<") {
		t.Error("the list by fit")
	}
	// A field that the fit asks for cannot be taken away.
	own := store.OwnField{Name: "Pens", Type: person.Number}
	x.must(x.s.InTx(t.Context(), func(tx store.Tx) error {
		var err error
		own.ID, err = tx.AddOwnField(t.Context(), own)
		return err
	}))
	m.Fit = append(m.Fit,
		rule.Weighed{If: rule.Rule{If: &rule.Condition{Field: person.Own(own.ID), Op: rule.AtLeast, Value: "2"}},
			Points: 5})
	x.must(x.e.SaveModel(t.Context(), m))
	v.do("POST", fmt.Sprintf("/people/fields/%d", own.ID), url.Values{"do": {"remove"}, "sure": {"1"}})
	if _, body := v.do("GET", "/people/tags", nil); !strings.Contains(body, "asked for by the fit") {
		t.Error("a field in the fit went, or nothing says that it is asked for")
	}
	if res, _ := x.visitor().signIn("rep").do("POST", "/scoring/fit", form); res.StatusCode != http.StatusForbidden {
		t.Errorf("a rep changes the fit: %s", res.Status)
	}
}
