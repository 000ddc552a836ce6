package score

import (
	"errors"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
)

var day0 = time.Date(2026, 4, 14, 9, 20, 0, 0, time.UTC)

func day(n float64) time.Time { return day0.Add(time.Duration(n * 24 * float64(time.Hour))) }

func on(k signal.Kind) signal.Pattern { return signal.Pattern{Kind: k} }

// common is the model of the trade's usual figures. Common practice, no source.
var common = Model{Line: 15, Rules: []Rule{
	{On: on(signal.PageView), Points: 10, Lasts: 30},
	{On: on(signal.Open), Points: 1, Lasts: 30},
	{On: on(signal.Click), Points: 3, Lasts: 30},
}}

type did struct {
	day  float64
	kind signal.Kind
}

func signals(list ...did) []signal.Signal {
	var out []signal.Signal
	for i, d := range list {
		out = append(out, signal.Signal{ID: int64(i + 1), At: day(d.day), Kind: d.kind})
	}
	signal.Sort(out)
	return out
}

// somebody has a country and the signals of a test.
type somebody struct {
	country string
	list    []signal.Signal
}

func (p somebody) Record() *rule.Record {
	return &rule.Record{Values: person.Values{person.Country: p.country}}
}
func (p somebody) Score(rule.Figure, time.Time) float64 { return 0 }
func (p somebody) Count(q *signal.Pattern, from, to time.Time) int {
	return signal.Count(p.list, q, from, to)
}

// TestWorkedCases are the cases of the trade. Common practice, no source.
func TestWorkedCases(t *testing.T) {
	story := signals(did{0, signal.Open}, did{0, signal.Click}, did{0, signal.PageView}, did{1, signal.Open})
	harm := Model{Floor: -1000, Rules: []Rule{
		{On: on(signal.Complaint), Points: -100}, {On: on(signal.OptOut), Points: -100},
		{On: on(signal.Open), Points: 1}, {On: on(signal.Click), Points: 1},
		{On: on(signal.Reply), Points: 2}, {On: on(signal.Meeting), Points: 3},
	}}
	held := harm
	held.Floor = 0
	keen := Model{Rules: []Rule{{
		On: signal.Pattern{Kind: signal.Click, Place: signal.Place{Sequence: 7}}, Points: 15,
		Often: While, N: 3, Window: 180, If: rule.FieldIs(person.Country, "CA"),
	}}}
	clicks := signals(did{0, signal.Click}, did{10, signal.Click}, did{20, signal.Click}, did{30, signal.Click})
	for i := range clicks {
		clicks[i].Sequence = 7
	}
	elsewhere := append([]signal.Signal(nil), clicks...)
	elsewhere[1].Sequence, elsewhere[2].Sequence = 8, 8

	for _, c := range []struct {
		name  string
		m     Model
		list  []signal.Signal
		facts rule.Facts
		at    float64
		want  float64
	}{
		{"an open, a click and a page view at day 0 make 14", common, story, nil, 0, 14},
		{"just before day 0 there is nothing", common, story, nil, -0.001, 0},
		{"a second open at day 1 makes 15", common, story, nil, 1, 15},
		{"still 15 a moment before day 30", common, story, nil, 29.9999, 15},
		{"at day 30 exactly the first three are gone", common, story, nil, 30, 1},
		{"at day 31 exactly the last one too", common, story, nil, 31, 0},
		{"a complaint takes 100", harm, signals(did{0, signal.Open}, did{1, signal.Reply}, did{2, signal.Complaint}),
			nil, 2, -97},
		{"what is shown is held at the floor", held,
			signals(did{0, signal.Open}, did{1, signal.Reply}, did{2, signal.Complaint}), nil, 2, 0},
		{"but the true sum is kept", held,
			signals(append([]did{{0, signal.OptOut}}, many(99, did{1, signal.Click})...)...), nil, 1, 0},
		{"so 101 clicks climb out of an opt-out", held,
			signals(append([]did{{0, signal.OptOut}}, many(101, did{1, signal.Click})...)...), nil, 1, 1},
		{"a reply and a meeting", harm, signals(did{0, signal.Reply}, did{0, signal.Meeting}), nil, 9, 5},
		{"two clicks are not three", keen, clicks, somebody{"CA", clicks}, 10, 0},
		{"three clicks from one sequence", keen, clicks, somebody{"ca ", clicks}, 20, 15},
		{"a fourth adds nothing", keen, clicks, somebody{"CA", clicks}, 30, 15},
		{"180 days after the second click three are left", keen, clicks, somebody{"CA", clicks}, 190, 15},
		{"a moment later only two", keen, clicks, somebody{"CA", clicks}, 190.0001, 0},
		{"another country", keen, clicks, somebody{"US", clicks}, 20, 0},
		{"two from elsewhere", keen, elsewhere, somebody{"CA", elsewhere}, 30, 0},
	} {
		if got := c.m.At(c.list, c.facts, day(c.at)); got != c.want {
			t.Errorf("%s: %v, want %v", c.name, got, c.want)
		}
	}
}

func many(n int, d did) []did {
	out := make([]did, n)
	for i := range out {
		out[i] = d
	}
	return out
}

func TestOften(t *testing.T) {
	list := signals(did{0, signal.Click}, did{0.1, signal.Click}, did{0.2, signal.Click}, did{1, signal.Click},
		did{2, signal.Click})
	list[4].Machine = true
	for _, c := range []struct {
		name string
		r    Rule
		want float64
	}{
		{"every time, machines not counted", Rule{On: on(signal.Click), Points: 3}, 12},
		{"machines where the rule says so", Rule{On: signal.Pattern{Kind: signal.Click, Machine: true}, Points: 3}, 15},
		{"the first time only", Rule{On: on(signal.Click), Points: 3, Often: First}, 3},
		{"at most two a day", Rule{On: on(signal.Click), Points: 3, Often: PerDay, N: 2}, 9},
		{"at most three in all", Rule{On: on(signal.Click), Points: 3, Often: InAll, N: 3}, 9},
		{"negative points", Rule{On: on(signal.Click), Points: -3}, -12},
	} {
		m := Model{Floor: -99, Rules: []Rule{c.r}}
		if err := c.r.Check(nil); err != nil {
			t.Errorf("%s: %v", c.name, err)
		}
		if got := m.At(list, nil, day(3)); got != c.want {
			t.Errorf("%s: %v, want %v", c.name, got, c.want)
		}
	}
}

// Points that a step gives are a signal with a number of its own: whoever has no rule for it does not count them.
func TestPointsGiven(t *testing.T) {
	list := signals(did{0, signal.PointsGiven}, did{0.1, signal.Click}, did{1, signal.PointsGiven})
	list[0].Worth, list[2].Worth = 7, -2
	for _, c := range []struct {
		name string
		r    Rule
		want float64
	}{
		{"no rule for them", Rule{On: on(signal.Click), Points: 3}, 3},
		{"as they were given", Rule{On: on(signal.PointsGiven), Points: 1}, 5},
		{"twice as many", Rule{On: on(signal.PointsGiven), Points: 2}, 10},
		{"the first time only", Rule{On: on(signal.PointsGiven), Points: 1, Often: First}, 7},
		{"for two days", Rule{On: on(signal.PointsGiven), Points: 1, Lasts: 2}, -2},
		{"halving", Rule{On: on(signal.PointsGiven), Points: 8, Half: 1}, 8*7.0/4 - 8*2.0/2},
		{"once, while there are two", Rule{On: on(signal.PointsGiven), Points: 6, Often: While, N: 2, Window: 9}, 6},
	} {
		m := Model{Floor: -99, Rules: []Rule{c.r}}
		if got := m.At(list, nil, day(2)); got != c.want {
			t.Errorf("%s: %v, want %v", c.name, got, c.want)
		}
	}
}

func TestHalfLifeAndWipe(t *testing.T) {
	m := Model{Rules: []Rule{{On: on(signal.Click), Points: 8, Half: 10}, {On: on(signal.OptOut), Wipe: true}}}
	list := signals(did{0, signal.Click})
	// points · 2^(−age/half), the definition of a half-life.
	for age, want := range map[float64]float64{0: 8, 10: 4, 20: 2, 5: math.Round(80/math.Sqrt2) / 10} {
		if got := m.At(list, nil, day(age)); got != want {
			t.Errorf("8 points halving every 10 days are %v after %v days, want %v", got, age, want)
		}
	}
	list = signals(did{0, signal.Click}, did{3, signal.OptOut}, did{3, signal.Click}, did{4, signal.Click})
	m.Rules[0].Half = 0
	for at, want := range map[float64]float64{2.9: 8, 3: 8, 4: 16} {
		if got := m.At(list, nil, day(at)); got != want {
			t.Errorf("wiped at day 3: %v at day %v, want %v", got, at, want)
		}
	}
}

func TestCrossings(t *testing.T) {
	story := signals(did{0, signal.Open}, did{0, signal.Click}, did{0, signal.PageView}, did{1, signal.Open},
		did{2, signal.Click}, did{40, signal.PageView}, did{41, signal.PageView})
	for _, c := range []struct {
		name     string
		m        Model
		from, to float64
		armed    bool
		want     []float64
	}{
		{"the second open crosses 15", common, -1, 1, true, []float64{1}},
		{"once, though the score goes on rising", common, -1, 5, true, []float64{1}},
		{"asked in two parts it is the same", common, 1, 5, false, nil},
		{"from 9 to 11 crosses 10",
			Model{Line: 10, Rules: []Rule{{On: on(signal.Open), Points: 9}, {On: on(signal.Click), Points: 2}}}, -1,
			0.5, true, []float64{0}},
		{"below again after points ran out, it fires again", common, -1, 60, true, []float64{1, 41}},
		{"with a margin it must have been well below", Model{Line: 15, Margin: 20, Rules: common.Rules}, -1, 60, true,
			[]float64{1}},
		{"no line, no crossing", Model{Rules: common.Rules}, -1, 60, true, nil},
	} {
		ledger := c.m.Ledger(nil, story, nil, day(c.to))
		was := c.m.Shown(Sum(ledger, day(c.from)))
		got, _ := c.m.Crossings(ledger, day(c.from), day(c.to), was, c.armed)
		if len(got) != len(c.want) {
			t.Errorf("%s: %v, want days %v", c.name, got, c.want)
			continue
		}
		for i := range got {
			if !got[i].Equal(day(c.want[i])) {
				t.Errorf("%s: %v, want day %v", c.name, got[i], c.want[i])
			}
		}
	}
}

// TestLateSignals brings a signal after the score was counted for its very instant: it must not be lost.
func TestLateSignals(t *testing.T) {
	list := signals(did{0, signal.Open}, did{0, signal.Click}, did{0, signal.PageView})
	known := common.Shown(Sum(common.Ledger(nil, list, nil, day(0)), day(0)))
	list = append(list, signal.Signal{ID: 9, At: day(0), Kind: signal.Click})
	for _, armed := range []bool{true, false} { // below the line less the margin it is armed in any case
		fired, after := common.Crossings(common.Ledger(nil, list, nil, day(0)), day(0), day(0), known, armed)
		if known != 14 || len(fired) != 1 || !fired[0].Equal(day(0)) || after {
			t.Errorf("from %v with a click at the same instant: fired %v, armed %v", known, fired, after)
		}
	}
	if fired, _ := common.Crossings(common.Ledger(nil, list, nil, day(1)), day(0), day(1), 17, false); len(fired) != 0 {
		t.Errorf("counted once, it fired again: %v", fired)
	}
}

// TestKeptEqualsCounted keeps a figure as signals come and points run out, looking only when NextChange says,
// and holds it against counting everything again at random instants.
func TestKeptEqualsCounted(t *testing.T) {
	rnd := rand.New(rand.NewPCG(7, 11))
	m := Model{Rules: []Rule{
		{On: on(signal.PageView), Points: 10, Lasts: 30, Often: PerDay, N: 2},
		{On: on(signal.Open), Points: 1, Lasts: 7},
		{On: on(signal.Click), Points: 15, Often: While, N: 3, Window: 20},
		{On: on(signal.Reply), Points: 2, Often: First},
		{On: on(signal.Form), Points: 4, Often: InAll, N: 3, Lasts: 90},
		{On: on(signal.OptOut), Wipe: true, Points: -5, Lasts: 60},
	}}
	kinds := []signal.Kind{signal.PageView, signal.Open, signal.Open, signal.Click, signal.Click, signal.Reply,
		signal.Form, signal.OptOut}
	for range 200 {
		var all []signal.Signal
		kept, until, seen := 0.0, time.Time{}, 0
		at := day0
		for n := range 300 {
			at = at.Add(time.Duration(rnd.IntN(36)) * time.Hour)
			if rnd.IntN(3) == 0 {
				all = append(all,
					signal.Signal{ID: int64(n), At: at, Kind: kinds[rnd.IntN(len(kinds))], Machine: rnd.IntN(9) == 0})
			}
			if seen != len(all) || (!until.IsZero() && !at.Before(until)) {
				ledger := m.Ledger(nil, all, nil, at)
				kept, until, seen = m.Shown(Sum(ledger, at)), m.NextChange(ledger, at), len(all)
			}
			if counted := m.At(all, nil, at); counted != kept {
				t.Fatalf("after %d signals at %v: kept %v, counted %v", len(all), at, kept, counted)
			}
		}
	}
}

func TestRuleCheck(t *testing.T) {
	for name, r := range map[string]Rule{
		"no kind":           {Points: 1},
		"no points":         {On: on(signal.Open)},
		"too many":          {On: on(signal.Open), Points: 1001},
		"while of nothing":  {On: on(signal.Open), Points: 1, Often: While},
		"per day of none":   {On: on(signal.Open), Points: 1, Often: PerDay},
		"unknown frequency": {On: on(signal.Open), Points: 1, Often: "weekly"},
		"asks the score":    {On: on(signal.Open), Points: 1, If: rule.ScoreAtLeast(3)},
		"negative days":     {On: on(signal.Open), Points: 1, Lasts: -1},
	} {
		if r.Check(nil) == nil {
			t.Errorf("%s: no error", name)
		}
	}
}

func BenchmarkScore(b *testing.B) {
	list := signals(many(20, did{0, signal.Open})...)
	list = append(list, signals(did{1, signal.Click}, did{2, signal.PageView}, did{40, signal.Click})...)
	var buf []Entry
	b.ReportAllocs()
	for b.Loop() {
		buf = common.Ledger(buf[:0], list, nil, day(20))
		if Sum(buf, day(20)) != 33 {
			b.Fatal("wrong sum")
		}
	}
}

// A rule says itself in words, and a draft what it says otherwise.
func TestWords(t *testing.T) {
	no := rule.FieldIs(person.Country, "NO")
	for want, r := range map[string]Rule{
		"10 points when they viewed a page, for 30 days": {On: on(signal.PageView), Points: 10, Lasts: 30},
		"1 point when they opened an email, at most twice a day, halving every 10 days": {On: on(signal.Open), Points: 1,
			Often: PerDay, N: 2, Half: 10},
		"−100 points when they opted out, the first time, and nothing before it counts any more": {On: on(signal.OptOut),
			Points: -100, Often: First, Wipe: true},
		"15 points while they clicked a link from sequence 7 at least 3 times within 180 days, only while country is Norway": {
			On: signal.Pattern{Kind: signal.Click, Place: signal.Place{Sequence: 7}}, Points: 15, Often: While, N: 3,
			Window: 180, If: no},
		"3 points while country is Norway":                         {Points: 3, If: no},
		"2 points when they replied, at most 5 times in all":       {On: on(signal.Reply), Points: 2, Often: InAll, N: 5},
		"when they bounced, and nothing before it counts any more": {On: on(signal.Bounce), Wipe: true},
	} {
		if err := r.Check(nil); err != nil {
			t.Errorf("%s: %v", want, err)
		}
		if got := r.Words(nil); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
	was := Model{Name: "m", Line: 15, Rules: []Rule{{ID: 1, On: on(signal.Open), Points: 1},
		{ID: 2, On: on(signal.Click), Points: 3}}}
	is := was.Clone()
	is.Rules = is.Rules[1:]
	is.Rules[0].Points = 5
	is.Rules = append(is.Rules, Rule{ID: 3, If: no, Points: 2})
	is.Line, is.CoolOff = 20, 30
	is.Bands = []rule.Band{{Name: "low"}}
	want := []Difference{{"1 point when they opened an email", ""},
		{"3 points when they clicked a link", "5 points when they clicked a link"}, {"", "2 points while country is Norway"},
		{"ready from 15", "ready from 20, or 30 days after being sent back"}, {"no band", "band “low” from 0"}}
	if got := Differences(&was, &is, nil); !slices.Equal(got, want) {
		t.Errorf("it says otherwise %q", got)
	}
	if was.Rules[1].Points != 3 || len(Differences(&was, &was, nil)) != 0 {
		t.Error("a copy shares its rules, or something differs from itself")
	}
}

// Rules keep their ids, and a new one gets one that none had.
func TestTidy(t *testing.T) {
	m := Model{Name: "m", LastID: 7, Rules: []Rule{{ID: 2, On: on(signal.Open), Points: 1}, {On: on(signal.Click), Points: 1},
		{ID: 2, On: on(signal.Reply), Points: 1}}}
	if err := m.Tidy(); err != nil || m.Rules[0].ID != 2 || m.Rules[1].ID != 8 || m.Rules[2].ID != 9 || m.LastID != 9 ||
		m.Check(nil) != nil {
		t.Errorf("%+v, %v", m, err)
	}
	if err := (&Model{Bands: []rule.Band{{Name: "a", From: 3}}}).Tidy(); err == nil {
		t.Error("bands that begin at 3 are tidied")
	}
	var at *RuleError
	m.Rules[1].Points = 0
	if err := m.Check(nil); !errors.As(err, &at) || at.Rule != 1 || !strings.Contains(err.Error(), "rule 2") {
		t.Errorf("of which rule: %v", err)
	}
	for name, bad := range map[string]Model{"no name": {}, "two of one id": {Name: "m", LastID: 1, Rules: []Rule{
		{ID: 1, On: on(signal.Open), Points: 1}, {ID: 1, On: on(signal.Open), Points: 1}}},
		"a line under the floor": {Name: "m", Floor: 5, Line: 5}, "many": {Name: "m", Rules: make([]Rule, MaxRules+1)}} {
		if bad.Check(nil) == nil {
			t.Errorf("%s is taken", name)
		}
	}
	for name, bad := range map[string]Rule{"for ever and halving": {On: on(signal.Open), Points: 1, Lasts: 3, Half: 3},
		"the record, at most": {Points: 1, If: rule.FieldIs(person.Country, "NO"), Often: First},
		"while, lasting":      {On: on(signal.Open), Points: 1, Often: While, N: 1, Window: 1, Lasts: 3}} {
		if bad.Check(nil) == nil {
			t.Errorf("%s is taken", name)
		}
	}
}

func TestStands(t *testing.T) {
	m := Model{Line: 15, FitLine: 50}
	for _, c := range []struct {
		sum   float64
		fit   int
		reach bool
		want  bool
	}{{15, 50, true, true}, {14.94, 50, true, false}, {14.95, 50, true, true}, {20, 49, true, false}, {20, 50, false, false}} {
		if got := m.Stands(c.sum, c.fit, c.reach); got.Ready != c.want {
			t.Errorf("%+v: %+v", c, got)
		}
	}
	bands := []rule.Band{{Name: "low"}, {Name: "high", From: 10}}
	for v, want := range map[float64]int{-1: -1, 0: 0, 9.9: 0, 10: 1, 400: 1} {
		if got := BandOf(bands, v); got != want {
			t.Errorf("%v is in band %d, not %d", v, got, want)
		}
	}
}
