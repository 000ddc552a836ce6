package settings

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/calendar"
	"ombak/internal/core/pipeline"
	"ombak/internal/core/plainly"
	"ombak/internal/roster"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// StagesOf lists the stages of a pipeline.
func (d settingsData) StagesOf(pipe int64) (out []pipeline.Stage) {
	for _, st := range d.Stages {
		if st.Pipeline == pipe {
			out = append(out, st)
		}
	}
	return out
}

func (s *Place) savePipeline(c *echo.Context) error {
	p := pipeline.Pipeline{Name: c.FormValue("name"), Team: max(shell.Number(c.FormValue("team")), 0)}
	if c.Param("id") != "" {
		id, err := shell.IDOf(c, "id")
		if err != nil {
			return err
		}
		p.ID = id
	}
	if p.Team != 0 {
		teams, err := s.Store.Teams(c.Request().Context())
		if err != nil {
			return err
		}
		if !slices.ContainsFunc(teams, func(t store.Team) bool { return t.ID == p.Team }) {
			return echo.ErrBadRequest
		}
	}
	change, _, err := s.Engine.KeepPipeline(c.Request().Context(), p, shell.UserOf(c).ID)
	if store.IsNotFound(err) {
		return err
	}
	if err != nil {
		return s.showStages(c, http.StatusUnprocessableEntity, shell.Sentence(err))
	}
	return s.saved(c, "/settings/stages", change)
}

func (s *Place) removePipeline(c *echo.Context) error { return s.removeOf(c, s.Engine.RemovePipeline) }

// removeOf removes a stage or a pipeline.
func (s *Place) removeOf(c *echo.Context, remove func(ctx context.Context, id, user int64) (int64, error)) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	change, err := remove(c.Request().Context(), id, shell.UserOf(c).ID)
	if err != nil {
		return s.NotDone(c, "/settings/stages", shell.Sentence(err))
	}
	return s.saved(c, "/settings/stages", change)
}

func (s *Place) rates(c *echo.Context) error {
	return s.showRates(c, http.StatusOK, settingsData{})
}

func (s *Place) showRates(c *echo.Context, code int, d settingsData) (err error) {
	ctx := c.Request().Context()
	d.Room, d.Today = "rates", calendar.DateOf(s.Engine.Now(), s.Engine.Zone()).String()
	if d.Rates, err = s.Store.Rates(ctx, s.Engine.Workspace().Currency); err != nil {
		return err
	}
	if d.Money, err = s.Store.DealCurrencies(ctx); err != nil {
		return err
	}
	return s.settings(c, code, d)
}

// rateOf reads a rate as it was typed.
func rateOf(currency, day, value string) (pipeline.Rate, error) {
	t, err := time.Parse(time.DateOnly, strings.TrimSpace(day))
	if err != nil {
		return pipeline.Rate{}, plainly.Errorf("“%s” is no day, such as 2026-04-14", day)
	}
	return pipeline.Rate{Currency: currency, Day: calendar.DateOf(t, time.UTC), Value: value}, nil
}

func (s *Place) saveRate(c *echo.Context) error {
	typed := [3]string{c.FormValue("rate_currency"), c.FormValue("day"), c.FormValue("value")}
	r, err := rateOf(typed[0], typed[1], typed[2])
	if err == nil && strings.TrimSpace(r.Value) == "" {
		err = plainly.New("a rate is a number above zero, such as 0.0865")
	}
	change := int64(0)
	if err == nil {
		change, err = s.Engine.SetRate(c.Request().Context(), r, shell.UserOf(c).ID)
	}
	if err != nil {
		return s.showRates(c, http.StatusUnprocessableEntity, settingsData{Wrong: shell.Sentence(err), Values: typed})
	}
	return s.saved(c, "/settings/rates", change)
}

func (s *Place) removeRate(c *echo.Context) error {
	r, err := rateOf(c.FormValue("rate_currency"), c.FormValue("day"), "")
	change := int64(0)
	if err == nil {
		change, err = s.Engine.SetRate(c.Request().Context(), r, shell.UserOf(c).ID)
	}
	if err != nil {
		return s.NotDone(c, "/settings/rates", shell.Sentence(err))
	}
	return s.saved(c, "/settings/rates", change)
}

// rateFile takes in a table of rates: currency, day and rate in each row.
func (s *Place) rateFile(c *echo.Context) error {
	wrong := func(err error) error {
		return s.showRates(c, http.StatusUnprocessableEntity, settingsData{Wrong: shell.Sentence(err)})
	}
	data, _, err := shell.Uploaded(c, "file", 2<<20)
	if err == nil && data == nil {
		err = plainly.New("choose a file first")
	}
	if err != nil {
		return wrong(err)
	}
	list, err := ratesIn(strings.NewReader(string(data)))
	if err != nil {
		return wrong(err)
	}
	n, err := s.Engine.SetRates(c.Request().Context(), list)
	if err != nil {
		return wrong(err)
	}
	return s.Done(c, "/settings/rates", fmt.Sprintf("%s rates kept.", shell.Thousands(n)))
}

// ratesIn reads a table of rates.
func ratesIn(in io.Reader) (list []pipeline.Rate, err error) {
	r, err := roster.Open(in, roster.Options{})
	if err != nil {
		return nil, err
	}
	defer r.Close()
	at := map[string]int{}
	for i, h := range r.Head() {
		at[strings.ToLower(strings.TrimSpace(h))] = i
	}
	for _, need := range []string{"currency", "day", "rate"} {
		if _, ok := at[need]; !ok {
			return nil, plainly.Errorf("the table has no column “%s”: it has currency, day and rate", need)
		}
	}
	for {
		row, err := r.Next()
		if errors.Is(err, io.EOF) {
			return list, nil
		}
		if err != nil {
			return nil, err
		}
		cell := func(name string) string {
			if i := at[name]; i < len(row.Cells) {
				return row.Cells[i]
			}
			return ""
		}
		x, err := rateOf(cell("currency"), roster.SheetDate(cell("day")), cell("rate"))
		if err != nil {
			return nil, plainly.Errorf("line %d: %s", row.Line, err)
		}
		if list = append(list, x); len(list) > pipeline.MaxRates {
			return nil, plainly.Errorf("at most %d rates are kept", pipeline.MaxRates)
		}
	}
}
