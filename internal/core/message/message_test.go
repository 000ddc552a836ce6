package message

import (
	"errors"
	"fmt"
	"strings"
	"testing"
)

var reader = Values{"person.first_name": "Ngô & Söhne <b>", "company.name": "Fjord Farms", "person.title": "  ", "sender.name": "Ines Radu"}

func TestMergeFields(t *testing.T) {
	for _, c := range []struct{ name, in, want, missing string }{
		{"a value", `Dear {{ company.name }},`, "Dear Fjord Farms,", ""},
		{"a fallback not needed", `{{ company.name | default: "you" }}`, "Fjord Farms", ""},
		{"a fallback for nothing", `Dear {{ person.city | default: "reader" }},`, "Dear reader,", ""},
		{"a fallback for spaces", `{{person.title|default:"expert"}}`, "expert", ""},
		{"no value, no fallback", `Dear {{ person.last_name }},`, "", "person.last_name"},
		{"spaces are no value", `Dear {{ person.title }},`, "", "person.title"},
		{"a branch that is not taken asks nothing", `{% if person.city %}{{ person.city }}{% else %}there{% endif %}`, "there", ""},
		{"filters", `{{ company.name | upcase }}`, "FJORD FARMS", ""},
	} {
		m := Message{Subject: c.in, Body: "<div>" + c.in + "</div>"}
		got, err := m.Render(reader, nil)
		if c.missing != "" {
			if miss, ok := errors.AsType[*Missing](err); !ok || miss.Field != c.missing {
				t.Errorf("%s: %v, want %s missing", c.name, err, c.missing)
			}
			continue
		}
		if err != nil || got.Subject != c.want || got.HTML != "<div>"+c.want+"</div>" {
			t.Errorf("%s: %+v, %v", c.name, got, err)
		}
	}
}

func TestValuesCannotBreakOut(t *testing.T) {
	m := Message{Subject: "For {{ person.first_name }}", Body: `<p>{{ person.first_name | default: &quot;you&quot; }}</p>`}
	got, err := m.Render(Values{"person.first_name": "<script>x</script>\r\nBcc: all@x.example"}, nil)
	if err != nil {
		t.Fatal(err)
	}
	if strings.ContainsAny(got.Subject, "\r\n") {
		t.Errorf("a header broke out of the subject: %q", got.Subject)
	}
	if strings.Contains(got.HTML, "<script") {
		t.Errorf("a script came in by a name: %s", got.HTML)
	}
	evil := `<p onclick="x()">a<script>1</script><a href="javascript:x()">b</a><style>p{}</style><img src=x onerror=y><form><input></form></p>`
	if c := Clean(evil); strings.Contains(c, "script") || strings.Contains(c, "on") || strings.Contains(c, "<form") || strings.Contains(c, "style") {
		t.Errorf("cleaned to %s", c)
	}
}

func TestLinks(t *testing.T) {
	m := Message{Subject: "s", Body: `<p>Dear {{ company.name }}, <a href="/g/alarms?a=1&amp;b=2">the guide</a>, <a href="mailto:a@b.example">me</a>, <a href="https://karang.example/">us</a></p>`}
	if got := fmt.Sprint(m.Links()); got != "[/g/alarms?a=1&b=2 https://karang.example/]" {
		t.Errorf("links %s", got)
	}
	got, err := m.Render(reader, func(n int, target string) string { return fmt.Sprintf("https://l.example/%d?x&y", n) })
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{`href="https://l.example/1?x&amp;y"`, `href="https://l.example/2?x&amp;y"`, `href="mailto:a@b.example"`} {
		if !strings.Contains(got.HTML, want) {
			t.Errorf("%s has no %s", got.HTML, want)
		}
	}
	if !strings.Contains(got.Text, "https://l.example/1?x&y") || !strings.Contains(got.Text, "Dear Fjord Farms") {
		t.Errorf("text %q", got.Text)
	}
}

func TestCheck(t *testing.T) {
	for _, c := range []struct {
		m    Message
		want string
	}{
		{Message{"Three alarms", "<p>Dear {{ person.first_name | default: 'reader' }}</p>"}, ""},
		{Message{" ", "<p>x</p>"}, "no subject"},
		{Message{"x", "<p> </p>"}, "no text"},
		{Message{"x", "<p>{{ person.shoe_size }}</p>"}, "no merge field person.shoe_size"},
		{Message{"x {{ person.first_name", "<p>x {% if %}</p>"}, "cannot be read"},
		{Message{strings.Repeat("x", 300), "<p>x</p>"}, "longer"},
		{Message{"a\nb", "<p>x</p>"}, "one line"},
	} {
		err := c.m.Check()
		if (err == nil) != (c.want == "") || (err != nil && !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%+v: %v, want %q", c.m, err, c.want)
		}
	}
}

func FuzzRender(f *testing.F) {
	f.Add(`Dear {{ person.first_name | default: "you" }}`, "x")
	f.Add(`{% for i in (1..3) %}{{ company.name }}{% endfor %}`, "<a href=x>")
	f.Fuzz(func(t *testing.T, body, value string) {
		if strings.Contains(body, "{%") {
			t.Skip() // loops are the marketer's own
		}
		m := Message{Subject: "s", Body: body}
		got, err := m.Render(Values{"person.first_name": value, "company.name": value}, nil)
		if err == nil && strings.Contains(strings.ToLower(got.HTML), "<script") {
			t.Errorf("script in %q", got.HTML)
		}
	})
}
