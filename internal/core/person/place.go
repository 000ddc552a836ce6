package person

import (
	"strconv"
	"strings"
	"sync"

	"github.com/nyaruka/phonenumbers"
	"golang.org/x/text/language"
	"golang.org/x/text/language/display"

	"ombak/internal/core/plainly"
)

// ErrPhone is what Phone answers for something that is no telephone number.
var ErrPhone = plainly.New("this is not a telephone number; one from another country begins with + and the country's " +
	"code")

// Phone brings a telephone number into the form of ITU-T E.164 in which two of
// them are compared: "+442079460101". A number without a country code is read
// as one of country (ISO 3166-1 alpha-2). An extension is dropped: E.164 has
// none. A number must be possible for its country by length; whether it is
// given to anybody cannot be known, and ranges set aside for fiction pass.
func Phone(s, country string) (string, error) {
	s = strings.TrimSpace(s)
	if s == "" {
		return "", nil
	}
	if len(s) > 60 {
		return "", ErrPhone
	}
	if strings.HasPrefix(s, "00") {
		s = "+" + s[2:] // the way to dial abroad in most of the world
	}
	if e164, ok := plainPhone(s); ok {
		return e164, nil
	}
	n, err := phonenumbers.Parse(s, country)
	if err != nil || !whole(n) {
		return "", ErrPhone
	}
	return phonenumbers.Format(n, phonenumbers.E164), nil
}

// shortNumber is how many figures a number has, without its country's code, that
// is taken only where somebody's telephone can have it: most short ones are
// services, or extensions.
const shortNumber = 6

// whole reports whether a number can be dialled from anywhere. One that is as
// long as those are that are dialled within a town alone is none: nobody knows
// which town.
func whole(n *phonenumbers.PhoneNumber) bool {
	if phonenumbers.IsPossibleNumberWithReason(n) != phonenumbers.IS_POSSIBLE {
		return false
	}
	if len(phonenumbers.GetNationalSignificantNumber(n)) > shortNumber {
		return true
	}
	switch phonenumbers.GetNumberType(n) {
	case phonenumbers.FIXED_LINE, phonenumbers.MOBILE, phonenumbers.FIXED_LINE_OR_MOBILE:
		return true
	}
	return false
}

// plainPhone reads the many numbers that are written in full, with a plus,
// figures and nothing but spaces and the like between them, without the
// patterns that the others need. Numbers that might begin with a prefix for
// dialling within a country are left to those. The test holds every country
// code against the library's whole way.
func plainPhone(s string) (string, bool) {
	if s[0] != '+' {
		return "", false
	}
	var buf [18]byte
	n := 0
	for i := 1; i < len(s); i++ {
		switch c := s[i]; {
		case c >= '0' && c <= '9':
			if n == 15 { // E.164: at most 15 figures
				return "", false
			}
			buf[n] = c
			n++
		case c == ' ' || c == '-' || c == '.':
		default:
			return "", false
		}
	}
	for k := 1; k <= 3 && k < n; k++ {
		code, err := strconv.Atoi(string(buf[:k]))
		if err != nil || !callingCodes()[code] {
			continue
		}
		if first := buf[k]; first < '2' || first > '7' || rewritten[code] {
			return "", false
		}
		national, err := strconv.ParseUint(string(buf[k:n]), 10, 64)
		if err != nil {
			return "", false
		}
		cc := int32(code)
		x := phonenumbers.PhoneNumber{CountryCode: &cc, NationalNumber: &national}
		if !whole(&x) {
			return "", false
		}
		return "+" + string(buf[:n]), true
	}
	return "", false
}

// rewritten are the country codes of those countries whose numbers the
// library changes beyond taking a prefix off.
var rewritten = map[int]bool{52: true, 54: true, 55: true, 261: true, 378: true, 672: true}

var callingCodes = sync.OnceValue(func() map[int]bool {
	out := map[int]bool{}
	for code := range phonenumbers.GetSupportedCallingCodes() {
		out[code] = true
	}
	return out
})

// ShowPhone writes an E.164 number with the spaces of its country.
func ShowPhone(e164 string) string {
	n, err := phonenumbers.Parse(e164, "")
	if err != nil {
		return e164
	}
	return phonenumbers.Format(n, phonenumbers.INTERNATIONAL)
}

// namers are the languages in which countries and languages are known by name.
var namers = []language.Tag{language.English, language.German, language.French, language.Spanish, language.Portuguese,
	language.Italian, language.Dutch,
	language.Norwegian, language.Swedish, language.Danish, language.Indonesian, language.Vietnamese}

var countryNames = sync.OnceValue(func() map[string]string {
	m := map[string]string{}
	for i := len(namers) - 1; i >= 0; i-- { // English comes last and wins
		n := display.Regions(namers[i])
		for _, c := range CountryCodes() {
			if name := n.Name(language.MustParseRegion(c)); name != "" {
				m[strings.ToLower(name)] = c
			}
		}
	}
	// Names in daily use that the tables have otherwise. Common practice, no source.
	for name, c := range map[string]string{"uk": "GB", "great britain": "GB", "england": "GB", "scotland": "GB",
		"wales": "GB", "northern ireland": "GB",
		"usa": "US", "u.s.": "US", "u.s.a.": "US", "united states of america": "US", "uae": "AE", "holland": "NL",
		"viet nam": "VN", "czech republic": "CZ",
		"russia": "RU", "south korea": "KR", "ivory coast": "CI", "turkey": "TR", "macedonia": "MK"} {
		m[name] = c
	}
	return m
})

// CountryCodes lists the codes of ISO 3166-1 alpha-2, in their order, as the
// Unicode tables of golang.org/x/text have them, without those that ISO leaves
// to users or has withdrawn.
var CountryCodes = sync.OnceValue(func() []string {
	var out []string
	for a := 'A'; a <= 'Z'; a++ {
		for b := 'A'; b <= 'Z'; b++ {
			c := string([]rune{a, b})
			r, err := language.ParseRegion(c)
			if err != nil || !r.IsCountry() || r.String() != c || r.Canonicalize() != r || r.IsPrivateUse() ||
				notISO[c] {
				continue
			}
			out = append(out, c)
		}
	}
	return out
})

// notISO are codes that Unicode counts among countries and ISO 3166-1 does not:
// those it only reserves and those it has withdrawn. The test holds what is
// left against the country table of the tz database.
var notISO = map[string]bool{"AC": true, "CP": true, "CQ": true, "DG": true, "EA": true, "EU": true, "EZ": true,
	"IC": true, "QO": true, "TA": true, "UN": true, "XA": true, "XB": true, "XK": true, "ZZ": true,
	"AN": true, "CS": true, "FQ": true, "NT": true, "PC": true, "SU": true, "YU": true}

// CountryCode finds the ISO 3166-1 alpha-2 code of a country given by that
// code, the alpha-3 code, or its name in one of a dozen languages.
func CountryCode(s string) (string, error) {
	s = strings.TrimSpace(s)
	if s == "" {
		return "", nil
	}
	if len(s) == 2 || len(s) == 3 {
		if r, err := language.ParseRegion(s); err == nil {
			if c := r.Canonicalize().String(); len(c) == 2 && isCountry()[c] {
				return c, nil
			}
		}
	}
	if c, ok := countryNames()[strings.ToLower(s)]; ok {
		return c, nil
	}
	return "", ErrCountry
}

var isCountry = sync.OnceValue(func() map[string]bool {
	m := map[string]bool{}
	for _, c := range CountryCodes() {
		m[c] = true
	}
	return m
})

// CountryName is a country's name in English, or what was given where it is no
// code.
func CountryName(code string) string {
	if !isCountry()[code] {
		return code
	}
	return display.English.Regions().Name(language.MustParseRegion(code))
}

var languageNames = sync.OnceValue(func() map[string]string {
	m := map[string]string{}
	for i := len(namers) - 1; i >= 0; i-- {
		n := display.Languages(namers[i])
		for _, t := range display.Supported.Tags() {
			base, _ := t.Base()
			if name := n.Name(language.Make(base.String())); name != "" {
				m[strings.ToLower(name)] = base.String()
			}
		}
	}
	// The table names the two written forms; people say the one word.
	m["norwegian"], m["norsk"] = "no", "no"
	return m
})

// LanguageTag finds the BCP 47 tag, in its canonical form, of a language given
// by a tag or by its name in one of a dozen languages.
func LanguageTag(s string) (string, error) {
	s = strings.TrimSpace(s)
	if s == "" {
		return "", nil
	}
	if len(s) > 60 {
		return "", ErrLanguage
	}
	if c, ok := languageNames()[strings.ToLower(s)]; ok {
		return c, nil
	}
	t, err := language.Parse(s)
	if err != nil || t == language.Und {
		return "", ErrLanguage
	}
	return t.String(), nil
}

// LanguageName is a language's name in English, or the tag where none is known.
func LanguageName(tag string) string {
	t, err := language.Parse(tag)
	if err != nil {
		return tag
	}
	if n := display.English.Tags().Name(t); n != "" {
		return n
	}
	return tag
}
