package person

import (
	"strings"
	"unicode"

	"golang.org/x/text/runes"
	"golang.org/x/text/transform"
	"golang.org/x/text/unicode/norm"
)

// bare are letters that Unicode does not take apart into a plain one and a mark.
var bare = strings.NewReplacer("ß", "ss", "æ", "ae", "œ", "oe", "ø", "o", "đ", "d", "ð", "d", "þ", "th", "ł", "l", "ħ",
	"h", "ı", "i", "’", "'")

// Plain is a text as it is looked for: small letters, without accents.
func Plain(s string) string {
	t, _, err := transform.String(transform.Chain(norm.NFD, runes.Remove(runes.In(unicode.Mn)), norm.NFC), s)
	if err != nil { // none of the three answers one
		t = s
	}
	return bare.Replace(strings.ToLower(t))
}
