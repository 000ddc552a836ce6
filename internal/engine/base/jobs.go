package base

import (
	"context"
	"fmt"
	"log/slog"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"ombak/internal/store"
)

type jobs = river.Client[pgx.Tx]

// QuietLog is where background jobs tell what is wrong, and nothing more.
func QuietLog() *slog.Logger { return slog.New(quieter{slog.Default().Handler()}) }

// quieter lets warnings and errors through.
type quieter struct{ slog.Handler }

func (q quieter) Enabled(ctx context.Context, l slog.Level) bool {
	return l >= slog.LevelWarn && q.Handler.Enabled(ctx, l)
}

// BatchJob has a worker run a batch.
type BatchJob struct {
	ID int64 `json:"id"`
}

// Kind names the job.
func (BatchJob) Kind() string { return "batch" }

// queues are those of long work by its kind, beside the default one: what brings a million people in does not keep
// somebody's export from its turn.
var queues = map[string]string{"import": "imports", "export": "exports", "recount": "counting", "tally": "counting",
	"preview": "counting"}

// Queues are the queues that long work stands in, and how many of each a worker does at once.
func Queues() map[string]river.QueueConfig {
	out := map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: 2}}
	for _, q := range queues {
		out[q] = river.QueueConfig{MaxWorkers: 1}
	}
	return out
}

// Ask has some worker run a batch.
func (e *Base) Ask(ctx context.Context, id int64) error {
	b, err := e.Store.Batch(ctx, id)
	if err == nil {
		_, err = e.Jobs.Insert(ctx, BatchJob{id}, &river.InsertOpts{MaxAttempts: 5, Queue: queues[b.Kind]})
	}
	if err != nil {
		return fmt.Errorf("asking for batch %d: %w", id, err)
	}
	return nil
}

// fewScores is how many scores are counted again by the worker that looks next; of
// more a batch does it, which can be watched and stopped.
const fewScores = 5000

// Recount begins to count the scores of a model again (0: of all), by rules that have changed. It answers the batch
// that somebody has to be asked to run once the transaction is through; 0: none.
func (e *Base) Recount(ctx context.Context, tx store.Tx, model int64) (batch int64, err error) {
	n, err := tx.CountStandings(ctx, model, fewScores+1)
	if err != nil {
		return 0, err
	}
	if n <= fewScores {
		return 0, tx.CountAllAgain(ctx, model, e.Now())
	}
	if err := tx.StopBatches(ctx, "recount", model); err != nil {
		return 0, err
	}
	if n, err = tx.CountStandings(ctx, model, 1<<30); err != nil {
		return 0, err
	}
	b := store.Batch{Kind: "recount", Title: "count every score again", State: "waiting", Total: n}
	b.Detail.V.Model = model
	return tx.AddBatch(ctx, b, e.Now())
}

// AskFor has some worker run a batch, where there is one.
func (e *Base) AskFor(ctx context.Context, batch int64, err error) error {
	if err == nil && batch != 0 {
		err = e.Ask(ctx, batch)
	}
	if err == nil {
		e.Nudge()
	}
	return err
}
