package web

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"ombak/internal/core/right"
	"ombak/internal/store"
)

// A deal has a page of its own, on which its rep plans it; the course shows it where it is expected, and puts it
// elsewhere; a lead says what is wanted of a month.
func TestADealAndTheCourse(t *testing.T) {
	x := newSite(t)
	x.scored()
	x.must(x.e.UsualStages(t.Context()))
	rep := x.userOf(right.Rep)
	seller, lead, marketer := x.visitor().signIn("rep"), x.visitor().signIn("lead"), x.visitor().signIn("marketer")
	if _, body := lead.do("GET", "/pipeline/course", nil); !strings.Contains(body, "No deal is open") {
		t.Error("an empty course says nothing")
	}
	ana := x.meet(store.NewPerson{First: "Ana", Last: "Strand", Email: "ana@fjord.example", Company: "Fjord Farms"})
	x.must(x.e.AskForThem(t.Context(), ana, rep))
	list, err := x.s.HandoffsOf(t.Context(), store.Of(ana))
	x.must(err)
	id, err := x.e.Accept(t.Context(), list[0].ID, rep)
	x.must(err)
	at := fmt.Sprintf("/pipeline/%d", id)
	plan := url.Values{"name": {"Fjord, three pens"}, "expected": {"2026-05-20"}, "next": {"<b>call</b>"}, "next_on": {""}}
	if res, _ := seller.do("POST", at+"/plan", plan); res.StatusCode != http.StatusSeeOther {
		t.Fatalf("planned: %s", res.Status)
	}
	_, body := marketer.do("GET", at, nil)
	if !strings.Contains(body, "Fjord, three pens") || strings.Contains(body, "<b>call</b>") ||
		!strings.Contains(body, "fieldset class=\"plain\" disabled") {
		t.Error("a marketer does not see it, or could change it, or what was typed is no text")
	}
	plan.Set("expected", "soon")
	if res, body := seller.do("POST", at+"/plan", plan); res.StatusCode != http.StatusUnprocessableEntity ||
		!strings.Contains(body, "“soon” is no day") || !strings.Contains(body, `value="soon"`) {
		t.Errorf("expected soon: %s", res.Status)
	}
	plan.Set("expected", "2099-01-01")
	if res, body := seller.do("POST", at+"/plan", plan); res.StatusCode != http.StatusUnprocessableEntity ||
		!strings.Contains(body, "next ten years") {
		t.Errorf("expected in 2099: %s", res.Status)
	}
	if res, _ := marketer.do("POST", at+"/plan", plan); res.StatusCode != http.StatusForbidden {
		t.Errorf("a marketer plans it: %s", res.Status)
	}
	if res, _ := seller.do("POST", at+"/amount", url.Values{"amount": {"1200"}, "back": {"deal"}}); res.Header.
		Get("Location") != at {
		t.Errorf("back from the amount: %s", res.Header.Get("Location"))
	}
	_, body = lead.do("GET", "/pipeline/course?whose=all&months=3", nil)
	if !strings.Contains(body, `data-day="2026-05-20"`) || !strings.Contains(body, "expected on 20 May 2026") ||
		!strings.Contains(body, `href="`+at+`"`) {
		t.Errorf("it is not on the course: %.3000s", body)
	}
	if _, body = lead.do("GET", "/pipeline/course?whose=mine", nil); !strings.Contains(body, "No deal is open") {
		t.Error("it is the lead's")
	}
	stages, err := x.s.Stages(t.Context())
	x.must(err)
	seller.do("POST", at+"/place", url.Values{"day": {"2026-07-02"}, "stage": {fmt.Sprint(stages[1].ID)}})
	d, err := x.s.Deal(t.Context(), id)
	x.must(err)
	if d.Stage != stages[1].ID || d.Expected.Format("2006-01-02") != "2026-07-02" {
		t.Errorf("placed: %+v", d)
	}
	if res, _ := seller.do("POST", at+"/place", url.Values{"day": {"noon"}}); res.StatusCode != http.StatusBadRequest {
		t.Errorf("placed at noon: %s", res.Status)
	}
	lead.do("POST", "/pipeline/target", url.Values{"target": {"5000"}})
	if w := x.e.Workspace(); w.Target != 5000_00 {
		t.Errorf("the target is %d", w.Target)
	}
	if res, _ := seller.do("POST", "/pipeline/target", url.Values{"target": {"1"}}); res.StatusCode != http.StatusForbidden {
		t.Errorf("a rep sets the target: %s", res.Status)
	}
	if res, _ := lead.do("GET", "/pipeline/999999", nil); res.StatusCode != http.StatusNotFound {
		t.Errorf("a deal that is none: %s", res.Status)
	}
}
