package web

import (
	"fmt"
	"html"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/sequence"
	"ombak/internal/engine"
	"ombak/internal/engine/base"
	"ombak/internal/store"
	"ombak/internal/web/sequences"
)

// rest is a kind of step that only this file knows.
type rest struct{ sequence.Pause }

var kindRest *sequence.Kind

func (*rest) Kind() *sequence.Kind { return kindRest }
func (*rest) Exits() []sequence.Exit {
	return []sequence.Exit{"rested", "woken"}
}
func (*rest) Answer(e sequence.Exit) string { return "Is " + string(e) }
func (s *rest) Says(sequence.Names) string  { return "rests for " + s.For.String() }

// A new kind of step is offered, drawn, changed, launched, walked and shown by what is
// there: it brings itself and its form, and nothing else has to know of it.
func TestANewKindOfStep(t *testing.T) {
	kindRest = sequence.Register(50, &sequence.Kind{Word: "rest", Does: "lets them rest", Icon: "hourglass-medium",
		Line: []sequence.Figure{{Count: sequence.Here, Word: "at rest"}}},
		func() sequence.Step {
			r := &rest{}
			r.Title, r.For = "Rest", calendar.Span{N: 3, Unit: calendar.Days}
			return r
		})
	sequences.StepForms["rest"] = sequences.StepForm{Part: "step-pause",
		Read: func(f sequences.Typed, s sequence.Step) error {
			return sequences.ReadSpan(f, "for", &s.(*rest).For)
		}}
	t.Cleanup(func() { delete(sequences.StepForms, "rest") })

	x := newSite(t)
	ana := x.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example", Phone: "+4755500100", Country: "NO"})
	d := x.drafting()
	if _, body := d.do("GET", fmt.Sprintf("/sequences/%d?plus=0.", d.id), nil); !strings.Contains(body,
		"lets them rest") {
		t.Error("it is not offered")
	}
	d.post("/insert", url.Values{"from": {"0"}, "kind": {"call"}})
	code, body := d.post("/insert", url.Values{"from": {"0"}, "kind": {"rest"}})
	if code != http.StatusSeeOther || !strings.Contains(body, "They wait here") ||
		!strings.Contains(body, "Is woken") {
		t.Errorf("inserted: %d; it has no form, or its exits are not drawn", code)
	}
	step := d.draft().Plan.V.Start
	_, body = d.post(fmt.Sprintf("/steps/%d", step),
		url.Values{"title": {"A week of rest"}, "for": {"7"}, "for-unit": {"days"}})
	if !strings.Contains(body, "rests for 7 days") {
		t.Error("its form changed nothing")
	}
	with := setting("Norway", "rule", "v.r.0", "NO", "ground", "other existing customers")
	d.post("/settings", with)
	if _, body = d.post("/launch", url.Values{}); !strings.Contains(body, "Launched.") {
		t.Fatalf("it cannot be launched")
	}
	if _, err := x.e.Decide(t.Context()); err != nil {
		t.Fatal(err)
	}
	_, body = d.do("GET", fmt.Sprintf("/sequences/%d", d.id), nil)
	if body = html.UnescapeString(body); !strings.Contains(body, "1 at rest") {
		t.Error("the map does not count who is there")
	}
	_, body = d.do("GET", fmt.Sprintf("/people/%d", ana), nil)
	if !strings.Contains(body, "A week of rest") {
		t.Error("the person’s page does not say where they stand")
	}
	// Whoever comes to work a week later walks her on.
	later, err := engine.New(t.Context(),
		base.Config{Store: x.s, Clock: tomorrow(8), Mail: noMail{}, URL: "http://ombak.example",
			Domain: "mail.karang.example"})
	x.must(err)
	if _, steps, err := later.AdvanceBatch(t.Context(), 100); err != nil || steps != 1 {
		t.Errorf("%d steps a week later, %v", steps, err)
	}
	if _, body = d.do("GET", fmt.Sprintf("/sequences/%d", d.id), nil); !strings.Contains(html.UnescapeString(body),
		"Is rested") {
		t.Error("what happened lately does not say by which exit she went on")
	}
}

// Every kind of step that ships has its form beside the map.
func TestKindsHaveForms(t *testing.T) {
	for _, k := range sequence.Kinds() {
		if k != kindRest && sequences.StepForms[k.Word].Part == "" {
			t.Errorf("a %s has no form", k.Word)
		}
	}
}

// tomorrow is so many days after now.
type tomorrow int

func (d tomorrow) Now() time.Time { return now.AddDate(0, 0, int(d)) }
