package store

import (
	"context"
	"time"

	"ombak/internal/core/answer"
	"ombak/internal/core/signal"
)

// Incoming is a mail that came in.
type Incoming struct {
	ID      int64
	MailID  string `db:"mail_id"`
	Person  *int64 `db:"person_id"`
	Touch   *int64 `db:"touch_id"`
	At      time.Time
	Kind    signal.Kind
	Sender  string
	Subject string
	Said    string // without what it quotes
	Body    string // the whole of it
	Unsure  bool   // matched by an address alone: it counts for nothing until somebody has sorted it
	Sorted  string // "theirs" or "not theirs"; empty: not yet

	Answer     string     // what it came to: an answer.Sort, or "not theirs" or "earlier"; empty: nobody has said
	AnsweredAt *time.Time `db:"answered_at"`
	AnsweredBy string     `db:"answered_by"`
	Rep        *int64     `db:"rep_id"` // who is to answer it; nil: whoever takes it
	Due        *time.Time `db:"due_at"` // by when it is to be answered; nil: it is none

	First, Last string
}

// Holds reports whether what would go out to the person waits until the letter
// is sorted: it may be an answer.
func (m Incoming) Holds() bool { return m.Kind == signal.Reply }

// AddIncoming keeps a mail and reports whether it is new: the same one again,
// by its Message-ID, counts once.
func (tx Tx) AddIncoming(ctx context.Context, m Incoming) (bool, error) {
	n, err := exec(ctx, tx,
		`insert into incoming (mail_id, person_id, touch_id, at, kind, sender, subject, body, unsure, said, rep_id,
			due_at, lang)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13::regconfig) on conflict (mail_id) do nothing`,
		m.MailID, m.Person, m.Touch, m.At, int16(m.Kind), m.Sender, m.Subject, m.Body, m.Unsure, m.Said, m.Rep, m.Due,
		answer.Language(m.Said))
	return n == 1, err
}

const incomingFields = `
		select i.id, i.mail_id, i.person_id, i.touch_id, i.at, i.kind, i.sender, i.subject, i.said, i.body, i.unsure,
			i.sorted, i.answer, i.answered_at, coalesce(u.name, '') as answered_by, i.rep_id, i.due_at,
		coalesce(p.first_name, '') as first, coalesce(p.last_name, '') as last
	from incoming i
	left join person p on p.id = i.person_id
	left join app_user u on u.id = i.answered_by `

// IncomingOf lists the last mail of some people, the newest first.
func (db Queries) IncomingOf(ctx context.Context, of Last) ([]Incoming, error) {
	ids, err := of.ids(ctx, db, "incoming", "at")
	if err != nil || len(ids) == 0 {
		return nil, err
	}
	return all[Incoming](ctx, db, incomingFields+"where i.id = any ($1) order by i.at desc, i.id desc", ids)
}

// LastReplies lists the newest answers by people.
func (db Queries) LastReplies(ctx context.Context, n int) ([]Incoming, error) {
	return all[Incoming](ctx, db,
		incomingFields+
			"where i.kind = {reply} and (not i.unsure or i.sorted = 'theirs') order by i.at desc, i.id desc limit $1",
		n)
}

// UnsureIncoming lists the letters that somebody has to look at, the oldest
// first: of one person, or (0) of all, or those whose owner a user is.
func (db Queries) UnsureIncoming(ctx context.Context, person, owner int64, n int) ([]Incoming, error) {
	return all[Incoming](ctx, db, incomingFields+`where i.unsure and i.sorted = ''
		and ($1 = 0 or i.person_id = $1) and ($2 = 0 or p.owner_id = $2) order by i.at, i.id limit $3`, person, owner,
		n)
}

// HoldPerson has nothing of a sequence or a one-off email go out to somebody.
func (tx Tx) HoldPerson(ctx context.Context, person int64, at time.Time) error {
	_, err := exec(ctx, tx, "update person set held_at = coalesce(held_at, $2) where id = $1", person, at)
	return err
}

// SortIncoming notes whether a letter is from whom it seems to be, once. It is
// ErrNotFound where somebody else has by now.
func (tx Tx) SortIncoming(ctx context.Context, id, user int64, sorted string, at time.Time) (Incoming, error) {
	n, err := exec(ctx, tx, `
		update incoming set sorted = $2, sorted_at = $3, sorted_by = $4,
			answer = case when $2 = 'theirs' then answer else $2 end
		where id = $1 and unsure and sorted = ''`, id, sorted, at, user)
	if err != nil {
		return Incoming{}, err
	}
	if n == 0 {
		return Incoming{}, ErrNotFound
	}
	return one[Incoming](ctx, tx, incomingFields+"where i.id = $1", id)
}

// ReleasePerson lets somebody go on whom no answer holds any more, and has
// their sequences looked at.
func (tx Tx) ReleasePerson(ctx context.Context, person int64, at time.Time) error {
	n, err := exec(ctx, tx, `update person set held_at = null where id = $1 and held_at is not null
		and not exists (select from incoming where person_id = $1 and kind = $2 and unsure and sorted = '')`,
		person, int16(signal.Reply))
	if err != nil || n == 0 {
		return err
	}
	return tx.Wake(ctx, []int64{person}, at)
}

// UnsortIncoming has nobody know whether a letter is from whom it seems to be.
func (tx Tx) UnsortIncoming(ctx context.Context, id int64) error {
	_, err := exec(ctx, tx, "update incoming set sorted = '', sorted_at = null, sorted_by = null where id = $1", id)
	return err
}
