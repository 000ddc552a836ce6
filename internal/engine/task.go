package engine

import (
	"context"

	"ombak/internal/store"
)

// FinishTask keeps that a task is done, with what came of it.
func (e *Engine) FinishTask(ctx context.Context, id, user int64, notes string) (store.Task, error) {
	var t store.Task
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		err := mayWork(ctx, tx, user, store.TaskWork, id)
		if err != nil {
			return err
		}
		if t, err = store.FinishTask(ctx, tx, id, user, cut(notes, 5000), e.Now()); err != nil {
			return err
		}
		return store.Notify(ctx, tx, "desk", "person")
	})
	if store.IsNotFound(err) {
		err = ErrGone
	}
	return t, err
}

// SeeAlerts keeps that a user has seen alerts.
func (e *Engine) SeeAlerts(ctx context.Context, ids []int64, user int64) (seen []int64, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if seen, err = store.SeeAlerts(ctx, tx, ids, user, e.Now()); err != nil {
			return err
		}
		return store.Notify(ctx, tx, "desk")
	})
	return seen, err
}

// ReopenTask takes back that a user has done tasks or seen alerts.
func (e *Engine) ReopenTask(ctx context.Context, ids []int64, user int64) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := store.ReopenTask(ctx, tx, ids, user); err != nil {
			return err
		}
		return store.Notify(ctx, tx, "desk", "person")
	})
}
