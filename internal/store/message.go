package store

import (
	"context"
	"fmt"
	"time"
)

// Message is a message in its newest version.
type Message struct {
	ID        int64
	Name      string
	Version   int
	Subject   string
	Body      string
	FromOwner bool   `db:"from_owner"`
	SenderID  *int64 `db:"sender_id"`
	Sender    string
	Updated   time.Time `db:"updated_at"`
	Sent      int64
}

const messageFields = `select m.id, m.name, m.version, v.subject, v.body, v.from_owner, v.sender_id, coalesce(a.name, '') as sender, m.updated_at,
	(select count(*) from touch t where t.message_id = m.id and t.state = 'sent') as sent
	from message m join message_version v on v.message_id = m.id and v.version = m.version left join app_user a on a.id = v.sender_id `

// Message reads one.
func (s *Store) Message(ctx context.Context, id int64) (Message, error) {
	return one[Message](ctx, s.db, messageFields+"where m.id = $1", id)
}

// Messages lists all, the last changed first.
func (s *Store) Messages(ctx context.Context) ([]Message, error) {
	return all[Message](ctx, s.db, messageFields+"order by m.updated_at desc, m.id desc limit 500")
}

// MessageVersions answers the newest version of each of some messages.
func MessageVersions(ctx context.Context, tx Tx, ids []int64) (map[int64]int, error) {
	rows, err := all[struct {
		ID      int64
		Version int
	}](ctx, tx, "select id, version from message where id = any ($1)", ids)
	out := map[int64]int{}
	for _, r := range rows {
		out[r.ID] = r.Version
	}
	return out, err
}

// SaveMessage keeps a message as a new version of itself, or as a new message
// where its ID is 0. What has been sent, or will be by a running sequence,
// stays as it was.
func SaveMessage(ctx context.Context, tx Tx, m Message, by int64, at time.Time) (int64, error) {
	var err error
	if m.ID == 0 {
		m.ID, err = one[int64](ctx, tx, "insert into message (name, version, updated_at, updated_by) values ($1, 1, $2, nullif($3, 0)) returning id", m.Name, at, by)
		m.Version = 1
	} else {
		m.Version, err = one[int](ctx, tx, "update message set name = $2, version = version + 1, updated_at = $3, updated_by = nullif($4, 0) where id = $1 returning version", m.ID, m.Name, at, by)
	}
	if err != nil {
		return 0, fmt.Errorf("keeping the message %q: %w", m.Name, err)
	}
	_, err = exec(ctx, tx, "insert into message_version (message_id, version, subject, body, from_owner, sender_id, saved_at) values ($1, $2, $3, $4, $5, $6, $7)",
		m.ID, m.Version, m.Subject, m.Body, m.FromOwner, m.SenderID, at)
	return m.ID, err
}
