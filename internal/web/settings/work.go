package settings

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/calendar"
	"ombak/internal/core/desk"
	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/engine/base"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// workData is when somebody works.
type workData struct {
	U     store.User
	W     desk.Worker
	H     calendar.SendingHours // theirs, or the workspace's
	May   bool
	Wrong string
	Away  string // as it was typed, or is kept
	Zones []string
}

// Kinds are those of which somebody can say how many they do on a day.
func (workData) Kinds() []desk.Kind {
	return []desk.Kind{desk.Call, desk.Social, desk.Task, desk.Answer, desk.Handoff}
}

// Most is how many of a kind they do on a day; 0: as it comes.
func (d workData) Most(k desk.Kind) int { return d.W.Most[k] }

// Times says a kind, of several.
func (workData) Times(k desk.Kind) string {
	if k == desk.Social {
		return "social touches"
	}
	return string(k) + "s"
}

func (s *Place) work(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	u, err := s.Store.User(c.Request().Context(), id)
	if err != nil {
		return err
	}
	return s.showWork(c, http.StatusOK, workData{U: u, W: u.Work.V, Away: calendar.Dates(u.Work.V.Away)})
}

func (s *Place) showWork(c *echo.Context, code int, d workData) error {
	me := shell.UserOf(c)
	d.May = me.ID == d.U.ID || me.Role == right.Lead || me.Role == right.Admin
	space := s.Engine.Workspace()
	if d.H = calendar.OfficeHours(space.From, space.To); d.W.Hours != nil {
		d.H = *d.W.Hours
	}
	d.Zones = calendar.ZoneNames()
	return s.PageCode(c, code, "workhours.html", "", "Settings", "When "+d.U.Name+" works", d)
}

// saveWork keeps when somebody works, and how much of a day.
func (s *Place) saveWork(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	u, err := s.Store.User(c.Request().Context(), id)
	if err != nil {
		return err
	}
	form, err := c.FormValues()
	if err != nil {
		return err
	}
	w, err := readWork(form)
	change := int64(0)
	if err == nil {
		change, err = s.Engine.SetWork(c.Request().Context(), id, w, shell.UserOf(c).ID)
	}
	if errors.Is(err, base.ErrNotYours) {
		return shell.NotYours(err)
	}
	if _, plain := plainly.Says(err); plain {
		return s.showWork(c, http.StatusUnprocessableEntity, workData{U: u, W: w, Away: form.Get("away"),
			Wrong: shell.Sentence(err) + " Nothing was changed."})
	}
	if err != nil {
		return err
	}
	to := fmt.Sprintf("/settings/people/%d/hours", id)
	return s.saved(c, to, change)
}

func readWork(form url.Values) (w desk.Worker, err error) {
	w.Zone = form.Get("zone")
	if form.Get("whose") == "own" {
		h := calendar.SendingHours{}
		for d := range h.Days {
			if h.Days[d], err = calendar.ParseIntervals(form.Get("hours." + strconv.Itoa(d))); err != nil {
				return w, err
			}
		}
		w.Hours = &h
	}
	if w.Away, err = calendar.ParseDates(form.Get("away")); err != nil {
		return w, err
	}
	for _, k := range (workData{}).Kinds() {
		text := strings.TrimSpace(form.Get("most." + string(k)))
		n, err := strconv.Atoi(text)
		if text != "" && err != nil {
			return w, plainly.New("say in figures how many on a day")
		}
		if n != 0 {
			if w.Most == nil {
				w.Most = map[desk.Kind]int{}
			}
			w.Most[k] = n
		}
	}
	return w, nil
}
