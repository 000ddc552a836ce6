package scoring

import (
	"errors"
	"net/http"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/score"
	"ombak/internal/web/shell"
)

// file answers what is being changed as a file.
func (s *Place) file(c *echo.Context) error {
	m, cat, _, err := s.modelAndCatalogue(c)
	if err != nil {
		return err
	}
	is := changing(&m)
	is.Zone = s.Engine.Zone()
	h := c.Response().Header()
	h.Set("Content-Type", "application/json")
	h.Set("Content-Disposition", `attachment; filename="score-model.json"`)
	return score.NewFile(is.Clone(), cat).Write(c.Response())
}

// bringFile makes a draft of a file.
func (s *Place) bringFile(c *echo.Context) error {
	back := to(c, "/scoring/versions")
	head, err := c.FormFile("file")
	if errors.Is(err, http.ErrMissingFile) || errors.Is(err, http.ErrNotMultipart) {
		return s.NotDone(c, back, "Choose the file of a score model first.")
	}
	if err != nil {
		return echo.ErrBadRequest.Wrap(err)
	}
	file, err := head.Open()
	if err != nil {
		return err
	}
	defer file.Close()
	f, err := score.ReadFile(file)
	if err != nil {
		return s.orSaid(c, back, err)
	}
	m, cat, _, err := s.modelAndCatalogue(c)
	if err != nil {
		return err
	}
	is, err := f.In(cat)
	if err == nil {
		err = s.Engine.KeepDraft(c.Request().Context(), modelOf(c), is, since(c), shell.UserOf(c).ID)
	}
	if err != nil {
		return s.orSaid(c, back, err)
	}
	return s.keptDraft(c, to(c, "/scoring"), m.ID == 0)
}
