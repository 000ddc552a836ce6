package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// The workspace that every page is measured on: of so many people, with all that a workspace of that size has, skewed
// as real ones are. It is kept between runs, so whatever it is made of follows from its size and its seed alone.

// KeptScratch is the address of a database beside the one at address that is kept between runs; made says that it was
// not there before.
func KeptScratch(ctx context.Context, address, name string) (kept string, made bool, err error) {
	c, err := pgx.Connect(ctx, address)
	if err != nil {
		return "", false, err
	}
	defer c.Close(ctx)
	var there bool
	err = c.QueryRow(ctx, "select exists (select from pg_database where datname = $1)", name).Scan(&there)
	if err != nil {
		return "", false, err
	}
	if !there {
		if _, err := c.Exec(ctx, "create database "+pgx.Identifier{name}.Sanitize()); err != nil {
			return "", false, fmt.Errorf("making a database to measure on: %w", err)
		}
	}
	kept, err = beside(address, name)
	return kept, !there, err
}

// DropScratch drops what KeptScratch made.
func DropScratch(ctx context.Context, address, name string) error {
	c, err := pgx.Connect(ctx, address)
	if err != nil {
		return err
	}
	defer c.Close(ctx)
	_, err = c.Exec(ctx, "drop database if exists "+pgx.Identifier{name}.Sanitize()+" with (force)")
	return err
}

// Places is how large a workspace is made, and from what: $1 in its statements is the number of people, $2 the instant
// at which it stands, $3 the seed.
type Places struct {
	People int
	At     time.Time
	Seed   int
}

// chance is a number that looks as if by chance, from another and what it is for.
const chance = `
	create or replace function chance(i bigint, what int) returns bigint immutable parallel safe language sql as
	'select hashint8extended(i * 1000003 + what, 77) & 9223372036854775807'`

// filling is a statement that makes some of it: over parts, where it is large, of which $4 is the one and $5 how many.
type filling struct {
	what  string
	parts int
	query string
}

// fillings are in the order in which they are made. What a statement says of a share of all people holds of any size.
var fillings = []filling{
	{"companies", 1, `
		insert into company (name, domain, country, industry, size, created_at)
		select 'Company ' || i, 'c' || i || '.example',
			(array['NO','GB','CA','US','CL','ID','AE','SG','AU','DE','VN','CR'])[1 + chance(i, $3) % 12],
			(array['Fish farming','Ports','Desalination','Waterworks'])[1 + chance(i, $3 + 1) % 4],
			(array[0,8,40,200,3000])[1 + chance(i, $3 + 2) % 5], $2::timestamptz - interval '400 days'
		from generate_series(1, greatest($1::int * 3 / 10, 1)) i`},
	{"people", 4, `
		insert into person (first_name, last_name, email, phone, title, company_id, owner_id, country, city, source,
			campaign, language, created_at)
		select 'First' || chance(i, $3) % 997, 'Last' || chance(i, $3 + 1) % 7919, 'p' || i || '@c' || c || '.example',
			case when chance(i, $3 + 2) % 3 = 0 then '+44 20 7946 0' || lpad((i % 1000)::text, 3, '0') else '' end,
			(array['Site manager','Head of fish health','Harbour master','Plant manager','Biologist',
				'Water quality lead'])[1 + chance(i, $3 + 3) % 6], c,
			case when chance(i, $3 + 4) % 10 < 4 then (
				select min(id) + chance(i, $3 + 5) % count(*) from app_user where role = 'rep') end,
			(array['NO','GB','CA','US','CL','ID','AE','SG','AU','DE','VN','CR'])[1 + chance(i, $3 + 6) % 12],
			'City ' || chance(i, $3 + 7) % 300,
			(array['fair','form','import','referral','search'])[1 + chance(i, $3 + 8) % 5],
			(array['','oxygen','clinic','loan'])[1 + chance(i, $3 + 9) % 4],
			(array['en','nb','de','es',''])[1 + chance(i, $3 + 10) % 5],
			$2::timestamptz - (1 + chance(i, $3 + 11) % 9400) * interval '1 hour'
		from (
			select i, case when i <= $1::int / 50 then 1
				else 1 + chance(i, $3 + 12) % greatest($1::int * 3 / 10, 1) end as c
			from generate_series(1 + $1::int * $4::int / $5::int, $1::int * ($4::int + 1) / $5::int) i) x
		order by i`},
	{"consents", 1, `
		insert into consent (person_id, purpose_id, given, at, how)
		select id, 1, chance(id, $3) % 10 > 0, created_at, 'by form'
		from person
		where $1::int > 0 and $2::timestamptz is not null
		order by id`},
	{"tags", 1, `
		insert into tag (name, created_at)
		select 'tag ' || i, $2
		from generate_series(1, 500) i
		where $1::int > 0 and $3::int > 0`},
	{"tags on people", 2, `
		insert into person_tag (tag_id, person_id, at)
		select distinct 1 + (chance(i, $3) % 500) * (chance(i, $3 + 1) % 500) / 500, 1 + chance(i, $3 + 2) % $1::int,
			$2::timestamptz
		from generate_series($1::bigint * $4::int, $1::bigint * ($4::int + 1) - 1) i
		where $5::int > 0
		on conflict do nothing`},
	{"ways that are open", 1, `
		insert into enrolment (sequence_id, version_id, person_id, key, step, phase, entered_at, reached_at, due, look)
		select q.id, q.version_id, i, i, s.steps[1 + chance(i, $3 + 1) % cardinality(s.steps)], 1, x.at, x.at,
			$2::timestamptz + (1 + chance(i, $3 + 2) % 40) * interval '1 day',
			$2::timestamptz + (1 + chance(i, $3 + 2) % 40) * interval '1 day'
		from generate_series(1, $1::int / 2) i
		join lateral (select $2::timestamptz - (1 + chance(i, $3 + 3) % 700) * interval '1 hour' as at) x on true
		join sequence q on q.id = case when chance(i, $3) % 2 = 0 then 1 else 1 + chance(i, $3 + 4) % 50 end
		join bench_steps s on s.sequence_id = q.id
		order by i`},
	{"ways that have ended", 6, `
		insert into enrolment (sequence_id, version_id, person_id, key, step, phase, entered_at, reached_at, ended_at,
			reason)
		select q.id, q.version_id, p, p, s.steps[1 + chance(i, $3 + 1) % cardinality(s.steps)], 0, x.at, x.at,
			x.at + interval '9 days',
			(array['finished','finished','answered','opted out','handed over','stayed too long'])[
				1 + chance(i, $3 + 2) % 6]
		from (
			select i, 1 + chance(i, $3 + 5) % $1::int as p
			from generate_series($1::bigint * 3 * $4::int / $5::int, $1::bigint * 3 * ($4::int + 1) / $5::int - 1) i) w
		join lateral (select $2::timestamptz - (300 + chance(i, $3 + 3) % 9000) * interval '1 hour' as at) x on true
		join sequence q on q.id = case when chance(i, $3) % 2 = 0 then 1 else 1 + chance(i, $3 + 4) % 50 end
		join bench_steps s on s.sequence_id = q.id
		order by i`},
	{"what was done on them", 6, `
		insert into enrolment_log (enrolment_id, version_id, step, at, exit)
		select e.id, e.version_id, s.steps[1 + (chance(e.id, $3) + k) % cardinality(s.steps)],
			e.entered_at + k * interval '2 days', (array['next','happened','not in time'])[k]
		from enrolment e
		join bench_steps s on s.sequence_id = e.sequence_id, generate_series(1, 3) k
		where e.id % $5::int = $4::int and $1::int > 0 and $2::timestamptz is not null
		order by e.id, k`},
	{"emails of sequences", 6, `
		insert into touch (enrolment_id, sequence_id, version_id, person_id, step, kind, state, made_at, done_at,
			message_id, message_version, opened, clicked)
		select e.id, e.sequence_id, e.version_id, e.person_id, s.emails[1], 'email', 'sent', e.entered_at, e.entered_at,
			1 + e.sequence_id % 10, 1, chance(e.id, $3) % 3 = 0, chance(e.id, $3) % 12 = 0
		from enrolment e
		join bench_steps s on s.sequence_id = e.sequence_id
		where e.id % $5::int = $4::int and $1::int > 0 and $2::timestamptz is not null
		order by e.id`},
	{"one-off emails", 1, `
		insert into mailing (name, state, message_id, message_version, purpose_id, audience_id, plan, made_by, made_at,
			launched_at)
		select 'Letter ' || i, 'sending', 1 + i % 10, 1, 1, null, d.plan, 1,
			$2::timestamptz - i * interval '46 hours', $2::timestamptz - i * interval '46 hours'
		from generate_series(1, 200) i, (select plan from mailing order by id limit 1) d
		where $1::int > 0 and $3::int > 0
		order by i desc`},
	{"their readers", 25, `
		insert into touch (mailing_id, person_id, step, kind, state, made_at, done_at, message_id, message_version,
			purpose_id, opened, clicked)
		select m.id, 1 + (chance(m.id, $3) % $1::int + i) % $1::int, 0, 'email', 'sent', m.launched_at, m.launched_at,
			m.message_id, 1, 1, chance(m.id * 7919 + i, $3 + 1) % 3 = 0, chance(m.id * 7919 + i, $3 + 1) % 12 = 0
		from mailing m,
			generate_series(1, case when m.id % 40 = 1 then $1::int * 4 / 10 when m.id % 10 = 2 then $1::int / 10
				else $1::int / 50 end) i
		where m.state = 'sending' and m.id % $5::int = $4::int and $2::timestamptz is not null
		order by m.id, i`},
	{"letters", 20, `
		insert into letter (touch_id, lane, phase, ready_at, mail_id, sender_id, address, subject)
		select t.id, case when t.mailing_id is null then 2 else 3 end, 'over', t.made_at, 'b' || t.id,
			1 + chance(t.id, $3) % 20, p.email, 'A night without oxygen ' || t.message_id
		from touch t
		join person p on p.id = t.person_id
		where t.kind = 'email' and t.id % $5::int = $4::int and $1::int > 0 and $2::timestamptz is not null
			and $3::int > 0
		order by t.id`},
	{"who sent how many", 1, `
		insert into kept (of, id, what, n)
		select 'sender', lt.sender_id, to_char(t.done_at, 'YYYY-MM-DD'), count(*)
		from touch t
		join letter lt on lt.touch_id = t.id
		where t.state = 'sent' and t.done_at is not null and $1::int > 0 and $2::timestamptz is not null and $3::int > 0
		group by 2, 3`},
	{"opens and clicks", 10, `
		insert into signal (person_id, at, kind, sequence_id, step, message_id, link, touch_id, machine)
		select t.person_id, t.done_at + k * interval '3 hours', 3 + k, t.sequence_id, nullif(t.step, 0), t.message_id,
			case when k = 2 then 1 end, t.id, case when chance(t.id, $3) % 30 = 0 then 'bench' else '' end
		from touch t, generate_series(1, 2) k
		where t.id % $5::int = $4::int and (k = 1 and t.opened or k = 2 and t.clicked)
			and t.done_at < $2::timestamptz - interval '6 hours' and $1::int > 0
		order by t.id`},
	{"visits of pages and forms", 10, `
		insert into signal (person_id, at, kind, page_id)
		select case when i % 2000 = 0 then 1 when i % 50 = 0 then 1 + chance(i, $3) % greatest($1::int / 100, 1)
				else 1 + chance(i, $3) % $1::int end,
			$2::timestamptz - (1 + chance(i, $3 + 1) % 9400) * interval '1 hour',
			(array[1,1,1,1,1,1,2,3,6,1])[1 + chance(i, $3 + 2) % 10],
			1 + (chance(i, $3 + 3) % 200) * (chance(i, $3 + 4) % 200) / 200
		from generate_series($1::bigint * 6 * $4::int / $5::int, $1::bigint * 6 * ($4::int + 1) / $5::int - 1) i`},
	{"scores", 2, `
		insert into standing (model_id, person_id, score, armed, counted_at, changes)
		select m.id, p.id, case when chance(p.id, $3) % 5 < 2 then 0 else chance(p.id, $3 + 1) % 40 end, false, $2,
			m.changes
		from score_model m, person p
		where p.id % $5::int = $4::int and $1::int > 0
		order by p.id
		on conflict (model_id, person_id) do update set score = excluded.score, armed = false,
			counted_at = excluded.counted_at, due = null, rebase = false, changes = excluded.changes`},
	{"letters that came in", 8, `
		insert into incoming (mail_id, person_id, at, kind, sender, subject, body, said, sorted, sorted_at, answer,
			rep_id, due_at)
		select 'in' || i, p.id, $2::timestamptz - (1 + chance(i, $3) % 9400) * interval '1 hour', 6, p.email,
			'Re: A night without oxygen', said, said,
			case when i % 2000 = 0 then '' else 'not theirs' end, case when i % 2000 <> 0 then $2::timestamptz end,
			case when i % 2000 = 0 then '' else 'not now' end,
			case when i % 2000 = 0 then p.owner_id end, case when i % 2000 = 0 then $2::timestamptz end
		from (
			select i, 1 + chance(i, $3 + 1) % $1::int as who, 'Thank you for the guide. We have ' ||
				chance(i, $3 + 2) % 90 || ' pens near ' || chance(i, $3 + 3) % 300 || ' and the sensors drift after ' ||
				chance(i, $3 + 4) % 50 || ' days' as said
			from generate_series($1::bigint * 2 * $4::int / $5::int, $1::bigint * 2 * ($4::int + 1) / $5::int - 1) i) x
		join person p on p.id = x.who
		order by i`},
	{"handoffs", 1, `
		insert into handoff (person_id, rep_id, state, made_by, how, brief, made_at, decided_at, reason, clock_from)
		select p.id, coalesce(p.owner_id, (select min(id) from app_user where role = 'rep')),
			case when chance(p.id, $3) % 20 = 0 then 'open' when chance(p.id, $3) % 3 = 0 then 'sent back'
				else 'accepted' end,
			'crossing', 'owner', '{"score": 18, "line": 15, "reasons": [{"points": 10, "times": 1, "kind": "page view",
				"last": "2026-04-01T09:00:00Z"}]}', x.at,
			case when chance(p.id, $3) % 20 > 0 then x.at + interval '2 hours' end,
			case when chance(p.id, $3) % 20 > 0 and chance(p.id, $3) % 3 = 0 then 'too early' else '' end, x.at
		from person p, lateral (select $2::timestamptz - (1 + chance(p.id, $3 + 1) % 9000) * interval '1 hour' as at) x
		where p.id % 10 = 3 and $1::int > 0
		order by p.id`},
	{"deals", 1, `
		insert into deal (person_id, company_id, rep_id, stage_id, name, amount, currency, worth, position, opened_at,
			moved_at, closed_at, expected_on, next_step, campaign)
		select p.id, p.company_id, coalesce(p.owner_id, (select min(id) from app_user where role = 'rep')), st.id,
			'Deal ' || p.id, 100000 + chance(p.id, $3) % 5000000, 'EUR',
			100000 + chance(p.id, $3) % 5000000, p.id, x.at, x.at,
			case when st.won or st.lost then x.at + interval '20 days' end,
			($2::timestamptz + (chance(p.id, $3 + 1) % 200 - 20) * interval '1 day')::date,
			(array['','call them','send the offer'])[1 + chance(p.id, $3 + 2) % 3], p.campaign
		from person p
		join lateral (select $2::timestamptz - (500 + chance(p.id, $3 + 3) % 8000) * interval '1 hour' as at) x on true
		join (select id, won, lost, row_number() over (order by id) - 1 as n, count(*) over () as of from stage) st
			on st.n = chance(p.id, $3 + 4) % st.of
		where p.id % 17 = 5 and $1::int > 0
		order by p.id`},
	{"their moves", 1, `
		insert into deal_move (deal_id, stage_id, at, user_id)
		select d.id, coalesce(prior.id, d.stage_id), d.opened_at + k * interval '3 days', d.rep_id
		from deal d
		join stage st on st.id = d.stage_id, generate_series(0, 2) k
		left join lateral (
			select o.id
			from stage o
			join deal dd on dd.id = d.id
			where o.pipeline_id = st.pipeline_id and not o.won and not o.lost
			order by o.position
			limit 1 offset k) prior on k < 2
		where $1::int > 0 and $2::timestamptz is not null and $3::int > 0
		order by d.id, k`},
	{"tasks", 1, `
		insert into task (person_id, user_id, alert, words, how, made_at, shown_at)
		select p.id, coalesce(p.owner_id, (select min(id) from app_user where role = 'rep')), chance(p.id, $3) % 4 = 0,
			'Ask about the sensors', 'a form', x.at, x.at
		from person p, lateral (select $2::timestamptz - (1 + chance(p.id, $3 + 1) % 900) * interval '1 hour' as at) x
		where p.id % 60 = 7 and $1::int > 0
		order by p.id`},
	{"notes", 1, `
		insert into note (person_id, at, user_id, text)
		select 1 + chance(i, $3) % $1::int, $2::timestamptz - (1 + chance(i, $3 + 1) % 9000) * interval '1 hour', 1,
			'They have ' || chance(i, $3 + 2) % 40 || ' pens.'
		from generate_series(1, $1::int / 5) i`},
	{"visits as pages count them", 5, `
		insert into page_visit (page_id, at, started_at, finished_at, source)
		select 1 + (chance(i, $3) % 200) * (chance(i, $3 + 1) % 200) / 200,
			x.at, case when chance(i, $3 + 3) % 3 = 0 then x.at end, case when chance(i, $3 + 3) % 9 = 0 then x.at end,
			(array['','newsletter','search','fair'])[1 + chance(i, $3 + 4) % 4]
		from generate_series($1::bigint * 5 * $4::int / $5::int, $1::bigint * 5 * ($4::int + 1) / $5::int - 1) i,
			lateral (select $2::timestamptz - (1 + chance(i, $3 + 2) % 9400) * interval '1 hour' as at) x`},
	{"events", 1, `
		insert into event (name, starts_at, ends_at, zone, made_at)
		select 'Clinic ' || i, $2::timestamptz + (i - 40) * interval '9 days',
			$2::timestamptz + (i - 40) * interval '9 days' + interval '1 hour', 'UTC', $2
		from generate_series(1, 50) i
		where $1::int > 0 and $3::int > 0`},
	{"who comes to them", 1, `
		insert into attendance (event_id, person_id, state, at, how)
		select distinct on (e, p) e, p, (array['registered','came','stayed away','cancelled'])[
				1 + chance(i, $3 + 2) % 4],
			$2::timestamptz - interval '20 days', 'by form'
		from (
			select i, 1 + (chance(i, $3) % 50) * (chance(i, $3 + 3) % 50) / 50 as e,
				1 + chance(i, $3 + 1) % $1::int as p
			from generate_series(1, $1::int / 5) i) x
		order by e, p`},
	{"meetings", 1, `
		insert into booking (user_id, person_id, starts_at, ends_at, state, asked_at)
		select (select min(id) from app_user where role = 'rep') + chance(i, $3) % (
				select count(*) from app_user where role = 'rep'),
			1 + chance(i, $3 + 1) % $1::int, x.at, x.at + interval '30 minutes',
			case when x.at > $2::timestamptz then 'booked' else 'held' end, x.at - interval '5 days'
		from generate_series(1, $1::int / 50) i,
			lateral (select $2::timestamptz + (chance(i, $3 + 2) % 4000 - 3800) * interval '2 hours' as at) x`},
	{"audiences by hand", 1, `
		insert into audience (name, live, created_at, changed_at, swept_at)
		select 'Picked ' || i, false, $2, $2, $2
		from generate_series(1, 240) i
		where $1::int > 0 and $3::int > 0`},
	{"who is in them", 4, `
		insert into audience_member (audience_id, person_id, joined_at)
		select a.id, 1 + (chance(a.id, $3) % $1::int + i) % $1::int, $2
		from audience a, generate_series(1, case when a.id % 60 = 1 then $1::int / 4 else $1::int / 500 end) i
		where not a.live and a.id % $5::int = $4::int
		on conflict do nothing`},
}

// FillPlaces makes it. Said is told of each statement, with its rows and how long it took.
func (s *Store) FillPlaces(
	ctx context.Context, p Places, said func(what string, rows int64, took time.Duration),
) error {
	for _, q := range []string{chance, `
		create table if not exists bench_steps as
		select q.id as sequence_id, array(
				select (s->>'id')::int from jsonb_array_elements(v.plan->'steps') s order by 1) as steps, array(
				select (s->>'id')::int
				from jsonb_array_elements(v.plan->'steps') s
				where s->>'kind' = 'email'
				order by 1) as emails
		from sequence q
		join sequence_version v on v.id = q.version_id`} {
		if _, err := exec(ctx, s.Queries, q); err != nil {
			return fmt.Errorf("readying what is filled: %w", err)
		}
	}
	for _, f := range fillings {
		start, rows := time.Now(), int64(0)
		for part := range f.parts {
			args := []any{p.People, p.At, p.Seed}
			if f.parts > 1 {
				args = append(args, part, f.parts)
			}
			n, err := exec(ctx, s.Queries, f.query, args...)
			if err != nil {
				return fmt.Errorf("filling %s: %w", f.what, err)
			}
			rows += n
		}
		said(f.what, rows, time.Since(start))
		if _, err := exec(ctx, s.Queries, "analyze"); err != nil {
			return err
		}
	}
	return s.Settle(ctx)
}

// FillWork puts one of a hundred people on a sequence at one of its steps that somebody does by hand: of ten, six are
// to be called, three are to be written to on the network, and of one something else is to be done. Every third call
// was tried before.
func (s *Store) FillWork(ctx context.Context, p Places, sequenceID, version int64, steps [3]int32) (int64, error) {
	return exec(ctx, s.Queries, `
		with who as materialized (
			select p.id, p.owner_id, chance(p.id, $3) % 10 as of10,
				$2::timestamptz - (1 + chance(p.id, $3 + 1) % 90) * interval '1 hour' as at
			from person p
			where p.id % 100 = 41 and p.id <= $1),
		does as materialized (
			select id, owner_id, at, case when of10 < 6 then $6::int when of10 < 9 then $7 else $8 end as step,
				case when of10 < 6 then 'call' when of10 < 9 then 'social' else 'task' end as kind
			from who),
		ways as (
			insert into enrolment (sequence_id, version_id, person_id, key, step, phase, entered_at, reached_at, due,
				look)
			select $4, $5, id, id, step, 2, at, at, $2::timestamptz + interval '9 days',
				$2::timestamptz + interval '9 days'
			from does
			returning id, person_id, step),
		made as (
			insert into touch (enrolment_id, sequence_id, version_id, person_id, step, kind, state, made_at)
			select w.id, $4, $5, w.person_id, w.step, d.kind, 'desk', d.at
			from ways w
			join does d on d.id = w.person_id
			returning id, person_id, kind, made_at)
		insert into work (touch_id, kind, ready_at, due_at, rep_id, tries, tried_at)
		select m.id, m.kind, m.made_at, m.made_at + interval '5 days', d.owner_id,
			(m.kind = 'call' and m.id % 3 = 0)::int,
			case when m.kind = 'call' and m.id % 3 = 0 then m.made_at + interval '30 minutes' end
		from made m
		join does d on d.id = m.person_id`, p.People, p.At, p.Seed, sequenceID, version, steps[0], steps[1],
		steps[2])
}

// Explain is the plan of a statement as it is run, in lines.
func (s *Store) Explain(ctx context.Context, q Statement) ([]string, error) {
	var out []string
	undone := errors.New("undone")
	err := s.InTx(ctx, func(tx Tx) error {
		rows, err := all[string](ctx, tx, "explain (analyze, buffers, costs off) "+q.SQL, q.Args...)
		if out = rows; err != nil {
			return err
		}
		return undone
	})
	if errors.Is(err, undone) {
		err = nil
	}
	return out, err
}

// Hurts are the ids of what asks most of each page.
type Hurts struct {
	Person, Company, Mailing, Event, Page, Audience, Deal int64
}

// Hurts finds them.
func (db Queries) Hurts(ctx context.Context) (Hurts, error) {
	return one[Hurts](ctx, db, `
		select
			(select person_id from signal where person_id < 100 group by 1 order by count(*) desc limit 1) as person,
			(select company_id from person where id < 100 group by 1 order by count(*) desc limit 1) as company,
			(select mailing_id from touch where mailing_id is not null group by 1 order by count(*) desc limit 1)
				as mailing,
			(select event_id from attendance group by 1 order by count(*) desc limit 1) as event,
			(select page_id from page_visit group by 1 order by count(*) desc limit 1) as page,
			(select id from audience order by members desc, id limit 1) as audience,
			(select id from deal where closed_at is null order by id limit 1) as deal`)
}
