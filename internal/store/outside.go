package store

import (
	"context"
	"time"
)

// AskForAddresses has the addresses of people looked for who have none, and answers of how many.
func (tx Tx) AskForAddresses(ctx context.Context, people []int64, use string, at time.Time) (int64, error) {
	return exec(ctx, tx, `
		insert into address_ask (person_id, use, asked_at)
		select id, $2, $3
		from person
		where id = any ($1) and email = '' and erased_at is null
		order by id
		on conflict (person_id) where done_at is null do nothing`, people, use, at)
}

// AddressAsk is whose address is looked for.
type AddressAsk struct {
	ID      int64
	Person  int64 `db:"person_id"`
	Use     string
	First   string
	Last    string
	Company string
	Domain  string
}

// ClaimAddressAsks takes up to n, which no other process takes until an instant.
func (db Queries) ClaimAddressAsks(ctx context.Context, now, until time.Time, n int) ([]AddressAsk, error) {
	return all[AddressAsk](ctx, db, `
		with due as (
			select id
			from address_ask
			where done_at is null and (claimed_till is null or claimed_till <= $1)
			order by id
			limit $3
			for update skip locked),
		taken as (
			update address_ask a set claimed_till = $2
			from due
			where a.id = due.id
			returning a.id, a.person_id, a.use)
		select t.id, t.person_id, t.use, p.first_name as first, p.last_name as last, coalesce(c.name, '') as company,
			coalesce(c.domain, '') as domain
		from taken t
		join person p on p.id = t.person_id
		left join company c on c.id = p.company_id
		order by t.id`, now, until, n)
}

// AddressAsked keeps what came of one.
func (tx Tx) AddressAsked(ctx context.Context, id int64, outcome string, at time.Time) error {
	_, err := exec(ctx, tx, "update address_ask set done_at = $2, outcome = $3 where id = $1", id, at, outcome)
	return err
}

// PhoneCall is the last call that the phone made for an item of work.
type PhoneCall struct {
	Touch   int64     `db:"touch_id"`
	Call    string    `db:"call_id"`
	User    int64     `db:"user_id"`
	At      time.Time // when it was dialled
	Ended   bool
	Outcome string // how it ended, as the phone says
	Seconds int    // that somebody talked
}

// PhoneCall reads it.
func (db Queries) PhoneCall(ctx context.Context, touch int64) (PhoneCall, error) {
	return one[PhoneCall](ctx, db, `
		select touch_id, call_id, user_id, at, ended, outcome, seconds
		from phone_call
		where touch_id = $1`, touch)
}

// KeepPhoneCall keeps it.
func (tx Tx) KeepPhoneCall(ctx context.Context, c PhoneCall) error {
	_, err := exec(ctx, tx, `
		insert into phone_call (touch_id, call_id, user_id, at, ended, outcome, seconds)
		values ($1, $2, $3, $4, $5, $6, $7)
		on conflict (touch_id) do update set call_id = excluded.call_id, user_id = excluded.user_id, at = excluded.at,
			ended = excluded.ended, outcome = excluded.outcome, seconds = excluded.seconds`,
		c.Touch, c.Call, c.User, c.At, c.Ended, c.Outcome, c.Seconds)
	return err
}

// SetTalked keeps for how long somebody talked in a call that is done.
func (tx Tx) SetTalked(ctx context.Context, touch int64, seconds int) error {
	_, err := exec(ctx, tx, "update work set seconds = $2 where touch_id = $1", touch, seconds)
	return err
}
