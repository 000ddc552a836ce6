package person

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"github.com/nyaruka/phonenumbers"
)

// TestPlainPhonesAsTheLibraryReadsThem holds the short way of reading numbers
// against the library's whole way, for every country code there is.
func TestPlainPhonesAsTheLibraryReadsThem(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 164))
	short := 0
	for code := range callingCodes() {
		for range 200 {
			digits := make([]byte, 3+rnd.IntN(11))
			for i := range digits {
				digits[i] = byte('0' + rnd.IntN(10))
			}
			s := fmt.Sprintf("+%d %s-%s", code, digits[:2], digits[2:])
			want := ""
			if n, err := phonenumbers.Parse(s, ""); err == nil && whole(n) {
				want = phonenumbers.Format(n, phonenumbers.E164)
			}
			if got, ok := plainPhone(s); ok {
				if short++; got != want {
					t.Errorf("%s is read as %q; the library reads %q", s, got, want)
				}
			}
			if got, err := Phone(s, ""); got != want || (err == nil) != (want != "") {
				t.Errorf("Phone(%q) = %q, %v; the library reads %q", s, got, err, want)
			}
		}
	}
	if short < 5000 {
		t.Errorf("only %d numbers were read the short way", short)
	}
}

func TestPhones(t *testing.T) {
	for _, c := range []struct{ in, country, want string }{
		// Ofcom's numbers for drama (London 020 7946 0000 to 0999), from memory.
		{"+44 20 7946 0101", "", "+442079460101"}, {"020 7946 0101", "GB", "+442079460101"},
		{"0044 20 7946 0101", "NO", "+442079460101"}, {"+44 (0)20 7946 0101", "", "+442079460101"},
		// The North American numbers for fiction (555-0100 to 0199), from memory.
		{"(202) 555-0102", "US", "+12025550102"}, {"+1-202-555-0102 ext. 9", "", "+12025550102"},
		{"tel 202 555 0102", "CA", "+12025550102"},
		{"", "", ""}, {"202 555 0102", "", ""}, {"12", "NO", ""}, {"12345", "NO", ""}, {"555 0102", "US", ""},
		{"7946 0101", "GB", ""}, {"+999 123456", "", ""}, {"call me", "GB", ""}, {strings.Repeat("1", 80), "US", ""},
	} {
		got, err := Phone(c.in, c.country)
		if got != c.want || (err == nil) != (c.want != "" || c.in == "") {
			t.Errorf("Phone(%q, %s) = %q, %v; want %q", c.in, c.country, got, err, c.want)
		}
	}
	if got := ShowPhone("+442079460101"); got != "+44 20 7946 0101" {
		t.Errorf("shown %q", got)
	}
}

// TestCountriesAreThoseOfTheTimeZoneTables holds the codes against the country
// table of the tz database, which is ISO 3166-1's. Its file of zones names all
// but two, islands where nobody lives.
func TestCountriesAreThoseOfTheTimeZoneTables(t *testing.T) {
	raw, err := os.ReadFile("../calendar/zone.tab")
	if err != nil {
		t.Fatal(err)
	}
	want := map[string]bool{"BV": true, "HM": true}
	for line := range strings.Lines(string(raw)) {
		if !strings.HasPrefix(line, "#") {
			want[line[:2]] = true
		}
	}
	for _, c := range CountryCodes() {
		if !want[c] {
			t.Errorf("%s is no country of the tables", c)
		}
		delete(want, c)
	}
	for c := range want {
		t.Errorf("%s is missing", c)
	}
	if n := len(CountryCodes()); n != 249 { // ISO 3166-1 has 249 entries, from memory
		t.Errorf("%d countries", n)
	}
}

func TestCountriesAndLanguagesByName(t *testing.T) {
	for in, want := range map[string]string{" no ": "NO", "NOR": "NO", "Norge": "NO", "Norwegen": "NO", "UK": "GB",
		"usa": "US", "Deutschland": "DE", "Việt Nam": "VN", "Estados Unidos": "US", "": "", "Atlantis": "", "XX": "",
		"EU": ""} {
		if got, err := CountryCode(in); got != want || (err == nil) != (want != "" || in == "") {
			t.Errorf("CountryCode(%q) = %q, %v", in, got, err)
		}
	}
	// RFC 5646, 2.1.1: case is as the subtags' registries have it; its appendix A gives zh-Hant, sr-Latn-RS,
	// de-CH-1996.
	for in, want := range map[string]string{"EN_gb": "en-GB", "nb-no": "nb-NO", "ZH-hant": "zh-Hant",
		"sr-latn-rs": "sr-Latn-RS", "de-ch-1996": "de-CH-1996", "German": "de", "norsk": "no", "": "", "klingonish": "",
		"und": ""} {
		if got, err := LanguageTag(in); got != want || (err == nil) != (want != "" || in == "") {
			t.Errorf("LanguageTag(%q) = %q, %v", in, got, err)
		}
	}
	for _, c := range CountryCodes() {
		if got, err := CountryCode(CountryName(c)); err != nil || got != c {
			t.Errorf("%s is called %q, which is read as %q, %v", c, CountryName(c), got, err)
		}
	}
	if CountryName("NO") != "Norway" || CountryName("??") != "??" || LanguageName("nb") != "Norwegian Bokmål" {
		t.Error("names")
	}
}

func TestTidyingValues(t *testing.T) {
	own := func(ty Type) Definition { return Definition{Field: Own(1), Type: ty, Options: []string{"Red", "Blue"}} }
	def := func(f Field) Definition { d, _ := Define(f); return d }
	for _, c := range []struct {
		d        Definition
		in, want string
		bad      bool
	}{
		{own(Number), "1,234.5", "1234.5", false}, {own(Number), "1.234,5", "1234.5", false},
		{own(Number), "1 234", "1234", false}, {own(Number), "12,5", "12.5", false},
		{own(Number), "1,234", "1234", false}, {own(Number), "−0", "0", false},
		{own(Number), "NaN", "", true}, {own(Number), "1e400", "", true}, {own(Number), "ten", "", true},
		{own(Date), "2026-04-14", "2026-04-14", false}, {own(Date), "2026-04-14T09:20:00Z", "2026-04-14", false},
		{own(Date), "14/4/2026", "", true}, {own(Date), "2026-02-30", "", true},
		{own(YesNo), "TRUE", "yes", false}, {own(YesNo), "0", "no", false}, {own(YesNo), "maybe", "", true},
		{own(OneOf), "red", "Red", false}, {own(OneOf), "green", "", true},
		{own(SeveralOf), "blue; RED;blue", "Blue" + Joint + "Red", false}, {own(SeveralOf), "blue; green", "", true},
		{own(Text), "  a \t b ", "a b", false}, {own(Text), strings.Repeat("x", 501), "", true},
		{def(Title), strings.Repeat("x", 121), "", true},
		{def(Domain), "https://www.Karang.example/about", "karang.example", false},
		{def(Domain), "no domain", "", true},
		{def(Profile), "Profiles.example/Ana", "https://Profiles.example/Ana", false},
		{def(Profile), "javascript:alert(1)", "", true}, {def(Profile), "https://a:b@x.example", "", true},
		{def(Zone), "Europe/Oslo", "Europe/Oslo", false}, {def(Zone), "Local", "", true},
		{def(Zone), "../etc/passwd", "", true},
	} {
		got, err := c.d.Tidy(c.in, "")
		if strings.EqualFold(got, c.want) == false || (err != nil) != c.bad {
			t.Errorf("%s: Tidy(%q) = %q, %v; want %q", c.d.Type, c.in, got, err, c.want)
		}
		// What is tidy stays as it is.
		if again, err := c.d.Tidy(got, ""); err != nil || again != got {
			t.Errorf("%s: Tidy(%q) = %q, %v", c.d.Type, got, again, err)
		}
	}
}

// TestUnicodeNames are names as people have them (common practice, no source):
// none of them may be changed but for its spaces.
func TestUnicodeNames(t *testing.T) {
	for _, n := range []string{"Ngô Thị Hoa", "Œuvrard-Ÿ", "O’Brien", "d'Árcy", "Þórður Jónsson", "Жанна", "毛利 衛",
		"محمد", "ชาลี", "Zoë", "Zoe\u0308", "İpek", "ǅ", "Nguyễn", "👩‍🔬"} {
		d, _ := Define(FirstName)
		if got, err := d.Tidy("  "+n+"\t", ""); err != nil || got != n {
			t.Errorf("%q became %q, %v", n, got, err)
		}
	}
	if got := Name("a\u0000b\u0085c\u2028d"); strings.ContainsAny(got, "\x00\u0085\u2028") {
		t.Errorf("signs that are none are kept: %q", got)
	}
}

func TestAlike(t *testing.T) {
	base := Known{First: "Ana", Last: "Strand", Emails: []string{"ana.strand@fjord.example"},
		Phones: []string{"+442079460101"}, Company: "1"}
	for _, c := range []struct {
		name string
		b    Known
		want string
	}{
		{"a dot", Known{Emails: []string{"anastrand@fjord.example"}}, "dot or a plus part"},
		{"a plus part", Known{Emails: []string{"ana.strand+fair@fjord.example"}}, "dot or a plus part"},
		{"another domain", Known{Emails: []string{"ana.strand@other.example"}}, ""},
		{"the phone, and no name", Known{Phones: []string{"+442079460101"}}, "telephone"},
		{"the phone, one name", Known{First: "ANA", Last: "Vik", Phones: []string{"+442079460101"}}, "telephone"},
		{"a switchboard", Known{First: "Bo", Last: "Vik", Phones: []string{"+442079460101"}}, ""},
		{"name and company", Known{First: "ana", Last: "STRAND", Company: "1"}, "same name"},
		{"name elsewhere", Known{First: "Ana", Last: "Strand", Company: "2"}, ""},
		{"name, company unknown", Known{First: "Ana", Last: "Strand"}, ""},
		{"a first name alone", Known{First: "Ana", Company: "1"}, ""},
	} {
		got := Alike(&base, &c.b)
		if back := Alike(&c.b, &base); (got == "") != (back == "") {
			t.Errorf("%s: alike one way only", c.name)
		}
		if c.want == "" && got != "" || !strings.Contains(got, c.want) {
			t.Errorf("%s: %q", c.name, got)
		}
	}
}

func TestChangesAndTheirReverse(t *testing.T) {
	now := Values{Title: "Biologist", City: "Oslo"}
	before, after := Diff(now, Values{Title: "Head", City: "Oslo", PhoneField: "1"})
	if len(after) != 2 || before[Title] != "Biologist" || before[PhoneField] != "" || after[Title] != "Head" {
		t.Errorf("before %v, after %v", before, after)
	}
	set, kept := Revert(before, after, Values{Title: "Head", PhoneField: "1"})
	if kept != 0 || set[Title] != "Biologist" || set[PhoneField] != "" {
		t.Errorf("reverted %v, kept %d", set, kept)
	}
	if set, kept = Revert(before, after, Values{Title: "Director", PhoneField: "1"}); kept != 1 || len(set) != 1 {
		t.Errorf("what something else has changed is set back: %v", set)
	}
	for f, want := range map[Field]string{Mark(TagMark, int64(12)): TagMark, Mark(AlsoEmail, "a@b.example"): AlsoEmail,
		DoNotContact: "do not contact", Title: ""} {
		if kind, what, id := MarkOf(f); kind != want || kind == TagMark && id != 12 || kind == AlsoEmail &&
			what != "a@b.example" {
			t.Errorf("MarkOf(%q) = %q, %q, %d", f, kind, what, id)
		}
	}
}

func TestFreeMailIsNoCompany(t *testing.T) {
	if n := len(freeMail()); n < 4000 {
		t.Errorf("only %d free-mail domains", n)
	}
	if CompanyDomain("a@freemail.example") != "" || CompanyDomain("a@fjord.example") != "fjord.example" {
		t.Error("free mail and companies are mixed up")
	}
}
