package desk

import (
	"errors"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/engine/base"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// itemOf reads which item an address is of.
func itemOf(c *echo.Context) (store.WorkKind, int64, error) {
	of, id, ok := readKey(c.Param("key"))
	if !ok {
		return 0, 0, echo.ErrNotFound
	}
	if shell.UserOf(c).Role == right.Marketer && of != store.TaskWork { // marketers have tasks alone
		return 0, 0, shell.NotYours(base.ErrNotYours)
	}
	return of, id, nil
}

// undone answers why something was not done with an item.
func (s *Place) undone(c *echo.Context, err error) error {
	switch {
	case errors.Is(err, base.ErrGone):
		return s.NotDone(c, backTo(c),
			"This is no longer on the desk: somebody else did it, or the sequence has gone on.")
	case errors.Is(err, base.ErrNotYours):
		return shell.NotYours(err)
	}
	if _, plain := plainly.Says(err); !plain {
		return err
	}
	return s.NotDone(c, backTo(c), shell.Sentence(err))
}

// take takes an item of the pool, so that nobody else does.
func (s *Place) take(c *echo.Context) error {
	of, id, err := itemOf(c)
	if err != nil {
		return err
	}
	if err := s.Engine.Take(c.Request().Context(), of, id, shell.UserOf(c).ID); err != nil {
		return s.undone(c, err)
	}
	to := backTo(c)
	if strings.Contains(to, "?") {
		to += "&item=" + keyOf(of, id)
	} else {
		to += "?item=" + keyOf(of, id)
	}
	return s.Done(c, to, "It is yours for now: nobody else sees it.")
}

// later has an item come up again when the words say.
func (s *Place) later(c *echo.Context) error {
	of, id, err := itemOf(c)
	if err != nil {
		return err
	}
	words := strings.TrimSpace(c.FormValue("when"))
	if words == "" {
		words = "tomorrow"
	}
	until, err := s.Engine.Postpone(c.Request().Context(), of, id, shell.UserOf(c).ID, words)
	if err != nil {
		return s.undone(c, err)
	}
	return s.DoneUndo(c, backTo(c), "It comes up again "+until.In(s.Engine.Zone()).Format("Mon 2 Jan, 15:04")+".",
		"/desk/items/"+keyOf(of, id)+"/now")
}

// comeUp has an item that was put off come up now.
func (s *Place) comeUp(c *echo.Context) error {
	of, id, err := itemOf(c)
	if err != nil {
		return err
	}
	if _, err := s.Engine.Postpone(c.Request().Context(), of, id, shell.UserOf(c).ID, ""); err != nil {
		return s.undone(c, err)
	}
	return s.Done(c, "/desk?item="+keyOf(of, id), "It is up again.")
}

// passOn gives an item to a colleague.
func (s *Place) passOn(c *echo.Context) error {
	of, id, err := itemOf(c)
	if err != nil {
		return err
	}
	err = s.Engine.PassOn(c.Request().Context(), of, id, shell.UserOf(c).ID, shell.Number(c.FormValue("to")),
		strings.TrimSpace(c.FormValue("note")))
	if err != nil {
		return s.undone(c, err)
	}
	return s.DoneUndo(c, backTo(c), "Passed on.", "/desk/items/"+keyOf(of, id)+"/pass/back")
}

func (s *Place) passBack(c *echo.Context) error {
	of, id, err := itemOf(c)
	if err != nil {
		return err
	}
	if err := s.Engine.PassBack(c.Request().Context(), of, id, shell.UserOf(c).ID); err != nil {
		return s.undone(c, err)
	}
	return s.Done(c, "/desk?item="+keyOf(of, id), "It is back on your desk.")
}

// Hour is a mark at the side of the day: the first item of each hour has one.
func (d deskData) Hour(i int, v shell.View) string {
	at := func(i int) time.Time { return d.Day.Items[i].Slot.From.In(v.Zone) }
	now := at(i)
	if i > 0 && at(i-1).Hour() == now.Hour() && at(i-1).YearDay() == now.YearDay() {
		return ""
	}
	if now.YearDay() != v.Now.In(v.Zone).YearDay() && (i == 0 || at(i-1).YearDay() != now.YearDay()) {
		return now.Format("Mon 15:00")
	}
	return now.Format("15:00")
}

// Below reports whether an item is the first of those that cannot be done now.
func (d deskData) Below(i int) bool { return i == d.Day.Able && i > 0 }

// More is how many items there are that are not shown.
func (d deskData) More() int { return d.Day.Total - d.Day.Shown }
