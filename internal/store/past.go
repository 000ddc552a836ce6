package store

import (
	"context"
	"time"
)

// What has had its time is dropped in parts of at most n, each a transaction of its own, and first added to how many
// there were. Each of these answers how much it dropped; fewer than n: nothing older is left.

// DropVisits drops the single visits of pages before an instant. How many there were by month and by where they came
// from stays.
func (db Queries) DropVisits(ctx context.Context, before time.Time, n int) (int64, error) {
	return one[int64](ctx, db, `
		with old as (
			select v.id
			from page p
			cross join lateral (
				select id from page_visit where page_id = p.id and at < $1 order by at limit $2) v
			limit $2),
		gone as (delete from page_visit v using old where v.id = old.id returning v.*),
		months as (
			insert into page_past as p (page_id, month, source, site, seen, begun, finished)
			select page_id, date_trunc('month', at at time zone 'UTC')::date, source, site, count(*), count(started_at),
				count(finished_at)
			from gone
			group by 1, 2, 3, 4
			on conflict (page_id, month, source, site) do update
			set seen = p.seen + excluded.seen, begun = p.begun + excluded.begun,
				finished = p.finished + excluded.finished),
		stays as ( -- what is kept of pages loses them with each that goes
			insert into kept (of, id, what, n)
			select 'page', g.page_id, w.what, count(*)
			from gone g, lateral (values ('seen', true), ('begun', g.started_at is not null),
				('finished', g.finished_at is not null)) as w(what, so)
			where w.so
			group by 2, 3)
		select count(*) from gone`, before, n)
}

// DropMoves drops who joined and left audiences before an instant. How many did so on each day of a zone stays.
func (db Queries) DropMoves(ctx context.Context, before time.Time, zone string, n int) (int64, error) {
	return one[int64](ctx, db, `
		with old as (
			select m.id
			from audience a
			cross join lateral (
				select id from audience_move where audience_id = a.id and at < $1 order by at, id limit $2) m
			limit $2),
		gone as (delete from audience_move m using old where m.id = old.id returning m.*),
		days as (
			insert into audience_past as p (audience_id, day, joined, "left")
			select audience_id, (at at time zone $3)::date, count(*) filter (where joined),
				count(*) filter (where not joined)
			from gone
			group by 1, 2
			on conflict (audience_id, day) do update
			set joined = p.joined + excluded.joined, "left" = p."left" + excluded."left")
		select count(*) from gone`, before, n, zone)
}

// DropChanges drops what is kept of the changes of records before an instant: they cannot be taken back any more.
func (db Queries) DropChanges(ctx context.Context, before time.Time, n int) (int64, error) {
	return one[int64](ctx, db, `
		with oldest as (select id, at from change order by id limit $2),
		gone as (delete from change c using oldest o where c.id = o.id and o.at < $1 returning 1)
		select count(*) from gone`, before, n)
}

// DropBrowsers forgets browsers that somebody was known by and that have not come since an instant. Whoever comes with
// one again is nobody we know, until they press a link or fill in a form.
func (db Queries) DropBrowsers(ctx context.Context, before time.Time, n int) (int64, error) {
	return one[int64](ctx, db, `
		with gone as (
			delete from visitor
			where id in (select id from visitor where person_id is not null and seen_at < $1 limit $2)
			returning 1)
		select count(*) from gone`, before, n)
}
