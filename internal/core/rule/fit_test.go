package rule

import (
	"math/rand/v2"
	"strings"
	"testing"

	"ombak/internal/core/person"
)

func fitRecord(kv ...string) *Record {
	r := &Record{Values: person.Values{}}
	for i := 0; i < len(kv); i += 2 {
		r.Values[person.Field(kv[i])] = kv[i+1]
	}
	return r
}

func TestFitIsAShareOfTheMost(t *testing.T) {
	is := func(f Field, v string) Rule { return FieldIs(f, v) }
	fit := Fit{{is(person.Country, "NO"), 30}, {is(person.Industry, "Ports"), 60}, {is(person.Title, "student"), -50}}
	for _, c := range []struct {
		r    *Record
		want int
	}{
		{fitRecord("country", "NO", "industry", "ports"), 100},
		{fitRecord("industry", "Ports"), 66}, // 60 of 90 are 66.7 %, rounded down
		{fitRecord("country", "NO"), 33},
		{fitRecord("country", "NO", "title", "Student"), 0}, // never below nought
		{fitRecord("country", "NO", "industry", "Ports", "title", "student"), 44},
		{fitRecord(), 0}, {nil, 0},
	} {
		if got := fit.Of(c.r); got != c.want {
			t.Errorf("fit of %v is %d, not %d", c.r, got, c.want)
		}
	}
	if got := (Fit{}).Of(fitRecord("country", "NO")); got != 0 {
		t.Errorf("a fit that asks nothing gives %d", got)
	}
}

// TestFitHoldsWhatRulesHold: a line of a fit means what the same rule means
// elsewhere.
func TestFitHoldsWhatRulesHold(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 2))
	one := func() Rule {
		c := Condition{Field: []Field{person.Country, person.Title, person.City}[rnd.IntN(3)],
			Op: []Op{Is, IsNot, Contains, Known, NotKnown, OneOf}[rnd.IntN(6)], Value: []string{"a", "b"}[rnd.IntN(2)],
			Values: []string{"a"}}
		return Rule{If: &c}
	}
	for range 2000 {
		list := []Rule{one(), one()}
		r := []Rule{{All: list}, {Any: list}, {None: list}, list[0],
			{All: []Rule{{None: list}, {Any: list}}}}[rnd.IntN(5)]
		x := fitRecord("country", []string{"a", "b", ""}[rnd.IntN(3)], "title", []string{"A", "ab", " "}[rnd.IntN(3)])
		if f := (Fit{{r, 1}}); f.Holds(0, x) != r.Holds(someone{Record_: *x}, now) {
			t.Fatalf("%s of %v: the fit says %v", r.Words(nil), x.Values, f.Holds(0, x))
		}
	}
}

func TestWhatAFitCannotAsk(t *testing.T) {
	cat := &Catalogue{Tags: []Named{{1, "fair"}}}
	for words, c := range map[string]struct {
		f    Fit
		want string
	}{
		"a score":    {Fit{{ScoreAtLeast(3), 1}}, "record alone"},
		"a tag":      {Fit{{ThingIs(Tag, 1), 1}}, "record alone"},
		"days":       {Fit{{Rule{If: &Condition{Field: person.Created, Op: Within, Days: 3}}, 1}}, "by dates"},
		"nothing":    {Fit{{Rule{}, 1}}, "something to ask"},
		"no points":  {Fit{{FieldIs(person.Country, "NO"), 0}}, "points"},
		"only taken": {Fit{{FieldIs(person.Country, "NO"), -3}}, "has to give"},
		"no value":   {Fit{{FieldIs(person.Country, " "), 3}}, "needs a value"},
		"too many":   {make(Fit, 41), "at most"},
	} {
		if err := c.f.Check(cat); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", words, err)
		}
	}
	good := Fit{{FieldIs(person.Country, "NO"), 3},
		{Rule{If: &Condition{Field: person.Created, Op: After, Value: "2026-01-01"}}, -1}}
	if err := good.Check(cat); err != nil {
		t.Error(err)
	}
}

func TestRulesAskForFitAndItsBands(t *testing.T) {
	cat := &Catalogue{Models: []Scored{{Fit: Fit{{FieldIs(person.Country, "NO"), 3}},
		FitBands: []Band{{"far", 0, 40}, {"near", 40, 0}}}}}
	p := someone{Record_: Record{Fit: 40}}
	for _, c := range []struct {
		op   Op
		n, m int
		want bool
	}{{AtLeast, 40, 0, true}, {AtLeast, 41, 0, false}, {AtMost, 40, 0, true}, {AtMost, 39, 0, false},
		{Exactly, 40, 0, true}, {Between, 30, 40, true}, {Between, 41, 50, false}} {
		r := Rule{If: &Condition{About: ByFit, Op: c.op, N: c.n, M: c.m}}
		if err := r.Check(cat); err != nil {
			t.Error(err)
		}
		if r.Holds(p, now) != c.want {
			t.Errorf("%s of one with 40: not %v", r.Words(cat), c.want)
		}
	}
	in := Begin("about fit band", cat)
	in.SetBand(cat.Models[0].FitBands[0]) // ends before 40
	if r := (Rule{If: &in}); r.Holds(p, now) || r.Check(cat) != nil || r.Words(cat) != "fit in the band “far”" {
		t.Errorf("%s: holds %v, %v", r.Words(cat), r.Holds(p, now), r.Check(cat))
	}
	in.SetBand(cat.Models[0].FitBands[1])
	if r := (Rule{If: &in}); !r.Holds(p, now) {
		t.Error("40 is not in the band from 40")
	}
	if (&Condition{About: ByFit, Op: AtLeast, N: 5}).why(p, now, cat) != "a fit of 40" {
		t.Error("why does not say the fit")
	}
}

func TestRangesFollowEachOther(t *testing.T) {
	got, err := Ranges([]Band{{Name: "warm", From: 10}, {Name: "cold", From: 0, To: 99}, {Name: "hot", From: 20}})
	if err != nil || len(got) != 3 || got[0] != (Band{"cold", 0, 10}) || got[1] != (Band{"warm", 10, 20}) ||
		got[2] != (Band{"hot", 20, 0}) {
		t.Errorf("%v, %v", got, err)
	}
	for _, bad := range [][]Band{{{Name: "a", From: 1}}, {{Name: "a"}, {Name: "b"}},
		{{Name: "a"}, {Name: "A ", From: 2}}, {{Name: " "}}, {{Name: "a", From: -1}}, make([]Band, 13)} {
		if _, err := Ranges(bad); err == nil {
			t.Errorf("%v was taken", bad)
		}
	}
	if got, err := Ranges(nil); err != nil || len(got) != 0 {
		t.Errorf("none: %v, %v", got, err)
	}
}
