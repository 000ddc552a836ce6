package main

import (
	"context"
	"fmt"
	"time"

	"ombak/internal/core/right"
	"ombak/internal/engine"
	"ombak/internal/store"
)

const (
	pipelineDeals  = 50_000
	pipelineRounds = 100
)

// benchPipeline measures the pipeline with 50,000 deals, half of them open, among 200,000 people, as it is answered
// over HTTP: the board, the list, the course, a deal, and each after a deal was moved.
func benchPipeline(ctx context.Context, s *store.Store, e *engine.Engine, clock *fixed) error {
	at := clock.Now()
	b, err := signIn(ctx, s, e, right.Lead)
	if err != nil {
		return err
	}
	defer b.Close()
	if err := e.UsualStages(ctx); err != nil {
		return err
	}
	list, err := s.Stages(ctx)
	if err != nil {
		return err
	}
	var open []int64
	var won, lost int64
	for _, st := range list {
		switch {
		case st.Won:
			won = st.ID
		case st.Lost:
			lost = st.ID
		default:
			open = append(open, st.ID)
		}
	}
	err = s.InTx(ctx, func(tx store.Tx) error {
		if err := tx.FillPeople(ctx, benchPeople, at.AddDate(0, 0, -3)); err != nil {
			return err
		}
		return tx.FillDeals(ctx, pipelineDeals, open, won, lost, at)
	})
	if err != nil {
		return err
	}
	if err := s.Settle(ctx); err != nil {
		return err
	}
	start := time.Now()
	for range 20 {
		if _, err := s.SumDeals(ctx, store.DealQuery{}); err != nil {
			return err
		}
	}
	fmt.Printf("%d deals, half of them open, among %d people; over HTTP, %d times each\n", pipelineDeals, benchPeople,
		pipelineRounds)
	fmt.Printf("  %-42s %6.1f ms: the floor\n", "summing the open deals alone, in the mean",
		time.Since(start).Seconds()*1000/20)
	deal, err := s.Deals(ctx, store.DealQuery{}, 1)
	if err != nil {
		return err
	}
	start = time.Now()
	for months := 2; months <= 12; months++ {
		if _, err := e.AheadOf(ctx, list[0].Pipeline, 0, months, 1); err != nil {
			return err
		}
	}
	fmt.Printf("  %-42s %6.1f ms: at most once a minute, and nobody waits for the second\n",
		"a forecast, counted anew, in the mean", time.Since(start).Seconds()*1000/11)
	move := fmt.Sprintf("/pipeline/%d/move?stage=", deal[0].ID)
	return b.time(ctx, pipelineRounds, []page{{name: "the board", path: "/pipeline"},
		{name: "the course", path: "/pipeline/course"},
		{name: "the list", path: "/pipeline/list"},
		{name: "those without a next step, newest first", path: "/pipeline/list?plan=no+next+step&order=newest+first"},
		{name: "those closed, last first", path: "/pipeline/list?state=won+or+lost&order=last+closed"},
		{name: "those that stay long", path: "/pipeline/list?plan=been+longer+in+its+stage+than+others"},
		{name: "by a word", path: "/pipeline/list?text=deal+44"},
		{name: "a deal", path: fmt.Sprintf("/pipeline/%d", deal[0].ID)},
		{name: "a deal is moved", path: move + fmt.Sprint(open[1]), form: map[string][]string{"x": {"1"}}},
		{name: "the board after it", path: "/pipeline"},
		{name: "it is moved back", path: move + fmt.Sprint(open[0]), form: map[string][]string{"x": {"1"}}},
		{name: "the course after it", path: "/pipeline/course"}})
}
