package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"
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
	scratch, err := beside(address, name[1:len(name)-1])
	return scratch, func() { admin("drop database if exists " + name + " with (force)") }, err
}

// beside is the address of another database at the same server.
func beside(address, name string) (string, error) {
	u, err := url.Parse(address)
	if err != nil {
		return "", err
	}
	u.Path = "/" + name
	return u.String(), nil
}

// FillPeople makes n people, each with an open, a click and a page view after
// at, and a score that is counted.
func (db Queries) FillPeople(ctx context.Context, n int, at time.Time) error {
	for _, q := range []string{
		`
			insert into person (first_name, last_name, email, country, created_at)
			select 'P' || i, 'Q' || i, 'p' || i || '@bench.example', (array['NO','GB','ID','CL'])[1 + i % 4], $2
			from generate_series(1, $1::int) i`, `
			insert into signal (person_id, at, kind)
			select p.id, $2::timestamptz + k * interval '1 hour', (array[4, 5, 1])[k]
			from person p, generate_series(1, 3) k
			where p.id <= $1`, `
			insert into standing (model_id, person_id, score, armed, counted_at, until)
			select m.id, p.id, 14, true, $2, $2::timestamptz + interval '60 days'
			from score_model m, person p
			where p.id <= $1`,
	} {
		if _, err := exec(ctx, db, q, n, at); err != nil {
			return fmt.Errorf("filling: %w", err)
		}
	}
	return nil
}

// FillEnrolments puts everybody at the start of a version.
func (db Queries) FillEnrolments(ctx context.Context, sequenceID, version int64, step int32, at time.Time) error {
	_, err := exec(ctx, db,
		`insert into enrolment (sequence_id, version_id, person_id, step, entered_at, reached_at, due, look)
		select $1, $2, id, $3, $4, $4, $4, $4 from person`, sequenceID, version, step, at)
	return err
}

// BenchSent takes every email that waits to have been sent at an instant, and has the
// ways looked at that wait for it.
func (db Queries) BenchSent(ctx context.Context, at time.Time) error {
	for _, q := range []string{
		"update letter set phase = 'over'",
		"update touch set state = 'sent', done_at = $1 where state = 'ready'",
		"update enrolment set look = $1 where ended_at is null and look < '2090-01-01'", // the floor's wait for nobody
	} {
		var args []any
		if strings.Contains(q, "$1") {
			args = []any{at}
		}
		if _, err := exec(ctx, db, q, args...); err != nil {
			return fmt.Errorf("taking emails to be sent: %w", err)
		}
	}
	return nil
}

// FillWays puts the first people on a version, each at one of its steps, with the three steps
// before it logged, and a touch of the step before sent.
func (db Queries) FillWays(
	ctx context.Context, sequenceID, version int64, steps []int32, people int, at time.Time,
) error {
	for _, q := range []struct {
		query string
		args  []any
	}{
		{`
			insert into enrolment (sequence_id, version_id, person_id, key, step, entered_at, reached_at, due, look)
			select $1, $2, id, id, ($3::int[])[1 + id % cardinality($3::int[])], $5, $5,
				$5::timestamptz + (1 + id % 40) * interval '1 day', $5::timestamptz + (1 + id % 40) * interval '1 day'
			from person
			where id <= $4`, []any{sequenceID, version, steps, people, at}},
		{`
			insert into enrolment_log (enrolment_id, version_id, step, at, exit)
			select e.id, $2, ($3::int[])[1 + (e.person_id + k) % cardinality($3::int[])], $4, 'next'
			from enrolment e, generate_series(1, 3) k
			where e.sequence_id = $1`, []any{sequenceID, version, steps, at}},
		{`
			insert into touch (enrolment_id, sequence_id, version_id, person_id, step, visit, kind, state, made_at,
				done_at)
			select e.id, $1, $2, e.person_id, ($3::int[])[1 + (e.person_id + 1) % cardinality($3::int[])], 1, 'email',
				'sent', $4, $4
			from enrolment e
			where e.sequence_id = $1`, []any{sequenceID, version, steps, at}},
	} {
		if _, err := exec(ctx, db, q.query, q.args...); err != nil {
			return fmt.Errorf("filling a map: %w", err)
		}
	}
	return nil
}

// Settle has the planner know what was filled in, so that each measurement
// begins alike.
func (db Queries) Settle(ctx context.Context) error {
	for _, q := range []string{"vacuum analyze", "checkpoint"} {
		if _, err := exec(ctx, db, q); err != nil {
			return err
		}
	}
	return nil
}

// Floor is the least that moving people on can cost: one statement that claims
// up to n enrolments, moves each on to a step and a time, logs it and writes a
// signal. It decides nothing. It answers how many it moved.
func (db Queries) Floor(ctx context.Context, now, next time.Time, step int32, n int) (int64, error) {
	return one[int64](ctx, db, `
		with due as (
			select id
			from enrolment
			where ended_at is null and look is not null and look <= $1
			order by look
			limit $4
			for update skip locked),
		moved as (
			update enrolment e
			set step = $3, phase = 1, reached_at = $1, due = $2, look = $2
			from due
			where e.id = due.id
			returning e.id, e.version_id, e.person_id, e.step),
		logged as (
			insert into enrolment_log (enrolment_id, version_id, step, at, exit)
			select id, version_id, step, $1, 'next'
			from moved),
		told as (
			insert into signal (person_id, at, kind) select person_id, $1, 4 from moved)
		select count(*) from moved`, now, next, step, n)
}

// RoundWrote is what a round of the engine wrote of those it looked at.
type RoundWrote struct{ Looked, Logged, Touches int64 }

// Written counts what was ever written of a version.
func (db Queries) Written(ctx context.Context, version int64) (w RoundWrote, err error) {
	return one[RoundWrote](ctx, db, `
		select 0::bigint as looked, (select count(*) from enrolment_log where version_id = $1) as logged,
			(select count(*) from touch where version_id = $1) as touches`, version)
}

// FloorOf writes of up to n ways of a version what a round of the engine wrote of as many, line by line the same, with
// nothing read of anybody and nothing decided: each is moved from one step to another and waits there, as many lines of
// the log are written, and as many emails made.
func (db Queries) FloorOf(ctx context.Context, version int64, m FloorMove, n int) (int64, error) {
	perMille := func(of int64) int64 { return of * 1000 / max(m.Wrote.Looked, 1) }
	return one[int64](ctx, db, `
		with due as (
			select id
			from enrolment
			where ended_at is null and version_id = $1 and step = $2
			limit $6
			for update skip locked),
		moved as (
			update enrolment e
			set step = $3, phase = 2, reached_at = $4, due = $5, look = $5
			from due
			where e.id = due.id
			returning e.id, e.sequence_id, e.version_id, e.person_id, e.step),
		logged as (
			insert into enrolment_log (enrolment_id, version_id, step, at, exit)
			select m.id, m.version_id, m.step, $4, 'next'
			from moved m
			cross join generate_series(1, ($7::bigint / 1000 + (m.id % 1000 < $7 % 1000)::int)::int)),
		made as (
			insert into touch (enrolment_id, sequence_id, version_id, person_id, step, kind, state, made_at, message_id,
				message_version, ground)
			select m.id, m.sequence_id, m.version_id, m.person_id, m.step, 'email', 'ready', $4, 1, 1,
				'existing customers'
			from moved m
			where m.id % 1000 < $8
			returning id, made_at),
		letters as (insert into letter (touch_id, lane, ready_at) select id, 2, made_at from made)
		select count(*) from moved`, version, m.From, m.To, m.At, m.Next, n, perMille(m.Wrote.Logged),
		perMille(m.Wrote.Touches))
}

// FloorMove is where FloorOf moves ways, and what it writes of them.
type FloorMove struct {
	From, To int32
	At, Next time.Time
	Wrote    RoundWrote
}

// FillLists makes people people at a company for every fifty of them, and
// signals signals over the year before at: what lists and audiences are
// measured on.
func (db Queries) FillLists(ctx context.Context, people, signals int, at time.Time) error {
	for _, q := range []struct {
		query string
		args  []any
	}{
		{`
			insert into company (name, domain, country, industry, created_at)
			select 'Company ' || i, 'c' || i || '.example',
				(array['NO','GB','CA','US','CL','ID','AE','SG','AU','DE','VN','CR'])[1 + i % 12],
				(array['Fish farming','Ports','Desalination','Waterworks'])[1 + i % 4], $2
			from generate_series(1, $1::int / 50) i`, []any{people, at}},
		{`
			insert into person (first_name, last_name, email, phone, title, company_id, country, city, source,
				created_at)
			select 'First' || i % 997, 'Last' || i % 7919, 'p' || i || '@c' || (1 + i % ($1::int / 50)) || '.example',
				'', (array['Site manager','Head of fish health','Harbour master','Plant manager','Biologist',
					'Water quality lead'])[1 + (i * 7) % 6],
			1 + i % ($1::int / 50),
				(array['NO','GB','CA','US','CL','ID','AE','SG','AU','DE','VN','CR'])[1 + (1 + i % ($1::int / 50)) % 12],
				'City ' || i % 300, 'fair', $2::timestamptz - i * interval '20 seconds'
			from generate_series(1, $1::int) i`, []any{people, at}},
		{`
			insert into signal (person_id, at, kind)
			select 1 + abs(hashint8(i % 3700000)::bigint) % $1,
				$3::timestamptz - (($2::bigint - i)::float8 / $2::bigint) * interval '365 days',
				(array[4,4,4,5,5,1,4,2,4,1])[1 + (i / 3) % 10]
			from generate_series(1, $2::bigint) i`, []any{people, signals, at}},
		{`
			insert into standing (model_id, person_id, score, armed, counted_at)
			select m.id, p.id, (p.id * 31) % 40, true, $1
			from score_model m, person p
			where p.id % 5 < 3`, []any{at}},
		{`insert into tag (name, created_at) values ('key account', $1)`, []any{at}},
		{`insert into person_tag (tag_id, person_id, at) select 1, id, $1 from person where id % 29 = 0`, []any{at}},
	} {
		if _, err := exec(ctx, db, q.query, q.args...); err != nil {
			return fmt.Errorf("filling: %w", err)
		}
	}
	return nil
}

// KeyAt is the key of the n-th row of the people list, to begin far down.
func (db Queries) KeyAt(ctx context.Context, o Order, n int) (Key, error) {
	q := map[Order]string{
		ByScore: "select 0 as part, score::text as sort, '' as sort2, person_id as id from standing where score > " +
			"0 order by score desc, person_id desc offset $1 limit 1",
		ByName: "select 0 as part, lower(last_name collate \"C\") as sort, lower(first_name collate \"C\") as " +
			"sort2, id from person order by lower(last_name collate \"C\"), lower(first_name collate \"C\"), id " +
			"offset $1 limit 1",
		ByEmail: "select 0 as part, email as sort, '' as sort2, id from person order by email offset $1 limit 1",
		ByCompany: "select 0 as part, lower(c.name) as sort, c.id::text as sort2, p.id from company c join person p " +
			"on p.company_id = c.id order by lower(c.name), c.id, p.id offset $1 limit 1",
		Newest: "select 0 as part, '' as sort, '' as sort2, id from person order by id desc offset $1 limit 1",
	}[o]
	return one[Key](ctx, db, q, n)
}

// Hand runs a query written by hand, for holding others against it, and
// answers the one number it gives.
func (s *Store) Hand(ctx context.Context, query string, args ...any) (int64, error) {
	n := int64(0)
	err := s.InTx(ctx, func(tx Tx) error {
		if err := wide(ctx, tx); err != nil {
			return err
		}
		var err error
		n, err = one[int64](ctx, tx, query, args...)
		return err
	})
	return n, err
}

// CopyPlain has PostgreSQL copy CSV rows into a bare table, and answers how
// long that took.
func (s *Store) CopyPlain(ctx context.Context, head []string, csv []byte) (time.Duration, error) {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return 0, err
	}
	defer conn.Release()
	cols := ""
	for i, h := range head {
		if i > 0 {
			cols += ", "
		}
		cols += pgx.Identifier{h}.Sanitize() + " text"
	}
	if _, err := conn.Exec(ctx, "drop table if exists bench_plain"); err != nil {
		return 0, err
	}
	if _, err := conn.Exec(ctx, "create table bench_plain ("+cols+")"); err != nil {
		return 0, err
	}
	start := time.Now()
	_, err = conn.Conn().PgConn().CopyFrom(ctx, bytes.NewReader(csv),
		"copy bench_plain from stdin (format csv, header)")
	return time.Since(start), err
}

// PutPlain has PostgreSQL put the rows that CopyPlain has copied into the table of people, with its indexes and all
// that follows them, and answers how long that took; it keeps none of them.
func (s *Store) PutPlain(ctx context.Context) (took time.Duration, err error) {
	undone := errors.New("undone")
	err = s.InTx(ctx, func(tx Tx) error {
		start := time.Now()
		_, err := exec(ctx, tx, `
			insert into person (first_name, last_name, email, phone, title, department, country, city, language, source,
				created_at)
			select "First name", "Last name", 'again.' || "Email", "Phone", "Job title", "Department", 'NO', "City",
				"Language", "Source", now()
			from bench_plain`)
		if took = time.Since(start); err != nil {
			return fmt.Errorf("putting plain rows into the table of people: %w", err)
		}
		return undone
	})
	if errors.Is(err, undone) {
		err = nil
	}
	return took, err
}

// BenchReaders keeps n people of whom all is known, in four languages, who
// agreed to the first purpose.
func (db Queries) BenchReaders(ctx context.Context, n int, at time.Time) error {
	for _, q := range []string{
		"insert into company (name, domain, industry, created_at) select 'Company ' || n, 'c' || n || '.example', " +
			"'Ports', $2 from generate_series(1, $1::int / 5) n", `
			insert into person (first_name, last_name, email, phone, title, company_id, country, city, language,
				created_at)
			select 'First' || n, 'Last' || n, 'p' || n || '@c.example', '+442079460101', 'Harbour master',
				(n % ($1::int / 5)) + 1, 'NO', 'Bergen', (array['de', 'es', 'nb', 'en'])[n % 4 + 1], $2
			from generate_series(1, $1::int) n`,
		"insert into consent (person_id, purpose_id, given, at, how) select id, 1, true, $2, 'bench' from person " +
			"where id <= $1 * 2",
		"analyze",
	} {
		args := []any{n, at}
		if q == "analyze" {
			args = nil
		}
		if _, err := exec(ctx, db, q, args...); err != nil {
			return fmt.Errorf("making readers: %w", err)
		}
	}
	return nil
}

// SomeTouches lists up to n emails that were sent.
func (db Queries) SomeTouches(ctx context.Context, n int) ([]int64, error) {
	return all[int64](ctx, db, "select id from touch where state = 'sent' order by id limit $1", n)
}

// DeskFill is a desk to be filled for measuring.
type DeskFill struct {
	Rep, Sequence, Version int64
	Call, Social           int32 // the steps of the version
	N                      int
	At                     time.Time
}

// FillDesk gives a rep so many items: half of them tasks, a quarter each calls and social
// touches, of the first people there are.
func (tx Tx) FillDesk(ctx context.Context, f DeskFill) error {
	for _, q := range []string{
		`
			insert into task (person_id, user_id, alert, words, how, made_at, shown_at)
			select i, $1, false, 'Send the form', 'a bench', $6::timestamptz - i * interval '1 minute',
				$6::timestamptz - i * interval '1 minute'
			from generate_series(1, $7::int / 2) i
			where $2::bigint + $3::bigint + $4::int + $5::int > 0`, `
			with ways as (
				insert into enrolment (sequence_id, version_id, person_id, key, step, phase, entered_at, reached_at,
					due)
				select $2, $3, i, i, case i % 2 when 0 then $4::int else $5::int end, 2, $6, $6,
					$6::timestamptz + i * interval '1 minute'
				from generate_series(1, $7::int / 2) i
				returning id, person_id, step, due),
			made as (
				insert into touch (enrolment_id, sequence_id, version_id, person_id, step, kind, state, made_at, ground)
				select id, $2, $3, person_id, step, case step when $4::int then 'call' else 'social' end, 'desk', $6,
					'existing customers'
				from ways
				returning id, enrolment_id, kind)
			insert into work (touch_id, kind, ready_at, due_at, rep_id)
			select made.id, made.kind, $6, ways.due, $1 from made join ways on ways.id = made.enrolment_id`,
	} {
		if _, err := exec(ctx, tx, q, f.Rep, f.Sequence, f.Version, f.Call, f.Social, f.At, f.N); err != nil {
			return fmt.Errorf("filling a desk: %w", err)
		}
	}
	return nil
}

// FillDeals opens deals about the first people, one each, in the pipeline of some open stages in their order: half of
// them are open, a third of the rest was won, and all came through the stages before theirs. Every second open one has
// a day on which it is expected.
func (db Queries) FillDeals(ctx context.Context, n int, stages []int64, won, lost int64, at time.Time) error {
	for _, q := range []struct {
		query string
		args  []any
	}{
		{`
			insert into company (name, domain, created_at)
			select 'Company ' || i, 'c' || i || '.example', $2::timestamptz from generate_series(1, $1::int / 5) i`,
			[]any{n, at}},
		{"update person p set company_id = c.id from company c " +
			"where c.domain = 'c' || (p.id / 5) || '.example'", nil},
		{`
			insert into deal (person_id, company_id, rep_id, stage_id, name, position, opened_at, moved_at, closed_at,
				amount, currency, worth, expected_on, next_step, next_on)
			select p.id, p.company_id, u.id,
				case when p.id % 2 = 0 then ($2::bigint[])[1 + p.id / 2 % cardinality($2::bigint[])]
					when p.id % 6 = 1 then $3 else $4 end,
				'Deal ' || p.id, p.id, x.opened, x.opened + x.took,
				case when p.id % 2 = 1 then x.opened + x.took end, x.worth, 'EUR', x.worth,
				case when p.id % 4 = 0 then ($5::timestamptz + p.id % 300 * interval '1 day')::date end,
				case when p.id % 3 > 0 then 'Call' else '' end,
				case when p.id % 3 > 0 then ($5::timestamptz + (p.id % 40 - 20) * interval '1 day')::date end
			from person p
			cross join lateral (
				select $5::timestamptz - (100 + p.id * 7 % 600) * interval '1 day' as opened,
					(3 + p.id * 13 % 90) * interval '1 day' as took, 100000 + p.id * 7919 % 9000000 as worth) x
			cross join app_user u
			where p.id <= $1 and u.email = $6`, []any{n, stages, won, lost, at, "bench@bench.example"}},
		{`
			insert into deal_move (deal_id, stage_id, at)
			select d.id, s.stage, d.opened_at + (d.moved_at - d.opened_at) * (s.n - 1) / cardinality($1::bigint[])
			from deal d
			cross join unnest($1::bigint[]) with ordinality as s(stage, n)
			where s.n <= coalesce(array_position($1::bigint[], d.stage_id), 1 + d.id % cardinality($1::bigint[]))
			union all
			select d.id, d.stage_id, d.closed_at from deal d where d.closed_at is not null
			order by 1, 3`, []any{stages}},
	} {
		if _, err := exec(ctx, db, q.query, q.args...); err != nil {
			return fmt.Errorf("filling deals: %w", err)
		}
	}
	return nil
}

// FillStandings has everybody have a score.
func (db Queries) FillStandings(ctx context.Context) error {
	_, err := exec(ctx, db, `
		insert into standing (model_id, person_id, armed)
		select m.id, p.id, true
		from score_model m, person p
		on conflict do nothing`)
	return err
}

// plainScores sums points by person as one would by hand: by kind and age, without counting how often, without
// conditions and without what wipes.
const plainScores = `
	select s.person_id, sum(case s.kind
			when {page view} then case when s.at > $1::timestamptz - interval '30 days' then 1 else 0 end
			when {form} then case when s.at > $1::timestamptz - interval '90 days' then 10 else 0 end
			when {open} then case when s.at > $1::timestamptz - interval '30 days' then 1 else 0 end
			when {click} then case when s.at > $1::timestamptz - interval '60 days' then 3 else 0 end
			else 0 end) as points
	from signal s
	where s.machine = '' and s.at <= $1
	group by s.person_id`

// PlainScores measures a plain sum by person: read alone, and kept as scores are, which it takes back.
func (s *Store) PlainScores(ctx context.Context, at time.Time) (sum, kept time.Duration, err error) {
	start := time.Now()
	if _, err = s.Hand(ctx, "select count(*) + coalesce(sum(points), 0)::bigint from ("+plainScores+") x",
		at); err != nil {
		return 0, 0, err
	}
	sum = time.Since(start)
	start = time.Now()
	undone := errors.New("undone")
	err = s.InTx(ctx, func(tx Tx) error {
		if err := wide(ctx, tx); err != nil {
			return err
		}
		if _, err := exec(ctx, tx, "update standing t set score = x.points, counted_at = $1 from ("+plainScores+
			") x where t.person_id = x.person_id", at); err != nil {
			return err
		}
		kept = time.Since(start)
		return undone
	})
	if errors.Is(err, undone) {
		err = nil
	}
	return sum, kept, err
}

// BenchNear lists people whose scores lie in a range, and some others.
func (db Queries) BenchNear(ctx context.Context, from, to float64, n, others int) (near, far []int64, err error) {
	if near, err = all[int64](ctx, db, `
		select person_id from standing where score between $1 and $2 order by person_id limit $3`, from, to,
		n); err != nil {
		return nil, nil, err
	}
	far, err = all[int64](ctx, db, `
		select person_id from standing where score < $1 / 2 order by person_id limit $2`, from, others)
	if err == nil && (len(near) == 0 || len(far) == 0) {
		err = errors.New("nobody has such a score")
	}
	return near, far, err
}

// BenchHandedOver lists who of some people was handed over.
func (db Queries) BenchHandedOver(ctx context.Context, people []int64) ([]int64, error) {
	return all[int64](ctx, db, "select person_id from handoff where person_id = any ($1)", people)
}
