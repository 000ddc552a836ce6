package store

import (
	"context"
	"time"

	"ombak/internal/core/mailbox"
)

// Outbox is an account by which letters go out, by its user; 0 is everybody's who
// has none of their own.
type Outbox struct {
	User    int64 `db:"user_id"`
	Fared   JSON[mailbox.Record]
	Stopped *time.Time `db:"stopped_at"`
	Why     string
	Name    string // of the user; empty: everybody's
	Waiting int64  // emails that are ready and wait for it
}

// Stopped lists the outboxes by which nothing goes out now.
func (db Queries) Stopped(ctx context.Context) ([]Outbox, error) {
	return all[Outbox](ctx, db, `select b.user_id, b.fared, b.stopped_at, b.why, coalesce(u.name, '') as name,
			(select count(*) from letter lt join touch t on t.id = lt.touch_id join person p on p.id = t.person_id
				where lt.open and `+outboxOf+` = b.user_id) as waiting
		from outbox b left join app_user u on u.id = b.user_id where b.stopped_at is not null order by b.user_id`)
}

// LockOutbox reads one, locked.
func (tx Tx) LockOutbox(ctx context.Context, user int64) (Outbox, error) {
	if _, err := exec(ctx, tx, "insert into outbox (user_id) values ($1) on conflict do nothing", user); err != nil {
		return Outbox{}, err
	}
	return one[Outbox](ctx, tx, "select user_id, fared, stopped_at, why from outbox where user_id = $1 for update",
		user)
}

// KeepOutbox keeps what has become of one.
func (tx Tx) KeepOutbox(ctx context.Context, b Outbox) error {
	_, err := exec(ctx, tx, "update outbox set fared = $2, stopped_at = $3, why = $4 where user_id = $1", b.User,
		b.Fared, b.Stopped, b.Why)
	return err
}

// outboxOf is the account by which a letter lt of a touch t goes out to its person
// p, as an expression: ClaimEmails finds the sender alike.
const outboxOf = `coalesce((select b.user_id from mailbox b where b.server <> '' and b.user_id = ` + senderOf + `), 0)`

// senderOf is who writes it, as an expression; null: nobody.
const senderOf = `
		(select coalesce(case when lt.lane = 1 then lt.sender_id end,
		(select w.id from app_user w where w.id = lt.from_id and w.left_at is null),
		case when v.from_owner then (
			select o.id from app_user o where o.id = p.owner_id and o.left_at is null) end, v.sender_id)
	from message_version v where v.message_id = t.message_id and v.version = t.message_version)`

// StoppedOutboxes lists those by which nothing goes out now.
func (db Queries) StoppedOutboxes(ctx context.Context) ([]int64, error) {
	return all[int64](ctx, db, "select user_id from outbox where stopped_at is not null order by 1")
}
