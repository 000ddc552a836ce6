package rule

import (
	"strings"
	"testing"
	"time"

	"ombak/internal/core/person"
	"ombak/internal/core/signal"
)

var now = time.Date(2026, 4, 14, 9, 20, 0, 0, time.UTC)

type someone struct {
	Record_ Record
	score   float64
	signals []signal.Signal
}

func (s someone) Record() *Record         { return &s.Record_ }
func (s someone) Score(time.Time) float64 { return s.score }
func (s someone) Count(p *signal.Pattern, from, to time.Time) int {
	return signal.Count(s.signals, p, from, to)
}

func TestTextCompares(t *testing.T) {
	p := someone{Record_: Record{Values: person.Values{person.Country: " Ca ", person.Title: "Head of fish health", person.City: "  "}}}
	for _, c := range []struct {
		f      Field
		op     Op
		v      string
		values []string
		want   bool
	}{
		{person.Country, Is, "CA", nil, true}, {person.Country, Is, "NO", nil, false}, {person.Country, IsNot, "no ", nil, true}, {person.Country, IsNot, "ca", nil, false},
		{person.Title, Contains, "FISH", nil, true}, {person.Title, StartsWith, "head", nil, true}, {person.Title, StartsWith, "fish", nil, false},
		{person.Country, OneOf, "", []string{"no", "ca"}, true}, {person.Country, OneOf, "", []string{"no"}, false},
		// A missing value meets no comparison except "is not" and "is not known"; spaces are no value.
		{person.City, Is, "", nil, false}, {person.City, IsNot, "Oban", nil, true}, {person.City, Contains, "", nil, false}, {person.City, OneOf, "", []string{""}, false},
		{person.City, Known, "", nil, false}, {person.City, NotKnown, "", nil, true}, {person.Country, Known, "", nil, true}, {person.Source, NotKnown, "", nil, true},
	} {
		r := Rule{If: &Condition{Field: c.f, Op: c.op, Value: c.v, Values: c.values}}
		if got := r.Holds(p, now); got != c.want {
			t.Errorf("%s: %v", r.Words(nil), got)
		}
	}
}

func TestWindows(t *testing.T) {
	day := 24 * time.Hour
	p := someone{}
	for _, d := range []time.Duration{0, 29 * day, 30 * day, 30*day + time.Microsecond, -time.Microsecond} {
		p.signals = append(p.signals, signal.Signal{At: now.Add(-d), Kind: signal.Click})
	}
	signal.Sort(p.signals)
	for days, want := range map[int]int{30: 3, 29: 2, 0: 4, 1: 1} { // at or after t − N·24 h, and not after t
		r := Rule{If: &Condition{Signal: &signal.Pattern{Kind: signal.Click}, Op: Exactly, N: want, Days: days}}
		if !r.Holds(p, now) {
			t.Errorf("within %d days there are not %d", days, want)
		}
	}
}

func TestTrees(t *testing.T) {
	p := someone{score: 14}
	yes, no := ScoreAtLeast(14), ScoreAtLeast(15)
	for _, c := range []struct {
		name string
		r    Rule
		want bool
	}{
		{"nothing asked holds for everybody", Rule{}, true},
		{"all", Rule{All: []Rule{yes, yes}}, true}, {"all but one", Rule{All: []Rule{yes, no}}, false},
		{"any", Rule{Any: []Rule{no, yes}}, true}, {"none of them", Rule{Any: []Rule{no, no}}, false},
		{"none", Rule{None: []Rule{no, no}}, true}, {"none, but one", Rule{None: []Rule{no, yes}}, false},
		{"nested", Rule{All: []Rule{yes, {Any: []Rule{no, {None: []Rule{no}}}}}}, true},
	} {
		if got := c.r.Holds(p, now); got != c.want {
			t.Errorf("%s: %v", c.name, got)
		}
	}
}

func TestWordsAndChecks(t *testing.T) {
	clicks := Rule{If: &Condition{Signal: &signal.Pattern{Kind: signal.Click}, Op: AtLeast, N: 3, Days: 180}}
	r := Rule{All: []Rule{FieldIs(person.Country, "CA"), clicks, {None: []Rule{ScoreAtLeast(15), FieldIs(person.Title, "x")}}}}
	if got, want := r.Words(nil), "country is Canada and at least 3 clicks within 180 days and not (a score of 15 or more or title is x)"; got != want {
		t.Errorf("words %q", got)
	}
	if err := r.Check(nil); err != nil {
		t.Error(err)
	}
	deep := ScoreAtLeast(1)
	for range 20 {
		deep = Rule{All: []Rule{deep}}
	}
	for name, bad := range map[string]Rule{
		"unknown field":  FieldIs("shoe size", "44"),
		"empty value":    FieldIs(person.Country, " "),
		"two in one":     {All: []Rule{clicks}, If: clicks.If},
		"too deep":       deep,
		"wrong operator": {If: &Condition{Field: person.Country, Op: AtLeast}},
		"text of score":  {If: &Condition{Score: true, Op: Contains}},
		"unknown signal": {If: &Condition{Signal: &signal.Pattern{Kind: 99}, Op: AtLeast}},
		"too long":       FieldIs(person.Country, strings.Repeat("x", 500)),
	} {
		if bad.Check(nil) == nil {
			t.Errorf("%s: no error", name)
		}
	}
}
