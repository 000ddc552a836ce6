package message

import (
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
)

var (
	fields = Fields([]person.Definition{{Field: person.Own(7), Name: "Pens", Type: person.Number}})
	reader = Values{"person.first_name": "Ngô & Söhne <b>", "company.name": "Fjord Farms", "person.title": "  ",
		"sender.name": "Ines Radu", "person.own_7": "12"}
)

// body is what stands within the frame.
func body(s string) string {
	_, s, _ = strings.Cut(s, `<div style="max-width:600px"><div style="margin:0 0 18px">`)
	s, _, _ = strings.Cut(s, `</div><p class="foot"`)
	return s
}

func render(t *testing.T, d Document, group int64, v Values, a Addresses) (Rendered, error) {
	t.Helper()
	p, err := Compile(&d, fields)
	if err != nil {
		return Rendered{}, err
	}
	return p.Render(group, v, a)
}

func TestMergeFields(t *testing.T) {
	for _, c := range []struct{ name, in, want, missing string }{
		{"a value", `Dear {{ company.name }},`, "Dear Fjord Farms,", ""},
		{"an own field", `{{ person.own_7 }} pens`, "12 pens", ""},
		{"a fallback not needed", `{{ company.name | default: "you" }}`, "Fjord Farms", ""},
		{"a fallback for nothing", `Dear {{ person.city | default: "reader" }},`, "Dear reader,", ""},
		{"a fallback for spaces", `{{person.title|default:"expert"}}`, "expert", ""},
		{"no value, no fallback", `Dear {{ person.last_name }},`, "", "person.last_name"},
		{"spaces are no value", `Dear {{ person.title }},`, "", "person.title"},
		{"a branch that is not taken asks nothing", `{% if person.city %}{{ person.city }}{% else %}there{% endif %}`,
			"there", ""},
		{"filters", `{{ company.name | upcase }}`, "FJORD FARMS", ""},
	} {
		got, err := render(t, Simple(c.in, "<pre>"+c.in+"</pre>"), Else, reader, Addresses{})
		if c.missing != "" {
			if miss, ok := errors.AsType[*Missing](err); !ok || miss.Field != c.missing {
				t.Errorf("%s: %v, want %s missing", c.name, err, c.missing)
			}
			continue
		}
		if err != nil || got.Subject != c.want || !strings.HasSuffix(body(got.HTML), ">"+c.want+"</pre>") ||
			!strings.HasPrefix(got.Text, c.want+"\n") {
			t.Errorf("%s: %+v, %v", c.name, got, err)
		}
	}
	if got := Needed(`{{ person.city }} {{ person.title | default: "" }} {{ person.phone | default: "x" }} {{ ` +
		`person.city }} {{ sender.signature }}`); !reflect.DeepEqual(got, []string{"person.city", "person.title"}) {
		t.Errorf("needed: %q", got)
	}
}

func TestValuesCannotBreakOut(t *testing.T) {
	evil := Values{"person.first_name": "<script>x</script>\r\nBcc: all@x.example {{ person.email }}",
		"sender.signature": `<p onclick="x()">Ines<script>y</script></p>`}
	d := Simple("For {{ person.first_name }}", `<p>{{ person.first_name | default: &quot;you&quot; }}</p>`)
	d.Preheader = Words{Else: `{{ person.first_name }}" onload="x`}
	if _, err := d.Insert(Signature, 1); err != nil {
		t.Fatal(err)
	}
	got, err := render(t, d, Else, evil, Addresses{})
	if err != nil {
		t.Fatal(err)
	}
	if strings.ContainsAny(got.Subject, "\r\n") {
		t.Errorf("a header broke out of the subject: %q", got.Subject)
	}
	if strings.Contains(got.HTML, "<script") || strings.Contains(got.HTML, `onclick`) ||
		strings.Contains(got.HTML, `" onload`) || !strings.Contains(got.HTML, "Ines") {
		t.Errorf("a script came in by a name or a signature: %s", got.HTML)
	}
	if !strings.Contains(got.Subject, "{{ person.email }}") {
		t.Errorf("a field within a value was filled in: %q", got.Subject)
	}
	dirty := `<p onclick="x()">a<script>1</script><a href="javascript:x()">b</a><style>p{}</style><img src=x ` +
		`onerror=y><form><input></form></p>`
	if c := Clean(dirty); strings.Contains(c, "script") || strings.Contains(c, "on") || strings.Contains(c, "<form") ||
		strings.Contains(c, "style") {
		t.Errorf("cleaned to %s", c)
	}
	for in, want := range map[string]string{"https://karang.example/a?b=c": "https://karang.example/a?b=c",
		"/p/alarms": "/p/alarms", "mailto:a@b.example": "mailto:a@b.example", "tel:+44": "tel:+44",
		"javascript:x()": "", "//evil.example": "", "data:text/html,x": "", "https:///x": "",
		"https://a.example/\"onclick": "", "alarms": "", "": "", " JAVASCRIPT:x": ""} {
		if got := Address(in); got != want {
			t.Errorf("Address(%q) is %q", in, got)
		}
	}
}

// full is a document with every kind of section.
func full(t *testing.T) Document {
	t.Helper()
	d := Document{Style: Designed, Subject: Words{Else: "Three alarms"}, Preheader: Words{Else: "and a table"}}
	put := func(k Kind, c Content) {
		t.Helper()
		id, err := d.Insert(k, d.Last)
		if err != nil {
			t.Fatal(err)
		}
		if err := d.Set(id, Else, c); err != nil {
			t.Fatal(err)
		}
	}
	put(Heading, Content{Text: "Oxygen at {{ company.name | default: \"night\" }}"})
	put(Text, Content{Text: `<div>Dear {{ person.first_name }}, <a href="/g/alarms?a=1&amp;b=2">the guide</a>, <a ` +
		`href="mailto:a@b.example">me</a></div>`})
	put(List, Content{Items: []string{" one ", "", "two & three"}, Ordered: true})
	put(Picture, Content{Picture: "/pictures/buoy.png", Alt: "A buoy", Link: "https://karang.example/"})
	put(Button, Content{Label: "Read it", Link: "/p/alarms"})
	put(Quote, Content{Text: "<div>It rang.</div>", By: "Somebody"})
	put(Divider, Content{})
	put(ShelfItem, Content{Shelf: 3, Label: "Field guide", Link: "/s/3", Text: "12 pages"})
	put(Signature, Content{})
	return d
}

func TestEveryKindIsWrittenAndRead(t *testing.T) {
	d := full(t)
	if err := d.Check(fields); err != nil {
		t.Fatal(err)
	}
	v := Values{"person.first_name": "Ana", "sender.signature": "<p>Ines Radu<br>Karang</p>"}
	a := Addresses{Link: func(n int, _ string) string {
		return fmt.Sprintf("https://l.example/%d?x&y", n)
	}, OptOut: "https://o.example/?a&b", Pixel: "https://o.example/p.gif?a&b"}
	got, err := render(t, d, Else, v, a)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{`<h1 style=`, "Oxygen at night", `href="https://l.example/1?x&amp;y"`,
		`href="mailto:a@b.example"`, "<ol style=", "two &amp; three", `src="/pictures/buoy.png" alt="A buoy"`,
		`class="button"`,
		`href="https://l.example/4?x&amp;y"`, "<cite", "<hr style=", "12 pages", "Ines Radu<br",
		`href="https://o.example/?a&amp;b"`, `url('https://o.example/p.gif?a&amp;b')`, "prefers-color-scheme:dark",
		`role="presentation"`, "and a table"} {
		if !strings.Contains(got.HTML, want) {
			t.Errorf("the HTML has no %s", want)
		}
	}
	for _, want := range []string{"Oxygen at night", "Dear Ana", "https://l.example/1?x&y", "two & three",
		"A buoy <https://l.example/2?x&y>", "Read it", "> It rang.", "----", "Field guide", "Ines Radu\nKarang",
		"less of it: https://o.example/?a&b"} {
		if !strings.Contains(got.Text, want) {
			t.Errorf("the text has no %q:\n%s", want, got.Text)
		}
	}
	if strings.Contains(got.HTML, "ombak-") || strings.Contains(got.Text, "ombak-") {
		t.Error("a placeholder was left")
	}
	plain, err := render(t, d, Else, v, Addresses{OptOut: "https://o.example/"})
	if err != nil || !strings.Contains(plain.HTML, `href="/p/alarms"`) ||
		strings.Contains(plain.HTML, "<img src=\"\"") || strings.Contains(plain.HTML, `width="1"`) {
		t.Errorf("without tracked addresses: %v\n%s", err, plain.HTML)
	}
	d.Written = Words{Else: "By hand, {{ person.first_name }}"}
	if got, err := render(t, d, Else, v, a); err != nil || !strings.HasPrefix(got.Text, "By hand, Ana\n") ||
		!strings.Contains(got.Text, "https://o.example/?a&b") {
		t.Errorf("a text by hand: %q, %v", got.Text, err)
	}
	// What is kept comes back as it was.
	b, err := json.Marshal(d)
	if err != nil {
		t.Fatal(err)
	}
	var again Document
	if err := json.Unmarshal(b, &again); err != nil || !reflect.DeepEqual(again, d) {
		t.Errorf("%s came back as %+v, %v", b, again, err)
	}
	for _, k := range Kinds() {
		if k.Words() == "" || k.Icon() == "" || !k.Known() {
			t.Errorf("%q has no words or icon", k)
		}
	}
}

func TestLinksKeepTheirNumbers(t *testing.T) {
	d := full(t)
	want := "[1 /g/alarms?a=1&b=2 the guide 2 https://karang.example/ A buoy 3 /p/alarms Read it 4 /s/3 Field guide]"
	say := func(d *Document) string {
		var out []string
		for _, l := range d.Links() {
			out = append(out, fmt.Sprint(l.N, " ", l.Target, " ", l.Words))
		}
		return "[" + strings.Join(out, " ") + "]"
	}
	if got := say(&d); got != want {
		t.Errorf("links %s", got)
	}
	// A reader of a group gets the numbers of the group's own words.
	d.Use([]Group{{ID: 5, Name: "German", Rule: rule.FieldIs(person.Language, "de")}})
	if err := d.Set(2, 5, Content{Text: `<div><a href="/g/alarme">der Leitfaden</a></div>`}); err != nil {
		t.Fatal(err)
	}
	a := Addresses{Link: func(n int, target string) string { return fmt.Sprintf("L%d:%s", n, target) }}
	got, err := render(t, d, 5, Values{}, a)
	if err != nil || !strings.Contains(got.HTML, `L2:/g/alarme`) || strings.Contains(got.HTML, "L1:") ||
		!strings.Contains(got.HTML, "L3:https://karang.example/") {
		t.Errorf("the German reader's links: %v\n%s", err, got.HTML)
	}
	if l, ok := d.Target(2); !ok || l.Target != "/g/alarme" || l.Group != 5 || l.Section != 2 {
		t.Errorf("link 2 is %+v", l)
	}
	if _, ok := d.Target(99); ok {
		t.Error("there is a link 99")
	}
	// Words for one reader alone have numbers of their own.
	mine := d.With(&Edit{Subject: "For you",
		Sections: map[int]Content{2: {Text: `<div><a href="/g/extra">only yours</a></div>`}}})
	got, err = render(t, *mine, 5, Values{}, a)
	if err != nil || got.Subject != "For you" || !strings.Contains(got.HTML, "L1001:/g/extra") ||
		strings.Contains(got.HTML, "alarme") {
		t.Errorf("one reader's own words: %v %q\n%s", err, got.Subject, got.HTML)
	}
	if say(&d) == want || d.Sections[1].For[Own].Text != "" || d.With(nil) != &d {
		t.Error("an edit for one reader changed the message")
	}
	if l, ok := mine.Target(1001); !ok || l.Target != "/g/extra" {
		t.Errorf("link 1001 is %+v", l)
	}
}

type facts struct{ r rule.Record }

func (f facts) Record() *rule.Record                        { return &f.r }
func (f facts) Score(rule.Figure, time.Time) float64        { return 0 }
func (f facts) Count(_ *signal.Pattern, _, _ time.Time) int { return 0 }
func speaking(lang string) facts {
	return facts{rule.Record{Values: person.Values{person.Language: lang}}}
}
func texts(d *Document, id int, group int64) string {
	i := d.Section(id)
	return d.Sections[i].Of(group).Text
}
func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

func TestTheFirstGroupThatHolds(t *testing.T) {
	d := Simple("Hello", "<div>Hello</div>")
	known := rule.Rule{If: &rule.Condition{Field: person.Language, Op: rule.Known}}
	d.Use([]Group{{1, "German", rule.FieldIs(person.Language, "de")}, {2, "Any known", known}})
	d.Subject[1] = "Hallo"
	must(t, d.Set(1, 1, Content{Text: "<div>Hallo</div>"}))
	for lang, want := range map[string]int64{"de": 1, "DE": 1, "nb": 2, "": Else} {
		if got := d.GroupOf(speaking(lang), time.Time{}); got != want {
			t.Errorf("%q is in group %d, not %d", lang, got, want)
		}
	}
	for group, want := range map[int64]string{1: "Hallo", 2: "Hello", Else: "Hello", 99: "Hello"} {
		got, err := render(t, d, group, Values{}, Addresses{})
		if err != nil || got.Subject != want || !strings.Contains(got.HTML, ">"+want+"<") ||
			!strings.Contains(got.Text, want) {
			t.Errorf("group %d reads %q, %v", group, got.Subject, err)
		}
	}
	must(t, d.Unset(1, 1))
	if got := texts(&d, 1, 1); got != "<div>Hello</div>" {
		t.Errorf("without a version of its own: %s", got)
	}
	// Asked the other way round, who fits both is of the other group, and no words move.
	for _, x := range []struct {
		prefer int64
		want   int64
	}{{2, 2}, {2, 2}, {1, 1}} {
		must(t, d.Prefer(x.prefer))
		if got := d.GroupOf(speaking("de"), time.Time{}); got != x.want || d.Subject[1] != "Hallo" {
			t.Errorf("group %d preferred: German is of group %d", x.prefer, got)
		}
	}
	if d.Prefer(9) == nil {
		t.Error("a group was preferred that is not there")
	}
	must(t, d.Set(1, 2, Content{Text: "x"}))
	d.Use(d.Groups[:1])
	if len(d.Sections[0].For) != 1 {
		t.Error("a version stayed for a group that is gone")
	}
	if d.Set(1, 2, Content{}) == nil || d.Set(9, Else, Content{}) == nil || d.Unset(1, Else) == nil {
		t.Error("something was set that is not there")
	}
	if d.GroupName(1) != "German" || d.GroupName(Else) != "everyone else" {
		t.Error("names of groups")
	}
}

func TestArranging(t *testing.T) {
	d := Simple("s", "<div>1</div>")
	ids := func() string {
		var out []string
		for _, s := range d.Sections {
			out = append(out, fmt.Sprint(s.ID))
		}
		return strings.Join(out, " ")
	}
	add := func(behind int) {
		t.Helper()
		_, err := d.Insert(Divider, behind)
		must(t, err)
	}
	add(1)  // 1 2
	add(0)  // 3 1 2
	add(3)  // 3 4 1 2
	add(77) // 3 4 1 2 5: behind something that is gone: at the end
	if ids() != "3 4 1 2 5" {
		t.Fatal(ids())
	}
	must(t, d.Move(5, -2))
	must(t, d.Move(3, -1))
	must(t, d.Move(2, 100))
	if ids() != "3 4 5 1 2" {
		t.Error(ids())
	}
	d.Order([]int{1, 2, 77, 3})
	if ids() != "1 2 3 4 5" {
		t.Error(ids())
	}
	made, err := d.Copy(1)
	must(t, err)
	must(t, d.Set(made, Else, Content{Text: "<div>2</div>"}))
	if ids() != "1 6 2 3 4 5" || texts(&d, 1, Else) != "<div>1</div>" {
		t.Errorf("%s, the first says %s", ids(), texts(&d, 1, Else))
	}
	must(t, d.Remove(1))
	if ids() != "6 2 3 4 5" || d.Remove(1) == nil || d.Move(1, 1) == nil {
		t.Error(ids())
	}
	if _, err := d.Insert("marquee", 0); err == nil {
		t.Error("an unknown kind was put in")
	}
	if _, err := d.Copy(1); err == nil {
		t.Error("a copy of what is not there")
	}
	for range MaxSections {
		_, err = d.Insert(Divider, 0)
	}
	if err == nil {
		t.Error("there is no end to sections")
	}
}

func TestCheck(t *testing.T) {
	long := Simple("x", "<p>x</p>")
	long.Groups = make([]Group, MaxGroups+1)
	twice := Simple("x", "<p>x</p>")
	twice.Sections = append(twice.Sections, twice.Sections[0])
	odd := Simple("x", "<p>x</p>")
	odd.Style = "neon"
	for _, c := range []struct {
		d    Document
		want string
	}{
		{Simple("Three alarms", "<p>Dear {{ person.first_name | default: 'reader' }}</p>"), ""},
		{Simple(" ", "<p>x</p>"), "no subject"},
		{Simple("x", "<p> </p>"), "no text"},
		{Simple("x", "<p>{{ person.shoe_size }}</p>"), "no merge field person.shoe_size"},
		{Simple("x", "<p>{{ ombak.link_1 }}</p>"), "no merge field ombak.link_1"},
		{Simple("x {{ person.first_name", "<p>x {% if %}</p>"), "is opened by {{ and not closed"},
		{Simple(strings.Repeat("x", 300), "<p>x</p>"), "longer"},
		{Simple("x", strings.Repeat("<p>x</p>", 30_000)), "longer"},
		{Simple("a\nb", "<p>x</p>"), "one line"},
		{long, "groups"}, {twice, "one number"}, {odd, "plain or designed"},
	} {
		err := c.d.Check(fields)
		if (err == nil) != (c.want == "") || (err != nil && !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%.60s: %v, want %q", c.d.Subject[Else], err, c.want)
		}
	}
}

func FuzzRender(f *testing.F) {
	f.Add(`a {{- person.first_name -}} b {{ person.first_name }} {% if company.name -%} c {%- endif %} d`, " x ")
	f.Add(`{{ person.city }}{{ sender.signature }}`, "<b>")
	f.Add(`Dear {{ person.first_name | default: "you" }}`, "x")
	f.Add(`{{ company.name }} <a href="/p/x">y</a>`, "<a href=x>")
	f.Add(`<a href="https://x.example/{{ person.first_name }}">{{ "x" }}</a>`, "{{ 1 }}")
	f.Add(`{% if person.city == "x" %}{{ person.city | replace: "x", "yy" }}{% else %}{% case company.name %}{% when `+
		`"a", 'b' %}1{% endcase %}{% endif %}`, "x")
	f.Add(`{% include "/etc/passwd" %}{% for i in (1..99) %}{{ i }}{% endfor %}`, "x")
	f.Fuzz(func(t *testing.T, body, value string) {
		d := Simple("s", body)
		p, err := Compile(&d, fields)
		if err != nil {
			return
		}
		v := Values{"person.first_name": value, "company.name": value}
		a := Addresses{Link: func(int, string) string { return "https://l.example/" }, OptOut: "https://o.example/"}
		got, err := p.Render(Else, v, a)
		if whole, werr := p.byLiquid().Render(Else, v, a); got != whole || fmt.Sprint(err) != fmt.Sprint(werr) {
			t.Errorf("piece by piece it is %+v, %v; by Liquid alone %+v, %v", got, err, whole, werr)
		}
		if err == nil && strings.Contains(strings.ToLower(got.HTML), "<script") {
			t.Errorf("script in %q", got.HTML)
		}
	})
}

// BenchmarkRender fills in a message with three groups of readers and ten
// fields.
func BenchmarkRender(b *testing.B) {
	d := Simple("For {{ person.first_name }} at {{ company.name }}",
		`<div>Dear {{ person.first_name }} {{ person.last_name }}, {{ person.title }}, {{ person.city }}, {{ `+
			`person.country }}, {{ company.industry }}, {{ sender.name }}, {{ sender.email }}, {{ sender.phone }} <a `+
			`href="/p/x">y</a></div>`)
	d.Use([]Group{{1, "a", rule.FieldIs(person.Language, "de")}, {2, "b", rule.FieldIs(person.Language, "es")},
		{3, "c", rule.FieldIs(person.Language, "nb")}})
	v := Values{}
	for _, f := range fields {
		v[f.Name] = "some value"
	}
	p, err := Compile(&d, fields)
	if err != nil {
		b.Fatal(err)
	}
	a := Addresses{Link: func(n int, _ string) string {
		return "https://l.example/"
	}, OptOut: "https://o.example/", Pixel: "https://o.example/p.gif"}
	for b.Loop() {
		if _, err := p.Render(Else, v, a); err != nil {
			b.Fatal(err)
		}
	}
}

// A section that is written for some groups alone is read by nobody else, and the proof says so.
func TestASectionForSomeAlone(t *testing.T) {
	d := Simple("S", "<p>For all.</p>")
	d.Use([]Group{{ID: 4, Name: "Ports"}, {ID: 5, Name: "Farms"}})
	id, err := d.Insert(Button, 1)
	if err != nil {
		t.Fatal(err)
	}
	if err := d.Set(id, 4,
		Content{Label: "Berths {{ person.title }}", Link: "https://karang.example/berths"}); err != nil {
		t.Fatal(err)
	}
	for group, want := range map[int64]bool{Else: false, 4: true, 5: false} {
		got, err := render(t, d, group, Values{"person.title": "now"}, Addresses{OptOut: "https://o.example/"})
		if err != nil {
			t.Fatal(err)
		}
		if strings.Contains(got.HTML, "Berths now") != want || strings.Contains(got.HTML, `class="button"`) != want ||
			strings.Contains(got.Text, "Berths") != want {
			t.Errorf("group %d reads it: %v", group, !want)
		}
		if needs := len(d.NeededBy(group)) == 1; needs != want {
			t.Errorf("group %d needs the field: %v", group, needs)
		}
	}
	said := ""
	for _, f := range d.Proof(func(string) bool { return true }) {
		if f.Grave {
			t.Errorf("the proof: %+v", f)
		}
		said += f.Text
	}
	if !strings.Contains(said, "for everyone else there is nothing") || strings.Contains(said, "no version for Farms") {
		t.Errorf("the proof says %s", said)
	}
	// Written for everyone else too, it is everybody's.
	if err := d.Set(id, Else, Content{Label: "Pens", Link: "https://karang.example/pens"}); err != nil {
		t.Fatal(err)
	}
	if got, err := render(t, d, 5, Values{}, Addresses{OptOut: "https://o.example/"}); err != nil ||
		!strings.Contains(got.HTML, "Pens") {
		t.Errorf("afterwards Farms read %v, %v", got.Text, err)
	}
}

// Filters hold it against a letter of few words that it has an image: its pixel
// lies behind it. A long one has it as an image. A letter without has neither.
func TestWhereThePixelLies(t *testing.T) {
	for n, want := range map[int]string{1: "background-image:url('https://o.example/p.gif')",
		400: `<img src="https://o.example/p.gif"`} {
		d := Simple("x", "<p>"+strings.Repeat("Some words. ", n)+"</p>")
		p, err := Compile(&d, nil)
		if err != nil {
			t.Fatal(err)
		}
		for pixel, has := range map[string]bool{"https://o.example/p.gif": true, "": false} {
			r, err := p.Render(Else, Values{}, Addresses{OptOut: "https://o.example/", Pixel: pixel})
			if err != nil || strings.Contains(r.HTML, want) != has ||
				strings.Count(r.HTML, "p.gif") != map[bool]int{true: 1, false: 0}[has] {
				t.Errorf("%d times, %q: %v\n%s", n, pixel, err, r.HTML)
			}
		}
	}
}

// byLiquid is the program with every template filled in by Liquid alone.
func (p *Program) byLiquid() *Program {
	q := &Program{doc: p.doc, links: p.links, shelf: p.shelf, names: p.names, parts: map[int64]*letter{}}
	for g, l := range p.parts {
		part := &letter{links: l.links}
		part.subject, part.html, part.text = &template{root: l.subject.root}, &template{root: l.html.root},
			&template{root: l.text.root}
		q.parts[g] = part
	}
	return q
}

// A letter is the same whether its fields are written as they are or by Liquid,
// and only the fields it names are asked for.
func TestPieceByPiece(t *testing.T) {
	for _, c := range []struct {
		subject, body string
		names         int
	}{
		{"Dear {{ person.first_name }}",
			`<p>{{ person.first_name }} &amp; {{ company.name }} <a href="https://x.example/{{ person.city }}">y</a>` +
				`</p>`, 2},
		{"x", `{{ person.city | default: "there" | upcase }}, {{ person.title }}`, 2},
		{"x", `{% if person.city %}in {{ person.city }}{% else %}abroad{% endif %} {{ sender.signature }}`, 1},
		{"x {{- person.city -}} y", `a {%- if person.city -%} b {%- endif -%} c`, 1},
		{"x", "no field", 0},
	} {
		d := Simple(c.subject, c.body)
		p, err := Compile(&d, fields)
		if err != nil {
			t.Fatal(err)
		}
		if n := p.Names(); len(n) != c.names {
			t.Errorf("%q names %v", c.body, n)
		}
		for _, city := range []string{"Bergen", "", " ", "<b>'\"&", strings.Repeat("x", maxValue),
			strings.Repeat("x", maxValue+1), "{{ person.title }}"} {
			v := Values{"person.first_name": "Ana", "company.name": city, "person.city": city, "person.title": "T",
				"sender.signature": "<i>S</i>"}
			a := Addresses{OptOut: "https://o.example/?a&b", Sender: city, Trap: "https://t.example/",
				Pixel: "https://p.example/"}
			got, err := p.Render(Else, v, a)
			want, werr := p.byLiquid().Render(Else, v, a)
			if got != want || fmt.Sprint(err) != fmt.Sprint(werr) {
				t.Errorf("%q for %.20q: piece by piece %+v, %v; by Liquid %+v, %v", c.body, city, got, err, want, werr)
			}
		}
	}
}
