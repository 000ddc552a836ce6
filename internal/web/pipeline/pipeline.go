package pipeline

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/pipeline"
	"ombak/internal/core/right"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

type stageColumn struct {
	pipeline.Column
	List []store.Deal
}

type pipelineData struct {
	Columns  []stageColumn
	Promised int64
	Open     int
	Sells    bool
}

func (s *Place) pipeline(c *echo.Context) error {
	ctx := c.Request().Context()
	stages, err := s.Store.Stages(ctx)
	if err != nil {
		return err
	}
	board, err := s.Store.Board(ctx, s.Engine.Now().AddDate(0, 0, -30))
	if err != nil {
		return err
	}
	var deals []pipeline.Deal
	by := map[int64][]store.Deal{}
	for _, x := range board {
		deals = append(deals, pipeline.Deal{Stage: x.Stage, Amount: x.Amount})
		by[x.Stage] = append(by[x.Stage], x)
	}
	d := pipelineData{Sells: (shell.View{User: shell.UserOf(c)}).May(right.Rep, right.Lead, right.Admin)}
	var columns []pipeline.Column
	columns, d.Promised = pipeline.Forecast(stages, deals)
	for _, x := range columns {
		if !x.Stage.Closed() {
			d.Open += x.Deals
		}
		d.Columns = append(d.Columns, stageColumn{x, by[x.Stage.ID]})
	}
	return s.Page(c, "pipeline.html", "board", "Pipeline", "Pipeline", d)
}

func (s *Place) moveDeal(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	stage, err := strconv.ParseInt(c.FormValue("stage"), 10, 64)
	if err != nil {
		return echo.ErrBadRequest
	}
	before, _ := strconv.ParseInt(c.FormValue("before"), 10, 64) // none: at the end
	if err := s.Engine.MoveDeal(c.Request().Context(), id, stage, before, shell.UserOf(c).ID); err != nil {
		return shell.NotYours(err)
	}
	if shell.IsHTMX(c) {
		return c.NoContent(http.StatusNoContent)
	}
	return s.Done(c, "/pipeline", "Moved.")
}

func (s *Place) setAmount(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	text := strings.TrimSpace(c.FormValue("amount"))
	if text == "" {
		text = "0"
	}
	currency := s.Engine.Workspace().Currency
	amount, err := pipeline.ParseAmount(text, currency)
	if err != nil {
		return s.NotDone(c, "/pipeline",
			fmt.Sprintf("“%s” could not be read. %s It stays as it was.", text, shell.Sentence(err)))
	}
	if err := s.Engine.SetAmount(c.Request().Context(), id, amount, shell.UserOf(c).ID); err != nil {
		return shell.NotYours(err)
	}
	return s.Done(c, "/pipeline", "Worth "+shell.Money(amount, currency)+" now.")
}

// Routes are those of the place Pipeline.
func (s *Place) Routes(in *echo.Group) {
	sells := shell.Allow(right.Rep, right.Lead, right.Admin)
	in.GET("/pipeline", s.pipeline)
	in.POST("/pipeline/:id/move", s.moveDeal, sells)
	in.POST("/pipeline/:id/amount", s.setAmount, sells)
}
