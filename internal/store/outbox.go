package store

import (
	"context"
	"time"

	"ombak/internal/core/mailbox"
	"ombak/internal/core/message"
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
func (s *Store) Stopped(ctx context.Context) ([]Outbox, error) {
	return all[Outbox](ctx, s.db, `select b.user_id, b.fared, b.stopped_at, b.why, coalesce(u.name, '') as name,
			(select count(*) from touch t join person p on p.id = t.person_id
				where t.state = 'ready' and t.kind = 'email' and `+outboxOf+` = b.user_id) as waiting
		from outbox b left join app_user u on u.id = b.user_id where b.stopped_at is not null order by b.user_id`)
}

// LockOutbox reads one, locked.
func LockOutbox(ctx context.Context, tx Tx, user int64) (Outbox, error) {
	if _, err := exec(ctx, tx, "insert into outbox (user_id) values ($1) on conflict do nothing", user); err != nil {
		return Outbox{}, err
	}
	return one[Outbox](ctx, tx, "select user_id, fared, stopped_at, why from outbox where user_id = $1 for update", user)
}

// KeepOutbox keeps what has become of one.
func KeepOutbox(ctx context.Context, tx Tx, b Outbox) error {
	_, err := exec(ctx, tx, "update outbox set fared = $2, stopped_at = $3, why = $4 where user_id = $1", b.User, b.Fared, b.Stopped, b.Why)
	return err
}

// outboxOf is the account by which a touch t with its person p goes out, as an
// expression: ClaimEmails finds the sender alike.
const outboxOf = `coalesce((select b.user_id from mailbox b where b.server <> '' and b.user_id = ` + senderOf + `), 0)`

// senderOf is who writes a touch t to its person p, as an expression; null: nobody.
const senderOf = `(select coalesce(case when t.enrolment_id is null and t.mailing_id is null then t.sender_id end,
		case when v.from_owner then (select o.id from app_user o where o.id = p.owner_id and o.left_at is null) end, v.sender_id)
	from message_version v where v.message_id = t.message_id and v.version = t.message_version)`

// StoppedOutboxes lists those by which nothing goes out now.
func StoppedOutboxes(ctx context.Context, q querier) ([]int64, error) {
	return all[int64](ctx, q, "select user_id from outbox where stopped_at is not null order by 1")
}

// Begin is an email whose turn has come, with whose words it has.
type Begin struct {
	ID    int64
	Group int64
	Edit  *message.Edit
}

// BeginSending marks claimed emails as being sent: from here on their fate can
// become unknown. It answers those that may go out; the others may not any more,
// because their readers have left meanwhile.
func (s *Store) BeginSending(ctx context.Context, worker int64, list []Begin) (map[int64]bool, error) {
	ids, groups, edits := make([]int64, len(list)), make([]int64, len(list)), make([]*JSON[*message.Edit], len(list))
	for i, b := range list {
		ids[i], groups[i] = b.ID, b.Group
		if b.Edit != nil {
			edits[i] = &JSON[*message.Edit]{b.Edit}
		}
	}
	texts, err := textsOf(edits)
	if err != nil {
		return nil, err
	}
	done, err := all[int64](ctx, s.db, `update touch t set state = 'sending', reader_group = u.grp, edit = u.edit::jsonb
		from unnest($1::bigint[], $2::bigint[], $3::text[]) as u(id, grp, edit)
		where t.id = u.id and t.worker = $4 and t.state = 'claimed' returning t.id`, ids, groups, texts, worker)
	begun := make(map[int64]bool, len(done))
	for _, id := range done {
		begun[id] = true
	}
	return begun, err
}

// End is what became of an email: its touch goes on to sent, held, stopped,
// passed or back to ready.
type End struct {
	ID, Enrolment           int64
	State, Subject, Trouble string
	At, Ready               time.Time
}

// EndTouches is EndTouch for many, with the enrolments of those that were sent
// looked at; it answers which touches it moved.
func EndTouches(ctx context.Context, tx Tx, list []End) (map[int64]bool, error) {
	n := len(list)
	ids, ways := make([]int64, n), make([]int64, 0, n)
	state, subject, trouble := make([]string, n), make([]string, n), make([]string, n)
	at, ready := make([]time.Time, n), make([]time.Time, n)
	var latest time.Time
	for i, x := range list {
		ids[i], state[i], subject[i], trouble[i], at[i], ready[i] = x.ID, x.State, x.Subject, x.Trouble, x.At, x.Ready
		if x.State == "sent" && x.Enrolment != 0 {
			ways = append(ways, x.Enrolment)
			if latest.IsZero() || x.At.Before(latest) {
				latest = x.At
			}
		}
	}
	// Enrolments before touches, each in the order of their ids, as everybody locks them who needs both.
	if len(ways) > 0 {
		if _, err := exec(ctx, tx, `update enrolment set look = least(look, $2) where id in (
				select id from enrolment where id = any ($1) and ended_at is null order by id for update)`, ways, latest); err != nil {
			return nil, err
		}
	}
	moved, err := all[int64](ctx, tx, `update touch t set state = u.state, trouble = u.trouble,
			subject = case when u.subject = '' then t.subject else u.subject end,
			done_at = case when u.state in ('sent', 'passed') then u.at end,
			ready_at = case when u.state = 'ready' then u.ready else t.ready_at end,
			worker = null
		from unnest($1::bigint[], $2::text[], $3::text[], $4::text[], $5::timestamptz[], $6::timestamptz[])
			as u(id, state, subject, trouble, at, ready)
		where t.id = u.id and t.state in ('claimed', 'sending', 'held', 'stopped') returning t.id`, ids, state, subject, trouble, at, ready)
	out := make(map[int64]bool, len(moved))
	for _, id := range moved {
		out[id] = true
	}
	return out, err
}

// textsOf is JSON as texts; nil stays nil.
func textsOf[T any](list []*JSON[T]) ([]*string, error) {
	out := make([]*string, len(list))
	for i, x := range list {
		if x == nil {
			continue
		}
		v, err := x.Value()
		if err != nil {
			return nil, err
		}
		var s string
		switch v := v.(type) {
		case []byte:
			s = string(v)
		case string:
			s = v
		}
		out[i] = &s
	}
	return out, nil
}
