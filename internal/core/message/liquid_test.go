package message

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// What a template may not do is refused when it is read, with its place and
// the reason; so nothing of it is left to try when it is sent.
func TestWhatTemplatesMayNot(t *testing.T) {
	secret := filepath.Join(t.TempDir(), "secret")
	if err := os.WriteFile(secret, []byte("the sealing key"), 0o600); err != nil {
		t.Fatal(err)
	}
	deep := strings.Repeat("{% if person.city %}", maxDepth+1) + strings.Repeat("{% endif %}", maxDepth+1)
	for name, c := range map[string]struct{ in, why string }{
		"a file":                    {`{% include "` + secret + `" %}`, "no “include”"},
		"a file, trimmed":           {`{%- include "` + secret + `" -%}`, "no “include”"},
		"a loop":                    {`{% for i in (1..9) %}x{% endfor %}`, "no “for”"},
		"a table":                   {`{% tablerow i in (1..9) %}x{% endtablerow %}`, "no “tablerow”"},
		"a variable":                {`{% assign x = "y" %}`, "no “assign”"},
		"a captured text":           {`{% capture x %}y{% endcapture %}`, "no “capture”"},
		"what is not read":          {`{% raw %}{{ x }}{% endraw %}`, "no “raw”"},
		"a range":                   {`{% if (1..99999999) contains 5 %}x{% endif %}`, "cannot stand in a condition"},
		"a range in a filter":       {`{{ person.city | default: (1..9) }}`, "neither a text"},
		"an unknown filter":         {`{{ person.city | inspect }}`, "no filter “inspect”"},
		"an unknown field":          {`{{ person.password }}`, "there is no merge field person.password"},
		"over a line's end":         {"{{\nperson.password\n}}", "there is no merge field person.password"},
		"an unknown field asked":    {`{% if ombak.link_1 %}x{% endif %}`, "there is no merge field ombak.link_1"},
		"an unknown field as value": {`{{ person.city | default: ombak.link_1 }}`, "neither a text"},
		"too few values":            {`{{ person.city | replace: "a" }}`, "is given 1 values"},
		"too many values":           {`{{ person.city | upcase: "a" }}`, "is given 1 values"},
		"something behind a field":  {`{{ person.city person.title }}`, "not “person.title”"},
		"deep":                      {deep, "deep in each other"},
		"many":                      {strings.Repeat("{{ person.city }}", maxMarks+1), "at most"},
		"many filters":              {`{{ person.city` + strings.Repeat(" | upcase", maxFilters+1) + ` }}`, "at most"},
		"long": {`{{ person.city | default: "` + strings.Repeat("x", maxMark) + `" }}`,
			"longer than"},
		"closed and never opened": {`{% endif %}`, "nothing is open"},
		"closed by another":       {`{% if person.city %}{% endunless %}`, "nothing is open"},
		"left open":               {`{% if person.city %}x`, "not closed by {% endif %}"},
		"outside":                 {`{% else %}`, "outside of a condition"},
		"asking nothing":          {`{% if %}x{% endif %}`, "asks nothing"},
		"no condition":            {`{% if == %}x{% endif %}`, "do not fit together"},
		"an index":                {`{{ person["city"] }}`, "no merge field"},
		"a filter within a question": {`{% if person.city | upcase == "A" %}x{% endif %}`,
			"cannot stand in a condition"},
	} {
		for place, d := range map[string]Document{
			"in the subject":       Simple(c.in, "<p>x</p>"),
			"in section 1 (text)":  Simple("s", "<p>"+c.in+"</p>"),
			"in the line behind":   {Style: Plain, Subject: Words{Else: "s"}, Preheader: Words{Else: c.in}},
			"in the text for read": {Style: Plain, Subject: Words{Else: "s"}, Written: Words{Else: c.in}},
		} {
			_, err := Compile(&d, fields)
			fault, ok := errors.AsType[*Fault](err)
			switch {
			case !ok:
				t.Errorf("%s %s: %v", name, place, err)
			case !strings.Contains(err.Error(), c.why):
				t.Errorf("%s %s: %v, want %q", name, place, err, c.why)
			// Conditions may open in one section and close in another: only the whole knows.
			case !strings.HasPrefix(err.Error(), place) && fault.Place != "the text":
				t.Errorf("%s: %v, want it %s", name, err, place)
			}
		}
	}
}

// Whatever a template does to a value, the value and the email stay small: what
// would come out is measured before it is made.
func TestTemplatesStaySmall(t *testing.T) {
	grow := `{{ person.first_name`
	for range maxFilters {
		grow += ` | replace: "a", "` + strings.Repeat("a", 80) + `"`
	}
	many := strings.Repeat(`{{ person.first_name | append: person.first_name }}`, maxMarks)
	for name, c := range map[string]struct{ in, value string }{
		"replacing again and again": {grow + " }}", "aaaaaaaaaa"},
		"appending": {`{{ person.first_name | append: person.first_name | append: person.first_name }}`,
			strings.Repeat("x", maxValue/2)},
		"a long value": {`{{ person.first_name }}`, strings.Repeat("x", maxValue+1)},
		"much in all":  {many, strings.Repeat("x", maxValue/2)},
	} {
		_, err := render(t, Simple("s", "<p>"+c.in+"</p>"), Else, Values{"person.first_name": c.value}, Addresses{})
		if !errors.Is(err, errLong) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// What the language offers, against what Liquid's own documentation says of
// each filter (from memory).
func TestFilters(t *testing.T) {
	v := Values{"person.first_name": "ana maria", "person.own_7": "12.345", "person.city": "2026-04-03"}
	for in, want := range map[string]string{
		`{{ person.first_name | capitalize }}`:                                        "Ana maria",
		`{{ person.first_name | upcase | append: "!" }}`:                              "ANA MARIA!",
		`{{ person.first_name | prepend: "Dr " | downcase }}`:                         "dr ana maria",
		`{{ person.first_name | replace: "a", "o" }}`:                                 "ono morio",
		`{{ person.first_name | remove: "a" }}`:                                       "n mri",
		`{{ person.first_name | truncate: 5 }}`:                                       "ana …",
		`{{ person.first_name | truncatewords: 1, "" }}`:                              "ana",
		`{{ person.first_name | truncate }}`:                                          "ana maria",
		`{{ person.city | date: "%-d %B %Y" }}`:                                       "error",
		`{{ person.city | date: "%d %B %Y" }}`:                                        "03 April 2026",
		`{{ person.city | date: "%99999d" }}`:                                         "error",
		`{{ person.own_7 | round: 1 }}`:                                               "12.3",
		`{{ person.own_7 | plus: 1 | times: 2 | minus: 0.69 }}`:                       "26",
		`{% if person.own_7 > "1" and person.city %}y{% endif %}`:                     "y",
		`{% unless person.title %}none{% endunless %}`:                                "none",
		`{% case person.first_name %}{% when "x", "ana maria" %}b`:                    "error",
		`{% case person.first_name %}{% when "ana maria" %}b{% else %}c{% endcase %}`: "b",
		`a{{- person.first_name -}} b`:                                                "aana mariab",
	} {
		got, err := render(t, Simple(in, "<p>x</p>"), Else, v, Addresses{})
		if want == "error" && err != nil {
			continue
		}
		if err != nil || got.Subject != want {
			t.Errorf("%s: %q, %v, want %q", in, got.Subject, err, want)
		}
	}
	for name := range filters { // whatever a value is, a filter answers or says why not
		f := filters[name]
		for _, value := range []string{"", "x", "12", "1e308", "-1", "2026-01-01", "\xff", strings.Repeat("é", 9000)} {
			mark := "{{ person.first_name | " + name
			for i := range f.needs {
				mark += fmt.Sprintf("%s person.city", map[bool]string{true: ":", false: ","}[i == 0])
			}
			d := Simple(mark+" }}", "<p>x</p>")
			p, err := Compile(&d, fields)
			if err != nil {
				t.Fatalf("%s: %v", mark, err)
			}
			p.Render(Else, Values{"person.first_name": value, "person.city": value}, Addresses{})
		}
	}
}
