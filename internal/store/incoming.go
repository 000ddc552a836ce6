package store

import (
	"context"
	"time"

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
	Body    string

	First, Last string
}

// AddIncoming keeps a mail and reports whether it is new: the same one again,
// by its Message-ID, counts once.
func AddIncoming(ctx context.Context, tx Tx, m Incoming) (bool, error) {
	n, err := exec(ctx, tx, `insert into incoming (mail_id, person_id, touch_id, at, kind, sender, subject, body)
		values ($1, $2, $3, $4, $5, $6, $7, $8) on conflict (mail_id) do nothing`,
		m.MailID, m.Person, m.Touch, m.At, int16(m.Kind), m.Sender, m.Subject, m.Body)
	return n == 1, err
}

const incomingFields = `select i.id, i.mail_id, i.person_id, i.touch_id, i.at, i.kind, i.sender, i.subject, i.body, coalesce(p.first_name, '') as first, coalesce(p.last_name, '') as last
	from incoming i left join person p on p.id = i.person_id `

// PersonIncoming lists the mail of a person, the newest first.
func (s *Store) PersonIncoming(ctx context.Context, person int64) ([]Incoming, error) {
	return all[Incoming](ctx, s.db, incomingFields+"where i.person_id = $1 order by i.at desc, i.id desc limit 200", person)
}

// LastReplies lists the newest answers by people.
func (s *Store) LastReplies(ctx context.Context, n int) ([]Incoming, error) {
	return all[Incoming](ctx, s.db, incomingFields+"where i.kind = $1 order by i.at desc, i.id desc limit $2", int16(signal.Reply), n)
}
