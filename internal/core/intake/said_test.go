package intake

import (
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"
	"time"
)

func TestWhatACellSaysOfConsent(t *testing.T) {
	day := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	for text, want := range map[string]Consent{
		"yes": {Given: true}, "No": {}, "true": {Given: true}, "x": {Given: true},
		"yes, 2026-03-01": {Given: true, At: day},
		"yes, 2026-03-01T09:30:00.000001+01:00, by form: ticked at the fair: stand 4, left": {Given: true,
			At: day.Add(8*time.Hour + 30*time.Minute + time.Microsecond), How: "by form",
			Ground: "ticked at the fair: stand 4, left"},
		"no, by telephone":          {How: "by telephone"},
		"no: asked on the phone":    {Ground: "asked on the phone"},
		"yes, on paper, and signed": {Given: true, How: "on paper, and signed"},
	} {
		got, err := ParseConsent(text)
		if err != nil || got != want {
			t.Errorf("%q: %+v, %v", text, got, err)
		}
		if again, err := ParseConsent(ConsentText(got)); err != nil || again != got {
			t.Errorf("%q comes back as %+v, %v", ConsentText(got), again, err)
		}
	}
	for _, bad := range []string{"", "perhaps", "2026-03-01", ", yes", "yes: " + strings.Repeat("x", 1001),
		"yes, " + strings.Repeat("x", 201)} {
		if got, err := ParseConsent(bad); err == nil {
			t.Errorf("%.20q was taken: %+v", bad, got)
		}
	}
}

func TestNotesComeBack(t *testing.T) {
	at := time.Date(2026, 3, 1, 9, 30, 0, 1000, time.UTC)
	rnd := rand.New(rand.NewPCG(3, 1))
	bits := []string{"a", "— ", `\`, "\n", "— 2026-03-01, Ines", ", ", "Ngô", ": ", "-5"}
	for range 3000 {
		var list []Noted
		for range rnd.IntN(4) {
			text := "x"
			for range rnd.IntN(6) {
				text += bits[rnd.IntN(len(bits))]
			}
			list = append(list, Noted{At: at, By: "Ines Radu", Text: strings.TrimSpace(text + "y")})
		}
		if got := ParseNotes(NotesText(list)); len(list) > 0 && !reflect.DeepEqual(got, list) || len(got) != len(list) {
			t.Fatalf("%q came back as %q", list, got)
		}
	}
	for text, want := range map[string][]Noted{
		"Wants a trial":              {{Text: "Wants a trial"}},
		"one\r\n\\two\n— not a head": {{Text: "one\n\\two\n— not a head"}},
		" \n ":                       {},
		"by hand\n— 2026-03-01, Bo\nlater": {{Text: "by hand"},
			{At: at.Truncate(24 * time.Hour), By: "Bo", Text: "later"}},
		"— 2026-03-01, Bo\n— 2026-03-01, Cy": {},
	} {
		got := ParseNotes(text)
		if len(got) != len(want) || len(want) > 0 && !reflect.DeepEqual(got, want) {
			t.Errorf("%q: %q", text, got)
		}
	}
}

func FuzzSaid(f *testing.F) {
	f.Add("yes, 2026-03-01, by form: x", "— 2026-03-01, Bo\n\\— text")
	f.Fuzz(func(t *testing.T, consent, notes string) {
		if c, err := ParseConsent(consent); err == nil && c.At.Year() > 0 && c.At.Year() < 10000 {
			if again, err := ParseConsent(ConsentText(c)); err != nil || again != c {
				t.Errorf("%q: %+v comes back as %+v, %v", consent, c, again, err)
			}
		}
		list := ParseNotes(notes)
		for i, n := range list {
			if strings.TrimSpace(n.Text) == "" {
				t.Errorf("note %d of %q is empty", i, notes)
			}
		}
	})
}
