package people

import (
	"context"
	"time"

	"ombak/internal/core/rule"
	"ombak/internal/core/score"
	"ombak/internal/engine/flow"
	"ombak/internal/store"
)

// weeksBack is over how many weeks it is told how people moved between bands.
const weeksBack = 8

// Tally has some worker count how the rules of a model that count now work for everybody, and answers the work.
func (e *People) Tally(ctx context.Context, model, user int64) (batch int64, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		m, err := tx.LockModel(ctx, model)
		if store.IsNotFound(err) {
			return ErrNoModel
		}
		if err != nil {
			return err
		}
		if err := tx.StopBatches(ctx, "tally", m.ID); err != nil {
			return err
		}
		n, err := tx.CountStandings(ctx, m.ID, 1<<30)
		if err != nil {
			return err
		}
		now := e.Now()
		var at []time.Time
		for i := weeksBack; i >= 0; i-- {
			at = append(at, now.Add(-time.Duration(i)*7*24*time.Hour))
		}
		b := store.Batch{Kind: "tally", Title: "count how the points come about", State: "waiting", Total: n, By: &user}
		b.Detail.V.Model = m.ID
		b.Detail.V.Version, b.Detail.V.Tally = m.Version, score.NewTally(&m.Model, at)
		batch, err = tx.AddBatch(ctx, b, now)
		return err
	})
	if err == nil {
		err = e.Ask(ctx, batch)
	}
	return batch, err
}

// runTally counts in the order of the people. A model that takes over meanwhile ends it.
func (e *People) runTally(ctx context.Context, b *store.Batch) error {
	t := b.Detail.V.Tally
	for {
		if err := e.progress(ctx, b); err != nil {
			return err
		}
		m, err := e.Store.ModelOf(ctx, b.Detail.V.Model)
		if err != nil {
			return flow.Gone(err)
		}
		if m.Version != b.Detail.V.Version {
			return errStopped
		}
		m.Zone = e.Zone()
		list, err := e.Store.StandingsAfter(ctx, m.ID, b.Detail.V.Upto, recountChunk)
		if err != nil || len(list) == 0 {
			return err
		}
		var who []store.Since
		var ids []int64
		for _, s := range list {
			who, ids = append(who, store.Since{Person: s.Person}), append(ids, s.Person)
		}
		signals, err := e.Store.SignalsSince(ctx, who)
		if err != nil {
			return err
		}
		var records map[int64]*rule.Record
		if m.AsksRecord() {
			if records, err = e.Store.Records(ctx, ids); err != nil {
				return err
			}
		}
		var ledger []score.Entry
		for _, id := range ids {
			did := signals[id]
			ledger = m.Ledger(ledger[:0], did, flow.NewPersonOf(records[id], did), t.At)
			t.Add(&m.Model, ledger)
		}
		b.Detail.V.Upto, b.Done = ids[len(ids)-1], b.Done+int64(len(ids))
	}
}
