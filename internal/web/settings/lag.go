package settings

import (
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/engine"
	"ombak/internal/engine/base"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// lateAfter is how long something may wait for its turn before it is late.
const lateAfter = time.Minute

// lagging is what waits of one kind of work, as the page shows it.
type lagging struct {
	store.Lag
	More   bool   // than are counted
	Behind string // by how much; empty: by nothing
	Late   bool
}

type runsData struct {
	Room    string
	List    []lagging
	Late    int
	Workers []time.Time
	At      time.Time

	Held     engine.FiguresHeld
	Mendings []store.Mending
	Keep     base.Keeping
	Apart    []engine.ApartIn
	Spaces   []string
	Wrong    string
}

// mendingsShown is how many mendings are shown.
const mendingsShown = 20

// runs shows what is done in the background, and how far it is behind.
func (s *Place) runs(c *echo.Context) error {
	return s.showRuns(c, http.StatusOK, runsData{Keep: s.Engine.Workspace().Keep})
}

func (s *Place) showRuns(c *echo.Context, code int, d runsData) error {
	ctx := c.Request().Context()
	d.Room, d.At = "runs", s.Engine.Now()
	list, err := s.Store.Lags(ctx, d.At)
	if err != nil {
		return err
	}
	for _, l := range list {
		x := lagging{Lag: l, More: l.Waiting > store.MostWaiting}
		x.Waiting = min(x.Waiting, store.MostWaiting)
		if l.Since != nil {
			by := max(d.At.Sub(*l.Since), 0)
			if x.Late = by >= lateAfter; x.Late {
				d.Late++
			}
			if x.Behind = shell.Waits(by); by < time.Minute {
				x.Behind = fmt.Sprintf("%d s", int(by.Seconds()))
			}
		}
		d.List = append(d.List, x)
	}
	if d.Workers, err = s.Store.Workers(ctx); err != nil {
		return err
	}
	if d.Held, err = s.Engine.FiguresHeld(ctx); err != nil {
		return err
	}
	if d.Mendings, err = s.Store.Mendings(ctx, mendingsShown); err != nil {
		return err
	}
	if d.Apart, d.Spaces, err = s.Engine.Apart(ctx); err != nil {
		return err
	}
	return s.PageCode(c, code, "runs.html", "runs", "Settings", "Background work", d)
}

// mendFigures has kept figures held against all they are of.
func (s *Place) mendFigures(c *echo.Context) error {
	if err := s.Engine.AskToMend(c.Request().Context()); err != nil {
		return err
	}
	return c.Redirect(http.StatusSeeOther, "/settings/work")
}

// keptFor are the months for which records can be kept, and those for which they are; 0: for ever.
func keptFor(n int) []int {
	out := []int{0, 3, 6, 12, 18, 24, 36, 60, 120}
	if !slices.Contains(out, n) {
		out = append(out, n)
	}
	return out
}

// saveKeeping sets for how long single records are kept.
func (s *Place) saveKeeping(c *echo.Context) error {
	form, err := c.FormValues()
	if err != nil {
		return err
	}
	w := s.Engine.Workspace()
	for name, to := range map[string]*int{"visits": &w.Keep.Visits, "moves": &w.Keep.Moves, "changes": &w.Keep.Changes,
		"browsers": &w.Keep.Browsers} {
		n, err := strconv.Atoi(form.Get(name))
		if err != nil {
			n = -1 // what is no number of months is too few
		}
		*to = n
	}
	if form.Has("apart") { // else there is nowhere they could lie
		n, err := strconv.Atoi(form.Get("apart"))
		if err != nil {
			n = -1
		}
		if w.Keep.Apart, w.Keep.Space = n, form.Get("space"); n == 0 {
			w.Keep.Space = ""
		}
	}
	change, err := s.Engine.ChangeWorkspace(c.Request().Context(), w, shell.UserOf(c).ID)
	if err != nil {
		return s.showRuns(c, http.StatusUnprocessableEntity,
			runsData{Keep: w.Keep, Wrong: shell.Sentence(err) + " Nothing was changed."})
	}
	return s.saved(c, "/settings/work", change)
}
