package sales

import (
	"context"
	"slices"

	"ombak/internal/core/desk"
	"ombak/internal/core/news"
	"ombak/internal/core/plainly"
	"ombak/internal/engine/base"
	"ombak/internal/store"
)

// FinishTask keeps that a task is done, with what came of it.
func (e *Sales) FinishTask(ctx context.Context, id, user int64, notes string) (store.Task, error) {
	var t store.Task
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		err := e.mayWork(ctx, tx, user, store.TaskWork, id)
		if err != nil {
			return err
		}
		if t, err = tx.FinishTask(ctx, id, user, base.Cut(notes, 5000), e.Now()); err != nil {
			return err
		}
		if err := tx.ForgetItem(ctx, store.TaskWork, id); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Desk.About(t.Person))
	})
	if store.IsNotFound(err) {
		err = base.ErrGone
	}
	return t, err
}

// SeeAlerts keeps that a user has seen alerts.
func (e *Sales) SeeAlerts(ctx context.Context, ids []int64, user int64) (seen []int64, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if seen, err = tx.SeeAlerts(ctx, ids, user, e.Now()); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Desk)
	})
	return seen, err
}

// ReopenTask takes back that a user has done tasks or seen alerts.
func (e *Sales) ReopenTask(ctx context.Context, ids []int64, user int64) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := tx.ReopenTask(ctx, ids, user); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Desk.AboutSomebody())
	})
}

// AlertTimes are the ways in which users can take alerts.
func AlertTimes() (out []string) {
	for _, b := range desk.Bundlings() {
		out = append(out, string(b))
	}
	return out
}

// SetAlertsTo keeps how a user takes alerts from now on.
func (e *Sales) SetAlertsTo(ctx context.Context, user int64, how string) error {
	if !slices.Contains(AlertTimes(), how) {
		return plainly.New("alerts come at once, hourly or at nine")
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.SetAlertsTo(ctx, user, how) })
}
