package settings

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/calendar"
	"ombak/internal/core/plainly"
	"ombak/internal/mail"
	"ombak/internal/web/shell"
)

func (s *Place) holidays(c *echo.Context) error {
	return s.showHolidays(c, http.StatusOK, settingsData{Country: c.QueryParam("country")})
}

func (s *Place) showHolidays(c *echo.Context, code int, d settingsData) error {
	ctx := c.Request().Context()
	d.Room = "holidays"
	var err error
	if d.Countries, err = s.Store.HolidayCountries(ctx); err != nil {
		return err
	}
	if d.W = s.Engine.Workspace(); d.Country == "" {
		d.Country = d.W.Country
	}
	if d.Country == "" && len(d.Countries) > 0 {
		d.Country = d.Countries[0].Country
	}
	if d.Country != "" {
		if d.Holidays, err = s.Store.HolidaysOf(ctx, d.Country); err != nil {
			return err
		}
	}
	return s.settings(c, code, d)
}

// addHolidays adds what a calendar file has, or dates that were typed, to a country's.
func (s *Place) addHolidays(c *echo.Context) error {
	country, typed := c.FormValue("country"), c.FormValue("dates")
	wrong := func(err error) error {
		return s.showHolidays(c, http.StatusUnprocessableEntity,
			settingsData{Country: country, Typed: typed, Wrong: shell.Sentence(err) + " Nothing was changed."})
	}
	var list []calendar.Holiday
	if file, err := c.FormFile("file"); err == nil && file.Size > 0 {
		if file.Size > mail.MaxCalendar {
			return wrong(plainly.New("a calendar file has at most 2 MB"))
		}
		body, err := file.Open()
		if err != nil {
			return err
		}
		defer body.Close()
		if list, err = s.Engine.ReadHolidays(body); err != nil {
			return wrong(err)
		}
	} else if err != nil && strings.HasPrefix(c.Request().Header.Get(echo.HeaderContentType), "multipart/") &&
		!errors.Is(err, http.ErrMissingFile) {
		return err
	}
	dates, err := calendar.ParseDates(typed)
	if err != nil {
		return wrong(err)
	}
	for _, d := range dates {
		list = append(list, calendar.Holiday{Date: d, Name: c.FormValue("name")})
	}
	if len(list) == 0 {
		return wrong(plainly.New("write a date, or choose a calendar file"))
	}
	change, err := s.Engine.AddHolidays(c.Request().Context(), country, list, shell.UserOf(c).ID)
	if _, plain := plainly.Says(err); plain {
		return wrong(err)
	}
	if err != nil {
		return err
	}
	return s.saved(c, "/settings/holidays?country="+url.QueryEscape(country), change)
}

// removeHoliday takes one date away, or all of a country.
func (s *Place) removeHoliday(c *echo.Context) error {
	country := c.FormValue("country")
	var day calendar.Date
	if text := strings.TrimSpace(c.FormValue("day")); text != "" {
		list, err := calendar.ParseDates(text)
		if err != nil || len(list) != 1 {
			return echo.ErrBadRequest
		}
		day = list[0]
	}
	change, err := s.Engine.RemoveHoliday(c.Request().Context(), country, day, shell.UserOf(c).ID)
	if err != nil {
		return s.NotDone(c, "/settings/holidays", shell.Sentence(err))
	}
	return s.saved(c, "/settings/holidays?country="+url.QueryEscape(country), change)
}

func (s *Place) hours(c *echo.Context) error {
	return s.showHours(c, http.StatusOK, settingsData{W: s.Engine.Workspace()})
}

func (s *Place) showHours(c *echo.Context, code int, d settingsData) error {
	d.Room = "hours"
	d.Calling = d.W.CallingHours()
	if d.Sending = calendar.OfficeHours(d.W.From, d.W.To); d.W.Sending != nil {
		d.Sending = *d.W.Sending
	}
	return s.settings(c, code, d)
}

// DaysOff says the days off of hours.
func (d settingsData) DaysOff(h calendar.SendingHours) string { return calendar.Dates(h.Off) }

// saveHours keeps when people are called and written to, and how long they are left in peace.
func (s *Place) saveHours(c *echo.Context) error {
	w := s.Engine.Workspace()
	form, err := c.FormValues()
	if err != nil {
		return err
	}
	calling, sending := w.CallingHours(), calendar.OfficeHours(w.From, w.To)
	if w.Sending != nil {
		sending = *w.Sending
	}
	var err1, err2 error
	w.Calling, err1 = shell.ReadHours(form, "calling", &calling)
	w.Sending, err2 = shell.ReadHours(form, "sending", &sending)
	w.Rest.Days, w.Rest.Any = int(shell.Number(form.Get("rest"))), form.Get("rest-of") == "touch"
	w.NoHold = form.Get("hold") == ""
	w.AnswerIn, w.PoolFor = int(shell.Number(form.Get("answer"))), int(shell.Number(form.Get("pool")))
	change := int64(0)
	if err = errors.Join(err1, err2); err == nil && strings.HasPrefix(form.Get("do"), "hours ") {
		return s.showHours(c, http.StatusOK, settingsData{W: w}) // a day's hours for the others: shown, not kept
	}
	if err == nil {
		change, err = s.Engine.ChangeWorkspace(c.Request().Context(), w, shell.UserOf(c).ID)
	}
	if err != nil {
		return s.showHours(c, http.StatusUnprocessableEntity,
			settingsData{W: w, Wrong: fmt.Sprint(shell.Sentence(err), " Nothing was changed.")})
	}
	return s.saved(c, "/settings/hours", change)
}
