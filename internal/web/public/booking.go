package public

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/booking"
	"ombak/internal/core/calendar"
	"ombak/internal/core/plainly"
	"ombak/internal/engine/sales"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// bookPage is where a time is picked, for a meeting or in place of another.
type bookPage struct {
	Page  store.BookingPage
	B     *store.Booking // that is looked at; nil: it is to be made
	At    string         // address of the page
	Days  []bookDay
	Zone  string // in which times are shown
	Other string // in which whoever is met works, where that is another
	Next  string // address of the week after, and of the one before
	Prev  string
	Pick  *bookTime // that was picked
	Known string    // who looks, where we know; empty: they say it
	Name  string    // typed
	Email string
	Note  string
	Asked bool // a letter is on its way
	Moves bool // times are shown to move it
	Over  bool
	Wrong string
}

// Plan is what is offered.
func (d bookPage) Plan() booking.Plan { return d.Page.Plan.V }

type bookDay struct {
	Name  string
	Times []bookTime
}

type bookTime struct {
	Words string // by the clock of who looks
	Day   string
	Other string // by the clock of who is met, where that is another
	Unix  int64
	Href  string
}

// Picked reports whether a time is the one that was picked.
func (d bookPage) Picked(t bookTime) bool { return d.Pick != nil && d.Pick.Unix == t.Unix }

// weekShown is how many days are shown at a time.
const weekShown = 7

// free lays out the free times of a week.
func (s *Place) free(c *echo.Context, d *bookPage, except int64, zone *time.Location) error {
	now := s.Engine.Now()
	list, theirs, err := s.Engine.FreeTimes(c.Request().Context(), &d.Page, except)
	if err != nil {
		return err
	}
	d.Zone = zone.String()
	if theirs.String() != zone.String() {
		d.Other = theirs.String()
	}
	first := calendar.DateOf(now, zone)
	if from, err := time.Parse(time.DateOnly, c.QueryParam("from")); err == nil {
		if day := calendar.DateOf(from, time.UTC); calendar.At(day, 0, zone).After(now) {
			first = day
		}
	}
	end := calendar.At(first.Add(weekShown), 0, zone)
	moving := c.Request().URL.Query()["move"]
	href := func(v url.Values) string { v.Set("zone", d.Zone); return d.At + "?" + v.Encode() }
	for _, t := range list {
		if t.Before(calendar.At(first, 0, zone)) {
			continue
		}
		if !t.Before(end) {
			d.Next = href(url.Values{"from": {calendar.DateOf(t, zone).String()}, "move": moving})
			break
		}
		x := bookTime{Words: t.In(zone).Format("15:04"), Day: t.In(zone).Format("Monday 2 January"), Unix: t.Unix()}
		if d.Other != "" {
			x.Other = t.In(theirs).Format("15:04")
		}
		x.Href = href(url.Values{"at": {fmt.Sprint(t.Unix())}, "move": moving})
		if n := len(d.Days); n == 0 || d.Days[n-1].Name != x.Day {
			d.Days = append(d.Days, bookDay{Name: x.Day})
		}
		day := &d.Days[len(d.Days)-1]
		day.Times = append(day.Times, x)
		if fmt.Sprint(x.Unix) == c.FormValueOr("at", c.QueryParam("at")) {
			d.Pick = &x
		}
	}
	if calendar.At(first, 0, zone).After(now) {
		d.Prev = href(url.Values{"move": moving})
	}
	return nil
}

// readBook is the page that an address names, and who looks at it, where they have shown that.
func (s *Place) readBook(c *echo.Context) (d bookPage, who int64, zone *time.Location, err error) {
	ctx := c.Request().Context()
	if d.Page, err = s.Store.BookingPageBySlug(ctx, c.Param("slug")); err != nil {
		return d, 0, nil, err
	}
	d.At, zone = "/b/"+d.Page.Slug, s.Engine.Zone()
	b, err := s.browser(c, "")
	if err != nil {
		return d, 0, nil, err
	}
	if b.Proven {
		p, err := s.Store.Person(ctx, b.Person)
		if err != nil && !store.IsNotFound(err) {
			return d, 0, nil, err
		}
		if err == nil && p.Email != "" {
			who, d.Known = b.Person, p.Email
			zone, _ = calendar.ZoneFor(
				calendar.Whereabouts{Zone: p.Zone, Country: p.Country, City: p.City}, s.Engine.Zone())
		}
	}
	return d, who, zoneAsked(c, zone), nil
}

// zoneAsked is the zone that somebody has chosen, else the one we think is theirs.
func zoneAsked(c *echo.Context, ours *time.Location) *time.Location {
	name := c.QueryParam("zone")
	if name == "" && c.Request().Method == http.MethodPost {
		name = c.FormValue("zone")
	}
	if z, err := calendar.Zone(name); err == nil {
		return z
	}
	return ours
}

func (s *Place) bookPage(c *echo.Context) error {
	d, _, zone, err := s.readBook(c)
	if err != nil {
		return err
	}
	return s.showBook(c, http.StatusOK, d, zone)
}

func (s *Place) showBook(c *echo.Context, code int, d bookPage, zone *time.Location) error {
	if !d.Asked {
		if err := s.free(c, &d, 0, zone); err != nil {
			return err
		}
	}
	return c.Render(code, "bookpage.html", shell.View{Title: d.Page.Plan.V.Title, Data: d})
}

// book takes a time.
func (s *Place) book(c *echo.Context) error {
	d, who, zone, err := s.readBook(c)
	if err != nil {
		return err
	}
	d.Name, d.Email, d.Note = c.FormValue("name"), c.FormValue("email"), c.FormValue("note")
	if !s.Limits.Allow("book", shell.Network(c.RealIP()), time.Minute, 10) {
		d.Wrong = "That was often. Wait a minute and try again."
		return s.showBook(c, http.StatusTooManyRequests, d, zone)
	}
	// Nobody is written to again and again because somebody types their address.
	if who == 0 && !s.Limits.Allow("book to", strings.ToLower(strings.TrimSpace(d.Email)), 4*time.Hour, 3) {
		d.Wrong = "Letters have gone to this address already. Press the link in one of them."
		return s.showBook(c, http.StatusTooManyRequests, d, zone)
	}
	at := time.Unix(shell.Number(c.FormValue("at")), 0).UTC()
	id, err := s.Engine.Book(c.Request().Context(), &d.Page,
		sales.Pick{At: at, Person: who, Name: d.Name, Email: d.Email, Zone: zone.String(), Note: d.Note})
	if _, plain := plainly.Says(err); plain {
		d.Wrong = shell.Sentence(err)
		return s.showBook(c, http.StatusUnprocessableEntity, d, zone)
	}
	if err != nil {
		return err
	}
	if who == 0 {
		d.Asked = true
		return s.showBook(c, http.StatusOK, d, zone)
	}
	return c.Redirect(http.StatusSeeOther, strings.TrimPrefix(s.Engine.BookingURL(id), s.Engine.URL))
}

// readBooking is the meeting that a signed address names.
func (s *Place) readBooking(c *echo.Context) (d bookPage, zone *time.Location, err error) {
	ctx := c.Request().Context()
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return d, nil, err
	}
	if !s.Engine.Signed("booking", id, 0, c.Param("signature")) {
		return d, nil, store.ErrNotFound
	}
	b, err := s.Store.Booking(ctx, id)
	if err != nil {
		return d, nil, err
	}
	if d.Page, err = s.Engine.PageOf(ctx, &b); err != nil {
		return d, nil, err
	}
	d.B, d.At, d.Known = &b, fmt.Sprintf("/b/m/%d/%s", id, c.Param("signature")), b.Email
	d.Over = !b.Ends.After(s.Engine.Now()) || b.State == booking.Cancelled
	zone = s.Engine.Zone()
	if z, err := calendar.Zone(b.Zone); err == nil {
		zone = z
	}
	return d, zoneAsked(c, zone), nil
}

func (s *Place) bookingPage(c *echo.Context) error {
	d, zone, err := s.readBooking(c)
	if err != nil {
		return err
	}
	return s.showBooking(c, http.StatusOK, d, zone)
}

func (s *Place) showBooking(c *echo.Context, code int, d bookPage, zone *time.Location) error {
	d.Zone = zone.String()
	if d.Moves = !d.Over && d.B.State == booking.Booked && c.QueryParam("move") != ""; d.Moves {
		if err := s.free(c, &d, d.B.ID, zone); err != nil {
			return err
		}
	}
	return c.Render(code, "bookingpage.html", shell.View{Title: d.Page.Plan.V.Title, Data: d})
}

// When is when a meeting is, by the clock of who looks.
func (d bookPage) When() string {
	z, err := calendar.Zone(d.Zone)
	if err != nil {
		z = time.UTC
	}
	return d.B.Starts.In(z).Format("Monday 2 January 2006, 15:04") + " to " + d.B.Ends.In(z).Format("15:04")
}

// changeBooking confirms, moves or cancels a meeting: an act of whoever has the address, and never
// of a program that only fetches it.
func (s *Place) changeBooking(c *echo.Context) error {
	ctx := c.Request().Context()
	d, zone, err := s.readBooking(c)
	if err != nil {
		return err
	}
	if !s.Limits.Allow("booking", fmt.Sprint(d.B.ID), time.Minute, 20) {
		d.Wrong = "That was often. Wait a minute and try again."
		return s.showBooking(c, http.StatusTooManyRequests, d, zone)
	}
	switch c.FormValue("do") {
	case "confirm":
		err = s.Engine.Confirm(ctx, d.B.ID)
	case "cancel":
		err = s.Engine.Cancel(ctx, d.B.ID)
	case "move":
		err = s.Engine.Move(ctx, d.B.ID, time.Unix(shell.Number(c.FormValue("at")), 0).UTC())
	default:
		return echo.ErrBadRequest
	}
	if _, plain := plainly.Says(err); plain {
		d.Wrong = shell.Sentence(err)
		return s.showBooking(c, http.StatusUnprocessableEntity, d, zone)
	}
	if err != nil {
		return err
	}
	return c.Redirect(http.StatusSeeOther, d.At)
}

// bookingFeed hands out a rep's calendar, by its secret address.
func (s *Place) bookingFeed(c *echo.Context) error {
	secret, ok := strings.CutSuffix(c.Param("file"), ".ics")
	if !ok {
		return store.ErrNotFound
	}
	if !s.Limits.Allow("feed", shell.Network(c.RealIP()), time.Second, 120) {
		return echo.ErrTooManyRequests
	}
	body, err := s.Engine.Feed(c.Request().Context(), secret)
	if err != nil {
		return err
	}
	c.Response().Header().Set("Cache-Control", "no-store")
	return c.Blob(http.StatusOK, "text/calendar; charset=utf-8", body)
}
