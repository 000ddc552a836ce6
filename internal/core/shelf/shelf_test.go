package shelf

import (
	"bytes"
	"errors"
	"net/http"
	"strings"
	"testing"
)

func TestWhatIsTaken(t *testing.T) {
	png := "\x89PNG\r\n\x1a\nrest"
	zip := "PK\x03\x04" + strings.Repeat("x", 30)
	for _, c := range []struct{ name, data, want, wrong string }{
		{"guide.pdf", "%PDF-1.7 x", "application/pdf", ""},
		{"GUIDE.PDF", "%PDF-1.7 x", "application/pdf", ""},
		{"buoy.png", png, "image/png", ""},
		{"table.csv", "a;b\n1;2\n", "text/plain; charset=utf-8", ""},
		{"sheet.xlsx", zip + "[Content_Types].xml", "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
			""},
		// Files that lie about what they are, and what could run in our name.
		{"guide.pdf", "<html><script>x()</script>", "", "something else"},
		{"guide.pdf", png, "", "something else"},
		{"buoy.png", "<svg onload=x()>", "", "something else"},
		{"notes.txt", "<!DOCTYPE html><p>x", "", "something else"},
		{"notes.txt", "hello\n\n  <ScRipt>x()</script>", "", "page or a script"},
		{"sheet.xlsx", zip, "", "another archive"},
		{"drawing.svg", "<svg></svg>", "", "not taken"},
		{"page.html", "<p>", "", "not taken"},
		{"setup.exe", "MZ\x90", "", "not taken"},
		{"guide", "%PDF-1.7", "", "not taken"},
		{"guide.pdf.exe", "%PDF-1.7", "", "not taken"},
	} {
		got, err := Accept(c.name, http.DetectContentType([]byte(c.data)), []byte(c.data))
		if got != c.want || (err == nil) != (c.wrong == "") || err != nil && !strings.Contains(err.Error(), c.wrong) {
			t.Errorf("%s: %q, %v", c.name, got, err)
		}
	}
	if _, err := Accept("a.pdf", "application/pdf", nil); !errors.Is(err, ErrEmpty) {
		t.Errorf("an empty file: %v", err)
	}
	if _, err := Accept("a.pdf", "application/pdf",
		append([]byte("%PDF-"), bytes.Repeat([]byte{'x'}, MaxFile)...)); !errors.Is(err, ErrLarge) {
		t.Errorf("a file beyond the limit: %v", err)
	}
	for name, want := range map[string]string{`a"b.pdf`: "a-b.pdf", "../../etc/passwd": "passwd", `c:\x\y.pdf`: "y.pdf",
		"über\r\n.pdf": "-ber--.pdf"} {
		if got := SafeName(name); got != want {
			t.Errorf("%q became %q", name, got)
		}
	}
	if !Inline("image/png") || Inline("application/zip") || Inline("text/html") {
		t.Error("what is shown in place")
	}
}
