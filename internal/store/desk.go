package store

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"ombak/internal/core/desk"
	"ombak/internal/core/social"
)

// DeskRow is an item of work with what its place in the list is reckoned from.
type DeskRow struct {
	Of      WorkKind
	ID      int64
	Kind    desk.Kind
	Person  int64
	Made    time.Time
	Limit   *time.Time `db:"limit_at"` // when its step gives up; nil: never, or it has none
	Later   *time.Time `db:"later_at"`
	Back    bool
	Score   float64
	Zone    string
	Country string
	City    string
	Version int64 // of a step's work; 0: it is of none
	Step    int32
	Tried   *time.Time `db:"tried_at"`
	Rep     *int64     `db:"rep_id"`
}

// deskPart is a kind of what is on desks, as expressions over the rows it is read from.
type deskPart struct {
	of                            WorkKind
	id, kind, person, made, limit string
	due                           string // when it is due, near enough to say which come first
	sort                          string // what an index has that due follows
	tried, rep, team, from        string
}

var deskParts = []deskPart{
	{of: HandoffWork, id: "h.id", kind: "'handoff'", person: "h.person_id", made: "h.clock_from",
		due: "h.clock_from + interval '4 hours'", sort: "h.clock_from", rep: "h.rep_id",
		from: "handoff h where h.state = 'open'"},
	{of: CallWork, id: "w.touch_id",
		kind:   "case w.kind when 'call' then 'call' when 'social' then 'social touch' else 'task' end",
		person: "null::bigint", made: "w.ready_at", due: "w.due_at", sort: "w.due_at", tried: "w.tried_at",
		rep: "w.rep_id", team: "w.team_id", from: "work w where w.open and w.kind <> 'post'"},
	{of: TaskWork, id: "k.id", kind: "'task'", person: "k.person_id", made: "k.made_at",
		due: "k.made_at + interval '7 days'", sort: "k.made_at", rep: "k.user_id", team: "k.team_id",
		from: "task k where k.done_at is null and not k.alert and k.shown_at <= @now"},
	{of: AnswerWork, id: "i.id", kind: "'answer'", person: "i.person_id", made: "i.at", limit: "i.due_at",
		due: "coalesce(i.due_at, i.at)", sort: "coalesce(i.due_at, i.at)", rep: "i.rep_id",
		from: "incoming i where i.answer = '' and i.kind in ({reply}, {social answer}) and i.person_id is not null"},
	{of: MeetingWork, id: "b.id", kind: "'meeting'", person: "b.person_id", made: "b.starts_at", limit: "b.ends_at",
		due: "b.starts_at", sort: "b.starts_at", rep: "b.user_id",
		from: "booking b where b.state = 'booked' and b.starts_at < @now + interval '7 days'"},
}

// query is one of what of a part is on a desk at an instant (@now): what is a user's (@user; of user 0, who is
// everybody, nothing more is asked), and what they can take, which is nobody's or their team's.
//
// Whose it is, is in the words, so that the database plans one statement for all who ask alike. It is asked of each
// item as an index has them in order (coalesce keeps the planner from gathering somebody's first): whoever has most of
// them has a list of their first soon, and whoever has few has them all found by an index alone.
func (x *deskPart) query(columns, beside, where string, q DeskQuery) string {
	or := func(expr, none string) string {
		if expr == "" {
			return none
		}
		return expr
	}
	from, open, _ := strings.Cut(x.from, " where ")
	switch {
	case q.Pool:
		open += " and @rep is null"
	case q.User != 0:
		open += " and coalesce(@rep, @user) = @user"
	}
	if q.User != 0 && x.team != "" {
		open += " and (@rep is not null or @team is null or @team = (select team_id from app_user where id = @user))"
	}
	return strings.NewReplacer("@of", strconv.Itoa(int(x.of)), "@id", x.id, "@kind", x.kind, "@person", x.person,
		"@made", x.made, "@limit", or(x.limit, "null::timestamptz"), "@due", x.due,
		"@tried", or(x.tried, "null::timestamptz"), "@rep", x.rep, "@team", or(x.team, "null::bigint")).Replace(`
			select ` + columns + `
			from ` + from + beside + `
			where ` + open + where)
}

// rows is a query of the items themselves, save what somebody else has taken: of those that come back at an instant of
// their own, or of the others. What was said of each of those is looked up as it comes: so they stay in their order.
func (x *deskPart) rows(back bool, q DeskQuery) string {
	beside, where := `
			left join lateral (
				select d.back, d.later_at, d.taken_by, d.taken_until
				from desk_item d
				where d.kind = @of and d.item_id = @id
				limit 1) d on true`, " and not coalesce(d.back, false)"
	if back {
		beside, where = `
			join desk_item d on d.kind = @of and d.item_id = @id`, " and d.back"
	}
	if q.User != 0 {
		where += " and (d.taken_by is null or d.taken_by = @user or d.taken_until <= @now)"
	}
	if q.Kind != "" {
		where += " and @kind = @asked"
	}
	return x.query(`@of as of, @id as id, @kind as kind, @person as person_id, @made as made_at, @limit as limit_at,
				@due as due, @tried as tried_at, @rep as rep_id, d.later_at, coalesce(d.back, false) as back`, beside,
		where, q)
}

// counts is a query of how many items there are of each kind: all of them, less what somebody else has taken.
func (x *deskPart) counts(q DeskQuery) string {
	count := x.query("@kind as kind, count(*) as n", "", "", q) + `
			group by 1`
	if q.User == 0 {
		return count
	}
	return count + `
			union all` + x.query("@kind as kind, -count(*) as n", `
			join desk_item d on d.kind = @of and d.item_id = @id`,
		" and d.taken_by <> @user and (d.taken_until <= @now) is not true", q) + `
			group by 1`
}

// bound is a statement over parts with its values: those that it names.
func (q DeskQuery) bound(statement string) (string, []any) {
	var args []any
	for _, x := range []struct {
		name, as string
		value    any
	}{{"@now", "::timestamptz", q.Now}, {"@user", "::bigint", q.User}, {"@asked", "::text", string(q.Kind)}} {
		if strings.Contains(statement, x.name) {
			args = append(args, x.value)
			statement = strings.ReplaceAll(statement, x.name, "$"+strconv.Itoa(len(args))+x.as)
		}
	}
	return spelt(statement), args
}

// may reports whether a part may have what is of a kind: most have one alone.
func (x *deskPart) may(kind desk.Kind) bool {
	return kind == "" || !strings.HasPrefix(x.kind, "'") || x.kind == "'"+string(kind)+"'"
}

// DeskRows lists what a user has to do and what they can take. User 0 stands for everybody; pool
// for what can be taken alone; kind empty for every kind. The n that are due first are answered:
// what is due when is near enough here for that, and no more.
func (db Queries) DeskRows(ctx context.Context, q DeskQuery) ([]DeskRow, error) {
	// Of each part its first, which an index has in order; and what comes back at an instant of its own. How many is
	// written down, so that the statement is planned once for all who ask.
	var parts []string
	limit := strconv.Itoa(q.N)
	for i := range deskParts {
		x := &deskParts[i]
		if !x.may(q.Kind) {
			continue
		}
		parts = append(parts, "("+x.rows(false, q)+`
			order by `+x.sort+", "+x.id+`
			limit `+limit+`)`, "("+x.rows(true, q)+`
			order by d.later_at, `+x.id+`
			limit `+limit+`)`)
	}
	if len(parts) == 0 {
		return nil, nil
	}
	statement, args := q.bound(`
		with there as (` + strings.Join(parts, "\n\t\t\tunion all\n\t\t\t") + `),
		first as (
			select *
			from there
			order by case when back then later_at else due end, of, id
			limit ` + limit + `)
		select x.of, x.id, x.kind, p.id, x.made_at, coalesce(x.limit_at, e.due), x.later_at, x.back,
			coalesce(s.score, 0), p.zone, p.country, p.city, coalesce(t.version_id, 0), coalesce(t.step, 0), x.tried_at,
			x.rep_id
		from first x
		left join touch t on x.of = 0 and t.id = x.id
		left join enrolment e on e.id = t.enrolment_id and e.step = t.step and e.visit = t.visit and e.phase = 2
			and e.ended_at is null
		join person p on p.id = coalesce(x.person_id, t.person_id) and p.erased_at is null
		left join standing s on s.person_id = p.id and s.model_id = ` + theModel)
	rows, err := db.QueryContext(ctx, statement, args...)
	if err != nil {
		return nil, fmt.Errorf("reading a desk: %w", err)
	}
	defer rows.Close()
	var list []DeskRow
	for rows.Next() { // hundreds of them: by their places, not by their names
		var r DeskRow
		if err := rows.Scan(&r.Of, &r.ID, &r.Kind, &r.Person, &r.Made, &r.Limit, &r.Later, &r.Back, &r.Score, &r.Zone,
			&r.Country, &r.City, &r.Version, &r.Step, &r.Tried, &r.Rep); err != nil {
			return nil, fmt.Errorf("reading a desk: %w", err)
		}
		list = append(list, r)
	}
	return list, rows.Err()
}

// DeskCounts is how many items of each kind there are on a desk, whatever kind is asked for.
func (db Queries) DeskCounts(ctx context.Context, q DeskQuery) (map[desk.Kind]int, error) {
	var parts []string
	for i := range deskParts {
		parts = append(parts, deskParts[i].counts(q))
	}
	statement, args := q.bound("select kind, sum(n)::bigint as n from (" + strings.Join(parts, "\n\t\t\tunion all") +
		") x group by kind")
	rows, err := all[struct {
		Kind desk.Kind
		N    int
	}](ctx, db, statement, args...)
	of := map[desk.Kind]int{}
	for _, r := range rows {
		of[r.Kind] = r.N
	}
	return of, err
}

// DeskQuery is whose desk is read, and what of it.
type DeskQuery struct {
	User int64
	Pool bool
	Kind desk.Kind
	Now  time.Time
	N    int
}

// DeskItem is what was said of an item.
type DeskItem struct {
	Later  *time.Time `db:"later_at"`
	Back   bool
	Note   string
	Passed string     // by whom it was passed on
	Taken  *int64     `db:"taken_by"`
	Until  *time.Time `db:"taken_until"`
}

// DeskItem reads it; the zero one where nothing was said.
func (db Queries) DeskItem(ctx context.Context, of WorkKind, id int64) (DeskItem, error) {
	d, err := one[DeskItem](ctx, db, `
		select d.later_at, d.back, d.note, coalesce(u.name, '') as passed, d.taken_by, d.taken_until
		from desk_item d
		left join app_user u on u.id = d.passed_by
		where d.kind = $1 and d.item_id = $2`, of, id)
	if IsNotFound(err) { // what was to be read into is not as it was
		return DeskItem{}, nil
	}
	return d, err
}

// SetLater has an item come up at an instant; the zero one: now.
func (tx Tx) SetLater(ctx context.Context, of WorkKind, id int64, until time.Time, back bool) error {
	_, err := exec(ctx, tx, `insert into desk_item (kind, item_id, later_at, back) values ($1, $2, $3, $4)
		on conflict (kind, item_id) do update set later_at = excluded.later_at, back = excluded.back,
			taken_by = null, taken_until = null`, of, id, stamp(until), back)
	return err
}

// TakeItem takes an item of a pool for a user until an instant; false: somebody else has it.
func (tx Tx) TakeItem(ctx context.Context, of WorkKind, id, user int64, now, until time.Time) (bool, error) {
	n, err := exec(ctx, tx, `insert into desk_item as d (kind, item_id, taken_by, taken_until) values ($1, $2, $3, $5)
		on conflict (kind, item_id) do update set taken_by = excluded.taken_by, taken_until = excluded.taken_until
		where d.taken_by is null or d.taken_by = $3 or d.taken_until <= $4`, of, id, user, now, until)
	return n == 1, err
}

// TakenBy is who has taken an item, where they still have it; 0: nobody.
func (tx Tx) TakenBy(ctx context.Context, of WorkKind, id int64, now time.Time) (int64, error) {
	by, err := one[int64](ctx, tx, "select coalesce(taken_by, 0) from desk_item where kind = $1 and item_id = $2 "+
		"and taken_until > $3", of, id, now)
	if IsNotFound(err) {
		return 0, nil
	}
	return by, err
}

// LetGo gives back what a user has taken.
func (tx Tx) LetGo(ctx context.Context, user int64) error {
	_, err := exec(ctx, tx, "update desk_item set taken_by = null, taken_until = null where taken_by = $1", user)
	return err
}

// GiveItem makes an open item somebody's, with a note of who passes it on.
func (tx Tx) GiveItem(ctx context.Context, of WorkKind, id, to, by int64, note string) error {
	q := map[WorkKind]string{
		CallWork:    "update work set rep_id = nullif($2::bigint, 0) where touch_id = $1 and open",
		TaskWork:    "update task set user_id = nullif($2::bigint, 0) where id = $1 and done_at is null",
		HandoffWork: "update handoff set rep_id = nullif($2::bigint, 0) where id = $1 and state = 'open'",
		AnswerWork:  "update incoming set rep_id = nullif($2::bigint, 0) where id = $1 and answer = ''",
	}[of]
	n, err := exec(ctx, tx, q, id, to)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return err
	}
	_, err = exec(ctx, tx, `insert into desk_item (kind, item_id, note, passed_by) values ($1, $2, $3, $4)
		on conflict (kind, item_id) do update set note = excluded.note, passed_by = excluded.passed_by,
			taken_by = null, taken_until = null`, of, id, note, by)
	return err
}

// ForgetItem forgets what was said of an item that is done.
func (tx Tx) ForgetItem(ctx context.Context, of WorkKind, id int64) error {
	_, err := exec(ctx, tx, "delete from desk_item where kind = $1 and item_id = $2", of, id)
	return err
}

// TriedCall keeps that a call was tried without a talk, with what was noted.
func (tx Tx) TriedCall(ctx context.Context, id, rep int64, notes string, at time.Time) error {
	n, err := exec(ctx, tx, `update work set tries = tries + 1, tried_at = $4, rep_id = coalesce(rep_id, $2),
			notes = right(concat_ws(E'\n', nullif(notes, ''), nullif($3::text, '')), 5000)
		where touch_id = $1 and open`, id, rep, notes, at)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// Tries is how often a call that is still open was tried.
func (tx Tx) Tries(ctx context.Context, id int64) (int, error) {
	return one[int](ctx, tx, "select tries from work where touch_id = $1 and open for update", id)
}

// Took keeps how long an item took a user.
func (tx Tx) Took(ctx context.Context, user int64, kind desk.Kind, took time.Duration, at time.Time) error {
	_, err := exec(ctx, tx, "insert into desk_time (user_id, kind, seconds, at) values ($1, $2, $3, $4)", user, kind,
		int(took.Seconds()), at)
	return err
}

// TookLately is how long the last items of each kind took a user, at most n of each.
func (db Queries) TookLately(ctx context.Context, user int64, n int) (map[desk.Kind][]time.Duration, error) {
	rows, err := all[struct {
		Kind    desk.Kind
		Seconds int
	}](ctx, db, `
		select kind, seconds from (
			select kind, seconds, row_number() over (partition by kind order by id desc) as n
			from desk_time where user_id = $1) x
		where x.n <= $2`, user, n)
	out := map[desk.Kind][]time.Duration{}
	for _, r := range rows {
		out[r.Kind] = append(out[r.Kind], time.Duration(r.Seconds)*time.Second)
	}
	return out, err
}

// DeskFace is what a list shows of an item.
type DeskFace struct {
	Of                 WorkKind
	ID                 int64
	First, Last, Email string
	Company            string
	Words              string // what it is about
	RepName            string `db:"rep_name"`
	Team               string
}

// DeskFaces reads what a list shows of some items.
func (db Queries) DeskFaces(ctx context.Context, of []WorkKind, ids []int64) ([]DeskFace, error) {
	kinds := make([]int32, len(of))
	for i, k := range of {
		kinds[i] = int32(k)
	}
	return all[DeskFace](ctx, db, `
		with asked as (select * from unnest($1::int[], $2::bigint[]) as u(of, id)),
		items as (
			select u.of, u.id, h.person_id, h.rep_id, null::bigint as team_id,
				'handed over' as words
			from asked u join handoff h on u.of = 2 and h.id = u.id
			union all
			select u.of, u.id, t.person_id, w.rep_id, w.team_id, coalesce(q.name, '')
			from asked u
			join touch t on u.of = 0 and t.id = u.id
			join work w on w.touch_id = t.id
			left join sequence q on q.id = t.sequence_id
			union all
			select u.of, u.id, k.person_id, k.user_id, k.team_id, k.words
			from asked u join task k on u.of = 1 and k.id = u.id
			union all
			select u.of, u.id, i.person_id, i.rep_id, null, coalesce(nullif(i.subject, ''), left(i.said, 80))
			from asked u join incoming i on u.of = 3 and i.id = u.id
			union all
			select u.of, u.id, b.person_id, b.user_id, null, 'a meeting'
			from asked u join booking b on u.of = 4 and b.id = u.id)
		select x.of, x.id, p.first_name as first, p.last_name as last, p.email, coalesce(c.name, '') as company,
			x.words, coalesce(a.name, '') as rep_name, coalesce(g.name, '') as team
		from items x
		join person p on p.id = x.person_id
		left join company c on c.id = p.company_id
		left join app_user a on a.id = x.rep_id
		left join team g on g.id = x.team_id`, kinds, ids)
}

// SocialDoneSince is how often a user did each act of social touches by hand since an instant:
// the versions and steps they were of.
func (db Queries) SocialDoneSince(ctx context.Context, user int64, since time.Time) ([]DeskRow, error) {
	return all[DeskRow](ctx, db, `
		select 0 as of, t.id, 'social touch' as kind, t.person_id as person, t.made_at as made, 0::float8 as score,
			'' as zone, '' as country, '' as city, t.version_id as version, t.step, false as back
		from touch t
		join work w on w.touch_id = t.id
		where w.rep_id = $1 and t.kind = 'social' and t.state = 'done' and t.done_at >= $2 and w.outcome = 'done'
			and t.version_id is not null`, user, since)
}

// AtTheCompany lists colleagues of a person, those with the most engagement first.
func (db Queries) AtTheCompany(ctx context.Context, person int64, n int) ([]Colleague, error) {
	return all[Colleague](ctx, db, `
		select p.id, p.first_name as first, p.last_name as last, p.email, p.title,
			`+firstScore+` as score
		from person me
		join person p on p.company_id = me.company_id and p.id <> me.id and p.erased_at is null
		where me.id = $1
		order by score desc, p.id
		limit $2`, person, n)
}

// Colleague is somebody at the same company.
type Colleague struct {
	ID                        int64
	First, Last, Email, Title string
	Score                     float64
}

// PassedBy reports whether a user passed on an item that is still to be done.
func (tx Tx) PassedBy(ctx context.Context, of WorkKind, id, user int64) (bool, error) {
	return one[bool](ctx, tx,
		"select exists (select from desk_item where kind = $1 and item_id = $2 and passed_by = $3)", of, id, user)
}

// SocialLimits are how often a user does each act of social touches on a day.
func (db Queries) SocialLimits(ctx context.Context, user int64) (social.Limits, error) {
	l, err := one[JSON[social.Limits]](ctx, db, "select social_limits from app_user where id = $1", user)
	return l.V, err
}

// SetSocialLimits keeps them.
func (tx Tx) SetSocialLimits(ctx context.Context, user int64, l social.Limits) error {
	_, err := exec(ctx, tx, "update app_user set social_limits = $2 where id = $1", user, JSON[social.Limits]{V: l})
	return err
}

// OnDesk reports whether an item is still to be done, and by a user: theirs, nobody's or their
// team's, and nobody else has it in hand; user 0 stands for somebody who may do everybody's.
func (db Queries) OnDesk(ctx context.Context, of WorkKind, id, user int64, now time.Time) (bool, error) {
	from := map[WorkKind]string{
		CallWork: "select w.rep_id as rep, w.team_id from work w join touch t on t.id = w.touch_id " +
			"where w.touch_id = $2 and w.open and t.kind <> 'post'",
		TaskWork:    "select user_id as rep, team_id from task where id = $2 and done_at is null and not alert",
		HandoffWork: "select rep_id as rep, null::bigint as team_id from handoff where id = $2 and state = 'open'",
		AnswerWork: "select rep_id as rep, null::bigint as team_id from incoming where id = $2 and answer = '' " +
			"and kind in ({reply}, {social answer}) and person_id is not null",
		MeetingWork: "select user_id as rep, null::bigint as team_id from booking where id = $2 and state = 'booked'",
	}[of]
	return one[bool](ctx, db, `
		select exists (
			select from (`+from+`) x
			where ($3 = 0 or x.rep = $3 or x.rep is null and `+ofTeam("x", "$3")+`)
				and not exists (
					select from desk_item d
					where d.kind = $1 and d.item_id = $2 and $3 <> 0 and d.taken_by <> $3 and d.taken_until > $4))`,
		of, id, user, now)
}

// Task reads a task.
func (db Queries) Task(ctx context.Context, id int64) (Task, error) {
	return one[Task](ctx, db, taskFields+"where t.id = $1", id)
}

// LastSignals lists the last that somebody did.
func (db Queries) LastSignals(ctx context.Context, person int64, n int) ([]TimelineSignal, error) {
	return all[TimelineSignal](ctx, db, `
		select s.id, s.at, s.kind, s.machine, s.detail, s.sequence_id, s.touch_id, coalesce(q.name, '') as name
		from signal s
		left join sequence q on q.id = s.sequence_id
		where s.person_id = $1
		order by s.at desc, s.id desc
		limit $2`, person, n)
}

// LastTouchesOf lists the last touches that reached somebody.
func (db Queries) LastTouchesOf(ctx context.Context, person int64, n int) ([]Touch, error) {
	return all[Touch](ctx, db, touchFields+`
		where t.person_id = $1 and t.state in ('sent', 'done')
		order by t.made_at desc, t.id desc
		limit $2`, person, n)
}

// TriedRow reads of a call that is still to be made where its person is, and when it was tried.
func (db Queries) TriedRow(ctx context.Context, touch int64) (DeskRow, error) {
	return one[DeskRow](ctx, db, `
		select 0 as of, t.id, 'call' as kind, t.person_id as person, w.ready_at as made, false as back,
			0::float8 as score, p.zone, p.country, p.city, coalesce(t.version_id, 0) as version, t.step, w.tried_at
		from work w
		join touch t on t.id = w.touch_id
		join person p on p.id = t.person_id
		where w.touch_id = $1 and w.open`, touch)
}

// GiveItems makes open items of one kind somebody's (0: the pool's), from a user who has them, and
// answers which it were.
func (tx Tx) GiveItems(ctx context.Context, of WorkKind, ids []int64, from, to, by int64) ([]int64, error) {
	q := map[WorkKind]string{
		CallWork: `update work set rep_id = nullif($3::bigint, 0)
			where touch_id = any ($1) and open and rep_id is not distinct from nullif($2::bigint, 0)
			returning touch_id`,
		TaskWork: `update task set user_id = nullif($3::bigint, 0)
			where id = any ($1) and done_at is null and user_id is not distinct from nullif($2::bigint, 0)
			returning id`,
		HandoffWork: `update handoff set rep_id = nullif($3::bigint, 0)
			where id = any ($1) and state = 'open' and rep_id is not distinct from nullif($2::bigint, 0)
			returning id`,
		AnswerWork: `update incoming set rep_id = nullif($3::bigint, 0)
			where id = any ($1) and answer = '' and rep_id is not distinct from nullif($2::bigint, 0) returning id`,
	}[of]
	moved, err := all[int64](ctx, tx, q, ids, from, to)
	if err != nil || len(moved) == 0 {
		return moved, err
	}
	_, err = exec(ctx, tx, `
		insert into desk_item (kind, item_id, passed_by)
		select $1, id, $3 from unnest($2::bigint[]) as u(id)
		on conflict (kind, item_id) do update set passed_by = excluded.passed_by, taken_by = null, taken_until = null`,
		of, moved, by)
	return moved, err
}

// DeskMove is work that was moved from one user to another, or the pool (0).
type DeskMove struct {
	ID    int64
	User  int64 `db:"user_id"`
	From  int64 `db:"from_id"`
	To    int64 `db:"to_id"`
	At    time.Time
	Items JSON[map[WorkKind][]int64]
}

// KeepDeskMove keeps what was moved, so that it can be taken back.
func (tx Tx) KeepDeskMove(ctx context.Context, m DeskMove) (int64, error) {
	return one[int64](ctx, tx, `
		insert into desk_move (user_id, from_id, to_id, at, items) values ($1, nullif($2::bigint, 0),
			nullif($3::bigint, 0), $4, $5)
		returning id`, m.User, m.From, m.To, m.At, m.Items)
}

// TakeDeskMove takes a move to take it back, once.
func (tx Tx) TakeDeskMove(ctx context.Context, id int64) (DeskMove, error) {
	return one[DeskMove](ctx, tx, `
		delete from desk_move where id = $1
		returning id, user_id, coalesce(from_id, 0) as from_id, coalesce(to_id, 0) as to_id, at, items`, id)
}
