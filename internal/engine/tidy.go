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

// Work drops what has had its time.
func (w *tidyWorker) Work(ctx context.Context, _ *river.Job[tidyJob]) error { return w.e.Tidy(ctx) }

func tidyInTurn() *river.PeriodicJob {
	return river.NewPeriodicJob(river.PeriodicInterval(tidyEvery), func() (river.JobArgs, *river.InsertOpts) {
		return tidyJob{}, &river.InsertOpts{MaxAttempts: 3}
	}, &river.PeriodicJobOpts{RunOnStart: true})
}

// monthsAhead is how far ahead there is room for signals.
const monthsAhead = 3

// Tidy makes room for the signals of the months to come, and drops browsers of
// our own sites that nobody is known by and that have not come for 90 days, with
// what they viewed; the files of exports that have lain for a day; what files of
// deals named; and the scores of models that were removed.
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
		e.Store.ForgetDealImports(ctx, e.Now().Add(-sales.KeepDealImports)))
}
