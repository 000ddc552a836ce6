package message

import (
	"strings"
	"testing"
)

// What a document is found by has all that it says to anybody, without its marks and merge fields.
func TestPlain(t *testing.T) {
	d := Simple("Hello {{ person.first_name }}",
		"<p>Read <a href=\"https://x.example\">the guide</a> &amp; {% if x %}rest{% endif %}</p>")
	got := d.Plain()
	for _, want := range []string{"Hello …", "the guide", "& …rest…"} {
		if !strings.Contains(got, want) {
			t.Errorf("it lacks %q: %q", want, got)
		}
	}
	if strings.Contains(got, "{{") || strings.Contains(got, "<p>") {
		t.Errorf("it has marks: %q", got)
	}
	long := Simple("x", "<p>"+strings.Repeat("ä", maxPlain)+"</p>")
	if got := long.Plain(); len(got) > maxPlain {
		t.Errorf("it has %d bytes", len(got))
	}
}
