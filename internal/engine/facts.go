package engine

import (
	"context"
	"ombak/internal/core/rule"
	"ombak/internal/core/score"
	"ombak/internal/core/signal"
	"ombak/internal/store"
	"time"
)

// personOf is what a score model may ask about one person.
type personOf struct {
	record  *rule.Record
	signals []signal.Signal
}

// newPersonOf tells of somebody with a record and what they did.
func newPersonOf(record *rule.Record, did []signal.Signal) *personOf { return &personOf{record, did} }

// Record is what is known of them.
func (p *personOf) Record() *rule.Record { return p.record }

// Score is asked by no rule of a score model: score.Rule.Check refuses it.
func (p *personOf) Score(time.Time) float64 { return 0 }

func (p *personOf) Count(q *signal.Pattern, from, to time.Time) int {
	return signal.Count(p.signals, q, from, to)
}

// model is the score model in the workspace's zone, whose days it counts.
func (e *Engine) model(ctx context.Context, tx store.Tx) (store.Model, error) {
	m, err := tx.Model(ctx)
	m.Zone = e.Zone()
	return m, err
}

func asksRecord(m *score.Model) bool {
	for i := range m.Rules {
		if m.Rules[i].If.Asks() {
			return true
		}
	}
	return false
}
