package pipeline

import (
	"cmp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"ombak/internal/core/calendar"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
)

// Columns are those of a file of deals. A file that is written has all of them, and behind them one for each open
// stage, by its name: on which day the deal first came into it.
func Columns() []string {
	return []string{"deal", "name", "person", "first name", "last name", "company", "pipeline", "stage", "state",
		"amount", "currency", "worth", "rep", "opened", "moved", "closed", "expected", "next", "next on", "reason",
		"sequence", "campaign"}
}

// ignored are columns that are written for people and follow from the others: nothing is read from them.
var ignored = []string{"first name", "last name", "company", "state", "worth", "sequence"}

// others are names by which columns are known besides their own.
var others = map[string]string{"email": "person", "contact": "person", "deal id": "deal", "deal name": "name",
	"owner": "rep", "value": "amount", "expected close": "expected", "close date": "closed", "created": "opened",
	"next step": "next", "lost reason": "reason"}

// Bounds of a file of deals.
const (
	MostEntries = 5000
	maxEntry    = 200 // characters of a text
)

// Nobody stands for no rep, in a file of deals.
const Nobody = "nobody"

// Entry is a deal as a row of a file has it. Of what is zero, the file says nothing.
type Entry struct {
	Line     int    `json:"line"`
	Deal     int64  `json:"deal,omitempty"`   // that is changed; 0: one is opened
	Person   string `json:"person,omitempty"` // whom it is about, by an address
	Name     string `json:"name,omitempty"`
	Stage    int64  `json:"stage,omitempty"`
	Amount   *int64 `json:"amount,omitempty"` // in minor units of Currency
	Currency string `json:"currency,omitempty"`
	Rep      string `json:"rep,omitempty"` // their address; Nobody: no rep
	Opened   Day    `json:"opened,omitzero"`
	Moved    Day    `json:"moved,omitzero"`
	Closed   Day    `json:"closed,omitzero"`
	Expected Day    `json:"expected,omitzero"`
	Next     string `json:"next,omitempty"`
	NextOn   Day    `json:"nextOn,omitzero"`
	Reason   string `json:"reason,omitempty"`
	Campaign string `json:"campaign,omitempty"`
	Came     []Came `json:"came,omitempty"` // into open stages, in the order of time
}

// Day is a date that may be missing.
type Day struct{ calendar.Date }

// IsZero reports whether nothing is said.
func (d Day) IsZero() bool { return d.Date == calendar.Date{} }

// Came is the day on which a deal first came into a stage.
type Came struct {
	Stage int64 `json:"stage"`
	On    Day   `json:"on"`
}

// Entries reads the rows of a file of deals.
type Entries struct {
	Unread []string // columns from which nothing is read
	Passes bool     // it has columns that say when deals came into stages

	column    map[string]int // by name
	stages    []Stage
	pipelines []Pipeline
	came      map[int]int64 // stages by their column
	base      string
	today     calendar.Date
	date      func(string) string // makes a date of a sheet’s number; nil: there are none
}

// Setting is what a file of deals is read against.
type Setting struct {
	Stages    []Stage
	Pipelines []Pipeline
	Base      string              // the currency of amounts that name none
	Today     calendar.Date       // in the workspace’s zone
	Date      func(string) string // makes a date of a sheet’s number; nil: there are none
}

// ReadHead understands the head of a file of deals. It needs a column “person” or “deal”.
func ReadHead(head []string, in Setting) (*Entries, error) {
	e := &Entries{column: map[string]int{}, stages: in.Stages, pipelines: in.Pipelines, came: map[int]int64{},
		base: in.Base, today: in.Today, date: in.Date}
	for i, h := range head {
		name := fold(h)
		if name == "" {
			continue
		}
		known := cmp.Or(others[name], name)
		if slices.Contains(Columns(), known) {
			if j, twice := e.column[known]; twice {
				return nil, plainly.Errorf("the columns %d and %d are both “%s”: remove one", j+1, i+1, known)
			}
			e.column[known] = i
			continue
		}
		at := slices.IndexFunc(in.Stages, func(s Stage) bool { return !s.Closed() && fold(s.Name) == name })
		if at < 0 {
			e.Unread = append(e.Unread, h)
			continue
		}
		for _, s := range e.came {
			if s == in.Stages[at].ID {
				return nil, plainly.Errorf("two columns are called “%s”: remove one", h)
			}
		}
		e.came[i], e.Passes = in.Stages[at].ID, true
	}
	if _, person := e.column["person"]; !person {
		if _, deal := e.column["deal"]; !deal {
			return nil, plainly.New("the file needs a column “person”, with the email address of whom each deal is " +
				"about, or a column “deal”, with the numbers of deals that it changes")
		}
	}
	return e, nil
}

func fold(s string) string { return strings.ToLower(strings.Join(strings.Fields(s), " ")) }

// Read makes an entry of a row, or says what of it cannot be.
func (e *Entries) Read(line int, cells []string) (Entry, error) {
	cell := func(name string) string {
		if i, ok := e.column[name]; ok && i < len(cells) {
			return strings.TrimSpace(cells[i])
		}
		return ""
	}
	d := Entry{Line: line, Rep: strings.ToLower(cell("rep"))}
	for _, t := range []struct {
		column string
		into   *string
	}{{"name", &d.Name}, {"next", &d.Next}, {"reason", &d.Reason}, {"campaign", &d.Campaign}} {
		if *t.into = person.Name(cell(t.column)); utf8.RuneCountInString(cell(t.column)) > maxEntry {
			return d, plainly.Errorf("%s: it has more than %d characters", t.column, maxEntry)
		}
	}
	var err error
	if text := cell("deal"); text != "" {
		if d.Deal, err = strconv.ParseInt(text, 10, 64); err != nil || d.Deal <= 0 {
			return d, plainly.Errorf("deal: “%s” is no number of a deal", cut(text))
		}
	}
	if text := cell("person"); text != "" {
		if d.Person, err = person.Email(text); err != nil {
			return d, plainly.Errorf("person: %w", err)
		}
	}
	if d.Deal == 0 && d.Person == "" {
		return d, plainly.New("person: a deal is about somebody, by their email address")
	}
	if d.Stage, err = e.stage(cell("pipeline"), cell("stage")); err != nil {
		return d, err
	}
	if err := e.money(&d, cell("amount"), cell("currency")); err != nil {
		return d, err
	}
	for _, t := range []struct {
		column string
		into   *Day
	}{{"opened", &d.Opened}, {"moved", &d.Moved}, {"closed", &d.Closed}, {"expected", &d.Expected},
		{"next on", &d.NextOn}} {
		if *t.into, err = e.day(cell(t.column)); err != nil {
			return d, plainly.Errorf("%s: %w", t.column, err)
		}
	}
	if err := e.passes(&d, cells); err != nil {
		return d, err
	}
	return d, e.order(&d)
}

// cut shortens what somebody wrote for a sentence about it.
func cut(s string) string {
	if r := []rune(s); len(r) > 40 {
		return string(r[:40]) + "…"
	}
	return s
}

// stage finds a stage by its name and, where several have it, that of its pipeline. A pipeline without a stage means
// its first open one.
func (e *Entries) stage(pipe, name string) (int64, error) {
	in := int64(0)
	if pipe != "" {
		i := slices.IndexFunc(e.pipelines, func(p Pipeline) bool { return fold(p.Name) == fold(pipe) })
		if i < 0 {
			return 0, plainly.Errorf("pipeline: there is none called “%s”", cut(pipe))
		}
		in = e.pipelines[i].ID
	}
	if pipe == "" && name == "" {
		return 0, nil
	}
	var found []Stage
	for _, s := range e.stages {
		if (in == 0 || s.Pipeline == in) && (fold(s.Name) == fold(name) || name == "" && !s.Closed()) {
			found = append(found, s)
		}
	}
	switch {
	case len(found) == 0 && name == "":
		return 0, plainly.Errorf("pipeline: “%s” has no open stage", cut(pipe))
	case len(found) == 0 && pipe != "":
		return 0, plainly.Errorf("stage: “%s” has none called “%s”", cut(pipe), cut(name))
	case len(found) == 0:
		return 0, plainly.Errorf("stage: there is none called “%s”", cut(name))
	case len(found) > 1 && name != "":
		return 0, plainly.Errorf("stage: several pipelines have one called “%s”: say which in a column “pipeline”",
			cut(name))
	}
	return found[0].ID, nil
}

// money reads an amount. An amount without a currency is in the base of a deal that is opened, and in the currency of
// the deal that is changed: that one is not known here, so that a row which changes an amount names its currency.
func (e *Entries) money(d *Entry, amount, currency string) error {
	d.Currency = strings.ToUpper(currency)
	if d.Currency != "" && !KnownCurrency(d.Currency) {
		return plainly.Errorf("currency: “%s” is none; it is a code of three letters, such as NOK", cut(currency))
	}
	switch {
	case amount == "" && d.Currency != "" && d.Deal != 0:
		return plainly.New("amount: a deal’s currency changes together with its amount")
	case amount == "":
		return nil
	case d.Currency == "" && d.Deal != 0:
		return plainly.New("currency: an amount that changes names its currency")
	}
	d.Currency = cmp.Or(d.Currency, e.base)
	n, err := ParseAmount(amount, d.Currency)
	if err != nil {
		return plainly.Errorf("amount: %w", err)
	}
	d.Amount = &n
	return nil
}

// day reads a date as ISO 8601 has it; a time of day behind it is passed over.
func (e *Entries) day(text string) (Day, error) {
	if text == "" {
		return Day{}, nil
	}
	if e.date != nil {
		text = e.date(text)
	}
	if len(text) > 10 && (text[10] == 'T' || text[10] == ' ') {
		text = text[:10]
	}
	t, err := time.Parse(time.DateOnly, text)
	if err != nil || t.Year() < 1990 || t.Year() > 2200 {
		return Day{}, plainly.Errorf("“%s” is no day; write it like 2026-05-31", cut(text))
	}
	return Day{calendar.DateOf(t, time.UTC)}, nil
}

// passes reads when a deal came into stages, in the order of time; on one day, in that of the stages.
func (e *Entries) passes(d *Entry, cells []string) error {
	for at, s := range e.stages {
		for i, id := range e.came {
			if id != s.ID || i >= len(cells) || strings.TrimSpace(cells[i]) == "" {
				continue
			}
			on, err := e.day(strings.TrimSpace(cells[i]))
			if err != nil {
				return plainly.Errorf("%s: %w", e.stages[at].Name, err)
			}
			d.Came = append(d.Came, Came{Stage: id, On: on})
		}
	}
	slices.SortStableFunc(d.Came, func(a, b Came) int { return a.On.Compare(b.On.Date) })
	return nil
}

// order checks the days of an entry against each other, and against its stage.
func (e *Entries) order(d *Entry) error {
	at := slices.IndexFunc(e.stages, func(s Stage) bool { return s.ID == d.Stage })
	closed := at >= 0 && e.stages[at].Closed()
	switch {
	case d.Deal != 0 && (!d.Opened.IsZero() || !d.Moved.IsZero() || !d.Closed.IsZero() || len(d.Came) > 0):
		// What was is not rewritten: a file that was exported here has these days, and they stay as they are.
		d.Opened, d.Moved, d.Closed, d.Came = Day{}, Day{}, Day{}, nil
		return nil
	case d.Deal != 0:
		return nil
	case closed && d.Closed.IsZero():
		return plainly.Errorf("closed: a deal in “%s” has a day on which it was closed", e.stages[at].Name)
	case !closed && !d.Closed.IsZero():
		return plainly.New("closed: only a deal that is won or lost has such a day")
	case closed && d.Opened.IsZero() && len(d.Came) == 0:
		d.Opened = d.Closed
	}
	if d.Opened.IsZero() && len(d.Came) > 0 {
		d.Opened = d.Came[0].On
	}
	before := d.Opened
	for _, c := range append(slices.Clone(d.Came), Came{On: d.Moved}, Came{On: d.Closed}) {
		switch {
		case c.On.IsZero():
		case c.On.Compare(e.today) > 0:
			return plainly.Errorf("%s is not yet", c.On)
		case !before.IsZero() && c.On.Compare(before.Date) < 0:
			return plainly.Errorf("%s was before %s: a deal is opened, comes into stages, is moved and closed in that "+
				"order", c.On, before)
		default:
			before = c.On
		}
	}
	if !d.Opened.IsZero() && d.Opened.Compare(e.today) > 0 {
		return plainly.Errorf("opened: %s is not yet", d.Opened)
	}
	return nil
}

// Passage is one move that an entry tells of.
type Passage struct {
	Stage int64
	On    Day // zero: now
}

// Passages lists the moves that an entry of a new deal tells of, which ends in a stage: those of its columns, and that
// into the stage it is in. Nothing is made up: where a file does not say when a deal was in a stage, it was in none.
func (d Entry) Passages(stage int64) (out []Passage) {
	for _, c := range d.Came {
		out = append(out, Passage(c))
	}
	if n := len(out); n > 0 && out[n-1].Stage == stage {
		return out
	}
	on := d.Closed
	if on.IsZero() {
		on = d.Moved
	}
	if on.IsZero() && len(d.Came) == 0 {
		on = d.Opened
	}
	return append(out, Passage{Stage: stage, On: on})
}
