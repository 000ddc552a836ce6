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
	scores  map[Figure]float64
	signals []signal.Signal
}

func (s someone) Record() *Record { return &s.Record_ }
func (s someone) Score(of Figure, _ time.Time) float64 {
	if of == (Figure{}) {
		return s.score
	}
	return s.scores[of]
}

func (s someone) Count(p *signal.Pattern, from, to time.Time) int {
	return signal.Count(s.signals, p, from, to)
}

func TestTextCompares(t *testing.T) {
	p := someone{Record_: Record{Values: person.Values{person.Country: " Ca ", person.Title: "Head of fish health",
		person.City: "  "}}}
	for _, c := range []struct {
		f      Field
		op     Op
		v      string
		values []string
		want   bool
	}{
		{person.Country, Is, "CA", nil, true}, {person.Country, Is, "NO", nil, false},
		{person.Country, IsNot, "no ", nil, true}, {person.Country, IsNot, "ca", nil, false},
		{person.Title, Contains, "FISH", nil, true}, {person.Title, StartsWith, "head", nil, true},
		{person.Title, StartsWith, "fish", nil, false},
		{person.Country, OneOf, "", []string{"no", "ca"}, true}, {person.Country, OneOf, "", []string{"no"}, false},
		// A missing value meets no comparison except "is not" and "is not known"; spaces are no value.
		{person.City, Is, "", nil, false}, {person.City, IsNot, "Oban", nil, true},
		{person.City, Contains, "", nil, false}, {person.City, OneOf, "", []string{""}, false},
		{person.City, Known, "", nil, false}, {person.City, NotKnown, "", nil, true},
		{person.Country, Known, "", nil, true}, {person.Source, NotKnown, "", nil, true},
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
	r := Rule{All: []Rule{FieldIs(person.Country, "CA"), clicks,
		{None: []Rule{ScoreAtLeast(15), FieldIs(person.Title, "x")}}}}
	if got, want := r.Words(nil),
		"country is Canada and at least 3 clicks within 180 days and not (a score of 15 or more or title is x)"; got != want {
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

var known = &Catalogue{
	Own: []person.Definition{{Field: person.Own(1), Name: "Pens", Type: person.Number},
		{Field: person.Own(2), Name: "Fish", Type: person.SeveralOf, Options: []string{"salmon", "trout"}},
		{Field: person.Own(3), Name: "Since", Type: person.Date}},
	Tags: []Named{{1, "fair"}}, Audiences: []Named{{2, "Keen"}}, Sequences: []Named{{3, "Guide"}},
	Stages: []Named{{4, "Offer"}}, Purposes: []Named{{5, "Marketing email"}}, Pages: []Named{{6, "Alarms"}},
	Models: []Scored{{ID: 7, Name: "Engagement", Bands: []Band{{Name: "hot", From: 20}}, Rules: []Named{{1, "click"}}},
		{ID: 8, Name: "Loans", Bands: []Band{{Name: "low", To: 5}, {Name: "warm", From: 5}}, Rules: []Named{{1, "download"}},
			Fit:      Fit{{FieldIs(person.Country, "NO"), 3}},
			FitBands: []Band{{Name: "far", To: 50}, {Name: "near", From: 50}}}},
}

// TestEveryCondition asks each kind of condition of one person.
func TestEveryCondition(t *testing.T) {
	band := Condition{About: InBand, Op: Is}
	band.SetBand(known.Models[0].Bands[0])
	warm, near := Begin("about band", known), Begin("about fit band", known)
	warm.Choose(known, "8/warm")
	near.Choose(known, "8/near")
	p := someone{score: 21, scores: map[Figure]float64{{Model: 7}: 21, {Model: 8}: 4, {Rule: 1}: 3.5}, Record_: Record{
		Values: person.Values{person.Own(1): "12.5", person.Own(2): "salmon" + person.Joint + "trout",
			person.Own(3): "2026-04-14", person.Created: "2026-03-15T09:20:00Z", person.Title: "a; b"},
		Tags: []int64{1}, Audiences: []int64{2}, Consents: []int64{5},
		Deals: []DealFact{{Stage: 4, Campaign: "spring "},
			{Closed: now.AddDate(0, 0, -30), Lost: true, Sequence: 3, Campaign: "Autumn"}},
		Fit: 30, Fits: map[int64]int{7: 30, 8: 60},
		Ways: []WayFact{{Sequence: 3, Finished: true, End: "Gone quiet"}},
	}}
	for _, c := range []struct {
		c     Condition
		want  bool
		words string
	}{
		{Condition{Field: person.Own(1), Op: AtLeast, Value: "12.5"}, true, "Pens at least 12.5"},
		{Condition{Field: person.Own(1), Op: Between, From: "1", To: "12"}, false, "Pens between 1 and 12"},
		{Condition{Field: person.Own(2), Op: Is, Value: "TROUT"}, true, "Fish is TROUT"},
		{Condition{Field: person.Own(2), Op: IsNot, Value: "cod"}, true, "Fish is not cod"},
		{Condition{Field: person.Own(2), Op: OneOf, Values: []string{"cod", "trout"}}, true,
			"Fish is one of cod, trout"},
		// a text with a semicolon is one text
		{Condition{Field: person.Title, Op: Is, Value: "b"}, false, "title is b"},
		{Condition{Field: person.Own(3), Op: Before, Value: "2026-04-14"}, false, "Since before 2026-04-14"},
		{Condition{Field: person.Own(3), Op: After, Value: "2026-04-13"}, true, "Since after 2026-04-13"},
		{Condition{Field: person.Own(3), Op: Within, Days: 1}, true, "Since within the last 1 days"},
		{Condition{Field: person.Own(3), Op: Between, From: "2026-04-14", To: "2026-04-14"}, true,
			"Since between 2026-04-14 and 2026-04-14"},
		{Condition{Field: person.Created, Op: Within, Days: 30}, true, "first met within the last 30 days"},
		{Condition{Field: person.Created, Op: Within, Days: 29}, false, "first met within the last 29 days"},
		{Condition{Field: person.Created, Op: Before, Value: "2026-03-15"}, false, "first met before 2026-03-15"},
		{Condition{Field: person.Created, Op: After, Value: "2026-03-15"}, false, "first met after 2026-03-15"},
		{Condition{About: Tag, ID: 1, Op: Is}, true, "tagged “fair”"},
		{Condition{About: Tag, ID: 9, Op: IsNot}, true, "not tagged tag 9"},
		{Condition{About: Audience, ID: 2, Op: IsNot}, false, "not in the audience “Keen”"},
		{Condition{About: Consent, ID: 5, Op: Is}, true, "agreed to “Marketing email”"},
		{Condition{About: Deal, Op: Is}, true, "has an open deal"},
		{Condition{About: Stage, ID: 4, Op: IsNot}, false, "has no deal in stage “Offer”"},
		{Condition{About: Lost, Op: Within, Days: 30}, true, "lost a deal within the last 30 days"},
		{Condition{About: Lost, Op: Within, Days: 29}, false, "lost a deal within the last 29 days"},
		{Condition{About: Won, Op: Never}, true, "never won a deal"},
		{Condition{About: Lost, Op: Ever}, true, "ever lost a deal"},
		{Condition{About: InSequence, ID: 3, Op: Is}, false, "on the sequence “Guide”"},
		{Condition{About: InSequence, ID: 3, Op: Was}, true, "on the sequence now or before: “Guide”"},
		{Condition{About: InSequence, ID: 3, Op: WasNot}, false, "never on the sequence “Guide”"},
		{Condition{About: InSequence, ID: 3, Op: Finished}, true, "came to the end of the sequence “Guide”"},
		{Condition{About: InSequence, ID: 3, Op: Finished, Value: " gone QUIET "}, true,
			"came to the end “ gone QUIET ” of the sequence “Guide”"},
		{Condition{About: InSequence, ID: 3, Op: Finished, Value: "Registered"}, false,
			"came to the end “Registered” of the sequence “Guide”"},
		{band, true, "score in the band “hot”"},
		{warm, false, "score in the band “warm” of “Loans”"},
		{Condition{Score: true, Op: AtLeast, N: 4, Model: 8}, true, "a score of 4 or more by “Loans”"},
		{Condition{Score: true, Op: AtLeast, N: 5, Model: 8}, false, "a score of 5 or more by “Loans”"},
		{Condition{Score: true, Op: AtLeast, N: 21, Model: 7}, true, "a score of 21 or more"},
		{Condition{Score: true, Op: AtLeast, N: 3, Rule: 1}, true, "a score of 3 or more for “click”"},
		{Condition{Score: true, Op: Exactly, N: 1, Model: 8, Rule: 1}, false,
			"a score of exactly 1 for “download” by “Loans”"},
		{Condition{About: ByFit, Op: AtLeast, N: 60, Model: 8}, true, "a fit of 60 or more by “Loans”"},
		{Condition{About: ByFit, Op: AtLeast, N: 31}, false, "a fit of 31 or more"},
		{near, true, "fit in the band “near” of “Loans”"},
		{Condition{About: DealFrom, ID: 3, Op: Is}, false, "has an open deal that came from the sequence “Guide”"},
		{Condition{About: DealFrom, ID: 3, Op: Ever}, true, "has or had a deal that came from the sequence “Guide”"},
		{Condition{About: DealFrom, ID: 3, Op: Never}, false, "never had a deal that came from the sequence “Guide”"},
		{Condition{About: DealOf, Op: Is, Value: " Spring"}, true, "has an open deal of the campaign “ Spring”"},
		{Condition{About: DealOf, Op: IsNot, Value: "autumn"}, true, "has no open deal of the campaign “autumn”"},
		{Condition{About: DealOf, Op: Ever, Value: "AUTUMN"}, true, "has or had a deal of the campaign “AUTUMN”"},
		{Condition{Score: true, Op: Between, N: 10, M: 21}, true, "a score of 10 to 21"},
		{Condition{Signal: &signal.Pattern{Kind: signal.Form, Place: signal.Place{Page: 6}}, Op: AtLeast, N: 1,
			From: "2026-01-01", To: "2026-01-31"}, false,
			"at least 1 form from the page “Alarms” between 2026-01-01 and 2026-01-31"},
	} {
		r := Rule{If: &c.c}
		if err := r.Check(known); err != nil && c.c.ID != 9 {
			t.Errorf("%s: %v", c.words, err)
		}
		if got := r.Words(known); got != c.words {
			t.Errorf("said %q, want %q", got, c.words)
		}
		if got := r.Holds(p, now); got != c.want {
			t.Errorf("%s: %v", c.words, got)
		}
		if c.want && len(r.Why(p, now, known)) == 0 {
			t.Errorf("%s: no reason", c.words)
		}
		// Of nobody nothing is known, and nothing holds but what is not.
		if got := r.Holds(someone{}, now); got && c.c.Op != IsNot && c.c.Op != WasNot && c.c.Op != Never {
			t.Errorf("%s holds for somebody of whom nothing is known", c.words)
		}
	}
}

func TestConditionsThatCannotBeAsked(t *testing.T) {
	for name, c := range map[string]Condition{
		"an own field that is gone": {Field: person.Own(9), Op: Is, Value: "x"},
		"a tag that is gone":        {About: Tag, ID: 9, Op: Is}, "no tag": {About: Tag, Op: Is},
		"a band that is gone":         {About: InBand, Op: Is, Value: "cold"},
		"a number of letters":         {Field: person.Own(1), Op: AtLeast, Value: "x"},
		"numbers the wrong way round": {Field: person.Own(1), Op: Between, From: "2", To: "1"},
		"a day that is none":          {Field: person.Own(3), Op: Before, Value: "14/4"},
		"days the wrong way round": {Signal: &signal.Pattern{Kind: signal.Click}, Op: AtLeast, N: 1, From: "2026-02-01",
			To: "2026-01-01"},
		"one day of two": {Signal: &signal.Pattern{Kind: signal.Click}, Op: AtLeast, N: 1, From: "2026-02-01"},
		"no days":        {About: Lost, Op: Within}, "too many days": {Field: person.Own(3), Op: Within, Days: 9999},
		"contains a country":         {Field: person.Country, Op: Contains, Value: "N"},
		"a model that is gone":       {Score: true, Op: AtLeast, Model: 9},
		"a model of a tag":           {About: Tag, ID: 1, Op: Is, Model: 8},
		"a rule of a fit":            {About: ByFit, Op: AtLeast, Rule: 1},
		"a rule that is gone":        {Score: true, Op: AtLeast, Model: 8, Rule: 2},
		"a band of the other model":  {About: InBand, Op: Is, Value: "hot", Model: 8},
		"no campaign":                {About: DealOf, Op: Is, Value: " "},
		"counts the wrong way round": {Signal: &signal.Pattern{Kind: signal.Click}, Op: Between, N: 3, M: 1},
	} {
		if (&Rule{If: &c}).Check(known) == nil {
			t.Errorf("%s: no error", name)
		}
	}
}

// TestEverySubjectBeginsAsked holds that whatever the editor offers begins as a
// condition that can be asked, or only lacks a value.
func TestEverySubjectBegins(t *testing.T) {
	keys := map[string]bool{}
	for _, s := range Subjects(known) {
		if keys[s.Key] {
			t.Errorf("%s is offered twice", s.Key)
		}
		keys[s.Key] = true
		c := Begin(s.Key, known)
		if c.Key() != s.Key || c.Op == "" {
			t.Errorf("%s begins as %s with %q", s.Key, c.Key(), c.Op)
		}
		if err := c.Check(known); err != nil && !strings.Contains(err.Error(), "needs a value") &&
			!strings.Contains(err.Error(), "needs a number") && !strings.Contains(err.Error(), "of which campaign") {
			t.Errorf("%s: %v", s.Key, err)
		}
	}
	for _, key := range []string{"", "signal x", "about nothing", "field "} {
		c := Begin(key, nil)
		if c.Check(nil) == nil {
			t.Errorf("%q can be asked", key)
		}
	}
}

func TestWhatTimeMoves(t *testing.T) {
	r := Rule{All: []Rule{FieldIs(person.City, "x"),
		{Any: []Rule{{If: &Condition{Signal: &signal.Pattern{Kind: signal.Click}, Op: AtLeast, N: 1, Days: 3}},
			{If: &Condition{About: Lost, Op: Within, Days: 5}}}}, ThingIs(Audience, 2), ThingIs(Audience, 2)}}
	if len(r.Moves()) != 2 || len(r.Audiences()) != 1 || !r.Names(Audience, 2) || r.Names(Tag, 2) {
		t.Errorf("moves %v, audiences %v", r.Moves(), r.Audiences())
	}
}

// A rule is one English sentence, whatever it asks.
func TestSentences(t *testing.T) {
	is := func(c Condition) Rule { return Rule{If: &c} }
	did := func(k signal.Kind, op Op, n, days int) Rule {
		return Rule{If: &Condition{Signal: &signal.Pattern{Kind: k}, Op: op, N: n, Days: days}}
	}
	canada := FieldIs(person.Country, "CA")
	for want, r := range map[string]Rule{
		"Everybody": {},
		"Everybody whose country is Canada and who clicked a link at least 3 times in the last 180 days": {All: []Rule{canada, did(signal.Click, AtLeast, 3, 180)}},
		"Everybody who opened an email": did(
			signal.Open, AtLeast, 1, 0),
		"Everybody who never opened an email in the last day": did(
			signal.Open, Exactly, 0, 1),
		"Everybody who replied at most twice": did(
			signal.Reply, AtMost, 2, 0),
		"Everybody who booked a meeting exactly once": did(
			signal.Meeting, Exactly, 1, 0),
		"Everybody whose country is Canada, but nobody who opted out or who is tagged “fair”":             {All: []Rule{canada, {None: []Rule{did(signal.OptOut, AtLeast, 1, 0), is(Condition{About: Tag, ID: 1, Op: Is})}}}},
		"Everybody, but nobody who complained":                                                            {None: []Rule{did(signal.Complaint, AtLeast, 1, 0)}},
		"Everybody whose country is Canada or whose score is at least 15":                                 {Any: []Rule{canada, ScoreAtLeast(15)}},
		"Everybody whose country is Canada and either whose score is at least 15 or whose phone is known": {All: []Rule{canada, {Any: []Rule{ScoreAtLeast(15), is(Condition{Field: person.PhoneField, Op: Known})}}}},
		"Everybody whose Fish is cod, trout, or salmon": is(
			Condition{Field: person.Own(2), Op: OneOf, Values: []string{"cod", "trout", "salmon"}}),
		"Everybody who is not on the sequence “Guide”": is(
			Condition{About: InSequence, ID: 3, Op: IsNot}),
		"Everybody who has an open deal": is(
			Condition{About: Deal, Op: Is}),
		"Everybody of whom a deal was lost in the last 30 days": is(
			Condition{About: Lost, Op: Within, Days: 30}),
		"Everybody who filled in a form from the page “Alarms”": {If: &Condition{Signal: &signal.Pattern{Kind: signal.Form, Place: signal.Place{Page: 6}}, Op: AtLeast, N: 1}},
	} {
		if got := r.Sentence(known); got != want {
			t.Errorf("said %q\nwant %q", got, want)
		}
	}
}

// TestChoosingOfModels: what the editor offers for scores, and that what it sends is what is asked then.
func TestChoosingOfModels(t *testing.T) {
	for key, want := range map[string][]string{
		"score":          {"0 Engagement", "8 Loans"},
		"points":         {"1 Engagement: click", "8/1 Loans: download"},
		"about band":     {"hot Engagement: hot", "8/low Loans: low", "8/warm Loans: warm"},
		"about fit":      {"8 Loans"},
		"about fit band": {"8/far Loans: far", "8/near Loans: near"},
		"about tag":      nil,
	} {
		c := Begin(key, known)
		list, at := c.OfModels(known)
		if key == "about fit" { // one alone is no choice, but it is asked for
			if len(list) != 0 || c.Model != 8 {
				t.Errorf("%s begins as %+v and offers %v", key, c, list)
			}
			continue
		}
		if len(list) != len(want) || len(list) > 0 && at != 0 {
			t.Fatalf("%s offers %v, of which number %d is chosen", key, list, at)
		}
		for i, x := range list {
			if x.Value+" "+x.Words != want[i] {
				t.Errorf("%s offers %q, want %q", key, x.Value+" "+x.Words, want[i])
			}
			c.Choose(known, x.Value)
			if _, at := c.OfModels(known); at != i || c.Check(known) != nil || c.Key() != key {
				t.Errorf("%s: %q was chosen, and number %d is (%v)", key, x.Value, at, c.Check(known))
			}
		}
		c.Choose(known, "99/nothing")
		if _, at := c.OfModels(known); key != "about tag" && at != len(list)-1 {
			t.Errorf("%s: choosing nothing chose number %d", key, at)
		}
	}
	one := &Catalogue{Models: known.Models[:1]}
	c := Begin("score", one)
	if list, _ := c.OfModels(one); list != nil {
		t.Errorf("of one model %v is offered", list)
	}
	if c = Begin("points", &Catalogue{}); c.Check(&Catalogue{}) == nil {
		t.Error("points can be asked where nothing gives any")
	}
}

// A file names models and rules by numbers, and those that are not there are none, not the first or all.
func TestRefersToModels(t *testing.T) {
	r := Rule{All: []Rule{{If: &Condition{Score: true, Op: AtLeast, Model: 8, Rule: 1}},
		{If: &Condition{About: ByFit, Op: AtLeast, Model: 8}}, {If: &Condition{Score: true, Op: AtLeast, Rule: 1}},
		ScoreAtLeast(3)}}
	lists, seen := known.Lists(), map[string]bool{}
	r.Refer(func(what Ref, id *int64) {
		for _, n := range lists[what] {
			if n.ID == *id {
				seen[n.Name] = true
			}
		}
	})
	if len(seen) != 3 || !seen["Loans: download"] || !seen["Loans"] || !seen["Engagement: click"] {
		t.Errorf("it refers to %v", seen)
	}
	if r.Check(known) != nil {
		t.Error("looking changed it")
	}
	r.Refer(func(_ Ref, id *int64) { *id = 0 })
	for i, x := range r.All {
		if gone := x.If.Check(known) != nil; gone != (i < 3) {
			t.Errorf("condition %d: %+v", i, x.If)
		}
	}
}
