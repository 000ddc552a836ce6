package post

import (
	"context"
	"log/slog"
	"time"
)

// Register makes this engine a worker that others can see.
func (e *Post) Register(ctx context.Context) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.worker != nil {
		return nil
	}
	w, err := e.Store.NewWorker(ctx, e.Now())
	if err != nil {
		return err
	}
	e.worker = w
	held, err := e.Store.HoldLost(ctx, NobodyKnows)
	if held > 0 {
		slog.Warn("emails of workers that nobody knows any more are held", "count", held)
	}
	return err
}

// NobodyKnows is why an email is held that a worker was sending when it died.
const NobodyKnows = "the process that was sending it ended before the mail server’s answer: perhaps sent"

// Unregister ends that.
func (e *Post) Unregister() {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.worker != nil {
		e.worker.Close()
		e.worker = nil
	}
}

// WorkerID is the name under which this engine claims emails, 0 for none. Where
// the database has lost sight of it, others take it for dead: it registers
// again, under another name, and what it had claimed is given back.
func (e *Post) WorkerID(ctx context.Context) (int64, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.worker == nil {
		return 0, nil
	}
	if e.worker.Alive(ctx) == nil {
		return e.worker.ID, nil
	}
	w, err := e.Store.NewWorker(ctx, e.Now())
	if err != nil {
		return 0, err
	}
	slog.Warn("the database had lost sight of this worker, which has registered again", "was", e.worker.ID, "is", w.ID)
	e.out.trouble(e.worker.ID)
	e.worker.Close()
	e.worker = w
	return w.ID, nil
}

// NextLook is the first instant at which there is something to do; zero for none.
func (e *Post) NextLook(ctx context.Context) (time.Time, error) {
	not, until := e.out.restingNow(e.Now())
	next, err := e.Store.NextLook(ctx, not...)
	if !until.IsZero() && (next.IsZero() || until.Before(next)) {
		next = until
	}
	return next, err
}
