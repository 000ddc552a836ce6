package shell

import (
	"encoding/json"
	"math/rand/v2"
	"net/url"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
	"ombak/internal/web/formtest"
)

var offered = &rule.Catalogue{
	Own: []person.Definition{{Field: person.Own(1), Name: "Pens", Type: person.Number},
		{Field: person.Own(2), Name: "Fish", Type: person.SeveralOf, Options: []string{"salmon", "trout"}},
		{Field: person.Own(3), Name: "Since", Type: person.Date},
		{Field: person.Own(4), Name: "Open", Type: person.YesNo},
		{Field: person.Own(5), Name: "Water", Type: person.OneOf, Options: []string{"sea", "lake"}}},
	Tags: []rule.Named{{ID: 1, Name: "fair"}, {ID: 2, Name: "<b>"}}, Audiences: []rule.Named{{ID: 3, Name: "Keen"}},
	Sequences: []rule.Named{{ID: 4, Name: "Guide"}}, Stages: []rule.Named{{ID: 5, Name: "Offer"}},
	Purposes: []rule.Named{{ID: 6, Name: "Marketing"}}, Pages: []rule.Named{{ID: 7, Name: "Alarms"}},
	Messages: []rule.Named{{ID: 8, Name: "Hello"}},
	Models: []rule.Scored{{ID: 1, Name: "Engagement", Bands: []rule.Band{{Name: "calm", To: 5}, {Name: "high", From: 15}},
		Fit:      rule.Fit{{If: rule.FieldIs(person.Country, "NO"), Points: 5}},
		FitBands: []rule.Band{{Name: "far", To: 50}, {Name: "near", From: 50}},
		Rules:    []rule.Named{{ID: 1, Name: "click"}, {ID: 4, Name: "open"}}},
		{ID: 9, Name: "Loans", Bands: []rule.Band{{Name: "calm", To: 3}, {Name: "<b>", From: 3}},
			Rules: []rule.Named{{ID: 1, Name: "download"}}}},
}

// anyRule is a rule at random that can be asked, in the form in which the
// editor has rules: groups within a group.
func anyRule(rnd *rand.Rand, depth int) rule.Rule {
	var list []rule.Rule
	for range 1 + rnd.IntN(3) {
		if depth > 0 && rnd.IntN(3) == 0 {
			list = append(list, anyRule(rnd, depth-1))
			continue
		}
		c := anyCondition(rnd)
		list = append(list, rule.Rule{If: &c})
	}
	switch rnd.IntN(3) {
	case 0:
		return rule.Rule{Any: list}
	case 1:
		return rule.Rule{None: list}
	}
	return rule.Rule{All: list}
}

// chooseOf has a condition ask for one of what there is.
func chooseOf(rnd *rand.Rand, c *rule.Condition) {
	if list, _ := c.OfModels(offered); len(list) > 0 {
		c.Choose(offered, list[rnd.IntN(len(list))].Value)
	}
}

func anyCondition(rnd *rand.Rand) rule.Condition {
	day := func(n int) string { return time.Date(2026, 1, 1+n, 0, 0, 0, 0, time.UTC).Format(time.DateOnly) }
	for {
		subjects := rule.Subjects(offered)
		c := rule.Begin(subjects[rnd.IntN(len(subjects))].Key, offered)
		ops := c.Ops(offered)
		c.Op = ops[rnd.IntN(len(ops))]
		d, _ := offered.Define(c.Field)
		switch {
		case c.Signal != nil:
			c.N, c.Days = rnd.IntN(9), []int{0, 7, 180}[rnd.IntN(3)]
			if c.Op == rule.Between {
				c.M = c.N + rnd.IntN(4)
			}
			if c.Days == 0 && rnd.IntN(2) == 0 {
				c.From, c.To = day(rnd.IntN(20)), day(20+rnd.IntN(20))
			}
			switch rnd.IntN(3) {
			case 0:
				c.Signal.Sequence = 4
			case 1:
				if c.Signal.Kind == signal.Click {
					c.Signal.Message = 8
				}
			}
		case c.OfModel() && c.Counts():
			chooseOf(rnd, &c)
			if c.N = rnd.IntN(50); c.Op == rule.Between {
				c.M = c.N + rnd.IntN(9)
			}
		case c.About == rule.InBand, c.About == rule.InFitBand:
			chooseOf(rnd, &c)
		case c.About == rule.DealOf:
			c.Value = []string{`a "quoted" <b>`, "Spring"}[rnd.IntN(2)]
		case c.About == rule.Lost || c.About == rule.Won:
			if c.Days = 0; c.Op == rule.Within {
				c.Days = 1 + rnd.IntN(400)
			}
		case c.About != "":
		default:
			c.Days = 0
			switch c.Op {
			case rule.Within:
				c.Days = 1 + rnd.IntN(300)
			case rule.Between:
				if c.From, c.To = day(1), day(30); d.Type == person.Number {
					c.From, c.To = "1.5", "20"
				}
			case rule.Known, rule.NotKnown:
			default:
				v := map[person.Type]string{person.CountryType: "NO", person.LanguageType: "nb-NO",
					person.ZoneType: "Europe/Oslo", person.Number: "2.5", person.Date: day(3),
					person.YesNo: "yes"}[d.Type]
				if v == "" {
					v = []string{`a "quoted" <b>`, "O’Neil & Sons", "50 %", "Ngô", "Oban, Scotland; north"}[rnd.IntN(5)]
				}
				if len(d.Options) > 0 {
					v = d.Options[rnd.IntN(len(d.Options))]
				}
				if c.Op == rule.OneOf {
					c.Values = []string{v}
					if d.Type == person.Text {
						c.Values = append(c.Values, "another", `with "quotes"`)
					}
				} else {
					c.Value = v
				}
			}
		}
		if c.Check(offered) == nil {
			return c
		}
	}
}

// TestTheEditorKeepsWhatItShows shows rules at random in the editor and reads
// the form that a browser would send back, unchanged: it is the same rule.
func TestTheEditorKeepsWhatItShows(t *testing.T) {
	rnd := rand.New(rand.NewPCG(7, 7))
	page, err := TemplateOf("error.html", "rule-editor")
	if err != nil {
		t.Fatal(err)
	}
	for range 400 {
		want := anyRule(rnd, 2)
		var b strings.Builder
		if err := page.ExecuteTemplate(&b, "rule-editor", ViewRule(want, offered)); err != nil {
			t.Fatal(err)
		}
		form := formtest.Sent(t, b.String())
		got, there, err := ReadRule(form, offered)
		if err != nil || !there {
			t.Fatalf("%s: %v", want.Words(offered), err)
		}
		w, err := json.Marshal(want)
		if err != nil {
			t.Fatal(err)
		}
		g, err := json.Marshal(got)
		if err != nil {
			t.Fatal(err)
		}
		if string(w) != string(g) {
			t.Fatalf("%s\ncame back as %s\n%s\n%s", want.Words(offered), got.Words(offered), w, g)
		}
		// As an address it is the same too.
		again, _, err := ReadRule(url.Values{"rule": {string(w)}}, offered)
		if err != nil || again.Words(offered) != want.Words(offered) {
			t.Fatalf("as an address: %v", err)
		}
		if strings.Contains(b.String(), "<b>") {
			t.Fatal("a value was not escaped")
		}
	}
}

// TestTheEditorsButtons presses each button of a nested rule's editor.
func TestTheEditorsButtons(t *testing.T) {
	city := func(v string) rule.Rule { return rule.FieldIs(person.City, v) }
	r := rule.Rule{All: []rule.Rule{city("a"), {Any: []rule.Rule{city("b"), city("c")}}}}
	page, err := TemplateOf("error.html", "rule-editor")
	if err != nil {
		t.Fatal(err)
	}
	for do, want := range map[string]string{
		"remove r.0":     "city is b or city is c",
		"remove r.1.0":   "city is a and city is c",
		"remove r.1":     "city is a",
		"remove r.9":     "city is a and (city is b or city is c)",
		"cond r":         "city is a and (city is b or city is c) and country is ",
		"cond r.1":       "city is a and (city is b or city is c or country is )",
		"group r":        "city is a and (city is b or city is c) and country is ",
		"nonsense":       "city is a and (city is b or city is c)",
		"cond r.0":       "city is a and (city is b or city is c)", // a condition is no group
		"remove r":       "city is a and (city is b or city is c)",
		"group r.1.0.0.": "city is a and (city is b or city is c)",
	} {
		var b strings.Builder
		if err := page.ExecuteTemplate(&b, "rule-editor", ViewRule(r, offered)); err != nil {
			t.Fatal(err)
		}
		form := formtest.Sent(t, b.String())
		form.Set("do", do)
		got, _, err := ReadRule(form, offered)
		if err != nil || got.Words(offered) != want {
			t.Errorf("%q: %q, %v; want %q", do, got.Words(offered), err, want)
		}
	}
	// What is being made does not count yet.
	half := rule.Rule{All: []rule.Rule{city("a"), city(""), {None: []rule.Rule{city(" ")}}}}
	if got := Complete(half, offered); got.Words(offered) != "city is a" {
		t.Errorf("complete: %q", got.Words(offered))
	}
	var many url.Values = map[string][]string{"j.r": {"all"}}
	for i := range 300 {
		many.Set("s.r."+string(rune('a'+i%26))+strings.Repeat("x", i), "score")
	}
	if _, _, err := ReadRule(many, offered); err == nil {
		t.Error("a form of 300 parts was taken")
	}
}
