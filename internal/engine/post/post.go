// Package post writes, sends and receives letters: messages and one-off emails, the
// mailboxes they go out by, and what became of each.
package post

import (
	"context"
	"log/slog"
	"slices"
	"sync"
	"time"

	"ombak/internal/engine/base"
	"ombak/internal/engine/flow"
	"ombak/internal/engine/people"
	"ombak/internal/store"
)

// Post sends and receives.
type Post struct {
	*base.Base
	*flow.Flow
	*people.People

	plans    sync.Map // version → *sequence.Plan
	threads  sync.Map // version → which of its emails answer in which threads
	words    sync.Map // message and version → *message.Program
	attached attached
	out      outgoing

	mu       sync.Mutex
	worker   *store.Worker
	accounts map[int64]account // by user
}

// New readies the room.
func New(b *base.Base, f *flow.Flow, p *people.People) *Post {
	return &Post{Base: b, Flow: f, People: p}
}

// outgoing is what an engine has on its way, and what it has to bring in order before
// it sends again, after the database has refused.
type outgoing struct {
	turn sync.Mutex // held while a batch is claimed

	mu       sync.Mutex
	unnoted  []outcome
	troubled map[int64]bool // worker: may still hold claims
	rounds   map[int64]int  // by outbox: on their way
	resting  map[int64]rested
}

// rested is that an outbox's server was not reached, so many times, and until
// when it is left alone.
type rested struct {
	times int
	until time.Time
}

func (p *outgoing) begin(outbox int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.rounds == nil {
		p.rounds = map[int64]int{}
	}
	p.rounds[outbox]++
}

func (p *outgoing) end(outbox int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.rounds[outbox]--; p.rounds[outbox] == 0 {
		delete(p.rounds, outbox)
	}
}

// rest leaves an outbox alone for a while, from an instant.
func (p *outgoing) rest(outbox int64, at time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.resting == nil {
		p.resting = map[int64]rested{}
	}
	r := p.resting[outbox]
	if at.Before(r.until) {
		return // another letter of the same round
	}
	r.until = at.Add(rests[min(r.times, len(rests)-1)])
	r.times++
	p.resting[outbox] = r
}

func (p *outgoing) reached(outbox int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.resting, outbox)
}

// restingNow lists the outboxes that rest, and when the first of them has rested
// enough.
func (p *outgoing) restingNow(now time.Time) (list []int64, until time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for outbox, r := range p.resting {
		if now.Before(r.until) {
			list = append(list, outbox)
			if until.IsZero() || r.until.Before(until) {
				until = r.until
			}
		}
	}
	return list, until
}

// unavailable lists the outboxes that have enough on their way, or rest.
func (p *outgoing) unavailable(now time.Time) []int64 {
	p.mu.Lock()
	defer p.mu.Unlock()
	var out []int64
	for outbox, n := range p.rounds {
		if n >= roundsAtOnce {
			out = append(out, outbox)
		}
	}
	for outbox, r := range p.resting {
		if now.Before(r.until) && !slices.Contains(out, outbox) {
			out = append(out, outbox)
		}
	}
	return out
}

// keep keeps what became of emails until it can be noted.
func (p *outgoing) keep(list []outcome) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.unnoted = append(p.unnoted, list...)
}

// trouble has the claims of a worker given back before the next batch.
func (p *outgoing) trouble(worker int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.troubled == nil {
		p.troubled = map[int64]bool{}
	}
	p.troubled[worker] = true
}

// clear notes what became of emails, then gives back what was only claimed. An
// email of which nobody knows whether it went out is held. false: that has to
// wait until what is on its way has ended, since that is claimed and known.
func (p *outgoing) clear(ctx context.Context, e *Post) (bool, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.unnoted) == 0 && len(p.troubled) == 0 {
		return true, nil
	}
	if len(p.rounds) > 0 {
		return false, nil
	}
	for len(p.unnoted) > 0 {
		x := p.unnoted[0]
		if err := e.noteTogether(ctx, &round{outbox: x.outbox}, []outcome{x}); err != nil {
			return false, err
		}
		p.unnoted = p.unnoted[1:]
	}
	for w := range p.troubled {
		held, err := e.Store.GiveBack(ctx, w, "the database did not answer while it was sent: perhaps sent")
		if err != nil {
			return false, err
		}
		if held > 0 {
			slog.Warn("emails are held: nobody knows whether they were sent", "count", held)
		}
		delete(p.troubled, w)
	}
	return true, nil
}

// marker marks emails as being sent. Those who come while it is at it wait, and
// are marked together.
type marker struct {
	e      *Post
	worker int64

	mu      sync.Mutex
	waiting []*mark
	busy    bool
}

type mark struct {
	store.Begin
	done chan struct{}
	ok   bool
	err  error
}

// mark reports whether an email may go out now.
func (m *marker) mark(ctx context.Context, b store.Begin) (bool, error) {
	one := &mark{Begin: b, done: make(chan struct{})}
	m.mu.Lock()
	m.waiting = append(m.waiting, one)
	if m.busy {
		m.mu.Unlock()
		<-one.done
		return one.ok, one.err
	}
	m.busy = true
	for len(m.waiting) > 0 {
		some := m.waiting
		m.waiting = nil
		m.mu.Unlock()
		list := make([]store.Begin, len(some))
		for i := range some {
			list[i] = some[i].Begin
		}
		begun, err := m.e.Store.BeginSending(ctx, m.worker, list)
		for _, x := range some {
			x.ok, x.err = begun[x.ID], err
			close(x.done)
		}
		m.mu.Lock()
	}
	m.busy = false
	m.mu.Unlock()
	return one.ok, one.err
}
