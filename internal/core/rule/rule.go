// Package rule asks yes or no of one person: conditions over what is on their
// record, what they did and how they stand, joined by all, any and none.
//
// A rule has one meaning wherever it runs. Holds is that meaning, in memory;
// the store compiles the same tree to SQL and a test holds both against each
// other. Every rule can say itself in words.
//
// How values compare: text without regard to case and outer spaces; numbers
// and instants by value; "is known" is false for an empty text; a value that
// is missing meets no comparison except "is not" and "is not known". A day
// (a date without a time) lasts from midnight to midnight in UTC.
package rule

import (
	"math"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"ombak/internal/core/event"
	"ombak/internal/core/person"
	"ombak/internal/core/signal"
)

// Field names something on a person's record or their company's.
type Field = person.Field

// Op is how a condition compares.
type Op string

// The comparisons.
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
	Between Op = "between" // both ends count

	Before Op = "before"
	After  Op = "after"
	Within Op = "within the last"

	Was      Op = "has been"  // of a sequence: is on it or was
	WasNot   Op = "never was" //
	Finished Op = "has ended" // of a sequence: came to its end
	Ever     Op = "ever"      // of a deal: at any time
	Never    Op = "never"     //

	CameTo   Op = "came"        // to an event
	AwayFrom Op = "stayed away" // from an event they had registered for
)

// Thing is what a condition is about where it is neither a field, nor the
// score, nor a signal.
type Thing string

// The things.
const (
	Tag        Thing = "tag"
	Audience   Thing = "audience"
	InSequence Thing = "sequence"
	Deal       Thing = "open deal"
	Stage      Thing = "stage"
	Lost       Thing = "lost deal"
	Won        Thing = "won deal"
	DealFrom   Thing = "deal from a sequence"
	DealOf     Thing = "deal of a campaign"
	Consent    Thing = "consent"
	InBand     Thing = "band"
	ByFit      Thing = "fit"
	InFitBand  Thing = "fit band"
	AtEvent    Thing = "event"
)

// Facts is what a rule may ask about one person.
type Facts interface {
	// Record is what is on their record; nil where nothing is known.
	Record() *Record
	// Score is the engagement at an instant, by a model or by one of its rules.
	Score(of Figure, at time.Time) float64
	// Count counts the signals that match p, at from or later and not after to.
	Count(p *signal.Pattern, from, to time.Time) int
}

// Figure is which score is meant: that of a model, or the points that one of its rules gives. The zero Figure is the
// score of the workspace's first model.
type Figure struct{ Model, Rule int64 }

// Record is what rules ask of a person's record.
type Record struct {
	// Values has each known field in the form in which the core tidies it; the
	// values of a field of several are joined by person.Joint; instants are in
	// RFC 3339.
	Values                    person.Values
	Tags, Audiences, Consents []int64
	Deals                     []DealFact
	Ways                      []WayFact
	Events                    []EventFact   // those they have to do with
	Fit                       int           // share of the most there is to get, 0 to 100, by the first model
	Fits                      map[int64]int // by each model, where there are several
}

// FitOf is the fit by a model; 0: by the first.
func (r *Record) FitOf(model int64) int {
	if model == 0 {
		return r.Fit
	}
	return r.Fits[model]
}

// DealFact is one deal of a person.
type DealFact struct {
	Stage     int64
	Closed    time.Time // zero: open
	Won, Lost bool
	Sequence  int64  // that brought it; 0: none
	Campaign  string // likewise
}

// WayFact is one way of a person through a sequence.
type WayFact struct {
	Sequence int64
	Open     bool
	Finished bool   // came to the end
	End      string // what the end is called that they came to
}

// EventFact is how a person stands to an event.
type EventFact struct {
	Event int64
	State event.State
}

// Text is the value of a field, empty where nothing is known.
func (r *Record) Text(f Field) string {
	if r == nil {
		return ""
	}
	return r.Values[f]
}

// Rule is a tree. Exactly one of its four fields is set; the zero Rule asks
// nothing and holds for everybody.
type Rule struct {
	All  []Rule     `json:"all,omitempty"`
	Any  []Rule     `json:"any,omitempty"`
	None []Rule     `json:"none,omitempty"`
	If   *Condition `json:"if,omitempty"`
}

// Condition is one question: about a field, the score, how often a signal was
// seen, or a thing.
type Condition struct {
	Field  Field           `json:"field,omitempty"`
	Score  bool            `json:"score,omitempty"`
	Model  int64           `json:"model,omitempty"` // of which model the score, fit or band is; 0: of the first
	Rule   int64           `json:"rule,omitempty"`  // of a score: the points of this rule of the model; 0: of all
	Signal *signal.Pattern `json:"signal,omitempty"`
	About  Thing           `json:"about,omitempty"`
	ID     int64           `json:"id,omitempty"` // which tag, audience, sequence, stage or purpose

	Op     Op       `json:"op"`
	Value  string   `json:"value,omitempty"`  // of a field, a band or a campaign
	Values []string `json:"values,omitempty"` // of a field, for OneOf
	N      int      `json:"n,omitempty"`      // of a score or a count
	M      int      `json:"m,omitempty"`      // the upper end, for Between
	Days   int      `json:"days,omitempty"`   // within the last so many; 0 of a count: ever
	From   string   `json:"from,omitempty"`   // a day or a number, for Between; a count's first day
	To     string   `json:"to,omitempty"`     // likewise the last
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

// ThingIs is the rule that something is so of a tag, an audience, a sequence.
func ThingIs(t Thing, id int64) Rule { return Rule{If: &Condition{About: t, ID: id, Op: Is}} }

// Asks reports whether r asks anything at all.
func (r Rule) Asks() bool {
	return r.If != nil || len(r.All) > 0 || len(r.Any) > 0 || len(r.None) > 0
}

// Each calls f with every condition of the rule.
func (r *Rule) Each(f func(*Condition)) {
	if r.If != nil {
		f(r.If)
	}
	for _, list := range [][]Rule{r.All, r.Any, r.None} {
		for i := range list {
			list[i].Each(f)
		}
	}
}

// CountsSignals reports whether it asks what somebody did.
func (r *Rule) CountsSignals() (yes bool) {
	r.Each(func(c *Condition) { yes = yes || c.Signal != nil })
	return yes
}

// Names reports whether the rule asks about a thing, by its number.
func (r *Rule) Names(t Thing, id int64) (yes bool) {
	r.Each(func(c *Condition) { yes = yes || c.About == t && c.ID == id })
	return yes
}

// Audiences lists the audiences that the rule asks about.
func (r *Rule) Audiences() []int64 {
	var out []int64
	r.Each(func(c *Condition) {
		if c.About == Audience && !slices.Contains(out, c.ID) {
			out = append(out, c.ID)
		}
	})
	return out
}

// Moves lists the conditions whose answer time alone can change: those that
// look back over the last so many days.
func (r *Rule) Moves() []*Condition {
	var out []*Condition
	r.Each(func(c *Condition) {
		if c.Days > 0 {
			out = append(out, c)
		}
	})
	return out
}

// Changes lists the instants at which time alone, or a signal, can change what
// the rule answers for somebody with that record and those signals, in no
// order: where a signal or a date comes into a window or falls out of it.
// Between two of them the answer stays the same, as long as the record does.
func (r *Rule) Changes(rec *Record, signals []signal.Signal) []time.Time {
	var out []time.Time
	r.Each(func(c *Condition) {
		window := func(t time.Time) {
			out = append(out, t)
			if c.Days > 0 { // its far end still counts
				out = append(out, t.Add(time.Duration(c.Days)*24*time.Hour+time.Microsecond))
			}
		}
		switch {
		case c.Signal != nil:
			for i := range signals {
				if c.Signal.Matches(&signals[i]) {
					window(signals[i].At)
				}
			}
		case c.About == Lost || c.About == Won:
			if rec == nil {
				return
			}
			for _, d := range rec.Deals {
				if !d.Closed.IsZero() {
					window(d.Closed)
				}
			}
		case c.Op == Within:
			if t, ok := instant(strings.TrimSpace(rec.Text(c.Field))); ok {
				window(t)
			}
		}
	})
	return out
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
		return c.compare(float64(f.Count(c.Signal, c.since(at), c.until(at))))
	case c.Score:
		return c.compare(f.Score(c.Figure(), at))
	case c.About != "":
		return c.holdsOf(f.Record(), f, at)
	}
	return c.holdsText(f.Record().Text(c.Field), at)
}

// Figure is the score that the condition asks for.
func (c *Condition) Figure() Figure { return Figure{c.Model, c.Rule} }

// since is the first instant at which a signal counts, zero for any.
func (c *Condition) since(at time.Time) time.Time {
	if c.Days > 0 {
		return signal.Within(at, c.Days)
	}
	t, _ := day(c.From)
	return t
}

// until is the last.
func (c *Condition) until(at time.Time) time.Time {
	if t, ok := day(c.To); ok && c.Days == 0 {
		if end := t.AddDate(0, 0, 1).Add(-time.Microsecond); end.Before(at) {
			return end
		}
	}
	return at
}

// Since is the first instant at which a signal counts for a condition asked at
// at; zero: any does.
func (c *Condition) Since(at time.Time) time.Time { return c.since(at) }

// Until is the last instant at which a signal counts.
func (c *Condition) Until(at time.Time) time.Time { return c.until(at) }

func (c *Condition) holdsOf(r *Record, f Facts, at time.Time) bool {
	if r == nil {
		r = &Record{}
	}
	yes := false
	switch c.About {
	case Tag:
		yes = slices.Contains(r.Tags, c.ID)
	case Audience:
		yes = slices.Contains(r.Audiences, c.ID)
	case Consent:
		yes = slices.Contains(r.Consents, c.ID)
	case InSequence:
		yes = slices.ContainsFunc(r.Ways, func(w WayFact) bool {
			return w.Sequence == c.ID &&
				(c.Op == Was || c.Op == WasNot || w.Open && c.Op != Finished ||
					w.Finished && c.Op == Finished && (c.Value == "" || sameFolded(w.End, strings.TrimSpace(c.Value))))
		})
	case Deal:
		yes = slices.ContainsFunc(r.Deals, func(d DealFact) bool { return d.Closed.IsZero() })
	case Stage:
		yes = slices.ContainsFunc(r.Deals, func(d DealFact) bool { return d.Closed.IsZero() && d.Stage == c.ID })
	case Lost, Won:
		yes = slices.ContainsFunc(r.Deals, func(d DealFact) bool {
			if d.Closed.IsZero() || c.About == Lost && !d.Lost || c.About == Won && !d.Won || d.Closed.After(at) {
				return false
			}
			return c.Op != Within || !d.Closed.Before(signal.Within(at, c.Days))
		})
	case DealFrom, DealOf:
		yes = slices.ContainsFunc(r.Deals, func(d DealFact) bool {
			if (c.Op == Is || c.Op == IsNot) && !d.Closed.IsZero() {
				return false
			}
			return c.About == DealFrom && d.Sequence == c.ID ||
				c.About == DealOf && sameFolded(strings.TrimSpace(d.Campaign), strings.TrimSpace(c.Value))
		})
	case AtEvent:
		yes = slices.ContainsFunc(r.Events, func(e EventFact) bool {
			switch {
			case e.Event != c.ID:
				return false
			case c.Op == CameTo:
				return e.State == event.Came
			case c.Op == AwayFrom:
				return e.State == event.StayedAway
			}
			return e.State.Holds()
		})
	case InBand:
		yes = c.inBand(f.Score(c.Figure(), at))
	case InFitBand:
		yes = c.inBand(float64(r.FitOf(c.Model)))
	case ByFit:
		return c.compare(float64(r.FitOf(c.Model)))
	}
	return yes != (c.Op == IsNot || c.Op == WasNot || c.Op == Never)
}

func (c *Condition) inBand(n float64) bool {
	return n >= float64(c.N) && (c.M == 0 || n < float64(c.M))
}

func (c *Condition) holdsText(raw string, at time.Time) bool {
	v := strings.TrimSpace(raw)
	is := func(x string) bool {
		x = strings.TrimSpace(x)
		for one := range strings.SplitSeq(v, person.Joint) {
			if sameFolded(one, x) {
				return true
			}
		}
		return false
	}
	switch c.Op {
	case Known:
		return v != ""
	case NotKnown:
		return v == ""
	case IsNot:
		return v == "" || !is(c.Value)
	}
	if v == "" {
		return false
	}
	switch c.Op {
	case Is:
		return is(c.Value)
	case Contains:
		return strings.Contains(Fold(v), Fold(c.Value))
	case StartsWith:
		return strings.HasPrefix(Fold(v), Fold(c.Value))
	case OneOf:
		return slices.ContainsFunc(c.Values, is)
	case AtLeast, AtMost, Exactly:
		n, err := number(v)
		w, err2 := number(c.Value)
		return err == nil && err2 == nil &&
			(c.Op == AtLeast && n >= w || c.Op == AtMost && n <= w || c.Op == Exactly && n == w)
	case Before, After, Within, Between:
		return c.holdsRange(v, at)
	}
	return false
}

func (c *Condition) holdsRange(v string, at time.Time) bool {
	if low, err := number(c.From); err == nil && c.Op == Between {
		high, err := number(c.To)
		n, err2 := number(v)
		return err == nil && err2 == nil && n >= low && n <= high
	}
	t, ok := instant(v)
	if !ok {
		return false
	}
	from, to, ok := c.Interval(at)
	return ok && !t.Before(from) && (to.IsZero() || t.Before(to))
}

// Interval is the half-open interval of instants that a condition on a date lets
// in; the zero end means none.
func (c *Condition) Interval(at time.Time) (from, to time.Time, ok bool) {
	switch c.Op {
	case Within:
		return signal.Within(at, c.Days), at.Add(time.Microsecond), true
	case Before:
		to, ok = day(c.Value)
		return from, to, ok
	case After:
		from, ok = day(c.Value)
		return from.AddDate(0, 0, 1), to, ok
	case Is:
		from, ok = day(c.Value)
		return from, from.AddDate(0, 0, 1), ok
	}
	from, ok = day(c.From)
	to, ok2 := day(c.To)
	return from, to.AddDate(0, 0, 1), ok && ok2
}

// number reads a finite number: what is none, or has no value, compares with
// nothing.
func number(s string) (float64, error) {
	n, err := strconv.ParseFloat(s, 64)
	if err == nil && (math.IsNaN(n) || math.IsInf(n, 0)) {
		return 0, strconv.ErrSyntax
	}
	return n, err
}

// day reads a date as the instant at which it begins.
func day(s string) (time.Time, bool) {
	t, err := time.Parse(time.DateOnly, s)
	return t, err == nil
}

func instant(s string) (time.Time, bool) {
	if t, ok := day(s); ok {
		return t, true
	}
	t, err := time.Parse(time.RFC3339Nano, s)
	return t, err == nil
}

func (c *Condition) compare(n float64) bool {
	switch c.Op {
	case AtLeast:
		return n >= float64(c.N)
	case AtMost:
		return n <= float64(c.N)
	case Exactly:
		return n == float64(c.N)
	case Between:
		return n >= float64(c.N) && n <= float64(c.M)
	}
	return false
}

// Fold is how texts compare: lower case, without outer spaces.
func Fold(s string) string { return strings.ToLower(strings.TrimSpace(s)) }

// sameFolded reports whether two texts are the same in lower case. It makes no text of it:
// a step may ask it a million times a second.
func sameFolded(a, b string) bool {
	for a != "" && b != "" {
		x, n := utf8.DecodeRuneInString(a)
		y, m := utf8.DecodeRuneInString(b)
		if x != y && unicode.ToLower(x) != unicode.ToLower(y) {
			return false
		}
		a, b = a[n:], b[m:]
	}
	return a == b
}
