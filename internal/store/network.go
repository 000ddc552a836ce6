package store

import (
	"context"
	"fmt"
	"time"

	"ombak/internal/core/signal"
	"ombak/internal/core/social"
)

// NetworkAccount is a user whose social touches the network does.
type NetworkAccount struct {
	User   int64               `db:"user_id"`
	Email  string              // by which the network knows them
	Limits JSON[social.Limits] // of a day
}

// NetworkAccounts lists those who work here.
func (db Queries) NetworkAccounts(ctx context.Context) ([]NetworkAccount, error) {
	return all[NetworkAccount](ctx, db, `
		select a.user_id, u.email, a.limits
		from network_account a
		join app_user u on u.id = a.user_id
		where u.left_at is null
		order by a.user_id`)
}

// SetNetworkAccount keeps that the network does a user's social touches, or with nil limits that
// they do them themselves.
func (tx Tx) SetNetworkAccount(ctx context.Context, user int64, limits *social.Limits) error {
	if limits == nil {
		_, err := exec(ctx, tx, "delete from network_account where user_id = $1", user)
		return err
	}
	if err := tx.SetSocialLimits(ctx, user, *limits); err != nil {
		return err
	}
	_, err := exec(ctx, tx, `
		insert into network_account (user_id, limits) values ($1, $2)
		on conflict (user_id) do update set limits = excluded.limits`, user, JSON[social.Limits]{V: *limits})
	return err
}

// SocialWork lists the social touches that wait for a user, or were begun for them, the longest
// waiting first.
func (db Queries) SocialWork(ctx context.Context, user int64, now time.Time, n int) ([]Touch, error) {
	return all[Touch](ctx, db, touchFields+`
		join enrolment e on e.id = t.enrolment_id
		where w.open and t.kind = 'social' and w.rep_id = $1 and w.ready_at <= $2 and not e.held
			and e.ended_at is null and q.state = 'running' and p.held_at is null and not p.do_not_contact
			and p.opted_out_at is null
		order by w.ready_at, t.id
		limit $3`, user, now, n)
}

// PutOffWork has work wait on the desk until an instant.
func (tx Tx) PutOffWork(ctx context.Context, touch int64, until time.Time) error {
	_, err := exec(ctx, tx, "update work set ready_at = $2 where touch_id = $1 and open", touch, until)
	return err
}

// Errand is what the network is asked to do for a touch.
type Errand struct {
	Touch    int64 `db:"touch_id"`
	User     int64 `db:"user_id"`
	What     string
	Withdraw *time.Time `db:"withdraw_at"`
}

// BeginErrand writes down that the network is asked, unless it was before, or the work is not
// open any more; it answers whether it may be asked.
func (tx Tx) BeginErrand(ctx context.Context, x Errand, at time.Time) (bool, error) {
	n, err := exec(ctx, tx, `
		insert into errand (touch_id, user_id, what, begun_at, withdraw_at)
		select w.touch_id, $2, $3, $4, $5
		from work w
		where w.touch_id = $1 and w.open
		for update
		on conflict (touch_id) do nothing`, x.Touch, x.User, x.What, at, x.Withdraw)
	if err != nil || n > 0 {
		return n > 0, err
	}
	return one[bool](ctx, tx, `
		select exists (select from errand x join work w using (touch_id) where x.touch_id = $1 and w.open)`, x.Touch)
}

// ErrandsSince counts what was begun for a user since an instant, by what it was; touches that
// are left out do not count.
func (db Queries) ErrandsSince(ctx context.Context, user int64, since time.Time) (map[string]int, error) {
	rows, err := all[struct {
		What string
		N    int
	}](ctx, db, "select what, count(*) as n from errand where user_id = $1 and begun_at >= $2 group by 1", user, since)
	out := map[string]int{}
	for _, r := range rows {
		out[r.What] = r.N
	}
	return out, err
}

// BegunErrand reports whether the network was asked for a touch already.
func (db Queries) BegunErrand(ctx context.Context, touch int64) (bool, error) {
	return one[bool](ctx, db, "select exists (select from errand where touch_id = $1)", touch)
}

// ToWithdraw lists the touches whose requests have stood for long enough and were not accepted.
func (db Queries) ToWithdraw(ctx context.Context, now time.Time, n int) ([]int64, error) {
	return all[int64](ctx, db, `
		select x.touch_id
		from errand x
		join touch t on t.id = x.touch_id
		where x.withdraw_at <= $1 and x.withdrawn_at is null and t.state = 'done'
			and not exists (
				select from signal s
				where s.person_id = t.person_id and s.touch_id = t.id and s.kind = $2)
		order by x.withdraw_at
		limit $3`, now, int16(signal.Accepted), n)
}

// Withdrew keeps that a request was withdrawn.
func (tx Tx) Withdrew(ctx context.Context, touch int64, at time.Time) error {
	_, err := exec(ctx, tx, "update errand set withdrawn_at = $2 where touch_id = $1", touch, at)
	return err
}

// LockNetwork has one process at a time meet the network, until release is called; false where
// another does.
func (s *Store) LockNetwork(ctx context.Context) (release func(), ok bool, err error) {
	release, ok, err = s.LockBatch(ctx, lockNetwork)
	if err != nil {
		return nil, false, fmt.Errorf("locking the network: %w", err)
	}
	return release, ok, nil
}

// lockNetwork is the number of no batch.
const lockNetwork = -1
