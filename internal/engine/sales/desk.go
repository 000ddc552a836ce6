package sales

import (
	"context"
	"slices"

	"ombak/internal/core/news"
	"ombak/internal/core/plainly"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/engine/base"
	"ombak/internal/store"
)

// FinishWork records what became of a call, a social touch or a task of a step, and the
// sequence goes on.
func (e *Sales) FinishWork(ctx context.Context, touch, user int64, outcome sequence.Outcome, notes string) error {
	now := e.Now()
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := e.mayWork(ctx, tx, user, store.CallWork, touch); err != nil {
			return err
		}
		if again, err := e.tried(ctx, tx, touch, user, outcome, base.Cut(notes, 1000)); err != nil || again {
			if err == nil {
				err = tx.Notify(ctx, news.Desk)
			}
			return err
		}
		t, err := tx.FinishWork(ctx, touch, user, string(outcome), base.Cut(notes, 5000), now)
		if store.IsNotFound(err) {
			return base.ErrGone
		}
		if err != nil {
			return err
		}
		if err := tx.ForgetItem(ctx, store.CallWork, touch); err != nil {
			return err
		}
		step, err := e.workOf(ctx, tx.Queries, &t)
		if err != nil {
			return err
		}
		if !slices.Contains(step.Outcomes(), outcome) {
			return plainly.Errorf("%q is no outcome of a %s", outcome, step.Kind().Word)
		}
		if outcome == sequence.DoNotCall && step.Kind().Word == "call" {
			if err := tx.SetNoCalls(ctx, t.Person, &now); err != nil {
				return err
			}
			if err := tx.Notify(ctx, news.Person.About(t.Person)); err != nil {
				return err
			}
		}
		if kind := step.Told(outcome); kind != 0 {
			s := store.Signal{Person: t.Person, Touch: t.ID, Detail: string(outcome),
				Signal: signal.Signal{At: now, Kind: kind, Place: signal.Place{Sequence: t.Sequence, Step: t.Step}}}
			if err := e.RecordSignals(ctx, tx, []store.Signal{s}); err != nil {
				return err
			}
		}
		if err := tx.WakeOne(ctx, t.Enrolment, now); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Desk.About(t.Person), news.Sequence.Of(t.Sequence))
	})
	if err == nil {
		e.talked(ctx, touch, user)
		e.Nudge()
	}
	return err
}

// WorkOf is the step that asked for the work of a touch, as it was when it did.
func (e *Sales) WorkOf(ctx context.Context, t *store.Touch) (sequence.Work, error) {
	return e.workOf(ctx, e.Store.Queries, t)
}

func (e *Sales) workOf(ctx context.Context, db store.Queries, t *store.Touch) (sequence.Work, error) {
	p, err := e.PlanOf(ctx, db, t.Version)
	if err != nil {
		return nil, err
	}
	if step, ok := p.Step(sequence.StepID(t.Step)).(sequence.Work); ok {
		return step, nil
	}
	// A plan from before its steps had the kinds they have: it was a call.
	return &sequence.Call{}, nil
}
