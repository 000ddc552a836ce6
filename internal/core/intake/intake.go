// Package intake turns rows of a list into records of people: which column is
// which field, what each value is, and why a row cannot be taken.
//
// A row that has one wrong value is not taken at all: half a record that
// nobody notices is worse than a row that comes back with a reason. Where
// whoever brings the list in wants it so, the value alone is left out, and
// named; but never one that says that somebody must not be contacted, or what
// they agreed to.
package intake

import (
	"fmt"
	"strings"

	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
)

// Targets of columns beside the fields.
const (
	FullName     = "full name"
	FurtherEmail = "further email"
	FurtherPhone = "further phone"
	Tags         = "tags"
	Note         = "note"
	Skip         = "" // the column is left out
)

// Policy is what becomes of what is known already.
type Policy string

// The policies.
const (
	Fill    Policy = "fill"    // only what is not known yet is taken
	Replace Policy = "replace" // what the file says replaces what is known; an empty cell replaces nothing
	Leave   Policy = "leave"   // people who are known stay as they are
)

// Policies lists them.
func Policies() []Policy { return []Policy{Fill, Replace, Leave} }

// Mapping is how a file's rows become records.
type Mapping struct {
	Columns []string `json:"columns"` // target of each column
	Policy  Policy   `json:"policy"`
	// where a phone number without a country's code is from, if the row does not say
	Country  string   `json:"country,omitempty"`
	Source   string   `json:"source,omitempty"` // of new people, where no column says it
	Tags     []string `json:"tags,omitempty"`   // for everybody
	Audience int64    `json:"audience,omitempty"`
	Purpose  int64    `json:"purpose,omitempty"` // consent that everybody has given
	Ground   string   `json:"ground,omitempty"`
	Loose    bool     `json:"loose,omitempty"` // a value that cannot be read is left out, and its row taken
	NoHead   bool     `json:"no_head,omitempty"`
	Sep      string   `json:"sep,omitempty"`
	Encoding string   `json:"encoding,omitempty"`
}

// Problem is why a row cannot be taken.
type Problem struct {
	Column int // index of the cell; −1: the row as a whole
	Name   string
	Value  string
	Reason string
}

func (p *Problem) Error() string {
	if p.Name == "" {
		return p.Reason
	}
	return fmt.Sprintf("%s: %s", p.Name, p.Reason)
}

// Plain marks it as an error that users may read.
func (*Problem) Plain() {}

// ErrNoWay is answered for a row that names nobody who could be found again.
var ErrNoWay = plainly.New("there is no email address, telephone number or profile: " +
	"nobody could find this record again")

// Record is what a row says of somebody.
type Record struct {
	Values person.Values // as the core tidies them
	Tags   []string
	Emails []string
	Phones []string
	Said   Said
	Out    []Problem // values that were left out
}

// Said is what a row says that people said, and was said of them.
type Said struct {
	Consents []Consent `json:"consents,omitempty"`
	Notes    []Noted   `json:"notes,omitempty"`
}

// Builder builds records by a mapping. It keeps what it has worked out of
// countries, languages and the like, which repeat. It is not safe for use by
// several goroutines.
type Builder struct {
	m     *Mapping
	cols  []column
	dates func(string) string
	seen  map[string]string
	rec   Record
}

type column struct {
	index  int
	target string
	def    *person.Definition
	memo   bool
	agreed int64 // the purpose that the column is about
}

// NewBuilder readies a builder. define says what a field is; dates, which may
// be nil, reads a date as the file's form keeps it.
func NewBuilder(
	m *Mapping, define func(person.Field) (person.Definition, bool), dates func(string) string,
) (*Builder, error) {
	b := &Builder{m: m, dates: dates, seen: map[string]string{}, rec: Record{Values: person.Values{}}}
	used := map[string]bool{}
	for i, t := range m.Columns {
		if t == Skip {
			continue
		}
		c := column{index: i, target: t}
		switch t {
		case FullName, FurtherEmail, FurtherPhone, Tags, Note, string(person.DoNotContact):
		default:
			d, ok := define(person.Field(t))
			if !ok || d.Fixed {
				return nil, plainly.Errorf("column %d cannot be read as %q", i+1, t)
			}
			c.def = &d
			if kind, _, id := person.MarkOf(d.Field); kind == person.ConsentMark {
				c.agreed = id
			}
			switch d.Type {
			case person.CountryType, person.LanguageType, person.ZoneType, person.YesNo, person.OneOf, person.SeveralOf:
				c.memo = true
			}
		}
		if used[t] && t != FurtherEmail && t != FurtherPhone && t != Tags && t != Note {
			return nil, plainly.Errorf("two columns are read as %q; leave one of them out", t)
		}
		used[t] = true
		// The country comes first: phone numbers are read by it.
		if t == string(person.Country) {
			b.cols = append([]column{c}, b.cols...)
		} else {
			b.cols = append(b.cols, c)
		}
	}
	if !used[string(person.EmailField)] && !used[string(person.PhoneField)] && !used[string(person.Profile)] {
		return nil, plainly.New("choose the column with the email address, the telephone number or the profile: " +
			"without one nobody can be found again")
	}
	return b, nil
}

// Build reads a row. The record is valid until the next call.
func (b *Builder) Build(cells []string) (*Record, *Problem) {
	r := &b.rec
	clear(r.Values)
	r.Tags, r.Emails, r.Phones, r.Said, r.Out = nil, nil, nil, Said{}, nil
	country := b.m.Country
	for i := range b.cols {
		c := &b.cols[i]
		if c.index >= len(cells) {
			continue
		}
		v := unguard(cells[c.index])
		if v == "" {
			continue
		}
		if err := b.put(r, c, v, country); err != nil {
			name := c.target
			if c.def != nil {
				name = c.def.Name
			}
			p := Problem{c.index, name, v, err.Error()}
			if !b.m.Loose || c.target == string(person.DoNotContact) || c.agreed != 0 {
				return nil, &p
			}
			r.Out = append(r.Out, p)
			continue
		}
		if c.target == string(person.Country) && r.Values[person.Country] != "" {
			country = r.Values[person.Country]
		}
	}
	if r.Values[person.EmailField] == "" && len(r.Emails) > 0 {
		r.Values[person.EmailField], r.Emails = r.Emails[0], r.Emails[1:]
	}
	if r.Values[person.PhoneField] == "" && len(r.Phones) > 0 {
		r.Values[person.PhoneField], r.Phones = r.Phones[0], r.Phones[1:]
	}
	if r.Values[person.EmailField] == "" && r.Values[person.PhoneField] == "" && r.Values[person.Profile] == "" {
		if len(r.Out) > 0 { // what would have told is what could not be read
			return nil, &r.Out[0]
		}
		return nil, &Problem{Column: -1, Reason: ErrNoWay.Error()}
	}
	if r.Values[person.Domain] == "" {
		if d := person.CompanyDomain(r.Values[person.EmailField]); d != "" {
			r.Values[person.Domain] = d
		}
	}
	return r, nil
}

func (b *Builder) put(r *Record, c *column, v, country string) error {
	switch c.target {
	case FullName:
		v = person.Name(v)
		last, first, comma := strings.Cut(v, ",") // "Radu, Ines"
		if !comma {
			i := strings.LastIndexByte(v, ' ')
			if i < 0 {
				first, last = "", v
			} else {
				first, last = v[:i], v[i+1:]
			}
		}
		if first = strings.TrimSpace(first); first != "" && r.Values[person.FirstName] == "" {
			r.Values[person.FirstName] = first
		}
		if last = strings.TrimSpace(last); last != "" && r.Values[person.LastName] == "" {
			r.Values[person.LastName] = last
		}
		return nil
	case FurtherEmail:
		for _, one := range split(v) {
			a, err := person.Email(one)
			if err != nil {
				return err
			}
			r.Emails = append(r.Emails, a)
		}
		return nil
	case FurtherPhone:
		for _, one := range split(v) {
			p, err := person.Phone(one, country)
			if err != nil {
				return err
			}
			r.Phones = append(r.Phones, p)
		}
		return nil
	case Tags:
		for _, one := range split(v) {
			if one = person.Name(one); one != "" {
				r.Tags = append(r.Tags, one)
			}
		}
		return nil
	case Note:
		r.Said.Notes = append(r.Said.Notes, ParseNotes(strings.ReplaceAll(strings.ToValidUTF8(v, ""), "\x00", ""))...)
		return nil
	case string(person.DoNotContact):
		d := person.Definition{Field: person.DoNotContact, Type: person.YesNo}
		x, err := d.Tidy(v, "")
		if err == nil && x == "yes" {
			r.Values[person.DoNotContact] = "yes"
		}
		return err
	}
	if c.agreed != 0 {
		said, err := ParseConsent(v)
		if said.Purpose = c.agreed; err == nil {
			r.Said.Consents = append(r.Said.Consents, said)
		}
		return err
	}
	if c.memo {
		key := c.target + "\x00" + v
		if x, ok := b.seen[key]; ok {
			r.Values[c.def.Field] = x
			return nil
		}
		x, err := c.def.Tidy(v, country)
		if err != nil {
			return err
		}
		if len(b.seen) < 20_000 {
			b.seen[strings.Clone(key)] = x
		}
		if x != "" {
			r.Values[c.def.Field] = x
		}
		return nil
	}
	if c.def.Type == person.Date && b.dates != nil {
		v = b.dates(v)
	}
	x, err := c.def.Tidy(v, country)
	if err == nil && x != "" {
		r.Values[c.def.Field] = x
	}
	return err
}

// split takes values apart that stand in one cell.
func split(v string) []string {
	var out []string
	for _, s := range strings.FieldsFunc(v, func(r rune) bool {
		return r == ';' || r == ',' || r == '\n' || r == '|'
	}) {
		if s = strings.TrimSpace(s); s != "" {
			out = append(out, s)
		}
	}
	return out
}

// unguard takes away the sign that keeps a sheet from reading a cell as a
// formula (see roster.Guard), and outer spaces.
func unguard(v string) string {
	v = strings.TrimSpace(v)
	if len(v) > 1 && v[0] == '\'' && strings.IndexByte("=+-@\t\r'", v[1]) >= 0 {
		v = v[1:]
	}
	return v
}
