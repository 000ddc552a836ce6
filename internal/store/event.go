package store

import (
	"context"
	"fmt"
	"time"

	"ombak/internal/core/event"
	"ombak/internal/core/touch"
)

// Event is an event with how many stand to it how.
type Event struct {
	ID         int64
	Name       string
	Note       string
	Starts     time.Time `db:"starts_at"`
	Ends       time.Time `db:"ends_at"`
	Zone       string
	Place      string
	Link       string
	Page       *int64 `db:"page_id"`
	Seats      int
	Revision   int
	Moved      *time.Time `db:"moved_at"`
	Cancelled  *time.Time `db:"cancelled_at"`
	PageTitle  string     `db:"page_title"`
	PageSlug   string     `db:"page_slug"`
	Registered int64      // took a seat: they registered, came or stayed away
	Came       int64
	Away       int64 // stayed away
	Withdrew   int64 // cancelled
}

// Core is the event as the rules see it.
func (e *Event) Core() event.Event {
	out := event.Event{ID: e.ID, Name: e.Name, Note: e.Note, Starts: e.Starts.UTC(), Ends: e.Ends.UTC(), Zone: e.Zone,
		Place: e.Place, Link: e.Link, Seats: e.Seats, Revision: e.Revision}
	if e.Page != nil {
		out.Page = *e.Page
	}
	if e.Moved != nil {
		out.Moved = e.Moved.UTC()
	}
	if e.Cancelled != nil {
		out.Cancelled = e.Cancelled.UTC()
	}
	return out
}

const eventAlone = `
	select e.id, e.name, e.note, e.starts_at, e.ends_at, e.zone, e.place, e.link, e.page_id, e.seats, e.revision,
		e.moved_at, e.cancelled_at, coalesce(g.title, '') as page_title, coalesce(g.slug, '') as page_slug,
		a.registered, a.came, a.away, a.withdrew
	from event e
	left join page g on g.id = e.page_id `

// eventFields counts how many stand to an event how: whether there is a seat left rests on it.
const eventFields = eventAlone + `
	cross join lateral (
		select count(*) filter (where x.state <> 'cancelled') as registered,
			count(*) filter (where x.state = 'came') as came,
			count(*) filter (where x.state = 'stayed away') as away,
			count(*) filter (where x.state = 'cancelled') as withdrew
		from attendance x
		where x.event_id = e.id and x.current) a `

// eventKept reads what is kept of it.
const eventKept = eventAlone + `
	cross join lateral (
		select coalesce(sum(k.n) filter (where k.what <> 'cancelled'), 0)::bigint as registered,
			coalesce(sum(k.n) filter (where k.what = 'came'), 0)::bigint as came,
			coalesce(sum(k.n) filter (where k.what = 'stayed away'), 0)::bigint as away,
			coalesce(sum(k.n) filter (where k.what = 'cancelled'), 0)::bigint as withdrew
		from kept k
		where k.of = 'event' and k.id = e.id) a `

// Events lists the events, those to come first, the nearest first of both.
func (db Queries) Events(ctx context.Context, now time.Time) ([]Event, error) {
	return all[Event](ctx, db, eventKept+`
		order by e.ends_at < $1, case when e.ends_at >= $1 then e.starts_at end, e.starts_at desc, e.id
		limit 500`, now)
}

// Event reads one.
func (db Queries) Event(ctx context.Context, id int64) (Event, error) {
	return one[Event](ctx, db, eventFields+"where e.id = $1", id)
}

// EventsByID reads several, as the rules see them.
func (db Queries) EventsByID(ctx context.Context, ids []int64) (map[int64]event.Event, error) {
	list, err := all[Event](ctx, db, `
		select id, name, note, starts_at, ends_at, zone, place, link, page_id, seats, revision, moved_at, cancelled_at
		from event where id = any ($1)`, ids)
	out := make(map[int64]event.Event, len(list))
	for i := range list {
		out[list[i].ID] = list[i].Core()
	}
	return out, err
}

// EventName is what an event is called, and when it begins.
type EventName struct {
	ID     int64
	Name   string
	Starts time.Time `db:"starts_at"`
	Zone   string
}

// EventNames lists the events to choose from, the newest first.
func (db Queries) EventNames(ctx context.Context) ([]EventName, error) {
	return all[EventName](ctx, db, "select id, name, starts_at, zone from event order by starts_at desc, id limit 500")
}

// EventsOfPage lists the events that a page's form registers for, the next first.
func (db Queries) EventsOfPage(ctx context.Context, page int64) ([]Event, error) {
	return all[Event](ctx, db, eventKept+"where e.page_id = $1 order by e.starts_at, e.id limit 50", page)
}

// LockEvent reads one and keeps others from changing who is coming meanwhile.
func (tx Tx) LockEvent(ctx context.Context, id int64) (Event, error) {
	if _, err := one[int64](ctx, tx, "select id from event where id = $1 for update", id); err != nil {
		return Event{}, err
	}
	return tx.Event(ctx, id)
}

// SaveEvent keeps an event, new where its id is 0.
func (tx Tx) SaveEvent(ctx context.Context, e event.Event, by int64, at time.Time) (int64, error) {
	var moved, cancelled *time.Time
	if !e.Moved.IsZero() {
		moved = &e.Moved
	}
	if !e.Cancelled.IsZero() {
		cancelled = &e.Cancelled
	}
	if e.ID == 0 {
		return one[int64](ctx, tx, `
			insert into event (name, note, starts_at, ends_at, zone, place, link, page_id, seats, made_at, made_by)
			values ($1, $2, $3, $4, $5, $6, $7, nullif($8::bigint, 0), $9, $10, nullif($11::bigint, 0))
			returning id`,
			e.Name, e.Note, e.Starts, e.Ends, e.Zone, e.Place, e.Link, e.Page, e.Seats, at, by)
	}
	n, err := exec(ctx, tx, `
		update event set name = $2, note = $3, starts_at = $4, ends_at = $5, zone = $6, place = $7, link = $8,
			page_id = nullif($9::bigint, 0), seats = $10, revision = $11, moved_at = $12, cancelled_at = $13
		where id = $1`,
		e.ID, e.Name, e.Note, e.Starts, e.Ends, e.Zone, e.Place, e.Link, e.Page, e.Seats, e.Revision, moved, cancelled)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return e.ID, err
}

// RemoveEvent removes an event to which nobody stands.
func (tx Tx) RemoveEvent(ctx context.Context, id int64) error {
	n, err := exec(ctx, tx,
		"delete from event e where id = $1 and not exists (select from attendance a where a.event_id = e.id)", id)
	if err == nil && n == 0 {
		err = ErrOver
	}
	return err
}

// Attendance is how one person stands to an event.
type Attendance struct {
	ID     int64
	Person int64 `db:"person_id"`
	First  string
	Last   string
	Email  string
	State  event.State
	At     time.Time
	How    string
}

// Attendances lists who stands to an event, of a state or, with none, of any, the newest
// first: at most n, older than before, 0: from the newest.
func (db Queries) Attendances(
	ctx context.Context, id int64, state event.State, before int64, n int,
) ([]Attendance, error) {
	return all[Attendance](ctx, db, `
		select a.id, a.person_id, p.first_name as first, p.last_name as last, p.email, a.state, a.at, a.how
		from (
			select *
			from attendance
			where event_id = $1 and current and ($2 = '' or state = $2) and ($3::bigint = 0 or id < $3)
			order by id desc
			limit $4) a
		join person p on p.id = a.person_id
		order by a.id desc`, planned([]any{id, string(state), before, n})...)
}

// PersonAttendance is how a person stands to one event.
type PersonAttendance struct {
	Event int64 `db:"event_id"`
	Name  string
	State event.State
	At    time.Time
}

// PersonAttendances lists the events that a person has to do with, the newest line first.
func (db Queries) PersonAttendances(ctx context.Context, person int64) ([]PersonAttendance, error) {
	return all[PersonAttendance](ctx, db, `
		select a.event_id, e.name, a.state, a.at
		from attendance a
		join event e on e.id = a.event_id
		where a.person_id = $1 and a.current
		order by a.id desc
		limit 100`, person)
}

// Standing to an event, of some people: those who have nothing to do with it are not there.
func (db Queries) StatesAt(ctx context.Context, id int64, people []int64) (map[int64]event.State, error) {
	rows, err := all[struct {
		Person int64 `db:"person_id"`
		State  event.State
	}](ctx, db, "select person_id, state from attendance where event_id = $1 and person_id = any ($2) and current", id,
		people)
	out := make(map[int64]event.State, len(rows))
	for _, r := range rows {
		out[r.Person] = r.State
	}
	return out, err
}

// Attending lists everybody who stands to an event in a state.
func (db Queries) Attending(ctx context.Context, id int64, state event.State) ([]int64, error) {
	return all[int64](ctx, db,
		"select person_id from attendance where event_id = $1 and state = $2 and current order by person_id", id,
		string(state))
}

// Attend has people stand to an event in a state from now on. Whoever calls has asked the
// rules whether they can, with the event locked.
func (tx Tx) Attend(ctx context.Context, id int64, people []int64, state event.State, a Author) error {
	_, err := exec(ctx, tx, "update attendance set current = false where event_id = $1 and person_id = any ($2) and "+
		"current", id, people)
	if err == nil {
		_, err = exec(ctx, tx, `
			insert into attendance (event_id, person_id, state, at, how, user_id)
			select $1, p, $3, $4, $5, nullif($6::bigint, 0) from unnest($2::bigint[]) as p`,
			id, people, string(state), a.At, a.How, a.User)
	}
	if err != nil {
		return fmt.Errorf("keeping who is at event %d: %w", id, err)
	}
	return nil
}

// OpenVersions lists the versions that people are on.
func (db Queries) OpenVersions(ctx context.Context) ([]Version, error) {
	return all[Version](ctx, db, `
		select id, sequence_id, number, plan, messages, entry, hold_until, launched_at
		from sequence_version v
		where exists (select from enrolment e where e.version_id = v.id and e.ended_at is null)`)
}

// WakeVersions has everybody on some versions looked at by an instant.
func (tx Tx) WakeVersions(ctx context.Context, versions []int64, at time.Time) error {
	_, err := exec(ctx, tx, `
		update enrolment set look = least(look, $2) where id in (
			select id from enrolment where version_id = any ($1) and ended_at is null and not held order by id
			for update)`, versions, at)
	return err
}

// MailEvent has a worker send a message to everybody who is registered for an event, as word
// of what became of it at a revision. Nobody gets the word of one revision twice. It answers
// how many get it.
func (tx Tx) MailEvent(ctx context.Context, e event.Event, m Message, user int64, at time.Time) (int64, error) {
	id, err := tx.SaveMessage(ctx, m, user, at)
	if err != nil {
		return 0, err
	}
	if _, err := exec(ctx, tx, "update message set removed_at = 'epoch' where id = $1", id); err != nil {
		return 0, err
	}
	n, err := exec(ctx, tx, `
		with made as (
			insert into touch (person_id, step, kind, state, made_at, message_id, message_version, request, event_id,
				event_word)
			select a.person_id, 0, 'email', 'ready', $2, $3, 1, true, $1, $4
			from attendance a
			where a.event_id = $1 and a.current and a.state = 'registered'
			on conflict (event_id, event_word, person_id) where event_id is not null do nothing
			returning id)
		insert into letter (touch_id, lane, ready_at, sender_id) select id, $5, $2, $6 from made`,
		e.ID, at, id, e.Revision, int16(touch.Single), user)
	if err != nil {
		return 0, fmt.Errorf("writing to those registered for event %d: %w", e.ID, err)
	}
	return n, nil
}
