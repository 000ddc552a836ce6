package sequences

import (
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/sequence"
	"ombak/internal/web/shell"
)

// sequenceFile answers the draft of a sequence as a file.
func (s *Place) sequenceFile(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	f, err := s.Engine.SequenceFile(c.Request().Context(), id)
	if err != nil {
		return err
	}
	h := c.Response().Header()
	h.Set("Content-Type", "application/json")
	h.Set("Content-Disposition", fmt.Sprintf(`attachment; filename="sequence-%d.json"`, id))
	return f.Write(c.Response())
}

// bringSequence makes a draft of a file.
func (s *Place) bringSequence(c *echo.Context) error {
	const back = "/sequences?new=1"
	head, err := c.FormFile("file")
	if errors.Is(err, http.ErrMissingFile) || errors.Is(err, http.ErrNotMultipart) {
		return s.NotDone(c, back, "Choose the file of a sequence first.")
	}
	if err != nil {
		return echo.ErrBadRequest.Wrap(err)
	}
	file, err := head.Open()
	if err != nil {
		return err
	}
	defer file.Close()
	f, err := sequence.ReadFile(file)
	if err != nil {
		return s.NotDone(c, back, shell.Sentence(err))
	}
	id, unknown, err := s.Engine.BringSequence(c.Request().Context(), f)
	if err != nil {
		return s.NotDone(c, back, shell.Sentence(err))
	}
	note := "Imported, as a draft."
	if len(unknown) > 0 {
		note += " Not found here, and to be chosen: " + strings.Join(unknown, ", ") + "."
	}
	return s.Done(c, fmt.Sprintf("/sequences/%d?view=draft", id), note)
}
