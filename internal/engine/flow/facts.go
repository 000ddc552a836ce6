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
func (p *PersonOf) Score(rule.Figure, time.Time) float64 { return 0 }

// Count counts what they did.
func (p *PersonOf) Count(q *signal.Pattern, from, to time.Time) int {
	return signal.Count(p.signals, q, from, to)
}

// ScoreModels are the score models that count, in the workspace's zone, whose days they count.
func (e *Flow) ScoreModels(ctx context.Context, q store.Queries) ([]store.Model, error) {
	list, err := q.Models(ctx)
	for i := range list {
		list[i].Zone = e.Zone()
	}
	return list, err
}

// ScoreModel is one of them; 0: the first.
func (e *Flow) ScoreModel(ctx context.Context, q store.Queries, id int64) (store.Model, error) {
	m, err := q.ModelOf(ctx, id)
	m.Zone = e.Zone()
	return m, err
}

// standing is somebody with the scores that are kept of them.
type standing struct {
	PersonOf
	kept Kept
}

// Kept are somebody's standings by each model, the first of them first.
type Kept []KeptBy

// KeptBy is a standing by a model.
type KeptBy struct {
	Model int64
	store.Standing
}

// NewStanding tells of somebody whose scores are kept.
func NewStanding(record *rule.Record, did []signal.Signal, kept Kept) *standing {
	return &standing{PersonOf{record, did}, kept}
}

// Score is the one that is kept.
func (f *standing) Score(of rule.Figure, _ time.Time) float64 {
	for i := range f.kept {
		if of.Model == 0 || f.kept[i].Model == of.Model {
			return f.kept[i].Of(of.Rule)
		}
	}
	return 0
}

// KeptOf reads some people's standings by each model. Whoever has none by a model stands at nought.
func (e *Flow) KeptOf(ctx context.Context, q store.Queries, people []int64) (map[int64]Kept, error) {
	models, err := q.Models(ctx)
	if err != nil {
		return nil, err
	}
	out := make(map[int64]Kept, len(people))
	for i := range models {
		list, err := q.Standings(ctx, models[i].ID, people)
		if err != nil {
			return nil, err
		}
		for _, id := range people {
			out[id] = append(out[id], KeptBy{Model: models[i].ID})
		}
		for _, s := range list {
			out[s.Person][i].Standing = s
		}
	}
	return out, nil
}
