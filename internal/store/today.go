package store

import (
	"context"
	"time"
)

// Day is what happened on one day.
type Day struct {
	Day   time.Time
	Sent  int64
	Opens int64
	Acts  int64 // clicks, forms, downloads, answers
}

// Days counts mail and signals by day, from an instant on, the days being
// those of a zone.
func (db Queries) Days(ctx context.Context, from time.Time, zone string) ([]Day, error) {
	return all[Day](ctx, db, `
		with t as (
			select date_trunc('day', done_at at time zone $2) as day, count(*) as sent
			from touch
			where state = 'sent' and done_at >= $1
			group by 1),
		g as (select date_trunc('day', at at time zone $2) as day, count(*) filter (where kind = {open}) as opens,
			count(*) filter (where kind in ({form}, {download}, {click}, {reply})) as acts
			from signal where at >= $1 and machine = '' group by 1)
		select coalesce(t.day, g.day) as day, coalesce(t.sent, 0) as sent, coalesce(g.opens, 0) as opens,
			coalesce(g.acts, 0) as acts
		from t full join g on t.day = g.day order by 1`, from, zone)
}

// Figures are the counts that the first screen shows.
type Figures struct {
	People   int64
	OnTheWay int64 `db:"on_the_way"`
	Waiting  int64 // open handoffs
	Pool     int64 // of them, with nobody
	Calls    int64
	Trouble  int64
	Deals    int64
	Replies  int64 // since
	Fresh    int64 // people met since
}

// Figures counts, since an instant where they are of a time.
func (db Queries) Figures(ctx context.Context, since time.Time) (Figures, error) {
	return one[Figures](ctx, db, `select
		(select count(*) from person where erased_at is null) as people,
		coalesce((select sum(n) from flow_count where what = 'here'), 0)::bigint as on_the_way,
		(select count(*) from handoff where state = 'open') as waiting,
		(select count(*) from handoff where state = 'open' and rep_id is null) as pool,
		(
			select count(*) from work w join touch t on t.id = w.touch_id where w.open and t.kind <> 'post') as calls,
		(select count(*) from letter where aside) as trouble,
		(select count(*) from deal where closed_at is null) as deals,
		(
			select count(*)
			from incoming
			where kind = {reply} and (not unsure or sorted = 'theirs') and at >= $1) as replies,
		(select count(*) from person where created_at >= $1) as fresh`, since)
}

// Risers lists the people whose score is highest among those who have points, did something since an instant and are
// with nobody yet.
func (db Queries) Risers(ctx context.Context, since time.Time, n int) ([]Person, error) {
	return all[Person](ctx, db, `
		with top as materialized (
			select k.person_id, k.score
			from standing k
			where k.model_id = `+theModel+` and k.score > 0
				and exists (
					select
					from signal g
					where g.person_id = k.person_id and g.at >= $1 and g.machine = '' and g.kind <> {points given})
				and not exists (select from deal_of d where d.person_id = k.person_id and d.closed_at is null)
				and not exists (select from handoff h where h.person_id = k.person_id and h.state = 'open')
				and exists (select from person p where p.id = k.person_id and p.erased_at is null)
			order by k.score desc, k.person_id desc
			limit $2)`+personFields+`
		join top on top.person_id = p.id
		order by top.score desc, p.id desc`, since, n)
}
