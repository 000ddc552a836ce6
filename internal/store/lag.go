package store

import (
	"context"
	"fmt"
	"time"
)

// Lag is what waits of one kind of work.
type Lag struct {
	Work    string     // one word, for programs
	Words   string     // what it is that waits
	Waiting int64      // up to MostWaiting + 1
	Since   *time.Time // when the first of it came due; nil: that is not told
}

// MostWaiting is how much of what waits is counted: nobody waits for the rest.
const MostWaiting = 10_000

// lagging asks of each kind of work when what waits came due, as since: of what is due at the instant $1.
var lagging = []struct{ work, words, since string }{
	{"walking", "people who are due on sequences", `
		select e.look as since
		from enrolment e
		join sequence q on q.id = e.sequence_id
		where e.ended_at is null and e.look <= $1 and q.state = 'running'
			and e.person_id <> all (array(select id from person where held_at is not null))
		order by 1`},
	{"answering", "emails that somebody asked for", letterDue + "and lt.lane = 1 order by 1"},
	{"sending", "emails of sequences", letterDue + `
			and lt.lane = 2
			and exists (
				select
				from touch t
				join sequence q on q.id = t.sequence_id
				where t.id = lt.touch_id and q.state = 'running')
		order by 1`},
	{"mailing", "one-off emails", letterDue + `
			and lt.lane = 3
			and exists (
				select
				from touch t
				join mailing l on l.id = t.mailing_id
				where t.id = lt.touch_id and l.state in ('filling', 'sending'))
		order by 1`},
	{"scoring", "scores to be counted anew", `
		select s.due as since
		from standing s
		join score_model m on m.id = s.model_id and m.removed_at is null
		where s.due <= $1
		order by 1`},
	{"following", "people to be held against the rules of audiences", `
		select coalesce(due, $1) as since
		from audience_stale
		where due is null or due <= $1`},
	{"describing", "audiences with a new rule", `
		select null::timestamptz as since
		from audience
		where recount and $1::timestamptz is not null`},
	{"clocks", "response clocks that have run out", `
		select clock_due as since
		from handoff
		where state = 'open' and rep_id is not null and clock_due <= $1
		order by 1`},
	{"returning", "returns to nurture after a cool-off", `
		select c.due as since
		from comeback c
		join sequence q on q.id = c.sequence_id
		where c.done_at is null and c.due <= $1 and q.state <> 'held'
		order by 1`},
	{"lists", "imports, exports and changes of many", `
		select made_at as since
		from batch
		where state in ('waiting', 'running', 'undoing') and made_at <= $1
		order by 1`},
	{"summing", "lines of figures to be added up", `
		select null::timestamptz as since
		from kept
		where fresh and $1::timestamptz is not null`},
}

const letterDue = `
		select lt.ready_at as since
		from letter lt
		where lt.open and lt.phase = 'waiting' and lt.ready_at <= $1 `

// Lags tells what waits of each kind of work at an instant, in their order.
func (db Queries) Lags(ctx context.Context, now time.Time) ([]Lag, error) {
	list := make([]Lag, len(lagging))
	for i, l := range lagging {
		lag, err := one[Lag](ctx, db, `
			select count(*) as waiting, min(since) as since
			from (`+l.since+`
				limit $2) w`, now, MostWaiting+1)
		if err != nil {
			return nil, fmt.Errorf("looking what waits of %s: %w", l.work, err)
		}
		lag.Work, lag.Words = l.work, l.words
		list[i] = lag
	}
	return list, nil
}

// Workers lists since when those work who are at work, the first first.
func (db Queries) Workers(ctx context.Context) ([]time.Time, error) {
	return all[time.Time](ctx, db, `
		select w.started_at
		from worker w
		where exists (
			select
			from pg_locks l
			where l.locktype = 'advisory' and l.objsubid = 1 and l.granted and l.pid <> pg_backend_pid()
				and (l.classid::bigint << 32) + l.objid::bigint = w.id
				and l.database = (select oid from pg_database where datname = current_database()))
		order by 1`)
}
