package store

import (
	"context"
	"database/sql"
	"fmt"
	"time"
)

// Mended is a line of a kept figure that was not what counting gave.
type Mended struct {
	Of     int64  `json:"of"`   // of which tag, sequence …
	What   string `json:"what"` // of its lines
	Was    int64  `json:"was"`
	Became int64  `json:"became"`
}

// Mending is what was mended of one kind of figure at once.
type Mending struct {
	At     time.Time
	Figure string // in words: whose figures
	Lines  int64
	First  JSON[[]Mended] // at most mendedTold of the lines
}

// mendedTold bounds how many lines a Mending tells one by one.
const mendedTold = 20

// counting is a kind of figure whose lines stand in kept, and what counting gives: id, what and n.
type counting struct{ of, words, truth string }

var countings = []counting{
	{"tag", "tags", `
		select tag_id as id, '' as what, count(*) as n
		from person_tag
		group by 1`},
	{"mailing", "one-off emails", `
		select t.mailing_id as id, l.what, count(*) as n
		from touch t, lateral (values ('is ' || t.state || ' ' || t.people || ' ' || t.machines, true),
			('opened ' || floor(extract(epoch from t.opened_at - t.done_at) / 3600), t.opened_at >= t.done_at),
			('clicked ' || floor(extract(epoch from t.clicked_at - t.done_at) / 3600), t.clicked_at >= t.done_at)
			union all
			select 'presser ' || b, true
			from generate_series(1, case when t.pressed = 0 then 0 else 62 end) b
			where t.pressed & (1::bigint << b) <> 0) as l(what, so)
		where t.mailing_id is not null and l.so
		group by 1, 2
		union all
		select t.mailing_id, 'pressed ' || s.link, count(*)
		from signal s
		join touch t on t.id = s.touch_id
		where s.sequence_id is null and s.kind = {click} and s.machine = '' and s.link is not null
			and t.mailing_id is not null
		group by 1, 2
		union all
		select mailing_id, 'left ' || reason, count(*)
		from mailing_left
		group by 1, 2`},
	{"sender", "emails by mailbox and day", `
		select lt.sender_id as id, to_char(t.done_at, 'YYYY-MM-DD') as what, count(*) as n
		from touch t
		join letter lt on lt.touch_id = t.id
		where t.state = 'sent' and t.done_at is not null and lt.sender_id is not null
		group by 1, 2`},
	{"message", "messages", `
		select message_id as id, '' as what, count(*) as n
		from touch
		where state = 'sent' and message_id is not null
		group by 1`},
	{"event", "events", `
		select event_id as id, state as what, count(*) as n
		from attendance
		where current
		group by 1, 2`},
	{"page", "pages", `
		select id, what, sum(n)::bigint as n
		from (
			select v.page_id as id, w.what, count(*) as n
			from page_visit v, lateral (values ('seen', true), ('begun', v.started_at is not null),
				('finished', v.finished_at is not null)) as w(what, so)
			where w.so
			group by 1, 2
			union all
			select p.page_id, w.what, w.n
			from page_past p,
				lateral (values ('seen', p.seen), ('begun', p.begun), ('finished', p.finished)) as w(what, n)
			where w.n > 0) v
		group by 1, 2`},
}

// mendFlows is the same for what maps of sequences show.
const mendFlows = `
	with truth as (
		select e.sequence_id, w.step, w.what, '' as exit, w.reason, count(*) as n
		from enrolment e, lateral (values (e.step, 'here', '', e.ended_at is null), (0, 'entered', '', true),
			(0, 'ended', e.reason, e.ended_at is not null)) as w(step, what, reason, so)
		where w.so
		group by 1, 2, 3, 5
		union all
		select v.sequence_id, l.step, 'passed', l.exit, l.reason, sum(l.n)
		from (select version_id, step, exit, reason, count(*) as n from enrolment_log group by 1, 2, 3, 4) l
		join sequence_version v on v.id = l.version_id
		group by 1, 2, 4, 5
		union all
		select t.sequence_id, t.step, w.what, '', '', count(*)
		from touch t, lateral (values (t.state, true), ('opened', t.opened), ('clicked', t.clicked),
			('replied', t.replied)) as w(what, so)
		where t.sequence_id is not null and w.so
		group by 1, 2, 3),
	is_kept as (
		select sequence_id, step, what, exit, reason, sum(n)::bigint as n
		from flow_count
		group by 1, 2, 3, 4, 5),
	wrong as (
		select sequence_id, step, what, exit, reason, coalesce(k.n, 0) as was, coalesce(t.n, 0)::bigint as became
		from truth t
		full join is_kept k using (sequence_id, step, what, exit, reason)
		where coalesce(k.n, 0) <> coalesce(t.n, 0)),
	put as (
		insert into flow_count (sequence_id, step, what, exit, reason, n)
		select sequence_id, step, what, exit, reason, became - was
		from wrong)
	select sequence_id as of, trim('step ' || step || ' ' || what || ' ' || exit || ' ' || reason) as what, was, became
	from wrong
	order by 1, step, 2`

// mend is the statement that holds the lines of a kind against what counting gives, and adds what is missing of them or
// too much. It counts and adds in one snapshot, so what others add meanwhile is neither counted nor lost.
func (c counting) mend() string {
	return `
		with truth as (` + c.truth + `),
		is_kept as (select id, what, sum(n)::bigint as n from kept where of = $1 group by 1, 2),
		wrong as (
			select id, what, coalesce(k.n, 0) as was, coalesce(t.n, 0) as became
			from truth t
			full join is_kept k using (id, what)
			where coalesce(k.n, 0) <> coalesce(t.n, 0)),
		put as (insert into kept (of, id, what, n) select $1, id, what, became - was from wrong)
		select id as of, what, was, became
		from wrong
		order by 1, 2`
}

// answersOf is what signals say of emails, as it stands beside them.
const answersOf = `
	select touch_id as id, bool_or(kind = {open} and machine = '') as opened,
		bool_or(kind = {click} and machine = '') as clicked, bool_or(kind = {reply} and machine = '') as replied,
		coalesce(bit_or(1 << kind) filter (where machine = ''), 0) as people,
		coalesce(bit_or(1 << kind) filter (where machine <> ''), 0) as machines,
		min(at) filter (where machine = '' and kind = {open}) as opened_at,
		min(at) filter (where machine = '' and kind = {click}) as clicked_at,
		coalesce(bit_or(1::bigint << link) filter (where machine = '' and kind = {click} and link between 1 and 62), 0)
			as pressed
	from signal `

// wrongAnswers asks for emails of which something else is kept than a, an answersOf, says.
const wrongAnswers = `
	(t.sequence_id is not null and (t.opened, t.clicked, t.replied) is distinct from
		(coalesce(a.opened, false), coalesce(a.clicked, false), coalesce(a.replied, false))
	or t.mailing_id is not null and (t.people, t.machines, t.pressed, t.opened_at, t.clicked_at) is distinct from
		(coalesce(a.people, 0), coalesce(a.machines, 0), coalesce(a.pressed, 0), a.opened_at, a.clicked_at)) `

// MendFigures holds all figures that are kept against what counting gives, mends those that are not it, and tells what
// it mended, by kind of figure. It may run while everything goes on.
func (s *Store) MendFigures(ctx context.Context, now time.Time) (out []Mending, err error) {
	mended := func(words string, list []Mended, err error) error {
		if err != nil {
			return fmt.Errorf("holding the figures of %s against what they are of: %w", words, err)
		}
		if len(list) > 0 {
			m := Mending{At: now, Figure: words, Lines: int64(len(list))}
			m.First.V = list[:min(len(list), mendedTold)]
			out = append(out, m)
		}
		return nil
	}
	// What emails themselves keep comes first: other figures are counted from it.
	list, err := s.mendAnswers(ctx)
	if err := mended("emails", list, err); err != nil {
		return nil, err
	}
	for _, c := range countings {
		list, err := s.inSnapshot(ctx, c.mend(), c.of)
		if err := mended(c.words, list, err); err != nil {
			return nil, err
		}
	}
	list, err = s.inSnapshot(ctx, mendFlows)
	if err := mended("sequences", list, err); err != nil {
		return nil, err
	}
	list, err = s.mendAudiences(ctx)
	if err := mended("audiences", list, err); err != nil {
		return nil, err
	}
	return out, s.InTx(ctx, func(tx Tx) error {
		for _, m := range out {
			if _, err := exec(ctx, tx, "insert into mending (at, figure, lines, first) values ($1, $2, $3, $4)", m.At,
				m.Figure, m.Lines, m.First); err != nil {
				return err
			}
		}
		return nil
	})
}

// inSnapshot runs a statement that reads and adds, in one snapshot.
func (s *Store) inSnapshot(ctx context.Context, query string, args ...any) (out []Mended, err error) {
	tx, err := s.db.BeginTxx(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead})
	if err != nil {
		return nil, err
	}
	defer tx.Rollback() // nothing to do once it is committed
	if out, err = all[Mended](ctx, tx, query, args...); err != nil {
		return nil, err
	}
	return out, tx.Commit()
}

// mendAnswers has emails keep what their signals say. Which of them do not is looked for without a lock; each of those
// is locked and counted once more.
func (s *Store) mendAnswers(ctx context.Context) (out []Mended, err error) {
	const most = 20_000
	var after int64
	for {
		ids, err := all[int64](ctx, s.Queries, `
			select t.id
			from touch t
			left join (`+answersOf+`
				where touch_id > $1 and kind between {open} and {complaint}
				group by 1) a using (id)
			where t.id > $1 and `+wrongAnswers+`
			order by 1
			limit $2`, after, most)
		if err != nil || len(ids) == 0 {
			return out, err
		}
		var list []Mended
		err = s.InTx(ctx, func(tx Tx) (err error) {
			_, err = exec(ctx, tx, "select from touch where id = any ($1) order by id for update", ids)
			if err != nil {
				return err
			}
			list, err = all[Mended](ctx, tx, `
				with a as (
					select t.id as of, t.sequence_id, a.*
					from touch t
					left join lateral (`+answersOf+`
						where touch_id = t.id and kind between {open} and {complaint}
							and (sequence_id = t.sequence_id or sequence_id is null)
						group by 1) a on true
					where t.id = any ($1)),
				done as (
					update touch t
					set opened = t.sequence_id is not null and coalesce(a.opened, false),
						clicked = t.sequence_id is not null and coalesce(a.clicked, false),
						replied = t.sequence_id is not null and coalesce(a.replied, false),
						people = case when t.mailing_id is null then 0 else coalesce(a.people, 0) end,
						machines = case when t.mailing_id is null then 0 else coalesce(a.machines, 0) end,
						pressed = case when t.mailing_id is null then 0 else coalesce(a.pressed, 0) end,
						opened_at = case when t.mailing_id is not null then a.opened_at end,
						clicked_at = case when t.mailing_id is not null then a.clicked_at end
					from a
					where t.id = a.of and `+wrongAnswers+`
					returning t.id, t.opened or t.opened_at is not null as opens)
				select id as of, 'what was done with it' as what, 0 as was, opens::int as became
				from done
				order by 1`, ids)
			return err
		})
		if err != nil {
			return out, err
		}
		if out = append(out, list...); len(ids) < most {
			return out, nil
		}
		after = ids[len(ids)-1]
	}
}

// mendAudiences has audiences keep how many are in them, one after the other, each locked against who joins and leaves.
func (s *Store) mendAudiences(ctx context.Context) (out []Mended, err error) {
	wrong, err := all[int64](ctx, s.Queries, `
		select a.id
		from audience a
		left join (select audience_id, count(*) as n from audience_member group by 1) m on m.audience_id = a.id
		where a.members <> coalesce(m.n, 0)
		order by 1`)
	if err != nil {
		return nil, err
	}
	for _, id := range wrong {
		m := Mended{Of: id, What: "people in it"}
		err := s.InTx(ctx, func(tx Tx) (err error) {
			m.Was, err = one[int64](ctx, tx, "select members from audience where id = $1 for update", id)
			if err != nil {
				return err
			}
			m.Became, err = one[int64](ctx, tx, "select count(*) from audience_member where audience_id = $1", id)
			if err != nil {
				return err
			}
			_, err = exec(ctx, tx, "update audience set members = $2 where id = $1", id, m.Became)
			return err
		})
		if err != nil && !IsNotFound(err) { // it was removed meanwhile
			return out, err
		}
		if m.Was != m.Became {
			out = append(out, m)
		}
	}
	return out, nil
}

// Mendings lists what was mended last, the newest first.
func (db Queries) Mendings(ctx context.Context, n int) ([]Mending, error) {
	return all[Mending](ctx, db, "select at, figure, lines, first from mending order by id desc limit $1", n)
}
