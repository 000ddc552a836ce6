package store

import (
	"context"
	"time"

	"ombak/internal/core/booking"
	"ombak/internal/core/plainly"
)

// BookingPage is where people pick a time in somebody's free hours.
type BookingPage struct {
	User  int64 `db:"user_id"`
	Slug  string
	Shown bool
	Plan  JSON[booking.Plan]
	Feed  string // the secret of their calendar's address; empty: there is none

	Name, Email string // whose it is
}

const bookingPageFields = `
	select b.user_id, b.slug, b.shown, b.plan, b.feed, u.name, u.email
	from booking_page b
	join app_user u on u.id = b.user_id and u.left_at is null `

// BookingPageOf reads a user's.
func (db Queries) BookingPageOf(ctx context.Context, user int64) (BookingPage, error) {
	return one[BookingPage](ctx, db, bookingPageFields+"where b.user_id = $1", user)
}

// BookingPageBySlug finds one that is shown.
func (db Queries) BookingPageBySlug(ctx context.Context, slug string) (BookingPage, error) {
	return one[BookingPage](ctx, db, bookingPageFields+"where lower(b.slug) = lower($1) and b.shown", slug)
}

// BookingPageByFeed finds whose calendar an address is of.
func (db Queries) BookingPageByFeed(ctx context.Context, secret string) (BookingPage, error) {
	return one[BookingPage](ctx, db, bookingPageFields+"where b.feed = $1 and b.feed <> ''", secret)
}

// BookingSlugs are the names in addresses of the pages that are shown, by user.
func (db Queries) BookingSlugs(ctx context.Context) (map[int64]string, error) {
	list, err := all[BookingPage](ctx, db, bookingPageFields+"where b.shown")
	out := map[int64]string{}
	for _, p := range list {
		out[p.User] = p.Slug
	}
	return out, err
}

// KeepBookingPage keeps a user's page. It is ErrTaken where another has the name.
func (tx Tx) KeepBookingPage(ctx context.Context, p BookingPage) error {
	_, err := exec(ctx, tx, `
		insert into booking_page (user_id, slug, shown, plan) values ($1, $2, $3, $4)
		on conflict (user_id) do update set slug = excluded.slug, shown = excluded.shown, plan = excluded.plan`,
		p.User, p.Slug, p.Shown, p.Plan)
	if taken(err) {
		err = plainly.Errorf("%w: another page has this address", ErrTaken)
	}
	return err
}

// SetFeed gives a user's calendar another address; empty: none.
func (tx Tx) SetFeed(ctx context.Context, user int64, secret string) error {
	n, err := exec(ctx, tx, "update booking_page set feed = $2 where user_id = $1", user, secret)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// Booking is a meeting that was asked for.
type Booking struct {
	ID      int64
	User    int64     `db:"user_id"`
	Person  int64     `db:"person_id"`
	Starts  time.Time `db:"starts_at"`
	Ends    time.Time `db:"ends_at"`
	State   booking.State
	Asked   time.Time  `db:"asked_at"`
	Keep    *time.Time `db:"keep_till"`
	Zone    string
	Note    string
	Changes int
	Touch   *int64 `db:"touch_id"`

	First, Last, Email, Company string // the person's
	UserName                    string `db:"user_name"`
	UserEmail                   string `db:"user_email"`
}

const bookingFields = `
	select b.id, b.user_id, b.person_id, b.starts_at, b.ends_at, b.state, b.asked_at, b.keep_till, b.zone, b.note,
		b.changes, b.touch_id, p.first_name as first, p.last_name as last, p.email, coalesce(c.name, '') as company,
		u.name as user_name, u.email as user_email
	from booking b
	join person p on p.id = b.person_id
	left join company c on c.id = p.company_id
	join app_user u on u.id = b.user_id `

// Booking reads one.
func (db Queries) Booking(ctx context.Context, id int64) (Booking, error) {
	return one[Booking](ctx, db, bookingFields+"where b.id = $1", id)
}

// LockBooking is Booking within a transaction, locked.
func (tx Tx) LockBooking(ctx context.Context, id int64) (Booking, error) {
	return one[Booking](ctx, tx, bookingFields+"where b.id = $1 for update of b", id)
}

// LockTimes has nobody else take a time of a user's until the transaction ends.
func (tx Tx) LockTimes(ctx context.Context, user int64) error {
	_, err := one[int64](ctx, tx, "select user_id from booking_page where user_id = $1 for update", user)
	return err
}

// Met lists the times that are taken of a user's from an instant on, except one booking's (0: none).
func (db Queries) Met(ctx context.Context, user, except int64, from, now time.Time) ([]booking.Span, error) {
	return all[booking.Span](ctx, db, `
		select starts_at as from, ends_at as to
		from booking
		where user_id = $1 and id <> $2 and ends_at > $3
			and (state in ('booked', 'held', 'missed') or state = 'asked' and keep_till > $4)
		order by starts_at, id`, user, except, from, now)
}

// BusyTimes lists what else keeps a user busy from an instant on.
func (db Queries) BusyTimes(ctx context.Context, user int64, from time.Time) ([]booking.Span, error) {
	return all[booking.Span](ctx, db, `
		select t.starts_at as from, t.ends_at as to
		from busy_calendar c
		join busy_time t on t.calendar_id = c.id
		where c.user_id = $1 and t.ends_at > $2
		order by t.starts_at`, user, from)
}

// AddBooking keeps one.
func (tx Tx) AddBooking(ctx context.Context, b Booking) (int64, error) {
	return one[int64](ctx, tx, `
		insert into booking (user_id, person_id, starts_at, ends_at, state, asked_at, keep_till, zone, note, touch_id)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)
		returning id`, b.User, b.Person, b.Starts, b.Ends, string(b.State), b.Asked, b.Keep, b.Zone, b.Note, b.Touch)
}

// SetBooking keeps a booking's state, time and how often it was changed.
func (tx Tx) SetBooking(ctx context.Context, b Booking, at time.Time) error {
	_, err := exec(ctx, tx, `
		update booking set state = $2, starts_at = $3, ends_at = $4, changes = $5, keep_till = $6,
			done_at = case when $2 in ('held', 'missed', 'cancelled') then $7::timestamptz end
		where id = $1`, b.ID, string(b.State), b.Starts, b.Ends, b.Changes, b.Keep, at)
	return err
}

// Bookings lists a user's meetings (0: everybody's) that end after an instant, the first first.
func (db Queries) Bookings(ctx context.Context, user int64, after time.Time, n int) ([]Booking, error) {
	return all[Booking](ctx, db, bookingFields+`
		where ($1 = 0 or b.user_id = $1) and b.ends_at > $2 and b.state <> 'asked'
		order by b.starts_at, b.id
		limit $3`, user, after, n)
}

// PersonBookings lists a person's, the newest first.
func (db Queries) PersonBookings(ctx context.Context, person int64) ([]Booking, error) {
	return all[Booking](ctx, db,
		bookingFields+"where b.person_id = $1 order by b.starts_at desc, b.id limit 100", person)
}

// AskedOpen counts what a person has asked for and not shown yet that it is them.
func (tx Tx) AskedOpen(ctx context.Context, person int64, now time.Time) (int, error) {
	return one[int](ctx, tx,
		"select count(*) from booking where person_id = $1 and state = 'asked' and keep_till > $2", person, now)
}

// ForgetAsked removes what was asked for and never shown to be anybody's, kept until before an instant.
func (tx Tx) ForgetAsked(ctx context.Context, before time.Time) error {
	_, err := exec(ctx, tx, "delete from booking where state = 'asked' and keep_till < $1", before)
	return err
}

// CallsAgreed lists the calls that somebody is to make at an instant that was agreed.
func (db Queries) CallsAgreed(ctx context.Context, user int64, after time.Time) ([]Booking, error) {
	return all[Booking](ctx, db, `
		select t.id, w.rep_id as user_id, p.id as person_id, d.later_at as starts_at,
			d.later_at + interval '15 minutes' as ends_at, 'booked' as state, w.ready_at as asked_at, '' as zone,
			'' as note, 0 as changes, p.first_name as first, p.last_name as last, p.email, '' as company,
			'' as user_name, '' as user_email
		from desk_item d
		join work w on w.touch_id = d.item_id and w.open
		join touch t on t.id = w.touch_id and t.kind = 'call'
		join person p on p.id = t.person_id
		where d.kind = 0 and d.back and w.rep_id = $1 and d.later_at > $2
		order by d.later_at
		limit 500`, user, after)
}

// BusyCalendar is a calendar of a user's own.
type BusyCalendar struct {
	ID      int64
	User    int64 `db:"user_id"`
	Name    string
	Address string     // empty: it was uploaded
	Read    *time.Time `db:"read_at"`
	Tried   *time.Time `db:"tried_at"`
	Trouble string
	Times   int // that lie ahead
}

// BusyCalendars lists a user's.
func (db Queries) BusyCalendars(ctx context.Context, user int64, now time.Time) ([]BusyCalendar, error) {
	return all[BusyCalendar](ctx, db, `
		select c.id, c.user_id, c.name, c.address, c.read_at, c.tried_at, c.trouble,
			(select count(*) from busy_time t where t.calendar_id = c.id and t.ends_at > $2) as times
		from busy_calendar c
		where c.user_id = $1
		order by c.id`, user, now)
}

// AddBusyCalendar keeps one.
func (tx Tx) AddBusyCalendar(ctx context.Context, c BusyCalendar) (int64, error) {
	return one[int64](ctx, tx, "insert into busy_calendar (user_id, name, address) values ($1, $2, $3) returning id",
		c.User, c.Name, c.Address)
}

// RemoveBusyCalendar removes a user's.
func (tx Tx) RemoveBusyCalendar(ctx context.Context, id, user int64) error {
	n, err := exec(ctx, tx, "delete from busy_calendar where id = $1 and user_id = $2", id, user)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// SetBusy keeps the times of a calendar in place of those it had.
func (tx Tx) SetBusy(ctx context.Context, id int64, list []booking.Span, trouble string, at time.Time) error {
	from, to := make([]time.Time, len(list)), make([]time.Time, len(list))
	for i, s := range list {
		from[i], to[i] = s.From, s.To
	}
	if _, err := exec(ctx, tx, "delete from busy_time where calendar_id = $1", id); err != nil {
		return err
	}
	if _, err := exec(ctx, tx, `
		insert into busy_time (calendar_id, starts_at, ends_at)
		select $1, f, t from unnest($2::timestamptz[], $3::timestamptz[]) as u(f, t)`, id, from, to); err != nil {
		return err
	}
	_, err := exec(ctx, tx,
		"update busy_calendar set read_at = $2, tried_at = $2, trouble = $3 where id = $1", id, at, trouble)
	return err
}

// BusyTrouble keeps that a calendar could not be read; its times of before stay.
func (tx Tx) BusyTrouble(ctx context.Context, id int64, trouble string, at time.Time) error {
	_, err := exec(ctx, tx, "update busy_calendar set tried_at = $2, trouble = $3 where id = $1", id, at, trouble)
	return err
}

// BusyToRead takes up to n calendars at addresses that were last tried before an instant, so that no
// other process tries them now.
func (db Queries) BusyToRead(ctx context.Context, before, now time.Time, n int) ([]BusyCalendar, error) {
	return all[BusyCalendar](ctx, db, `
		update busy_calendar c set tried_at = $2
		where c.id in (
			select id
			from busy_calendar
			where address <> '' and (tried_at is null or tried_at < $1)
			order by tried_at nulls first, id
			limit $3
			for update skip locked)
		returning c.id, c.user_id, c.name, c.address, c.read_at, c.tried_at, c.trouble, 0 as times`, before, now, n)
}
