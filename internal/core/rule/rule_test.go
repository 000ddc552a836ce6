package rule

import (
	"strings"
	"testing"
	"time"

	"ombak/internal/core/signal"
)

var now = time.Date(2026, 4, 14, 9, 20, 0, 0, time.UTC)

type someone struct {
	fields  map[Field]string
	score   float64
	signals []signal.Signal
}

func (s someone) Text(f Field) string     { return s.fields[f] }
func (s someone) Score(time.Time) float64 { return s.score }
func (s someone) Count(p *signal.Pattern, from, to time.Time) int {
	return signal.Count(s.signals, p, from, to)
}

func TestTextCompares(t *testing.T) {
	p := someone{fields: map[Field]string{Country: " Ca ", Title: "Head of fish health", City: "  "}}
	for _, c := range []struct {
		f      Field
		op     Op
		v      string
		values []string
		want   bool
	}{
		{Country, Is, "CA", nil, true}, {Country, Is, "NO", nil, false}, {Country, IsNot, "no ", nil, true}, {Country, IsNot, "ca", nil, false},
		{Title, Contains, "FISH", nil, true}, {Title, StartsWith, "head", nil, true}, {Title, StartsWith, "fish", nil, false},
		{Country, OneOf, "", []string{"no", "ca"}, true}, {Country, OneOf, "", []string{"no"}, false},
		// A missing value meets no comparison except "is not" and "is not known"; spaces are no value.
		{City, Is, "", nil, false}, {City, IsNot, "Oban", nil, true}, {City, Contains, "", nil, false}, {City, OneOf, "", []string{""}, false},
		{City, Known, "", nil, false}, {City, NotKnown, "", nil, true}, {Country, Known, "", nil, true}, {Source, NotKnown, "", nil, true},
	} {
		r := Rule{If: &Condition{Field: c.f, Op: c.op, Value: c.v, Values: c.values}}
		if got := r.Holds(p, now); got != c.want {
			t.Errorf("%s: %v", r.Words(), got)
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
	r := Rule{All: []Rule{FieldIs(Country, "CA"), clicks, {None: []Rule{ScoreAtLeast(15), FieldIs(Title, "x")}}}}
	if got, want := r.Words(), "country is CA and at least 3 clicks within 180 days and not (a score of 15 or more or title is x)"; got != want {
		t.Errorf("words %q", got)
	}
	if err := r.Check(); err != nil {
		t.Error(err)
	}
	deep := ScoreAtLeast(1)
	for range 20 {
		deep = Rule{All: []Rule{deep}}
	}
	for name, bad := range map[string]Rule{
		"unknown field":  FieldIs("shoe size", "44"),
		"empty value":    FieldIs(Country, " "),
		"two in one":     {All: []Rule{clicks}, If: clicks.If},
		"too deep":       deep,
		"wrong operator": {If: &Condition{Field: Country, Op: AtLeast}},
		"text of score":  {If: &Condition{Score: true, Op: Contains}},
		"unknown signal": {If: &Condition{Signal: &signal.Pattern{Kind: 99}, Op: AtLeast}},
		"too long":       FieldIs(Country, strings.Repeat("x", 500)),
	} {
		if bad.Check() == nil {
			t.Errorf("%s: no error", name)
		}
	}
}
