package answer

import (
	"maps"
	"slices"
	"strings"
)

// Unknown is what Language answers for a text of which too little is known.
const Unknown = "simple"

// common are among the commonest words of each language: those that the others do not have, or have
// seldom (from memory). The names are those that PostgreSQL's text search has for them.
var common = map[string]string{
	"english":    "the and of to is you that for with we are this have not our your please",
	"german":     "der die das und ist nicht wir sie mit für auf eine einen ich haben bitte zu",
	"french":     "le les des est nous vous pas une pour dans avec sur que qui merci du je",
	"spanish":    "el los las es no que una por con para nosotros está gracias del usted muy",
	"portuguese": "os as não uma para com você obrigado nós está dos que em um são mais",
	"italian":    "il gli che non una per con della sono grazie è questo di noi anche la",
	"dutch":      "het een van en niet wij voor met zijn dat bedankt ik op te aan u",
	"norwegian":  "og er ikke vi det som på til av jeg har takk dere hvordan også nå",
	"danish":     "og er ikke vi det som på til af jeg har tak hvordan også nu hvad",
	"swedish":    "och är inte vi det som på till av jag har tack hur också nu vad",
	"finnish":    "ja on ei me se että kiitos olemme mutta tai kun voi myös tämä hyvä mitä",
	"russian":    "и в не на что мы вы это с как для спасибо по но у к",
}

var languages = func() map[string][]string {
	out := map[string][]string{}
	for name, list := range common {
		for _, w := range strings.Fields(list) {
			out[w] = append(out[w], name)
		}
	}
	return out
}()

// Language is the language that a text is written in, by its commonest words, as PostgreSQL's text
// search names it; Unknown where no language has two of them more than any other. Only the
// beginning of a long text is looked at.
func Language(text string) string {
	text = text[:min(len(text), 4000)]
	n := map[string]int{}
	for _, w := range words(text) {
		for _, name := range languages[w.text] {
			n[name]++
		}
	}
	best, most, second := Unknown, 0, 0
	for name, k := range n {
		switch {
		case k > most:
			best, most, second = name, k, most
		case k > second:
			second = k
		}
	}
	if most < 2 || most == second {
		return Unknown
	}
	return best
}

// Languages lists those that Language knows, by name.
func Languages() []string { return slices.Sorted(maps.Keys(common)) }
