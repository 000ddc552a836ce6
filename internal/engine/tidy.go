package engine

import (
	"context"
	"errors"
	"log/slog"
	"time"

	"github.com/riverqueue/river"

	"ombak/internal/engine/forms"
	"ombak/internal/engine/people"
	"ombak/internal/engine/sales"
)

// tidyEvery is how often what has had its time is dropped; one of all processes
// does it.
const tidyEvery = time.Hour

// tidyJob has a worker drop what has had its time.
type tidyJob struct{}

// Kind names the job.
func (tidyJob) Kind() string { return "tidy" }

type tidyWorker struct {
	river.WorkerDefaults[tidyJob]
	e *Engine
}

// Timeout lets it take what it takes: it drops in parts.
func (*tidyWorker) Timeout(*river.Job[tidyJob]) time.Duration { return tidyEvery }

// Work drops what has had its time.
func (w *tidyWorker) Work(ctx context.Context, _ *river.Job[tidyJob]) error { return w.e.Tidy(ctx) }

func tidyInTurn() *river.PeriodicJob {
	return river.NewPeriodicJob(river.PeriodicInterval(tidyEvery), func() (river.JobArgs, *river.InsertOpts) {
		return tidyJob{}, &river.InsertOpts{MaxAttempts: 3, Queue: houseQueue}
	}, &river.PeriodicJobOpts{RunOnStart: true})
}

// monthsAhead is how far ahead there is room for signals.
const monthsAhead = 3

// Tidy makes room for the signals of the months to come, and drops browsers of
// our own sites that nobody is known by and that have not come for 90 days, with
// what they viewed; the files of exports that have lain for a day; what files of
// deals named; the scores of models that were removed; and what is kept for so many months by the settings.
func (e *Engine) Tidy(ctx context.Context) error {
	if err := e.Store.EnsureMonths(ctx, e.Now(), e.Now().AddDate(0, monthsAhead, 0)); err != nil {
		return err
	}
	n, err := e.Store.ForgetVisitors(ctx, e.Now().Add(-forms.RememberVisits))
	if n > 0 {
		slog.Info("browsers that nobody is known by are forgotten", "count", n)
	}
	return errors.Join(err, e.Store.ForgetExports(ctx, e.Now().Add(-people.KeepExports)), e.ForgetAsked(ctx),
		e.DropRemoved(ctx),
		e.Store.ForgetDealImports(ctx, e.Now().Add(-sales.KeepDealImports)), e.dropOld(ctx))
}

// dropAtOnce is how much of what has had its time goes in one transaction.
const dropAtOnce = 5000

// dropOld drops the single records that the settings keep for so many months.
func (e *Engine) dropOld(ctx context.Context) error {
	if err := e.RefreshWorkspace(ctx); err != nil {
		return err
	}
	keep, zone := e.Workspace().Keep, e.Zone().String()
	var errs []error
	for _, k := range []struct {
		what   string
		months int
		drop   func(ctx context.Context, before time.Time, n int) (int64, error)
	}{
		{"visits of pages", keep.Visits, e.Store.DropVisits},
		{"who joined and left audiences", keep.Moves,
			func(ctx context.Context, before time.Time, n int) (int64, error) {
				return e.Store.DropMoves(ctx, before, zone, n)
			}},
		{"changes of records", keep.Changes, e.Store.DropChanges},
		{"browsers of people", keep.Browsers, e.Store.DropBrowsers},
	} {
		if k.months == 0 {
			continue
		}
		before, total := e.Now().AddDate(0, -k.months, 0), int64(0)
		for ctx.Err() == nil {
			n, err := k.drop(ctx, before, dropAtOnce)
			if total += n; err != nil || n < dropAtOnce {
				errs = append(errs, err)
				break
			}
		}
		if total > 0 {
			slog.Info("records have had their time; how many there were stays", "what", k.what, "count", total)
		}
	}
	return errors.Join(append(errs, ctx.Err())...)
}
