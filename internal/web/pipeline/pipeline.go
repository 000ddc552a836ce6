package pipeline

import (
	"errors"
	"fmt"
	"math"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/pipeline"
	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/engine/base"
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
	pipes
	Columns  []stageColumn
	Promised int64
	Open     int
	Sells    bool
	Whole    int64 // the stage that is shown as a whole
}

func (s *Place) pipeline(c *echo.Context) error {
	ctx := c.Request().Context()
	d := pipelineData{Sells: (shell.View{User: shell.UserOf(c)}).May(sellers...)}
	figures, err := s.Engine.StageFigures(ctx)
	if err != nil {
		return err
	}
	if d.pipes, err = s.pipesOf(c); err != nil {
		return err
	}
	var stages []pipeline.Stage
	learned := map[int64]pipeline.Figures{}
	for _, f := range figures {
		if f.Pipeline != d.Pipe.ID {
			continue
		}
		if !f.Closed() { // what deals have taught, and the admin's figure with it
			f.Share = int(math.Round(f.Chance.Share * 100))
		}
		stages, learned[f.ID] = append(stages, f.Stage), f
	}
	q := store.BoardQuery{Pipeline: d.Pipe.ID, ClosedSince: s.Engine.Now().AddDate(0, 0, -30), Each: firstDeals + 1,
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

// Here is the address of the board as it is shown.
func (d pipelineData) Here() string { return boardAt(d.Pipe.ID, d.Whole) }

// Stage is the address of a stage of which all deals are shown.
func (d pipelineData) Stage(id int64) string { return boardAt(d.Pipe.ID, id) }

// Back is that of the first deals of each stage.
func (d pipelineData) Back() string { return boardAt(d.Pipe.ID, 0) }

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
	return s.changed(c, id, "Moved.", s.Engine.MoveDeal(c.Request().Context(), id, stage, before, shell.UserOf(c).ID))
}

// changed answers a change of a deal: with the page it was made on, and the reason where it was not made.
func (s *Place) changed(c *echo.Context, id int64, done string, err error) error {
	if store.IsNotFound(err) {
		return err
	}
	if _, plain := plainly.Says(err); err != nil && plain && !errors.Is(err, base.ErrNotYours) {
		return s.NotDone(c, afterwards(c, id), shell.Sentence(err))
	}
	if err != nil {
		return shell.NotYours(err)
	}
	if shell.IsHTMX(c) {
		return c.NoContent(http.StatusNoContent)
	}
	return s.Done(c, afterwards(c, id), done)
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
	currency := c.FormValue("currency")
	if currency == "" {
		d, err := s.Store.Deal(c.Request().Context(), id)
		if err != nil {
			return err
		}
		currency = d.Currency
	}
	amount, err := pipeline.ParseAmount(text, currency)
	if err != nil {
		return s.NotDone(c, afterwards(c, id),
			fmt.Sprintf("“%s” could not be read. %s It stays as it was.", text, shell.Sentence(err)))
	}
	return s.changed(c, id, "Worth "+shell.Money(amount, currency)+" now.",
		s.Engine.SetAmount(c.Request().Context(), id, amount, currency, shell.UserOf(c).ID))
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
	in.POST("/pipeline/:id/people", s.addPart, sells)
	in.POST("/pipeline/:id/people/:person", s.setPart, sells)
	in.POST("/pipeline/:id/people/:person/remove", s.removePart, sells)
	in.POST("/pipeline/:id/files", s.addFile, sells)
	in.GET("/pipeline/:id/files/:file", s.file)
	in.POST("/pipeline/:id/files/:file/remove", s.removeFile, sells)
	in.POST("/pipeline/:id/notes", s.addNote, sells)
	in.GET("/pipeline/new", s.newDeal, sells)
	in.POST("/pipeline/new", s.openDeal, sells)
	in.GET("/pipeline/list", s.list)
	in.POST("/pipeline/list/do", s.bulk, sells)
	in.POST("/pipeline/list/:id/undo", s.undoBulk, sells)
	in.POST("/pipeline/list/email", s.emailBehind, shell.Allow(right.Marketer, right.Lead, right.Admin))
	in.POST("/pipeline/list/export", s.export)
	lead := shell.Allow(leads...)
	in.GET("/pipeline/imports", s.imports, lead)
	in.GET("/pipeline/imports/start", s.importsStart, lead)
	in.POST("/pipeline/imports", s.uploadDeals, lead)
	in.GET("/pipeline/imports/:id", s.importDeals, lead)
	in.GET("/pipeline/imports/:id/mend", s.dealsToMend, lead)
	in.POST("/pipeline/imports/:id/take", s.takeDeals, lead)
	in.POST("/pipeline/imports/:id/undo", s.undoDeals, lead)
	in.POST("/pipeline/imports/:id/drop", s.dropDeals, lead)
}
