package main

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/score"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/engine"
	"ombak/internal/store"
)

// benchEngine measures, in one run and on the same rows, the steps a second of the real
// engine and the rows a second of the plain SQL floor.
//
// The plan is what people draw: a watch for a click, which has happened; a check over the
// record, signals and the score; an email that leaves people in peace for two days, a pause,
// a check over signals of the last month and a second email under the same rest rule. The
// emails are taken to be sent between the rounds: what sending costs is `ombak bench mail`'s.
func benchEngine(ctx context.Context, s *store.Store, e *engine.Engine, clock *fixed) error {
	at := clock.Now()
	if err := e.SaveModel(ctx, store.Model{Model: score.Model{Name: "Engagement", Line: 15, Rules: []score.Rule{
		{On: signal.Pattern{Kind: signal.PageView}, Points: 10, Lasts: 30},
		{On: signal.Pattern{Kind: signal.Open}, Points: 1, Lasts: 30},
		{On: signal.Pattern{Kind: signal.Click}, Points: 3, Lasts: 30}}}}); err != nil {
		return err
	}
	var p *sequence.Plan
	err := s.InTx(ctx, func(tx store.Tx) error {
		message, err := tx.AddMessage(ctx, store.Message{Name: "Bench"}, 0, at)
		if err != nil {
			return err
		}
		if p, err = drawnPlan(message); err != nil {
			return err
		}
		return fillBench(ctx, tx, p, at)
	})
	if err != nil {
		return err
	}
	fmt.Printf("%d enrolments, %d connections\n", benchPeople, benchConns)
	run := func() (int64, int64, error) {
		looked, steps, err := e.AdvanceBatch(ctx, 500)
		return int64(looked), int64(steps), err
	}
	floor := func(now, next time.Time, step sequence.StepID) func() (int64, int64, error) {
		return func() (int64, int64, error) {
			n, err := s.Floor(ctx, now, next, int32(step), 500)
			return n, n, err
		}
	}
	sent := func(now time.Time) func() error {
		return func() error { clock.set(now); return s.BenchSent(ctx, now) }
	}
	hour := func(n int) time.Time { return at.Add(time.Duration(n) * time.Hour) }
	// The floor before, between and after: tables grow and age during a run.
	rounds := []struct {
		name  string
		ready func() error
		do    func() (rows, steps int64, err error)
		floor bool
	}{
		{"floor, before: one statement for 500", nil, floor(hour(1), hour(2), p.Start), true},
		{"engine: watch, check, an email made", func() error { clock.set(hour(4)); return nil }, run, false},
		{"engine: the email done, to a pause", sent(hour(5)), run, false},
		{"floor, between", nil, floor(hour(72), hour(77), 4), true},
		{"engine: pause, check, a second email", func() error { clock.set(hour(78)); return nil }, run, false},
		{"engine: the email done, to a pause", sent(hour(79)), run, false},
		{"floor, after", nil, floor(hour(30*24), hour(40*24), 7), true},
	}
	var engineRows, engineSteps, floorRows int64
	var engineTook, floorTook time.Duration
	for _, r := range rounds {
		if r.ready != nil {
			if err := r.ready(); err != nil {
				return err
			}
		}
		if err := s.Settle(ctx); err != nil {
			return err
		}
		rows, steps, took, err := everybody(r.do)
		if err != nil {
			return err
		}
		fmt.Printf("  %-38s %9d looked at %9d steps %8.2f s %9.0f steps/s\n", r.name, rows, steps, took.Seconds(),
			float64(steps)/took.Seconds())
		if r.floor {
			floorRows, floorTook = floorRows+rows, floorTook+took
		} else {
			engineRows, engineSteps, engineTook = engineRows+rows, engineSteps+steps, engineTook+took
		}
	}
	rate := func(n int64, took time.Duration) float64 { return float64(n) / took.Seconds() }
	plain, steps, looks := rate(floorRows, floorTook), rate(engineSteps, engineTook), rate(engineRows, engineTook)
	fmt.Printf("floor %.0f rows/s\nengine %.0f steps/s, %.2f of the floor\n", plain, steps, steps/plain)
	fmt.Printf("engine %.0f enrolments looked at/s, %.2f of the floor\n", looks, looks/plain)
	return nil
}

// drawnPlan is a plan as people draw it.
func drawnPlan(message int64) (*sequence.Plan, error) {
	days := func(n int) calendar.Span { return calendar.Span{N: n, Unit: calendar.Days} }
	clicked := rule.Rule{If: &rule.Condition{Signal: &signal.Pattern{Kind: signal.Click}, Op: rule.AtLeast, N: 1,
		Days: 30}}
	p := sequence.NewPlan()
	p.LaunchHold, p.Ground.Other, p.Rest = false, "existing customers", sequence.Rest{Days: 2}
	from, exit := sequence.StepID(0), sequence.Exit("")
	for _, x := range []struct {
		step sequence.Step
		exit sequence.Exit
	}{
		{&sequence.Watch{Signal: signal.Click, For: days(5)}, sequence.Happened},
		{&sequence.Check{Rule: rule.Rule{All: []rule.Rule{
			{If: &rule.Condition{Field: person.Country, Op: rule.OneOf, Values: []string{"NO", "GB", "ID", "CL"}}},
			clicked, rule.ScoreAtLeast(10)}}}, sequence.Yes},
		{&sequence.Email{Message: message}, sequence.Next},
		{&sequence.Pause{For: days(3)}, sequence.Next},
		{&sequence.Check{Rule: clicked}, sequence.Yes},
		{&sequence.Email{Message: message}, sequence.Next},
		{&sequence.Pause{For: days(20)}, sequence.Next},
	} {
		id, err := p.Insert(x.step, from, exit)
		if err != nil {
			return nil, err
		}
		from, exit = id, x.exit
	}
	return p, nil
}

// fillBench makes people, and has all of them begin the plan at an instant.
func fillBench(ctx context.Context, tx store.Tx, p *sequence.Plan, at time.Time) error {
	seq, err := tx.AddSequence(ctx, "Bench", p, at)
	if err != nil {
		return err
	}
	version, err := tx.AddVersion(ctx,
		store.Version{Sequence: seq, Plan: store.JSON[*sequence.Plan]{V: p}, Launched: at}, 0)
	if err != nil {
		return err
	}
	if err := tx.FillPeople(ctx, benchPeople, at); err != nil {
		return err
	}
	return tx.FillEnrolments(ctx, seq, version, int32(p.Start), at)
}

// everybody has several connections do something until nothing is left, and answers how
// many rows and steps that were and how long it took.
func everybody(do func() (rows, steps int64, err error)) (rows, steps int64, took time.Duration, err error) {
	var allRows, allSteps atomic.Int64
	var wg sync.WaitGroup
	errs := make(chan error, benchConns)
	start := time.Now()
	for range benchConns {
		wg.Go(func() {
			for {
				n, m, err := do()
				allRows.Add(n)
				allSteps.Add(m)
				if err != nil {
					errs <- err
				}
				if err != nil || n == 0 {
					return
				}
			}
		})
	}
	wg.Wait()
	took = time.Since(start)
	close(errs)
	return allRows.Load(), allSteps.Load(), took, <-errs
}
