package store

import (
	"context"
	"ombak/internal/core/right"
	"time"
)

// Task is work that somebody has to do about a person, or what they are told
// of them.
type Task struct {
	ID     int64
	Person int64  `db:"person_id"`
	User   *int64 `db:"user_id"` // nil: anybody's
	Alert  bool
	Words  string
	How    string
	Made   time.Time `db:"made_at"`

	First, Last, Email, Company string
	Phone, Title, Zone, Country string
	City, UserName              string
	Team                        string // whose it is to take; empty: no team's
	Score                       float64
}

// NewTask is a task or an alert to be kept.
type NewTask struct {
	Person, To int64 // to 0: the person's owner, else anybody
	Alert      bool
	Words, How string
	At         time.Time
	Role       right.Role // each user of it is told; empty: To
	Team       int64      // an alert: each of it is told; a task: any of it may take it; 0: To
}

// AddTasks keeps tasks and alerts. The same one twice for somebody, while the first
// is open, is one. An alert is shown when its receiver takes them, by the clock of a zone.
func (tx Tx) AddTasks(ctx context.Context, list []NewTask, zone *time.Location) error {
	n := len(list)
	who, to, alert := make([]int64, n), make([]int64, n), make([]bool, n)
	team := make([]int64, n)
	words, how, at, role := make([]string, n), make([]string, n), make([]time.Time, n), make([]string, n)
	for i, t := range list {
		who[i], to[i], alert[i], words[i], how[i], at[i] = t.Person, t.To, t.Alert, t.Words, t.How, t.At
		role[i], team[i] = string(t.Role), t.Team
	}
	_, err := exec(ctx, tx, `
		with asked as (
			select p.id, u.alert, u.words, u.how, u.at, case when not u.alert then g.id end as team,
				case when u.alert or g.id is null then coalesce(m.id, nullif(u.whose, 0), p.owner_id) end as whose
			from unnest($1::bigint[], $2::bigint[], $3::boolean[], $4::text[], $5::text[], $6::timestamptz[],
				$7::text[], $9::bigint[]) as u(who, whose, alert, words, how, at, role, team)
			join person p on p.id = u.who
			-- An alert to a team that nobody is in is told as if it were for nobody in particular.
			left join team g on g.id = u.team and g.removed_at is null and (not u.alert or exists (
				select from app_user x where x.team_id = g.id and x.left_at is null))
			left join app_user m on m.left_at is null
				and (m.role = u.role or u.alert and u.role = '' and m.team_id = g.id)
			where u.role = '' and (g.id is null or not u.alert) or m.id is not null)
		insert into task (person_id, user_id, team_id, alert, words, how, made_at, shown_at)
		select distinct on (a.id, a.whose, a.team, a.alert, a.words, a.how)
			a.id, a.whose, a.team, a.alert, a.words, a.how, a.at,
			case
				when a.alert and w.alerts = 'hourly' then date_trunc('hour', a.at) + interval '1 hour'
				when a.alert and w.alerts = 'at nine'
					then (date_trunc('day', (a.at at time zone z.zone) - interval '9 hours') + interval '33 hours')
						at time zone z.zone
				else a.at end
		from asked a
		left join app_user w on w.id = a.whose
		cross join lateral (select coalesce(nullif(w.work->>'zone', ''), $8) as zone) z
		where not exists (
			select from task t
			where t.person_id = a.id and t.user_id is not distinct from a.whose and t.alert = a.alert
				and t.team_id is not distinct from a.team
				and t.words = a.words and t.how = a.how and t.done_at is null)
		order by a.id, a.whose, a.team, a.alert, a.words, a.how, a.at`, who, to, alert, words, how, at, role,
		zone.String(), team)
	return err
}

const taskFields = `
	select t.id, t.person_id, t.user_id, t.alert, t.words, t.how, t.made_at, p.first_name as first, p.last_name as last,
		p.email, p.phone, p.title, p.zone, p.country, p.city,
	coalesce(c.name, '') as company, coalesce(u.name, '') as username, coalesce(tm.name, '') as team,
		` + firstScore + ` as score
	from task t
	join person p on p.id = t.person_id
	left join company c on c.id = p.company_id
	left join team tm on tm.id = t.team_id
	left join app_user u on u.id = t.user_id `

// Alert is something that a user is told of somebody.
type Alert struct {
	ID, Person int64
	Words, How string
	Made       time.Time
}

// OpenAlerts lists what a user is told and has not seen, the longest waiting first; user 0 stands for everybody.
func (db Queries) OpenAlerts(ctx context.Context, user int64, now time.Time) ([]Alert, error) {
	return all[Alert](ctx, db, `
		select t.id, t.person_id as person, t.words, t.how, t.made_at as made
		from task t
		where t.done_at is null and t.alert and t.shown_at <= $2
			and ($1 = 0 or t.user_id = $1 or t.user_id is null and `+ofTeam("t", "$1")+`)
		order by t.made_at, t.id
		limit 500`, planned([]any{user, now})...)
}

// OpenTasks lists what a user has to do, and what nobody in particular has, the
// longest waiting first; user 0 stands for everybody. Of alerts it lists those
// instead.
func (db Queries) OpenTasks(ctx context.Context, user int64, alerts bool, now time.Time) ([]Task, error) {
	return all[Task](ctx, db,
		taskFields+`
			where t.id in (
				select t.id
				from task t
				where t.done_at is null and t.alert = $2 and t.shown_at <= $3
					and ($1 = 0 or t.user_id = $1 or t.user_id is null and `+ofTeam("t", "$1")+`)
				order by t.made_at, t.id
				limit 500) and p.erased_at is null
			order by t.made_at, t.id`, planned([]any{user, alerts, now})...)
}

// AlertsTo is how a user takes alerts.
func (db Queries) AlertsTo(ctx context.Context, user int64) (string, error) {
	return one[string](ctx, db, "select alerts from app_user where id = $1", user)
}

// SetAlertsTo keeps how a user takes alerts from now on; what waits is shown as it was to be.
func (tx Tx) SetAlertsTo(ctx context.Context, user int64, how string) error {
	_, err := exec(ctx, tx, "update app_user set alerts = $2 where id = $1", user, how)
	return err
}

// FinishTask keeps that a task is done. It answers ErrNotFound where it is not
// open any more.
func (tx Tx) FinishTask(ctx context.Context, id, user int64, notes string, at time.Time) (Task, error) {
	return one[Task](ctx, tx, `
			update task t
			set done_at = $4, done_by = $2, notes = $3
			where id = $1 and done_at is null and not alert
			returning id, person_id, user_id, alert, words, how, made_at`, id, user, notes, at)
}

// ReopenTask takes back that a user has done tasks or seen alerts.
func (tx Tx) ReopenTask(ctx context.Context, ids []int64, user int64) error {
	_, err := exec(ctx, tx,
		"update task set done_at = null, done_by = null, notes = '' where id = any ($1) and done_by = $2", ids, user)
	return err
}

// SeeAlerts keeps that a user has seen alerts, and answers which.
func (tx Tx) SeeAlerts(ctx context.Context, ids []int64, user int64, at time.Time) ([]int64, error) {
	return all[int64](ctx, tx,
		"update task set done_at = $3, done_by = $2 where id = any ($1) and alert and done_at is null and (user_id "+
			"is null or user_id = $2) returning id", ids, user, at)
}

// PersonTask is a task or an alert about somebody.
type PersonTask struct {
	Words string     `json:"words"`
	How   string     `json:"from"`
	Alert bool       `json:"alert"`
	Made  time.Time  `db:"made_at" json:"made"`
	Done  *time.Time `db:"done_at" json:"done,omitempty"`
	User  string     `json:"done_by,omitempty"`
	Notes string     `json:"notes,omitempty"`
}

// PersonTasks lists what there was and is to do about somebody, the newest
// first.
func (db Queries) PersonTasks(ctx context.Context, person int64) ([]PersonTask, error) {
	return all[PersonTask](ctx, db, `
			select t.words, t.how, t.alert, t.made_at, t.done_at, coalesce(u.name, '') as "user", t.notes
			from task t
			left join app_user u on u.id = t.done_by
			where t.person_id = $1
			order by t.id desc
			limit 200`, person)
}
