// Package rule asks yes or no of one person: conditions over what is on their
// record, what they did and how they stand, joined by all, any and none.
//
// A rule has one meaning wherever it runs. Holds is that meaning, in memory;
// the store compiles the same tree to SQL and a test holds both against each
// other. Every rule can say itself in words.
//
// How values compare: text without regard to case and outer spaces; numbers
// and instants by value; "is known" is false for an empty text; a value that
// is missing meets no comparison except "is not" and "is not known".
package rule

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ombak/internal/core/signal"
)

// Field names something on a person's record or their company's.
type Field string

// The fields a rule can ask for.
const (
	FirstName Field = "first name"
	LastName  Field = "last name"
	Email     Field = "email"
	Title     Field = "title"
	Country   Field = "country" // ISO 3166-1 alpha-2
	City      Field = "city"
	Source    Field = "source"
	Company   Field = "company"
	Industry  Field = "industry"
	Owner     Field = "owner"
)

// Fields lists every field, in the order an editor offers them.
func Fields() []Field {
	return []Field{Country, Company, Industry, Title, City, Source, Owner, FirstName, LastName, Email}
}

// Op is how a condition compares.
type Op string

// The comparisons of a text field, and those of a count or score.
const (
	Is         Op = "is"
	IsNot      Op = "is not"
	Contains   Op = "contains"
	StartsWith Op = "starts with"
	OneOf      Op = "is one of"
	Known      Op = "is known"
	NotKnown   Op = "is not known"

	AtLeast Op = "at least"
	AtMost  Op = "at most"
	Exactly Op = "exactly"
)

// Facts is what a rule may ask about one person.
type Facts interface {
	// Text is the value of a field, empty where nothing is known.
	Text(Field) string
	// Score is the engagement at an instant.
	Score(at time.Time) float64
	// Count counts the signals that match p, at from or later and not after to.
	Count(p *signal.Pattern, from, to time.Time) int
}

// Rule is a tree. Exactly one of its four fields is set; the zero Rule asks
// nothing and holds for everybody.
type Rule struct {
	All  []Rule     `json:"all,omitempty"`
	Any  []Rule     `json:"any,omitempty"`
	None []Rule     `json:"none,omitempty"`
	If   *Condition `json:"if,omitempty"`
}

// Condition is one question: about a text field, about the score, or about
// how often a signal was seen.
type Condition struct {
	Field  Field           `json:"field,omitempty"`
	Score  bool            `json:"score,omitempty"`
	Signal *signal.Pattern `json:"signal,omitempty"`

	Op     Op       `json:"op"`
	Value  string   `json:"value,omitempty"`  // of a field
	Values []string `json:"values,omitempty"` // of a field, for OneOf
	N      int      `json:"n,omitempty"`      // of a score or a count
	Days   int      `json:"days,omitempty"`   // of a count: within the last so many; 0: ever
}

// Limits that keep a rule answerable and its SQL small.
const (
	maxDepth  = 8
	maxParts  = 200
	maxLength = 200
	maxDays   = 3660
)

// ScoreAtLeast is the rule of a check: a score of n or more.
func ScoreAtLeast(n int) Rule { return Rule{If: &Condition{Score: true, Op: AtLeast, N: n}} }

// FieldIs is the rule that a field has a value.
func FieldIs(f Field, v string) Rule { return Rule{If: &Condition{Field: f, Op: Is, Value: v}} }

// Asks reports whether r asks anything at all.
func (r *Rule) Asks() bool {
	return r.If != nil || len(r.All) > 0 || len(r.Any) > 0 || len(r.None) > 0
}

// Holds reports whether the rule holds for the person of f at instant at.
func (r *Rule) Holds(f Facts, at time.Time) bool {
	switch {
	case r.If != nil:
		return r.If.holds(f, at)
	case len(r.Any) > 0:
		for i := range r.Any {
			if r.Any[i].Holds(f, at) {
				return true
			}
		}
		return false
	case len(r.None) > 0:
		for i := range r.None {
			if r.None[i].Holds(f, at) {
				return false
			}
		}
		return true
	}
	for i := range r.All {
		if !r.All[i].Holds(f, at) {
			return false
		}
	}
	return true
}

func (c *Condition) holds(f Facts, at time.Time) bool {
	switch {
	case c.Signal != nil:
		var from time.Time
		if c.Days > 0 {
			from = signal.Within(at, c.Days)
		}
		return c.compare(float64(f.Count(c.Signal, from, at)))
	case c.Score:
		return c.compare(f.Score(at))
	}
	v := Fold(f.Text(c.Field))
	switch c.Op {
	case Known:
		return v != ""
	case NotKnown:
		return v == ""
	case IsNot:
		return v != Fold(c.Value)
	}
	if v == "" {
		return false
	}
	switch c.Op {
	case Is:
		return v == Fold(c.Value)
	case Contains:
		return strings.Contains(v, Fold(c.Value))
	case StartsWith:
		return strings.HasPrefix(v, Fold(c.Value))
	case OneOf:
		return slices.ContainsFunc(c.Values, func(x string) bool { return Fold(x) == v })
	}
	return false
}

func (c *Condition) compare(n float64) bool {
	switch c.Op {
	case AtLeast:
		return n >= float64(c.N)
	case AtMost:
		return n <= float64(c.N)
	case Exactly:
		return n == float64(c.N)
	}
	return false
}

// Fold is how texts compare: lower case, without outer spaces.
func Fold(s string) string { return strings.ToLower(strings.TrimSpace(s)) }

// Check reports the first thing in r that cannot be answered, or nil.
func (r *Rule) Check() error {
	parts := 0
	return r.check(0, &parts)
}

func (r *Rule) check(depth int, parts *int) error {
	if *parts++; *parts > maxParts || depth > maxDepth {
		return errors.New("the rule is too large")
	}
	set := 0
	for _, list := range [][]Rule{r.All, r.Any, r.None} {
		if len(list) > 0 {
			set++
		}
		for i := range list {
			if err := list[i].check(depth+1, parts); err != nil {
				return err
			}
		}
	}
	if r.If != nil {
		set++
		if err := r.If.check(); err != nil {
			return err
		}
	}
	if set > 1 {
		return errors.New("a part of a rule is one of all, any, none or a condition")
	}
	return nil
}

func (c *Condition) check() error {
	text := slices.Contains([]Op{Is, IsNot, Contains, StartsWith, OneOf, Known, NotKnown}, c.Op)
	count := slices.Contains([]Op{AtLeast, AtMost, Exactly}, c.Op)
	switch {
	case c.Signal != nil:
		if !c.Signal.Kind.Known() {
			return errors.New("a rule asks for an unknown kind of signal")
		}
		if !count || c.N < 0 || c.Days < 0 || c.Days > maxDays {
			return errors.New("a count of signals is at least, at most or exactly a number, within a number of days")
		}
	case c.Score:
		if !count {
			return errors.New("a score is at least, at most or exactly a number")
		}
	case !slices.Contains(Fields(), c.Field):
		return fmt.Errorf("a rule asks for the unknown field %q", c.Field)
	case !text:
		return fmt.Errorf("%q does not compare texts", c.Op)
	case len(c.Value) > maxLength || len(c.Values) > maxParts:
		return errors.New("a value in the rule is too long")
	case c.Op == OneOf && len(c.Values) == 0:
		return errors.New("is one of needs values")
	case (c.Op == Is || c.Op == IsNot || c.Op == Contains || c.Op == StartsWith) && Fold(c.Value) == "":
		return fmt.Errorf("%s %s needs a value", c.Field, c.Op)
	}
	return nil
}

// Words says the rule in one sentence's worth of words: "country is CA and at
// least 3 clicks within 180 days".
func (r *Rule) Words() string {
	if !r.Asks() {
		return "everybody"
	}
	return r.words(false)
}

func (r *Rule) words(inside bool) string {
	join := func(list []Rule, with string) string {
		parts := make([]string, len(list))
		for i := range list {
			parts[i] = list[i].words(len(list) > 1)
		}
		s := strings.Join(parts, with)
		if inside && len(list) > 1 {
			return "(" + s + ")"
		}
		return s
	}
	switch {
	case r.If != nil:
		return r.If.words()
	case len(r.Any) > 0:
		return join(r.Any, " or ")
	case len(r.None) > 0:
		return "not " + (&Rule{Any: r.None}).words(true)
	}
	return join(r.All, " and ")
}

func (c *Condition) words() string {
	switch {
	case c.Signal != nil:
		s := fmt.Sprintf("%s %s", c.Op, c.Signal.Kind.Plural(c.N))
		if c.Signal.Step != 0 {
			s += " from one step"
		} else if c.Signal.Sequence != 0 {
			s += " from one sequence"
		}
		if c.Days > 0 {
			s += fmt.Sprintf(" within %d days", c.Days)
		}
		return s
	case c.Score:
		if c.Op == AtLeast {
			return fmt.Sprintf("a score of %d or more", c.N)
		}
		return fmt.Sprintf("a score of %s %d", c.Op, c.N)
	case c.Op == Known || c.Op == NotKnown:
		return fmt.Sprintf("%s %s", c.Field, c.Op)
	case c.Op == OneOf:
		return fmt.Sprintf("%s %s %s", c.Field, c.Op, strings.Join(c.Values, ", "))
	}
	return fmt.Sprintf("%s %s %s", c.Field, c.Op, strings.TrimSpace(c.Value))
}
