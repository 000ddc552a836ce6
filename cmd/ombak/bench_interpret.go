package main

import (
	"fmt"
	"io"
	"runtime"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/calendar"
	"ombak/internal/core/contact"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/core/trace"
)

// interpretFor is how long the interpreter is measured.
const interpretFor = 4 * time.Second

// benchInterpret measures the interpreter in virtual time on one core: how many steps a
// second, and how many allocations a step, over a plan of all that people usually draw.
func benchInterpret(w io.Writer) error {
	plan, err := usualPlan()
	if err != nil {
		return err
	}
	program, err := sequence.Compile(plan, trace.Sequence, time.Time{}, calendar.Working{})
	if err != nil {
		return err
	}
	people, until := somePeople(1000)
	var walker trace.Walker
	steps := 0
	count := func(sequence.Log) { steps++ }
	walk := func() {
		for _, p := range people {
			walker.Walk(program, p, until, count)
		}
	}
	walk() // what is kept for the next is made
	steps = 0
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	began := time.Now()
	rounds := 0
	for time.Since(began) < interpretFor {
		walk()
		rounds++
	}
	took := time.Since(began)
	runtime.ReadMemStats(&after)
	_, err = fmt.Fprintf(w,
		"interpreted: a plan of %d steps, over people in three zones, in virtual time, on one core\n"+
			"  %.0f steps/s (%d in %.1f s), %.3f allocations a step, %.1f steps a person\n", len(plan.Steps),
		float64(steps)/took.Seconds(), steps, took.Seconds(), float64(after.Mallocs-before.Mallocs)/float64(steps),
		float64(steps)/float64(rounds*len(people)))
	return err
}

// usualPlan has each kind of step that decides or waits.
func usualPlan() (*sequence.Plan, error) {
	days := func(n int) calendar.Span { return calendar.Span{N: n, Unit: calendar.Days} }
	p := sequence.NewPlan()
	p.Ground.Other, p.Rest = "bench", sequence.Rest{Days: 1}
	from, exit := sequence.StepID(0), sequence.Exit("")
	for _, s := range []sequence.Step{
		&sequence.Email{Message: 1},
		&sequence.Watch{Signal: signal.Click, N: 1, For: days(3)},
		&sequence.Sort{Ways: []sequence.Way{{Key: 1, Rule: rule.FieldIs(person.Country, "NO")},
			{Key: 2, Rule: rule.FieldIs(person.Country, "CA")}}},
		&sequence.Check{Rule: rule.ScoreAtLeast(5)},
		&sequence.Pause{For: calendar.Span{N: 2, Unit: calendar.WorkingDays}},
		&sequence.Email{Message: 2, Timing: sequence.Timing{Wait: days(1)}},
		&sequence.Task{What: "look", ToDo: sequence.ToDo{NoWait: true}},
		&sequence.Alert{Acts: []act.Kept{{Act: act.Alert{Words: "look"}}}},
		&sequence.Watch{Signal: signal.PageView, N: 2, For: days(5)},
		&sequence.Handover{},
	} {
		s.About().Title = s.Kind().Word
		id, err := p.Insert(s, from, exit)
		if err != nil {
			return nil, err
		}
		if exits := s.Exits(); len(exits) > 0 {
			from, exit = id, exits[0]
		}
	}
	// Every way of a step goes on: nobody is done after the first.
	for _, s := range p.Steps {
		for _, e := range s.Exits() {
			s.About().To[e] = s.About().To[s.Exits()[0]]
		}
	}
	return p, nil
}

// somePeople are people who do this and that in a month.
func somePeople(n int) (out []*trace.Person, until time.Time) {
	start := time.Date(2026, 4, 14, 9, 20, 0, 0, time.UTC)
	zones := []string{"Europe/Oslo", "America/Toronto", "Asia/Jakarta"}
	countries := []string{"NO", "CA", "ID"}
	for i := range n {
		zone, err := calendar.Zone(zones[i%3])
		if err != nil {
			zone = time.UTC
		}
		p := &trace.Person{ID: fmt.Sprint(i), Entered: start.Add(time.Duration(i) * time.Minute), Zone: zone,
			Record: rule.Record{Values: person.Values{person.Country: countries[i%3]}}, Score: float64(i % 10),
			Reach: contact.Facts{Email: true, Phone: true}}
		for k := range i % 6 {
			p.Signals = append(p.Signals, signal.Signal{ID: int64(k + 1), Kind: []signal.Kind{signal.Click,
				signal.PageView}[k%2], At: start.Add(time.Duration(k*31+i%40) * time.Hour)})
		}
		signal.Sort(p.Signals)
		out = append(out, p)
	}
	return out, start.AddDate(0, 1, 0)
}
