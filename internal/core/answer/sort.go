package answer

import (
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"ombak/internal/core/plainly"
	"ombak/internal/core/signal"
)

// Sort is what an answer comes to, as whoever reads it says.
type Sort string

// The sorts there are.
const (
	Interested    Sort = "interested"
	NotNow        Sort = "not now"
	NotInterested Sort = "not interested"
	WrongPerson   Sort = "wrong person"
	OptedOut      Sort = "opted out"
	Automatic     Sort = "automatic"
)

// Sorts lists them, in the order in which they are offered.
func Sorts() []Sort {
	return []Sort{Interested, NotNow, NotInterested, WrongPerson, OptedOut, Automatic}
}

// Known reports whether it is one of Sorts.
func (s Sort) Known() bool { return slices.Contains(Sorts(), s) }

// Signal is what somebody did who answered so.
func (s Sort) Signal() signal.Kind {
	switch s {
	case Interested:
		return signal.SaidInterested
	case NotNow:
		return signal.SaidNotNow
	case NotInterested:
		return signal.SaidNotInterested
	case WrongPerson:
		return signal.SaidWrongPerson
	case OptedOut:
		return signal.OptOut
	case Automatic:
		return signal.AutomaticReply
	}
	return 0
}

// Rule suggests a sort for answers that say one of its phrases. A phrase is words that follow
// each other, without regard to case and to what stands between them that is no letter or
// figure; three points in it stand for up to three words, whichever.
type Rule struct {
	Sort    Sort     `json:"sort"`
	Phrases []string `json:"phrases"`
}

// Rules are asked in their order: the first that finds a phrase suggests its sort. What denies
// stands before what it denies, so that "not interested" is not read as "interested".
type Rules []Rule

// Bounds of rules.
const (
	maxPhrases = 200
	maxPhrase  = 100
	maxSkip    = 3 // how many words three points stand for
)

// Usual are the rules that a workspace begins with (common practice, no source).
func Usual() Rules {
	return Rules{
		{OptedOut, []string{"unsubscribe", "take me off", "remove me", "remove my address", "stop emailing",
			"stop writing", "stop contacting", "do not contact me", "don't contact me", "no more emails",
			"do not write to me", "bitte keine … mails", "nicht mehr kontaktieren", "désinscrire", "désabonner",
			"darme de baja", "meld meg av", "avregistrera"}},
		{WrongPerson, []string{"wrong person", "not the right person", "not responsible for", "no longer work",
			"no longer with", "has left the company", "have left the company",
			"left the company", "colleague … handles",
			"please contact … instead",
			"passed … on to", "forwarded … to", "who looks after",
			"you should speak to", "you should talk to", "nicht zuständig",
			"nicht der richtige ansprechpartner", "pas la bonne personne", "no soy la persona", "feil person",
			"fel person"}},
		{NotInterested, []string{"not interested", "no interest", "not … interested", "no thank you", "no thanks",
			"not for us", "not a fit", "we have a supplier", "happy with our current", "not relevant",
			"kein interesse", "nicht interessiert", "pas intéressé", "pas intéressés", "no nos interesa",
			"no me interesa", "ikke interessert", "inte intresserad"}},
		{NotNow, []string{"not now", "not right now", "not at the moment", "not this year", "not this quarter",
			"later this year", "next year", "next quarter", "next month", "come back to us", "get back to me in",
			"try again in", "contact me again in", "too early", "too busy", "no budget … year", "in a few months",
			"after the summer", "im moment nicht", "nächstes jahr", "pas maintenant", "l'année prochaine",
			"ahora no", "el próximo año", "ikke nå", "neste år", "inte nu", "nästa år"}},
		{Interested, []string{"interested", "tell me more", "send me more", "more information", "would like to know",
			"would like a demo", "send … offer", "send … quote", "what does it cost", "how much does it cost",
			"give me a call", "call me", "let's talk", "let us talk", "can we meet", "can we talk", "sounds good",
			"interessiert", "angebot", "intéressé", "intéressés", "me interesa", "nos interesa", "interessert",
			"intresserad"}},
	}
}

// Check tidies rules and reports what is wrong with them.
func (r Rules) Check() error {
	n := 0
	for i := range r {
		if !r[i].Sort.Known() {
			return plainly.Errorf("%q is not what an answer comes to", string(r[i].Sort))
		}
		var tidy []string
		for _, p := range r[i].Phrases {
			p = strings.Join(strings.Fields(p), " ")
			if p == "" {
				continue
			}
			if len(p) > maxPhrase {
				return plainly.Errorf("a phrase has at most %d letters: %q …", maxPhrase, p[:40])
			}
			if w := phrase(p); len(w) == 0 || w[0].skip || w[len(w)-1].skip {
				return plainly.Errorf("%q: a phrase begins and ends with a word", p)
			}
			tidy = append(tidy, p)
		}
		r[i].Phrases = tidy
		n += len(tidy)
	}
	if n > maxPhrases {
		return plainly.Errorf("at most %d phrases in all", maxPhrases)
	}
	return nil
}

// Suggestion is what an answer may come to, with the words that lead to it: Said[From:To].
type Suggestion struct {
	Sort     Sort
	From, To int // bytes of what is said
}

// Suggest is what some rules make of what is said; false: nothing. Of several phrases of the
// rule that suggests, the one that begins first leads to it, and of those the one that ends last.
func (r Rules) Suggest(said string) (Suggestion, bool) {
	if len(said) > maxText {
		said = strings.ToValidUTF8(said[:maxText], "")
	}
	text := words(said)
	for _, rule := range r {
		best := Suggestion{Sort: rule.Sort, From: -1}
		for _, p := range rule.Phrases {
			if from, to, ok := find(text, phrase(p)); ok &&
				(best.From < 0 || from < best.From || from == best.From && to > best.To) {
				best.From, best.To = from, to
			}
		}
		if best.From >= 0 {
			return best, true
		}
	}
	return Suggestion{}, false
}

// word is one of a text, in lower case, with where it stands; or, in a phrase, up to maxSkip of
// them.
type word struct {
	text     string
	from, to int
	skip     bool
}

// words are a text's: letters, marks on them, figures, and apostrophes between letters.
func words(s string) (list []word) {
	from := -1
	end := func(to int) {
		if from >= 0 {
			list = append(list, word{text: fold(s[from:to]), from: from, to: to})
		}
		from = -1
	}
	for i, n := 0, 0; i < len(s); i += n {
		var c rune
		c, n = utf8.DecodeRuneInString(s[i:])
		next, _ := utf8.DecodeRuneInString(s[i+n:])
		in := inWord(c) || from >= 0 && apostrophe(c) && inWord(next)
		switch {
		case in && from < 0:
			from = i
		case !in:
			end(i)
		}
	}
	end(len(s))
	return list
}

func inWord(c rune) bool     { return unicode.IsLetter(c) || unicode.IsMark(c) || unicode.IsDigit(c) }
func apostrophe(c rune) bool { return c == '\'' || c == '’' }

func fold(s string) string { return strings.ReplaceAll(strings.ToLower(s), "’", "'") }

// phrase are the words of a phrase.
func phrase(p string) (list []word) {
	p = strings.ReplaceAll(p, "...", "…")
	for i, part := range strings.Split(p, "…") {
		if i > 0 {
			list = append(list, word{skip: true})
		}
		list = append(list, words(part)...)
	}
	return list
}

// find is where a phrase stands first in a text, and of what begins there the longest.
func find(text, p []word) (from, to int, ok bool) {
	for i := range text {
		if end := match(text, i, p); end > 0 {
			return text[i].from, text[end-1].to, true
		}
	}
	return 0, 0, false
}

// match is where a phrase that begins at word i ends, as far on as can be; 0: it does not begin there.
func match(text []word, i int, p []word) int {
	ends := []int{i} // where what was read of the phrase can end
	for _, w := range p {
		var next []int
		for _, e := range ends {
			if w.skip {
				for n := 0; n <= maxSkip && e+n <= len(text); n++ {
					next = append(next, e+n)
				}
			} else if e < len(text) && text[e].text == w.text {
				next = append(next, e+1)
			}
		}
		slices.Sort(next)
		if ends = slices.Compact(next); len(ends) == 0 {
			return 0
		}
	}
	return ends[len(ends)-1]
}
