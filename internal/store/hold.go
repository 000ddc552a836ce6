package store

import (
	"context"
	"time"

	"ombak/internal/core/touch"
)

// Running is something that a hold of everything stops.
type Running struct {
	Kind   string // sequence or mailing
	ID     int64
	Name   string
	People int64 // on the way, or still to be written to
}

// Running lists what runs, by name: sequences, then one-off emails on their way.
func (db Queries) Running(ctx context.Context) ([]Running, error) {
	return all[Running](ctx, db, `
		select 'sequence' as kind, q.id, q.name,
			coalesce((select sum(c.n) from flow_count c where c.sequence_id = q.id and c.what = 'here'), 0)::bigint
				as people
		from sequence q where q.state = 'running'
		union all
		select 'mailing', l.id, l.name, k.n
		from mailing l, lateral (`+readersIn("l.id", touch.Ready)+`) k
		where l.state in ('filling', 'sending') and (l.state = 'filling' or k.n > 0)
		order by 1 desc, 3, 2`)
}

// HoldEverything holds every running sequence and every one-off email on its
// way. It answers how many, and a number by which that is taken back.
func (tx Tx) HoldEverything(ctx context.Context, user int64, at time.Time) (id, n int64, err error) {
	id, err = one[int64](ctx, tx, "insert into hold_all (at, by_id) values ($1, nullif($2::bigint, 0)) returning id",
		at, user)
	if err != nil {
		return 0, 0, err
	}
	n, err = one[int64](ctx, tx, `
		with q as (
			update sequence set state = 'held', updated_at = $2, hold_id = $1 where state = 'running' returning 1),
			l as (update mailing set state = 'held', hold_id = $1 where state in ('filling', 'sending') returning 1)
		select (select count(*) from q) + (select count(*) from l)`, id, at)
	return id, n, err
}

// TakeBackHold lets go on what one HoldEverything held and nobody has let go on
// or held since, and answers how many. It answers ErrOver the second time.
func (tx Tx) TakeBackHold(ctx context.Context, id int64, at time.Time) (int64, error) {
	n, err := exec(ctx, tx, "update hold_all set undone_at = $2 where id = $1 and undone_at is null", id, at)
	if err == nil && n == 0 {
		err = ErrOver
	}
	if err != nil {
		return 0, err
	}
	return one[int64](ctx, tx, `
		with q as (
			update sequence set state = 'running', updated_at = $2, hold_id = null
			where hold_id = $1 and state = 'held' returning 1),
		l as (update mailing set state = 'filling', hold_id = null where hold_id = $1 and state = 'held' returning 1)
		select (select count(*) from q) + (select count(*) from l)`, id, at)
}
