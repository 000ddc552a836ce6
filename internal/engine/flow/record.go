package flow

import (
	"context"
	"slices"
	"time"

	"ombak/internal/core/news"
	"ombak/internal/core/sequence"
	"ombak/internal/store"
)

// Record keeps what people did, and does at once what follows from it: whoever
// waits for a signal is looked at, scores are marked to be counted, and a
// signal that stops sequences stops them, all in one transaction.
func (e *Flow) Record(ctx context.Context, list ...store.Signal) error {
	if len(list) == 0 {
		return nil
	}
	err := e.Store.InTx(ctx, func(tx store.Tx) error { return e.RecordSignals(ctx, tx, list) })
	if err == nil {
		e.Nudge()
	}
	return err
}

// RecordSignals is Record within a transaction.
func (e *Flow) RecordSignals(ctx context.Context, tx store.Tx, list []store.Signal) error {
	if err := tx.AddSignals(ctx, list); err != nil {
		return err
	}
	var people []int64
	first := list[0].At
	for i := range list {
		s := &list[i]
		people = append(people, s.Person)
		if s.At.Before(first) {
			first = s.At
		}
		if reason, stops := sequence.LeaveFor(s.Kind); stops && !s.Machine {
			if err := tx.Stop(ctx, s.Person, s.Kind, s.At); err != nil {
				return err
			}
			if err := e.Leave(ctx, tx, s.Person, reason, s.At); err != nil {
				return err
			}
		}
	}
	if err := e.enterBySignals(ctx, tx, list); err != nil {
		return err
	}
	if err := tx.Wake(ctx, people, first); err != nil {
		return err
	}
	if err := tx.MarkStandings(ctx, people, first); err != nil {
		return err
	}
	return tx.Notify(ctx, news.Signal.About(people...))
}

// enterBySignals enters whoever did what a running sequence is entered by.
func (e *Flow) enterBySignals(ctx context.Context, tx store.Tx, list []store.Signal) error {
	var kinds []int16
	for i := range list {
		if k := int16(list[i].Kind); !slices.Contains(kinds, k) {
			kinds = append(kinds, k)
		}
	}
	running, err := tx.EnteredBySignals(ctx, kinds)
	if err != nil {
		return err
	}
	for _, q := range running {
		var people []int64
		for i := range list {
			if q.Entry.V.On.Matches(&list[i].Signal) {
				people = append(people, list[i].Person)
			}
		}
		if len(people) == 0 {
			continue
		}
		if err := e.Enter(ctx, tx, q, people...); err != nil {
			return err
		}
	}
	return nil
}

// Leave takes a person off every sequence they are on, as of an instant: what
// was over before it is passed first, however late a worker comes.
func (e *Flow) Leave(ctx context.Context, tx store.Tx, person int64, reason sequence.Reason, at time.Time) error {
	claimed, err := tx.ClaimOpen(ctx, person, at)
	if err != nil || len(claimed) == 0 {
		return err
	}
	w, err := e.walk(ctx, tx, claimed, latest(at, e.Now()), &leaving{reason, at})
	if err != nil {
		return err
	}
	if len(w.unable) > 0 {
		if err := tx.Leave(ctx, w.unable, reason, at); err != nil {
			return err
		}
		if err := tx.Withdraw(ctx, w.unable, string(reason), at); err != nil {
			return err
		}
	}
	return tx.Notify(ctx, news.Desk.About(person))
}
