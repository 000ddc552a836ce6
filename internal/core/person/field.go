package person

import (
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/plainly"
)

// Field names something that is known of a person or of their company. The
// words are what screens, files and rules call it.
type Field string

// The fields of a record.
const (
	FirstName  Field = "first name"
	LastName   Field = "last name"
	EmailField Field = "email"
	PhoneField Field = "phone"
	Title      Field = "title"
	Seniority  Field = "seniority"
	Department Field = "department"
	Country    Field = "country" // ISO 3166-1 alpha-2
	Region     Field = "region"
	City       Field = "city"
	Street     Field = "street" // and number, of the postal address
	Postcode   Field = "postcode"
	Zone       Field = "time zone" // IANA name
	Language   Field = "language"  // BCP 47
	Profile    Field = "profile"   // web address
	Source     Field = "source"
	Medium     Field = "medium"   // campaign tags, as links carry them
	Campaign   Field = "campaign" //
	Term       Field = "term"     //
	Content    Field = "content"  //
	Owner      Field = "owner"    // name of the user
	Created    Field = "first met"

	Company        Field = "company"
	Domain         Field = "company domain"
	Industry       Field = "industry"
	Size           Field = "company size" // people who work there
	Revenue        Field = "revenue"      // a band, in words
	CompanyCountry Field = "company country"
)

// Type is what kind of values a field takes.
type Type string

// The types of field. Those up to SeveralOf can be chosen for an own field.
const (
	Text      Type = "text"
	Number    Type = "number"
	Date      Type = "date" // a day: 2026-04-14
	YesNo     Type = "yes or no"
	OneOf     Type = "one of"
	SeveralOf Type = "several of" // values joined by Joint

	EmailType    Type = "email"
	PhoneType    Type = "phone"
	CountryType  Type = "country"
	LanguageType Type = "language"
	ZoneType     Type = "time zone"
	LinkType     Type = "web address"
)

// OwnTypes are the types of field that a workspace can add.
func OwnTypes() []Type { return []Type{Text, Number, Date, YesNo, OneOf, SeveralOf} }

// Definition is what a field is.
type Definition struct {
	Field   Field
	Name    string // as people call it
	Type    Type
	Company bool     // of the company, not of the person
	Fixed   bool     // cannot be typed in: it comes about
	Options []string // of OneOf and SeveralOf
}

var definitions = []Definition{
	{Field: FirstName, Type: Text}, {Field: LastName, Type: Text}, {Field: EmailField, Type: EmailType},
	{Field: PhoneField, Type: PhoneType},
	{Field: Title, Type: Text}, {Field: Seniority, Type: Text}, {Field: Department, Type: Text},
	{Field: Country, Type: CountryType}, {Field: Region, Type: Text}, {Field: City, Type: Text},
	{Field: Street, Type: Text}, {Field: Postcode, Type: Text},
	{Field: Zone, Type: ZoneType},
	{Field: Language, Type: LanguageType}, {Field: Profile, Type: LinkType},
	{Field: Company, Type: Text, Company: true}, {Field: Domain, Type: Text, Company: true},
	{Field: Industry, Type: Text, Company: true},
	{Field: Size, Type: Number, Company: true}, {Field: Revenue, Type: Text, Company: true},
	{Field: CompanyCountry, Type: CountryType, Company: true},
	{Field: Owner, Type: Text}, {Field: Source, Type: Text}, {Field: Medium, Type: Text}, {Field: Campaign, Type: Text},
	{Field: Term, Type: Text}, {Field: Content, Type: Text},
	{Field: Created, Type: Date, Fixed: true},
}

func init() {
	for i := range definitions {
		definitions[i].Name = string(definitions[i].Field)
	}
}

// Definitions lists the fields that every record has.
func Definitions() []Definition { return slices.Clone(definitions) }

// Define finds what one of Definitions is.
func Define(f Field) (Definition, bool) {
	for i := range definitions {
		if definitions[i].Field == f {
			return definitions[i], true
		}
	}
	return Definition{}, false
}

// Own is the field that a workspace has added under a number.
func Own(id int64) Field { return Field("own " + strconv.FormatInt(id, 10)) }

// OwnID is the number of a field made by Own.
func (f Field) OwnID() (int64, bool) {
	rest, ok := strings.CutPrefix(string(f), "own ")
	if !ok {
		return 0, false
	}
	id, err := strconv.ParseInt(rest, 10, 64)
	return id, ok && err == nil && id > 0
}

// Limits of own fields.
const (
	MaxText    = 500
	MaxOptions = 200
)

// Joint is what stands between the values of a field of several: a sign that
// no tidied text contains. Shown makes it readable.
const Joint = "\x1f"

// Shown is a kept value as people read it.
func Shown(value string) string { return strings.ReplaceAll(value, Joint, "; ") }

// Errors of values, each with what would be right.
var (
	ErrNumber   = plainly.New("this is not a number")
	ErrDate     = plainly.New("this is not a date such as 2026-04-14")
	ErrYesNo    = plainly.New("this is neither yes nor no")
	ErrOption   = plainly.New("this is not one of the values to choose from")
	ErrCountry  = plainly.New("no country has this name or code")
	ErrLanguage = plainly.New("no language has this name or code")
	ErrZone     = plainly.New("no time zone has this name")
	ErrLink     = plainly.New("this is not a web address")
	ErrLong     = plainly.New("this is too long")
)

// Tidy brings a value into the one form in which the field keeps it, or says
// why it cannot. Empty stays empty. Phone numbers without a country code are
// read as numbers of country (ISO 3166-1 alpha-2, or empty).
func (d *Definition) Tidy(value, country string) (string, error) {
	switch d.Field {
	case Domain:
		return domain(value)
	case EmailField, PhoneField:
	default:
		if d.Type == Text && len(d.Options) == 0 {
			return d.text(value)
		}
	}
	if value = strings.TrimSpace(value); value == "" {
		return "", nil
	}
	switch d.Type {
	case EmailType:
		return Email(value)
	case PhoneType:
		return Phone(value, country)
	case CountryType:
		return CountryCode(value)
	case LanguageType:
		return LanguageTag(value)
	case ZoneType:
		if _, err := calendar.Zone(value); err != nil {
			return "", ErrZone
		}
		return value, nil
	case LinkType:
		return link(value)
	case Number:
		return number(value)
	case Date:
		return date(value)
	case YesNo:
		switch strings.ToLower(value) {
		case "yes", "y", "true", "1", "x", "✓":
			return "yes", nil
		case "no", "n", "false", "0":
			return "no", nil
		}
		return "", ErrYesNo
	case OneOf:
		return d.option(value)
	case SeveralOf:
		var out []string
		for _, v := range strings.FieldsFunc(value, func(r rune) bool { return r == ';' || r == '\x1f' }) {
			if v = strings.TrimSpace(v); v == "" {
				continue
			}
			o, err := d.option(v)
			if err != nil {
				return "", err
			}
			if !slices.Contains(out, o) {
				out = append(out, o)
			}
		}
		return strings.Join(out, Joint), nil
	}
	return d.text(value)
}

func (d *Definition) text(value string) (string, error) {
	if _, own := d.Field.OwnID(); own {
		if len(value) > MaxText {
			return "", ErrLong
		}
	} else if len(value) > MaxName {
		// What is cut silently is lost: only outer spaces may make up the excess.
		if len(strings.TrimSpace(value)) > MaxName {
			return "", ErrLong
		}
	}
	return tidy(value), nil
}

func (d *Definition) option(value string) (string, error) {
	for _, o := range d.Options {
		if strings.EqualFold(o, value) {
			return o, nil
		}
	}
	return "", plainly.Errorf("%w: %s", ErrOption, strings.Join(d.Options, ", "))
}

// number reads 1234, 1,234.5 and 1 234,5; the last sign of a kind that occurs
// once is the decimal one unless three figures follow it.
func number(s string) (string, error) {
	s = strings.NewReplacer(" ", "", "\u00a0", "", "\u202f", "", "'", "", "−", "-").Replace(s)
	comma, dot := strings.LastIndexByte(s, ','), strings.LastIndexByte(s, '.')
	switch {
	case comma >= 0 && dot >= 0 && comma < dot:
		s = strings.ReplaceAll(s, ",", "")
	case comma >= 0 && dot >= 0:
		s = strings.Replace(strings.ReplaceAll(s, ".", ""), ",", ".", 1)
	case comma >= 0 && (strings.Count(s, ",") > 1 || len(s)-comma == 4):
		s = strings.ReplaceAll(s, ",", "")
	case comma >= 0:
		s = strings.Replace(s, ",", ".", 1)
	}
	f, err := strconv.ParseFloat(s, 64)
	if err != nil || f != f || f > 1e15 || f < -1e15 || len(s) > 40 {
		return "", ErrNumber
	}
	if f == 0 {
		return "0", nil
	}
	return strconv.FormatFloat(f, 'f', -1, 64), nil
}

// date reads ISO 8601 dates, with or without a time of day, which is dropped.
// Other orders of day and month cannot be told apart and are refused.
func date(s string) (string, error) {
	if len(s) > 10 && (s[10] == 'T' || s[10] == ' ') {
		s = s[:10]
	}
	t, err := time.Parse(time.DateOnly, s)
	if err != nil || t.Year() < 1000 {
		return "", ErrDate
	}
	return t.Format(time.DateOnly), nil
}

const maxLink = 300

func link(s string) (string, error) {
	if !strings.Contains(s, "://") {
		s = "https://" + s
	}
	u, err := url.Parse(s)
	if err != nil || (u.Scheme != "https" && u.Scheme != "http") || u.User != nil ||
		!strings.Contains(u.Hostname(), ".") || len(s) > maxLink || strings.ContainsAny(s, " \t\r\n\"<>\\") {
		return "", ErrLink
	}
	u.Host = strings.ToLower(u.Host)
	return u.String(), nil
}

// domain reads a company's domain: karang.example, also out of an address of
// its pages.
func domain(s string) (string, error) {
	s = strings.ToLower(strings.TrimSpace(s))
	if s == "" {
		return "", nil
	}
	if strings.Contains(s, "://") {
		u, err := url.Parse(s)
		if err != nil {
			return "", ErrLink
		}
		s = u.Hostname()
	}
	s = strings.TrimPrefix(strings.TrimSuffix(s, "."), "www.")
	if _, err := Email("a@" + s); err != nil || strings.Contains(s, "@") {
		return "", ErrLink
	}
	return s, nil
}
