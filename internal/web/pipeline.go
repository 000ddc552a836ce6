package web

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/pipeline"
	"ombak/internal/store"
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

func (s *Server) pipeline(c *echo.Context) error {
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
	d := pipelineData{Sells: (View{User: userOf(c)}).May("rep", "lead", "admin")}
	var columns []pipeline.Column
	columns, d.Promised = pipeline.Forecast(stages, deals)
	for _, x := range columns {
		if !x.Stage.Closed() {
			d.Open += x.Deals
		}
		d.Columns = append(d.Columns, stageColumn{x, by[x.Stage.ID]})
	}
	return s.page(c, "pipeline.html", "board", "Pipeline", "Pipeline", d)
}

func (s *Server) moveDeal(c *echo.Context) error {
	id, err := idOf(c, "id")
	if err != nil {
		return err
	}
	stage, err := strconv.ParseInt(c.FormValue("stage"), 10, 64)
	if err != nil {
		return echo.ErrBadRequest
	}
	before, _ := strconv.ParseInt(c.FormValue("before"), 10, 64) // none: at the end
	if err := s.Engine.MoveDeal(c.Request().Context(), id, stage, before, userOf(c).ID); err != nil {
		return notYours(err)
	}
	if isHTMX(c) {
		return c.NoContent(http.StatusNoContent)
	}
	return s.done(c, "/pipeline", "Moved.")
}

func (s *Server) setAmount(c *echo.Context) error {
	id, err := idOf(c, "id")
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
		return s.notDone(c, "/pipeline", fmt.Sprintf("“%s” could not be read. %s It stays as it was.", text, sentence(err)))
	}
	if err := s.Engine.SetAmount(c.Request().Context(), id, amount, userOf(c).ID); err != nil {
		return notYours(err)
	}
	return s.done(c, "/pipeline", "Worth "+money(amount, currency)+" now.")
}

// pipelineRoutes are those of the place Pipeline.
func (s *Server) pipelineRoutes(in *echo.Group) {
	sells := allow("rep", "lead", "admin")
	in.GET("/pipeline", s.pipeline)
	in.POST("/pipeline/:id/move", s.moveDeal, sells)
	in.POST("/pipeline/:id/amount", s.setAmount, sells)
}
