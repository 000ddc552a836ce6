package people

import (
	"context"
	"math"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/news"
	"ombak/internal/core/rule"
	"ombak/internal/core/score"
	"ombak/internal/core/signal"
	"ombak/internal/engine/flow"
	"ombak/internal/store"
)

func personFacts(
	ctx context.Context, tx store.Tx, m *store.Model, person int64,
) (of *flow.PersonOf, did []signal.Signal, err error) {
	signals, err := tx.SignalsSince(ctx, []store.Since{{Person: person}})
	if err != nil {
		return nil, nil, err
	}
	var records map[int64]*rule.Record
	if flow.AsksRecord(&m.Model) {
		if records, err = tx.Records(ctx, []int64{person}); err != nil {
			return nil, nil, err
		}
	}
	did = signals[person]
	return flow.NewPersonOf(records[person], did), did, nil
}

// CountBatch counts up to n scores that have changed by now, because a signal
// came or points ran out, and makes a handoff for each crossing of the ready
// line. It answers how many it counted.
func (e *People) CountBatch(ctx context.Context, n int) (int, error) {
	counted := 0
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		now := e.Now()
		m, err := e.ScoreModel(ctx, tx)
		if err != nil {
			return flow.Gone(err)
		}
		list, err := tx.ClaimStandings(ctx, m.ID, now, n)
		if err != nil || len(list) == 0 {
			return err
		}
		counted = len(list)
		_, err = e.count(ctx, tx, &m, list, now)
		return err
	})
	return counted, err
}

// runRecount counts every score anew, in the order of the people.
func (e *People) runRecount(ctx context.Context, b *store.Batch) error {
	for {
		if err := e.progress(ctx, b); err != nil {
			return err
		}
		next := *b
		n := 0
		err := e.Store.InTx(ctx, func(tx store.Tx) error {
			next = *b
			m, err := e.ScoreModel(ctx, tx)
			if err != nil {
				return flow.Gone(err)
			}
			list, err := tx.NextStandings(ctx, m.ID, b.Detail.V.Upto, recountChunk)
			if err != nil || len(list) == 0 {
				return err
			}
			n = len(list)
			next.Detail.V.Upto, next.Done = list[n-1].Person, b.Done+int64(n)
			changed, err := e.count(ctx, tx, &m, list, e.Now())
			if err != nil {
				return err
			}
			next.Detail.V.Changed += changed
			return tx.SetBatch(ctx, &next)
		})
		if err != nil || n == 0 {
			return err
		}
		*b = next
	}
}

// recountChunk is how many scores one transaction of a recount counts.
const recountChunk = 2000

// count counts claimed scores and does what follows from them. It answers how many
// are not what they were.
func (e *People) count(
	ctx context.Context, tx store.Tx, m *store.Model, list []store.Standing, now time.Time,
) (changed int64, err error) {
	var who []store.Since
	var ids []int64
	for _, s := range list {
		who = append(who, store.Since{Person: s.Person})
		ids = append(ids, s.Person)
	}
	signals, err := tx.SignalsSince(ctx, who)
	if err != nil {
		return 0, err
	}
	var records map[int64]*rule.Record
	if flow.AsksRecord(&m.Model) {
		if records, err = tx.Records(ctx, ids); err != nil {
			return 0, err
		}
	}
	reach, err := tx.Reachable(ctx, ids)
	if err != nil {
		return 0, err
	}
	var ledger []score.Entry
	var deeds []flow.Deed
	var moved []int64
	for i := range list {
		s := &list[i]
		was, did := s.Score, signals[s.Person]
		ledger = m.Ledger(ledger[:0], did, flow.NewPersonOf(records[s.Person], did), now)
		if at, crossed := counted(m, s, ledger, reach[s.Person], now); crossed {
			deeds = append(deeds, flow.Deed{Act: act.HandOver{},
				Occasion: flow.Occasion{Person: s.Person, At: at, By: "crossing"}})
		}
		if s.Score != was {
			moved = append(moved, s.Person)
		}
	}
	if err := tx.KeepStandings(ctx, m.ID, list); err != nil {
		return 0, err
	}
	if err := e.Do(ctx, tx, deeds); err != nil {
		return 0, err
	}
	return int64(len(moved)), tx.Notify(ctx, news.Score.About(moved...))
}

// counted counts one score from its ledger and answers when it last crossed the line,
// if it did.
func counted(
	m *store.Model, s *store.Standing, ledger []score.Entry, ready bool, now time.Time,
) (at time.Time, crossed bool) {
	was := s.Score
	if s.Rebase {
		was = m.Shown(score.Sum(ledger, s.CountedAt))
	}
	if ready && !s.Ready && s.Armed {
		was = math.Inf(-1) // who could not be reached stood below the line, whatever the score
	}
	fired, armed := m.Crossings(ledger, s.CountedAt, now, was, s.Armed)
	if ready {
		s.Armed = armed
		if crossed = len(fired) > 0; crossed {
			at = fired[len(fired)-1]
		}
	} else { // nobody crosses now; who falls below the line can cross again later
		s.Armed = s.Armed || armed
	}
	s.Ready = ready
	s.Score = m.Shown(score.Sum(ledger, now))
	s.CountedAt = now
	s.Until = m.NextChange(ledger, now)
	return at, crossed
}

// SaveModel keeps a changed score model and has every score counted again; of many a
// batch does it, while the earlier scores still serve. The change itself makes nobody
// cross: only what people do from now on does.
func (e *People) SaveModel(ctx context.Context, m store.Model) error {
	for i := range m.Rules {
		if err := m.Rules[i].Check(); err != nil {
			return err
		}
	}
	var batch int64
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		_, err := tx.SaveModel(ctx, m)
		if err == nil {
			batch, err = e.Recount(ctx, tx)
		}
		return err
	})
	return e.AskFor(ctx, batch, err)
}

// SaveFit keeps what makes the fit, and the bands of score and fit. Audiences
// that ask for the fit are counted again.
func (e *People) SaveFit(ctx context.Context, m store.Model) error {
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		cat, err := tx.Catalogue(ctx)
		if err != nil {
			return err
		}
		if err := m.Fit.Check(cat); err != nil {
			return err
		}
		if m.Bands, err = rule.Ranges(m.Bands); err != nil {
			return err
		}
		if m.FitBands, err = rule.Ranges(m.FitBands); err != nil {
			return err
		}
		if m.ID == 0 { // no model of engagement yet
			m.Name = "Engagement"
			_, err = tx.SaveModel(ctx, m)
			return err
		}
		return tx.SaveFit(ctx, m)
	})
	if err == nil {
		e.Nudge()
	}
	return err
}

// Ledger is a person's ledger as it stands now, entries that have run out
// included.
func (e *People) Ledger(ctx context.Context, person int64) ([]score.Entry, error) {
	var out []score.Entry
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		m, err := e.ScoreModel(ctx, tx)
		if store.IsNotFound(err) {
			return nil
		}
		if err != nil {
			return err
		}
		p, did, err := personFacts(ctx, tx, &m, person)
		if err != nil {
			return err
		}
		out = m.Ledger(nil, did, p, e.Now())
		return nil
	})
	return out, err
}

// UsualModel begins scoring with points that many begin with, and a ready line,
// where there is no model. Common practice, no source.
func (e *People) UsualModel(ctx context.Context) error {
	if _, err := e.Store.Model(ctx); !store.IsNotFound(err) {
		return err
	}
	rule := func(k signal.Kind, points, lasts int) score.Rule {
		return score.Rule{On: signal.Pattern{Kind: k}, Points: points, Lasts: lasts}
	}
	return e.SaveModel(ctx, store.Model{Model: score.Model{Name: "Engagement", Line: 15, Rules: []score.Rule{
		rule(signal.PageView, 10, 30), rule(signal.Open, 1, 30), rule(signal.Click, 3, 30),
		rule(signal.Download, 5, 30),
		rule(signal.Reply, 15, 90), rule(signal.OptOut, -100, 0)}}})
}
