package store

import (
	"context"
	"fmt"
	"time"

	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/score"
)

// Batch is long work on many people, or one step that can be taken back: an
// import, a bulk action, an export, a merge.
type Batch struct {
	ID      int64
	Kind    string
	Title   string
	State   string // waiting, running, done, stopped, failed, undoing, undone
	Total   int64
	Done    int64
	Stop    bool
	Detail  JSON[BatchDetail]
	Trouble string
	Made    time.Time `db:"made_at"`
	By      *int64    `db:"made_by"`
	User    string
	Ended   *time.Time `db:"ended_at"`
}

// Over reports whether nothing happens to the batch by itself any more.
func (b Batch) Over() bool {
	return b.State != "waiting" && b.State != "running" && b.State != "undoing"
}

// Undoable reports whether it can be taken back.
func (b Batch) Undoable() bool {
	return (b.State == "done" || b.State == "stopped") && b.Kind != "erase" && b.Kind != "recount" &&
		b.Kind != "preview" && b.Kind != "tally" && b.Kind != "export" && b.Kind != "way" && b.Kind != "find"
}

// BatchDetail is what a batch does, and what became of it.
type BatchDetail struct {
	Set     person.Values `json:"set,omitempty"`    // of a bulk action: what is set
	Ground  string        `json:"ground,omitempty"` // of a consent
	Changed int64         `json:"changed,omitempty"`
	Undone  int64         `json:"undone,omitempty"` // records set back
	Kept    int64         `json:"kept,omitempty"`   // records left: something else has changed them since
	Merge   *Merged       `json:"merge,omitempty"`
	Upto    int64         `json:"upto,omitempty"`    // of a recount: the last person counted
	Under   int64         `json:"under,omitempty"`   // of a recount of all models: the one that is under way
	Tally   *score.Tally  `json:"tally,omitempty"`   // of a count of how the rules work
	Model   int64         `json:"model,omitempty"`   // that it is about; 0: all, and in what is old the only one
	Version int           `json:"version,omitempty"` // of the model that it is of
	Preview *Preview      `json:"preview,omitempty"`
	Way     *HandWay      `json:"way,omitempty"` // what is done by hand on a sequence
	Export  *Export       `json:"export,omitempty"`
	Find    string        `json:"find,omitempty"` // which of the addresses that are found are used
}

// HandWay is what is done by hand to people on a sequence, as package flow says it.
type HandWay struct {
	Do       string `json:"do"`
	Sequence int64  `json:"sequence"`
	Step     int32  `json:"step,omitempty"`
}

const batchFields = `
	select b.id, b.kind, b.title, b.state, b.total, b.done, b.stop, b.detail, b.trouble, b.made_at, b.made_by,
		coalesce(u.name, '') as "user", b.ended_at
	from batch b left join app_user u on u.id = b.made_by `

// Batch reads one.
func (db Queries) Batch(ctx context.Context, id int64) (Batch, error) {
	return one[Batch](ctx, db, batchFields+"where b.id = $1", id)
}

// LockBatch is Batch within a transaction, locked.
func (tx Tx) LockBatch(ctx context.Context, id int64) (Batch, error) {
	return one[Batch](ctx, tx, batchFields+"where b.id = $1 for update of b", id)
}

// Batches lists the latest, of some kinds or of all.
func (db Queries) Batches(ctx context.Context, kinds []string, n int) ([]Batch, error) {
	return all[Batch](ctx, db,
		batchFields+"where ($1::text[] is null or b.kind = any ($1)) order by b.id desc limit $2", kinds, n)
}

// WaitingBatches lists the ids of those that somebody has to run.
func (db Queries) WaitingBatches(ctx context.Context) ([]int64, error) {
	return all[int64](ctx, db, "select id from batch where state in ('waiting', 'running', 'undoing') order by id")
}

// AddBatch keeps a new one.
func (tx Tx) AddBatch(ctx context.Context, b Batch, at time.Time) (int64, error) {
	return one[int64](ctx, tx,
		"insert into batch (kind, title, state, total, detail, made_at, made_by) values ($1, $2, $3, $4, $5, $6, $7) "+
			"returning id", b.Kind, b.Title, b.State, b.Total, b.Detail, at, b.By)
}

// SetBatch keeps a batch's state, figures and trouble.
func (db Queries) SetBatch(ctx context.Context, b *Batch) error {
	_, err := exec(ctx, db,
		"update batch set state = $2, total = $3, done = $4, detail = $5, trouble = $6, ended_at = $7 where id = $1",
		b.ID, b.State, b.Total, b.Done, b.Detail, b.Trouble, b.Ended)
	if err != nil {
		return fmt.Errorf("keeping batch %d: %w", b.ID, err)
	}
	return nil
}

// KeepBatch is SetBatch outside a transaction.
func (db Queries) KeepBatch(ctx context.Context, b *Batch) error { return db.SetBatch(ctx, b) }

// RemoveBatch removes a batch that has done nothing.
func (db Queries) RemoveBatch(ctx context.Context, id int64) error {
	_, err := exec(ctx, db, "delete from batch where id = $1", id)
	return err
}

// StopBatch asks whoever runs a batch to stop it.
func (db Queries) StopBatch(ctx context.Context, id int64) error {
	n, err := exec(ctx, db, "update batch set stop = true where id = $1 and state in ('waiting', 'running')", id)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// BatchStopped reports whether a batch is to stop.
func (db Queries) BatchStopped(ctx context.Context, id int64) (bool, error) {
	return one[bool](ctx, db, "select stop from batch where id = $1", id)
}

// LockBatch lets one process at a time run a batch, until release is called;
// false where another has it.
func (s *Store) LockBatch(ctx context.Context, id int64) (release func(), ok bool, err error) {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return nil, false, err
	}
	if err := conn.QueryRow(ctx, "select pg_try_advisory_lock($1, $2)", lockBatch, int32(id)).Scan(&ok); err != nil ||
		!ok {
		conn.Release()
		return nil, false, err
	}
	return func() {
		if _, err := conn.Exec(context.WithoutCancel(ctx), "select pg_advisory_unlock($1, $2)", lockBatch,
			int32(id)); err != nil {
			conn.Conn().Close(context.WithoutCancel(ctx)) // the lock goes with the connection
		}
		conn.Release()
	}, true, nil
}

// AddBatchPeople notes whom a bulk action is about and answers how many.
func (tx Tx) AddBatchPeople(ctx context.Context, batch int64, people []int64) (int64, error) {
	return exec(ctx, tx,
		"insert into batch_person (batch_id, person_id) select $1, p.id from person p where p.id = any ($2) and "+
			"p.erased_at is null on conflict do nothing", batch, people)
}

// NextBatchPeople takes the next n people that a bulk action has not come to.
func (tx Tx) NextBatchPeople(ctx context.Context, batch int64, n int) ([]int64, error) {
	ids, err := all[int64](ctx, tx, `
		update batch_person b
		set done = true
		from (select person_id from batch_person where batch_id = $1 and not done order by person_id limit $2) x
		where b.batch_id = $1 and b.person_id = x.person_id returning b.person_id`, batch, n)
	return ids, err
}

// ErrOver is answered where a batch is not in the state an action is for.
var ErrOver = plainly.New("this has ended or begun in the meantime")
