package setup

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/news"
	"ombak/internal/core/pipeline"
	"ombak/internal/core/plainly"
	"ombak/internal/engine/base"
	"ombak/internal/store"
)

// KeepPipeline changes a pipeline, or keeps a new one (ID 0), and answers the change.
func (e *Setup) KeepPipeline(ctx context.Context, p pipeline.Pipeline, user int64) (change, id int64, err error) {
	if p.Name = strings.Join(strings.Fields(p.Name), " "); p.Check() != nil {
		return 0, 0, p.Check()
	}
	change, err = e.changePipelines(ctx, user, func(tx store.Tx, was []pipeline.Pipeline) error {
		for _, o := range was {
			if o.ID != p.ID && strings.EqualFold(o.Name, p.Name) {
				return plainly.Errorf("there is a pipeline “%s” already", o.Name)
			}
		}
		if p.ID != 0 && !slices.ContainsFunc(was, func(o pipeline.Pipeline) bool { return o.ID == p.ID }) {
			return store.ErrNotFound
		}
		id, err = tx.KeepPipeline(ctx, p)
		return err
	})
	return change, id, err
}

// Errors of pipelines.
var (
	ErrStagesIn    = plainly.New("this pipeline has stages: remove them first, as far as no deal was in them")
	ErrOnePipeline = plainly.New("one pipeline stays")
)

// RemovePipeline removes a pipeline without stages, and answers the change.
func (e *Setup) RemovePipeline(ctx context.Context, id, user int64) (change int64, err error) {
	return e.changePipelines(ctx, user, func(tx store.Tx, was []pipeline.Pipeline) error {
		if len(was) == 1 {
			return ErrOnePipeline
		}
		return removePipeline(ctx, tx, id)
	})
}

func removePipeline(ctx context.Context, tx store.Tx, id int64) error {
	if n, err := tx.StagesIn(ctx, id); err != nil || n > 0 {
		if err == nil {
			err = ErrStagesIn
		}
		return err
	}
	return tx.RemovePipeline(ctx, id)
}

// changePipelines changes the pipelines, one user after the other, and keeps what was changed.
func (e *Setup) changePipelines(
	ctx context.Context, user int64, f func(store.Tx, []pipeline.Pipeline) error,
) (change int64, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		was, err := tx.LockPipelines(ctx)
		if err != nil {
			return err
		}
		if err := f(tx, was); err != nil {
			return err
		}
		list, err := tx.LockPipelines(ctx)
		if err != nil {
			return err
		}
		if len(list) > pipeline.MaxPipelines {
			return plainly.Errorf("there are at most %d pipelines", pipeline.MaxPipelines)
		}
		change, err = e.changed(ctx, tx, user, store.SettingChange{Kind: ofPipelines, Words: "the pipelines"}, was,
			list)
		if err != nil {
			return err
		}
		return tx.Notify(ctx, news.Pipeline)
	})
	return change, err
}

// restorePipelines has the pipelines be as they were: those that came since go, where they have no stage, and those
// that went come back.
func (e *Setup) restorePipelines(ctx context.Context, tx store.Tx, was []byte) error {
	var list []pipeline.Pipeline
	if err := json.Unmarshal(was, &list); err != nil {
		return err
	}
	now, err := tx.LockPipelines(ctx)
	if err != nil {
		return err
	}
	var ids []int64
	for _, p := range list {
		ids = append(ids, p.ID)
		if _, err := tx.KeepPipeline(ctx, p); err != nil {
			return err
		}
	}
	for _, p := range now {
		if !slices.Contains(ids, p.ID) {
			if err := removePipeline(ctx, tx, p.ID); err != nil {
				return err
			}
		}
	}
	return tx.Notify(ctx, news.Pipeline)
}

// SetRate keeps what a currency is worth in the workspace’s from a day on (no value: nothing is said of that day any
// more), has deals be worth what they are by it, and answers the change.
func (e *Setup) SetRate(ctx context.Context, r pipeline.Rate, user int64) (change int64, err error) {
	if r, err = e.checkedRate(r); err != nil {
		return 0, err
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		was, err := tx.RateOf(ctx, r)
		if err != nil {
			return err
		}
		if err := e.keepRates(ctx, tx, []pipeline.Rate{r}); err != nil {
			return err
		}
		is, err := tx.RateOf(ctx, r)
		if err != nil {
			return err
		}
		change, err = e.changed(ctx, tx, user, store.SettingChange{Kind: ofRate,
			Key: r.Currency + " " + r.Day.String(), Words: "the rate of " + r.Currency + " on " + r.Day.String()}, was,
			is)
		return err
	})
	return change, err
}

// SetRates keeps many rates, as a file brings them, and answers how many.
func (e *Setup) SetRates(ctx context.Context, list []pipeline.Rate) (int, error) {
	for i := range list {
		r, err := e.checkedRate(list[i])
		if err != nil {
			return 0, plainly.Errorf("line %d: %s", i+1, err)
		}
		list[i] = r
	}
	return len(list), e.Store.InTx(ctx, func(tx store.Tx) error { return e.keepRates(ctx, tx, list) })
}

func (e *Setup) checkedRate(r pipeline.Rate) (pipeline.Rate, error) {
	value := r.Value
	if r.Base = e.Workspace().Currency; value == "" {
		r.Value = "1" // what is to go is checked for the rest
	}
	err := r.Check(calendar.DateOf(e.Now(), e.Zone()))
	if value == "" {
		r.Value = ""
	}
	return r, err
}

func (e *Setup) keepRates(ctx context.Context, tx store.Tx, list []pipeline.Rate) error {
	if err := tx.KeepRates(ctx, list); err != nil {
		return err
	}
	rates, err := tx.Rates(ctx, e.Workspace().Currency)
	if err != nil {
		return err
	}
	if len(rates) > pipeline.MaxRates {
		return plainly.Errorf("at most %d rates are kept", pipeline.MaxRates)
	}
	return e.rateAll(ctx, tx, e.Workspace())
}

// countAnew has deals be worth what they are where money is counted otherwise, or days are.
func (e *Setup) countAnew(ctx context.Context, tx store.Tx, was, is base.Workspace) error {
	if was.Currency == is.Currency && was.Zone == is.Zone {
		return nil
	}
	return e.rateAll(ctx, tx, is)
}

func (e *Setup) rateAll(ctx context.Context, tx store.Tx, w base.Workspace) error {
	zone := e.Zone()
	if z, err := time.LoadLocation(w.Zone); err == nil && w.Zone != "" {
		zone = z
	}
	if err := tx.RateDeals(ctx, nil, w.Currency, zone, e.Now()); err != nil {
		return err
	}
	return tx.Notify(ctx, news.Pipeline)
}
