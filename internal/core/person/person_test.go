package person

import (
	"strings"
	"testing"
	"unicode/utf8"
)

func TestEmail(t *testing.T) {
	for _, c := range []struct{ in, want string }{
		{" Ines.Radu@Karang.Example ", "ines.radu@karang.example"},
		{"o'neil+guide@fish.example", "o'neil+guide@fish.example"},
		{"jsmith@example.com", "jsmith@example.com"}, // RFC 2606 domain
		{"jörg@münchen.example", "jörg@münchen.example"},
		{"", ""}, {"nobody", ""}, {"a@b", ""}, {"a@b..example", ""}, {"a@.example", ""}, {"a@example.", ""},
		{"Ines <ines@karang.example>", ""}, {"a@b.example, c@d.example", ""}, {"a b@c.example", ""},
		{"a@b.example\r\nBcc: x@y.example", ""}, {`"a b"@c.example`, ""}, {"a@[127.0.0.1]", ""},
		{strings.Repeat("a", 65) + "@b.example", ""}, // RFC 5321, 4.5.3.1.1: a local part has at most 64 octets
		{"a@" + strings.Repeat("b.", 130) + "example", ""},
	} {
		got, err := Email(c.in)
		if got != c.want || (err == nil) != (c.want != "") {
			t.Errorf("Email(%q) = %q, %v; want %q", c.in, got, err, c.want)
		}
	}
}

func FuzzEmail(f *testing.F) {
	f.Add("a@b.example")
	f.Add("A.B+c@d.example ")
	f.Fuzz(func(t *testing.T, s string) {
		a, err := Email(s)
		if err != nil {
			return
		}
		if strings.ContainsAny(a, "\r\n <>,") || strings.Count(a, "@") < 1 {
			t.Errorf("Email(%q) = %q", s, a)
		}
		if b, err := Email(a); err != nil || b != a {
			t.Errorf("Email(%q) = %q, and of that %q, %v", s, a, b, err)
		}
	})
}

func TestCompanyDomain(t *testing.T) {
	for in, want := range map[string]string{"a@fjord.example": "fjord.example", "a@freemail.example": "", "none": ""} {
		if got := CompanyDomain(in); got != want {
			t.Errorf("CompanyDomain(%q) = %q, want %q", in, got, want)
		}
	}
}

func TestName(t *testing.T) {
	for in, want := range map[string]string{"  Ngô   Thị\tHoa ": "Ngô Thị Hoa", "a\r\nb": "a b", "\x00": "",
		"x\xffy": "xy"} {
		if got := Name(in); got != want {
			t.Errorf("Name(%q) = %q, want %q", in, got, want)
		}
	}
	if long := Name(strings.Repeat("ö", 500)); len(long) > MaxName || !utf8.ValidString(long) {
		t.Errorf("a long name is cut to %d bytes", len(long))
	}
	if Full("", " ", "a@b.example") != "a@b.example" || Full("Ana", "", "") != "Ana" {
		t.Error("Full")
	}
}
