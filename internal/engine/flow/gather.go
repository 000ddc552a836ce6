package flow

import (
	"context"
	"fmt"
	"sync"
	"time"

	"ombak/internal/store"
)

// gatherer has signals that come at the same time share a transaction: whoever comes while one is being kept waits for
// it to end and is kept with all who wait then. Nobody waits for company. The zero gatherer keeps nothing yet.
type gatherer struct {
	mu      sync.Mutex
	waiting []*brought
	busy    bool
}

// brought is a signal that waits to be kept.
type brought struct {
	signal store.Signal
	done   chan error // has room for the one answer
}

// answer answers whoever waits, once.
func (b *brought) answer(err error) {
	select {
	case b.done <- err:
	default:
	}
}

const (
	mostTogether = 100              // signals in one transaction
	keepWithin   = 30 * time.Second // bounds it
)

// RecordOne is Record of one signal, such as many readers' browsers tell at the same time: it is durable when it
// returns, and shares a transaction with others. Of several, one that cannot be kept fails alone.
func (e *Flow) RecordOne(ctx context.Context, s store.Signal) error {
	b := &brought{s, make(chan error, 1)}
	g := &e.coming
	g.mu.Lock()
	g.waiting = append(g.waiting, b)
	first := !g.busy
	g.busy = true
	g.mu.Unlock()
	if first {
		go e.keepBrought(context.WithoutCancel(ctx))
	}
	select {
	case err := <-b.done:
		return err
	case <-ctx.Done(): // it may be kept all the same
		return ctx.Err()
	}
}

// keepBrought keeps what waits, until nothing does.
func (e *Flow) keepBrought(ctx context.Context) {
	g := &e.coming
	for {
		g.mu.Lock()
		list := g.waiting[:min(mostTogether, len(g.waiting))]
		if g.waiting = g.waiting[len(list):]; len(list) == 0 {
			g.busy, g.waiting = false, nil
		}
		g.mu.Unlock()
		if len(list) == 0 {
			return
		}
		e.keepTogether(ctx, list)
	}
}

func (e *Flow) keepTogether(ctx context.Context, list []*brought) {
	ctx, cancel := context.WithTimeout(ctx, keepWithin)
	defer cancel()
	defer func() { // nobody stands above this, and who waits is answered
		if p := recover(); p != nil {
			for _, b := range list {
				b.answer(fmt.Errorf("keeping a signal: %v", p))
			}
		}
	}()
	signals := make([]store.Signal, len(list))
	for i, b := range list {
		signals[i] = b.signal
	}
	err := e.Record(ctx, signals...)
	if err != nil && len(list) > 1 && ctx.Err() == nil {
		for i, b := range list {
			b.answer(e.Record(ctx, signals[i]))
		}
		return
	}
	for _, b := range list {
		b.answer(err)
	}
}
