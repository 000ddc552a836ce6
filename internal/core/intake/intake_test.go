package intake

import (
	"slices"
	"strings"
	"testing"

	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
)

func builder(t testing.TB, m Mapping) *Builder {
	t.Helper()
	own := person.Definition{Field: person.Own(1), Name: "Since", Type: person.Date}
	b, err := NewBuilder(&m, func(f person.Field) (person.Definition, bool) {
		if f == own.Field {
			return own, true
		}
		return person.Define(f)
	}, nil)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// TestGuessing holds heads as lists have them (common practice, no source)
// against what they are taken for.
func TestGuessing(t *testing.T) {
	for _, c := range []struct {
		head, want string
	}{
		{"First Name|Last Name|E-mail Address|Company Name|Job Title|Country|Phone Number",
			"first name|last name|email|company|title|country|phone"},
		{"Vorname|Nachname|E-Mail|Firma|Position|Land|Telefon|Ort",
			"first name|last name|email|company|title|country|phone|city"},
		{"NOMBRE|APELLIDOS|CORREO|EMPRESA|CARGO|PAÍS|TELÉFONO|CIUDAD",
			"first name|last name|email|company|title|country|phone|city"},
		{"name|mail|utm_source|utm_campaign|Tags|Do not contact",
			"full name|email|source|campaign|tags|do not contact"},
		{"Since|since when", "own 1|"}, {"email|Email|email 2", "email||further email"},
		{"why it was not taken|Fax", "|"},
		{"company size|Industry|Revenue|company country|time zone|language|profile",
			"company size|industry|revenue|company country|time zone|language|profile"},
	} {
		got := Guess(strings.Split(c.head, "|"), nil,
			[]person.Definition{{Field: person.Own(1), Name: "Since", Type: person.Date}})
		if strings.Join(got, "|") != c.want {
			t.Errorf("%s is taken for %q, want %q", c.head, got, c.want)
		}
	}
	// Without a head that says anything, what stands in a column does.
	got := Guess([]string{"", "x", "y"},
		[][]string{{"Ana", "ana@x.example", "https://p.example/a"}, {"Bo", "bo@x.example", "https://p.example/b"}}, nil)
	if !slices.Equal(got, []string{"", "email", "profile"}) {
		t.Errorf("guessed by what stands there: %q", got)
	}
}

func TestBuilding(t *testing.T) {
	b := builder(t,
		Mapping{Columns: []string{"phone", "full name", "email", "country", "tags", "further email", "own 1", "",
			"company"}, Country: "GB"})
	for _, c := range []struct {
		row  string
		want person.Values
		tags int
		bad  string // column and reason
	}{
		{"20 7946 0101|Ana Maria Strand|ANA@Fjord.Example|Storbritannia|fair; key, fair||2026-04-14|left out|Fjord",
			person.Values{person.FirstName: "Ana Maria", person.LastName: "Strand",
				person.EmailField: "ana@fjord.example", person.Country: "GB", person.PhoneField: "+442079460101",
				person.Own(1): "2026-04-14", person.Company: "Fjord", person.Domain: "fjord.example"}, 3, ""},
		{"|Strand, Ana|||||||", nil, 0, "-1 there is no email address"},
		// free mail is no company
		{"|Cher|cher@freemail.example||||||",
			person.Values{person.LastName: "Cher", person.EmailField: "cher@freemail.example"}, 0, ""},
		// the row's country comes before the chosen one
		{"(202) 555-0102|||USA|||||", person.Values{person.PhoneField: "+12025550102", person.Country: "US"}, 0, ""},
		{"|||||a@x.example; b@x.example|||",
			person.Values{person.EmailField: "a@x.example", person.Domain: "x.example"}, 0, ""},
		// what kept a sheet from a formula goes
		{"|'=cmd|a@x.example||||||",
			person.Values{person.LastName: "=cmd", person.EmailField: "a@x.example", person.Domain: "x.example"}, 0,
			""},
		{"12||a@x.example||||||", nil, 0, "0 this is not a telephone number"},
		{"||a at x.example||||||", nil, 0, "2 this is not an email address"},
		{"||a@x.example|Atlantis|||||", nil, 0, "3 no country"},
		{"||a@x.example|||b at x.example|||", nil, 0, "5 this is not an email address"},
		{"||a@x.example||||14/4/26||", nil, 0, "6 this is not a date"},
		{"||a@x.example||||||" + strings.Repeat("x", 200), nil, 0, "8 this is too long"},
	} {
		rec, problem := b.Build(strings.Split(c.row, "|"))
		if c.bad != "" {
			if problem == nil || !strings.HasPrefix(problem.Reason, c.bad[strings.IndexByte(c.bad, ' ')+1:]) ||
				!strings.HasPrefix(c.bad, itoa(problem.Column)+" ") {
				t.Errorf("%s: %+v, want %s", c.row, problem, c.bad)
			}
			continue
		}
		if problem != nil {
			t.Errorf("%s: %v", c.row, problem)
			continue
		}
		if len(rec.Values) != len(c.want) || len(rec.Tags) != c.tags {
			t.Errorf("%s: %v, tags %q", c.row, rec.Values, rec.Tags)
		}
		for f, v := range c.want {
			if rec.Values[f] != v {
				t.Errorf("%s: %s is %q, want %q", c.row, f, rec.Values[f], v)
			}
		}
	}
	// The same again gives the same: what was worked out is kept rightly.
	for range 2 {
		if rec, problem := b.Build(strings.Split("|Ana|a@x.example|Norge|||||", "|")); problem != nil ||
			rec.Values[person.Country] != "NO" {
			t.Errorf("a second time: %v %v", rec, problem)
		}
	}
}

func itoa(n int) string {
	if n < 0 {
		return "-" + itoa(-n)
	}
	return string(rune('0' + n))
}

func TestMappingsThatCannotBe(t *testing.T) {
	for name, cols := range map[string][]string{"nobody could be found again": {"first name", "city"},
		"twice": {"email", "city", "city"}, "unknown": {"email", "shoe size"}, "comes about": {"email", "first met"}} {
		if _, err := NewBuilder(&Mapping{Columns: cols}, person.Define, nil); err == nil {
			t.Errorf("%s: taken", name)
		}
	}
}

func FuzzBuild(f *testing.F) {
	f.Add("Ana", "a@x.example", "+44 20 7946 0101", "Norway", "a; b")
	f.Fuzz(func(t *testing.T, name, email, phone, country, tags string) {
		b := builder(t, Mapping{Columns: []string{"full name", "email", "phone", "country", "tags"}})
		rec, problem := b.Build([]string{name, email, phone, country, tags})
		if problem != nil {
			return
		}
		for field, v := range rec.Values {
			d, _ := person.Define(field)
			if again, err := d.Tidy(v, ""); err != nil || again != v {
				t.Errorf("%s is %q, and of that %q, %v", field, v, again, err)
			}
		}
	})
}

// Whatever an editor offers for a column can be chosen, alone or beside the address.
func TestEveryTargetCanBeChosen(t *testing.T) {
	own := []person.Definition{{Field: person.Own(1), Name: "Since", Type: person.Date}}
	targets := Targets(own)
	seen := map[string]bool{}
	for _, to := range targets {
		if seen[to] || to == "" {
			t.Errorf("%q is offered twice", to)
		}
		seen[to] = true
		columns := []string{"email", to}
		if to == "email" {
			columns = []string{to, ""}
		}
		for _, policy := range Policies() {
			r, p := builder(t, Mapping{Columns: columns, Policy: policy, Loose: true}).Build([]string{"ana@x.example", ""})
			if p != nil || r.Values[person.EmailField] != "ana@x.example" {
				t.Errorf("a column of %s, %s: %+v, %v", to, policy, r, p)
			}
		}
	}
	for _, to := range []string{FullName, FurtherEmail, FurtherPhone, Tags, "own 1", string(person.Country)} {
		if !seen[to] {
			t.Errorf("%s is not offered", to)
		}
	}
}

// A row that cannot be taken says which cell, and why; further addresses and numbers
// are told apart, and the first stands in where there is no main one.
func TestRowsOfManyWays(t *testing.T) {
	b := builder(t, Mapping{Columns: []string{FullName, FurtherEmail, FurtherPhone, "country", Tags, "email"},
		Policy: Fill, Country: "NO"})
	r, p := b.Build([]string{"Radu,  Ines", "ines@x.example; i.radu@x.example", "22 12 34 56", "", " fair ; ; keen"})
	if p != nil {
		t.Fatal(p)
	}
	if r.Values[person.FirstName] != "Ines" || r.Values[person.LastName] != "Radu" ||
		r.Values[person.EmailField] != "ines@x.example" || !slices.Equal(r.Emails, []string{"i.radu@x.example"}) ||
		r.Values[person.PhoneField] != "+4722123456" || len(r.Phones) != 0 || !slices.Equal(r.Tags, []string{"fair", "keen"}) {
		t.Errorf("%+v", r)
	}
	if r, p = b.Build([]string{"Ines", "ines@x.example"}); p != nil || r.Values[person.LastName] != "Ines" {
		t.Errorf("one word of a name: %+v, %v", r, p)
	}
	for _, c := range []struct {
		cells []string
		want  string
	}{
		{[]string{"Ana", "no address"}, "further email: "}, {[]string{"Ana", "a@x.example", "abc"}, "further phone: "},
		{[]string{"Ana"}, ErrNoWay.Error()}, {nil, ErrNoWay.Error()},
		{[]string{"Ana", "a@x.example", "", "Atlantis"}, "country: "},
	} {
		_, p := b.Build(c.cells)
		if p == nil || !strings.HasPrefix(p.Error(), c.want) || len(p.Reason) == 0 {
			t.Errorf("%q: %v, want %q", c.cells, p, c.want)
			continue
		}
		if _, ok := plainly.Says(p); !ok {
			t.Errorf("nobody may read %v", p)
		}
	}
}
