package engine

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"ombak/internal/engine/base"
)

// houseQueue is for what keeps the house in order: lists that take long do not keep it from its turn.
const houseQueue = "house"

type batchWorker struct {
	river.WorkerDefaults[base.BatchJob]
	e *Engine
}

// Timeout lets a batch take as long as it takes: it can be stopped by hand.
func (batchWorker) Timeout(*river.Job[base.BatchJob]) time.Duration { return -1 }

// Work runs the batch.
func (w *batchWorker) Work(ctx context.Context, j *river.Job[base.BatchJob]) error {
	return w.e.RunBatch(ctx, j.Args.ID)
}

// workJobs runs background jobs until ctx ends. What was asked for and lost,
// because a process ended between the two, is asked for again at the start.
func (e *Engine) workJobs(ctx context.Context) (stop func(), err error) {
	workers := river.NewWorkers()
	river.AddWorker(workers, &batchWorker{e: e})
	river.AddWorker(workers, &tidyWorker{e: e})
	river.AddWorker(workers, &mendWorker{e: e})
	queues := base.Queues()
	queues[houseQueue] = river.QueueConfig{MaxWorkers: 1}
	c, err := river.NewClient(riverpgxv5.New(e.Store.Pool), &river.Config{
		Queues:       queues,
		Workers:      workers,
		PeriodicJobs: []*river.PeriodicJob{tidyInTurn(), mendInTurn()},
		Logger:       base.QuietLog(),
	})
	if err != nil {
		return nil, fmt.Errorf("readying background jobs: %w", err)
	}
	if err := c.Start(ctx); err != nil {
		return nil, fmt.Errorf("starting background jobs: %w", err)
	}
	waiting, err := e.Store.WaitingBatches(ctx)
	if err != nil {
		return nil, err
	}
	for _, id := range waiting {
		if err := e.Ask(ctx, id); err != nil {
			return nil, err
		}
	}
	return func() {
		end, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
		defer cancel()
		if err := c.StopAndCancel(end); err != nil {
			slog.Warn("background jobs did not stop in time and go on later", "error", err)
		}
	}, nil
}
