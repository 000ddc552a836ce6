package store

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"
)

// DealState is whether a deal is still open.
type DealState string

// The states.
const (
	OpenDeals   DealState = "open"
	WonDeals    DealState = "won"
	LostDeals   DealState = "lost"
	EveryDeal   DealState = "open, won or lost"
	ClosedDeals DealState = "won or lost"
)

// DealStates lists them.
func DealStates() []DealState {
	return []DealState{OpenDeals, WonDeals, LostDeals, ClosedDeals, EveryDeal}
}

// DealPlanned is what is, or is not, planned for a deal.
type DealPlanned string

// What there is.
const (
	AnyPlan     DealPlanned = ""
	NoNext      DealPlanned = "no next step"
	NextOverdue DealPlanned = "a next step that is overdue"
	NoDay       DealPlanned = "no expected day"
	DayPast     DealPlanned = "an expected day that is past"
	DayInMonth  DealPlanned = "an expected day in the next 30 days"
	TooLong     DealPlanned = "been longer in its stage than others"
)

// DealPlans lists them.
func DealPlans() []DealPlanned {
	return []DealPlanned{AnyPlan, NoNext, NextOverdue, NoDay, DayPast, DayInMonth, TooLong}
}

// DealOrder is in what order deals are listed.
type DealOrder string

// dealOrders are the orders with their expression; all have the id behind.
var dealOrders = []struct {
	order DealOrder
	by    string
	down  bool
}{
	{"largest first", "d.worth", true},
	{"expected first", "coalesce(d.expected_on, 'infinity')", false},
	{"next step first", "coalesce(d.next_on, 'infinity')", false},
	{"longest in its stage", "d.moved_at", false},
	{"newest first", "d.opened_at", true},
	{"last closed", "coalesce(d.closed_at, '-infinity')", true},
	{"by name", "lower(d.name)", false},
}

// DealOrders lists them, the usual one first.
func DealOrders() (out []DealOrder) {
	for _, o := range dealOrders {
		out = append(out, o.order)
	}
	return out
}

// NobodysDeals stands for deals that no rep has.
const NobodysDeals = -1

// DealQuery is which deals are meant. Zero values stand for all.
type DealQuery struct {
	Pipeline, Stage int64
	State           DealState // empty: the open ones
	Rep             int64     // NobodysDeals: of no rep
	Planned         DealPlanned
	Text            string // in its name, or in what its company or person is found by
	Company         int64
	Sequence        int64 // from which it comes
	Campaign        string
	Person          int64 // about whom it is, or who takes part
	IDs             []int64

	Today time.Time           // a day at midnight, UTC
	Slow  map[int64]time.Time // of a stage: deals that came before are longer in it than others

	Order DealOrder
	After int64 // the last one that was listed
}

// where is the query as SQL over a deal d, and its arguments.
func (q *DealQuery) where() (string, []any) {
	var args []any
	arg := func(v any) string {
		args = append(args, v)
		return fmt.Sprintf("$%d", len(args))
	}
	parts := []string{"true"}
	add := func(s string) { parts = append(parts, s) }
	switch q.State {
	case WonDeals:
		add("d.stage_id in (select id from stage where won)")
	case LostDeals:
		add("d.stage_id in (select id from stage where lost)")
	case ClosedDeals:
		add("d.closed_at is not null")
	case EveryDeal:
	default:
		add("d.closed_at is null")
	}
	if q.Pipeline != 0 {
		add("d.stage_id in (select id from stage where pipeline_id = " + arg(q.Pipeline) + ")")
	}
	for _, c := range []struct {
		column string
		id     int64
	}{{"d.stage_id", q.Stage}, {"d.company_id", q.Company}, {"d.sequence_id", q.Sequence}} {
		if c.id != 0 {
			add(c.column + " = " + arg(c.id))
		}
	}
	switch {
	case q.Rep == NobodysDeals:
		add("d.rep_id is null")
	case q.Rep != 0:
		add("d.rep_id = " + arg(q.Rep))
	}
	switch q.Planned {
	case NoNext:
		add("d.next_step = ''")
	case NextOverdue:
		add("d.next_step <> '' and d.next_on < " + arg(q.Today) + "::date")
	case NoDay:
		add("d.expected_on is null")
	case DayPast:
		add("d.expected_on < " + arg(q.Today) + "::date")
	case DayInMonth:
		add("d.expected_on between " + arg(q.Today) + "::date and " + arg(q.Today.AddDate(0, 0, 30)) + "::date")
	case TooLong:
		var stages []int64
		var before []time.Time
		for s, t := range q.Slow {
			stages, before = append(stages, s), append(before, t)
		}
		add("d.closed_at is null and exists (select from unnest(" + arg(stages) + "::bigint[], " + arg(before) +
			"::timestamptz[]) as u(stage, before) where u.stage = d.stage_id and d.moved_at < u.before)")
	}
	if q.Campaign != "" {
		add("d.campaign = " + arg(q.Campaign))
	}
	if q.Person != 0 {
		add("d.id in (select x.id from deal_of x where x.person_id = " + arg(q.Person) + ")")
	}
	if q.Text != "" {
		like := "plain_text(" + arg("%"+likeText(q.Text)+"%") + "::text)"
		add("(d.words like " + like + " or d.person_id in (select person_id from person_search where words like " +
			like + ") or d.company_id in (select id from company where words like " + like + "))")
	}
	if q.IDs != nil {
		add("d.id = any (" + arg(q.IDs) + ")")
	}
	return strings.Join(parts, " and "), args
}

// Deals lists some deals in order, those after the last that was listed.
func (db Queries) Deals(ctx context.Context, q DealQuery, n int) ([]Deal, error) {
	page, by, args := q.page(n)
	return all[Deal](ctx, db, dealFields+page+by, args...)
}

// FileDeal is a deal as a file has it.
type FileDeal struct {
	Deal
	Email    string // of whom it is about
	RepEmail string `db:"rep_email"`
	FromName string `db:"from_name"` // of the sequence
}

// DealsForFile is Deals with what a file says besides.
func (db Queries) DealsForFile(ctx context.Context, q DealQuery, n int) ([]FileDeal, error) {
	page, by, args := q.page(n)
	fields := strings.Replace(dealFields, "d.id, ", `d.id, p.email, coalesce(a.email, '') as rep_email,
		coalesce((select name from sequence where id = d.sequence_id), '') as from_name, `, 1)
	return all[FileDeal](ctx, db, fields+page+by, args...)
}

// page is the query as the condition on some deals, their order, and the arguments.
func (q *DealQuery) page(n int) (where, order string, args []any) {
	where, args = q.where()
	o := dealOrders[max(slices.IndexFunc(dealOrders, func(o struct {
		order DealOrder
		by    string
		down  bool
	}) bool {
		return o.order == q.Order
	}), 0)]
	by, than := o.by+", d.id", " > "
	if o.down {
		by, than = o.by+" desc, d.id desc", " < "
	}
	if q.After != 0 {
		args = append(args, q.After)
		last := strings.ReplaceAll(o.by, "d.", "l.")
		where += fmt.Sprintf(" and (%s, d.id)%s(select %s, l.id from deal l where l.id = $%d)", o.by, than, last,
			len(args))
	}
	args = append(args, n)
	return `
		where d.id in (
			select d.id
			from deal d
			where ` + where + `
			order by ` + by + fmt.Sprintf(`
			limit $%d)
		order by `, len(args)), by, args
}

// DealSum is deals together.
type DealSum struct {
	Deals   int
	Worth   int64 // in the workspace’s currency
	Unrated int   // of which nobody knows what they are worth in it
}

// SumDeals counts and sums them.
func (db Queries) SumDeals(ctx context.Context, q DealQuery) (DealSum, error) {
	where, args := q.where()
	return one[DealSum](ctx, db, `
		select count(*) as deals, coalesce(sum(d.worth), 0)::bigint as worth,
			count(*) filter (where not d.rated) as unrated
		from deal d
		where `+where, args...)
}

// PeopleBehind lists whom deals are about, and who takes part in them, at most so many.
func (db Queries) PeopleBehind(ctx context.Context, q DealQuery, most int) ([]int64, error) {
	where, args := q.where()
	args = append(args, most)
	return all[int64](ctx, db, `
		with meant as (
			select d.id, d.person_id
			from deal d
			where `+where+`)
		select person_id from meant
		union
		select x.person_id from deal_part x join meant on meant.id = x.deal_id
		order by 1
		limit `+fmt.Sprintf("$%d", len(args)), args...)
}

// HeldDeal is a deal that was locked, with what a bulk action changes.
type HeldDeal struct {
	ID    int64  `json:"id"`
	Rep   *int64 `db:"rep_id"   json:"rep,omitempty"`
	Stage int64  `db:"stage_id" json:"stage"`
}

// HoldDeals locks deals, at most so many, in their order.
func (tx Tx) HoldDeals(ctx context.Context, q DealQuery, most int) ([]HeldDeal, error) {
	where, args := q.where()
	args = append(args, most)
	return all[HeldDeal](ctx, tx, `
		select d.id, d.rep_id, d.stage_id
		from deal d
		where `+where+`
		order by d.id
		limit `+fmt.Sprintf("$%d", len(args))+`
		for update of d`, args...)
}

// MoveDeals puts deals to the end of a stage, and answers those that were not there. One that would be open again stays
// where it is if whoever it is about has another open one, or would have two.
func (tx Tx) MoveDeals(ctx context.Context, deals []int64, stage, user int64, at time.Time) ([]int64, error) {
	moved, err := all[int64](ctx, tx, `
		with meant as (
			select d.id, u.n, d.closed_at is null or row_number() over (partition by d.person_id, d.closed_at is null
					order by u.n) = 1 and not exists (
				select from deal o where o.person_id = d.person_id and o.closed_at is null) as alone
			from unnest($1::bigint[]) with ordinality as u(id, n)
			join deal d on d.id = u.id),
		moved as (
			update deal d
			set stage_id = st.id, moved_at = $3, closed_at = case when st.won or st.lost then coalesce(d.closed_at,
				$3) end,
				position = coalesce((select max(position) from deal where stage_id = st.id), 0) + u.n
			from stage st, meant u
			where d.id = u.id and st.id = $2 and d.stage_id <> st.id and (st.won or st.lost or u.alone)
			returning d.id)
		insert into deal_move (deal_id, stage_id, at, user_id)
		select id, $2, $3::timestamptz, nullif($4::bigint, 0) from moved order by id
		returning deal_id`, deals, stage, at, user)
	if taken(err) {
		err = ErrTwoOpen
	}
	return moved, err
}

// GiveDeals gives deals to a rep (0: to nobody), and keeps who did; it answers those that were another's.
func (tx Tx) GiveDeals(ctx context.Context, deals []int64, rep, user int64, at time.Time) ([]int64, error) {
	return all[int64](ctx, tx, `
		with given as (
			select d.id, coalesce(a.name, '') as was
			from deal d
			left join app_user a on a.id = d.rep_id
			where d.id = any ($1) and coalesce(d.rep_id, 0) <> $2),
		changed as (
			update deal d
			set rep_id = nullif($2::bigint, 0)
			from given g
			where d.id = g.id
			returning d.id)
		insert into deal_change (deal_id, at, user_id, what, was, became)
		select g.id, $4, nullif($3::bigint, 0), 'owner', g.was, coalesce((select name from app_user where id = $2), '')
		from given g
		join changed c on c.id = g.id
		order by g.id
		returning deal_id`, deals, rep, user, at)
}

// DealBulk is what was done with many deals at once.
type DealBulk struct {
	ID     int64
	User   int64 `db:"user_id"`
	At     time.Time
	What   string // stage or owner
	Became int64
	Was    JSON[[]HeldDeal]
	Undone *time.Time `db:"undone_at"`
}

// KeepBulk keeps what was done with many deals.
func (tx Tx) KeepBulk(ctx context.Context, b DealBulk) (int64, error) {
	was, err := json.Marshal(b.Was.V)
	if err != nil {
		return 0, err
	}
	return one[int64](ctx, tx, `
		insert into deal_bulk (user_id, at, what, became, was)
		values ($1, $2, $3, $4, $5)
		returning id`, b.User, b.At, b.What, b.Became, was)
}

// LockBulk reads what was done with many deals, and locks it.
func (tx Tx) LockBulk(ctx context.Context, id int64) (DealBulk, error) {
	return one[DealBulk](ctx, tx, `
		select id, user_id, at, what, became, was, undone_at
		from deal_bulk
		where id = $1
		for update`, id)
}

// BulkUndone keeps that it was taken back.
func (tx Tx) BulkUndone(ctx context.Context, id int64, at time.Time) error {
	_, err := exec(ctx, tx, "update deal_bulk set undone_at = $2 where id = $1", id, at)
	return err
}

// mostCampaigns is how many campaigns of deals are offered.
const mostCampaigns = 60

// DealCampaigns lists the campaigns that deals are of, those of most deals first.
func (db Queries) DealCampaigns(ctx context.Context) ([]string, error) {
	return all[string](ctx, db, `
		select campaign
		from deal
		where campaign <> ''
		group by campaign
		order by count(*) desc, campaign
		limit $1`, mostCampaigns)
}
