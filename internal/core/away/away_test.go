package away

import (
	"testing"
	"time"
)

// Common practice, no source: how such answers are worded.
func TestUntil(t *testing.T) {
	now := time.Date(2026, 4, 14, 9, 20, 0, 0, time.UTC) // a Tuesday
	for text, want := range map[string]string{
		"I am out of the office until 12 May 2026 with limited access to email.":   "2026-05-13",
		"I will be away until and including Friday, 24 April. For orders call Jo.": "2026-04-25",
		"I'm back on 2026-05-04.":                            "2026-05-04",
		"Away until 1 May, back on Monday, 4 May":            "2026-05-04",
		"Thank you for your mail. I return on May 4th, 2026": "2026-05-04",
		"I'll be back in the office on Monday.":              "2026-04-20",
		"On leave through April 30":                          "2026-05-01",
		"Ich bin bis zum 24.04.2026 nicht im Büro.":          "2026-04-25",
		"Ich bin ab dem 4. Mai wieder erreichbar":            "2026-05-04",
		"Abwesend bis einschließlich Freitag, den 24. April": "2026-04-25",
		"Estaré fuera hasta el 3 de mayo de 2026":            "2026-05-04",
		"Vuelvo el 4 de mayo":                                "2026-05-04",
		"Je suis absent jusqu’au 3 mai 2026":                 "2026-05-04",
		"de retour le 4 mai":                                 "2026-05-04",
		"Jeg er på ferie til og med 24. april":               "2026-04-25",
		"Jeg er tilbake 4. mai":                              "2026-05-04",
		"Jag är åter den 4 maj":                              "2026-05-04",
		"away until 30/04/2026":                              "2026-05-01",
		"I return 2 January":                                 "2027-01-02",
		// What is not taken.
		"away until 05/04/2026":                                "", // the fourth of May or the fifth of April
		"I was back on 1 April 2026":                           "", // past
		"away until 31 June":                                   "",
		"back on 4 May 2031":                                   "",
		"Our offer holds for 12 May":                           "",
		"Thanks, I will have a look. Call me back on 55512345": "",
		"": "",
	} {
		got, ok := Until(text, now)
		if ok != (want != "") || ok && got.Format(time.DateOnly) != want {
			t.Errorf("%q: %s, %v; want %q", text, got.Format(time.DateOnly), ok, want)
		}
	}
}

func FuzzUntil(f *testing.F) {
	f.Add("until 12 May 2026, back on 2026-05-13")
	now := time.Date(2026, 4, 14, 9, 20, 0, 0, time.UTC)
	f.Fuzz(func(t *testing.T, text string) {
		if d, ok := Until(text, now); ok && (!d.After(now) || d.After(now.AddDate(1, 0, 1))) {
			t.Errorf("%q: %s", text, d)
		}
	})
}
