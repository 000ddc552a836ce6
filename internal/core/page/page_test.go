package page

import (
	"maps"
	"slices"
	"strings"
	"testing"

	"ombak/internal/core/act"
	"ombak/internal/core/message"
	"ombak/internal/core/person"
)

// penDepth is a field of the workspace's own.
const penDepth person.Field = "own 4"

func define(f person.Field) (person.Definition, bool) {
	switch f {
	case penDepth:
		return person.Definition{Field: f, Name: "pen depth", Type: person.Number}, true
	case "own 5":
		return person.Definition{Field: f, Name: "species", Type: person.SeveralOf,
			Options: []string{"Salmon", "Trout", "Bass"}}, true
	}
	return person.Define(f)
}

func fields(list []Question) string {
	var out []string
	for _, q := range list {
		out = append(out, string(q.Field))
	}
	return strings.Join(out, ", ")
}

// Of the ladder, each visit asks what is not known yet, so many at once.
func TestTheLadder(t *testing.T) {
	d := New("", "", "Send").WithLadder(person.Title, person.Country, person.PhoneField)
	d.Form.Questions = append(d.Form.Questions, Question{Field: penDepth, Further: true, Must: true})
	for _, x := range []struct {
		atOnce int
		known  Known
		want   string
	}{
		{1, nil, "first name, last name, company, email, title"},
		{0, nil, "first name, last name, company, email"},
		{2, nil, "first name, last name, company, email, title, country"},
		{1, Known{person.FirstName: "Ana", person.LastName: "Sol", person.Company: "Fjordlaks",
			person.EmailField: "ana@fjordlaks.example"}, "email, title"},
		{1, Known{person.FirstName: "Ana", person.Title: "Engineer"}, "last name, company, email, country"},
		{2, Known{person.FirstName: "Ana", person.LastName: "Sol", person.Company: "F",
			person.EmailField: "a@f.example", person.Title: "E", person.PhoneField: "+4721"}, "email, country, own 4"},
		{9, Known{person.FirstName: "Ana", person.LastName: "Sol", person.Company: "F", person.Title: "E",
			person.Country: "NO", person.PhoneField: "+4721", penDepth: "12"}, "email"},
	} {
		d.Form.AtOnce = x.atOnce
		if got := fields(d.Form.Asked(x.known)); got != x.want {
			t.Errorf("%d at once, knowing %v: asks %s, want %s", x.atOnce, x.known, got, x.want)
		}
	}
	// From the second visit on, somebody we do not know is asked nothing of the ladder.
	d.Form.AtOnce, d.Form.Later = 1, true
	for _, x := range []struct {
		known Known
		want  string
	}{{nil, "first name, last name, company, email"}, {Known{}, "first name, last name, company, email"},
		{Known{person.FirstName: "Ana"}, "last name, company, email, title"}} {
		if got := fields(d.Form.Asked(x.known)); got != x.want {
			t.Errorf("later, knowing %v: asks %s, want %s", x.known, got, x.want)
		}
	}
}

func TestAnswersAreChecked(t *testing.T) {
	d := New("", "", "Send").WithLadder(person.Title, person.Country, person.PhoneField)
	d.Form.Questions = append(d.Form.Questions, Question{Field: penDepth, Label: "How deep are your pens?", Must: true},
		Question{Field: "own 5"})
	d.Form.Consents = []Consent{{Purpose: 3, Words: "Yes, send me the newsletter."},
		{Purpose: 4, Words: "You may call me.", Must: true}}
	d.Form.Hidden = []Hidden{{Field: person.Department, Value: "Ponds"},
		{Field: person.City, Param: "city", Value: "Oslo"}, {Field: person.Owner, Value: "Somebody"},
		{Field: penDepth, Param: "depth"}}
	good := map[string]string{"f-first-name": " Ana  Maria ", "f-last-name": "Sol", "f-company": "Fjordlaks",
		"f-email": "Ana@Fjordlaks.Example", "f-own-4": "12,5", "f-own-5": "trout; salmon",
		"agree-3": "1", "agree-4": "1", "utm_source": "trade letter", "utm_campaign": "spring",
		"utm_medium": strings.Repeat("m", 900), "city": "Bergen", "depth": "deep"}
	read := func(change map[string]string, known Known) (Answers, Wrong) {
		v := maps.Clone(good)
		maps.Copy(v, change)
		return d.Form.Read(func(n string) string { return v[n] }, known, define)
	}
	a, wrong := read(nil, nil)
	if len(wrong) > 0 {
		t.Fatalf("good answers are refused: %v", wrong)
	}
	if want := (person.Values{person.FirstName: "Ana Maria", person.LastName: "Sol", person.Company: "Fjordlaks",
		person.EmailField: "ana@fjordlaks.example", penDepth: "12.5",
		"own 5": "Trout" + person.Joint + "Salmon"}); !maps.Equal(a.Values, want) {
		t.Errorf("read %v, want %v", a.Values, want)
	}
	// Of the tags the one that is too long is left out, of the hidden fields what cannot be set or read.
	if want := (person.Values{person.Source: "trade letter", person.Campaign: "spring", person.Department: "Ponds",
		person.City: "Bergen"}); !maps.Equal(a.Hidden, want) {
		t.Errorf("hidden: %v, want %v", a.Hidden, want)
	}
	if want := []Given{{3, "Yes, send me the newsletter."}, {4, "You may call me."}}; !slices.Equal(a.Consents, want) {
		t.Errorf("agreed to %v", a.Consents)
	}
	for _, x := range []struct {
		change map[string]string
		known  Known
		wrong  string // the input, empty: none
		says   string
	}{
		{map[string]string{"f-first-name": " \t"}, nil, "f-first-name", "Please give your first name."},
		{map[string]string{"f-first-name": ""}, Known{person.FirstName: "Ana"}, "", ""},
		{map[string]string{"f-first-name": strings.Repeat("x", 2000)}, nil, "f-first-name", "too long"},
		{map[string]string{"f-first-name": strings.Repeat("x", 130)}, nil, "f-first-name", "at most 120"},
		{map[string]string{"f-email": ""}, Known{person.EmailField: "ana@fjordlaks.example"}, "f-email", "comes there"},
		{map[string]string{"f-email": "ana at fjordlaks"}, nil, "f-email", "name@company.example"},
		{map[string]string{"f-own-4": "deep"}, nil, "f-own-4", "This is not a number."},
		{map[string]string{"f-own-4": ""}, nil, "f-own-4", "Please fill this in."},
		{map[string]string{"f-own-5": "Whale"}, nil, "f-own-5", "Salmon, Trout, Bass"},
		{map[string]string{"agree-4": ""}, nil, "agree-4", "tick"},
		{map[string]string{"agree-3": ""}, nil, "", ""},
		{map[string]string{"f-title": "Engineer"}, nil, "", ""},
		{map[string]string{"f-phone": "call me"}, nil, "", ""}, // not asked yet: not held against anybody
		{map[string]string{"f-phone": "call me"}, Known{person.Title: "E", person.Country: "NO"}, "f-phone",
			"country’s code"},
		{map[string]string{"f-phone": "21 98 76 54"}, Known{person.Title: "E", person.Country: "NO"}, "", ""},
	} {
		_, wrong := read(x.change, x.known)
		if x.wrong == "" {
			if len(wrong) > 0 {
				t.Errorf("%v, knowing %v: %v", x.change, x.known, wrong)
			}
			continue
		}
		if len(wrong) != 1 || !strings.Contains(wrong[x.wrong], x.says) {
			t.Errorf("%v, knowing %v: %v, want %s: %s", x.change, x.known, wrong, x.wrong, x.says)
		}
	}
}

func TestBlocks(t *testing.T) {
	d := Document{}
	for _, k := range []message.Kind{message.Heading, message.Text, message.List} {
		if _, err := d.Insert(k, d.Last); err != nil {
			t.Fatal(err)
		}
	}
	order := func() string {
		var s string
		for _, b := range d.Blocks {
			s += string(rune('0'+b.ID)) + string(b.Kind[0]) + " "
		}
		return s
	}
	step := func(what string, err error, want string) {
		t.Helper()
		if err != nil || order() != want {
			t.Errorf("%s: %v, %s, want %s", what, err, order(), want)
		}
	}
	step("put in", nil, "1h 2t 3l ")
	step("moved down", d.Move(1, 1), "2t 1h 3l ")
	step("moved far", d.Move(2, 99), "1h 3l 2t ")
	d.Blocks[1].Content.Items = []string{"one"}
	_, err := d.Copy(3)
	step("copied", err, "1h 3l 4l 2t ")
	if d.Blocks[2].Content.Items[0] = "two"; d.Blocks[1].Content.Items[0] != "one" {
		t.Error("a copy shares its list with what it was copied from")
	}
	step("taken out", d.Remove(3), "1h 4l 2t ")
	d.Order([]int{2, 4})
	step("ordered", nil, "2t 4l 1h ")
	_, err = d.Insert(message.Quote, 0)
	step("put before all", err, "5q 2t 4l 1h ")
	for _, err := range []error{d.Remove(9), d.Move(9, 1)} {
		if err == nil {
			t.Error("a block that is not there was found")
		}
	}
	if _, err := d.Insert(message.Signature, 0); err == nil {
		t.Error("a page signs")
	}
}

func TestWhatKeepsAPageBack(t *testing.T) {
	whole := func() Document {
		d := New("", "", "Send").WithLadder(person.Title, person.Country, person.PhoneField)
		d.Title, d.Blocks[0].Content.Text = "Alarms", "<p>Read.</p>"
		return d
	}
	if d := whole(); d.Check(define) != nil {
		t.Fatalf("a whole page: %v", d.Check(define))
	}
	for says, change := range map[string]func(d *Document){
		"no title":            func(d *Document) { d.Title = " " },
		"block 1: the text":   func(d *Document) { d.Blocks[0].Content.Text = "" },
		"button says nothing": func(d *Document) { d.Form.Button = "" },
		"asks twice": func(d *Document) {
			d.Form.Questions = append(d.Form.Questions, Question{Field: person.FirstName})
		},
		"cannot ask for": func(d *Document) {
			d.Form.Questions = append(d.Form.Questions, Question{Field: person.Owner})
		},
		"not there any more": func(d *Document) {
			d.Form.Questions = append(d.Form.Questions, Question{Field: "own 99"})
		},
		"ask for the email":   func(d *Document) { d.Form.Questions = d.Form.Questions[:3] },
		"asked for each time": func(d *Document) { d.Form.Questions[3].Further = true },
		"hidden field": func(d *Document) {
			d.Form.Hidden = []Hidden{{Field: person.EmailField, Value: "a@b.example"}}
		},
		"box for consent":       func(d *Document) { d.Form.Consents = []Consent{{Purpose: 1}} },
		"which tag":             func(d *Document) { d.Form.Acts = []act.Kept{{Act: act.Tag{}}} },
		"prove itself":          func(d *Document) { d.Form.Proved = true },
		"one number":            func(d *Document) { d.Blocks = append(d.Blocks, d.Blocks[0]) },
		"at most 30 questions":  func(d *Document) { d.Form.Questions = make([]Question, 31) },
		"at most 20 things":     func(d *Document) { d.Form.Acts = make([]act.Kept, 21) },
		"at most 60 blocks":     func(d *Document) { d.Blocks = make([]Block, 61) },
		"further questions":     func(d *Document) { d.Form.AtOnce = -1 },
		"at most 20 hidden":     func(d *Document) { d.Form.Hidden = make([]Hidden, 21) },
		"longer than 200000 by": func(d *Document) { d.Blocks[0].Content.Text = strings.Repeat("word ", 50_000) },
	} {
		d := whole()
		change(&d)
		if err := d.Check(define); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%v, want that it says %q", err, says)
		}
	}
}

// A form never lets a visitor set what is not theirs to say.
func FuzzRead(f *testing.F) {
	f.Add("f-first-name", "Ana\x00\xff", "ana@fjordlaks.example")
	f.Add("f-owner", "Somebody", "a@b.example")
	f.Add("utm_source", strings.Repeat("x", 600), "a")
	f.Fuzz(func(t *testing.T, name, value, email string) {
		d := New("", "", "Send").WithLadder(person.Title, person.Country, person.PhoneField)
		a, wrong := d.Form.Read(func(n string) string {
			switch n {
			case name:
				return value
			case "f-email":
				return email
			}
			return "x"
		}, nil, define)
		for _, list := range []person.Values{a.Values, a.Hidden} {
			for k, v := range list {
				x, ok := define(k)
				if !ok || !Askable(&x) && !Keepable(&x) {
					t.Errorf("set %q", k)
				}
				if len(v) > person.MaxText || strings.ContainsAny(v, "\x00\r\n") {
					t.Errorf("%q became %q", k, v)
				}
			}
		}
		if a.Values[person.EmailField] == "" && wrong["f-email"] == "" {
			t.Error("neither an address nor a word about it")
		}
	})
}
