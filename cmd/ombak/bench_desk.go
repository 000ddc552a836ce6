package main

import (
	"context"
	"fmt"
	"net/url"
	"time"

	"ombak/internal/core/right"
	"ombak/internal/core/sequence"
	"ombak/internal/engine"
	"ombak/internal/store"
)

const (
	deskRounds = 100
	deskItems  = 5000
)

// benchDesk measures the desk of a rep who has 5,000 items, among 200,000 people, as it is
// answered over HTTP: the list, the next item after a key press, and what a key does, beside
// the same of a desk with ten.
func benchDesk(ctx context.Context, s *store.Store, e *engine.Engine, clock *fixed) error {
	at := clock.Now()
	b, err := signIn(ctx, s, e, right.Rep)
	if err != nil {
		return err
	}
	defer b.Close()
	rep, err := s.UserByEmail(ctx, benchAddress)
	if err != nil {
		return err
	}
	p := sequence.NewPlan()
	p.Ground.Other = "existing customers"
	call, err := p.Insert(&sequence.Call{Guide: "Ask {{ person.first_name }} for the depth."}, 0, "")
	if err != nil {
		return err
	}
	social, err := p.Insert(&sequence.Social{What: sequence.Visit}, call, sequence.IsDone)
	if err != nil {
		return err
	}
	err = s.InTx(ctx, func(tx store.Tx) error {
		if err := tx.FillPeople(ctx, benchPeople, at.AddDate(0, 0, -3)); err != nil {
			return err
		}
		id, err := tx.AddSequence(ctx, "Bench", p, at)
		if err != nil {
			return err
		}
		version, err := tx.AddVersion(ctx,
			store.Version{Sequence: id, Plan: store.JSON[*sequence.Plan]{V: p}, Launched: at}, 0)
		if err != nil {
			return err
		}
		return tx.FillDesk(ctx, store.DeskFill{Rep: rep.ID, Sequence: id, Version: version, Call: int32(call),
			Social: int32(social), N: deskItems, At: at})
	})
	if err != nil {
		return err
	}
	if err := s.Settle(ctx); err != nil {
		return err
	}
	task, err := s.OpenTasks(ctx, rep.ID, false, at)
	if err != nil || len(task) == 0 {
		return fmt.Errorf("there is no task on the desk: %w", err)
	}
	start := time.Now()
	for range 100 {
		if _, err := s.DeskRows(ctx, store.DeskQuery{User: rep.ID, Now: at, N: 600}); err != nil {
			return err
		}
	}
	rows := time.Since(start).Seconds() * 10
	fmt.Printf("a rep with %d items among %d people; over HTTP, %d times each\n", deskItems, benchPeople, deskRounds)
	fmt.Printf("  %-42s %6.1f ms: the floor\n", "reading the rows alone, in the mean", rows)
	item := func(i int) string { return fmt.Sprintf("task-%d", task[i].ID) }
	return b.time(ctx, deskRounds, []page{{name: "the desk", path: "/desk"},
		{name: "calls alone", path: "/desk?kind=call"},
		{name: "the next item", path: "/desk?item=" + item(1)},
		{name: "one put off", path: "/desk/items/" + item(2) + "/later", form: url.Values{"when": {"tomorrow 10"}}},
		{name: "and the desk after it", path: "/desk"}})
}
