package flow

import (
	"context"
	"time"

	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
	"ombak/internal/store"
)

// PersonOf is what a score model may ask about one person.
type PersonOf struct {
	record  *rule.Record
	signals []signal.Signal
}

// NewPersonOf tells of somebody with a record and what they did.
func NewPersonOf(record *rule.Record, did []signal.Signal) *PersonOf { return &PersonOf{record, did} }

// Record is what is known of them.
func (p *PersonOf) Record() *rule.Record { return p.record }

// Score is asked by no rule of a score model: score.Rule.Check refuses it.
func (p *PersonOf) Score(time.Time) float64 { return 0 }

// Count counts what they did.
func (p *PersonOf) Count(q *signal.Pattern, from, to time.Time) int {
	return signal.Count(p.signals, q, from, to)
}

// ScoreModel is the score model in the workspace's zone, whose days it counts.
func (e *Flow) ScoreModel(ctx context.Context, tx store.Tx) (store.Model, error) {
	m, err := tx.Model(ctx)
	m.Zone = e.Zone()
	return m, err
}

// standing is somebody with the score that is kept of them.
type standing struct {
	PersonOf
	score float64
}

// NewStanding tells of somebody whose score is kept.
func NewStanding(record *rule.Record, did []signal.Signal, score float64) *standing {
	return &standing{PersonOf{record, did}, score}
}

// Score is the one that is kept.
func (f *standing) Score(time.Time) float64 { return f.score }
