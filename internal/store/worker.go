package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// Worker is a working process's hold on its name. As long as its connection
// lives, others see that the process does.
type Worker struct {
	ID   int64
	conn *pgx.Conn
}

// NewWorker registers this process.
func (s *Store) NewWorker(ctx context.Context, at time.Time) (*Worker, error) {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return nil, err
	}
	c := conn.Hijack() // the lock belongs to the connection: it must never go back
	w := &Worker{conn: c}
	// It holds its name before anybody can see that there is one: what nobody holds is taken for gone.
	err = c.QueryRow(ctx, "select nextval(pg_get_serial_sequence('worker', 'id'))").Scan(&w.ID)
	if err == nil {
		_, err = c.Exec(ctx, "select pg_advisory_lock($1)", w.ID)
	}
	if err == nil {
		_, err = c.Exec(ctx, "insert into worker (id, started_at) overriding system value values ($1, $2)", w.ID, at)
	}
	if err != nil {
		w.Close()
		return nil, fmt.Errorf("registering a worker: %w", err)
	}
	return w, nil
}

// Close gives the name up.
func (w *Worker) Close() { w.conn.Close(context.Background()) }

// Alive reports that the database still sees the worker, or why not.
func (w *Worker) Alive(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	return w.conn.Ping(ctx)
}

// HoldOrphans looks after the emails of workers that are gone, and forgets those. A
// worker whose last transaction is still under way is left for the next look: it may
// have died the moment before, and what it does then is seen only once it is through.
// One that was being sent is held: whether it went out nobody knows. Those that
// were only claimed are ready again, under the Message-ID they have. It answers
// how many are held.
func (s *Store) HoldOrphans(ctx context.Context, why string) (int64, error) {
	var held int64
	err := s.InTx(ctx, func(tx Tx) error {
		held = 0
		gone, err := all[int64](ctx, tx, `
			select id
			from worker
			where id in (
				select id from (select id from worker order by id offset 0) w where pg_try_advisory_xact_lock(id))
			for update skip locked`)
		if err != nil {
			return err
		}
		if len(gone) == 0 {
			return nil
		}
		if held, err = giveBack(ctx, tx, gone, why); err != nil {
			return err
		}
		_, err = exec(ctx, tx, "delete from worker where id = any ($1)", gone)
		return err
	})
	return held, err
}

// HoldLost is HoldOrphans for emails of workers that nobody knows any more. It looks
// through all that waits to go out, and is for the start of a worker.
func (s *Store) HoldLost(ctx context.Context, why string) (held int64, err error) {
	err = s.InTx(ctx, func(tx Tx) error {
		lost, err := all[int64](ctx, tx, `
			select distinct worker
			from letter l
			where open and phase in ('claimed', 'sending') and worker > 0
				and not exists (select from worker w where w.id = l.worker)`)
		if err == nil && len(lost) > 0 {
			held, err = giveBack(ctx, tx, lost, why)
		}
		return err
	})
	return held, err
}

// GiveBack gives back what a worker has claimed: an email that was only claimed
// is ready again, under the Message-ID it has; one that was being sent is held.
// It answers how many are held.
func (s *Store) GiveBack(ctx context.Context, worker int64, why string) (held int64, err error) {
	err = s.InTx(ctx, func(tx Tx) error {
		held, err = giveBack(ctx, tx, []int64{worker}, why)
		return err
	})
	return held, err
}

func giveBack(ctx context.Context, tx Tx, workers []int64, why string) (held int64, err error) {
	held, err = exec(ctx, tx, `
		with held as (
			update letter set phase = 'aside', trouble = $2
			where open and phase = 'sending' and worker = any ($1)
			returning touch_id)
		update touch t set state = 'held' from held where t.id = held.touch_id`, workers, why)
	if err != nil {
		return 0, err
	}
	_, err = exec(ctx, tx, `update letter set phase = 'waiting', worker = null, tries = greatest(tries - 1, 0)
		where open and phase = 'claimed' and worker = any ($1)`, workers)
	return held, err
}
