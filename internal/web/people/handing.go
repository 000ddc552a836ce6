package people

import (
	"errors"
	"fmt"
	"net/http"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/handoff"
	"ombak/internal/core/plainly"
	"ombak/internal/engine/sales"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// getsData is who would get somebody, and why.
type getsData struct {
	P    store.Person
	D    handoff.Decision
	Name string
}

// whoGets tells who would get somebody who was handed over now. Nothing comes of it.
func (s *Place) whoGets(c *echo.Context) error {
	ctx := c.Request().Context()
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	var d getsData
	if d.P, err = s.Store.Person(ctx, id); err != nil {
		return err
	}
	if d.D, d.Name, err = s.Engine.WhoWouldGet(ctx, id); err != nil {
		return err
	}
	return s.PageCode(c, http.StatusOK, "gets.html", "gets", "People", "Who would get them", d)
}

// askFor has a rep ask for somebody.
func (s *Place) askFor(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	to := fmt.Sprintf("/people/%d", id)
	err = s.Engine.AskForThem(c.Request().Context(), id, shell.UserOf(c).ID)
	if errors.Is(err, sales.ErrTheirs) {
		return s.Done(c, to, shell.Sentence(err))
	}
	if _, plain := plainly.Says(err); err != nil && plain {
		return s.NotDone(c, to, shell.Sentence(err))
	}
	if err != nil {
		return err
	}
	return s.Done(c, fmt.Sprintf("/desk?kind=%s", "handoff"), "They are on your desk.")
}
