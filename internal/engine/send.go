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
//
// Where the database refuses a moment nothing is lost and nothing goes twice:
// what became of an email is kept in memory until it can be noted, and what was
// only claimed is given back at the next batch.
func (e *Engine) SendBatch(ctx context.Context, n int) (int, error) {
	e.post.Lock()
	defer e.post.Unlock()
	worker, err := e.workerID(ctx)
	if err != nil {
		return 0, err
	}
	if worker == 0 {
		return 0, errors.New("an engine sends only as a registered worker")
	}
	if err := e.post.clear(ctx, e); err != nil {
		return 0, fmt.Errorf("noting what became of earlier emails: %w", err)
	}
	list, err := e.Store.ClaimEmails(ctx, worker, e.Domain, e.Now(), n)
	if err != nil {
		e.post.trouble(worker) // the claim may have been kept all the same
		return 0, err
	}
	if len(list) == 0 {
		return 0, nil
	}
	// What is claimed is finished, even when we are asked to stop.
	claimed := len(list)
	if err := e.sendClaimed(context.WithoutCancel(ctx), worker, list); err != nil {
		e.post.trouble(worker)
		return claimed, err
	}
	return claimed, nil
}

// sendClaimed sends the emails of a claimed batch that may go now.
func (e *Engine) sendClaimed(ctx context.Context, worker int64, list []store.Outgoing) error {
	var people, messages, senders []int64
	for i := range list {
		people, messages = append(people, list[i].Person), append(messages, list[i].Message)
		if list[i].Sender != nil {
			senders = append(senders, *list[i].Sender)
		}
	}
	l, err := e.gatherLetters(ctx, people, messages, true)
	if err != nil {
		return err
	}
	if list, err = e.inHours(ctx, l, list); err != nil {
		return err
	}
	if list, err = e.allot(ctx, list); err != nil {
		return err
	}
	ways, err := e.mailers(ctx, senders)
	if err != nil {
		return err
	}
	if err := l.gatherThreads(ctx, list); err != nil {
		return err
	}
	// Several are written and noted at a time, so that one does not wait for
	// the other's commit; over the wire they go one after the other.
	var next atomic.Int64
	var wg sync.WaitGroup
	var failed atomic.Pointer[error]
	for range min(sendAtOnce, len(list)) {
		wg.Go(func() {
			for i := int(next.Add(1)) - 1; i < len(list) && failed.Load() == nil; i = int(next.Add(1)) - 1 {
				if err := e.send(ctx, worker, l, ways, &list[i]); err != nil {
					failed.Store(&err)
				}
			}
		})
	}
	wg.Wait()
	if err := failed.Load(); err != nil {
		return *err
	}
	// Told once for all of them: a commit that tells waits for every other that
	// does.
	told := map[string]bool{}
	for i := range list {
		told[topicOf(list[i].Sequence, list[i].Mailing)] = true
	}
	return e.Store.Tell(ctx, slices.Sorted(maps.Keys(told))...)
}

func (e *Engine) send(ctx context.Context, worker int64, l *letters, ways map[int64]Mailer, o *store.Outgoing) error {
	letter, group, edit, err := l.letter(ctx, o)
	if wrong, ok := errors.AsType[*unsendable](err); ok {
		return e.endEmail(ctx, outcome{o: *o, state: "stopped", trouble: wrong.Error(), at: e.Now()})
	}
	if err != nil {
		return err
	}
	if ok, err := e.Store.BeginSending(ctx, o.ID, worker, group, edit); err != nil || !ok {
		return err
	}
	way := ways[*o.Sender] // a letter has a sender
	if way == nil {
		way = ways[0]
	}
	if way == nil {
		way = e.Mail
	}
	x := outcome{o: *o, subject: letter.Subject}
	fate, err := way.Send(ctx, letter)
	x.at = e.Now()
	switch fate {
	case mail.Taken:
		x.state = "sent"
	case mail.Later:
		if o.Tries > len(gaps) {
			x.state, x.trouble = "stopped", fmt.Sprintf("not taken in %d tries, the last: %v", o.Tries, err)
			break
		}
		slog.Warn("an email is tried again later", "touch", o.ID, "tries", o.Tries, "error", err)
		x.state, x.trouble, x.ready = "ready", err.Error(), x.at.Add(gaps[o.Tries-1])
	case mail.Refused:
		x.state, x.trouble, x.bounced = "stopped", err.Error(), mail.NoSuchReader(err)
	default:
		x.state, x.trouble = "held", fmt.Sprintf("perhaps sent: %v", err)
	}
	if err := e.endEmail(ctx, x); err != nil {
		e.post.keep(x)
		return err
	}
	return nil
}

// outcome is what became of an email.
type outcome struct {
	o       store.Outgoing
	state   string
	subject string
	trouble string
	ready   time.Time // when it is tried again
	at      time.Time
	bounced bool // the mail server knows no such reader
}

// endEmail keeps what became of an email and has its enrolment looked at.
func (e *Engine) endEmail(ctx context.Context, x outcome) error {
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		ok, err := store.EndTouch(ctx, tx, x.o.ID, x.state, x.subject, x.trouble, x.at, x.ready)
		if err != nil || !ok {
			return err
		}
		if x.bounced {
			s := store.Signal{Person: x.o.Person, Touch: x.o.ID, Detail: "the mail server refused the address",
				Signal: signal.Signal{At: x.at, Kind: signal.Bounce, Place: signal.Place{Sequence: x.o.Sequence, Step: x.o.Step, Message: x.o.Message}}}
			return e.record(ctx, tx, []store.Signal{s})
		}
		if x.state == "sent" && x.o.Enrolment != 0 {
			return store.WakeOne(ctx, tx, x.o.Enrolment, x.at)
		}
		return nil
	})
	if err == nil && (x.state == "sent" || x.bounced) {
		e.Nudge()
	}
	return err
}

// post is what an engine has to bring in order before it sends again, after the
// database has refused. Its lock is held while a batch is sent.
type post struct {
	sync.Mutex
	inner    sync.Mutex
	unnoted  []outcome
	troubled map[int64]bool // worker: may still hold claims
}

// keep keeps what became of an email until it can be noted.
func (p *post) keep(x outcome) {
	p.inner.Lock()
	defer p.inner.Unlock()
	p.unnoted = append(p.unnoted, x)
}

// trouble has the claims of a worker given back before the next batch.
func (p *post) trouble(worker int64) {
	p.inner.Lock()
	defer p.inner.Unlock()
	if p.troubled == nil {
		p.troubled = map[int64]bool{}
	}
	p.troubled[worker] = true
}

// clear notes what became of emails, then gives back what was only claimed. An
// email of which nobody knows whether it went out is held.
func (p *post) clear(ctx context.Context, e *Engine) error {
	p.inner.Lock()
	defer p.inner.Unlock()
	for len(p.unnoted) > 0 {
		if err := e.endEmail(ctx, p.unnoted[0]); err != nil {
			return err
		}
		p.unnoted = p.unnoted[1:]
	}
	for w := range p.troubled {
		held, err := e.Store.GiveBack(ctx, w, "the database did not answer while it was sent: perhaps sent")
		if err != nil {
			return err
		}
		if held > 0 {
			slog.Warn("emails are held: nobody knows whether they were sent", "count", held)
		}
		delete(p.troubled, w)
	}
	return nil
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
