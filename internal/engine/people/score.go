package people

import (
	"context"
	"math"
	"time"

	"ombak/internal/core/act"
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
		if store.IsNotFound(err) {
			return nil
		}
		if err != nil {
			return err
		}
		list, err := tx.ClaimStandings(ctx, m.ID, now, n)
		if err != nil || len(list) == 0 {
			return err
		}
		counted = len(list)
		var who []store.Since
		var ids []int64
		for _, s := range list {
			who = append(who, store.Since{Person: s.Person})
			ids = append(ids, s.Person)
		}
		signals, err := tx.SignalsSince(ctx, who)
		if err != nil {
			return err
		}
		var records map[int64]*rule.Record
		if flow.AsksRecord(&m.Model) {
			if records, err = tx.Records(ctx, ids); err != nil {
				return err
			}
		}
		reach, err := tx.Reachable(ctx, ids)
		if err != nil {
			return err
		}
		var ledger []score.Entry
		crossed := map[int64]time.Time{}
		for i := range list {
			s := &list[i]
			p := flow.NewPersonOf(records[s.Person], signals[s.Person])
			ledger = m.Ledger(ledger[:0], signals[s.Person], p, now)
			was := s.Score
			if s.Rebase {
				was = m.Shown(score.Sum(ledger, s.CountedAt))
			}
			ready := reach[s.Person]
			if ready && !s.Ready && s.Armed {
				was = math.Inf(-1) // who could not be reached stood below the line, whatever the score
			}
			fired, armed := m.Crossings(ledger, s.CountedAt, now, was, s.Armed)
			if ready {
				s.Armed = armed
				if len(fired) > 0 {
					crossed[s.Person] = fired[len(fired)-1]
				}
			} else { // nobody crosses now; who falls below the line can cross again later
				s.Armed = s.Armed || armed
			}
			s.Ready = ready
			s.Score = m.Shown(score.Sum(ledger, now))
			s.CountedAt = now
			s.Until = m.NextChange(ledger, now)
		}
		if err := tx.KeepStandings(ctx, m.ID, list); err != nil {
			return err
		}
		var deeds []flow.Deed
		for _, s := range list {
			if at, ok := crossed[s.Person]; ok {
				deeds = append(deeds,
					flow.Deed{Act: act.HandOver{}, Occasion: flow.Occasion{Person: s.Person, At: at, By: "crossing"}})
			}
		}
		if err := e.Do(ctx, tx, deeds); err != nil {
			return err
		}
		return tx.Notify(ctx, "score")
	})
	return counted, err
}

// SaveModel keeps a changed score model and has every score counted again. The
// change itself makes nobody cross: only what people do from now on does.
func (e *People) SaveModel(ctx context.Context, m store.Model) error {
	for i := range m.Rules {
		if err := m.Rules[i].Check(); err != nil {
			return err
		}
	}
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		_, err := tx.SaveModel(ctx, m, e.Now())
		return err
	})
	if err == nil {
		e.Nudge()
	}
	return err
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
			_, err = tx.SaveModel(ctx, m, e.Now())
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
