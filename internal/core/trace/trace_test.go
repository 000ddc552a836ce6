package trace

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/calendar"
	"ombak/internal/core/contact"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
)

var day0 = time.Date(2026, 4, 14, 9, 20, 0, 0, time.UTC) // a Tuesday

func days(n int) calendar.Span { return calendar.Span{N: n, Unit: calendar.Days} }

// plan is a plan whose steps stand one behind the other.
func plan(t *testing.T, steps ...sequence.Step) *sequence.Plan {
	t.Helper()
	p := sequence.NewPlan()
	p.Ground.Other, p.LongestStay = "customers", calendar.Span{}
	from, exit := sequence.StepID(0), sequence.Exit("")
	for _, s := range steps {
		id, err := p.Insert(s, from, exit)
		if err != nil {
			t.Fatal(err)
		}
		if exits := s.Exits(); len(exits) > 0 {
			from, exit = id, exits[0]
		}
	}
	return p
}

func kept(list ...act.Act) (out []act.Kept) {
	for _, a := range list {
		out = append(out, act.Kept{Act: a})
	}
	return out
}

// ran is somebody's way, a word or two a step.
func ran(t *testing.T, p *sequence.Plan, who *Person, until time.Time) string {
	t.Helper()
	pr, err := sequence.Compile(p, Sequence, time.Time{}, calendar.Working{})
	if err != nil {
		t.Fatal(err)
	}
	if who.Zone == nil {
		who.Zone = time.UTC
	}
	var out []string
	for _, l := range Run(pr, who, until) {
		out = append(out, strings.TrimSpace(p.Step(l.Step).Kind().Word+" "+string(l.Exit)+" "+string(l.Reason)+" "+
			strings.NewReplacer("h0m0s", "h", "m0s", "m").Replace(l.At.Sub(day0).String())))
	}
	return strings.Join(out, "; ")
}

// The world around a plan that is traced: what steps change decides later steps, rests wait
// for touches from elsewhere and from here, consent that is taken back ends the way.
func TestTheWorldAround(t *testing.T) {
	can := contact.Facts{Email: true, Phone: true, Profile: true}
	bergen := rule.FieldIs(person.City, "Bergen")
	in := rule.ThingIs(rule.Audience, 7)
	clicked := rule.Rule{If: &rule.Condition{Signal: &signal.Pattern{Kind: signal.Click}, Op: rule.AtLeast, N: 2}}
	agreed := rule.ThingIs(rule.Consent, 5)
	for name, c := range map[string]struct {
		steps []sequence.Step
		who   Person
		set   func(p *sequence.Plan)
		want  string
	}{
		"what is set is known": {[]sequence.Step{&sequence.Change{Acts: kept(act.Set{Field: "city", Value: "Bergen"},
			act.Include{Audience: 7}, act.Tag{Name: "x"})}, &sequence.Check{Rule: bergen}, &sequence.Check{Rule: in},
			&sequence.Change{Acts: kept(act.Set{Field: "city"}, act.Exclude{Audience: 7}, act.Revoke{Purpose: 5},
				act.MoveDeal{Stage: 2})}, &sequence.Sort{Ways: []sequence.Way{{Key: 1, Rule: bergen}, {Key: 2, Rule: in},
				{Key: 3, Rule: agreed}}}},
			Person{Record: rule.Record{Consents: []int64{5}, Deals: []rule.DealFact{{Stage: 1}}}}, nil,
			"change record next  0s; check yes  0s; check yes  0s; change record next  0s; sort otherwise  0s; end  finished 0s"},
		"a deal that is opened is known, and one is enough": {[]sequence.Step{
			&sequence.Change{Acts: kept(act.OpenDeal{Stage: 3}, act.OpenDeal{Stage: 4})},
			&sequence.Check{Rule: rule.ThingIs(rule.Stage, 3)}, &sequence.Check{Rule: rule.ThingIs(rule.Stage, 4)}},
			Person{}, nil, "change record next  0s; check yes  0s; check no  0s; end  finished 0s"},
		"an email from elsewhere": {[]sequence.Step{&sequence.Email{Message: 1}},
			Person{Touched: day0.Add(-24 * time.Hour), Reach: can}, func(p *sequence.Plan) { p.Rest.Days = 2 },
			"email next  24h; end  finished 24h"},
		"one that comes later counts from then": {[]sequence.Step{&sequence.Pause{For: days(1)}, &sequence.Email{Message: 1}},
			Person{Touched: day0.Add(12 * time.Hour), Reach: can}, func(p *sequence.Plan) { p.Rest.Days = 1 },
			"pause next  24h; email next  47h10m; end  finished 47h10m"},
		"a call nobody made reached nobody": {[]sequence.Step{&sequence.Call{ToDo: sequence.ToDo{Limit: days(1)}},
			&sequence.Email{Message: 1}}, Person{Reach: can}, func(p *sequence.Plan) {
			p.Rest = sequence.Rest{Days: 3, Any: true}
			for _, s := range p.Steps {
				if c, ok := s.(*sequence.Call); ok {
					c.To[sequence.Missed] = c.To[sequence.IsDone]
				}
			}
		}, "call missed  24h; email next  24h0m0.000001s; end  finished 24h0m0.000001s"},
		"a call that was made did": {[]sequence.Step{&sequence.Call{ToDo: sequence.ToDo{Limit: days(2)}},
			&sequence.Email{Message: 1}}, Person{Reach: can, Work: []Outcome{{2, day0.Add(time.Hour), sequence.TheyTalked}}},
			func(p *sequence.Plan) { p.Rest = sequence.Rest{Days: 1, Any: true} },
			"call done  1h; email next  25h; end  finished 25h"},
		"consent taken back": {[]sequence.Step{&sequence.Pause{For: days(9)}, &sequence.Email{Message: 1}},
			Person{TookBack: day0.Add(30 * time.Hour), Reach: can}, nil, "pause  took consent back 30h"},
		"an answer": {[]sequence.Step{&sequence.Pause{For: days(9)}, &sequence.Email{Message: 1}},
			Person{Signals: []signal.Signal{{At: day0.Add(time.Hour), Kind: signal.Reply, Machine: true},
				{At: day0.Add(2 * time.Hour), Kind: signal.Reply}}, Reach: can}, nil, "pause  answered 2h"},
		"an answer where answers end nothing": {[]sequence.Step{&sequence.Pause{For: days(1)}, &sequence.Email{Message: 1}},
			Person{Signals: []signal.Signal{{At: day0.Add(2 * time.Hour), Kind: signal.Reply}}, Reach: can},
			func(p *sequence.Plan) { p.Stay = []sequence.Reason{sequence.Answered} },
			"pause next  24h; email next  24h; end  finished 24h"},
		"going on": {[]sequence.Step{&sequence.GoOn{Sequence: 9}}, Person{Bars: map[int64]string{9: "were on it"}}, nil,
			"go on  could not go on: were on it 0s"},
		"what they do, and their score": {[]sequence.Step{&sequence.Watch{Signal: signal.Click, N: 1, For: days(3)},
			&sequence.Check{Rule: rule.ScoreAtLeast(10)}, &sequence.Check{Rule: clicked},
			&sequence.Task{What: "x", ToDo: sequence.ToDo{NoWait: true}}},
			Person{Score: 12, Signals: []signal.Signal{{At: day0.Add(time.Hour), Kind: signal.Click},
				{At: day0.Add(90 * time.Hour), Kind: signal.Click}}}, nil,
			"watch happened  1h; check yes  1h; check no  1h; end  finished 1h"},
		"whoever enters later": {[]sequence.Step{&sequence.Task{What: "x", ToDo: sequence.ToDo{NoWait: true}}},
			Person{Entered: day0.AddDate(0, 0, 40)}, nil, ""},
	} {
		who := c.who
		if who.Entered.IsZero() {
			who.Entered = day0
		}
		p := plan(t, c.steps...)
		if c.set != nil {
			c.set(p)
		}
		if got := ran(t, p, &who, day0.AddDate(0, 0, 30)); got != c.want {
			t.Errorf("%s:\ngot  %s\nwant %s", name, got, c.want)
		}
		if len(who.Record.Audiences) > 0 {
			t.Errorf("%s: what was given is changed", name)
		}
	}
}

// Consents that single emails ask and the holidays of countries are read too, and hold: on a
// holiday of theirs somebody gets nothing, and who did not agree passes an email over.
func TestConsentsAndHolidays(t *testing.T) {
	p := plan(t, &sequence.Email{Message: 1, Purpose: 3})
	p.Ground = contact.Ground{Purpose: 1}
	f := &sequence.File{Plan: p, Holidays: map[string][]calendar.Date{"NO": {calendar.DateOf(day0, time.UTC)}}}
	read := func(rows string) ([]*Person, error) {
		return ReadPeople(strings.NewReader("id,entered,country,email,consent,consent 3\n"+rows), f, time.UTC)
	}
	people, err := read("ana,2026-04-14T09:20:00Z,NO,a@x.example,no,yes\nbo,2026-04-14T09:20:00Z,DE,b@x.example,yes,no\n")
	if err != nil || people[0].Reach.Consents.To(3) != contact.Agreed || people[0].Reach.Consents.To(1) !=
		contact.Withdrawn || len(people[0].Rests) != 1 || people[1].Rests != nil {
		t.Fatalf("%+v, %v", people, err)
	}
	pr, err := sequence.Compile(p, Sequence, time.Time{}, calendar.Working{})
	if err != nil {
		t.Fatal(err)
	}
	first := func(who *Person) sequence.Log { return Run(pr, who, day0.AddDate(0, 0, 3))[0].Log }
	if l := first(people[0]); calendar.DateOf(l.At, time.UTC) != calendar.DateOf(day0, time.UTC).Add(1) || l.Reason != "" {
		t.Errorf("on a holiday: %+v", l)
	}
	if l := first(people[1]); l.Reason != sequence.PassedOver(contact.TookBack) {
		t.Errorf("who took it back: %+v", l)
	}
	if _, err := read("ana,2026-04-14T09:20:00Z,NO,,maybe,\n"); err == nil {
		t.Error("a consent is taken that is none")
	}
	f.Holidays["NO"] = make([]calendar.Date, calendar.MaxHolidays+1)
	if _, err := read("ana,2026-04-14T09:20:00Z,NO,,,\n"); err == nil {
		t.Error("a country has too many holidays")
	}
}

// People, signals and outcomes are read from files, with what the file of the sequence
// calls them.
func TestReading(t *testing.T) {
	f := &sequence.File{Plan: plan(t, &sequence.Call{}), Names: map[sequence.PartKind]map[string]string{
		"tag": {"4": "Warm"}, "audience": {"7": "Ports", "x": "Broken"}}}
	people, err := ReadPeople(strings.NewReader("\ufeffid,Entered,Country,tags,audiences,consent,opted out,score,last email,score 8,score 8 2\n"+
		"ana,2026-04-14T09:20:00+02:00,Norway,warm; cold,PORTS,yes,no,3.5,2026-04-01T00:00:00Z,4,1.5\nbo,2026-04-14T09:20:00Z,,,,no,yes,,,,\n"),
		f, time.UTC)
	if err != nil || len(people) != 2 {
		t.Fatal(err)
	}
	ana, bo := people[0], people[1]
	if !ana.Entered.Equal(day0.Add(-2*time.Hour)) || ana.Record.Values[person.Country] != "NO" ||
		ana.Zone.String() != "Europe/Oslo" || len(ana.Record.Tags) != 1 || ana.Record.Tags[0] != 4 ||
		len(ana.Record.Audiences) != 1 || ana.Reach.Consents.To(0) != contact.Agreed || ana.Touched.IsZero() {
		t.Errorf("Ana is %+v", ana)
	}
	w := &Walker{who: ana}
	for of, want := range map[rule.Figure]float64{{}: 3.5, {Model: 8}: 4, {Model: 8, Rule: 2}: 1.5, {Rule: 2}: 0} {
		if got := w.Score(of, day0); got != want {
			t.Errorf("Ana’s score %+v is %g", of, got)
		}
	}
	if bo.Reach.Consents.To(0) != contact.Withdrawn || !bo.Reach.OptedOut || bo.Zone != time.UTC {
		t.Errorf("Bo is %+v", bo)
	}
	if err := ReadSignals(strings.NewReader("person,at,kind,step,link,page,machine\nana,2026-04-16T00:00:00Z,Click,2,1,,\n"+
		"ana,2026-04-15T00:00:00Z,page view,,,9,yes\n"), people); err != nil || len(ana.Signals) != 2 ||
		ana.Signals[0].Page != 9 || !ana.Signals[0].Machine || ana.Signals[1].Step != 2 || ana.Signals[1].Sequence != Sequence {
		t.Errorf("signals: %v, %+v", err, ana.Signals)
	}
	if err := ReadOutcomes(strings.NewReader(`[{"person":"bo","step":2,"at":"2026-04-16T00:00:00Z","outcome":"talked"}]`),
		people, f.Plan); err != nil || len(bo.Work) != 1 || bo.Work[0].What != sequence.TheyTalked {
		t.Errorf("outcomes: %v, %+v", err, bo.Work)
	}
	for file, read := range map[string]func(string) error{
		"id,entered,audiences\nx,2026-04-14T09:20:00Z,broken\n": func(s string) error {
			_, err := ReadPeople(strings.NewReader(s), f, time.UTC)
			return err
		},
		"id,entered,score x\nx,2026-04-14T09:20:00Z,4\n": func(s string) error {
			_, err := ReadPeople(strings.NewReader(s), f, time.UTC)
			return err
		},
		"id,entered,score 8\nx,2026-04-14T09:20:00Z,NaN\n": func(s string) error {
			_, err := ReadPeople(strings.NewReader(s), f, time.UTC)
			return err
		},
		"id,entered,took back\nx,2026-04-14T09:20:00Z,soon\n": func(s string) error {
			_, err := ReadPeople(strings.NewReader(s), f, time.UTC)
			return err
		},
		"person,step,at,outcome\nbo,2,soon,talked\n": func(s string) error {
			return ReadOutcomes(strings.NewReader(s), people, f.Plan)
		},
		"person,step,at,outcome\nzoe,2,2026-04-16T00:00:00Z,talked\n": func(s string) error {
			return ReadOutcomes(strings.NewReader(s), people, f.Plan)
		},
		`[{"id":"x","entered":"2026-04-14T09:20:00Z","bounced":{}}]`: func(s string) error {
			_, err := ReadPeople(strings.NewReader(s), f, time.UTC)
			return err
		},
		"id,entered,bounced\nx,2026-04-14T09:20:00Z,maybe\n": func(s string) error {
			_, err := ReadPeople(strings.NewReader(s), f, time.UTC)
			return err
		},
		"id,entered\nx,2026-04-14T09:20:00Z,more\n": func(s string) error {
			_, err := ReadPeople(strings.NewReader(s), f, time.UTC)
			return err
		},
		"person,at,kind\nana,soon,click\n": func(s string) error { return ReadSignals(strings.NewReader(s), people) },
	} {
		if read(file) == nil {
			t.Errorf("%q is read", file)
		}
	}
	lines := []Line{{"bo", sequence.Log{Step: 2, At: day0.Add(time.Hour)}}, {"ana", sequence.Log{Step: 1, At: day0,
		Exit: sequence.Next}}}
	Sort(lines)
	var b bytes.Buffer
	if err := Write(&b, lines); err != nil || b.String() != "person,step,instant,exit,reason\n"+
		"ana,1,2026-04-14T09:20:00Z,next,\nbo,2,2026-04-14T10:20:00Z,,\n" || !strings.Contains(lines[1].String(), "–") {
		t.Errorf("%v %q", err, b.String())
	}
}
