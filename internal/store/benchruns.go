package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/jackc/pgx/v5"
)

// CopyScratch makes a copy of a database beside the one at address, and answers its address and what drops it. Nobody
// may be connected to the one that is copied.
func CopyScratch(ctx context.Context, address, from, name string) (string, func(), error) {
	if err := DropScratch(ctx, address, name); err != nil {
		return "", nil, err
	}
	c, err := pgx.Connect(ctx, address)
	if err != nil {
		return "", nil, err
	}
	defer c.Close(ctx)
	_, err = c.Exec(ctx, "create database "+pgx.Identifier{name}.Sanitize()+" template "+
		pgx.Identifier{from}.Sanitize())
	if err != nil {
		return "", nil, fmt.Errorf("copying a database to measure on: %w", err)
	}
	copied, err := beside(address, name)
	drop := func() {
		if err := DropScratch(context.WithoutCancel(ctx), address, name); err != nil {
			fmt.Println("the copy is still there:", err)
		}
	}
	return copied, drop, err
}

// HandFollow is what somebody would write by hand to bring an audience up to date: who is by query is in it, with a
// line for whoever joined or left. It answers how many did, and keeps nothing.
func (s *Store) HandFollow(ctx context.Context, audience int64, query string, args ...any) (n int64, err error) {
	undone := errors.New("undone")
	err = s.InTx(ctx, func(tx Tx) error {
		if err := wide(ctx, tx); err != nil {
			return err
		}
		n, err = one[int64](ctx, tx, fmt.Sprintf(`
			with fits as materialized (%s),
			were as materialized (select person_id as id from audience_member where audience_id = %d),
			joined as (
				insert into audience_member (audience_id, person_id, joined_at)
				select %[2]d, id, now()
				from (select id from fits except select id from were) x
				returning person_id),
			gone as (
				delete from audience_member
				where audience_id = %[2]d and person_id in (select id from were except select id from fits)
				returning person_id),
			noted as (
				insert into audience_move (audience_id, person_id, at, joined)
				select %[2]d, person_id, now(), true
				from joined
				union all
				select %[2]d, person_id, now(), false
				from gone
				returning 1)
			select count(*) from noted`, query, audience), args...)
		if err != nil {
			return fmt.Errorf("following audience %d by hand: %w", audience, err)
		}
		return undone
	})
	if errors.Is(err, undone) {
		err = nil
	}
	return n, err
}

// MakeDue has n open ways be due at an instant.
func (db Queries) MakeDue(ctx context.Context, n int, at time.Time) (int64, error) {
	return exec(ctx, db, `
		update enrolment e
		set due = $2, look = $2
		from (
			select id
			from enrolment
			where ended_at is null and look > $2
			order by look desc
			limit $1
			for update skip locked) x
		where e.id = x.id`, n, at)
}

// OldestDue is since when the longest waiting of the ways that are due waits, of one sequence left out.
func (db Queries) OldestDue(ctx context.Context, now time.Time, but int64) (*time.Time, error) {
	return one[*time.Time](ctx, db,
		"select min(look) from enrolment where ended_at is null and look <= $1 and sequence_id <> $2", now, but)
}

// CopyOut copies the rows of people out, as PostgreSQL does it.
func (s *Store) CopyOut(ctx context.Context, w io.Writer) error {
	c, err := s.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer c.Release()
	_, err = c.Conn().PgConn().CopyTo(ctx, w, "copy person to stdout (format csv)")
	return err
}

// EnrolledIn counts who is or was on a sequence.
func (db Queries) EnrolledIn(ctx context.Context, sequence int64) (int64, error) {
	return one[int64](ctx, db, "select count(*) from enrolment where sequence_id = $1", sequence)
}

// LiveByName is the id of a live audience.
func (db Queries) LiveByName(ctx context.Context, name string) (int64, error) {
	return one[int64](ctx, db, "select id from audience where live and name = $1", name)
}

// NotWhole has a workspace that is kept be made anew the next time.
func (db Queries) NotWhole(ctx context.Context, setting string) error {
	_, err := exec(ctx, db, "delete from setting where name = $1", setting)
	return err
}

// ByHand runs what somebody wrote by hand, reads what it answers, and says how many rows that is.
func (s *Store) ByHand(ctx context.Context, query string) (n int, err error) {
	rows, err := s.db.QueryContext(ctx, query)
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	for rows.Next() {
		n++
	}
	return n, rows.Err()
}
