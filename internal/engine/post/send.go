package post

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

	"ombak/internal/core/mailbox"
	"ombak/internal/core/news"
	"ombak/internal/core/plainly"
	"ombak/internal/core/touch"
	"ombak/internal/engine/base"
	"ombak/internal/mail"
	"ombak/internal/store"
)

// How an email that the mail server does not take now is tried again: after
// gaps that grow, so many times.
var gaps = []time.Duration{time.Minute, 5 * time.Minute, 15 * time.Minute, time.Hour, 4 * time.Hour, 8 * time.Hour,
	16 * time.Hour}

const (
	// OutboxConns is over how many connections the letters of one account go, and
	// outboxHands how many of them are written, signed and marked beside that.
	OutboxConns = 4
	outboxHands = 24

	// roundsAtOnce is how many claimed batches of one account are on their way: one
	// goes out while the next is made ready. A slow account holds up nobody else.
	roundsAtOnce = 3

	// roundFor is how long a claimed email waits for its turn; then it is given back,
	// so that its reader, its hours and its account are asked again.
	roundFor = time.Minute

	// noteAfter is how long a fate waits for others that are noted with it.
	noteAfter = 8 * time.Millisecond

	// notedAtOnce is how many fates are noted together.
	notedAtOnce = 128
)

// rests are how long an account whose server is not reached is left alone: longer
// each time.
var rests = []time.Duration{15 * time.Second, 30 * time.Second, time.Minute, 2 * time.Minute, 5 * time.Minute}

// round is a claimed batch of one outbox: an account by which letters go out, by
// its user, or 0 for everybody's who has none of their own.
type round struct {
	outbox int64
	by     base.Mailer
	worker int64
	l      *letters
	list   []store.Outgoing
	began  time.Time // in the machine's time

	unreached atomic.Bool // its server is: the rest is given back
	taken     int         // letters whose fate is noted, and how the outbox fares by them is not yet
	failed    atomic.Pointer[error]
}

// SendBatch claims up to n emails that are ready, sends them, and answers how
// many it claimed once all that was begun is done.
//
// Each was claimed, with its Message-ID, before the mail server hears of it,
// and is marked once more when its turn comes, unless its reader has left by
// then. If this process dies between that mark and the note of what became of
// the email, it is held for a person to look at: never sent again by itself.
//
// Where the database refuses a moment nothing is lost and nothing goes twice:
// what became of an email is kept in memory until it can be noted, and what was
// only claimed is given back at the next batch.
func (e *Post) SendBatch(ctx context.Context, n int) (int, error) {
	claimed, done, err := e.BeginRounds(ctx, n)
	if err != nil {
		return claimed, err
	}
	return claimed, done()
}

// BeginRounds claims up to n emails and has each outbox send its own, beside the
// others. done waits for those rounds and answers what went wrong with them.
func (e *Post) BeginRounds(ctx context.Context, n int) (claimed int, done func() error, err error) {
	e.out.turn.Lock()
	defer e.out.turn.Unlock()
	done = func() error { return nil }
	worker, err := e.WorkerID(ctx)
	if err != nil {
		return 0, done, err
	}
	if worker == 0 {
		return 0, done, plainly.New("an engine sends only as a registered worker")
	}
	if clear, err := e.out.clear(ctx, e); err != nil {
		return 0, done, fmt.Errorf("noting what became of earlier emails: %w", err)
	} else if !clear {
		return 0, done, nil // what is on its way is finished first
	}
	list, err := e.Store.ClaimEmails(ctx, worker, e.Domain, e.Now(), n, e.out.unavailable(e.Now()))
	if err != nil {
		e.out.trouble(worker) // the claim may have been kept all the same
		return 0, done, err
	}
	if len(list) == 0 {
		return 0, done, nil
	}
	// What is claimed is finished or given back, even when we are asked to stop.
	rounds, err := e.rounds(context.WithoutCancel(ctx), worker, list)
	if err != nil {
		e.out.trouble(worker)
		return len(list), done, err
	}
	var wg sync.WaitGroup
	for _, r := range rounds {
		e.out.begin(r.outbox)
		wg.Go(func() {
			defer e.out.end(r.outbox)
			if err := e.sendRound(ctx, r); err != nil {
				e.out.trouble(worker)
				r.failed.Store(&err)
			}
		})
	}
	return len(list), func() error {
		wg.Wait()
		for _, r := range rounds {
			if err := r.failed.Load(); err != nil {
				return *err
			}
		}
		return nil
	}, nil
}

// rounds parts the emails of a claimed batch that may go now by their outboxes.
func (e *Post) rounds(ctx context.Context, worker int64, list []store.Outgoing) ([]*round, error) {
	var people, messages, senders []int64
	for i := range list {
		people, messages = append(people, list[i].Person), append(messages, list[i].Message)
		if list[i].Sender != nil {
			senders = append(senders, *list[i].Sender)
		}
	}
	l, err := e.gatherLetters(ctx, people, messages, e.needsOf(ctx, list))
	if err != nil {
		return nil, err
	}
	if list, err = e.inHours(ctx, l, list); err != nil {
		return nil, err
	}
	if list, err = e.allot(ctx, list); err != nil {
		return nil, err
	}
	ways, err := e.mailers(ctx, senders)
	if err != nil {
		return nil, err
	}
	if err := l.gatherThreads(ctx, list); err != nil {
		return nil, err
	}
	var out []*round
	by := map[int64]*round{}
	for _, o := range list {
		outbox := int64(0)
		if o.Sender != nil && ways[*o.Sender] != nil {
			outbox = *o.Sender
		}
		r := by[outbox]
		if r == nil {
			way := ways[outbox]
			if way == nil {
				way = e.Mail
			}
			r = &round{outbox: outbox, by: way, worker: worker, l: l, began: time.Now()}
			by[outbox], out = r, append(out, r)
		}
		r.list = append(r.list, o)
	}
	return out, nil
}

// sendRound sends the emails of a round, several at a time: they are written,
// signed and marked beside those that are on the wire, and what became of them
// is noted in the order in which it is known, many in one transaction.
func (e *Post) sendRound(ctx context.Context, r *round) error {
	stop := ctx.Err // asked to stop, it begins no more
	ctx = context.WithoutCancel(ctx)
	fates := make(chan outcome, notedAtOnce)
	noted := make(chan struct{})
	go func() {
		defer close(noted)
		for x := range fates {
			some := []outcome{x}
			time.Sleep(noteAfter)
			for more := true; more && len(some) < notedAtOnce; {
				select {
				case x, ok := <-fates:
					if more = ok; ok {
						some = append(some, x)
					}
				default:
					more = false
				}
			}
			if err := e.note(ctx, r, some); err != nil {
				e.out.keep(some)
				r.failed.Store(&err)
			}
		}
	}()
	marks := marker{e: e, worker: r.worker}
	var next atomic.Int64
	var wg sync.WaitGroup
	var back sync.Map // touch → true: it was not tried
	for range min(outboxHands, len(r.list)) {
		wg.Go(func() {
			for i := int(next.Add(1)) - 1; i < len(r.list); i = int(next.Add(1)) - 1 {
				if stop() != nil || r.unreached.Load() || r.failed.Load() != nil || time.Since(r.began) > roundFor {
					back.Store(r.list[i].ID, true)
					continue
				}
				x, ok, err := e.send(ctx, r, &marks, &r.list[i])
				if x.unreached {
					back.Store(r.list[i].ID, false)
				}
				if err != nil {
					r.failed.Store(&err)
				} else if ok {
					fates <- x
				}
			}
		})
	}
	wg.Wait()
	close(fates)
	<-noted
	if err := r.failed.Load(); err != nil {
		return *err // what was only claimed is given back with all of this worker's
	}
	if err := e.giveBack(ctx, r.list, &back); err != nil {
		return err
	}
	// Each round once, and not each batch: two rounds would wait for each other's commits.
	if r.taken > 0 {
		err := e.Store.InTx(ctx, func(tx store.Tx) error {
			_, err := e.fare(ctx, tx, r, nil)
			return err
		})
		if err != nil {
			return err
		}
	}
	// Told once for all of them: a commit that tells waits for every other that
	// does.
	told := make([]news.Item, len(r.list))
	for i, o := range r.list {
		told[i] = base.Sending(o.Sequence, o.Mailing).About(o.Person)
	}
	return e.Store.Tell(ctx, told...)
}

// giveBack gives back the emails of a round that were not tried, and what they
// and those whose server was not reached were counted for in their accounts.
func (e *Post) giveBack(ctx context.Context, list []store.Outgoing, back *sync.Map) error {
	var ids []int64
	var at []time.Time
	uncount := map[int64]int{}
	for _, o := range list {
		untried, ok := back.Load(o.ID)
		if !ok {
			continue
		}
		if untried.(bool) {
			ids, at = append(ids, o.ID), append(at, e.Now())
		}
		if o.Sender != nil && !o.Single {
			uncount[*o.Sender]++
		}
	}
	if len(ids) == 0 && len(uncount) == 0 {
		return nil
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		day := e.Now().In(e.Zone()).Format(time.DateOnly)
		for _, user := range slices.Sorted(maps.Keys(uncount)) {
			if err := tx.GiveUsed(ctx, user, uncount[user], day); err != nil {
				return err
			}
		}
		return tx.PutOffEmails(ctx, ids, at)
	})
}

// send sends one email and answers what became of it; false: nothing, because it
// may not go out any more.
func (e *Post) send(ctx context.Context, r *round, marks *marker, o *store.Outgoing) (x outcome, ok bool, err error) {
	letter, group, edit, err := r.l.letter(ctx, o)
	if wrong, ok := errors.AsType[*unsendable](err); ok {
		return outcome{o: *o, outbox: r.outbox, state: touch.Stopped, trouble: base.Told(wrong.error), at: e.Now()},
			true, nil
	}
	if err != nil {
		return x, false, err
	}
	if ok, err := marks.mark(ctx, store.Begin{ID: o.ID, Group: group, Edit: edit}); err != nil || !ok {
		return x, false, err
	}
	fate, err := r.by.Send(ctx, letter)
	x = outcome{o: *o, outbox: r.outbox, subject: letter.Subject, at: e.Now()}
	if x.unreached = mail.Unreached(err); x.unreached {
		r.unreached.Store(true)
		e.out.rest(r.outbox, x.at)
	} else {
		e.out.reached(r.outbox)
	}
	switch fate {
	case mail.Taken:
		x.state = touch.Sent
	case mail.Refused:
		x.fault = mail.FaultOf(err)
		x.refused, x.bounced = true, x.fault == mailbox.Reader
		x.state, x.trouble = touch.Stopped, base.Told(err)
		if x.fault == mailbox.Ours {
			x = x.later(err) // it is not the letter's fault: it waits until ours is mended
		}
	case mail.Later:
		x = x.later(err)
	default:
		x.state, x.trouble = touch.Held, "perhaps sent: "+base.Told(err)
	}
	return x, true, nil
}

// later has an email tried again, unless that has been done often enough.
func (x outcome) later(why error) outcome {
	if x.o.Tries > len(gaps) {
		x.state, x.trouble = touch.Stopped,
			fmt.Sprintf("not taken in %d tries, the last: %s", x.o.Tries, base.Told(why))
		return x
	}
	slog.Warn("an email is tried again later", "touch", x.o.ID, "tries", x.o.Tries, "reason", why, "error",
		errors.Unwrap(why))
	x.state, x.trouble, x.ready = touch.Ready, base.Told(why), x.at.Add(gaps[x.o.Tries-1])
	return x
}

// outcome is what became of an email.
type outcome struct {
	o         store.Outgoing
	outbox    int64
	state     touch.State
	subject   string
	trouble   string
	ready     time.Time // when it is tried again
	at        time.Time
	unreached bool          // it was not even tried
	refused   bool          // for good
	fault     mailbox.Fault // by whose
	bounced   bool          // the mail server knows no such reader
}

// Resolve is what a person decides about an email that is held or stopped:
// "sent" (it arrived after all), "again" (it did not: send it, under the same
// Message-ID) or "pass" (go on without it).
func (e *Post) Resolve(ctx context.Context, id int64, how string) error {
	state := map[string]touch.State{"sent": touch.Sent, "again": touch.Ready, "pass": touch.Passed}[how]
	if state == "" {
		return plainly.Errorf("an email is sent, sent again or passed over, not %q", how)
	}
	t, err := e.Store.Touch(ctx, id)
	if err != nil {
		return err
	}
	now := e.Now()
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		ok, err := tx.ResolveTouch(ctx, id, state, now)
		if err != nil {
			return err
		}
		if !ok {
			return store.ErrNotFound
		}
		if t.Enrolment != 0 {
			if err := tx.WakeOne(ctx, t.Enrolment, now); err != nil {
				return err
			}
		}
		return tx.Notify(ctx, base.Sending(t.Sequence, t.Mailing).About(t.Person))
	})
	if err == nil {
		e.Nudge()
	}
	return err
}
