package store

import (
	"context"
	"fmt"
	"time"

	"ombak/internal/core/pipeline"
	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
)

// Invitation is a colleague who was asked to join.
type Invitation struct {
	ID    int64
	Email string
	Name  string
	Role  right.Role
	By    string
	Made  time.Time `db:"made_at"`
	Until time.Time
}

const invitationFields = `select i.id, i.email, i.name, i.role, coalesce(u.name, '') as by, i.made_at, i.until
	from invitation i left join app_user u on u.id = i.by_id `

// Invitations lists those that nobody has taken yet, the newest first.
func (db Queries) Invitations(ctx context.Context) ([]Invitation, error) {
	return all[Invitation](ctx, db, invitationFields+"where i.used_at is null order by i.id desc limit 200")
}

// Invite keeps an invitation, in the place of an earlier one to that address.
func (tx Tx) Invite(ctx context.Context, i Invitation, token []byte, by int64) (int64, error) {
	if _, err := exec(ctx, tx, "delete from invitation where email = $1 and used_at is null", i.Email); err != nil {
		return 0, err
	}
	return one[int64](ctx, tx, `insert into invitation (email, name, role, token, by_id, made_at, until)
		values ($1, $2, $3, $4, nullif($5::bigint, 0), $6, $7) returning id`, i.Email, i.Name, i.Role, token, by,
		i.Made, i.Until)
}

// InvitationBy finds an open invitation by its token's hash.
func (db Queries) InvitationBy(ctx context.Context, token []byte, now time.Time) (Invitation, error) {
	return one[Invitation](ctx, db, invitationFields+"where i.token = $1 and i.used_at is null and i.until > $2", token,
		now)
}

// TakeInvitation takes it, once.
func (tx Tx) TakeInvitation(ctx context.Context, token []byte, now time.Time) (Invitation, error) {
	return one[Invitation](ctx, tx, `with taken as (
			update invitation set used_at = $2 where token = $1 and used_at is null and until > $2 returning *)
		select i.id, i.email, i.name, i.role, '' as by, i.made_at, i.until from taken i`, token, now)
}

// RemoveInvitation takes an open one back.
func (tx Tx) RemoveInvitation(ctx context.Context, id int64) error {
	_, err := exec(ctx, tx, "delete from invitation where id = $1 and used_at is null", id)
	return err
}

// NewUser keeps a new user within a transaction.
func (tx Tx) NewUser(ctx context.Context, u User, at time.Time) (int64, error) {
	id, err := one[int64](ctx, tx, `insert into app_user (name, email, phone, role, password_hash, capacity, created_at)
		values ($1, $2, $3, $4, $5, $6, $7) returning id`, u.Name, u.Email, u.Phone, u.Role, u.PasswordHash, u.Capacity,
		at)
	if taken(err) {
		return 0, plainly.Errorf("%w: somebody signs in as %s already", ErrTaken, u.Email)
	}
	return id, err
}

// TakeFirstKey takes the key by which the first user joins, where it is this
// one and there is no user yet; false: it is not.
func (tx Tx) TakeFirstKey(ctx context.Context, key string) (bool, error) {
	n, err := exec(ctx, tx, `delete from setting where name = 'first_key' and value = to_jsonb($1::text)
		and not exists (select from app_user)`, key)
	return n == 1, err
}

// SetUser changes who somebody is here.
func (tx Tx) SetUser(ctx context.Context, u User) error {
	n, err := exec(ctx, tx, `
		update app_user set name = $2, role = $3, phone = $4, capacity = $5, away = $6, work = $7
		where id = $1 and left_at is null`, u.ID, u.Name, u.Role, u.Phone, u.Capacity, u.Away, u.Work)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// Admins counts the admins who work here, and locks them.
func (tx Tx) Admins(ctx context.Context) (int, error) {
	list, err := all[int64](ctx, tx,
		"select id from app_user where role = 'admin' and left_at is null order by id for update")
	return len(list), err
}

// UserLeaves keeps that somebody no longer works here, ends their sessions'
// use, and gives what is theirs to another user; 0: to nobody.
func (tx Tx) UserLeaves(ctx context.Context, id, to int64, at time.Time) error {
	n, err := exec(ctx, tx, "update app_user set left_at = $2, away = true where id = $1 and left_at is null", id, at)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return err
	}
	for _, q := range []string{
		"update person set owner_id = nullif($2::bigint, 0) where owner_id = $1",
		"update deal set rep_id = nullif($2::bigint, 0) where rep_id = $1 and closed_at is null",
		"update handoff set rep_id = nullif($2::bigint, 0) where rep_id = $1 and state = 'open'",
		"update work set rep_id = nullif($2::bigint, 0) where rep_id = $1 and open",
		"update task set user_id = nullif($2::bigint, 0) where user_id = $1 and done_at is null and not alert",
		"update booking set user_id = case when $2 = 0 then user_id else $2 end where user_id = $1 and " +
			"state = 'booked'",
		"update booking_page set shown = false, feed = '' where user_id = $1 and $2 >= 0",
		"update incoming set rep_id = nullif($2::bigint, 0) where rep_id = $1 and answer = ''",
	} {
		if _, err := exec(ctx, tx, q, id, to); err != nil {
			return fmt.Errorf("giving what is theirs to another: %w", err)
		}
	}
	return nil
}

// KeepStage changes a stage, or keeps a new one at the end where its id is 0.
func (tx Tx) KeepStage(ctx context.Context, st pipeline.Stage) (int64, error) {
	if st.ID == 0 {
		return tx.AddStage(ctx, st)
	}
	n, err := exec(ctx, tx, `
		update stage
		set name = $2, share = $3, won = $4, lost = $5, nurture_id = nullif($6::bigint, 0), nurture_days = $7
		where id = $1`, st.ID, st.Name, st.Share, st.Won, st.Lost, st.Nurture, st.After)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return st.ID, err
}

// LockStages lists the stages within a transaction, locked.
func (tx Tx) LockStages(ctx context.Context) ([]pipeline.Stage, error) {
	return all[pipeline.Stage](ctx, tx, stageFields+stageOrder+" for update of st")
}

// AnyOpenStage reports whether a deal can begin.
func (tx Tx) AnyOpenStage(ctx context.Context) (bool, error) {
	return one[bool](ctx, tx, "select exists (select from stage where not won and not lost)")
}

// OrderStages puts the stages into an order.
func (tx Tx) OrderStages(ctx context.Context, ids []int64) error {
	_, err := exec(ctx, tx,
		"update stage set position = u.n from unnest($1::bigint[]) with ordinality as u(id, n) where stage.id = u.id",
		ids)
	return err
}

// DealsIn counts the deals that are, or were, in a stage.
func (tx Tx) DealsIn(ctx context.Context, stage int64) (int, error) {
	return one[int](ctx, tx, `select (select count(*) from deal where stage_id = $1)
		+ (select count(*) from deal_move where stage_id = $1)`, stage)
}

// RestoreStage has a stage be as it was, with the number it had.
func (tx Tx) RestoreStage(ctx context.Context, st pipeline.Stage) error {
	_, err := exec(ctx, tx, `
		insert into stage (id, name, position, share, won, lost, nurture_id, nurture_days, pipeline_id)
			overriding system value
		values ($1, $2, 0, $3, $4, $5, (select id from sequence where id = $6), $7,
			coalesce((select id from pipeline where id = $8), (select id from pipeline order by position, id limit 1)))
		on conflict (id) do update
		set name = excluded.name, share = excluded.share, won = excluded.won, lost = excluded.lost,
			nurture_id = excluded.nurture_id, nurture_days = excluded.nurture_days`, st.ID, st.Name, st.Share, st.Won,
		st.Lost, st.Nurture, st.After, st.Pipeline)
	return err
}

// RemoveStage removes one in which no deal has been.
func (tx Tx) RemoveStage(ctx context.Context, id int64) error {
	_, err := exec(ctx, tx, "delete from stage where id = $1", id)
	return err
}

// Begun is how far a workspace is set up.
type Begun struct {
	Users    int
	Stages   int
	Model    bool
	People   int64 // up to 1
	Messages int
	Pages    int // published
	Running  int // sequences that were launched
}

// Begun counts how far a workspace is set up.
func (db Queries) Begun(ctx context.Context) (Begun, error) {
	return one[Begun](ctx, db, `select
		(select count(*) from app_user where left_at is null) as users,
		(select count(*) from stage) as stages,
		exists (select from score_model where version > 0) as model,
		(select count(*) from (select from person where erased_at is null limit 1) x) as people,
		(select count(*) from message where removed_at is null and version > 0) as messages,
		(select count(*) from page where removed_at is null and published) as pages,
		(select count(*) from sequence where version_id is not null) as running`)
}

// CountAllAgain has every score of a model (0: of all) counted by the worker that looks next.
func (tx Tx) CountAllAgain(ctx context.Context, model int64, at time.Time) error {
	_, err := exec(ctx, tx, "update standing set due = $2 where $1 = 0 or model_id = $1", model, at)
	return err
}

// DaysMoved says of every model that what it counts by has changed: its days.
func (tx Tx) DaysMoved(ctx context.Context) error {
	_, err := exec(ctx, tx, "update score_model set changes = changes + 1")
	return err
}
