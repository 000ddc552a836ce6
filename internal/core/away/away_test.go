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
		"I'm back on 2026-05-04.":                                                "2026-05-04",
		"Away until 1 May, back on Monday, 4 May":                                "2026-05-04",
		"Thank you for your mail. I return on May 4th, 2026":                     "2026-05-04",
		"I'll be back in the office on Monday.":                                  "2026-04-20",
		"On leave through April 30":                                              "2026-05-01",
		"Ich bin bis zum 24.04.2026 nicht im Büro.":                              "2026-04-25",
		"Ich bin ab dem 4. Mai wieder erreichbar":                                "2026-05-04",
		"Abwesend bis einschließlich Freitag, den 24. April":                     "2026-04-25",
		"Estaré fuera hasta el 3 de mayo de 2026":                                "2026-05-04",
		"Vuelvo el 4 de mayo":                                                    "2026-05-04",
		"Je suis absent jusqu’au 3 mai 2026":                                     "2026-05-04",
		"de retour le 4 mai":                                                     "2026-05-04",
		"Jeg er på ferie til og med 24. april":                                   "2026-04-25",
		"Jeg er tilbake 4. mai":                                                  "2026-05-04",
		"Jag är åter den 4 maj":                                                  "2026-05-04",
		"away until 30/04/2026":                                                  "2026-05-01",
		"I return 2 January":                                                     "2027-01-02",
		"Ich bin bis 24.4. im Urlaub, ab 27.4. wieder da":                        "2026-04-27",
		"bis 24.04., ab 27.04.":                                                  "2026-04-27",
		"Ich bin ab 20. April im Urlaub. Bis 24. April nicht da.":                "2026-04-25", // it begins on the 20th
		"Wieder ab Montag, 4. Mai":                                               "2026-05-04",
		"Ab Montag bin ich wieder da":                                            "2026-04-20",
		"vom 20.04. bis 24.04. nicht im Haus":                                    "2026-04-25",
		"Je serai absent du 20 au 24 avril":                                      "2026-04-25",
		"De retour lundi 4 mai":                                                  "2026-05-04",
		"Estoy fuera del 20 al 24 de abril, vuelvo el lunes 27 de abril":         "2026-04-27",
		"Estarei ausente até 24 de abril de 2026":                                "2026-04-25",
		"Estarei de volta na segunda-feira, 27 de abril":                         "2026-04-27",
		"Volto a 27 de abril":                                                    "2026-04-27",
		"Sono fuori ufficio fino al 24 aprile":                                   "2026-04-25",
		"Rientrerò lunedì 27 aprile":                                             "2026-04-27",
		"Torno il 27 aprile 2026":                                                "2026-04-27",
		"Sarò assente dal 20 al 24 aprile":                                       "2026-04-25",
		"Ik ben afwezig t/m vrijdag 24 april":                                    "2026-04-25",
		"Ik ben maandag 27 april weer op kantoor, afwezig tot en met 24-04-2026": "2026-04-25",
		"Terug op maandag 27 april":                                              "2026-04-27",
		"Weer bereikbaar vanaf 27 april":                                         "2026-04-27",
		"Jeg er tilbake mandag 27. april":                                        "2026-04-27",
		"Jeg er på ferie til fredag 24. april":                                   "2026-04-25",
		"Jeg holder ferie til og med den 24. april":                              "2026-04-25",
		"Jeg er tilbage på kontoret mandag den 27. april":                        "2026-04-27",
		"Jag är tillbaka måndag 27 april":                                        "2026-04-27",
		"Jag är ledig till och med fredag den 24 april":                          "2026-04-25",
		"Olen lomalla 24.4.2026 asti":                                            "2026-04-25",
		"Palaan töihin maanantaina 27.4.":                                        "2026-04-27",
		"Palaan 27. huhtikuuta":                                                  "2026-04-27",
		"Tavoitettavissa 27.4. alkaen":                                           "2026-04-27",
		"Lomalla marraskuussa, palaan 3. marraskuuta":                            "2026-11-03",
		"Jestem nieobecny do 24 kwietnia":                                        "2026-04-25",
		"Wracam w poniedziałek 27 kwietnia":                                      "2026-04-27",
		"Wracam do biura 27.04.2026":                                             "2026-04-27",
		"4月24日(金)まで休暇をいただいております。":                                                "2026-04-25",
		"4月20日から4月24日まで不在です。":                                                    "2026-04-25",
		"2026年4月27日(月)より通常業務に戻ります。":                                              "2026-04-27",
		"Back Monday":           "2026-04-20",
		"Away until Friday.":    "2026-04-18",
		"Returning Wed, 22 Apr": "2026-04-22",
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
