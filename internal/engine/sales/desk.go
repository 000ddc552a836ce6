package sales

import (
	"context"

	"ombak/internal/core/event"
	"ombak/internal/core/plainly"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/engine/base"
	"ombak/internal/store"
)

// FinishCall records what became of a call, and the sequence goes on.
func (e *Sales) FinishCall(ctx context.Context, touch, rep int64, outcome sequence.Outcome, notes string) error {
	if !outcome.Known() {
		return plainly.Errorf("%q is no outcome of a call", outcome)
	}
	now := e.Now()
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := base.MayWork(ctx, tx, rep, store.CallWork, touch); err != nil {
			return err
		}
		t, err := tx.FinishCall(ctx, touch, rep, string(outcome), base.Cut(notes, 5000), now)
		if store.IsNotFound(err) {
			return base.ErrGone
		}
		if err != nil {
			return err
		}
		if outcome.Spoke() {
			s := store.Signal{Person: t.Person, Touch: t.ID, Detail: string(outcome),
				Signal: signal.Signal{At: now, Kind: signal.CallAnswered,
					Place: signal.Place{Sequence: t.Sequence, Step: t.Step}}}
			if err := e.RecordSignals(ctx, tx, []store.Signal{s}); err != nil {
				return err
			}
		}
		if err := tx.WakeOne(ctx, t.Enrolment, now); err != nil {
			return err
		}
		return tx.Notify(ctx, event.Desk.About(t.Person), event.Sequence.Of(t.Sequence))
	})
	if err == nil {
		e.Nudge()
	}
	return err
}
