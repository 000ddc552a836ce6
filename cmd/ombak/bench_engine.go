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

// benchEngine measures, in one run and by the same number of people, how many ways a second the real engine looks at,
// and how many plain SQL writes the same of.
//
// The plan is what people draw: a watch for a click, which has happened; a check over the
// record, signals and the score; an email that leaves people in peace for two days, a pause,
// a check over signals of the last month and a second email under the same rest rule. The
// emails are taken to be sent between the rounds: what sending costs is `ombak bench mail`'s.
func benchEngine(ctx context.Context, s *store.Store, e *engine.Engine, clock *fixed) error {
	atEase() // as whoever works is
	at := clock.Now()
	if err := e.SaveModel(ctx, store.Model{Model: score.Model{Name: "Engagement", Line: 15, Rules: []score.Rule{
		{On: signal.Pattern{Kind: signal.PageView}, Points: 10, Lasts: 30},
		{On: signal.Pattern{Kind: signal.Open}, Points: 1, Lasts: 30},
		{On: signal.Pattern{Kind: signal.Click}, Points: 3, Lasts: 30}}}}); err != nil {
		return err
	}
	var p *sequence.Plan
	var version, beside int64
	err := s.InTx(ctx, func(tx store.Tx) error {
		message, err := tx.AddMessage(ctx, store.Message{Name: "Bench"}, 0, at)
		if err != nil {
			return err
		}
		if p, err = drawnPlan(message); err != nil {
			return err
		}
		if err := tx.FillPeople(ctx, benchPeople, at); err != nil {
			return err
		}
		if version, err = fillBench(ctx, tx, "Bench", p, at); err != nil {
			return err
		}
		beside, err = fillBench(ctx, tx, "Floor", p, at.AddDate(100, 0, 0))
		return err
	})
	if err != nil {
		return err
	}
	fmt.Printf("%d enrolments, %d connections\n", benchPeople, benchConns)
	run := func() (int64, int64, error) {
		looked, steps, err := e.AdvanceBatch(ctx, 500)
		return int64(looked), int64(steps), err
	}
	hour := func(n int) time.Time { return at.Add(time.Duration(n) * time.Hour) }
	// After each round of the engine the floor writes as much of as many people, on a sequence of its own: tables grow
	// and age during a run, for both alike.
	var looked, floor int64
	var steps int64
	var took, floorTook time.Duration
	before := store.RoundWrote{}
	for i, r := range []struct {
		name string
		at   time.Time
		sent bool
	}{
		{"watch, check, an email made", hour(4), false},
		{"the email done, to a pause", hour(5), true},
		{"pause, check, a second email", hour(78), false},
		{"the email done, to a pause", hour(79), true},
	} {
		clock.set(r.at)
		if r.sent {
			if err := s.BenchSent(ctx, r.at); err != nil {
				return err
			}
		}
		rows, done, t, err := settled(ctx, s, run)
		if err != nil {
			return err
		}
		wrote, err := s.Written(ctx, version)
		if err != nil {
			return err
		}
		move := store.FloorMove{From: int32(p.Start), To: int32(1000 + i), At: r.at, Next: at.AddDate(101, 0, i),
			Wrote: store.RoundWrote{Looked: rows, Logged: wrote.Logged - before.Logged,
				Touches: wrote.Touches - before.Touches}}
		if before = wrote; i > 0 {
			move.From = int32(999 + i)
		}
		plain, _, plainTook, err := settled(ctx, s, func() (int64, int64, error) {
			n, err := s.FloorOf(ctx, beside, move, 500)
			return n, n, err
		})
		if err != nil {
			return err
		}
		fmt.Printf("  %-30s %8d looked at, %8d steps, %8d emails %7.2f s; floor %8d %7.2f s: %.2f of it\n", r.name,
			rows, done, move.Wrote.Touches, t.Seconds(), plain, plainTook.Seconds(),
			rate(rows, t)/rate(plain, plainTook))
		looked, steps, took = looked+rows, steps+done, took+t
		floor, floorTook = floor+plain, floorTook+plainTook
	}
	fmt.Printf("engine %.0f steps/s, %.0f enrolments looked at/s\nfloor, which writes the same and reads and decides "+
		"nothing, %.0f enrolments/s: the engine is at %.2f of it\n", rate(steps, took), rate(looked, took),
		rate(floor, floorTook), rate(looked, took)/rate(floor, floorTook))
	return nil
}

func rate(n int64, took time.Duration) float64 { return float64(n) / took.Seconds() }

// settled has several connections do something until nothing is left, once the database has come to rest.
func settled(ctx context.Context, s *store.Store, do func() (rows, steps int64, err error)) (
	rows, steps int64, took time.Duration, err error) {
	if err := s.Settle(ctx); err != nil {
		return 0, 0, 0, err
	}
	return everybody(do)
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

// fillBench has everybody begin a plan at an instant, and answers its version.
func fillBench(ctx context.Context, tx store.Tx, name string, p *sequence.Plan, at time.Time) (int64, error) {
	seq, err := tx.AddSequence(ctx, name, p, at)
	if err != nil {
		return 0, err
	}
	version, err := tx.AddVersion(ctx,
		store.Version{Sequence: seq, Plan: store.JSON[*sequence.Plan]{V: p}, Launched: at}, 0)
	if err != nil {
		return 0, err
	}
	return version, tx.FillEnrolments(ctx, seq, version, int32(p.Start), at)
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
