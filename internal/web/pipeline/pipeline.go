package pipeline

import (
	"fmt"
	"math"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/pipeline"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

type stageColumn struct {
	pipeline.Column
	Learned pipeline.Figures
	Now     time.Time
	List    []store.Deal
	Next    int64 // the deal that would follow
	Rest    int   // how many are not shown
	Whole   bool  // all were asked for
}

// Slow reports whether a deal stays longer in its stage than four fifths of those won did.
func (c stageColumn) Slow(d store.Deal) bool {
	return d.Closed == nil && c.Learned.Slow > 0 && c.Now.Sub(d.Moved) > c.Learned.Slow
}

// firstDeals is how many deals of a stage are shown without asking.
const firstDeals = 20

type pipelineData struct {
	Columns  []stageColumn
	Promised int64
	Open     int
	Sells    bool
	Whole    int64 // the stage that is shown as a whole
}

func (s *Place) pipeline(c *echo.Context) error {
	ctx := c.Request().Context()
	figures, err := s.Engine.StageFigures(ctx)
	if err != nil {
		return err
	}
	var stages []pipeline.Stage
	learned := map[int64]pipeline.Figures{}
	for _, f := range figures {
		if !f.Closed() { // what deals have taught, and the admin's figure with it
			f.Share = int(math.Round(f.Chance.Share * 100))
		}
		stages, learned[f.ID] = append(stages, f.Stage), f
	}
	q := store.BoardQuery{ClosedSince: s.Engine.Now().AddDate(0, 0, -30), Each: firstDeals + 1,
		Whole: shell.Number(c.QueryParam("stage"))}
	board, err := s.Store.Board(ctx, q)
	if err != nil {
		return err
	}
	sums, err := s.Store.StageSums(ctx, q.ClosedSince)
	if err != nil {
		return err
	}
	by := map[int64][]store.Deal{}
	for _, x := range board {
		by[x.Stage] = append(by[x.Stage], x)
	}
	d := pipelineData{Sells: (shell.View{User: shell.UserOf(c)}).May(sellers...)}
	d.Whole = q.Whole
	var columns []pipeline.Column
	columns, d.Promised = pipeline.Forecast(stages, sums)
	for _, x := range columns {
		if !x.Stage.Closed() {
			d.Open += x.Deals
		}
		col := stageColumn{Column: x, Learned: learned[x.Stage.ID], Now: s.Engine.Now(), List: by[x.Stage.ID]}
		if n := firstDeals; x.Stage.ID != q.Whole && len(col.List) > n {
			col.Next, col.List = col.List[n].ID, col.List[:n]
		}
		col.Rest = x.Deals - len(col.List)
		col.Whole = x.Stage.ID == q.Whole && x.Deals > firstDeals
		d.Columns = append(d.Columns, col)
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
	return s.Done(c, afterwards(c, id), "Moved.")
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
	return s.Done(c, afterwards(c, id), "Worth "+shell.Money(amount, currency)+" now.")
}

// Routes are those of the place Pipeline.
func (s *Place) Routes(in *echo.Group) {
	sells := shell.Allow(sellers...)
	in.GET("/pipeline", s.pipeline)
	in.GET("/pipeline/handoffs", s.handoffs)
	in.GET("/pipeline/course", s.course)
	in.POST("/pipeline/target", s.saveTarget, shell.Allow(leads...))
	in.GET("/pipeline/:id", s.deal)
	in.POST("/pipeline/:id/plan", s.planDeal, sells)
	in.POST("/pipeline/:id/give", s.giveDeal, sells)
	in.POST("/pipeline/:id/place", s.placeDeal, sells)
	in.POST("/pipeline/:id/move", s.moveDeal, sells)
	in.POST("/pipeline/:id/amount", s.setAmount, sells)
}
