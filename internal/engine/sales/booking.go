package sales

import (
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"regexp"
	"strings"
	"time"

	"ombak/internal/core/booking"
	"ombak/internal/core/calendar"
	"ombak/internal/core/news"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/signal"
	"ombak/internal/engine/base"
	"ombak/internal/engine/post"
	"ombak/internal/mail"
	"ombak/internal/store"
)

// Errors of booking.
var (
	ErrTimeTaken = plainly.New("this time has just been taken: here are those that are free")
	ErrNoBooking = plainly.New("this meeting is over, or was cancelled")
)

var bookingSlug = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{1,58}[a-z0-9]$`)

// KeepBookingPage keeps where people pick a time in a user's free hours.
func (e *Sales) KeepBookingPage(ctx context.Context, p store.BookingPage) error {
	p.Slug = strings.ToLower(strings.TrimSpace(p.Slug))
	if !bookingSlug.MatchString(p.Slug) {
		return plainly.New("an address has 3 to 60 small letters, figures and hyphens")
	}
	if err := p.Plan.V.Check(); err != nil {
		return err
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.KeepBookingPage(ctx, p) })
}

// RenewFeed gives a user's calendar another address; the one of before leads nowhere any more. With
// off it has none.
func (e *Sales) RenewFeed(ctx context.Context, user int64, off bool) error {
	secret := ""
	if !off {
		secret = rand.Text()
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.SetFeed(ctx, user, secret) })
}

// free are the times at which somebody can be met, save for one meeting that is moved (0: none).
func (e *Sales) free(
	ctx context.Context, db store.Queries, p *store.BookingPage, except int64,
) (*booking.Free, error) {
	now := e.Now()
	u, err := db.User(ctx, p.User)
	if err != nil {
		return nil, err
	}
	f := &booking.Free{Plan: &p.Plan.V, Now: now}
	f.Hours, f.Zone = e.HoursOf(&u.Work.V)
	from := now.Add(-24 * time.Hour)
	if f.Met, err = db.Met(ctx, p.User, except, from, now); err != nil {
		return nil, err
	}
	f.Busy, err = db.BusyTimes(ctx, p.User, from)
	return f, err
}

// FreeTimes are the times at which a meeting can begin, and in which zone whoever offers them works.
func (e *Sales) FreeTimes(
	ctx context.Context, p *store.BookingPage, except int64,
) ([]time.Time, *time.Location, error) {
	f, err := e.free(ctx, e.Store.Queries, p, except)
	if err != nil {
		return nil, nil, err
	}
	return f.Slots(), f.Zone, nil
}

// Pick is a time that somebody picks.
type Pick struct {
	At     time.Time
	Person int64 // who has shown who they are; 0: see Name and Email
	Name   string
	Email  string // typed: whoever says so may be somebody else
	Zone   string // in which they picked it
	Note   string
}

// mostAsked is how many times somebody can ask for who has not shown that it is them.
const mostAsked = 3

// Book takes a time for somebody. Who has shown who they are is booked, and is sent an invitation;
// else the time is kept for an hour, and a letter to the address that was typed asks whether it is
// theirs. It answers the booking; 0 where nothing is to be told of it.
func (e *Sales) Book(ctx context.Context, page *store.BookingPage, p Pick) (id int64, err error) {
	if p.Zone != "" {
		if _, err := calendar.Zone(p.Zone); err != nil {
			p.Zone = ""
		}
	}
	b := store.Booking{User: page.User, Person: p.Person, Zone: p.Zone, Starts: p.At,
		Ends: p.At.Add(page.Plan.V.Length()), Note: base.Cut(strings.TrimSpace(p.Note), 1000),
		State: booking.Booked, Asked: e.Now()}
	if p.Person == 0 {
		if p.Email, err = person.Email(p.Email); err != nil {
			return 0, err
		}
		if p.Name = person.Name(p.Name); p.Name == "" {
			return 0, plainly.New("say what you are called")
		}
		keep := b.Asked.Add(booking.KeptFor)
		b.State, b.Keep = booking.Asked, &keep
		never, err := e.Store.HashesNeverAgain(ctx, [][]byte{e.Hashed(p.Email)})
		if err != nil || len(never) > 0 {
			return 0, err // who was forgotten stays so, and nobody learns of it
		}
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := e.takeTime(ctx, tx, page, b.Starts, 0); err != nil {
			return err
		}
		if b.Person == 0 {
			first, last, _ := strings.Cut(p.Name, " ")
			if b.Person, _, err = tx.MeetPerson(ctx, store.NewPerson{First: first, Last: last, Email: p.Email,
				Domain: person.CompanyDomain(p.Email), Source: "booking page"}, e.Now()); err != nil {
				return err
			}
			n, err := tx.AskedOpen(ctx, b.Person, e.Now())
			if err != nil {
				return err
			}
			if n >= mostAsked {
				return plainly.New("letters have gone to this address already: press the link in one of them first")
			}
		}
		if b.ID, err = tx.AddBooking(ctx, b); err != nil {
			return err
		}
		if b.State == booking.Booked {
			return e.booked(ctx, tx, &b, page)
		}
		return e.tell(ctx, tx, &b, page)
	})
	if err == nil {
		e.Nudge()
	}
	return b.ID, err
}

// takeTime checks, with nobody else taking one of the same user, that a time is free.
func (e *Sales) takeTime(ctx context.Context, tx store.Tx, page *store.BookingPage, at time.Time, except int64) error {
	if err := tx.LockTimes(ctx, page.User); err != nil {
		return err
	}
	f, err := e.free(ctx, tx.Queries, page, except)
	if err != nil {
		return err
	}
	if !f.Is(at) {
		return ErrTimeTaken
	}
	return nil
}

// booked does what follows when somebody books: it is a signal, and ends sequences as each says.
func (e *Sales) booked(ctx context.Context, tx store.Tx, b *store.Booking, page *store.BookingPage) error {
	if err := e.RecordSignals(ctx, tx, []store.Signal{e.meeting(b, page, signal.Meeting)}); err != nil {
		return err
	}
	if err := e.tell(ctx, tx, b, page); err != nil {
		return err
	}
	return tx.Notify(ctx, news.Desk.About(b.Person))
}

func (e *Sales) meeting(b *store.Booking, page *store.BookingPage, k signal.Kind) store.Signal {
	return store.Signal{Person: b.Person, Detail: base.Cut(page.Plan.V.Title, 200),
		Signal: signal.Signal{At: e.Now(), Kind: k}}
}

// Confirm books what somebody asked for: they have pressed the link in the letter to their address.
// Where its time has been taken since, it is ErrTimeTaken.
func (e *Sales) Confirm(ctx context.Context, id int64) error {
	return e.change(ctx, id, func(tx store.Tx, b *store.Booking, page *store.BookingPage) error {
		if b.State == booking.Booked {
			return nil // pressed again
		}
		if !b.State.May(booking.Booked) || b.State != booking.Asked {
			return ErrNoBooking
		}
		if b.Keep == nil || !b.Keep.After(e.Now()) {
			soon := *page // they had asked in time
			soon.Plan.V.Notice = 0
			if err := e.takeTime(ctx, tx, &soon, b.Starts, b.ID); err != nil {
				return err
			}
		}
		b.State, b.Keep = booking.Booked, nil
		if err := tx.SetBooking(ctx, *b, e.Now()); err != nil {
			return err
		}
		return e.booked(ctx, tx, b, page)
	})
}

// Move gives a meeting another time; whoever is invited is told by a letter.
func (e *Sales) Move(ctx context.Context, id int64, at time.Time) error {
	return e.change(ctx, id, func(tx store.Tx, b *store.Booking, page *store.BookingPage) error {
		if b.State != booking.Booked || !b.Ends.After(e.Now()) {
			return ErrNoBooking
		}
		if b.Starts.Equal(at) {
			return nil
		}
		if err := e.takeTime(ctx, tx, page, at, b.ID); err != nil {
			return err
		}
		b.Starts, b.Ends = at, at.Add(page.Plan.V.Length())
		b.Changes++
		if err := tx.SetBooking(ctx, *b, e.Now()); err != nil {
			return err
		}
		if err := e.tell(ctx, tx, b, page); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Desk.About(b.Person))
	})
}

// Cancel has a meeting not take place.
func (e *Sales) Cancel(ctx context.Context, id int64) error {
	return e.change(ctx, id, func(tx store.Tx, b *store.Booking, page *store.BookingPage) error {
		if b.State == booking.Cancelled {
			return nil
		}
		if !b.State.May(booking.Cancelled) || b.State == booking.Booked && !b.Ends.After(e.Now()) {
			return ErrNoBooking
		}
		was := b.State
		b.State, b.Keep = booking.Cancelled, nil
		b.Changes++
		if err := tx.SetBooking(ctx, *b, e.Now()); err != nil || was == booking.Asked {
			return err
		}
		if err := e.RecordSignals(ctx, tx, []store.Signal{e.meeting(b, page, signal.MeetingCancelled)}); err != nil {
			return err
		}
		if err := e.tell(ctx, tx, b, page); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Desk.About(b.Person))
	})
}

// Met keeps whether a meeting took place, for whoever it is with; what was said before counts no
// more.
func (e *Sales) Met(ctx context.Context, id, user int64, state booking.State) error {
	return e.change(ctx, id, func(tx store.Tx, b *store.Booking, page *store.BookingPage) error {
		if err := base.May(ctx, tx, user, &b.User); err != nil {
			return err
		}
		if b.State == state {
			return nil
		}
		if state == booking.Cancelled || b.State == booking.Asked || !b.State.May(state) ||
			b.Starts.After(e.Now().Add(beforeMeeting)) {
			return plainly.New("the meeting has not begun, or does not take place")
		}
		if at, k := b.State.Told(); k != 0 && at {
			if err := tx.MarkLastSignal(ctx, b.Person, k, "taken back"); err != nil {
				return err
			}
		}
		b.State = state
		if err := tx.SetBooking(ctx, *b, e.Now()); err != nil {
			return err
		}
		if told, k := state.Told(); told {
			if err := e.RecordSignals(ctx, tx, []store.Signal{e.meeting(b, page, k)}); err != nil {
				return err
			}
		}
		return tx.Notify(ctx, news.Desk.About(b.Person))
	})
}

// change changes a booking in a transaction.
func (e *Sales) change(
	ctx context.Context, id int64, f func(store.Tx, *store.Booking, *store.BookingPage) error,
) error {
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		b, err := tx.LockBooking(ctx, id)
		if err != nil {
			return err
		}
		page, err := pageOf(ctx, tx.Queries, &b)
		if err != nil {
			return err
		}
		return f(tx, &b, &page)
	})
	if err == nil {
		e.Nudge()
	}
	return err
}

// pageOf is the page that a booking was made on; where whom it was given to has none, one as usual.
func pageOf(ctx context.Context, db store.Queries, b *store.Booking) (store.BookingPage, error) {
	page, err := db.BookingPageOf(ctx, b.User)
	if store.IsNotFound(err) {
		page = store.BookingPage{User: b.User, Name: b.UserName, Email: b.UserEmail}
		page.Plan.V = booking.Usual()
		page.Plan.V.Title, page.Plan.V.Minutes = "A meeting", int(b.Ends.Sub(b.Starts).Minutes())
		err = nil
	}
	return page, err
}

// PageOf is the page that a booking was made on.
func (e *Sales) PageOf(ctx context.Context, b *store.Booking) (store.BookingPage, error) {
	return pageOf(ctx, e.Store.Queries, b)
}

// BookingURL is the address at which a meeting is looked at, moved and cancelled; it is signed.
func (e *Sales) BookingURL(id int64) string {
	return fmt.Sprintf("%s/b/m/%d/%s", e.URL, id, e.Sign("booking", id, 0))
}

// uid names a meeting in calendars, however often it is moved.
func (e *Sales) uid(id int64) string { return fmt.Sprintf("b%d@%s", id, e.Domain) }

// tell writes to whoever a meeting is with: that it is booked, moved or cancelled, with what their
// calendar makes of it; or asks whether it is them. Nothing that a stranger typed stands in it.
func (e *Sales) tell(ctx context.Context, tx store.Tx, b *store.Booking, page *store.BookingPage) error {
	people, err := tx.PeopleByID(ctx, []int64{b.Person})
	if err != nil {
		return err
	}
	p := people[b.Person]
	if p == nil || p.Email == "" {
		return nil
	}
	zone, _ := calendar.ZoneFor(calendar.Whereabouts{Zone: p.Zone, Country: p.Country, City: p.City}, e.Zone())
	if z, err := calendar.Zone(b.Zone); err == nil {
		zone = z
	}
	when := b.Starts.In(zone).Format("Monday 2 January 2006, 15:04") + " (" + zone.String() + ")"
	x := mail.Event{UID: e.uid(b.ID), Title: page.Plan.V.Title, Place: page.Plan.V.Where, Start: b.Starts, End: b.Ends,
		Note: "Move or cancel it: " + e.BookingURL(b.ID), OrganiserName: page.Name, Organiser: page.Email,
		Attendee: p.Email, Stamp: e.Now(), Sequence: b.Changes}
	subject, text := "", ""
	invite := []byte{}
	switch {
	case b.State == booking.Asked:
		subject = "Is it you? " + page.Plan.V.Title
		text = "Somebody gave this address to meet " + page.Name + " on " + when + ".\n\nIf it is you, press this " +
			"within an hour, and the time is yours:\n" + e.BookingURL(b.ID) + "\n\nIf not, do nothing: nobody is told."
	case b.State == booking.Cancelled:
		subject = "Cancelled: " + page.Plan.V.Title
		text = "The meeting with " + page.Name + " on " + when + " does not take place."
		invite, err = mail.Cancellation(x)
	default:
		subject, text = page.Plan.V.Title, "You are meeting "+page.Name+" on "+when+"."
		if b.Changes > 0 {
			subject, text = "Moved: "+subject, "The meeting with "+page.Name+" is now on "+when+"."
		}
		if page.Plan.V.Where != "" {
			text += "\n\nWhere: " + page.Plan.V.Where
		}
		text += "\n\nMove or cancel it:\n" + e.BookingURL(b.ID)
		invite, err = mail.Invitation(x)
	}
	if err != nil {
		return err
	}
	return e.post.Notice(ctx, tx, post.Notice{Person: b.Person, User: b.User, Subject: subject, Text: text,
		Invite: invite, Once: fmt.Sprintf("booking-%d-%s-%d", b.ID, b.State, b.Changes)})
}

// Feed is a user's calendar as it is followed by its secret address: meetings, and the calls that
// are to be made at an instant that was agreed.
func (e *Sales) Feed(ctx context.Context, secret string) ([]byte, error) {
	page, err := e.Store.BookingPageByFeed(ctx, secret)
	if err != nil {
		return nil, err
	}
	since := e.Now().AddDate(0, 0, -30)
	met, err := e.Store.Bookings(ctx, page.User, since, 1000)
	if err != nil {
		return nil, err
	}
	calls, err := e.Store.CallsAgreed(ctx, page.User, since)
	if err != nil {
		return nil, err
	}
	var list []mail.Event
	for _, b := range met {
		who := person.Full(b.First, b.Last, b.Email)
		list = append(list, mail.Event{UID: e.uid(b.ID), Title: page.Plan.V.Title + ": " + who,
			Note:  strings.TrimSpace(fmt.Sprintf("%s\n%s/people/%d", b.Company, e.URL, b.Person)),
			Place: page.Plan.V.Where, Start: b.Starts,
			End: b.Ends, Stamp: e.Now(), Sequence: b.Changes, Cancelled: b.State == booking.Cancelled})
	}
	for _, c := range calls {
		list = append(list, mail.Event{UID: fmt.Sprintf("c%d@%s", c.ID, e.Domain),
			Title: "Call " + person.Full(c.First, c.Last, c.Email), Start: c.Starts, End: c.Ends, Stamp: e.Now(),
			Note: fmt.Sprintf("%s/desk?item=call-%d", e.URL, c.ID)})
	}
	return mail.Feed(page.Name, list)
}

// How busy times of a calendar are read: so far ahead, and again after so long.
const (
	busyAhead = (booking.MaxHorizon + 1) * 24 * time.Hour
	readAgain = time.Hour
	mostBusy  = 10 // calendars of one user
)

// AddCalendar adds a calendar of a user's own: read from an address again and again, or once from a
// file. It answers how many of its events could not be read.
func (e *Sales) AddCalendar(ctx context.Context, c store.BusyCalendar, file io.Reader) (unread int, err error) {
	c.Name = person.Name(c.Name)
	if file == nil {
		if c.Address, err = mail.CalendarAddress(c.Address); err != nil {
			return 0, err
		}
		if file, err = mail.FetchCalendar(ctx, c.Address, e.PrivateServers); err != nil {
			return 0, err
		}
	}
	if c.Name == "" {
		c.Name = "My calendar"
	}
	list, unread, err := e.busyIn(ctx, c.User, file)
	if err != nil {
		return 0, err
	}
	return unread, e.Store.InTx(ctx, func(tx store.Tx) error {
		have, err := tx.BusyCalendars(ctx, c.User, e.Now())
		if err != nil {
			return err
		}
		if len(have) >= mostBusy {
			return plainly.Errorf("at most %d calendars", mostBusy)
		}
		id, err := tx.AddBusyCalendar(ctx, c)
		if err != nil {
			return err
		}
		return tx.SetBusy(ctx, id, list, unreadWords(unread), e.Now())
	})
}

func unreadWords(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf("%d of its events could not be read", n)
}

// busyIn reads a calendar's busy times in a user's zone.
func (e *Sales) busyIn(ctx context.Context, user int64, file io.Reader) ([]booking.Span, int, error) {
	w, err := e.worksOf(ctx, user)
	if err != nil {
		return nil, 0, err
	}
	now := e.Now()
	return mail.ReadBusy(file, now.Add(-24*time.Hour), now.Add(busyAhead), w.zone)
}

// RemoveCalendar removes a calendar of a user's own.
func (e *Sales) RemoveCalendar(ctx context.Context, id, user int64) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.RemoveBusyCalendar(ctx, id, user) })
}

// ReadCalendars reads the calendars at addresses that were not read for an hour, a few of them, and
// answers how many it tried. Of one that cannot be read the times of before stay, with why.
func (e *Sales) ReadCalendars(ctx context.Context) (int, error) {
	now := e.Now()
	list, err := e.Store.BusyToRead(ctx, now.Add(-readAgain), now, 5)
	if err != nil {
		return 0, err
	}
	for _, c := range list {
		if err := e.readCalendar(ctx, &c); err != nil {
			return len(list), err
		}
	}
	return len(list), nil
}

func (e *Sales) readCalendar(ctx context.Context, c *store.BusyCalendar) error {
	file, err := mail.FetchCalendar(ctx, c.Address, e.PrivateServers)
	var times []booking.Span
	unread := 0
	if err == nil {
		times, unread, err = e.busyIn(ctx, c.User, file)
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		if text, plain := plainly.Says(err); plain {
			return tx.BusyTrouble(ctx, c.ID, text, e.Now())
		}
		if err != nil {
			return err
		}
		return tx.SetBusy(ctx, c.ID, times, unreadWords(unread), e.Now())
	})
}

// ForgetAsked removes what was asked for and never shown to be anybody's.
func (e *Sales) ForgetAsked(ctx context.Context) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.ForgetAsked(ctx, e.Now().Add(-24*time.Hour)) })
}

// CancelOwn is Cancel by whoever a meeting is with, a lead or an admin.
func (e *Sales) CancelOwn(ctx context.Context, id, user int64) error {
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		b, err := tx.Booking(ctx, id)
		if err != nil {
			return err
		}
		return base.May(ctx, tx, user, &b.User)
	})
	if err != nil {
		return err
	}
	return e.Cancel(ctx, id)
}
