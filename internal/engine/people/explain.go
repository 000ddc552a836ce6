package people

import (
	"context"
	"time"

	"ombak/internal/core/rule"
	"ombak/internal/core/score"
	"ombak/internal/core/signal"
	"ombak/internal/engine/base"
	"ombak/internal/engine/flow"
	"ombak/internal/store"
)

// Explained is somebody's score at an instant, with all that makes it.
type Explained struct {
	Model score.Model
	At    time.Time
	Sum   float64 // the true sum
	Shown float64 // held between floor and ceiling
	Lines []LedgerLine
	Falls time.Time // when they fall below the ready line unless they do something; zero: they do not
	Next  score.Tide
	Tides []score.Tide // from 90 days before until 30 days after
	Rank  int64        // how many have more, and one; 0: not now, or too many to say
	Of    int64        // how many have points
}

// LedgerLine is an entry of the ledger in words.
type LedgerLine struct {
	score.Entry
	For   string
	Worth float64 // at the instant
}

// far is how far ahead it is said what comes by itself, and deep how many are counted for a rank.
const (
	far  = 400 * 24 * time.Hour
	deep = 10_000
)

// Explain is how somebody's score at an instant came about, by a model (0: by the first) as it counts now and the
// record as it is now.
// The zero Explained: there is no model.
func (e *People) Explain(ctx context.Context, person, model int64, at time.Time) (x Explained, err error) {
	m, err := e.Store.ModelOf(ctx, model)
	if err != nil {
		return x, flow.Gone(err)
	}
	m.Zone = e.Zone()
	cat, err := e.Store.Catalogue(ctx)
	if err != nil {
		return x, err
	}
	facts, did, err := personFacts(ctx, e.Store.Queries, &m, person)
	if err != nil {
		return x, err
	}
	ledger := m.Ledger(make([]score.Entry, 0, len(did)), did, facts, at)
	x = Explained{Model: m.Model, At: at, Sum: score.Sum(ledger, at), Falls: m.Falls(ledger, at, at.Add(far)),
		Tides: m.Tides(ledger, at.AddDate(0, 0, -90), at.AddDate(0, 0, 30))}
	x.Shown, x.Next = m.Shown(x.Sum), m.Turns(ledger, at, at.Add(far))
	words := make([]string, len(m.Rules)) // of each rule once, and not of each of thousands of lines
	for i := range m.Rules {
		words[i] = m.Rules[i].For(cat)
	}
	x.Lines = make([]LedgerLine, 0, len(ledger))
	for i := len(ledger) - 1; i >= 0; i-- {
		l := ledger[i]
		x.Lines = append(x.Lines, LedgerLine{l, words[l.Rule], l.Worth(at)})
	}
	if now := e.Now(); !at.Before(now.Add(-time.Minute)) && !at.After(now) && x.Shown > 0 {
		if x.Rank, err = e.Store.Rank(ctx, m.ID, x.Shown, deep); err != nil {
			return x, err
		}
		if x.Of, err = e.HowManyScored(ctx, m.ID); err != nil {
			return x, err
		}
		x.Of = max(x.Of, x.Rank)
	}
	return x, nil
}

// HowManyScored is how many people have a score by a model.
func (e *People) HowManyScored(ctx context.Context, model int64) (int64, error) {
	return base.Lately(ctx, e.Base, &e.scored, model, func(ctx context.Context) (int64, error) {
		return e.Store.Scored(ctx, model)
	})
}

// personFacts reads what a model asks of one person.
func personFacts(
	ctx context.Context, q store.Queries, m *store.Model, person int64,
) (of *flow.PersonOf, did []signal.Signal, err error) {
	signals, err := q.SignalsSince(ctx, []store.Since{{Person: person}})
	if err != nil {
		return nil, nil, err
	}
	var records map[int64]*rule.Record
	if m.AsksRecord() {
		if records, err = q.Records(ctx, []int64{person}); err != nil {
			return nil, nil, err
		}
	}
	did = signals[person]
	return flow.NewPersonOf(records[person], did), did, nil
}
