package store

import (
	"context"
	"fmt"
	"net/url"
	"time"

	"github.com/jackc/pgx/v5"
)

// What measuring alone needs.

// Scratch makes an empty database beside the one at address and answers its
// address and what drops it.
func Scratch(ctx context.Context, address, name string) (string, func(), error) {
	admin := func(sql string) error {
		c, err := pgx.Connect(ctx, address)
		if err != nil {
			return err
		}
		defer c.Close(ctx)
		_, err = c.Exec(ctx, sql)
		return err
	}
	name = pgx.Identifier{name}.Sanitize()
	if err := admin("drop database if exists " + name + " with (force)"); err != nil {
		return "", nil, err
	}
	if err := admin("create database " + name); err != nil {
		return "", nil, fmt.Errorf("making a database to measure on: %w", err)
	}
	u, err := url.Parse(address)
	if err != nil {
		return "", nil, err
	}
	u.Path = "/" + name[1:len(name)-1]
	return u.String(), func() { admin("drop database if exists " + name + " with (force)") }, nil
}

// FillPeople makes n people, each with an open, a click and a page view after
// at, and a score that is counted.
func (s *Store) FillPeople(ctx context.Context, n int, at time.Time) error {
	for _, q := range []string{
		`insert into person (first_name, last_name, email, country, created_at) select 'P' || i, 'Q' || i, 'p' || i || '@bench.example', (array['NO','GB','ID','CL'])[1 + i % 4], $2 from generate_series(1, $1::int) i`,
		`insert into signal (person_id, at, kind) select p.id, $2::timestamptz + k * interval '1 hour', (array[4, 5, 1])[k] from person p, generate_series(1, 3) k where p.id <= $1`,
		`insert into standing (model_id, person_id, score, armed, counted_at, until) select m.id, p.id, 14, true, $2, $2::timestamptz + interval '60 days' from score_model m, person p where p.id <= $1`,
	} {
		if _, err := exec(ctx, s.db, q, n, at); err != nil {
			return fmt.Errorf("filling: %w", err)
		}
	}
	return nil
}

// FillEnrolments puts everybody at the start of a version.
func (s *Store) FillEnrolments(ctx context.Context, sequenceID, version int64, step int32, at time.Time) error {
	_, err := exec(ctx, s.db, `insert into enrolment (sequence_id, version_id, person_id, step, entered_at, reached_at, due, look)
		select $1, $2, id, $3, $4, $4, $4, $4 from person`, sequenceID, version, step, at)
	return err
}

// Settle has the planner know what was filled in, so that each measurement
// begins alike.
func (s *Store) Settle(ctx context.Context) error {
	for _, q := range []string{"vacuum analyze", "checkpoint"} {
		if _, err := exec(ctx, s.db, q); err != nil {
			return err
		}
	}
	return nil
}

// Floor is the least that moving people on can cost: one statement that claims
// up to n enrolments, moves each on to a step and a time, logs it and writes a
// signal. It decides nothing. It answers how many it moved.
func (s *Store) Floor(ctx context.Context, now, next time.Time, step int32, n int) (int64, error) {
	return one[int64](ctx, s.db, `
		with due as (
			select id from enrolment where ended_at is null and look is not null and look <= $1 order by look limit $4 for update skip locked),
		moved as (
			update enrolment e set step = $3, phase = 1, reached_at = $1, due = $2, look = $2 from due where e.id = due.id returning e.id, e.version_id, e.person_id, e.step),
		logged as (
			insert into enrolment_log (enrolment_id, version_id, step, at, exit) select id, version_id, step, $1, 'next' from moved),
		told as (
			insert into signal (person_id, at, kind) select person_id, $1, 4 from moved)
		select count(*) from moved`, now, next, step, n)
}
