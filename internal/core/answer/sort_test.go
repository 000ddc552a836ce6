package answer

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/signal"
)

// What people say, and what the usual rules make of it (common practice, no source).
func TestSuggest(t *testing.T) {
	for _, c := range []struct {
		said  string
		want  Sort
		words string
	}{
		{"Yes, I am interested. Please call me.", Interested, "interested"},
		{"Sorry, we are NOT interested.", NotInterested, "NOT interested"},
		{"We are not really all that interested", NotInterested, "not really all that interested"},
		{"Thanks, but no thanks!", NotInterested, "no thanks"},
		{"Not right now — try again in spring.", NotNow, "Not right now"},
		{"There is no budget for it this year", NotNow, "no budget for it this year"},
		{"I am not the right person; ask Ben.", WrongPerson, "not the right person"},
		{"My colleague Ben Ito handles this.", WrongPerson, "colleague Ben Ito handles"},
		{"I'm interested in one thing: please don’t contact me", OptedOut, "don’t contact me"},
		{"unsubscribe", OptedOut, "unsubscribe"},
		{"Kein Interesse.", NotInterested, "Kein Interesse"},
		{"Nous ne sommes pas intéressés", NotInterested, "pas intéressés"},
		{"How deep is the mooring?", "", ""},
		{"disinterestedness", "", ""},
		{"", "", ""},
	} {
		s, ok := Usual().Suggest(c.said)
		if ok != (c.want != "") || s.Sort != c.want {
			t.Errorf("%q: %q, %v, want %q", c.said, s.Sort, ok, c.want)
		} else if ok && c.said[s.From:s.To] != c.words {
			t.Errorf("%q: led to by %q, want %q", c.said, c.said[s.From:s.To], c.words)
		}
	}
}

// plainly finds a phrase as a search for a pattern does.
func plainlyFound(said, phrase string) (from, to int, ok bool) {
	const between = `[^\p{L}\p{M}\p{Nd}']+`
	parts := strings.Split(phrase, "…")
	for i, p := range parts {
		parts[i] = strings.Join(strings.Fields(p), between)
	}
	x := regexp.MustCompile(`(?i)(?:^|[^\p{L}\p{M}\p{Nd}'])(` +
		strings.Join(parts, between+`(?:[\p{L}\p{M}\p{Nd}']+`+between+`){0,3}`) + `)(?:[^\p{L}\p{M}\p{Nd}']|$)`)
	x.Longest()
	m := x.FindStringSubmatchIndex(said)
	if m == nil {
		return 0, 0, false
	}
	return m[2], m[3], true
}

// Phrases are found where a search for their pattern finds them, on generated texts and phrases.
func TestSuggestAgainstAPattern(t *testing.T) {
	rnd := rand.New(rand.NewPCG(14, 1))
	words := []string{"a", "b", "Ä", "no", "don't", "7"}
	gaps := []string{" ", ", ", " – ", "\n"}
	hits := 0
	for range 4000 {
		var text, phrase strings.Builder
		for i := range 1 + rnd.IntN(9) {
			if i > 0 {
				text.WriteString(gaps[rnd.IntN(len(gaps))])
			}
			text.WriteString(words[rnd.IntN(len(words))])
		}
		for i := range 1 + rnd.IntN(3) {
			if i > 0 {
				phrase.WriteString([]string{" ", " … "}[rnd.IntN(2)])
			}
			phrase.WriteString(words[rnd.IntN(len(words))])
		}
		from, to, ok := plainlyFound(text.String(), phrase.String())
		s, found := Rules{{Interested, []string{phrase.String()}}}.Suggest(text.String())
		if found != ok || ok && (s.From != from || s.To != to) {
			t.Fatalf("%q in %q: %d to %d, %v; the pattern says %d to %d, %v", phrase.String(), text.String(), s.From,
				s.To, found, from, to, ok)
		}
		if ok {
			hits++
		}
	}
	if hits < 500 {
		t.Errorf("only %d phrases were there", hits)
	}
}

func TestRulesAreChecked(t *testing.T) {
	r := Usual()
	if err := r.Check(); err != nil {
		t.Errorf("the usual ones: %v", err)
	}
	many := make([]string, maxPhrases+1)
	for i := range many {
		many[i] = fmt.Sprint("word", i)
	}
	for name, r := range map[string]Rules{
		"no sort":         {{"maybe", []string{"a"}}},
		"long":            {{Interested, []string{strings.Repeat("a", maxPhrase+1)}}},
		"no word":         {{Interested, []string{"?!"}}},
		"ends with a gap": {{Interested, []string{"send …"}}},
		"begins with one": {{Interested, []string{"… offer"}}},
		"too many":        {{Interested, many}},
	} {
		if r.Check() == nil {
			t.Errorf("%s: is fine", name)
		}
	}
	r = Rules{{Interested, []string{"  send \t it ", ""}}}
	if err := r.Check(); err != nil || len(r[0].Phrases) != 1 || r[0].Phrases[0] != "send it" {
		t.Errorf("tidied they are %q, %v", r[0].Phrases, err)
	}
	seen := map[signal.Kind]bool{}
	for _, s := range Sorts() {
		if !s.Known() || !s.Signal().Known() || seen[s.Signal()] {
			t.Errorf("%s is known: %v, and is the signal %v", s, s.Known(), s.Signal())
		}
		seen[s.Signal()] = true
	}
	if Sort("").Known() || Sort("x").Signal() != 0 {
		t.Error("what is no sort is one")
	}
}

// A text of many words that nearly begin a phrase, and letters that are none, take no time and
// break nothing.
func TestSuggestOnAnything(t *testing.T) {
	long := strings.Repeat("not ", 30000)
	if s, ok := (Rules{{NotInterested, []string{"not … not … not … interested"}}}).Suggest(long + "interested"); ok {
		t.Errorf("what stands beyond the end is read: %+v", s)
	}
	Usual().Suggest("\xff\xfe not\x00interested \xc3")
}

func FuzzSuggest(f *testing.F) {
	f.Add("not really interested", "not … interested")
	f.Add("\xff’'", "'")
	f.Fuzz(func(t *testing.T, said, phrase string) {
		r := Rules{{Interested, []string{phrase}}}
		if r.Check() != nil {
			return
		}
		if s, ok := r.Suggest(said); ok && (s.From < 0 || s.To > len(said) || s.From >= s.To) {
			t.Errorf("%q: %d to %d", said, s.From, s.To)
		}
	})
}

// When people want to hear again (common practice, no source). 14 April 2026 is a Tuesday.
func TestWhen(t *testing.T) {
	today := calendar.Date{Year: 2026, Month: time.April, Day: 14}
	for said, want := range map[string]string{
		"Try again in three months":              "2026-07-14",
		"in 2 weeks please":                      "2026-04-28",
		"maybe in a few days":                    "2026-04-17",
		"come back in a year":                    "2027-04-14",
		"contact me again in September":          "2026-09-01",
		"in March we will know":                  "2027-03-01",
		"in April 2027":                          "2027-04-01",
		"budget is for Q3":                       "2026-07-01",
		"Q1 would be better":                     "2027-01-01",
		"Q1 2026 was too early":                  "",
		"next week":                              "2026-04-20",
		"next month":                             "2026-05-01",
		"next quarter":                           "2026-07-01",
		"next year":                              "2027-01-01",
		"after the summer":                       "2026-09-01",
		"after Easter":                           "2026-05-01",
		"I am away until 4 May, write then":      "2026-05-05",
		"not now":                                "",
		"in 0 days":                              "",
		"":                                       "",
		strings.Repeat("x", maxText) + " in May": "",
	} {
		d, ok := When(said, today)
		got := ""
		if ok {
			got = fmt.Sprintf("%04d-%02d-%02d", d.Year, d.Month, d.Day)
		}
		if got != want {
			t.Errorf("%.60q: %q, want %q", said, got, want)
		}
	}
	// The last day of a month stays one: 31 August, a month later, is 30 September.
	if d, ok := When("in one month", calendar.Date{Year: 2026, Month: time.August, Day: 31}); !ok || d.Day != 30 || d.Month != 9 {
		t.Errorf("a month after 31 August is %v", d)
	}
	if d, ok := When("next week", calendar.Date{Year: 2026, Month: time.April, Day: 13}); !ok || d.Day != 20 {
		t.Errorf("the week after a Monday begins on %v", d)
	}
	if d, ok := When("next quarter", calendar.Date{Year: 2026, Month: time.December, Day: 1}); !ok || d.Year != 2027 || d.Month != 1 {
		t.Errorf("the quarter after December begins on %v", d)
	}
}

// Sentences of each language, and such as say too little (common practice, no source).
func TestLanguage(t *testing.T) {
	for said, want := range map[string]string{
		"We would like to know what the sensor costs, and how deep you measure.":     "english",
		"Wir haben im Moment nicht die Zeit, bitte schreiben Sie mir im Herbst.":     "german",
		"Merci, mais nous ne sommes pas intéressés pour le moment.":                  "french",
		"Gracias, pero no es para nosotros; el puerto está cerrado por obras.":       "spanish",
		"Não temos interesse, obrigado, mas você pode escrever para os colegas.":     "portuguese",
		"Grazie, ma non sono la persona giusta per questo; scriva anche al collega.": "italian",
		"Bedankt, wij zijn niet geïnteresseerd in het toestel op dat moment.":        "dutch",
		"Takk, men jeg har ikke tid nå; dere kan også skrive til en kollega av meg.": "norwegian",
		"Tack, men vi är inte intresserade och har inte tid just nu.":                "swedish",
		"Kiitos, mutta me emme tarvitse sitä; tämä on hyvä.":                         "finnish",
		"Спасибо, но это не для нас, мы как раз купили.":                             "russian",
		"Call me": Unknown,
		"":        Unknown,
		"и":       Unknown,
	} {
		if got := Language(said); got != want {
			t.Errorf("%q is %s, want %s", said, got, want)
		}
	}
}
