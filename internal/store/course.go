package store

import (
	"context"
	"time"

	"ombak/internal/core/pipeline"
)

// DealTracks lists how all deals moved, each in its order, at most so many moves, the newest deals first.
func (db Queries) DealTracks(ctx context.Context, most int) ([]pipeline.Track, error) {
	return all[pipeline.Track](ctx, db, `
		select m.deal_id as deal, m.stage_id as stage, m.at, st.won, st.lost
		from deal_move m
		join stage st on st.id = m.stage_id
		order by m.deal_id desc, m.at, m.id
		limit $1`, most)
}

// LastMove is the id of the newest move of a deal; 0: none moved.
func (db Queries) LastMove(ctx context.Context) (int64, error) {
	return one[int64](ctx, db, "select coalesce(max(id), 0) from deal_move")
}

// OpenDeals lists the open deals of a pipeline, the largest first, at most some; a rep of 0 stands for all.
func (db Queries) OpenDeals(ctx context.Context, pipe, rep int64, most int) ([]Deal, error) {
	return all[Deal](ctx, db, dealFields+`
		where d.id in (
			select o.id
			from deal o
			where o.closed_at is null and o.stage_id in (select id from stage where pipeline_id = $1)
				and ($2 = 0 or o.rep_id = $2)
			order by o.worth desc, o.id
			limit $3)
		order by d.worth desc, d.id`, pipe, rep, most)
}

// DealAhead is what a forecast knows of an open deal.
type DealAhead struct {
	Stage    int64      `db:"stage_id"`
	Worth    int64      // in the workspace’s currency
	Moved    time.Time  `db:"moved_at"`
	Expected *time.Time `db:"expected_on"`
}

// DealsAhead lists what a forecast knows of the open deals of a pipeline, the largest first, at most some; a rep of 0
// stands for all.
func (db Queries) DealsAhead(ctx context.Context, pipe, rep int64, most int) ([]DealAhead, error) {
	return all[DealAhead](ctx, db, `
		select stage_id, worth, moved_at, expected_on
		from deal
		where closed_at is null and stage_id in (select id from stage where pipeline_id = $1)
			and ($2 = 0 or rep_id = $2)
		order by worth desc, id
		limit $3`, pipe, rep, most)
}

// OpenSums sums the open deals of each stage of a pipeline, in the workspace’s currency; a rep of 0 stands for all.
func (db Queries) OpenSums(ctx context.Context, pipe, rep int64) ([]pipeline.Sum, error) {
	return all[pipeline.Sum](ctx, db, `
		select stage_id as stage, count(*) as deals, coalesce(sum(worth), 0)::bigint as amount
		from deal
		where closed_at is null and stage_id in (select id from stage where pipeline_id = $1)
			and ($2 = 0 or rep_id = $2)
		group by stage_id`, pipe, rep)
}

// Deal reads one.
func (db Queries) Deal(ctx context.Context, id int64) (Deal, error) {
	return one[Deal](ctx, db, dealFields+"where d.id = $1", id)
}

// SetPlan keeps when a deal is expected to be won (nil: nobody knows), and what is done next for it and when; it keeps
// what of that has changed, and who said so.
func (tx Tx) SetPlan(ctx context.Context, d Deal, p DealPlan, user int64, at time.Time) error {
	if _, err := exec(ctx, tx, `
		update deal
		set name = $2, expected_on = $3, next_step = $4, next_on = $5, reason = $6
		where id = $1`, d.ID, p.Name, p.Expected, p.Next, p.NextOn, p.Reason); err != nil {
		return err
	}
	day := func(t *time.Time) string {
		if t == nil {
			return ""
		}
		return t.Format(time.DateOnly)
	}
	for _, c := range []struct{ what, was, became string }{{"name", d.Name, p.Name},
		{"expected", day(d.Expected), day(p.Expected)}, {"next step", d.Next, p.Next},
		{"next on", day(d.NextOn), day(p.NextOn)}, {"reason", d.Reason, p.Reason}} {
		if c.was != c.became {
			if err := addDealChange(ctx, tx, d.ID, user, c.what, c.was, c.became, at); err != nil {
				return err
			}
		}
	}
	return nil
}

// DealPlan is what is planned for a deal. Days are at midnight, UTC.
type DealPlan struct {
	Name     string
	Expected *time.Time
	Next     string
	NextOn   *time.Time
	Reason   string // why it was won or lost
}

// DealChanges lists what changed of a deal besides its stage, the newest first.
func (db Queries) DealChanges(ctx context.Context, deal int64) ([]DealChange, error) {
	return all[DealChange](ctx, db, `
		select c.deal_id, c.at, coalesce(a.name, '') as "user", c.what, c.was, c.became
		from deal_change c
		left join app_user a on a.id = c.user_id
		where c.deal_id = $1
		order by c.at desc, c.id desc
		limit 200`, deal)
}

// DealMoves lists how a deal moved, the newest first.
func (db Queries) DealMoves(ctx context.Context, deal int64) ([]DealMove, error) {
	return all[DealMove](ctx, db, `
		select m.deal_id, st.name as stage, m.at, coalesce(a.name, '') as "user"
		from deal_move m
		join stage st on st.id = m.stage_id
		left join app_user a on a.id = m.user_id
		where m.deal_id = $1
		order by m.at desc, m.id desc
		limit 200`, deal)
}
