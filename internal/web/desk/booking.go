package desk

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"regexp"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/booking"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/engine/base"
	"ombak/internal/mail"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// calendarEvery is how often somebody may have a calendar read that they add.
const calendarEvery = 10 * time.Second

// bookingData is a user's page, calendar and meetings.
type bookingData struct {
	Room      string
	Page      store.BookingPage
	There     bool   // it was kept
	Base      string // of our addresses
	URL       string
	Feed      string
	Calendars []store.BusyCalendar
	Meetings  []store.Booking
	Free      int
	Wrong     string
	Address   string // typed
}

// Plan is what is offered.
func (d bookingData) Plan() booking.Plan { return d.Page.Plan.V }

func (s *Place) booking(c *echo.Context) error { return s.showBooking(c, http.StatusOK, bookingData{}) }

func (s *Place) showBooking(c *echo.Context, code int, d bookingData) error {
	ctx := c.Request().Context()
	u := shell.UserOf(c)
	d.Room, d.Base = "booking", s.Engine.URL
	kept, err := s.Store.BookingPageOf(ctx, u.ID)
	if err != nil && !store.IsNotFound(err) {
		return err
	}
	d.There = err == nil
	switch {
	case d.Page.Slug != "": // typed, and not kept
	case d.There:
		d.Page = kept
	default:
		d.Page = store.BookingPage{User: u.ID, Slug: slugOf(u.Name), Shown: true}
		d.Page.Plan.V = booking.Usual()
	}
	if d.There {
		if kept.Shown {
			d.URL = s.Engine.URL + "/b/" + kept.Slug
		}
		if kept.Feed != "" {
			d.Feed = s.Engine.URL + "/b/feed/" + kept.Feed + ".ics"
		}
		free, _, err := s.Engine.FreeTimes(ctx, &kept, 0)
		if err != nil {
			return err
		}
		d.Free = len(free)
	}
	if d.Calendars, err = s.Store.BusyCalendars(ctx, u.ID, s.Engine.Now()); err != nil {
		return err
	}
	if d.Meetings, err = s.Store.Bookings(ctx, u.ID, s.Engine.Now(), 50); err != nil {
		return err
	}
	return s.PageCode(c, code, "booking.html", "", "Desk", "Booking", d)
}

var notInSlug = regexp.MustCompile(`[^a-z0-9]+`)

// slugOf is a name as it stands in an address.
func slugOf(name string) string {
	return strings.Trim(notInSlug.ReplaceAllString(strings.ToLower(person.Plain(name)), "-"), "-")
}

// keepBooking keeps the page.
func (s *Place) keepBooking(c *echo.Context) error {
	p := store.BookingPage{User: shell.UserOf(c).ID, Slug: c.FormValue("slug"), Shown: c.FormValue("shown") == "yes"}
	n := func(name string) int { return int(min(max(shell.Number(c.FormValue(name)), -1), 1<<20)) }
	p.Plan.V = booking.Plan{Title: c.FormValue("title"), About: c.FormValue("about"), Where: c.FormValue("where"),
		Minutes: n("minutes"), Buffer: n("buffer"), Step: n("step"), Notice: n("notice"), Horizon: n("horizon"),
		Most: n("most")}
	if err := s.Engine.KeepBookingPage(c.Request().Context(), p); err != nil {
		if _, plain := plainly.Says(err); !plain {
			return err
		}
		return s.showBooking(c, http.StatusUnprocessableEntity, bookingData{Page: p, Wrong: shell.Sentence(err)})
	}
	return s.Done(c, "/desk/booking", "Saved.")
}

// renewFeed gives the calendar another address, or none.
func (s *Place) renewFeed(c *echo.Context) error {
	err := s.Engine.RenewFeed(c.Request().Context(), shell.UserOf(c).ID, c.FormValue("off") != "")
	if store.IsNotFound(err) {
		return s.NotDone(c, "/desk/booking", "Save your booking page first.")
	}
	if err != nil {
		return err
	}
	return s.Done(c, "/desk/booking", "The address of before leads nowhere any more.")
}

// addCalendar adds a calendar whose times are not free.
func (s *Place) addCalendar(c *echo.Context) error {
	x := store.BusyCalendar{User: shell.UserOf(c).ID, Name: c.FormValue("name"), Address: c.FormValue("address")}
	wrong := func(err error) error {
		return s.showBooking(c, http.StatusUnprocessableEntity,
			bookingData{Wrong: shell.Sentence(err), Address: x.Address})
	}
	if !s.Limits.Allow("calendar", fmt.Sprint(x.User), calendarEvery, 10) {
		return wrong(plainly.New("that was often: wait a minute"))
	}
	var file io.Reader
	if h, err := c.FormFile("file"); err == nil && h.Size > 0 {
		if h.Size > mail.MaxCalendar {
			return wrong(plainly.New("a calendar file has at most 2 MB"))
		}
		body, err := h.Open()
		if err != nil {
			return err
		}
		defer body.Close()
		file, x.Address = body, ""
		if x.Name == "" {
			x.Name = h.Filename
		}
	} else if err != nil && strings.HasPrefix(c.Request().Header.Get(echo.HeaderContentType), "multipart/") &&
		!errors.Is(err, http.ErrMissingFile) {
		return err
	}
	unread, err := s.Engine.AddCalendar(c.Request().Context(), x, file)
	if _, plain := plainly.Says(err); plain {
		return wrong(err)
	}
	if err != nil {
		return err
	}
	note := "Read. Its times are not offered any more."
	if unread > 0 {
		note += fmt.Sprintf(" %d of its events could not be read.", unread)
	}
	return s.Done(c, "/desk/booking", note)
}

func (s *Place) removeCalendar(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	if err := s.Engine.RemoveCalendar(c.Request().Context(), id, shell.UserOf(c).ID); err != nil {
		return err
	}
	return s.Done(c, "/desk/booking", "It is not read any more.")
}

// met takes whether a meeting took place.
func (s *Place) met(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	state := booking.State(c.FormValue("state"))
	if state != booking.Held && state != booking.Missed {
		return echo.ErrBadRequest
	}
	if err := s.Engine.Met(c.Request().Context(), id, shell.UserOf(c).ID, state); err != nil {
		return s.unmet(c, err)
	}
	s.took(c)
	return s.DoneUndo(c, backTo(c), "Noted: "+string(state)+".", fmt.Sprintf("/desk/meetings/%d/back", id))
}

func (s *Place) unmet(c *echo.Context, err error) error {
	if errors.Is(err, base.ErrNotYours) {
		return shell.NotYours(err)
	}
	if _, plain := plainly.Says(err); !plain {
		return err
	}
	return s.NotDone(c, backTo(c), shell.Sentence(err))
}

func (s *Place) metBack(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	if err := s.Engine.Met(c.Request().Context(), id, shell.UserOf(c).ID, booking.Booked); err != nil {
		return s.unmet(c, err)
	}
	return s.Done(c, fmt.Sprintf("/desk?item=meeting-%d", id), "It is back on the desk.")
}

// cancelMeeting has a meeting not take place, and tells whom it is with.
func (s *Place) cancelMeeting(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	if err := s.Engine.CancelOwn(c.Request().Context(), id, shell.UserOf(c).ID); err != nil {
		return s.unmet(c, err)
	}
	to := backTo(c)
	if c.FormValue("back") == "booking" {
		to = "/desk/booking"
	}
	return s.Done(c, to, "Cancelled. They are told by a letter.")
}

// bookingRoutes are those of meetings.
func (s *Place) bookingRoutes(in *echo.Group) {
	sells := shell.Allow(right.Rep, right.Lead, right.Admin)
	in.GET("/desk/booking", s.booking, sells)
	in.POST("/desk/booking", s.keepBooking, sells)
	in.POST("/desk/booking/feed", s.renewFeed, sells)
	in.POST("/desk/booking/calendars", s.addCalendar, sells)
	in.POST("/desk/booking/calendars/:id/delete", s.removeCalendar, sells)
	in.POST("/desk/meetings/:id", s.met, sells)
	in.POST("/desk/meetings/:id/back", s.metBack, sells)
	in.POST("/desk/meetings/:id/cancel", s.cancelMeeting, sells)
}
