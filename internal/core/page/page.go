// Package page is pages of blocks with a form: what a page says, what its form
// asks of whom, how answers are checked, and what follows from them.
//
// A form asks its questions of everybody. Behind them stands a ladder of
// further ones: of these it asks at most so many that this visitor has not
// answered yet, so that each visit tells one thing more. Whoever is known
// already is not asked again what is known of them, but always for their
// address: only that tells whether it is still the same person who sits there.
//
// What an unknown visitor types is a claim. It fills what is not known and
// changes nothing that is, until the address has proved itself: a link in the
// email that brings what was asked for was pressed.
package page

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"ombak/internal/core/act"
	"ombak/internal/core/arrange"
	"ombak/internal/core/message"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
)

// Limits.
const (
	MaxBlocks    = 60
	MaxQuestions = 30
	MaxHidden    = 20
	MaxAnswer    = 1000 // letters
)

// Document is a page as it is written.
type Document struct {
	Title  string  `json:"title"`
	Blocks []Block `json:"blocks"`
	Form   Form    `json:"form"`
	Last   int     `json:"last"` // the highest block id given
}

// Block is a part of a page. It has a section's kinds and content, but for
// those that only a letter has.
type Block struct {
	ID      int             `json:"id"`
	Kind    message.Kind    `json:"kind"`
	Content message.Content `json:"content"`
}

// Kinds are the kinds of block, in the order of a menu.
func Kinds() []message.Kind {
	return []message.Kind{message.Text, message.Heading, message.Picture, message.List, message.Quote, message.Button,
		message.Divider}
}

// Form is what a page asks.
type Form struct {
	Title     string     `json:"title,omitempty"` // above the questions
	Button    string     `json:"button"`
	Questions []Question `json:"questions"`
	AtOnce    int        `json:"at_once"`         // how many of the ladder are asked at once
	Later     bool       `json:"later,omitempty"` // the ladder begins with whom we know: at the second visit
	Consents  []Consent  `json:"consents,omitempty"`
	Hidden    []Hidden   `json:"hidden,omitempty"`
	Thanks    string     `json:"thanks,omitempty"`  // HTML: what stands in the form's place afterwards
	To        string     `json:"to,omitempty"`      // or the page of our own that follows
	Message   int64      `json:"message,omitempty"` // the email that brings what was asked for
	Proved    bool       `json:"proved,omitempty"`  // acts wait until the address has proved itself
	Acts      []act.Kept `json:"acts,omitempty"`
}

// Question asks for a field of the record.
type Question struct {
	Field   person.Field `json:"field"`
	Label   string       `json:"label,omitempty"` // empty: the field's name
	Help    string       `json:"help,omitempty"`
	Must    bool         `json:"must,omitempty"`
	Further bool         `json:"further,omitempty"` // of the ladder
}

// Consent is a box by which a visitor agrees to a purpose. It is never ticked
// beforehand.
type Consent struct {
	Purpose int64  `json:"purpose"`
	Words   string `json:"words"` // as they read, and as it is kept
	Must    bool   `json:"must,omitempty"`
}

// Hidden is a field that no visitor sees: it takes what a parameter of the
// page's address says, else a fixed value.
type Hidden struct {
	Field person.Field `json:"field"`
	Param string       `json:"param,omitempty"`
	Value string       `json:"value,omitempty"`
}

// Tags are the campaign tags that every form keeps, by their parameter (common
// practice, no source).
func Tags() []Hidden {
	return []Hidden{{Field: person.Source, Param: "utm_source"}, {Field: person.Medium, Param: "utm_medium"},
		{Field: person.Campaign, Param: "utm_campaign"},
		{Field: person.Term, Param: "utm_term"}, {Field: person.Content, Param: "utm_content"}}
}

// New is a page of one text that asks for the usual four.
func New(title, text, button string) Document {
	return Document{Title: title, Last: 1,
		Blocks: []Block{{ID: 1, Kind: message.Text, Content: message.Content{Text: text}}},
		Form: Form{Button: button, Questions: []Question{
			{Field: person.FirstName, Must: true}, {Field: person.LastName, Must: true},
			{Field: person.Company, Must: true}, {Field: person.EmailField, Label: "Work email", Must: true},
		}}}
}

// WithLadder has a form ask further questions, one at a time.
func (d Document) WithLadder(fields ...person.Field) Document {
	d.Form.AtOnce = 1
	for _, f := range fields {
		d.Form.Questions = append(d.Form.Questions, Question{Field: f, Further: true})
	}
	return d
}

// Askable reports whether a form may ask for a field: one that somebody can
// answer about themselves, and that no visitor could do harm with. What belongs
// to a company is its record's, and not each visitor's to say.
func Askable(d *person.Definition) bool {
	switch d.Field {
	case person.Owner, person.Source, person.Medium, person.Campaign, person.Term, person.Content:
		return false
	}
	return !d.Fixed && (!d.Company || d.Field == person.Company)
}

// Keepable reports whether a hidden field may set a field: what is askable but
// an address, and where somebody came from.
func Keepable(d *person.Definition) bool {
	switch d.Field {
	case person.Source, person.Medium, person.Campaign, person.Term, person.Content:
		return true
	case person.EmailField, person.Company:
		return false
	}
	return Askable(d)
}

// Known is what a form is told of the visitor: nil is nobody we know.
type Known person.Values

// Asked are the questions for a visitor, in the form's order.
func (f *Form) Asked(known Known) []Question {
	left := f.AtOnce
	if f.Later && len(known) == 0 {
		left = 0
	}
	var out []Question
	for _, q := range f.Questions {
		if q.Field != person.EmailField && known[q.Field] != "" {
			continue
		}
		if q.Further {
			if left <= 0 {
				continue
			}
			left--
		}
		out = append(out, q)
	}
	return out
}

// Answers are what a visitor gave, checked.
type Answers struct {
	Values   person.Values // of the fields asked for; empty ones are left out
	Hidden   person.Values // of the campaign tags and hidden fields
	Consents []Given
}

// Given is a box that was ticked, in the words that stood beside it.
type Given struct {
	Purpose int64  `json:"purpose"`
	Words   string `json:"words"`
}

// Wrong says of each input by its name what is wrong with it.
type Wrong map[string]string

// Name is what an input for a field is called in the page. Own fields keep
// their number.
func Name(f person.Field) string { return "f-" + strings.ReplaceAll(string(f), " ", "-") }

// ConsentName is what the box for a purpose is called.
func ConsentName(purpose int64) string { return fmt.Sprintf("agree-%d", purpose) }

// Read checks what a visitor typed (by input name) against what the form asks
// of them. define knows the fields. What is wrong comes back by input; then the
// answers are of no use.
func (f *Form) Read(
	typed func(name string) string, known Known, define func(person.Field) (person.Definition, bool),
) (Answers, Wrong) {
	a, wrong := Answers{Values: person.Values{}, Hidden: person.Values{}}, Wrong{}
	asked := f.Asked(known)
	country := known[person.Country]
	if c, err := person.CountryCode(typed(Name(person.Country))); err == nil && c != "" {
		country = c
	}
	for _, q := range f.Questions {
		d, ok := define(q.Field)
		if !ok || !Askable(&d) {
			continue // a field that went since
		}
		name := Name(q.Field)
		v := strings.ToValidUTF8(strings.ReplaceAll(typed(name), "\x00", ""), "")
		switch is := slices.Contains(asked, q); {
		case strings.TrimSpace(v) == "" && is && (q.Must || q.Field == person.EmailField):
			wrong[name] = missing(q, &d)
		case strings.TrimSpace(v) == "":
		default:
			x, err := "", person.ErrLong
			if utf8.RuneCountInString(v) <= MaxAnswer {
				x, err = d.Tidy(v, country)
			}
			switch {
			case err == nil && x != "":
				a.Values[q.Field] = x
			case !is: // of a page that was open for long: nobody could mend it
			case err != nil:
				wrong[name] = Explain(&d, err)
			case q.Must:
				wrong[name] = missing(q, &d)
			}
		}
	}
	for _, h := range append(Tags(), f.Hidden...) {
		d, ok := define(h.Field)
		if !ok || !Keepable(&d) {
			continue
		}
		v := h.Value
		if h.Param != "" {
			if x := strings.TrimSpace(typed(h.Param)); x != "" {
				v = x
			}
		}
		if utf8.RuneCountInString(v) > person.MaxText { // a link that somebody played with
			continue
		}
		// No visitor can mend what they do not see: what cannot be is left out.
		if x, err := d.Tidy(strings.ToValidUTF8(strings.ReplaceAll(v, "\x00", ""), ""), country); err == nil &&
			x != "" {
			a.Hidden[h.Field] = x
		}
	}
	for _, c := range f.Consents {
		switch {
		case typed(ConsentName(c.Purpose)) != "":
			a.Consents = append(a.Consents, Given{c.Purpose, c.Words})
		case c.Must:
			wrong[ConsentName(c.Purpose)] = "Please tick this: without it we cannot send you what you ask for."
		}
	}
	return a, wrong
}

func missing(q Question, d *person.Definition) string {
	switch {
	case q.Field == person.EmailField:
		return "Please give your email address: what you asked for comes there."
	case d.Type == person.OneOf || d.Type == person.SeveralOf || d.Type == person.YesNo:
		return "Please choose."
	case q.Label == "" && !d.Company:
		return "Please give your " + d.Name + "."
	}
	return "Please fill this in."
}

// Explain says to a visitor what is wrong with an answer.
func Explain(d *person.Definition, err error) string {
	switch {
	case d.Type == person.EmailType:
		return "This does not look like an email address. It should read like name@company.example."
	case d.Type == person.PhoneType:
		return "This does not look like a telephone number. It should begin with the country’s code, such as +47."
	case errors.Is(err, person.ErrLong):
		return fmt.Sprintf("This is too long: at most %d letters.", person.MaxName)
	}
	s := err.Error()
	return strings.ToUpper(s[:1]) + s[1:] + "."
}

// Number is the block's id.
func (b Block) Number() int { return b.ID }

// Block finds a block by its id; −1 where it is not there.
func (d *Document) Block(id int) int { return arrange.Find(d.Blocks, id) }

// Insert puts a new, empty block of a kind behind another (0: before all) and
// answers its id.
func (d *Document) Insert(k message.Kind, behind int) (int, error) {
	if !slices.Contains(Kinds(), k) {
		return 0, plainly.Errorf("there is no kind of block %q", k)
	}
	if len(d.Blocks) >= MaxBlocks {
		return 0, plainly.Errorf("a page has at most %d blocks", MaxBlocks)
	}
	d.Last++
	d.Blocks = arrange.Insert(d.Blocks, Block{ID: d.Last, Kind: k}, behind)
	return d.Last, nil
}

// Copy puts a copy of a block behind it and answers the copy's id.
func (d *Document) Copy(id int) (int, error) {
	i := d.Block(id)
	if i < 0 {
		return 0, arrange.ErrGone
	}
	made, err := d.Insert(d.Blocks[i].Kind, id)
	if err == nil {
		c := d.Blocks[i].Content
		c.Items = slices.Clone(c.Items)
		d.Blocks[i+1].Content = c
	}
	return made, err
}

// Remove takes a block out.
func (d *Document) Remove(id int) (err error) {
	d.Blocks, err = arrange.Remove(d.Blocks, id)
	return err
}

// Move moves a block by some places, as far as there are any.
func (d *Document) Move(id, by int) (err error) {
	d.Blocks, err = arrange.Move(d.Blocks, id, by)
	return err
}

// Order puts the blocks into the order of some ids.
func (d *Document) Order(ids []int) { arrange.Order(d.Blocks, ids) }

// Check reports what would keep the page from being published, or nil. define
// knows the fields.
func (d *Document) Check(define func(person.Field) (person.Definition, bool)) error {
	f := &d.Form
	switch {
	case strings.TrimSpace(d.Title) == "":
		return plainly.New("the page has no title")
	case len(d.Blocks) > MaxBlocks:
		return plainly.Errorf("a page has at most %d blocks", MaxBlocks)
	case strings.TrimSpace(f.Button) == "":
		return plainly.New("the form’s button says nothing")
	case len(f.Questions) > MaxQuestions:
		return plainly.Errorf("a form has at most %d questions", MaxQuestions)
	case len(f.Hidden) > MaxHidden:
		return plainly.Errorf("a form has at most %d hidden fields", MaxHidden)
	case len(f.Acts) > act.Max:
		return plainly.Errorf("a form does at most %d things", act.Max)
	case f.AtOnce < 0 || f.AtOnce > MaxQuestions:
		return plainly.Errorf("a form asks at most %d further questions at once", MaxQuestions)
	}
	size := 0
	for i := range d.Blocks {
		b := &d.Blocks[i]
		if b.ID < 1 || b.ID > d.Last || d.Block(b.ID) != i {
			return plainly.New("two blocks have one number")
		}
		if lacks := b.Kind.Lacks(b.Content); lacks != "" {
			return plainly.Errorf("block %d: %s", i+1, lacks)
		}
		size += len(message.Sketch(b.Kind, b.Content))
	}
	if size > message.MaxBody {
		return plainly.Errorf("the page is longer than %d bytes", message.MaxBody)
	}
	seen := map[person.Field]bool{}
	for _, q := range f.Questions {
		x, ok := define(q.Field)
		switch {
		case !ok:
			return plainly.New("a field that the form asks for is not there any more")
		case !Askable(&x):
			return plainly.Errorf("a form cannot ask for “%s”", x.Name)
		case seen[q.Field]:
			return plainly.Errorf("the form asks twice for “%s”", x.Name)
		case q.Field == person.EmailField && q.Further:
			return plainly.New("the email address is asked for each time: it tells who it is")
		}
		seen[q.Field] = true
	}
	if !seen[person.EmailField] {
		return plainly.New("the form has to ask for the email address: by it somebody is known again")
	}
	for _, h := range f.Hidden {
		if x, ok := define(h.Field); !ok || !Keepable(&x) {
			return plainly.New("a hidden field sets something that no form may")
		}
	}
	for _, c := range f.Consents {
		if strings.TrimSpace(c.Words) == "" {
			return plainly.New("a box for consent says nothing")
		}
	}
	for _, a := range f.Acts {
		if err := act.Check(a.Act, act.OfForm()); err != nil {
			return err
		}
	}
	if f.Proved && f.Message == 0 {
		return plainly.New("an address can only prove itself by an email: " +
			"choose the one that brings what was asked for")
	}
	return nil
}
