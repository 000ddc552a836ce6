package rule

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/person"
	"ombak/internal/core/signal"
)

// Between two instants that Changes lists a rule's answer stays the same: asked at
// every hour, at each instant of a change and a moment beside it, of generated people.
func TestChangesAgainstAsking(t *testing.T) {
	rnd := rand.New(rand.NewPCG(12, 1))
	begin := now.AddDate(0, 0, -12)
	some := func() time.Time { // on an hour, where windows of days meet each other
		return begin.Add(time.Duration(rnd.IntN(12*24)) * time.Hour)
	}
	flips := 0
	for range 300 {
		p := someone{Record_: Record{Values: person.Values{person.Own(3): some().Format(time.DateOnly),
			person.Created: some().Format(time.RFC3339Nano)}}}
		for range rnd.IntN(5) {
			p.signals = append(p.signals, signal.Signal{At: some(), Kind: signal.Click, Machine: rnd.IntN(4) == 0,
				Place: signal.Place{Page: int64(rnd.IntN(2))}})
		}
		slices.SortFunc(p.signals, func(a, b signal.Signal) int { return a.At.Compare(b.At) })
		for range rnd.IntN(3) {
			p.Record_.Deals = append(p.Record_.Deals, DealFact{Closed: some(), Lost: rnd.IntN(2) == 0})
		}
		one := func() Rule {
			n := 1 + rnd.IntN(3)
			return Rule{If: []*Condition{
				{Signal: &signal.Pattern{Kind: signal.Click}, Op: AtLeast, N: n, Days: 1 + rnd.IntN(5)},
				{Signal: &signal.Pattern{Kind: signal.Click, Place: signal.Place{Page: 1}}, Op: Exactly, N: n - 1},
				{Signal: &signal.Pattern{Kind: signal.Click, Machine: true}, Op: AtMost, N: n, Days: 2},
				{About: Lost, Op: Within, Days: 1 + rnd.IntN(5)}, {About: Won, Op: Ever}, {About: Lost, Op: Never},
				{Field: person.Own(3), Op: Within, Days: 1 + rnd.IntN(5)}, {Field: person.Created, Op: Within, Days: 2},
				{Field: person.Created, Op: Known},
			}[rnd.IntN(9)]}
		}
		r := Rule{All: []Rule{one(), {Any: []Rule{one(), {None: []Rule{one()}}}}}}
		ask := []time.Time{begin}
		changes := r.Changes(&p.Record_, p.signals)
		for _, c := range changes {
			ask = append(ask, c.Add(-time.Microsecond), c, c.Add(time.Microsecond))
		}
		for h := range 24 * 20 {
			ask = append(ask, begin.Add(time.Duration(h)*time.Hour))
		}
		slices.SortFunc(ask, time.Time.Compare)
		for i := 1; i < len(ask); i++ {
			from, to := ask[i-1], ask[i]
			if r.Holds(asOf(p, from), from) == r.Holds(asOf(p, to), to) {
				continue
			}
			flips++
			if !slices.ContainsFunc(changes, func(c time.Time) bool { return c.After(from) && !c.After(to) }) {
				t.Fatalf("%s: its answer changes between %v and %v; it lists %v", r.Words(known), from, to, changes)
			}
		}
	}
	if flips < 200 {
		t.Errorf("only %d answers changed: the cases say little", flips)
	}
	if got := (&Rule{If: &Condition{About: Lost, Op: Within, Days: 3}}).Changes(nil, nil); len(got) != 0 {
		t.Errorf("of nobody something changes at %v", got)
	}
}

// asOf is somebody as they were at an instant: what comes later has not happened yet.
func asOf(p someone, at time.Time) someone {
	q := p
	q.signals = slices.DeleteFunc(slices.Clone(p.signals), func(s signal.Signal) bool { return s.At.After(at) })
	q.Record_.Deals = slices.DeleteFunc(slices.Clone(p.Record_.Deals), func(d DealFact) bool { return d.Closed.After(at) })
	return q
}

// Why says of each kind of condition what was found.
func TestWhySaysWhatWasFound(t *testing.T) {
	is := func(c Condition) Rule { return Rule{If: &c} }
	p := someone{score: 21.5, signals: []signal.Signal{
		{At: now.AddDate(0, 0, -2), Kind: signal.Click, Place: signal.Place{Sequence: 3, Step: 2, Message: 7, Page: 6}},
		{At: now.AddDate(0, 0, -1), Kind: signal.Click, Machine: true}},
		Record_: Record{Values: person.Values{person.Country: "CA", person.Created: "2026-03-15T09:20:00Z",
			person.Language: "fr"}, Tags: []int64{1}, Fit: 60}}
	clicks := func(place signal.Place) Condition {
		return Condition{Signal: &signal.Pattern{Kind: signal.Click, Place: place}, Op: AtLeast, N: 1, Days: 30}
	}
	too := clicks(signal.Place{})
	too.Signal.Machine = true
	tagged := is(Condition{About: Tag, ID: 1, Op: Is})
	never := is(Condition{Score: true, Op: AtMost, N: 1})
	for want, r := range map[string]Rule{
		"1 click within 30 days":                            is(clicks(signal.Place{})),
		"2 clicks, machines’ too, within 30 days":           is(too),
		"1 click from one step from “Guide” within 30 days": is(clicks(signal.Place{Sequence: 3, Step: 2})),
		"1 click from the message message 7 within 30 days": is(clicks(signal.Place{Message: 7})),
		"1 click from the page “Alarms” within 30 days":     is(clicks(signal.Place{Page: 6})),
		"a score of 21.5":                  ScoreAtLeast(20),
		"a fit of 60":                      is(Condition{About: ByFit, Op: AtLeast, N: 50}),
		"tagged “fair”":                    tagged,
		"country is Canada":                FieldIs(person.Country, "CA"),
		"language is French":               is(Condition{Field: person.Language, Op: Known}),
		"first met is 2026-03-15":          is(Condition{Field: person.Created, Op: Known}),
		"title is not known":               is(Condition{Field: person.Title, Op: NotKnown}),
		"not a score of at most 1":         {None: []Rule{never}},
		"tagged “fair”; country is Canada": {All: []Rule{tagged, FieldIs(person.Country, "CA")}},
		"country is Canada; not (tagged “fair” or city is Oslo)": {All: []Rule{FieldIs(person.Country, "CA"),
			{None: []Rule{tagged, FieldIs(person.City, "Oslo")}}}},
		"": {Any: []Rule{never, FieldIs(person.Country, "NO")}},
	} {
		if got := strings.Join(r.Why(p, now, known), "; "); got != want {
			t.Errorf("said %q, want %q", got, want)
		}
	}
}

// What a sentence says of all kinds of condition, alone and in words.
func TestSentencesOfThings(t *testing.T) {
	for _, c := range []struct {
		c             Condition
		words, clause string
	}{
		{Condition{About: Stage, ID: 4, Op: Is}, "has a deal in stage “Offer”", "who has a deal in stage “Offer”"},
		{Condition{About: Deal, Op: IsNot}, "has no open deal", "who has no open deal"},
		{Condition{About: Consent, ID: 5, Op: IsNot}, "has not agreed to “Marketing email”",
			"who has not agreed to “Marketing email”"},
		{Condition{About: InBand, Op: IsNot, Value: "hot"}, "score not in the band “hot”",
			"whose score is not in the band “hot”"},
		{Condition{About: InFitBand, Op: Is, Value: "good"}, "fit in the band “good”", "whose fit is in the band “good”"},
		{Condition{About: Won, Op: Never}, "never won a deal", "of whom no deal was won"},
		{Condition{About: Won, Op: Ever}, "ever won a deal", "of whom a deal was won"},
		{Condition{About: ByFit, Op: Between, N: 50, M: 60}, "a fit of 50 to 60", "whose fit is between 50 and 60"},
		{Condition{About: ByFit, Op: AtMost, N: 9}, "a fit of at most 9", "whose fit is at most 9"},
		{Condition{Field: person.Own(3), Op: Within, Days: 1}, "Since within the last 1 days",
			"whose Since is within the last day"},
		{Condition{Field: person.Own(3), Op: Between, From: "2026-01-01", To: "2026-02-01"},
			"Since between 2026-01-01 and 2026-02-01", "whose Since is between 2026-01-01 and 2026-02-01"},
		{Condition{Field: person.Own(1), Op: AtLeast, Value: "3"}, "Pens at least 3", "whose Pens is at least 3"},
		{Condition{Signal: &signal.Pattern{Kind: signal.Click}, Op: Between, N: 1, M: 3}, "1 to 3 clicks",
			"who clicked a link 1 to 3 times"},
		{Condition{Signal: &signal.Pattern{Kind: signal.Open}, Op: AtLeast, N: 2, From: "2026-01-01", To: "2026-01-31"},
			"at least 2 opens between 2026-01-01 and 2026-01-31",
			"who opened an email at least twice between 2026-01-01 and 2026-01-31"},
	} {
		if got := c.c.Words(known); got != c.words {
			t.Errorf("words %q, want %q", got, c.words)
		}
		if got := c.c.clause(known); got != c.clause {
			t.Errorf("clause %q, want %q", got, c.clause)
		}
		from, to := c.c.Since(now), c.c.Until(now)
		if c.c.From != "" && c.c.Signal != nil && (from.Format(time.DateOnly) != c.c.From ||
			to.Format(time.DateOnly) != c.c.To) || to.After(now) {
			t.Errorf("%s counts from %v to %v", c.words, from, to)
		}
	}
	if got := known.Consents(); len(got) != 1 || got[0].Name != "consent to Marketing email" {
		t.Errorf("consents are the fields %v", got)
	}
	for what, n := range map[Thing]int{Tag: 1, Audience: 1, InSequence: 1, Stage: 1, Consent: 1, Deal: 0} {
		if got := known.List(what); len(got) != n {
			t.Errorf("of %s there are %v", what, got)
		}
	}
}
