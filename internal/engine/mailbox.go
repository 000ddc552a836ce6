package engine

import (
	"context"
	"time"

	"ombak/internal/core/mailbox"
	"ombak/internal/store"
)

// allot keeps the emails of a claimed batch that may go now; the others wait
// for their sender's account.
func (e *Engine) allot(ctx context.Context, list []store.Outgoing) ([]store.Outgoing, error) {
	var users []int64
	for i := range list {
		if list[i].Sender != nil {
			users = append(users, *list[i].Sender)
		}
	}
	var now []store.Outgoing
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		now = now[:0]
		boxes, err := store.LockMailboxes(ctx, tx, users)
		if err != nil {
			return err
		}
		if len(boxes) == 0 {
			now = append(now, list...)
			return nil
		}
		by := map[int64][]store.Outgoing{}
		for _, o := range list {
			// What somebody waits for goes at once, whatever the account has sent.
			if o.Single || o.Sender == nil || boxes[*o.Sender].User == 0 {
				now = append(now, o)
				continue
			}
			by[*o.Sender] = append(by[*o.Sender], o)
		}
		var later []int64
		var at []time.Time
		for user, emails := range by {
			m := boxes[user]
			when, used := m.Box.V.Allot(m.Used(), len(emails), e.Now(), e.Zone)
			for i, o := range emails {
				if when[i].IsZero() {
					now = append(now, o)
				} else {
					later, at = append(later, o.ID), append(at, when[i])
				}
			}
			if err := store.KeepUsed(ctx, tx, user, used); err != nil {
				return err
			}
		}
		return store.PutOffEmails(ctx, tx, later, at)
	})
	return now, err
}

// SetMailbox keeps what is agreed about the account of a user's emails. Warming
// up begins on the day it is asked for.
func (e *Engine) SetMailbox(ctx context.Context, user int64, b mailbox.Box) error {
	if err := b.Check(); err != nil {
		return err
	}
	if b.Begin > 0 && b.Began.IsZero() {
		b.Began = e.Now()
	}
	if b.Begin == 0 {
		b.Began = time.Time{}
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error { return store.SetMailbox(ctx, tx, user, b) })
}
