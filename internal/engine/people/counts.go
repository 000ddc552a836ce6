package people

import (
	"context"
	"encoding/json"
	"time"

	"ombak/internal/engine/base"
	"ombak/internal/store"
)

// Counted is how many people something is about.
type Counted struct {
	N     int64
	About bool // it is reckoned and not counted yet
}

// HowMany counts whom a query is about: where there are many people, at most once a minute, and meanwhile it answers
// what was counted before.
func (e *People) HowMany(ctx context.Context, q store.PeopleQuery) (int64, error) {
	key, err := counting(q)
	if err != nil {
		return 0, err
	}
	return base.Lately(ctx, e.Base, &e.counts, key, func(ctx context.Context) (int64, error) {
		q.Now = e.Now()
		return e.Store.CountPeople(ctx, q)
	})
}

// Roughly answers at once: what HowMany would, where there are few people or that is known already, else what can be
// reckoned.
func (e *People) Roughly(ctx context.Context, q store.PeopleQuery) (Counted, error) {
	large, err := e.Large(ctx)
	if err != nil {
		return Counted{}, err
	}
	if !large {
		n, err := e.Store.CountPeople(ctx, q)
		return Counted{N: n}, err
	}
	key, err := counting(q)
	if err != nil {
		return Counted{}, err
	}
	if _, _, known := e.counts.Of(key).Peek(); known {
		n, err := e.HowMany(ctx, q)
		return Counted{N: n}, err
	}
	n, err := e.Store.ReckonPeople(ctx, q)
	return Counted{N: n, About: true}, err
}

// counting names what is counted, whoever asks and whenever.
func counting(q store.PeopleQuery) (string, error) {
	q.Now, q.Order, q.After, q.Limit = time.Time{}, "", store.Key{}, 0
	text, err := json.Marshal(q)
	return string(text), err
}
