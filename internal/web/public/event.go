package public

import (
	"fmt"
	"net/http"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/calendar"
	"ombak/internal/core/event"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// joinBefore is how long before it begins an event can be joined.
const joinBefore = 30 * time.Minute

// eventPage is an event as whoever is invited sees it.
type eventPage struct {
	E     *event.Event
	When  string // by the clock of the event
	Yours string // by the reader's own, where that is another
	Page  string // address of the form that registers; empty: none
	Known bool   // the reader has proved who they are
	State event.State
	Full  bool
	Over  bool
	Join  bool // it can be joined now
	Wrong string
}

// readEvent is the event that an address names, and who looks at it, if they have proved
// who they are: only they learn how they stand to it, and by which link it is joined.
func (s *Place) readEvent(c *echo.Context) (d eventPage, who int64, err error) {
	ctx := c.Request().Context()
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return d, 0, err
	}
	e, err := s.Store.Event(ctx, id)
	if err != nil {
		return d, 0, err
	}
	now := s.Engine.Now()
	x := e.Core()
	d = eventPage{E: &x, Over: !now.Before(e.Ends), Full: e.Seats > 0 && e.Registered >= int64(e.Seats)}
	d.When = shell.EventTime(d.E, d.E.Location())
	if e.PageSlug != "" {
		d.Page = "/p/" + e.PageSlug
	}
	b, err := s.browser(c, "")
	if err != nil || !b.Proven {
		return d, 0, err
	}
	d.Known = true
	states, err := s.Store.StatesAt(ctx, id, []int64{b.Person})
	if err != nil {
		return d, 0, err
	}
	d.State = states[b.Person]
	d.Join = d.State.Holds() && !d.E.Off() && d.E.Link != "" && !now.Before(d.E.Starts.Add(-joinBefore)) && !d.Over
	p, err := s.Store.Person(ctx, b.Person)
	if err != nil {
		return d, 0, err
	}
	zone, _ := calendar.ZoneFor(calendar.Whereabouts{Zone: p.Zone, Country: p.Country, City: p.City}, s.Engine.Zone())
	if yours := shell.EventTime(d.E, zone); yours != d.When {
		d.Yours = yours + " (" + zone.String() + ")"
	}
	return d, b.Person, nil
}

func (s *Place) eventPage(c *echo.Context) error {
	d, _, err := s.readEvent(c)
	if err != nil {
		return err
	}
	return s.showEvent(c, http.StatusOK, d)
}

func (s *Place) showEvent(c *echo.Context, code int, d eventPage) error {
	return c.Render(code, "eventpage.html", shell.View{Title: d.E.Name, Data: d})
}

// joinEvent notes that somebody comes, and leads them there. Who it is their browser says, and
// no address: what merely fetches addresses comes to no event.
func (s *Place) joinEvent(c *echo.Context) error {
	d, who, err := s.readEvent(c)
	if err != nil {
		return err
	}
	if who == 0 || !d.Join {
		return c.Redirect(http.StatusSeeOther, fmt.Sprintf("/e/%d", d.E.ID))
	}
	if machine(c.Request()) == "" && d.State != event.Came {
		if _, _, err := s.Engine.Attend(c.Request().Context(), d.E.ID, []int64{who}, event.Came,
			store.Author{How: "by a link"}); err != nil {
			return err
		}
	}
	return c.Redirect(http.StatusSeeOther, d.E.Link)
}

// answerEvent registers or cancels: a reader's own act, of whoever has proved to be
// them. An address that is only fetched does nothing.
func (s *Place) answerEvent(c *echo.Context) error {
	d, who, err := s.readEvent(c)
	if err != nil {
		return err
	}
	if who == 0 {
		d.Wrong = "Press the link in the email that came to you: then we know that it is you."
		return s.showEvent(c, http.StatusForbidden, d)
	}
	if !s.Limits.Allow("event", fmt.Sprint(who), time.Minute, 10) {
		d.Wrong = "That was often. Wait a minute and try again."
		return s.showEvent(c, http.StatusTooManyRequests, d)
	}
	do := c.FormValue("do")
	state := map[string]event.State{"register": event.Registered, "cancel": event.Cancelled}[do]
	if state == event.None {
		d.Wrong = "This cannot be done now."
		return s.showEvent(c, http.StatusUnprocessableEntity, d)
	}
	if state != d.State {
		_, why, err := s.Engine.Attend(c.Request().Context(), d.E.ID, []int64{who}, state,
			store.Author{How: "by a link"})
		if err != nil {
			return err
		}
		if why != nil {
			d.Wrong = shell.Sentence(why)
			return s.showEvent(c, http.StatusUnprocessableEntity, d)
		}
	}
	return c.Redirect(http.StatusSeeOther, fmt.Sprintf("/e/%d", d.E.ID))
}

// eventFile hands the event out as a calendar file, to whoever is registered.
func (s *Place) eventFile(c *echo.Context) error {
	d, who, err := s.readEvent(c)
	if err != nil {
		return err
	}
	if who == 0 || !d.State.Holds() {
		return store.ErrNotFound
	}
	file, err := d.E.Calendar(fmt.Sprintf("event-%d@%s", d.E.ID, s.Engine.Domain), s.Engine.Now())
	if err != nil {
		return err
	}
	c.Response().Header().Set("Content-Disposition", `attachment; filename="event.ics"`)
	return c.Blob(http.StatusOK, "text/calendar; charset=utf-8", file)
}
