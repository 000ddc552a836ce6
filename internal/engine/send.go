package engine

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"ombak/internal/core/signal"
	"ombak/internal/mail"
	"ombak/internal/store"
)

// How an email that the mail server does not take now is tried again: after
// gaps that grow, so many times.
var gaps = []time.Duration{time.Minute, 5 * time.Minute, 15 * time.Minute, time.Hour, 4 * time.Hour, 8 * time.Hour, 16 * time.Hour}

// sendAtOnce is how many emails of a batch are on their way at a time.
const sendAtOnce = 4

// SendBatch claims up to n emails that are ready and sends them. It answers how many it claimed.
//
// Each was claimed, with its Message-ID, before the mail server hears of it,
// and is marked once more when its turn comes, unless its reader has left by
// then. If this process dies between that mark and the note of what became of
// the email, it is held for a person to look at: never sent again by itself.
func (e *Engine) SendBatch(ctx context.Context, n int) (int, error) {
	worker := e.workerID()
	if worker == 0 {
		return 0, errors.New("an engine sends only as a registered worker")
	}
	list, err := e.Store.ClaimEmails(ctx, worker, e.Domain, e.Now(), n)
	if err != nil {
		return 0, err
	}
	if len(list) == 0 {
		return 0, nil
	}
	// What is claimed is finished, even when we are asked to stop.
	ctx = context.WithoutCancel(ctx)
	claimed := len(list)
	var people, messages, senders []int64
	for i := range list {
		people, messages = append(people, list[i].Person), append(messages, list[i].Message)
		if list[i].Sender != nil {
			senders = append(senders, *list[i].Sender)
		}
	}
	l, err := e.gatherLetters(ctx, people, messages, true)
	if err != nil {
		return claimed, err
	}
	if list, err = e.inHours(ctx, l, list); err != nil {
		return claimed, err
	}
	if list, err = e.allot(ctx, list); err != nil {
		return claimed, err
	}
	ways, err := e.mailers(ctx, senders)
	if err != nil {
		return claimed, err
	}
	if err := l.gatherThreads(ctx, list); err != nil {
		return claimed, err
	}
	// Several are written and noted at a time, so that one does not wait for
	// the other's commit; over the wire they go one after the other.
	var next atomic.Int64
	var wg sync.WaitGroup
	var failed atomic.Pointer[error]
	for range min(sendAtOnce, len(list)) {
		wg.Go(func() {
			for i := int(next.Add(1)) - 1; i < len(list); i = int(next.Add(1)) - 1 {
				if err := e.send(ctx, worker, l, ways, &list[i]); err != nil {
					failed.Store(&err)
					return
				}
			}
		})
	}
	wg.Wait()
	// Told once for all of them: a commit that tells waits for every other that
	// does.
	told := map[string]bool{}
	for i := range list {
		told[topicOf(list[i].Sequence, list[i].Mailing)] = true
	}
	if err := e.Store.Tell(ctx, slices.Sorted(maps.Keys(told))...); err != nil {
		return claimed, err
	}
	if err := failed.Load(); err != nil {
		return claimed, *err
	}
	return claimed, nil
}

func (e *Engine) send(ctx context.Context, worker int64, l *letters, ways map[int64]Mailer, o *store.Outgoing) error {
	letter, group, edit, err := l.letter(ctx, o)
	if err != nil {
		return e.endEmail(ctx, o, "stopped", "", err.Error(), time.Time{})
	}
	if ok, err := e.Store.BeginSending(ctx, o.ID, worker, group, edit); err != nil || !ok {
		return err
	}
	way := ways[*o.Sender] // a letter has a sender
	if way == nil {
		way = e.Mail
	}
	fate, err := way.Send(ctx, letter)
	switch fate {
	case mail.Taken:
		return e.endEmail(ctx, o, "sent", letter.Subject, "", time.Time{})
	case mail.Later:
		if o.Tries > len(gaps) {
			return e.endEmail(ctx, o, "stopped", letter.Subject, fmt.Sprintf("not taken in %d tries, the last: %v", o.Tries, err), time.Time{})
		}
		slog.Warn("an email is tried again later", "touch", o.ID, "tries", o.Tries, "error", err)
		return e.endEmail(ctx, o, "ready", letter.Subject, err.Error(), e.Now().Add(gaps[o.Tries-1]))
	case mail.Refused:
		if err := e.endEmail(ctx, o, "stopped", letter.Subject, err.Error(), time.Time{}); err != nil {
			return err
		}
		if !mail.NoSuchReader(err) {
			return nil
		}
		s := store.Signal{Person: o.Person, Touch: o.ID, Detail: "the mail server refused the address",
			Signal: signal.Signal{At: e.Now(), Kind: signal.Bounce, Place: signal.Place{Sequence: o.Sequence, Step: o.Step, Message: o.Message}}}
		return e.Record(ctx, s)
	}
	return e.endEmail(ctx, o, "held", letter.Subject, fmt.Sprintf("perhaps sent: %v", err), time.Time{})
}

// endEmail keeps what became of an email and has its enrolment looked at.
func (e *Engine) endEmail(ctx context.Context, o *store.Outgoing, state, subject, trouble string, ready time.Time) error {
	now := e.Now()
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		ok, err := store.EndTouch(ctx, tx, o.ID, state, subject, trouble, now, ready)
		if err != nil || !ok {
			return err
		}
		if state == "sent" {
			if o.Enrolment != 0 {
				if err := store.WakeOne(ctx, tx, o.Enrolment, now); err != nil {
					return err
				}
			}
			e.Nudge()
		}
		return nil
	})
}

// Resolve is what a person decides about an email that is held or stopped:
// "sent" (it arrived after all), "again" (it did not: send it, under the same
// Message-ID) or "pass" (go on without it).
func (e *Engine) Resolve(ctx context.Context, touch int64, how string) error {
	state := map[string]string{"sent": "sent", "again": "ready", "pass": "passed"}[how]
	if state == "" {
		return fmt.Errorf("an email is sent, sent again or passed over, not %q", how)
	}
	t, err := e.Store.Touch(ctx, touch)
	if err != nil {
		return err
	}
	if t.State != "held" && t.State != "stopped" {
		return store.ErrNotFound
	}
	now := e.Now()
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		ok, err := store.EndTouch(ctx, tx, touch, state, "", "", now, now)
		if err != nil {
			return err
		}
		if !ok {
			return store.ErrNotFound
		}
		if t.Enrolment != 0 {
			if err := store.WakeOne(ctx, tx, t.Enrolment, now); err != nil {
				return err
			}
		}
		return store.Notify(ctx, tx, topicOf(t.Sequence, t.Mailing))
	})
	if err == nil {
		e.Nudge()
	}
	return err
}
