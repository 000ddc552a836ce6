package store

import (
	"context"
	"fmt"
	"time"

	"ombak/internal/core/pipeline"
	"ombak/internal/core/plainly"
)

// Deal is a deal on the pipeline.
type Deal struct {
	ID        int64
	Person    int64  `db:"person_id"`
	Company   string `db:"company"`
	CompanyID int64  `db:"company_id"` // 0: none
	Rep       *int64 `db:"rep_id"`
	RepName   string `db:"rep_name"`
	Stage     int64  `db:"stage_id"`
	Name      string
	Amount    int64 // minor units of its currency
	Currency  string
	Worth     int64      // in the workspace’s currency
	Rated     bool       // a rate is known by which it is worth that
	Pipeline  int64      `db:"pipeline_id"`
	Sequence  int64      `db:"sequence_id"` // whose handoff it came from; 0: none
	Campaign  string     // the person’s, when it was opened
	Opened    time.Time  `db:"opened_at"`
	Moved     time.Time  `db:"moved_at"`
	Closed    *time.Time `db:"closed_at"`
	First     string
	Last      string
	Score     float64

	Reason   string     // why it was won or lost
	Comeback int64      `db:"comeback_id"` // of whoever was lost; 0: none
	Expected *time.Time `db:"expected_on"` // nil: nobody knows
	Next     string     `db:"next_step"`
	NextOn   *time.Time `db:"next_on"`
}

const dealFields = `
	select d.id, d.person_id, coalesce(c.name, '') as company,
		coalesce(d.company_id, 0) as company_id, d.rep_id, coalesce(a.name, '') as rep_name, d.stage_id,
		d.name, d.amount, d.currency, d.worth, d.rated, d.opened_at, d.moved_at, d.closed_at, d.expected_on,
		d.next_step, d.next_on, st.pipeline_id, coalesce(d.sequence_id, 0) as sequence_id, d.campaign,
		d.reason, coalesce(d.comeback_id, 0) as comeback_id,
		p.first_name as first, p.last_name as last,
		` + firstScore + ` as score
	from deal d
	join stage st on st.id = d.stage_id
	join person p on p.id = d.person_id
	left join company c on c.id = d.company_id
	left join app_user a on a.id = d.rep_id `

const stageFields = `
	select st.id, st.name, st.share, st.won, st.lost, coalesce(st.nurture_id, 0) as nurture,
		st.nurture_days as after, st.pipeline_id as pipeline
	from stage st
	join pipeline pl on pl.id = st.pipeline_id `

const stageOrder = "order by pl.position, pl.id, st.position, st.id"

// Stages lists the stages of all pipelines in their order.
func (db Queries) Stages(ctx context.Context) ([]pipeline.Stage, error) {
	return all[pipeline.Stage](ctx, db, stageFields+stageOrder)
}

// AddStage keeps a stage at the end of its pipeline.
func (db Queries) AddStage(ctx context.Context, st pipeline.Stage) (int64, error) {
	return one[int64](ctx, db, addStage, st.Name, st.Share, st.Won, st.Lost, st.Nurture, st.After, st.Pipeline)
}

const addStage = `
	insert into stage (name, position, share, won, lost, nurture_id, nurture_days, pipeline_id)
	values ($1, (select coalesce(max(position), 0) + 1 from stage), $2, $3, $4, nullif($5::bigint, 0), $6,
		coalesce(nullif($7::bigint, 0), (select id from pipeline order by position, id limit 1)))
	returning id`

// BoardQuery is what a board shows: the open deals, and those closed since an instant.
type BoardQuery struct {
	Pipeline    int64
	ClosedSince time.Time
	Each        int   // how many of each stage, the first
	Whole       int64 // a stage of which MostDeals are shown; 0: none
}

// MostDeals is how many deals of one stage are shown at most.
const MostDeals = 500

// Board lists the first deals of each stage of the pipeline, in their order.
func (db Queries) Board(ctx context.Context, q BoardQuery) ([]Deal, error) {
	// Those that were closed of late are few, and are found first: by their stage all that ever were would be read.
	return all[Deal](ctx, db, `
		with late as materialized (
			select id, stage_id, position
			from deal
			where closed_at >= $1),
		shown as (
			select x.id
			from stage st
			cross join lateral (
				select id
				from (
					(select o.id, o.position
						from deal o
						where o.stage_id = st.id and o.closed_at is null
						order by o.position, o.id
						limit case when st.id = $3 then $4::int else $2::int end)
					union all
					select l.id, l.position from late l where l.stage_id = st.id) first_of
				order by position, id
				limit case when st.id = $3 then $4::int else $2::int end) x
			where st.pipeline_id = $5)`+dealFields+`
		where d.id in (select id from shown)
		order by d.position, d.id`, q.ClosedSince, q.Each, q.Whole, MostDeals, q.Pipeline)
}

// StageSums sums all deals of each stage: the open ones, and those closed since an
// instant, in the workspace’s currency.
func (db Queries) StageSums(ctx context.Context, closedSince time.Time) ([]pipeline.Sum, error) {
	return all[pipeline.Sum](ctx, db, `
		select stage_id as stage, count(*) as deals, coalesce(sum(worth), 0)::bigint as amount
		from deal
		where closed_at is null
		group by stage_id
		union all
		select stage_id, count(*), coalesce(sum(worth), 0)::bigint
		from deal
		where closed_at >= $1
		group by stage_id`, closedSince)
}

// PersonDeals lists a person's, the newest first.
func (db Queries) PersonDeals(ctx context.Context, person int64) ([]Deal, error) {
	return all[Deal](ctx, db, dealFields+`
		where d.id in (select id from deal_of where person_id = $1)
		order by d.id desc`, person)
}

// NewDeal is one to be opened.
type NewDeal struct {
	Person, Rep, Handoff int64  // 0: none
	Stage                int64  // 0: the first of the rep’s pipeline
	Sequence             int64  // it comes from; 0: none
	Name                 string // empty: that of the company, else of the person
	Amount               int64
	Currency             string
}

// OpenDeal opens a deal about a person, at the head of its stage, or answers the open one they have.
func (tx Tx) OpenDeal(ctx context.Context, n NewDeal, at time.Time) (id int64, fresh bool, err error) {
	id, err = one[int64](ctx, tx, "select id from deal where person_id = $1 and closed_at is null", n.Person)
	if err == nil || !IsNotFound(err) {
		return id, false, err
	}
	if n.Stage == 0 {
		if n.Stage, err = tx.firstStage(ctx, n.Rep); err != nil {
			return 0, false, err
		}
	}
	id, err = one[int64](ctx, tx, `
		insert into deal (person_id, company_id, rep_id, handoff_id, stage_id, name, position, opened_at, moved_at,
			amount, currency, sequence_id, campaign)
		select p.id, p.company_id, nullif($2::bigint, 0), nullif($3::bigint, 0), $4,
			coalesce(nullif($5, ''), c.name, nullif(btrim(p.first_name || ' ' || p.last_name), ''), p.email),
			coalesce((select min(position) from deal where stage_id = $4), 0) - 1, $6, $6, $7, $8,
			(select id from sequence where id = $9), p.campaign
		from person p
		left join company c on c.id = p.company_id
		where p.id = $1
		returning id`, n.Person, n.Rep, n.Handoff, n.Stage, n.Name, at, n.Amount, n.Currency, n.Sequence)
	if err != nil {
		return 0, false, fmt.Errorf("opening a deal for person %d: %w", n.Person, err)
	}
	_, err = exec(ctx, tx, `
		insert into deal_move (deal_id, stage_id, at, user_id)
		select id, stage_id, $2, nullif($3::bigint, 0) from deal where id = $1`, id, at, n.Rep)
	return id, true, err
}

// OpenDeals opens deals in a stage about those of some people who have none open, for their owners, each from a
// sequence (0: none); where there is no such stage any more, or it is not an open one, it opens none. Whoever they are
// about leaves the sequences in a moment. It answers the deals.
func (tx Tx) OpenDeals(
	ctx context.Context, people, sequences []int64, stage int64, currency string, at time.Time,
) ([]int64, error) {
	return all[int64](ctx, tx, `
		with made as (
			insert into deal (person_id, company_id, rep_id, stage_id, name, position, opened_at, moved_at, currency,
				sequence_id, campaign, leaving)
			select p.id, p.company_id, p.owner_id, st.id,
				coalesce(c.name, nullif(btrim(p.first_name || ' ' || p.last_name), ''), p.email),
				coalesce((select min(position) from deal where stage_id = st.id),
					0) - row_number() over (order by p.id),
				$4, $4, $5, (select id from sequence where id = u.sequence), p.campaign, true
			from (
				select person, max(sequence) as sequence
				from unnest($1::bigint[], $2::bigint[]) as u(person, sequence)
				group by person) u
			join person p on p.id = u.person
			join stage st on st.id = $3 and not st.won and not st.lost
			left join company c on c.id = p.company_id
			where p.erased_at is null
			on conflict (person_id) where closed_at is null do nothing
			returning id, stage_id, rep_id)
		insert into deal_move (deal_id, stage_id, at)
		select id, stage_id, $4 from made order by id
		returning deal_id`, people, sequences, stage, at, currency)
}

// TakeLeaving takes some of the people who have to leave the sequences for a deal that was opened about them.
func (tx Tx) TakeLeaving(ctx context.Context, n int) ([]int64, error) {
	return all[int64](ctx, tx, `
		with taken as (
			select id from deal where leaving order by id limit $1 for update skip locked)
		update deal d
		set leaving = false
		from taken t
		where d.id = t.id
		returning d.person_id`, n)
}

// firstStage is where a deal of a rep begins: the first open stage of their team’s pipeline, else of the first.
func (tx Tx) firstStage(ctx context.Context, rep int64) (int64, error) {
	return one[int64](ctx, tx, `
		select st.id
		from stage st
		join pipeline pl on pl.id = st.pipeline_id
		where not st.won and not st.lost
		order by coalesce(pl.team_id = (select team_id from app_user where id = $1), false) desc,
			pl.position, pl.id, st.position, st.id
		limit 1`, rep)
}

// ErrTwoOpen is answered where somebody would have two open deals.
var ErrTwoOpen = plainly.New("they have another open deal by now: close that one first")

// MoveDeal puts a deal into a stage, before another deal of it (0: at the
// end), closing or reopening it as the stage says. It answers the person.
func (tx Tx) MoveDeal(ctx context.Context, id, stage, before, user int64, at time.Time) (int64, error) {
	row, err := one[struct {
		Person int64 `db:"person_id"`
		Was    int64
	}](ctx, tx, `
		with was as (select stage_id from deal where id = $1 for update)
		update deal d set stage_id = st.id, moved_at = case when d.stage_id = st.id then d.moved_at else $4 end,
			closed_at = case when st.won or st.lost then coalesce(d.closed_at, $4) end,
			position = coalesce(
				(select (b.position + coalesce((select max(a.position) from deal a where a.stage_id = st.id
					and a.position < b.position and a.id <> $1), b.position - 2)) / 2
					from deal b where b.id = $3 and b.stage_id = st.id),
				(select max(position) + 1 from deal where stage_id = st.id and id <> $1), 0)
		from stage st, was where d.id = $1 and st.id = $2 returning d.person_id, was.stage_id as was`, id, stage,
		before, at)
	if taken(err) {
		return 0, ErrTwoOpen
	}
	if err != nil {
		return 0, err
	}
	if row.Was != stage {
		_, err = exec(ctx, tx,
			"insert into deal_move (deal_id, stage_id, at, user_id) values ($1, $2, $3, nullif($4, 0))", id, stage, at,
			user)
	}
	return row.Person, err
}

// LockDeal reads a deal and locks it.
func (tx Tx) LockDeal(ctx context.Context, id int64) (Deal, error) {
	if _, err := one[int64](ctx, tx, "select id from deal where id = $1 for update", id); err != nil {
		return Deal{}, err
	}
	return tx.Deal(ctx, id)
}

// MoveOpenDeals moves the open deals of people to the end of a stage; where there is no
// such stage any more, it moves none. It answers which it moved.
func (tx Tx) MoveOpenDeals(ctx context.Context, people []int64, stage int64, at time.Time) ([]int64, error) {
	return all[int64](ctx, tx, `
		with open as (
			select id
			from deal
			where person_id = any ($1) and closed_at is null and stage_id <> $2
			order by id
			for update),
		was as (select id, row_number() over (order by id) as n from open),
		moved as (
			update deal d set stage_id = st.id, moved_at = $3,
				closed_at = case when st.won or st.lost then $3::timestamptz end,
				position = coalesce((select max(position) from deal where stage_id = st.id), 0) + was.n
			from was, stage st
			where d.id = was.id and st.id = $2
			returning d.id)
		insert into deal_move (deal_id, stage_id, at)
		select id, $2, $3::timestamptz from moved
		returning deal_id`, people, stage, at)
}

// FollowLost has whoever’s deal is lost come back to nurture, where the stage says so, and takes that back for
// whoever’s is not lost any more and who has not come.
func (tx Tx) FollowLost(ctx context.Context, deals []int64, at time.Time) error {
	if _, err := exec(ctx, tx, `
		delete from comeback c
		using deal d
		join stage st on st.id = d.stage_id
		where d.id = any ($1) and not st.lost and c.id = d.comeback_id and c.done_at is null`, deals); err != nil {
		return err
	}
	_, err := exec(ctx, tx, `
		with lost as (
			select d.id, d.person_id, st.nurture_id, st.nurture_days, st.name
			from deal d
			join stage st on st.id = d.stage_id
			where d.id = any ($1) and st.lost and st.nurture_id is not null and d.comeback_id is null),
		made as (
			insert into comeback (person_id, sequence_id, due, why, made_at)
			select person_id, nurture_id, $2::timestamptz + make_interval(days => nurture_days), 'deal: ' || name, $2
			from lost
			order by id
			returning id, person_id)
		update deal d
		set comeback_id = made.id
		from made
		join lost on lost.person_id = made.person_id
		where d.id = lost.id`, deals, at)
	return err
}

// SetAmount keeps the amount of a deal, in minor units of a currency, and who said so.
func (tx Tx) SetAmount(ctx context.Context, d Deal, amount int64, currency string, user int64, at time.Time) error {
	if _, err := exec(ctx, tx, "update deal set amount = $2, currency = $3 where id = $1", d.ID, amount,
		currency); err != nil {
		return err
	}
	return addDealChange(ctx, tx, d.ID, user, "worth", pipeline.Money(d.Amount, d.Currency),
		pipeline.Money(amount, currency), at)
}

// SetDealOwner gives a deal to a rep (nil: to nobody), and keeps who did.
func (tx Tx) SetDealOwner(ctx context.Context, id int64, was, rep *int64, user int64, at time.Time) error {
	if _, err := exec(ctx, tx, "update deal set rep_id = $2 where id = $1", id, rep); err != nil {
		return err
	}
	name := func(id *int64) (string, error) {
		if id == nil {
			return "", nil
		}
		return tx.UserName(ctx, *id)
	}
	before, err := name(was)
	if err != nil {
		return err
	}
	now, err := name(rep)
	if err != nil {
		return err
	}
	return addDealChange(ctx, tx, id, user, "owner", before, now, at)
}

func addDealChange(ctx context.Context, tx Tx, id, user int64, what, was, became string, at time.Time) error {
	_, err := exec(ctx, tx, `insert into deal_change (deal_id, at, user_id, what, was, became)
		values ($1, $2, nullif($3, 0), $4, $5, $6)`, id, at, user, what, was, became)
	return err
}

// DealChange is what changed of a deal besides its stage: its amount, in cents,
// or its owner, by name.
type DealChange struct {
	Deal   int64 `db:"deal_id"`
	At     time.Time
	User   string
	What   string
	Was    string
	Became string
}

// PersonDealChanges lists those of a person's deals, the newest first.
func (db Queries) PersonDealChanges(ctx context.Context, person int64) ([]DealChange, error) {
	return all[DealChange](ctx, db, `select c.deal_id, c.at, coalesce(a.name, '') as "user", c.what, c.was, c.became
		from deal_change c join deal d on d.id = c.deal_id left join app_user a on a.id = c.user_id
		where d.person_id = $1 order by c.at desc, c.id desc limit 200`, person)
}

// DealMove is a line of a deal's history.
type DealMove struct {
	Deal  int64 `db:"deal_id"`
	Stage string
	At    time.Time
	User  string
}

// PersonMoves lists how a person's deals moved, the newest first.
func (db Queries) PersonMoves(ctx context.Context, person int64) ([]DealMove, error) {
	return all[DealMove](ctx, db, `
		select m.deal_id, st.name as stage, m.at, coalesce(a.name, '') as user
		from deal_move m
		join deal d on d.id = m.deal_id
		join stage st on st.id = m.stage_id
		left join app_user a on a.id = m.user_id
		where d.person_id = $1
		order by m.at desc, m.id desc
		limit 200`, person)
}
