package main

import (
	"context"
	"fmt"
	"net/url"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/right"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/engine"
	"ombak/internal/store"
)

const (
	mapRounds   = 100
	mapBranches = 8
	mapSteps    = 60
)

// benchMap measures the map of a sequence with many people on the way, as it is answered over
// HTTP, beside that of one that has been quiet since; and edits of a plan of 60 steps.
func benchMap(ctx context.Context, s *store.Store, e *engine.Engine, clock *fixed) error {
	at := clock.Now()
	var plan *sequence.Plan
	var busy, quiet int64
	err := s.InTx(ctx, func(tx store.Tx) error {
		message, err := tx.AddMessage(ctx, store.Message{Name: "Bench"}, 0, at)
		if err != nil {
			return err
		}
		if plan, err = largePlan(message); err != nil {
			return err
		}
		if err := tx.FillPeople(ctx, benchPeople, at); err != nil {
			return err
		}
		if quiet, err = fillMap(ctx, tx, "Quiet", plan, 200, at); err != nil {
			return err
		}
		busy, err = fillMap(ctx, tx, "Busy", plan, benchPeople, at)
		return err
	})
	if err != nil {
		return err
	}
	// One step more, in batches as workers do it: the figures are the sum of many lines then.
	for {
		n, err := s.Floor(ctx, at.AddDate(0, 0, 60), at.AddDate(0, 0, 62), int32(plan.Steps[2].About().ID), 500)
		if err != nil {
			return err
		}
		if n == 0 {
			break
		}
	}
	if err := s.FoldCounts(ctx, 2000); err != nil { // as every worker does
		return err
	}
	if err := s.FoldCounts(ctx, 2000); err != nil { // as every worker does
		return err
	}
	if err := s.Settle(ctx); err != nil {
		return err
	}
	b, err := signIn(ctx, s, e, right.Marketer)
	if err != nil {
		return err
	}
	defer b.Close()
	to := func(id int64) string { return fmt.Sprintf("/sequences/%d", id) }
	at0, edit := to(quiet), url.Values{"view": {"draft"}, "n": {"0"}, "kind": {"pause"},
		"from": {fmt.Sprint(plan.Start)}, "exit": {string(plan.Step(plan.Start).Exits()[0])}}
	fmt.Printf("a plan of %d steps with %d branches, %d people on the way; over HTTP, %d times each\n", len(plan.Steps),
		mapBranches, benchPeople, mapRounds)
	return b.time(ctx, mapRounds, []page{{name: "the map", path: to(busy)},
		{name: "with a step chosen", path: fmt.Sprintf("%s?step=%d", to(busy), plan.Steps[2].About().ID)},
		{name: "the map of a quiet one", path: at0},
		{name: "who comes due on the next days", path: to(busy) + "/ahead"},
		{name: "what came after each exit", path: to(busy) + fmt.Sprintf("/after?step=%d",
			plan.Steps[2].About().ID)},
		{name: "the draft", path: to(busy) + "?view=draft"},
		{name: "a step put into the draft", path: at0 + "/insert", form: edit},
		{name: "and taken back", path: at0 + "/undo", form: url.Values{"view": {"draft"}}}})
}

// fillMap puts people on a sequence, each at some step, with the steps before it logged and the
// emails among them sent.
func fillMap(ctx context.Context, tx store.Tx, name string, p *sequence.Plan, people int, at time.Time) (int64, error) {
	id, err := tx.AddSequence(ctx, name, p, at)
	if err != nil {
		return 0, err
	}
	version, err := tx.AddVersion(ctx,
		store.Version{Sequence: id, Plan: store.JSON[*sequence.Plan]{V: p}, Launched: at}, 0)
	if err != nil {
		return 0, err
	}
	var steps []int32
	for _, s := range p.Steps {
		steps = append(steps, int32(s.About().ID))
	}
	return id, tx.FillWays(ctx, id, version, steps, people, at)
}

// largePlan is one of 60 steps and 8 branches.
func largePlan(message int64) (*sequence.Plan, error) {
	p := sequence.NewPlan()
	p.LaunchHold, p.Ground.Other = false, "existing customers"
	ways := make([]sequence.Way, mapBranches-1)
	for i := range ways {
		ways[i] = sequence.Way{Key: i + 1, Rule: rule.ScoreAtLeast(50 - 5*i)}
	}
	fork := &sequence.Sort{Common: sequence.Common{Title: "How keen?"}, Ways: ways}
	first, err := p.Insert(fork, 0, "")
	if err != nil {
		return nil, err
	}
	days := func(n int) calendar.Span { return calendar.Span{N: n, Unit: calendar.Days} }
	for i := 0; len(p.Steps) < mapSteps; i++ {
		exits := fork.Exits()
		from, exit := first, exits[i%len(exits)]
		// To the end of its branch.
		for x := p.Step(from).About().To[exit]; len(p.Step(x).Exits()) > 0; x = p.Step(from).About().To[exit] {
			from, exit = x, p.Step(x).Exits()[0]
		}
		for _, s := range []sequence.Step{
			&sequence.Email{Common: sequence.Common{Title: fmt.Sprint("Letter ", i)}, Message: message},
			&sequence.Watch{Common: sequence.Common{Title: "Pressed?"}, Signal: signal.Click, N: 1, For: days(3)},
			&sequence.Pause{Common: sequence.Common{Title: "A while"}, For: days(1 + i%4)},
		} {
			id, err := p.Insert(s, from, exit)
			if err != nil {
				return nil, err
			}
			from, exit = id, s.Exits()[0]
		}
	}
	return p, nil
}
