package sales

import (
	"context"
	"strings"
	"time"

	"ombak/internal/core/pipeline"
	"ombak/internal/core/plainly"
	"ombak/internal/engine/base"
	"ombak/internal/store"
)

// mostTracks is how many moves of deals figures rest on at most, the newest deals; with more than a few they may be a
// minute old.
const (
	mostTracks = 400_000
	fewTracks  = 5000
)

// StageFigures tell of each stage the chance of a deal in it, and how long deals stay.
func (e *Sales) StageFigures(ctx context.Context) ([]pipeline.Figures, error) {
	stages, err := e.Store.Stages(ctx)
	if err != nil {
		return nil, err
	}
	last, err := e.Store.LastMove(ctx)
	if err != nil {
		return nil, err
	}
	now := e.Now()
	learned, _, err := e.learned.Get(ctx, now, last, func(ctx context.Context) ([]pipeline.Figures, bool, error) {
		tracks, err := e.Store.DealTracks(ctx, mostTracks)
		return pipeline.Learn(stages, tracks, now), len(tracks) > fewTracks, err
	})
	if err != nil {
		return nil, err
	}
	// What is known of the stages' names and the admin's figures is never old.
	out := make([]pipeline.Figures, 0, len(stages))
	for _, s := range stages {
		f := pipeline.Figures{Stage: s, Chance: pipeline.ChanceOf(nil, s.Share)}
		for _, l := range learned {
			if l.ID == s.ID {
				f = l
				f.Stage = s
			}
		}
		out = append(out, f)
	}
	return out, nil
}

// Of forecasts: how many open deals one holds at most, the largest, and how many so that it is always counted anew.
const (
	mostAhead = 100_000
	fewAhead  = 2000
)

// Ahead is what lies ahead of the open deals.
type Ahead struct {
	Stages []pipeline.Figures // the open ones
	Sums   []pipeline.Sum     // of the open deals, by stage
	Deals  []store.Deal       // the largest
	Slow   map[int64]bool     // of these, those that stay longer where they are than four fifths of those won did
	Forecast
}

// Forecast is what some months promise.
type Forecast struct {
	From   pipeline.Month
	Months []pipeline.Expectation
	Cut    bool      // there are more deals than it holds
	At     time.Time // when it was counted; it may be a minute old where there are many deals
}

// outlook is which forecast is meant.
type outlook struct {
	pipe, rep int64
	months    int
}

// AheadOf forecasts so many months from now, of a pipeline, of a rep’s deals (0: everybody’s), and answers the largest
// of these, at most some. Amounts are in the workspace’s currency.
func (e *Sales) AheadOf(ctx context.Context, pipe, rep int64, months, most int) (a Ahead, err error) {
	figures, err := e.StageFigures(ctx)
	if err != nil {
		return a, err
	}
	by := map[int64]*pipeline.Figures{}
	for i := range figures {
		if !figures[i].Closed() && figures[i].Pipeline == pipe {
			a.Stages = append(a.Stages, figures[i])
			by[figures[i].ID] = &figures[i]
		}
	}
	if a.Sums, err = e.Store.OpenSums(ctx, pipe, rep); err != nil {
		return a, err
	}
	if a.Deals, err = e.Store.OpenDeals(ctx, pipe, rep, most); err != nil {
		return a, err
	}
	now := e.Now()
	a.Slow = map[int64]bool{}
	for i := range a.Deals {
		d := &a.Deals[i]
		s := by[d.Stage]
		a.Slow[d.ID] = s != nil && s.Slow > 0 && now.Sub(d.Moved) > s.Slow
	}
	o := outlook{pipe, rep, months}
	f, at, err := e.outlooks.Of(o).Get(ctx, now, 0, func(ctx context.Context) (Forecast, bool, error) {
		return e.forecast(ctx, o, by, now)
	})
	a.Forecast, a.Forecast.At = f, at
	return a, err
}

// forecast counts what lies ahead, and reports whether that is of many deals.
func (e *Sales) forecast(
	ctx context.Context, o outlook, by map[int64]*pipeline.Figures, now time.Time,
) (f Forecast, large bool, err error) {
	deals, err := e.Store.DealsAhead(ctx, o.pipe, o.rep, mostAhead+1)
	if err != nil {
		return f, false, err
	}
	if f.Cut = len(deals) > mostAhead; f.Cut {
		deals = deals[:mostAhead]
	}
	zone := e.Zone()
	f.From = pipeline.MonthOf(now, zone)
	list := make([]pipeline.Prospect, 0, len(deals))
	for i := range deals {
		d := &deals[i]
		if s := by[d.Stage]; s != nil {
			list = append(list, pipeline.Prospect{Amount: d.Worth, Chance: s.Chance.Share,
				Months: pipeline.When(o.months, now, zone, d.Expected, now.Sub(d.Moved), s.Took)})
		}
	}
	f.Months = pipeline.Expect(list, o.months)
	return f, len(deals) > fewAhead, nil
}

// PlanDeal keeps what a deal is called, when it is expected to be won, and what is done next for it.
func (e *Sales) PlanDeal(ctx context.Context, deal int64, p store.DealPlan, user int64) error {
	p.Name, p.Next = base.Cut(strings.TrimSpace(p.Name), 120), base.Cut(strings.TrimSpace(p.Next), 300)
	p.Reason = base.Cut(strings.TrimSpace(p.Reason), 300)
	if p.Name == "" {
		return plainly.New("a deal has a name")
	}
	now := e.Now()
	for _, t := range []*time.Time{p.Expected, p.NextOn} {
		if t != nil && (t.Before(now.AddDate(-5, 0, 0)) || t.After(now.AddDate(10, 0, 0))) {
			return plainly.New("a day of a deal lies in the next ten years, or the last five")
		}
	}
	return e.changeDeal(ctx, deal, user, func(tx store.Tx, d store.Deal) error {
		return tx.SetPlan(ctx, d, p, user, now)
	})
}

// PlaceDeal puts a deal where it stands on the course: into a stage (0: where it is), to be expected on a day.
func (e *Sales) PlaceDeal(ctx context.Context, deal, stage int64, day time.Time, user int64) error {
	return e.changeDeal(ctx, deal, user, func(tx store.Tx, d store.Deal) error {
		if err := tx.SetPlan(ctx, d, store.DealPlan{Name: d.Name, Expected: &day, Next: d.Next, NextOn: d.NextOn,
			Reason: d.Reason}, user, e.Now()); err != nil {
			return err
		}
		if stage == 0 || stage == d.Stage {
			return nil
		}
		if _, err := tx.MoveDeal(ctx, deal, stage, 0, user, e.Now()); err != nil {
			return err
		}
		return e.followDeals(ctx, tx, []int64{deal}, e.Now())
	})
}
