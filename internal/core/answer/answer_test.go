package answer

import (
	"strings"
	"testing"
)

// Common practice, no source: how programs mark what they quote.
func TestSaid(t *testing.T) {
	for text, want := range map[string]string{
		"Yes, please call me.":             "Yes, please call me.",
		"Yes.\n\n> Are you well?\n> Yours": "Yes.",
		"Yes.\r\n\r\nOn 3 March 2026 at 10:02, Jo Reed <jo@karang.example> wrote:\r\n> Hello\r\n":        "Yes.",
		"Yes.\n\nOn Tue, 3 Mar 2026 at 10:02, Jo Reed <jo@karang.example>\nwrote:\n\nHello,\nnot marked": "Yes.",
		"Ja.\n\nAm 03.03.2026 um 10:02 schrieb Jo Reed <jo@karang.example>:\n> Hallo":                    "Ja.",
		"Ja.\n\nJo Reed <jo@karang.example> schrieb am Di., 3. März 2026, 10:02:\n> Hallo":               "Ja.",
		"Oui.\n\nLe mar. 3 mars 2026 à 10:02, Jo Reed <jo@karang.example> a écrit :\n> Bonjour":          "Oui.",
		"Sí.\n\nEl mar, 3 mar 2026 a las 10:02, Jo (<jo@karang.example>) escribió:\n> Hola":              "Sí.",
		"Sim.\n\nEm ter., 3 de mar. de 2026 às 10:02, Jo <jo@karang.example> escreveu:\n> Olá":           "Sim.",
		"Sì.\n\nIl giorno mar 3 mar 2026 alle ore 10:02 Jo <jo@karang.example> ha scritto:\n> Ciao":      "Sì.",
		"Ja.\n\nOp di 3 mrt 2026 om 10:02 schreef Jo <jo@karang.example>:\n> Dag":                        "Ja.",
		"Ja.\n\ntir. 3. mar. 2026 kl. 10:02 skrev Jo <jo@karang.example>:\n> Hei":                        "Ja.",
		"Ja.\n\nDen tis 3 mars 2026 kl 10:02 skrev Jo <jo@karang.example>:\n> Hej":                       "Ja.",
		"Kyllä.\n\nti 3. maalisk. 2026 klo 10.02 Jo (jo@karang.example) kirjoitti:\n> Hei":               "Kyllä.",
		"Tak.\n\nwt., 3 mar 2026 o 10:02 Jo <jo@karang.example> napisał(a):\n> Witam":                    "Tak.",
		"はい。\n\n2026年3月3日(火) 10:02 Jo <jo@karang.example>:\n> こんにちは":                                     "はい。",
		// The head of the quoted letter, with and without a rule.
		"Yes.\n\nFrom: Jo Reed <jo@karang.example>\nSent: Tuesday, 3 March 2026 10:02\nTo: Ann\nSubject: Buoys\n\nHello": "Yes.",
		"Ja.\n________________________________\nVon: Jo Reed\nGesendet: Dienstag\nAn: Ann\nBetreff: Bojen\n\nHallo":      "Ja.",
		"Oui.\n\n-----Message d'origine-----\nDe : Jo\nEnvoyé : mardi\nÀ : Ann\nObjet : Bouées\n\nBonjour":               "Oui.",
		"Ja.\n\n-------- Ursprüngliche Nachricht --------\nVon: Jo\nDatum: 03.03.26\n\nHallo":                            "Ja.",
		"Tak.\n\nOd: Jo\nWysłano: wtorek\nDo: Ann\nTemat: Boje\n\nWitam":                                                 "Tak.",
		"*From:* Jo\n*Sent:* Tuesday\n*To:* Ann\n\nHello":                                                                "*From:* Jo\n*Sent:* Tuesday\n*To:* Ann\n\nHello",
		// Answers below and within the quotation stay.
		"On 3 March 2026, Jo wrote:\n> Do you use buoys?\nYes, four.\n> And sensors?\nNone yet.": "Yes, four.\nNone " +
			"yet.",
		// What only looks like it.
		"On the phone he wrote: call us.":             "On the phone he wrote: call us.",
		"I heard from: Ann and Jo.\nTo: be discussed": "I heard from: Ann and Jo.\nTo: be discussed",
		"Our order:\n\n- four buoys\n- a sensor":      "Our order:\n\n- four buoys\n- a sensor",
		"Am Montag kommen wir. Bitte schreiben Sie uns vorher:\na@b": "Am Montag kommen wir. Bitte schreiben Sie uns " +
			"vorher:\na@b",
		"> Only what was asked": "> Only what was asked",
		"":                      "",
	} {
		if got := Said(text); got != want {
			t.Errorf("%q\n got %q\nwant %q", text, got, want)
		}
	}
}

// Of a very long letter what stands first is looked through; what is marked as
// quoted is left out to its end, and nothing else is lost.
func TestSaidOfALongLetter(t *testing.T) {
	quoted := strings.Repeat("> quoted again and again\n", 4000)
	if got := Said("Yes.\n\nOn 3 March 2026, Jo wrote:\n" + quoted + "And yes."); got != "Yes.\n\n\nAnd yes." &&
		got != "Yes.\n\nAnd yes." {
		t.Errorf("%.200q", got)
	}
	own := strings.TrimSpace(strings.Repeat("what I say myself\n", 8000))
	if got := Said(own); got != own {
		t.Errorf("of %d letters %d are said", len(own), len(got))
	}
	if got := Said("Yes.\n-----Original Message-----\n" + own); got != "Yes." {
		t.Errorf("%.200q", got)
	}
}

func FuzzSaid(f *testing.F) {
	f.Add("Yes.\n\nOn 3 March 2026, Jo wrote:\n> Hello\n-----Original Message-----\nFrom: a\nTo: b\nSent: c")
	f.Fuzz(func(t *testing.T, text string) {
		said := Said(text)
		if strings.TrimSpace(text) != "" && said == "" {
			t.Errorf("%q says nothing", text)
		}
		whole := strings.ReplaceAll(text, "\r\n", "\n")
		for _, l := range strings.Split(said, "\n") { // never a line that was not written
			if !strings.Contains(whole, strings.TrimSpace(l)) {
				t.Errorf("%q is not in %q", l, text)
			}
		}
	})
}
