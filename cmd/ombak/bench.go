package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/score"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/engine"
	"ombak/internal/engine/base"
	"ombak/internal/mail"
	"ombak/internal/store"
	"ombak/internal/store/server"
)

const benchPeople = 200_000

// benchConns is how many connections work at a time, for the engine and the
// floor alike.
const benchConns = 2

func runBench(ctx context.Context, c config) error {
	kinds := map[string]func(context.Context, *store.Store, *engine.Engine, *fixed) error{"engine": benchEngine,
		"people": benchPeopleLists, "import": benchImport, "mail": benchMail}
	if len(os.Args) > 2 && os.Args[2] == "interpret" { // it needs no database
		return benchInterpret(os.Stdout)
	}
	var run func(context.Context, *store.Store, *engine.Engine, *fixed) error
	if len(os.Args) > 2 {
		run = kinds[os.Args[2]]
	}
	soaks := len(os.Args) > 2 && os.Args[2] == "soak"
	if run == nil && !soaks {
		return errors.New("ombak bench engine, people, import, mail, interpret or soak")
	}
	address := c["OMBAK_DATABASE_URL"]
	if address == "" {
		home, err := c.home()
		if err != nil {
			return err
		}
		srv, err := server.Start(ctx, server.Options{Dir: filepath.Join(home, "postgres")})
		if err != nil {
			return err
		}
		defer srv.Stop()
		address = srv.URL
	}
	scratch, drop, err := store.Scratch(ctx, address, "ombak_bench")
	if err != nil {
		return err
	}
	defer drop()
	s, err := store.Open(ctx, scratch, 8)
	if err != nil {
		return err
	}
	defer s.Close()
	if err := s.Migrate(ctx); err != nil {
		return err
	}
	if soaks {
		return benchSoak(ctx, scratch)
	}
	at := time.Date(2026, 4, 14, 9, 0, 0, 0, time.UTC)
	clock := &fixed{}
	clock.set(at)
	if err := s.EnsureMonths(ctx, at.AddDate(-1, 0, 0), at.AddDate(0, 2, 0)); err != nil {
		return err
	}
	e, err := engine.New(ctx,
		base.Config{Store: s, Clock: clock, Mail: nobody{}, URL: "http://bench.example", Domain: "bench.example"})
	if err != nil {
		return err
	}
	return run(ctx, s, e, clock)
}

// fixed is a clock that is set.
type fixed struct{ t atomic.Pointer[time.Time] }

func (f *fixed) Now() time.Time  { return *f.t.Load() }
func (f *fixed) set(t time.Time) { f.t.Store(&t) }

// nobody takes no mail: the bench's plan sends none before it is over.
type nobody struct{}

func (nobody) Send(context.Context, mail.Letter) (mail.Fate, error) {
	return mail.Refused, errors.New("no mail in a measurement")
}

// benchEngine measures, in one run and on the same rows, the steps a second of
// the real engine and the rows a second of the plain SQL floor.
//
// The plan watches for a click (which has happened), checks the score, then
// pauses twice: the first round does two steps in each look, with signals and
// score loaded; the second one step that needs nothing.
func benchEngine(ctx context.Context, s *store.Store, e *engine.Engine, clock *fixed) error {
	var err error
	at := clock.Now()
	if err = e.SaveModel(ctx, store.Model{Model: score.Model{Name: "Engagement", Line: 15, Rules: []score.Rule{
		{On: signal.Pattern{Kind: signal.PageView}, Points: 10, Lasts: 30},
		{On: signal.Pattern{Kind: signal.Open}, Points: 1, Lasts: 30},
		{On: signal.Pattern{Kind: signal.Click}, Points: 3, Lasts: 30}}}}); err != nil {
		return err
	}
	days := func(n int) calendar.Span { return calendar.Span{N: n, Unit: calendar.Days} }
	p := sequence.NewPlan()
	p.LaunchHold, p.Ground.Other = false, "existing customers"
	insert := func(st sequence.Step, from sequence.StepID, exit sequence.Exit) sequence.StepID {
		var id sequence.StepID
		if err == nil {
			id, err = p.Insert(st, from, exit)
		}
		return id
	}
	watch := insert(&sequence.Watch{Signal: signal.Click, For: days(5)}, 0, "")
	check := insert(sequence.New("check"), watch, sequence.Happened)
	pause := insert(&sequence.Pause{For: days(3)}, check, sequence.No)
	second := insert(&sequence.Pause{For: days(3)}, pause, sequence.Next)
	insert(&sequence.Call{}, second, sequence.Next)
	if err != nil {
		return err
	}
	var seq, version int64
	err = s.InTx(ctx, func(tx store.Tx) error {
		if seq, err = tx.AddSequence(ctx, "Bench", p, at); err != nil {
			return err
		}
		version, err = tx.AddVersion(ctx,
			store.Version{Sequence: seq, Plan: store.JSON[*sequence.Plan]{V: p}, Launched: at}, 0)
		return err
	})
	if err != nil {
		return err
	}
	fmt.Printf("%d enrolments, %d connections\n", benchPeople, benchConns)
	if err := s.FillPeople(ctx, benchPeople, at); err != nil {
		return err
	}
	if err := s.FillEnrolments(ctx, seq, version, int32(p.Start), at); err != nil {
		return err
	}
	type round struct {
		name        string
		rows, steps int64
		took        time.Duration
	}
	measure := func(name string, f func() (rows, steps int64, err error)) (round, error) {
		if err := s.Settle(ctx); err != nil {
			return round{}, err
		}
		r := round{name: name}
		var rows, steps atomic.Int64
		var wg sync.WaitGroup
		errs := make(chan error, benchConns)
		start := time.Now()
		for range benchConns {
			wg.Go(func() {
				for {
					n, m, err := f()
					rows.Add(n)
					steps.Add(m)
					if err != nil || n == 0 {
						if err != nil {
							errs <- err
						}
						return
					}
				}
			})
		}
		wg.Wait()
		r.took = time.Since(start)
		r.rows, r.steps = rows.Load(), steps.Load()
		close(errs)
		fmt.Printf("  %-38s %9d looked at %9d steps %8.2f s %9.0f steps/s\n", r.name, r.rows, r.steps, r.took.Seconds(),
			float64(r.steps)/r.took.Seconds())
		return r, <-errs
	}
	run := func() (int64, int64, error) {
		looked, steps, err := e.AdvanceBatch(ctx, 500)
		return int64(looked), int64(steps), err
	}
	floorRound := func(name string, now, next time.Time, step sequence.StepID) (round, error) {
		return measure(name, func() (int64, int64, error) {
			n, err := s.Floor(ctx, now, next, int32(step), 500)
			return n, n, err
		})
	}
	// The floor before and after: tables grow and age during a run.
	before, err := floorRound("floor, before: one statement for 500", at.Add(time.Hour), at.Add(90*time.Minute),
		p.Start)
	if err != nil {
		return err
	}
	clock.set(at.Add(4 * time.Hour))
	first, err := measure("engine: watch, check, pause", run)
	if err != nil {
		return err
	}
	clock.set(at.AddDate(0, 0, 4))
	rest, err := measure("engine: pause to pause", run)
	if err != nil {
		return err
	}
	now := at.AddDate(0, 0, 9)
	after, err := floorRound("floor, after", now, now.AddDate(0, 0, 30), second)
	if err != nil {
		return err
	}
	rate := func(n int64, took time.Duration) float64 { return float64(n) / took.Seconds() }
	floor := rate(before.rows+after.rows, before.took+after.took)
	steps, looks := rate(first.steps+rest.steps, first.took+rest.took), rate(first.rows+rest.rows, first.took+rest.took)
	fmt.Printf("floor %.0f rows/s\n", floor)
	fmt.Printf("engine %.0f steps/s, %.2f of the floor\n", steps, steps/floor)
	fmt.Printf("engine %.0f enrolments looked at/s, %.2f of the floor (with signals and score %.2f, without %.2f)\n",
		looks, looks/floor, rate(first.rows, first.took)/floor, rate(rest.rows, rest.took)/floor)
	return nil
}
