package sales

import (
	"context"
	"strings"
	"sync"
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

// learned are figures of stages, as of a move; they are read anew where a deal has moved since, or an hour has gone.
type learned struct {
	sync.Mutex
	at      time.Time
	move    int64
	figures []pipeline.Figures
	tracks  int
}

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
	e.learned.Lock()
	defer e.learned.Unlock()
	now := e.Now()
	age := now.Sub(e.learned.at).Abs()
	if e.learned.figures == nil || age > time.Hour ||
		e.learned.move != last && (e.learned.tracks < fewTracks || age > time.Minute) {
		tracks, err := e.Store.DealTracks(ctx, mostTracks)
		if err != nil {
			return nil, err
		}
		e.learned.figures, e.learned.move, e.learned.at = pipeline.Learn(stages, tracks, now), last, now
		e.learned.tracks = len(tracks)
	}
	// What is known of the stages' names and the admin's figures is never old.
	out := make([]pipeline.Figures, 0, len(stages))
	for _, s := range stages {
		f := pipeline.Figures{Stage: s, Chance: pipeline.ChanceOf(nil, s.Share)}
		for _, l := range e.learned.figures {
			if l.ID == s.ID {
				f = l
				f.Stage = s
			}
		}
		out = append(out, f)
	}
	return out, nil
}

// mostProspects is how many open deals a forecast and a course hold at most, the largest.
const mostProspects = 5000

// Ahead is what lies ahead of the open deals.
type Ahead struct {
	Stages []pipeline.Figures // the open ones
	Deals  []store.Deal
	Cut    bool // there are more
	From   pipeline.Month
	Months []pipeline.Expectation
	Slow   map[int64]bool // deals that stay longer where they are than four fifths of those won did
}

// AheadOf forecasts so many months from now, of a pipeline, of a rep’s deals (0: everybody’s). Amounts are in the
// workspace’s currency.
func (e *Sales) AheadOf(ctx context.Context, pipe, rep int64, months int) (a Ahead, err error) {
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
	if a.Deals, err = e.Store.OpenDeals(ctx, pipe, rep, mostProspects+1); err != nil {
		return a, err
	}
	if a.Cut = len(a.Deals) > mostProspects; a.Cut {
		a.Deals = a.Deals[:mostProspects]
	}
	now, zone := e.Now(), e.Zone()
	a.From, a.Slow = pipeline.MonthOf(now, zone), map[int64]bool{}
	list := make([]pipeline.Prospect, 0, len(a.Deals))
	for i := range a.Deals {
		d := &a.Deals[i]
		s := by[d.Stage]
		if s == nil {
			continue
		}
		age := now.Sub(d.Moved)
		a.Slow[d.ID] = s.Slow > 0 && age > s.Slow
		list = append(list, pipeline.Prospect{Amount: d.Worth, Chance: s.Chance.Share,
			Months: pipeline.When(months, now, zone, d.Expected, age, s.Took)})
	}
	a.Months = pipeline.Expect(list, months)
	return a, nil
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
