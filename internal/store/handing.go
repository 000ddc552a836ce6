package store

import (
	"context"
	"fmt"
	"time"

	"ombak/internal/core/handoff"
	"ombak/internal/core/rule"
)

// Territory is where a rule sends people: to a rep, or to a team.
type Territory struct {
	ID       int64
	Name     string
	Position int
	Rule     JSON[rule.Rule]
	User     int64  `db:"user_id"`
	Team     int64  `db:"team_id"`
	UserName string `db:"user_name"`
	TeamName string `db:"team_name"`
}

const territoryFields = `
	select t.id, t.name, t.position, t.rule, coalesce(t.user_id, 0) as user_id, coalesce(t.team_id, 0) as team_id,
		coalesce(u.name, '') as user_name, coalesce(g.name, '') as team_name
	from territory t
	left join app_user u on u.id = t.user_id
	left join team g on g.id = t.team_id `

// Territories lists them in the order in which they are asked.
func (db Queries) Territories(ctx context.Context) ([]Territory, error) {
	return all[Territory](ctx, db, territoryFields+"where t.removed_at is null order by t.position, t.id")
}

// Territory reads one.
func (db Queries) Territory(ctx context.Context, id int64) (Territory, error) {
	return one[Territory](ctx, db, territoryFields+"where t.id = $1 and t.removed_at is null", id)
}

// KeepTerritory keeps one, a new one (id 0) behind the others.
func (tx Tx) KeepTerritory(ctx context.Context, t Territory, at time.Time) (int64, error) {
	if t.ID == 0 {
		return one[int64](ctx, tx, `
			insert into territory (name, position, rule, user_id, team_id, made_at)
			values ($1, (select coalesce(max(position), 0) + 1 from territory), $2, nullif($3::bigint, 0),
				nullif($4::bigint, 0), $5)
			returning id`, t.Name, t.Rule, t.User, t.Team, at)
	}
	return one[int64](ctx, tx, `
		update territory
		set name = $2, rule = $3, user_id = nullif($4::bigint, 0), team_id = nullif($5::bigint, 0)
		where id = $1 and removed_at is null
		returning id`, t.ID, t.Name, t.Rule, t.User, t.Team)
}

// RemoveTerritory removes one, or brings it back.
func (tx Tx) RemoveTerritory(ctx context.Context, id int64, at *time.Time) error {
	_, err := exec(ctx, tx, "update territory set removed_at = $2 where id = $1", id, at)
	return err
}

// OrderTerritories puts them in an order.
func (tx Tx) OrderTerritories(ctx context.Context, ids []int64) error {
	_, err := exec(ctx, tx, `
		update territory t
		set position = u.place
		from unnest($1::bigint[]) with ordinality as u(id, place)
		where t.id = u.id`, ids)
	return err
}

// Where nurture goes on for somebody who was sent back.
const (
	Nowhere   = "nowhere"
	WhereFrom = "where they came from"
	OnWith    = "sequence"
)

// BackReason is why reps send somebody back, and what follows.
type BackReason struct {
	ID       int64
	Name     string
	CoolOff  int    `db:"cool_off"` // days
	GoesOn   string `db:"goes_on"`
	Sequence int64  `db:"sequence_id"`
	Step     int32  // of it, or of the one they came from; 0: its beginning
	Called   string // the sequence
}

// BackReasons lists them in their order.
func (db Queries) BackReasons(ctx context.Context) ([]BackReason, error) {
	return all[BackReason](ctx, db, `
		select r.id, r.name, r.cool_off, r.goes_on, coalesce(r.sequence_id, 0) as sequence_id, r.step,
			coalesce(q.name, '') as called
		from back_reason r
		left join sequence q on q.id = r.sequence_id
		where r.removed_at is null
		order by r.position, r.id`)
}

// KeepBackReason keeps one, a new one (id 0) behind the others.
func (tx Tx) KeepBackReason(ctx context.Context, r BackReason, at time.Time) (int64, error) {
	if r.ID == 0 {
		return one[int64](ctx, tx, `
			insert into back_reason (name, position, cool_off, goes_on, sequence_id, step, made_at)
			values ($1, (select coalesce(max(position), 0) + 1 from back_reason), $2, $3, nullif($4::bigint, 0), $5, $6)
			returning id`, r.Name, r.CoolOff, r.GoesOn, r.Sequence, r.Step, at)
	}
	return one[int64](ctx, tx, `
		update back_reason
		set name = $2, cool_off = $3, goes_on = $4, sequence_id = nullif($5::bigint, 0), step = $6
		where id = $1 and removed_at is null
		returning id`, r.ID, r.Name, r.CoolOff, r.GoesOn, r.Sequence, r.Step)
}

// RemoveBackReason removes one, or brings it back.
func (tx Tx) RemoveBackReason(ctx context.Context, id int64, at *time.Time) error {
	_, err := exec(ctx, tx, "update back_reason set removed_at = $2 where id = $1", id, at)
	return err
}

// SetWeights keeps how many turns users have.
func (tx Tx) SetWeights(ctx context.Context, users []int64, weights []int) error {
	_, err := exec(ctx, tx, `
		update app_user a
		set weight = u.weight
		from unnest($1::bigint[], $2::int[]) as u(id, weight)
		where a.id = u.id`, users, weights)
	return err
}

// KeepTurns keeps up to where the turns of reps have gone.
func (tx Tx) KeepTurns(ctx context.Context, reps []handoff.Rep) error {
	ids, turns := make([]int64, len(reps)), make([]float64, len(reps))
	for i, r := range reps {
		ids[i], turns[i] = r.ID, r.Turn
	}
	_, err := exec(ctx, tx, `
		update app_user a
		set turn = u.turn
		from unnest($1::bigint[], $2::float8[]) as u(id, turn)
		where a.id = u.id and a.turn <> u.turn`, ids, turns)
	return err
}

// CompanyOwners lists, for some people, who owns people at their company, whoever owns most of them first.
func (db Queries) CompanyOwners(ctx context.Context, people []int64) (map[int64][]int64, error) {
	list, err := all[struct{ Person, Owner int64 }](ctx, db, `
		with asked as (
			select id, company_id from person where id = any ($1) and company_id is not null),
		owns as (
			select c.company_id, o.owner_id, o.n
			from (select distinct company_id from asked) c
			cross join lateral (
				select p.owner_id, count(*) as n
				from person p
				where p.company_id = c.company_id and p.owner_id is not null and p.erased_at is null
				group by p.owner_id) o)
		select a.id as person, o.owner_id as owner
		from asked a
		join owns o on o.company_id = a.company_id
		order by a.id, o.n desc, o.owner_id`, people)
	out := map[int64][]int64{}
	for _, x := range list {
		out[x.Person] = append(out[x.Person], x.Owner)
	}
	return out, err
}

// Clocked is an open handoff whose response clock is looked at.
type Clocked struct {
	ID      int64
	Person  int64  `db:"person_id"`
	Rep     int64  `db:"rep_id"`
	RepName string `db:"rep_name"`
	Who     string
	From    time.Time `db:"clock_from"`
	Step    int       `db:"clock_step"`
	Offered JSON[[]int64]
}

// DueClocks takes up to n open handoffs whose response clock is to be looked at by now.
func (tx Tx) DueClocks(ctx context.Context, now time.Time, n int) ([]Clocked, error) {
	return all[Clocked](ctx, tx, `
		select h.id, h.person_id, h.rep_id, a.name as rep_name, h.clock_from, h.clock_step,
			to_jsonb(h.offered) as offered,
			coalesce(nullif(concat_ws(' ', nullif(p.first_name, ''), nullif(p.last_name, '')), ''), p.email) as who
		from handoff h
		join person p on p.id = h.person_id
		join app_user a on a.id = h.rep_id
		where h.state = 'open' and h.clock_due <= $1
		order by h.clock_due, h.id
		limit $2
		for update of h skip locked`, now, n)
}

// SetClock keeps how far the clock of a handoff is, and when it is looked at again; nil: not any more.
func (tx Tx) SetClock(ctx context.Context, id int64, step int, due *time.Time) error {
	_, err := exec(ctx, tx, "update handoff set clock_step = $2, clock_due = $3 where id = $1", id, step, due)
	return err
}

// OfferOn offers a handoff to another rep, from whom its clock runs anew.
func (tx Tx) OfferOn(ctx context.Context, id int64, d handoff.Decision, at time.Time) error {
	n, err := exec(ctx, tx, `
		update handoff
		set offered = offered || rep_id, rep_id = $2, how = $3, why = $4, clock_from = $5, clock_due = $5,
			clock_step = 0
		where id = $1 and state = 'open' and rep_id <> $2`, id, d.Rep, HowWords(d), d.Why, at)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return fmt.Errorf("offering handoff %d on: %w", id, err)
	}
	_, err = exec(ctx, tx, "delete from desk_item where kind = 2 and item_id = $1", id)
	return err
}

// ClockAlert is how alerts of the response clock say what they came by.
const ClockAlert = "response clock"

// EndClockAlerts has nobody told any more that the time to answer somebody’s handoff has run out.
func (tx Tx) EndClockAlerts(ctx context.Context, person int64, at time.Time) error {
	_, err := exec(ctx, tx, `
		update task
		set done_at = $3
		where alert and done_at is null and person_id = $1 and how = $2`, person, ClockAlert, at)
	return err
}

// WindClocks has the clocks of all open handoffs looked at again.
func (tx Tx) WindClocks(ctx context.Context) error {
	_, err := exec(ctx, tx, "update handoff set clock_due = clock_from where state = 'open' and rep_id is not null")
	return err
}

// HowWords is how a handoff says by which rule its rep was chosen.
func HowWords(d handoff.Decision) string {
	if d.How == handoff.ByPlace {
		return "territory “" + d.Place + "”"
	}
	return string(d.How)
}

// SetBack keeps what follows from sending somebody back: until when they cannot cross the line, and their coming back.
func (tx Tx) SetBack(ctx context.Context, id int64, until *time.Time, comeback int64) error {
	_, err := exec(ctx, tx, "update handoff set cool_until = $2, comeback_id = nullif($3::bigint, 0) where id = $1", id,
		until, comeback)
	return err
}

// Cooling tells of some people until when they cannot cross the ready line, because they were sent back.
func (db Queries) Cooling(ctx context.Context, people []int64, now time.Time) (map[int64]time.Time, error) {
	list, err := all[struct {
		Person int64 `db:"person_id"`
		Until  time.Time
	}](ctx, db, `
		select person_id, max(cool_until) as until
		from handoff
		where person_id = any ($1) and cool_until > $2
		group by person_id`, people, now)
	out := make(map[int64]time.Time, len(list))
	for _, x := range list {
		out[x.Person] = x.Until
	}
	return out, err
}

// Rearm has somebody able to cross the ready line again, and their score counted.
func (tx Tx) Rearm(ctx context.Context, person int64, now time.Time) error {
	_, err := exec(ctx, tx, "update standing set armed = true, due = least(due, $2) where person_id = $1", person, now)
	return err
}

// CameFrom is the sequence that somebody was on last before an instant; 0: none.
func (db Queries) CameFrom(ctx context.Context, person int64, before time.Time) (int64, error) {
	id, err := one[int64](ctx, db, `
		select sequence_id from enrolment where person_id = $1 and entered_at <= $2 order by entered_at desc, id desc
		limit 1`, person, before)
	if IsNotFound(err) {
		return 0, nil
	}
	return id, err
}

// CountedHandoff is a handoff as its figures count it.
type CountedHandoff struct {
	ID               int64
	Rep              *int64 `db:"rep_id"`
	RepName          string `db:"rep_name"`
	Source, Sequence string
	State            handoff.State
	Made             time.Time  `db:"clock_from"`
	Decided          *time.Time `db:"decided_at"`
	Reason           string
}

// HandoffsSince lists those that are open, and those that were answered since an instant, the newest first, at most
// some.
func (db Queries) HandoffsSince(ctx context.Context, since time.Time, most int) ([]CountedHandoff, error) {
	return all[CountedHandoff](ctx, db, `
		select h.id, h.rep_id, coalesce(a.name, '') as rep_name, p.source, coalesce(q.name, '') as sequence, h.state,
			h.clock_from, h.decided_at, h.reason
		from handoff h
		join person p on p.id = h.person_id
		left join app_user a on a.id = h.rep_id
		left join sequence q on q.id = h.sequence_id
		where h.state = 'open' or h.decided_at >= $1
		order by h.made_at desc, h.id desc
		limit $2`, since, most)
}

// ToldHandoff is a handoff as the list behind a figure shows it.
type ToldHandoff struct {
	ID                 int64
	Person             int64 `db:"person_id"`
	First, Last, Email string
	Company            string
	RepName            string    `db:"rep_name"`
	Made               time.Time `db:"clock_from"`
}

// ToldHandoffs reads some, in no order.
func (db Queries) ToldHandoffs(ctx context.Context, ids []int64) ([]ToldHandoff, error) {
	return all[ToldHandoff](ctx, db, `
		select h.id, h.person_id, p.first_name as first, p.last_name as last, p.email, coalesce(c.name, '') as company,
			coalesce(a.name, '') as rep_name, h.clock_from
		from handoff h
		join person p on p.id = h.person_id
		left join company c on c.id = p.company_id
		left join app_user a on a.id = h.rep_id
		where h.id = any ($1)`, ids)
}
