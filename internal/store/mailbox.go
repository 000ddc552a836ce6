package store

import (
	"context"
	"time"

	"ombak/internal/core/mailbox"
)

// Mailbox is the account that a user's emails go out from.
type Mailbox struct {
	User  int64 `db:"user_id"`
	Name  string
	Email string
	Box   JSON[mailbox.Box]
	Day   string     `db:"used_day"`
	Sent  int        `db:"used_sent"` // on that day
	Next  *time.Time `db:"next_at"`

	Server string // of their own, host:port; empty: the one that takes everybody's
	Login  string

	// How it has done of late.
	Recent     int64
	Bounced    int64
	Complained int64
	Waiting    int64  // emails that its server did not take yet
	Trouble    string // why, of the last of them
}

// Used is what core/mailbox asks.
func (m *Mailbox) Used() mailbox.Used {
	u := mailbox.Used{Day: m.Day, Sent: m.Sent}
	if m.Next != nil {
		u.Next = *m.Next
	}
	return u
}

// Mailboxes lists every user's, with how it has done since the day of an instant.
func (db Queries) Mailboxes(ctx context.Context, since time.Time) ([]Mailbox, error) {
	return all[Mailbox](ctx, db, `
		with f as (
				select lt.sender_id, count(distinct t.id) filter (where g.kind = {bounce}) as bounced,
					count(distinct t.id) filter (where g.kind = {complaint}) as complained
				from signal g
				join touch t on t.id = g.touch_id and t.state = 'sent' and t.done_at >= $1
				join letter lt on lt.touch_id = t.id
				where g.kind in ({bounce}, {complaint}) and g.at >= $1
				group by 1),
			r as (
				select k.id as sender_id, k.recent, coalesce(f.bounced, 0) as bounced,
					coalesce(f.complained, 0) as complained
				from (
					select id, sum(n)::bigint as recent
					from kept
					where of = 'sender' and what >= to_char($1::timestamptz, 'YYYY-MM-DD')
					group by 1) k
				left join f on f.sender_id = k.id),
			w as (select sender_id, count(*) as waiting,
				(array_agg(trouble order by touch_id desc))[1] as trouble from letter
				where open and phase = 'waiting' and tries > 0 and trouble <> '' group by 1)
		select u.id as user_id, u.name, u.email, coalesce(b.box, '{}') as box, coalesce(b.used_day, '') as used_day,
			coalesce(b.used_sent, 0) as used_sent, b.next_at, coalesce(b.server, '') as server,
			coalesce(b.login, '') as login,
			coalesce(r.recent, 0) as recent, coalesce(r.bounced, 0) as bounced, coalesce(r.complained, 0) as complained,
				coalesce(w.waiting, 0) as waiting, coalesce(w.trouble, '') as trouble
		from app_user u
		left join mailbox b on b.user_id = u.id
		left join r on r.sender_id = u.id
		left join w on w.sender_id = u.id
		order by u.name, u.id`, since)
}

// SetMailbox keeps what is agreed about a user's account.
func (tx Tx) SetMailbox(ctx context.Context, user int64, box mailbox.Box) error {
	_, err := exec(ctx, tx,
		"insert into mailbox (user_id, box) values ($1, $2) on conflict (user_id) do update set box = excluded.box",
		user, JSON[mailbox.Box]{box})
	return err
}

// MailAccount is a mail server of a user's own.
type MailAccount struct {
	User   int64 `db:"user_id"`
	Server string
	Login  string
	Secret []byte // the password, sealed; nil: none
}

// MailAccounts reads those of some users that have one.
func (db Queries) MailAccounts(ctx context.Context, users []int64) ([]MailAccount, error) {
	return all[MailAccount](ctx, db,
		`select user_id, server, login, secret from mailbox where user_id = any ($1) and server <> ''
		union all select 0, server, login, secret from mail_server where 0 = any ($1)`, users)
}

// LockMailAccounts reads all that have a password, and locks them.
func (tx Tx) LockMailAccounts(ctx context.Context) ([]MailAccount, error) {
	list, err := all[MailAccount](ctx, tx, `select user_id, server, login, secret from mailbox
		where server <> '' and secret is not null order by user_id for update`)
	if err != nil {
		return nil, err
	}
	more, err := all[MailAccount](ctx, tx, `select 0 as user_id, server, login, secret from mail_server
		where secret is not null for update`)
	return append(list, more...), err
}

// SetMailAccount keeps the mail server of a user's own, or everybody's (user
// 0); an empty server is none.
func (tx Tx) SetMailAccount(ctx context.Context, a MailAccount) error {
	if a.User == 0 {
		if _, err := exec(ctx, tx, "delete from mail_server"); err != nil || a.Server == "" {
			return err
		}
		_, err := exec(ctx, tx, "insert into mail_server (server, login, secret) values ($1, $2, $3)", a.Server,
			a.Login, a.Secret)
		return err
	}
	_, err := exec(ctx, tx, `insert into mailbox (user_id, box, server, login, secret) values ($1, '{}', $2, $3, $4)
		on conflict (user_id) do update set server = excluded.server, login = excluded.login, secret = excluded.secret`,
		a.User, a.Server, a.Login, a.Secret)
	return err
}

// LockMailboxes reads the accounts of some users that have something agreed,
// and locks them, so that two workers do not send beyond a limit together.
func (tx Tx) LockMailboxes(ctx context.Context, users []int64) (map[int64]Mailbox, error) {
	list, err := all[Mailbox](ctx, tx, `
		select b.user_id, '' as name, '' as email, b.box, b.used_day, b.used_sent, b.next_at, b.server, b.login,
			0 as recent, 0 as bounced, 0 as complained, 0 as waiting, '' as trouble
		from mailbox b where b.user_id = any ($1) order by b.user_id for update`, users)
	out := make(map[int64]Mailbox, len(list))
	for _, m := range list {
		out[m.User] = m
	}
	return out, err
}

// KeepUsed notes what has gone out from an account.
func (tx Tx) KeepUsed(ctx context.Context, user int64, u mailbox.Used) error {
	var next *time.Time
	if !u.Next.IsZero() {
		next = &u.Next
	}
	_, err := exec(ctx, tx, "update mailbox set used_day = $2, used_sent = $3, next_at = $4 where user_id = $1", user,
		u.Day, u.Sent, next)
	return err
}

// GiveUsed takes back from what has gone out of an account on a day what has not.
func (tx Tx) GiveUsed(ctx context.Context, user int64, n int, day string) error {
	_, err := exec(ctx, tx,
		"update mailbox set used_sent = greatest(used_sent - $2, 0) where user_id = $1 and used_day = $3", user, n, day)
	return err
}
