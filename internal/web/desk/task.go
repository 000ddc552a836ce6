package desk

import (
	"errors"
	"fmt"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/plainly"
	"ombak/internal/engine/base"
	"ombak/internal/web/shell"
)

func (s *Place) finishTask(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	t, err := s.Engine.FinishTask(c.Request().Context(), id, shell.UserOf(c).ID, c.FormValue("notes"))
	if errors.Is(err, base.ErrGone) {
		return s.NotDone(c, "/desk", "This task is no longer on the desk: somebody else has done it.")
	}
	if errors.Is(err, base.ErrNotYours) {
		return shell.NotYours(err)
	}
	if err != nil {
		return err
	}
	s.took(c)
	return s.Done(c, fmt.Sprintf("/desk?undo=task-%d", t.ID), "Done: "+t.Words+".")
}

// reopenTask puts back what was done, or seen, a moment ago.
func (s *Place) reopenTask(c *echo.Context) error {
	ids := numbers(c.FormValue("ids"))
	if err := s.Engine.ReopenTask(c.Request().Context(), ids, shell.UserOf(c).ID); err != nil {
		return err
	}
	return s.Done(c, taskBack(c.FormValue("back")), "It is back.")
}

// seeAlerts takes alerts off the list of whom they tell.
func (s *Place) seeAlerts(c *echo.Context) error {
	seen, err := s.Engine.SeeAlerts(c.Request().Context(), numbers(c.FormValue("ids")), shell.UserOf(c).ID)
	if err != nil {
		return err
	}
	to := taskBack(c.FormValue("back"))
	if len(seen) > 0 {
		to += "?undo=" + strings.Trim(strings.ReplaceAll(fmt.Sprint(seen), " ", ","), "[]")
	}
	return s.Done(c, to, "")
}

// setAlerts keeps how the user takes alerts.
func (s *Place) setAlerts(c *echo.Context) error {
	err := s.Engine.SetAlertsTo(c.Request().Context(), shell.UserOf(c).ID, c.FormValue("when"))
	if _, plain := plainly.Says(err); plain {
		return s.NotDone(c, "/desk", shell.Sentence(err))
	}
	if err != nil {
		return err
	}
	return s.Done(c, "/desk", "Alerts come so from now on.")
}

// numbers reads ids that commas part; what is none is left out.
func numbers(list string) []int64 {
	var out []int64
	for _, x := range strings.Split(list, ",") {
		if n := shell.Number(strings.TrimPrefix(x, "task-")); n > 0 && len(out) < 500 {
			out = append(out, n)
		}
	}
	return out
}

// taskBack is the place that a form about alerts came from.
func taskBack(to string) string {
	if to == "/today" {
		return to
	}
	return "/desk"
}
