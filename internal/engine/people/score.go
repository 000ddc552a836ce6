package people

import (
	"context"
	"errors"
	"fmt"
	"math"
	"sync"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/news"
	"ombak/internal/core/rule"
	"ombak/internal/core/score"
	"ombak/internal/core/signal"
	"ombak/internal/engine/flow"
	"ombak/internal/store"
)

// CountBatch counts up to n scores by each model that have changed by now, because a signal
// came or points ran out, and makes a handoff for each crossing of a ready
// line. It answers how many it counted.
func (e *People) CountBatch(ctx context.Context, n int) (int, error) {
	models, err := e.Store.Models(ctx)
	if err != nil {
		return 0, err
	}
	counted := 0
	for i := range models {
		err := e.Store.InTx(ctx, func(tx store.Tx) error {
			now := e.Now()
			m, err := e.ScoreModel(ctx, tx.Queries, models[i].ID)
			if err != nil {
				return flow.Gone(err)
			}
			list, err := tx.ClaimStandings(ctx, m.ID, now, n)
			if err != nil || len(list) == 0 {
				return err
			}
			counted += len(list)
			_, err = e.count(ctx, tx, &m, list, now)
			return err
		})
		if err != nil {
			return counted, err
		}
	}
	return counted, nil
}

// runRecount counts every score anew by one model, or by all in turn.
func (e *People) runRecount(ctx context.Context, b *store.Batch) error {
	models, err := e.Store.Models(ctx)
	if err != nil {
		return err
	}
	d := &b.Detail.V
	for i := range models {
		id := models[i].ID
		if d.Model != 0 && d.Model != id || id < d.Under {
			continue
		}
		if d.Under < id {
			if d.Under != 0 { // else it was begun before there were several
				d.Upto = 0
			}
			d.Under = id
		}
		if err := e.recountBy(ctx, b, id); err != nil {
			return err
		}
	}
	return nil
}

// recountBy counts every score anew by a model, in the order of the people, some spans of them beside each other. A
// process that dies between a round and its mark has that round counted twice, which gives the same.
func (e *People) recountBy(ctx context.Context, b *store.Batch, model int64) error {
	for {
		if err := e.progress(ctx, b); err != nil {
			return err
		}
		spans, err := e.Store.Spans(ctx, model, b.Detail.V.Upto, recountChunk, recountBeside)
		if err != nil || len(spans) == 0 {
			return err
		}
		done, errs := make([]recounted, len(spans)), make([]error, len(spans))
		var wg sync.WaitGroup
		for i, s := range spans {
			wg.Go(func() { done[i], errs[i] = e.recount(ctx, model, s) })
		}
		wg.Wait()
		if err := errors.Join(errs...); err != nil {
			return err
		}
		b.Detail.V.Upto = spans[len(spans)-1].Upto
		for _, d := range done {
			b.Done, b.Detail.V.Changed = b.Done+d.people, b.Detail.V.Changed+d.changed
		}
		if err := e.Store.KeepBatch(ctx, b); err != nil {
			return err
		}
	}
}

// How many scores one transaction of a recount counts, and how many are under way beside each other.
const (
	recountChunk  = 5000
	recountBeside = 2
)

// recounted is how many scores were counted anew, and how many of them are not what they were.
type recounted struct{ people, changed int64 }

// recount counts the scores of a span of people anew.
func (e *People) recount(ctx context.Context, model int64, s store.Span) (r recounted, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		m, err := e.ScoreModel(ctx, tx.Queries, model)
		if err != nil {
			return flow.Gone(err)
		}
		list, err := tx.StandingsIn(ctx, m.ID, s)
		if err != nil || len(list) == 0 {
			return err
		}
		signals, err := tx.SignalsIn(ctx, s)
		if err != nil {
			return err
		}
		r.people = int64(len(list))
		r.changed, err = e.countBy(ctx, tx, &m, list, signals, e.Now())
		return err
	})
	return r, err
}

// count counts claimed scores and does what follows from them. It answers how many
// are not what they were.
func (e *People) count(
	ctx context.Context, tx store.Tx, m *store.Model, list []store.Standing, now time.Time,
) (changed int64, err error) {
	var who []store.Since
	for _, s := range list {
		who = append(who, store.Since{Person: s.Person})
	}
	signals, err := tx.SignalsSince(ctx, who)
	if err != nil {
		return 0, err
	}
	return e.countBy(ctx, tx, m, list, signals, now)
}

// recordsFor reads what a model asks of records; of a fit, all.
func recordsFor(ctx context.Context, tx store.Tx, m *store.Model, ids []int64) (map[int64]*rule.Record, error) {
	switch {
	case !m.AsksRecord():
		return nil, nil
	case m.FitLine > 0:
		return tx.Records(ctx, ids)
	}
	var asks []*rule.Rule
	for i := range m.Rules {
		asks = append(asks, &m.Rules[i].If)
	}
	return tx.RecordsFor(ctx, ids, asks)
}

// countBy is count by the signals of the people, all of each.
func (e *People) countBy(
	ctx context.Context, tx store.Tx, m *store.Model, list []store.Standing, signals map[int64][]signal.Signal,
	now time.Time,
) (changed int64, err error) {
	ids := make([]int64, len(list))
	for i, s := range list {
		ids[i] = s.Person
	}
	records, err := recordsFor(ctx, tx, m, ids)
	if err != nil {
		return 0, err
	}
	reach, err := tx.Reachable(ctx, ids)
	if err != nil {
		return 0, err
	}
	cooling, err := tx.Cooling(ctx, ids, now)
	if err != nil {
		return 0, err
	}
	var ledger []score.Entry
	var deeds []flow.Deed
	var moved, lifted []int64
	var to []float64
	for i := range list {
		s := &list[i]
		was, did, rec := *s, signals[s.Person], records[s.Person]
		ledger = m.Ledger(ledger[:0], did, flow.NewPersonOf(rec, did), now)
		may := m.MayCross(0, reach[s.Person])
		if m.FitLine > 0 && rec != nil {
			may = m.MayCross(m.Fit.Of(rec), reach[s.Person])
		}
		until, cools := cooling[s.Person]
		at, crossed := counted(m, s, ledger, may && !cools, now)
		if cools && (s.Until.IsZero() || until.Before(s.Until)) {
			s.Until = until // over then, they cross where they stand above the line
		}
		if crossed {
			deeds = append(deeds, flow.Deed{Act: act.HandOver{},
				Occasion: flow.Occasion{Person: s.Person, At: at, By: "crossing", Model: m.ID}})
		} else if liftedBy(m, &was, s) {
			lifted, to = append(lifted, s.Person), append(to, s.Score)
		}
		for _, f := range follows(m, &was, ledger, now) {
			if f.level != 0 || crossed {
				o := flow.Occasion{Person: s.Person, At: f.when(at), By: "crossing", How: f.how, Model: m.ID}
				for _, a := range f.acts {
					if a.Act == (act.HandOver{}) && (!reach[s.Person] || cools) {
						continue // as at the ready line
					}
					deeds = append(deeds, flow.Deed{Act: a.Act, Occasion: o})
				}
			}
		}
		if s.Score != was.Score {
			moved = append(moved, s.Person)
		}
	}
	if err := tx.AddLifted(ctx, m.ID, m.Version, lifted, to); err != nil {
		return 0, err
	}
	if err := tx.KeepStandings(ctx, m.ID, list); err != nil {
		return 0, err
	}
	if err := e.Do(ctx, tx, deeds); err != nil {
		return 0, err
	}
	return int64(len(moved)), tx.Notify(ctx, news.Score.About(moved...))
}

// following is what follows from a level that was come to; level 0 is the ready line, which count knows of.
type following struct {
	level int
	at    time.Time
	how   string
	acts  []act.Kept
}

// when is the instant of it; that of the ready line is another’s to know.
func (f following) when(line time.Time) time.Time {
	if f.level == 0 {
		return line
	}
	return f.at
}

// follows lists what follows from the levels that a score has come to since it was counted, and what would from the
// ready line. By a change of the model alone nobody comes to any.
func follows(m *store.Model, was *store.Standing, ledger []score.Entry, now time.Time) (out []following) {
	if len(m.Follows) == 0 {
		return nil
	}
	before := was.Score
	if was.Rebase {
		before = m.Shown(score.Sum(ledger, was.CountedAt))
	}
	for i := range m.Follows {
		f := &m.Follows[i]
		if f.OfLine() {
			out = append(out, following{how: "came to the ready line", acts: f.Acts})
			continue
		}
		level, ok := f.Level(&m.Model)
		if !ok {
			continue
		}
		if at, comes := m.Comes(ledger, level, was.CountedAt, now, before); comes {
			how := fmt.Sprintf("came to %d points", level)
			if f.Band != "" {
				how = fmt.Sprintf("came to “%s”", f.Band)
			}
			out = append(out, following{max(level, 1), at, how, f.Acts})
		}
	}
	return out
}

// liftedBy reports whether somebody came over the line by nothing but a change of the model.
func liftedBy(m *store.Model, was, is *store.Standing) bool {
	stood := was.Ready && m.LineBefore > 0 && was.Score >= float64(m.LineBefore)
	return was.Before && !stood && is.Ready && m.Line > 0 && is.Score >= float64(m.Line)
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
	s.Parts = m.Parts(nil, ledger, now)
	s.CountedAt = now
	s.Until = m.NextChange(ledger, now)
	return at, crossed
}
