package engine

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"ombak/internal/engine/flow"
	"ombak/internal/engine/post"
)

// idle is how long an engine without work waits before it looks again, where
// nothing nudges it. Other processes' signals are found so.
const idle = 250 * time.Millisecond

// Work does everything that comes due, until ctx ends: walking people on and
// counting scores in one goroutine, sending in another. What has been claimed
// is finished before it returns.
func (e *Engine) Work(ctx context.Context) error {
	if err := patiently(ctx, "registering as a worker", e.Register); err != nil {
		return err
	}
	defer e.Unregister()
	stop := func() {}
	err := patiently(ctx, "readying background jobs", func(ctx context.Context) (err error) {
		stop, err = e.workJobs(ctx)
		return err
	})
	if err != nil {
		return err
	}
	defer stop()
	var wg, rounds sync.WaitGroup
	wg.Add(9)
	sendNow := make(chan struct{}, 1)
	go func() {
		defer wg.Done()
		e.loop(ctx, "deciding", e.Woken(), func(ctx context.Context) (bool, error) {
			some, err := e.walkOn(ctx)
			select {
			case sendNow <- struct{}{}:
			default:
			}
			return some, err
		})
	}()
	go func() {
		defer wg.Done()
		if e.Finder != nil {
			e.loop(ctx, "finding addresses", nil, func(ctx context.Context) (bool, error) {
				n, err := e.FindAddresses(ctx)
				if n == 0 {
					select { // it is somebody else's server
					case <-ctx.Done():
					case <-time.After(networkPause):
					}
				}
				return n > 0, err
			})
		}
	}()
	go func() {
		defer wg.Done()
		e.loop(ctx, "reading calendars", nil, func(ctx context.Context) (bool, error) {
			n, err := e.ReadCalendars(ctx)
			if n == 0 {
				select {
				case <-ctx.Done():
				case <-time.After(calendarPause):
				}
			}
			return n > 0, err
		})
	}()
	go func() {
		defer wg.Done()
		e.loop(ctx, "folding figures", nil, func(ctx context.Context) (bool, error) {
			return false, e.Store.FoldCounts(ctx, linesKept)
		})
	}()
	go func() {
		defer wg.Done()
		if e.Network != nil {
			e.loop(ctx, "meeting the network", nil, func(ctx context.Context) (bool, error) {
				some, err := e.MeetNetwork(ctx)
				if !some {
					select { // it is somebody else's server
					case <-ctx.Done():
					case <-time.After(networkPause):
					}
				}
				return some, err
			})
		}
	}()
	// Apart from walking people on: nobody who is due waits for what is asked about everybody.
	go func() {
		defer wg.Done()
		e.loop(ctx, "entering by rules", nil, func(ctx context.Context) (bool, error) {
			n, err := e.enterInTurn(ctx)
			if n > 0 {
				e.Nudge()
			}
			return n > 0, err
		})
	}()
	go func() {
		defer wg.Done()
		e.loop(ctx, "writing one-off emails", nil, e.FillMailings)
	}()
	go func() {
		defer wg.Done()
		e.loop(ctx, "following audiences", nil, func(ctx context.Context) (bool, error) {
			did, err := e.FollowAudiences(ctx)
			if did > 0 {
				e.Nudge() // who enters by an audience, and who is written to by one
			}
			return did > 0, err
		})
	}()
	go func() {
		defer wg.Done()
		e.loop(ctx, "sending", sendNow, func(ctx context.Context) (bool, error) {
			began := time.Now()
			n, done, err := e.BeginRounds(ctx, sendTurn)
			if took := time.Since(began); n == 0 && took > slowLook {
				// Much waits that cannot go, and was looked through for nothing: that is not done all the time.
				select {
				case <-ctx.Done():
				case <-time.After(min(20*took, 30*time.Second)):
				}
			}
			rounds.Go(func() {
				if err := done(); err != nil {
					slog.Error("sending failed and is tried again", "error", err)
				}
				if n > 0 {
					select {
					case sendNow <- struct{}{}: // its outbox is free again
					default:
					}
				}
			})
			return n > 0, err
		})
	}()
	wg.Wait()
	rounds.Wait()
	return nil
}

// calendarPause is how long it takes until it is looked again which calendars are to be read.
const calendarPause = 20 * time.Second

// networkPause is how long the network is left alone when there is nothing to do.
const networkPause = 3 * time.Second

// linesKept is how many lines the figures of sequences are the sum of before they are folded.
const linesKept = 2000

// slowLook is how long a look for emails takes that finds none, at most, to be
// repeated at once.
const slowLook = 50 * time.Millisecond

// sendTurn is how many emails are claimed at a time.
const sendTurn = 200

// patiently calls f until it works, or ctx ends: the database may be full, or
// only just starting.
func patiently(ctx context.Context, what string, f func(context.Context) error) error {
	for wait := idle; ; wait = min(2*wait, 10*time.Second) {
		err := f(ctx)
		if err == nil || ctx.Err() != nil {
			return err
		}
		slog.Warn("this is tried again", "what", what, "error", err)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(wait):
		}
	}
}

// loop calls f again and again; after a turn without work or with an error it
// waits for a nudge or a while, longer after errors.
func (e *Engine) loop(ctx context.Context, what string, nudge <-chan struct{}, f func(context.Context) (bool, error)) {
	wait := idle
	for ctx.Err() == nil {
		some, err := f(ctx)
		switch {
		case err != nil && ctx.Err() == nil && !errors.Is(err, context.Canceled):
			slog.Error("work failed and is tried again", "what", what, "error", err)
			wait = min(2*wait, 10*time.Second)
		case some:
			wait = idle
			continue
		default:
			wait = idle
		}
		select {
		case <-ctx.Done():
		case <-nudge:
		case <-time.After(wait):
		}
	}
}

// Decide does one turn of everything but sending, and reports whether there
// was something to do.
func (e *Engine) Decide(ctx context.Context) (bool, error) {
	if err := e.refresh(ctx); err != nil {
		return false, err
	}
	entered, err := e.enterInTurn(ctx)
	if err != nil {
		return false, err
	}
	some, err := e.walkOn(ctx)
	if err != nil {
		return some, err
	}
	filled, err := e.FillMailings(ctx)
	if err != nil {
		return some, err
	}
	followed, err := e.FollowAudiences(ctx)
	return some || filled || entered > 0 || followed > 0, err
}

// refresh reads where the clock stands and what holds in the workspace, where another process may have changed it.
func (e *Engine) refresh(ctx context.Context) error {
	if c, ok := e.Clock.(interface{ Refresh(context.Context) error }); ok {
		if err := c.Refresh(ctx); err != nil {
			return err
		}
	}
	return e.RefreshWorkspace(ctx)
}

// walkOn is Decide without what asks about everybody or many: following audiences, entering by rules and writing
// one-off emails down.
func (e *Engine) walkOn(ctx context.Context) (bool, error) {
	if err := e.refresh(ctx); err != nil {
		return false, err
	}
	if held, err := e.Store.HoldOrphans(ctx, post.NobodyKnows); err != nil {
		return false, err
	} else if held > 0 {
		slog.Warn("emails are held: nobody knows whether they were sent", "count", held)
	}
	counted, err := e.CountBatch(ctx, flow.BatchSize)
	if err != nil {
		return false, err
	}
	lifted, err := e.HandDueLifted(ctx, flow.BatchSize)
	if err != nil {
		return false, err
	}
	clocks, err := e.RunClocks(ctx, flow.BatchSize)
	if err != nil {
		return false, err
	}
	recorded, err := e.EnterByRecords(ctx)
	if err != nil {
		return false, err
	}
	back, err := e.ComeBack(ctx)
	if err != nil {
		return false, err
	}
	left, err := e.LeaveForDeals(ctx)
	if err != nil {
		return false, err
	}
	looked, _, err := e.AdvanceBatch(ctx, flow.BatchSize)
	return counted+lifted+clocks+back+left+recorded+looked > 0, err
}

// enterInTurn looks for people whom rules let in, where all were asked about at most every two seconds:
// it asks about everybody.
func (e *Engine) enterInTurn(ctx context.Context) (int64, error) {
	e.turn.Lock()
	began := time.Now()
	due := !began.Before(e.enter)
	if due {
		e.enter = began.Add(enterEvery)
	}
	e.turn.Unlock()
	if !due {
		return 0, nil
	}
	n, full, err := e.EnterByRules(ctx)
	e.turn.Lock()
	defer e.turn.Unlock()
	if e.enter = time.Now().Add(max(enterEvery, enterShare*time.Since(began))); full {
		e.enter = time.Time{} // the next of them enter as soon as others had their turn
	}
	return n, err
}

// How often it is looked whom rules let in; and not so often that it takes more than a fourth of the time.
const (
	enterEvery = 2 * time.Second
	enterShare = 3
)

// Settle does all that is due now, and returns when nothing is left. It is for
// a clock that is moved by hand; the engine must be registered as a worker.
func (e *Engine) Settle(ctx context.Context) error {
	for ctx.Err() == nil {
		_, full, err := e.EnterByRules(ctx)
		if err != nil {
			return err
		}
		some, err := e.Decide(ctx)
		if err != nil {
			return err
		}
		sent, err := e.SendBatch(ctx, 50)
		if err != nil {
			return err
		}
		met, err := e.MeetNetwork(ctx)
		if err != nil {
			return err
		}
		found, err := e.FindAddresses(ctx)
		if err != nil {
			return err
		}
		if full || some || met || sent > 0 || found > 0 {
			continue
		}
		next, err := e.NextLook(ctx)
		if err != nil {
			return err
		}
		busy, err := e.Store.Sending(ctx)
		if err != nil {
			return err
		}
		if !busy && (next.IsZero() || next.After(e.Now())) {
			return nil
		}
		time.Sleep(5 * time.Millisecond) // another worker is at it
	}
	return ctx.Err()
}
