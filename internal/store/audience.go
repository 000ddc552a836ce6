package store

import (
	"context"
	"fmt"
	"time"

	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
)

// Audience is a set of people: live, by a rule, or picked by hand.
type Audience struct {
	ID      int64
	Name    string
	Note    string
	Live    bool
	Rule    JSON[rule.Rule]
	OwnerID *int64 `db:"owner_id"`
	Owner   string
	Created time.Time `db:"created_at"`
	Changed time.Time `db:"changed_at"`
	Swept   time.Time `db:"swept_at"`
	Recount bool
	Members int64
	Asks    JSON[[]string] // what a change of can make somebody join or leave
}

const audienceFields = `
	select a.id, a.name, a.note, a.live, a.rule, a.owner_id, coalesce(u.name, '') as owner, a.created_at, a.changed_at,
		a.swept_at, a.recount, a.members, to_json(a.asks) as asks
	from audience a left join app_user u on u.id = a.owner_id `

// Audiences lists all by name.
func (db Queries) Audiences(ctx context.Context) ([]Audience, error) {
	return all[Audience](ctx, db, audienceFields+"order by lower(a.name)")
}

// LiveAudiences lists those that follow a rule.
func (db Queries) LiveAudiences(ctx context.Context) ([]Audience, error) {
	return all[Audience](ctx, db, audienceFields+"where a.live order by a.id")
}

// Audience reads one.
func (db Queries) Audience(ctx context.Context, id int64) (Audience, error) {
	return one[Audience](ctx, db, audienceFields+"where a.id = $1", id)
}

// AudienceRules are whom some audiences are for, by id: of a live one its rule, of another nothing.
func (db Queries) AudienceRules(ctx context.Context, ids []int64) (map[int64]string, error) {
	list, err := all[struct {
		ID   int64
		Rule string
	}](ctx, db, "select id, case when live then rule::text else '' end as rule from audience where id = any ($1)", ids)
	out := map[int64]string{}
	for _, a := range list {
		out[a.ID] = a.Rule
	}
	return out, err
}

// LockAudience is Audience within a transaction, locked.
func (tx Tx) LockAudience(ctx context.Context, id int64) (Audience, error) {
	return one[Audience](ctx, tx, audienceFields+"where a.id = $1 for update of a", id)
}

// AddAudience keeps a new one. A live one is to be counted.
func (tx Tx) AddAudience(ctx context.Context, a Audience, at time.Time) (int64, error) {
	id, err := one[int64](ctx, tx,
		`insert into audience (name, note, live, rule, asks, owner_id, created_at, changed_at, swept_at, recount)
		values ($1, $2, $3, $4, $5, $6, $7, $7, $7, $3) returning id`, a.Name, a.Note, a.Live, a.Rule,
		asksOf(&a.Rule.V), a.OwnerID, at)
	if taken(err) {
		return 0, plainly.Errorf("%w: an audience is called %q", ErrTaken, a.Name)
	}
	return id, err
}

// SaveAudience changes name, note, owner and rule. With another rule it is to
// be counted again.
func (tx Tx) SaveAudience(ctx context.Context, a Audience, at time.Time) error {
	n, err := exec(ctx, tx, `
			update audience
			set name = $2, note = $3, owner_id = $4, recount = recount or (live and rule <> $5::jsonb), rule = $5,
				asks = $6, changed_at = $7
			where id = $1`,
		a.ID, a.Name, a.Note, a.OwnerID, a.Rule, asksOf(&a.Rule.V), at)
	if taken(err) {
		return plainly.Errorf("%w: an audience is called %q", ErrTaken, a.Name)
	}
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// RemoveAudience removes one, with its past.
func (tx Tx) RemoveAudience(ctx context.Context, id int64) error {
	n, err := exec(ctx, tx, "delete from audience where id = $1", id)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// Stale is somebody who has to be asked about again.
type Stale struct {
	Person int64
	At     time.Time // the instant from which on they may have joined or left
	What   []string  // what has changed, as Audience.Asks names it
}

// TakeStale takes up to n notes of changed people who are due, passing over
// those that another worker has.
func (tx Tx) TakeStale(ctx context.Context, now time.Time, n int) ([]Stale, error) {
	rows, err := all[struct {
		Person int64
		What   JSON[[]string]
	}](ctx, tx, `
		with due as (select ctid from audience_stale where due is null or due <= $1 limit $2 for update skip locked),
		gone as (delete from audience_stale s using due where s.ctid = due.ctid returning s.person_id, s.what)
		select person_id as person, json_agg(distinct what) as what from gone group by 1 order by 1`, now, n)
	out := make([]Stale, len(rows))
	for i, r := range rows {
		out[i] = Stale{r.Person, now, r.What.V}
	}
	return out, err
}

// Uncounted lists the audiences of which nobody knows yet who is in them, and
// those that ask for one of them, by whatever way.
func (db Queries) Uncounted(ctx context.Context) ([]int64, error) {
	return all[int64](ctx, db, `
			with recursive waits(id) as (
			select id from audience where recount
			union select b.id from waits w join audience b on b.live
				and jsonb_path_exists(b.rule, '$.**.if ? (@.about == "audience" && @.id == $id)',
					jsonb_build_object('id', w.id)))
		select id from waits order by id`)
}

// SequencesAsking lists the sequences whose entry or steps ask for one of some
// audiences.
func (db Queries) SequencesAsking(ctx context.Context, audiences []int64) ([]int64, error) {
	if len(audiences) == 0 {
		return []int64{}, nil
	}
	path := `'$.**.if ? (@.about == "audience" && @.id == $id)', jsonb_build_object('id', a.id)`
	return all[int64](ctx, db, `select s.id from sequence s where exists (select from unnest($1::bigint[]) as a(id)
			where jsonb_path_exists(s.entry, `+path+`)
				or exists (select from sequence_version v where v.sequence_id = s.id and jsonb_path_exists(v.plan, `+
		path+`
					)
					and (v.id = s.version_id
						or exists (select from enrolment e where e.version_id = v.id and e.ended_at is null))))
		order by 1`, audiences)
}

// StaleNow reports whether there are notes of changed people who are due: until
// they have been asked about, an audience may be behind.
func (db Queries) StaleNow(ctx context.Context, now time.Time) (bool, error) {
	return one[bool](ctx, db, "select exists (select from audience_stale where due is null or due <= $1)", now)
}

// Quickly has any statement of the transaction given up that takes longer.
func (tx Tx) Quickly(ctx context.Context, d time.Duration) error {
	_, err := exec(ctx, tx, "select set_config('statement_timeout', $1, true)", fmt.Sprintf("%dms", d.Milliseconds()))
	return err
}

// Movers lists whom the passing of time alone can have moved in or out of an
// audience since it was last swept.
func (tx Tx) Movers(ctx context.Context, a Audience, now time.Time) ([]Stale, error) {
	cat, err := catalogueFor(ctx, tx, &a.Rule.V)
	if err != nil {
		return nil, err
	}
	c := compiler{now: now, cat: cat}
	query := c.movers(&a.Rule.V, a.Swept, now)
	if query == "" {
		return nil, nil
	}
	return all[Stale](ctx, tx,
		`select person_id as person, least(at, `+c.arg(now)+`) as at from (`+query+`) x order by 1`, planned(c.args)...)
}

// Swept notes until when the passing of time is taken into account.
func (tx Tx) Swept(ctx context.Context, ids []int64, at time.Time) error {
	_, err := exec(ctx, tx, "update audience set swept_at = $2 where id = any ($1) and swept_at < $2", ids, at)
	return err
}

// LockAudiences lets one worker at a time keep audiences current; false where
// another is at it.
func (tx Tx) LockAudiences(ctx context.Context) (bool, error) {
	return one[bool](ctx, tx, "select pg_try_advisory_xact_lock($1)", lockAudiences)
}

// Follow asks an audience's rule of some people (all: of everybody) and lets
// join and leave who has to. It answers how many did either.
func (tx Tx) Follow(ctx context.Context, a Audience, who []Stale, all bool, now time.Time) (int64, error) {
	cat, err := catalogueFor(ctx, tx, &a.Rule.V)
	if err != nil {
		return 0, err
	}
	c := compiler{now: now, few: !all, cat: cat}
	where := c.rule(&a.Rule.V) + " and p.erased_at is null"
	audience, at := c.arg(a.ID), c.arg(now)
	members := "select m.person_id from audience_member m where m.audience_id = " + audience
	asked := ""
	if all {
		if err := wide(ctx, tx); err != nil {
			return 0, err
		}
	} else {
		ids, ats := make([]int64, len(who)), make([]time.Time, len(who))
		for i, s := range who {
			ids[i], ats[i] = s.Person, s.At
		}
		asked = "asked as (select * from unnest(" + c.arg(ids) + "::bigint[], " + c.arg(ats) +
			"::timestamptz[]) as a(id, at)), "
		where += " and p.id = any (" + c.arg(ids) + "::bigint[])"
		members += " and m.person_id = any (" + c.arg(ids) + "::bigint[])"
	}
	instant := at
	if !all {
		instant = "coalesce((select max(asked.at) from asked where asked.id = x.id), " + at + ")"
	}
	n, err := one[int64](ctx, tx, `with `+asked+`fits as materialized (select p.id`+peopleTables+`where `+where+`),
		were as materialized (`+members+`),
		joins as (select id from fits except select person_id from were),
		leaves as (select person_id as id from were except select id from fits),
		left_now as (delete from audience_member m using leaves x where m.audience_id = `+audience+
		` and m.person_id = x.id),
		joined as (insert into audience_member (audience_id, person_id, joined_at) select `+audience+`, x.id, `+instant+
		` from joins x),
		noted as (insert into audience_move (audience_id, person_id, at, joined)
			select `+audience+`, x.id, `+instant+`, true from joins x union all select `+audience+`, x.id, `+instant+
		`
		, false from leaves x returning joined),
		kept as (update audience set members = members + (select count(*) from joins) - (select count(*) from leaves),
			recount = recount and not `+c.arg(all)+`::boolean
			where id = `+audience+` and (exists (select from joins) or exists (select from leaves) or recount))
		select count(*) from noted`, planned(c.args)...)
	if err != nil {
		return 0, fmt.Errorf("following the audience %q: %w", a.Name, err)
	}
	if n == 0 {
		return 0, nil
	}
	return n, wakeExcluded(ctx, tx, a.ID)
}

// wakeExcluded has the ways looked at of those who are in an audience that their sequences leave
// out, and joined it on the way.
func wakeExcluded(ctx context.Context, tx Tx, audience int64) error {
	_, err := exec(ctx, tx, `
		with way as (
			select e.id, m.joined_at
			from sequence q
			join enrolment e on e.sequence_id = q.id
			join audience_member m on m.person_id = e.person_id and m.audience_id = $1
			where q.entry->'not_in' @> to_jsonb($1::bigint) and e.ended_at is null and not e.held
				and m.joined_at > e.entered_at and (e.look is null or e.look > m.joined_at)
			order by e.id
			for update of e)
		update enrolment e set look = least(e.look, way.joined_at) from way where e.id = way.id`, audience)
	if err != nil {
		return fmt.Errorf("looking at those whom audience %d leaves out: %w", audience, err)
	}
	return nil
}

// setMembers picks people into an audience by hand, or takes them out.
func setMembers(ctx context.Context, tx Tx, id int64, people []int64, in bool, at time.Time) error {
	var err error
	if in {
		_, err = exec(ctx, tx, `
				with joined as (insert into audience_member (audience_id, person_id, joined_at)
				select $1, p, $3
				from unnest($2::bigint[]) as p
				where exists (select from audience where id = $1 and not live)
				on conflict do nothing
				returning person_id),
			noted as (
				insert into audience_move (audience_id, person_id, at, joined)
				select $1, person_id, $3, true
				from joined)
			update audience set members = members + (select count(*) from joined) where id = $1`, id, people, at)
		if err == nil {
			err = wakeExcluded(ctx, tx, id)
		}
	} else {
		_, err = exec(ctx, tx, `
			with gone as (
				delete from audience_member
				where audience_id = $1 and person_id = any ($2)
					and exists (select from audience where id = $1 and not live)
				returning person_id),
			noted as (
				insert into audience_move (audience_id, person_id, at, joined)
				select $1, person_id, $3, false
				from gone)
			update audience set members = members - (select count(*) from gone) where id = $1`, id, people, at)
	}
	return err
}

// Pick picks people into an audience by hand.
func (tx Tx) Pick(ctx context.Context, audience int64, people []int64, at time.Time) error {
	return setMembers(ctx, tx, audience, people, true, at)
}

// Move is somebody's joining or leaving.
type Move struct {
	Person int64 `db:"person_id"`
	First  string
	Last   string
	Email  string
	At     time.Time
	Joined bool
}

// Moves lists who joined and left, the newest first.
func (db Queries) Moves(ctx context.Context, audience int64, n int) ([]Move, error) {
	return all[Move](ctx, db, `
		select m.person_id, p.first_name as first, p.last_name as last, p.email, m.at, m.joined
		from audience_move m
		join person p on p.id = m.person_id
		where m.audience_id = $1
		order by m.at desc, m.id desc
		limit $2`, audience, n)
}

// DayMoves is how many joined and left on a day.
type DayMoves struct {
	Day          time.Time
	Joined, Left int64
}

// MovesByDay counts joining and leaving by day, in a zone, since an instant; also of those of whom only that is left.
func (db Queries) MovesByDay(ctx context.Context, audience int64, from time.Time, zone string) ([]DayMoves, error) {
	return all[DayMoves](ctx, db, `
		select day::timestamp at time zone $3 as day, sum(joined)::bigint as joined, sum("left")::bigint as "left"
		from (
			select (at at time zone $3)::date as day, count(*) filter (where joined) as joined,
				count(*) filter (where not joined) as "left"
			from audience_move
			where audience_id = $1 and at >= $2
			group by 1
			union all
			select day, joined, "left"
			from audience_past
			where audience_id = $1 and day >= ($2::timestamptz at time zone $3)::date) x
		group by 1
		order by 1`, audience, from, zone)
}

// PersonAudiences lists the audiences that a person is in.
func (db Queries) PersonAudiences(ctx context.Context, person int64) ([]Audience, error) {
	return all[Audience](ctx, db,
		audienceFields+"join audience_member m on m.audience_id = a.id where m.person_id = $1 order by lower(a.name)",
		person)
}

// Use is something that an audience is used by.
type Use struct {
	Kind string // audience or sequence
	ID   int64
	Name string
}

// AudienceUse lists the audiences and sequences whose rules ask for an audience.
func (db Queries) AudienceUse(ctx context.Context, id int64) ([]Use, error) {
	path := `'$.**.if ? (@.about == "audience" && @.id == $id)', jsonb_build_object('id', $1::bigint)`
	return all[Use](ctx, db,
		`select 'audience' as kind, id, name from audience where live and id <> $1 and jsonb_path_exists(rule, `+path+`)
		union all select 'sequence', s.id, s.name from sequence s where jsonb_path_exists(s.entry, `+path+`)
			or exists (select from sequence_version v where v.id = s.version_id and jsonb_path_exists(v.plan, `+path+`
			))
			or exists (select from sequence_draft d where d.sequence_id = s.id and d.n = s.draft_n
				and jsonb_path_exists(d.plan, `+path+`))
		order by 1, 3`, id)
}

// AudienceFigures is what a list of audiences says of each beside its name.
type AudienceFigures struct {
	ID           int64
	Joined, Left int64 // since an instant
	Used         int64 // by how many audiences and sequences
}

// AudienceFigures gathers the figures of all audiences, by id.
func (db Queries) AudienceFigures(ctx context.Context, since time.Time) (map[int64]AudienceFigures, error) {
	rows, err := all[AudienceFigures](ctx, db, `
			with asks as (
			select 'a' || id as who, rule as x from audience where live
			union all select 's' || id, entry from sequence
			union all select 's' || s.id, v.plan from sequence s join sequence_version v on v.id = s.version_id
			union all select 's' || s.id, d.plan
			from sequence s
			join sequence_draft d on d.sequence_id = s.id and d.n = s.draft_n),
		used as (
			select (c->>'id')::bigint as id, count(distinct who) as n
			from asks, jsonb_path_query(x, '$.**.if ? (@.about == "audience")') c
			where who <> 'a' || (c->>'id')
			group by 1),
		moved as (
			select audience_id, count(*) filter (where joined) as joined, count(*) filter (where not joined) as "left"
			from audience_move
			where at >= $1
			group by 1)
		select a.id, coalesce(m.joined, 0) as joined, coalesce(m."left", 0) as "left", coalesce(u.n, 0) as used
		from audience a left join moved m on m.audience_id = a.id left join used u on u.id = a.id`, since)
	out := make(map[int64]AudienceFigures, len(rows))
	for _, r := range rows {
		out[r.ID] = r
	}
	return out, err
}

// GiveAudiences gives audiences an owner, nobody where that is 0, and answers
// how many there were.
func (tx Tx) GiveAudiences(ctx context.Context, ids []int64, owner int64) (int64, error) {
	return exec(ctx, tx, "update audience set owner_id = nullif($2::bigint, 0) where id = any ($1)", ids, owner)
}
