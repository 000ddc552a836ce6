package store

import (
	"context"
	"fmt"
	"time"

	"ombak/internal/core/contact"
	"ombak/internal/core/plainly"
)

// Purpose is something people agree to be written to for.
type Purpose struct {
	ID   int64
	Name string
}

// Purposes lists all.
func (db Queries) Purposes(ctx context.Context) ([]Purpose, error) {
	return all[Purpose](ctx, db, "select id, name from purpose order by position, id")
}

// AddPurpose keeps a new one.
func (tx Tx) AddPurpose(ctx context.Context, name string) (int64, error) {
	id, err := one[int64](ctx, tx,
		"insert into purpose (name, position) values ($1, (select coalesce(max(position), 0) + 1 from purpose)) "+
			"returning id", name)
	if taken(err) {
		return 0, plainly.Errorf("%w: a purpose is called %q", ErrTaken, name)
	}
	return id, err
}

// ConsentLine is one thing somebody agreed to or took back.
type ConsentLine struct {
	PurposeID int64 `db:"purpose_id"`
	Purpose   string
	Given     bool
	At        time.Time
	How       string
	Ground    string
	User      string
	Current   bool
}

// PersonConsents lists what a person agreed to and took back, the newest first.
func (db Queries) PersonConsents(ctx context.Context, person int64) ([]ConsentLine, error) {
	return all[ConsentLine](ctx, db, `
		select c.purpose_id, p.name as purpose, c.given, c.at, c.how, c.ground, coalesce(u.name, '') as "user",
			c.current
		from consent c
		join purpose p on p.id = c.purpose_id
		left join app_user u on u.id = c.user_id
		where c.person_id = $1
		order by c.id desc
		limit 200`, person)
}

// ConsentsTo lists what people say now of some purposes.
func (db Queries) ConsentsTo(ctx context.Context, people, purposes []int64) (map[int64]contact.Consents, error) {
	rows, err := all[struct {
		Person, Purpose int64
		Given           bool
	}](ctx, db, `
		select person_id as person, purpose_id as purpose, given from consent
		where current and person_id = any ($1) and purpose_id = any ($2)`, people, purposes)
	out := make(map[int64]contact.Consents, len(people))
	for _, r := range rows {
		is := contact.Withdrawn
		if r.Given {
			is = contact.Agreed
		}
		out[r.Person] = append(out[r.Person], contact.Said{Purpose: r.Purpose, Is: is})
	}
	return out, err
}

// SetConsent notes that a person agrees to a purpose, or no longer does.
func (tx Tx) SetConsent(ctx context.Context, purpose, person int64, given bool, ground string, a Author) error {
	return setConsent(ctx, tx, purpose, []int64{person}, given, ground, a)
}

func setConsent(ctx context.Context, tx Tx, purpose int64, people []int64, given bool, ground string, a Author) error {
	if _, err := exec(ctx, tx,
		"update consent set current = false where purpose_id = $1 and person_id = any ($2) and current", purpose,
		people); err != nil {
		return err
	}
	_, err := exec(ctx, tx, `insert into consent (person_id, purpose_id, given, at, how, ground, user_id, batch_id)
		select p, $1, $3, $4, $5, $6, nullif($7::bigint, 0), nullif($8::bigint, 0) from unnest($2::bigint[]) as p`,
		purpose, people, given, a.At, a.How, ground, a.User, a.Batch)
	if err != nil {
		return fmt.Errorf("noting consent: %w", err)
	}
	return nil
}

// OptInAgain takes back that a person opted out of all mail, because they
// agreed anew: to the purposes named, and to no other that they had agreed to
// before. It answers whether they had opted out.
func (tx Tx) OptInAgain(ctx context.Context, person int64, purposes []int64, a Author) (bool, error) {
	n, err := exec(ctx, tx, "update person set opted_out_at = null where id = $1 and opted_out_at is not null", person)
	if err != nil || n == 0 {
		return false, err
	}
	before, err := all[int64](ctx, tx,
		"select purpose_id from consent where person_id = $1 and current and given and not purpose_id = any ($2) "+
			"order by purpose_id", person, purposes)
	if err != nil {
		return false, err
	}
	for _, p := range before {
		if err := tx.SetConsent(ctx, p, person, false, "had opted out of all mail, and agreed anew to something else",
			a); err != nil {
			return false, err
		}
	}
	return true, nil
}

// Note is something somebody wrote down about a person.
type Note struct {
	ID   int64
	At   time.Time
	User string
	Text string
}

// Notes lists a person's notes, the newest first.
func (db Queries) Notes(ctx context.Context, person int64) ([]Note, error) {
	return all[Note](ctx, db, `
			select n.id, n.at, coalesce(u.name, '') as "user", n.text
			from note n
			left join app_user u on u.id = n.user_id
			where n.person_id = $1
			order by n.id desc
			limit 200`, person)
}

// AddNote keeps a note.
func (tx Tx) AddNote(ctx context.Context, person, user int64, text string, at time.Time) error {
	_, err := exec(ctx, tx, `insert into note (person_id, at, user_id, text)
		values ($1, $2, nullif($3, 0), $4)`, person,
		at, user, text)
	return err
}

// AddNotes adds a note to the records of people, by nobody in particular.
func (tx Tx) AddNotes(ctx context.Context, people []int64, text string, at time.Time) error {
	_, err := exec(ctx, tx, `
		insert into note (person_id, at, text)
		select id, $2, $3
		from person
		where id = any ($1) and erased_at is null
		order by id`, people, at, text)
	return err
}

// RemoveNote removes a note of a person.
func (tx Tx) RemoveNote(ctx context.Context, person, id int64) error {
	n, err := exec(ctx, tx, "delete from note where id = $1 and person_id = $2", id, person)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// ContactPoint is a further address or number.
type ContactPoint struct {
	Kind  string // email or phone
	Value string
}

// ContactPoints lists a person's further addresses and numbers.
func (db Queries) ContactPoints(ctx context.Context, person int64) ([]ContactPoint, error) {
	return all[ContactPoint](ctx, db, "select kind, value from contact_point where person_id = $1 order by kind, value",
		person)
}
