package message

import (
	"strings"
	"testing"

	"ombak/internal/core/person"
	"ombak/internal/core/rule"
)

func there(target string) bool { return target == "/p/alarms" }

// TestTheProofNamesEachFault breaks a sound message in one way after another.
func TestTheProofNamesEachFault(t *testing.T) {
	sound := func() Document {
		d := Simple("Three alarms",
			`<div>Dear {{ person.first_name | default: "you" }}, <a href="/p/alarms">look</a></div>`)
		d.Preheader = Words{Else: "x"}
		d.Use([]Group{{7, "German", rule.FieldIs(person.Language, "de")}})
		return d
	}
	d := sound()
	if got := d.Proof(there); len(got) != 0 {
		t.Fatalf("a sound message: %v", got)
	}
	with := func(k Kind, c Content) func(*Document) {
		return func(d *Document) {
			id, err := d.Insert(k, 1)
			must(t, err)
			must(t, d.Set(id, Else, c))
		}
	}
	for _, c := range []struct {
		name  string
		f     func(*Document)
		want  string
		grave bool
	}{
		{"no subject", func(d *Document) { d.Subject = Words{Else: " "} }, "no subject", true},
		{"a long subject", func(d *Document) {
			d.Subject[Else] = strings.Repeat("ab ", 20)
		}, "about 60 letters", false},
		{"no preheader", func(d *Document) { d.Preheader = nil }, "no preheader", false},
		{"nothing in it", func(d *Document) { d.Sections = nil }, "nothing in it", true},
		{"an empty text", with(Text, Content{}), "the text is empty", true},
		{"an empty heading", with(Heading, Content{}), "heading is empty", true},
		{"a mute button", with(Button, Content{Link: "/p/alarms"}), "says nothing", true},
		{"a button to nowhere", with(Button, Content{Label: "x"}), "leads nowhere", true},
		{"a button to a page that is not there", with(Button, Content{Label: "x", Link: "/p/gone"}), "no such page",
			true},
		{"a button with a script", with(Button, Content{Label: "x", Link: "javascript:x()"}), "no address", true},
		{"a link to a page that is not there", with(Text, Content{Text: `<a href="/g/gone">the guide</a>`}),
			"“the guide” leads to /g/gone", true},
		{"a link that is none", with(Text, Content{Text: `<a>the guide</a>`}), "", false},
		{"a picture without words", with(Picture, Content{Picture: "/pictures/a.png"}), "no words for those", true},
		{"no picture", with(Picture, Content{}), "no picture", true},
		{"an empty list", with(List, Content{}), "list is empty", true},
		{"an empty quote", with(Quote, Content{By: "x"}), "quote is empty", true},
		{"no item of the shelf", with(ShelfItem, Content{}), "no item of the shelf", true},
		{"no way out", func(d *Document) { d.Bare = true }, "no way to opt out", true},
		{"too heavy", func(d *Document) {
			must(t, d.Set(1, Else, Content{Text: strings.Repeat("<p>abcdefghij</p>", 5000)}))
		}, "kB", false},
		{"half translated", func(d *Document) {
			d.Use(append(d.Groups, Group{ID: 8, Name: "Spanish"}))
			must(t, d.Set(1, 7, Content{Text: "<div>Hallo</div>"}))
			d.Subject[7] = "Drei"
		}, "no version for Spanish", false},
	} {
		d := sound()
		c.f(&d)
		got := d.Proof(there)
		ok := c.want == "" && len(got) == 0
		for _, f := range got {
			ok = ok || c.want != "" && strings.Contains(f.Text, c.want) && f.Grave == c.grave
		}
		if !ok {
			t.Errorf("%s: %+v", c.name, got)
		}
	}
	d = sound()
	d.Bare = true
	must(t, d.Set(1, Else, Content{Text: `<div>x <a href="/opt-out">no more</a></div>`}))
	if got := d.Proof(there); len(got) != 0 {
		t.Errorf("with a way out of its own: %v", got)
	}
	if got, err := render(t, d, Else, Values{}, Addresses{OptOut: "https://o.example/u"}); err != nil ||
		strings.Contains(got.HTML, OptOutLink) || strings.Count(got.HTML, "https://o.example/u") != 1 {
		t.Errorf("the way out: %v\n%s", err, got.HTML)
	}
}

func TestWhatEachGroupNeeds(t *testing.T) {
	d := Simple("For {{ company.name }}", `<div>Dear {{ person.first_name }}{{ person.city | default: "x" }}</div>`)
	d.Use([]Group{{7, "German", rule.FieldIs(person.Language, "de")},
		{8, "Spanish", rule.FieldIs(person.Language, "es")}})
	must(t, d.Set(1, 7, Content{Text: `<div>{{ person.title }}</div>`}))
	d.Subject[7] = "Hallo"
	for g, want := range map[int64]string{Else: "company.name person.first_name", 7: "person.title",
		8: "company.name person.first_name"} {
		if got := strings.Join(d.NeededBy(g), " "); got != want {
			t.Errorf("group %d needs %q", g, got)
		}
	}
	grid := d.Grid()
	if len(grid) != 2 || !grid[0].Has[0] || grid[0].Has[1] || !grid[1].Has[0] || grid[1].Has[1] ||
		!strings.HasPrefix(grid[1].Words, "Dear") {
		t.Errorf("%+v", grid)
	}
}
