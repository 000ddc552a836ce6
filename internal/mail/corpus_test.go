package mail

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestLetters reads letters made up after real forms, one a file: first what is
// to be made of it, then the letter. Only what is named is asked.
func TestLetters(t *testing.T) {
	files, err := filepath.Glob("testdata/letters/*.txt")
	if err != nil || len(files) < 50 {
		t.Fatalf("%d letters, %v", len(files), err)
	}
	for _, f := range files {
		t.Run(strings.TrimSuffix(filepath.Base(f), ".txt"), func(t *testing.T) {
			raw, err := os.ReadFile(f)
			if err != nil {
				t.Fatal(err)
			}
			want, source, ok := bytes.Cut(raw, []byte("\n=== the letter\n"))
			if !ok {
				t.Fatal("no letter in it")
			}
			m := Read(source)
			var about []string
			for _, r := range m.About {
				about = append(about, strings.TrimSpace(r.Address+" "+r.Action+" "+r.Status))
			}
			got := map[string]string{
				"kind": m.Kind.String(), "from": m.From, "answers": strings.Join(m.References, " "),
				"says": m.Said, "about": strings.Join(about, ", "),
			}
			asked := 0
			for l := range strings.Lines(string(want)) {
				key, value, _ := strings.Cut(strings.TrimSpace(l), ":")
				value = strings.ReplaceAll(strings.TrimSpace(value), `\n`, "\n")
				have, known := got[key]
				if !known {
					t.Fatalf("nobody knows what %q is", key)
				}
				if asked++; have != value {
					t.Errorf("%s: %q, want %q", key, have, value)
				}
			}
			if asked < 3 {
				t.Errorf("only %d things are asked", asked)
			}
			if strings.TrimSpace(m.Text) == "" && m.Said != "(encrypted: it cannot be read here)" {
				t.Error("the whole of it is empty")
			}
		})
	}
}

// Cut off anywhere, a letter is read as far as it goes, and nothing of it is refused.
func TestLettersCutOff(t *testing.T) {
	files, err := filepath.Glob("testdata/letters/*.txt")
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range files {
		raw, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		_, source, _ := bytes.Cut(raw, []byte("\n=== the letter\n"))
		for n := 0; n < len(source); n += 1 + len(source)/60 {
			if m := Read(source[:n]); strings.TrimSpace(m.Text) != "" && m.Said == "" {
				t.Errorf("%s at %d says nothing of %q", f, n, m.Text)
			}
		}
	}
}

// What comes from nobody is no person's, whatever it says (RFC 5321, 4.5.5).
func TestNobodyIsNoPerson(t *testing.T) {
	for from, want := range map[string]Kind{"": Automatic, "ana@fjord.example": FromPerson} {
		m := Read([]byte("From: Ana <ana@fjord.example>\r\n\r\nYes.\r\n"))
		if m.Envelope(from, nil); m.Kind != want {
			t.Errorf("%q: %s", from, m.Kind)
		}
	}
	for _, from := range []string{"MAILER-DAEMON@x.example", "Mail Delivery System <mailer-daemon@x.example>",
		"MAILER-DAEMON (Mail)"} {
		if m := Read(fmt.Appendf(nil, "From: %s\r\n\r\nYes.\r\n", from)); m.Kind == FromPerson {
			t.Errorf("%s is a person", from)
		}
	}
}
