package engine

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/rivertype"
)

// FiguresHeld is when the figures that are kept were last held against all they are of.
type FiguresHeld struct {
	Asked time.Time `json:"asked,omitzero"` // when somebody asked for it
	Began time.Time `json:"began,omitzero"`
	Ended time.Time `json:"ended,omitzero"`
	Lines int64     `json:"lines,omitempty"` // how many were mended
}

// mendAtMost is how long it may take.
const mendAtMost = 2 * time.Hour

// Busy reports whether they are being held at an instant, or will be.
func (f FiguresHeld) Busy(now time.Time) bool {
	return f.Began.After(f.Ended) && now.Before(f.Began.Add(mendAtMost)) || f.Asked.After(f.Began)
}

// Broke reports whether who held them last died of it or was stopped.
func (f FiguresHeld) Broke(now time.Time) bool { return f.Began.After(f.Ended) && !f.Busy(now) }

const figuresHeld = "figures held"

// FiguresHeld tells when that was.
func (e *Engine) FiguresHeld(ctx context.Context) (f FiguresHeld, err error) {
	_, err = e.Store.Setting(ctx, figuresHeld, &f)
	return f, err
}

// mendJob has a worker hold the figures against all they are of.
type mendJob struct {
	Asked bool `json:"asked"` // by somebody: now, and not in its turn
}

// Kind names the job.
func (mendJob) Kind() string { return "mend" }

type mendWorker struct {
	river.WorkerDefaults[mendJob]
	e *Engine
}

// Timeout bounds it: it counts everything there is.
func (*mendWorker) Timeout(*river.Job[mendJob]) time.Duration { return mendAtMost }

// Work holds the figures, where it is time to, and in the night sets old months apart first.
func (w *mendWorker) Work(ctx context.Context, j *river.Job[mendJob]) error {
	held, err := w.e.FiguresHeld(ctx)
	if err != nil || !j.Args.Asked && !mendDue(held.Ended, w.e.Now(), w.e.Zone()) {
		return err
	}
	if !j.Args.Asked {
		err = w.e.SetApart(ctx)
	}
	_, mending := w.e.MendFigures(ctx)
	return errors.Join(err, mending)
}

// When figures are held: once a night, and at last after two days.
const (
	mendFrom, mendTo = 1, 5 // hours of the workspace's zone
	mendEvery        = 20 * time.Hour
	mendAtLast       = 48 * time.Hour
)

// mendDue reports whether it is time to hold the figures, that were last held at an instant.
func mendDue(last, now time.Time, zone *time.Location) bool {
	age, hour := now.Sub(last), now.In(zone).Hour()
	return age >= mendAtLast || age >= mendEvery && hour >= mendFrom && hour < mendTo
}

func mendInTurn() *river.PeriodicJob {
	return river.NewPeriodicJob(river.PeriodicInterval(time.Hour), func() (river.JobArgs, *river.InsertOpts) {
		return mendJob{}, &river.InsertOpts{MaxAttempts: 1, Queue: houseQueue}
	}, nil)
}

// AskToMend has some worker hold the figures now.
func (e *Engine) AskToMend(ctx context.Context) error {
	held, err := e.FiguresHeld(ctx)
	if err != nil {
		return err
	}
	held.Asked = e.Now()
	if err := e.Store.SetSetting(ctx, figuresHeld, held); err != nil {
		return err
	}
	_, err = e.Jobs.Insert(ctx, mendJob{Asked: true}, &river.InsertOpts{MaxAttempts: 3, Queue: houseQueue,
		UniqueOpts: river.UniqueOpts{ByArgs: true, ByState: []rivertype.JobState{rivertype.JobStateAvailable,
			rivertype.JobStatePending, rivertype.JobStateRetryable, rivertype.JobStateRunning,
			rivertype.JobStateScheduled}}})
	if err != nil {
		return fmt.Errorf("asking for figures to be held: %w", err)
	}
	return nil
}

// MendFigures holds all figures that are kept against what counting gives, mends those that are not it, and answers how
// many lines it mended. It may run while everything goes on.
func (e *Engine) MendFigures(ctx context.Context) (lines int64, err error) {
	held, err := e.FiguresHeld(ctx)
	if err != nil {
		return 0, err
	}
	held.Began = e.Now()
	if err := e.Store.SetSetting(ctx, figuresHeld, held); err != nil {
		return 0, err
	}
	list, err := e.Store.MendFigures(ctx, e.Now())
	if err != nil {
		return 0, err
	}
	for _, m := range list {
		lines += m.Lines
		slog.Warn("kept figures were not what counting gives, and are mended", "of", m.Figure, "lines", m.Lines,
			"first", m.First.V)
	}
	held.Ended, held.Lines = e.Now(), lines
	return lines, e.Store.SetSetting(ctx, figuresHeld, held)
}
