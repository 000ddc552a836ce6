package flow

import (
	"context"

	"ombak/internal/core/news"
	"ombak/internal/core/plainly"
	"ombak/internal/core/sequence"
	"ombak/internal/store"
)

// How a comeback ends.
const (
	cameBack    = "came back"
	cannotEnter = "its entry does not allow it"
	notRunning  = "it does not run any more"
	cannotGoOn  = "they are on it again, or it does not run any more"
)

// ComeBack brings back into sequences whoever's time it is, and answers how many it looked at.
// Each is tried once: where it cannot be, that says why.
func (e *Flow) ComeBack(ctx context.Context) (n int, err error) {
	now := e.Now()
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		list, err := tx.DueComebacks(ctx, now, BatchSize)
		n = len(list)
		if err != nil || n == 0 {
			return err
		}
		for _, c := range list {
			outcome, err := e.comeBack(ctx, tx, &c)
			if err != nil {
				return err
			}
			if err := tx.ComebackDone(ctx, c.ID, outcome, now); err != nil {
				return err
			}
			if err := tx.Notify(ctx, news.Sequence.Of(c.Sequence).About(c.Person)); err != nil {
				return err
			}
		}
		return nil
	})
	return n, err
}

func (e *Flow) comeBack(ctx context.Context, tx store.Tx, c *store.Comeback) (string, error) {
	if c.Way != 0 {
		ok, err := tx.GoOn(ctx, c.Way, e.Now())
		if err != nil || !ok {
			return cannotGoOn, err
		}
		return cameBack, nil
	}
	q, err := tx.RunningSequence(ctx, c.Sequence)
	if store.IsNotFound(err) {
		return notRunning, nil
	}
	if err != nil {
		return "", err
	}
	n, err := tx.Enrol(ctx, &q, []int64{c.Person}, e.Now())
	if err != nil || n == 0 {
		return cannotEnter, err
	}
	if c.Step != 0 { // where it is not there any more, they go through from the beginning
		there := ByHand{Do: MoveTo, Sequence: c.Sequence, Step: sequence.StepID(c.Step)}
		_, err := e.CheckHand(ctx, there)
		if _, gone := plainly.Says(err); gone {
			return cameBack, nil
		}
		if err == nil {
			_, err = e.DoByHand(ctx, tx, there, []int64{c.Person})
		}
		return cameBack, err
	}
	return cameBack, nil
}
