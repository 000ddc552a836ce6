package store

import (
	"context"
	"fmt"
	"time"

	"ombak/internal/core/desk"
	"ombak/internal/core/handoff"
	"ombak/internal/core/right"
)

// User is somebody who signs in.
type User struct {
	ID           int64
	Name         string
	Email        string
	Phone        string
	Role         right.Role
	PasswordHash string `db:"password_hash"`
	Capacity     int
	Weight       int // how many turns they have where another has one
	Away         bool
	Signature    string     // HTML, as core/message cleans it
	Left         *time.Time `db:"left_at"` // they no longer work here; nil: they do
	Team         *int64     `db:"team_id"` // in which they work; nil: in none
	Work         JSON[desk.Worker]
}

const userFields = "select id, name, email, phone, role, password_hash, capacity, weight, away, signature, " +
	"left_at, team_id, work from " +
	"app_user "

// UserByEmail finds a user by address, in lower case.
func (db Queries) UserByEmail(ctx context.Context, email string) (User, error) {
	return one[User](ctx, db, userFields+"where email = $1", email)
}

// User reads one.
func (db Queries) User(ctx context.Context, id int64) (User, error) {
	return one[User](ctx, db, userFields+"where id = $1", id)
}

// UsersByID reads some, in no order.
func (db Queries) UsersByID(ctx context.Context, ids []int64) ([]User, error) {
	return all[User](ctx, db, userFields+"where id = any ($1)", ids)
}

// Users lists those who work here.
func (db Queries) Users(ctx context.Context) ([]User, error) {
	return all[User](ctx, db, userFields+"where left_at is null order by name, id")
}

// AddUser keeps a new user.
func (db Queries) AddUser(ctx context.Context, u User, at time.Time) (int64, error) {
	return one[int64](ctx, db, `insert into app_user (name, email, phone, role, password_hash, capacity, created_at)
		values ($1, $2, $3, $4, $5, $6, $7) returning id`, u.Name, u.Email, u.Phone, u.Role, u.PasswordHash, u.Capacity,
		at)
}

// SetSignature keeps a user's signature.
func (tx Tx) SetSignature(ctx context.Context, id int64, signature string) error {
	_, err := exec(ctx, tx, "update app_user set signature = $2 where id = $1", id, signature)
	return err
}

// RepsInTurn reads the reps with what routing asks for, and locks them, so
// that two handoffs at one moment do not go to the same rep's turn. zone is the workspace's.
func (tx Tx) RepsInTurn(ctx context.Context, now time.Time, zone *time.Location) ([]handoff.Rep, error) {
	return readReps(ctx, tx, "for update of a", now, zone)
}

// RepsNow is RepsInTurn for who only looks: nobody waits for that.
func (db Queries) RepsNow(ctx context.Context, now time.Time, zone *time.Location) ([]handoff.Rep, error) {
	return readReps(ctx, db, "", now, zone)
}

func readReps(
	ctx context.Context, q querier, lock string, now time.Time, zone *time.Location,
) ([]handoff.Rep, error) {
	rows, err := all[struct {
		ID       int64
		Name     string
		Team     int64
		Capacity int
		Away     bool
		Open     int
		Weight   int
		Turn     float64
		Last     *time.Time `db:"handed_at"`
		Work     JSON[desk.Worker]
	}](ctx, q, `
		select a.id, a.name, coalesce(a.team_id, 0) as team, a.capacity, a.away, a.weight, a.turn, a.handed_at,
			a.work, (
			select count(*) from handoff h where h.rep_id = a.id and h.state = 'open') as open
		from app_user a where a.role = 'rep' and a.left_at is null
		order by a.id `+lock)
	if err != nil {
		return nil, err
	}
	var reps []handoff.Rep
	for _, r := range rows {
		rep := handoff.Rep{ID: r.ID, Name: r.Name, Capacity: r.Capacity, Open: r.Open, Weight: r.Weight, Turn: r.Turn,
			Away: r.Away || r.Work.V.AwayAt(now, zone)}
		if r.Team != 0 {
			rep.Teams = []int64{r.Team}
		}
		if r.Last != nil {
			rep.Last = *r.Last
		}
		reps = append(reps, rep)
	}
	return reps, nil
}

// HadTurn keeps that it was a rep's turn.
func (tx Tx) HadTurn(ctx context.Context, rep int64, at time.Time) error {
	_, err := exec(ctx, tx, "update app_user set handed_at = $2 where id = $1", rep, at)
	return err
}

// UserName is what a user is called.
func (db Queries) UserName(ctx context.Context, id int64) (string, error) {
	return one[string](ctx, db, "select name from app_user where id = $1", id)
}

// RoleOf is a user's role.
func (db Queries) RoleOf(ctx context.Context, id int64) (right.Role, error) {
	return one[right.Role](ctx, db, "select role from app_user where id = $1", id)
}

// Whose is whose an item of work is; nil: nobody's, so that any of the team can take it, or
// anybody where it is no team's.
type Whose struct {
	User *int64
	Team *int64
}

// OwnerOfWork is whose an item of work is: a touch, a task or a handoff that is
// open. It is ErrNotFound where it is not open any more.
func (tx Tx) OwnerOfWork(ctx context.Context, kind WorkKind, id int64) (Whose, error) {
	q, ok := map[WorkKind]string{
		CallWork: `select rep_id as "user", team_id as team from work where touch_id = $1 and open for update`,
		TaskWork: `select user_id as "user", team_id as team from task where id = $1 and done_at is null and not alert
			for update`,
		HandoffWork: `select rep_id as "user", null::bigint as team from handoff where id = $1 and state = 'open'
			for update`,
		AnswerWork: `select rep_id as "user", null::bigint as team from incoming where id = $1 and answer = ''
			and kind in ({reply}, {social answer}) and person_id is not null for update`,
		MeetingWork: `select user_id as "user", null::bigint as team from booking where id = $1 and state = 'booked'
			for update`,
	}[kind]
	if !ok {
		return Whose{}, fmt.Errorf("there is no work of kind %d", kind)
	}
	return one[Whose](ctx, tx, q, id)
}

// TeamOf is the team that a user works in; 0: none.
func (tx Tx) TeamOf(ctx context.Context, user int64) (int64, error) {
	return one[int64](ctx, tx, "select coalesce(team_id, 0) from app_user where id = $1", user)
}

// WorkKind is a kind of work on a desk.
type WorkKind int

// The kinds there are.
const (
	CallWork WorkKind = iota
	TaskWork
	HandoffWork
	AnswerWork
	MeetingWork
)
