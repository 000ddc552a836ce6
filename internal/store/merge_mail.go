package store

import (
	"context"
	"encoding/json"
	"time"
)

// MergedMail is what a merge did with mail, words and browsers.
type MergedMail struct {
	Twice    []int64         `json:"twice,omitempty"`    // touches of one-off emails that both were to get
	Browsers []string        `json:"browsers,omitempty"` // that were the one's that went
	Words    json.RawMessage `json:"words,omitempty"`    // for the one that went alone
	Taken    []int64         `json:"taken,omitempty"`    // messages whose words moved with them
}

// mergeMail readies what one record was sent for being another's: a one-off
// email that both were to get goes once, and what waits gives way to what has
// gone. Words for the one that stays stand before those for the one that goes.
func mergeMail(ctx context.Context, tx Tx, m *Merged, at time.Time) error {
	const both = `
		t.id in (select g.id from touch g join touch k on k.mailing_id = g.mailing_id and k.person_id = $3
			and not k.merged
		where g.person_id = $4 and not g.merged and k.state <> 'withdrawn')`
	if _, err := withdraw(ctx, tx, "merged with a record that gets it", at, both, m.Kept, m.Gone); err != nil {
		return err
	}
	var err error
	if m.Mail.Twice, err = all[int64](ctx, tx, `update touch g set merged = true from touch k
		where k.mailing_id = g.mailing_id and k.person_id = $1 and not k.merged and g.person_id = $2 and not g.merged
		returning g.id`, m.Kept, m.Gone); err != nil || len(m.Mail.Twice) == 0 {
		return err
	}
	// What of theirs is still ready could not be withdrawn: it is being sent.
	const got = `t.person_id = $3 and not t.merged and t.mailing_id in (select g.mailing_id from touch g
		where g.id = any ($4) and g.state in ('ready', 'sent', 'held'))`
	_, err = withdraw(ctx, tx, "merged with a record that got it", at, got, m.Kept, m.Mail.Twice)
	return err
}

// moveMail gives the one that stays the words and browsers of the one that goes.
func moveMail(ctx context.Context, tx Tx, m *Merged) error {
	var err error
	if m.Mail.Browsers,
		err = all[string](ctx, tx, "update visitor set person_id = $1 where person_id = $2 returning id", m.Kept,
		m.Gone); err != nil {
		return err
	}
	if m.Mail.Words,
		err = one[json.RawMessage](ctx, tx,
		"select coalesce(jsonb_agg(to_jsonb(x)), '[]') from personal_edit x where person_id = $1", m.Gone); err != nil {
		return err
	}
	m.Mail.Taken, err = all[int64](ctx, tx, `
		update personal_edit x set person_id = $1 where person_id = $2
		and not exists (select from personal_edit k where k.person_id = $1 and k.message_id = x.message_id)
		returning message_id`, m.Kept, m.Gone)
	return err
}

// unmergeMail takes both back, once the record that went is there again.
func unmergeMail(ctx context.Context, tx Tx, m Merged) error {
	if _, err := exec(ctx, tx, "update touch set merged = false where id = any ($1) and person_id = $2", m.Mail.Twice,
		m.Gone); err != nil {
		return err
	}
	if _, err := exec(ctx, tx, "update visitor set person_id = $2 where id = any ($1) and person_id = $3",
		m.Mail.Browsers, m.Gone, m.Kept); err != nil {
		return err
	}
	if _, err := exec(ctx, tx, "delete from personal_edit where person_id = $1 and message_id = any ($2)", m.Kept,
		m.Mail.Taken); err != nil {
		return err
	}
	if len(m.Mail.Words) == 0 {
		return nil // it was merged before there were any
	}
	_, err := exec(ctx, tx,
		`insert into personal_edit select x.* from jsonb_populate_recordset(null::personal_edit, $1) x
		where exists (select from message m where m.id = x.message_id) on conflict do nothing`, m.Mail.Words)
	return err
}
