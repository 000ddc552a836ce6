package post

import (
	"context"
	"log/slog"
	"slices"
	"time"

	"ombak/internal/core/mailbox"
	"ombak/internal/core/news"
	"ombak/internal/core/signal"
	"ombak/internal/core/touch"
	"ombak/internal/store"
)

// note keeps what became of some emails of one outbox, and how that fares. Where it
// cannot be kept of all together, it is of each by itself.
func (e *Post) note(ctx context.Context, r *round, list []outcome) error {
	err := e.noteTogether(ctx, r, list)
	if err == nil || len(list) == 1 {
		return err
	}
	for i := range list {
		if err := e.noteTogether(ctx, r, list[i:i+1]); err != nil {
			e.out.keep(list[i+1:])
			return err
		}
	}
	return nil
}

func (e *Post) noteTogether(ctx context.Context, r *round, list []outcome) error {
	stopped, woken := false, false
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		ends := make([]store.End, len(list))
		for i, x := range list {
			ends[i] = store.End{ID: x.o.ID, Enrolment: x.o.Enrolment, State: x.state, Subject: x.subject,
				Trouble: x.trouble, At: x.at, Ready: x.ready}
			if ends[i].Ready.IsZero() {
				ends[i].Ready = x.at
			}
		}
		moved, err := tx.EndTouches(ctx, ends)
		if err != nil {
			return err
		}
		var bounces []store.Signal
		for _, x := range list {
			if x.bounced && moved[x.o.ID] {
				bounces = append(bounces,
					store.Signal{Person: x.o.Person, Touch: x.o.ID, Detail: "the mail server refused the address",
						Signal: signal.Signal{At: x.at, Kind: signal.Bounce,
							Place: signal.Place{Sequence: x.o.Sequence, Step: x.o.Step, Message: x.o.Message}}})
			}
			woken = woken || x.bounced || x.state == touch.Sent
		}
		if len(bounces) > 0 {
			if err := e.RecordSignals(ctx, tx, bounces); err != nil {
				return err
			}
		}
		if slices.ContainsFunc(list, func(x outcome) bool { return x.refused }) {
			stopped, err = e.fare(ctx, tx, r, list)
		}
		return err
	})
	if err == nil {
		for _, x := range list {
			if x.state == touch.Sent {
				r.taken++
			}
		}
		if slices.ContainsFunc(list, func(x outcome) bool { return x.refused }) {
			r.taken = 0 // they were counted with it
		}
	}
	if err == nil && woken {
		e.Nudge()
	}
	if err == nil && stopped {
		slog.Warn("an outbox is stopped: its letters are refused", "user", r.outbox)
	}
	return err
}

// fare keeps how an outbox fares, and stops it where too much is refused. What
// was taken before in the round counts first.
func (e *Post) fare(ctx context.Context, tx store.Tx, r *round, list []outcome) (stopped bool, err error) {
	b, err := tx.LockOutbox(ctx, r.outbox)
	if err != nil {
		return false, err
	}
	day := func(at time.Time) string { return at.In(e.Zone()).Format(time.DateOnly) }
	for range r.taken {
		b.Fared.V = b.Fared.V.Took(day(e.Now()))
	}
	for _, x := range list {
		switch {
		case x.state == touch.Sent:
			b.Fared.V = b.Fared.V.Took(day(x.at))
		case x.refused:
			var stop bool
			if b.Fared.V, stop = b.Fared.V.Refuses(day(x.at), x.fault); stop && b.Stopped == nil {
				stopped, b.Stopped, b.Why = true, &x.at, x.trouble
			}
		}
	}
	if err := tx.KeepOutbox(ctx, b); err != nil || !stopped {
		return false, err
	}
	return true, tx.Notify(ctx, news.Mailbox)
}

// OpenOutbox lets letters go out again by an outbox that was stopped.
func (e *Post) OpenOutbox(ctx context.Context, user int64) error {
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		b, err := tx.LockOutbox(ctx, user)
		if err != nil {
			return err
		}
		b.Stopped, b.Why, b.Fared.V = nil, "", mailbox.Record{}
		if err := tx.KeepOutbox(ctx, b); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Mailbox)
	})
	if err == nil {
		e.Nudge()
	}
	return err
}
