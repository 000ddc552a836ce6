package pipeline

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/person"
	"ombak/internal/core/pipeline"
	"ombak/internal/core/plainly"
	"ombak/internal/engine/sales"
	"ombak/internal/roster"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// importsData is the files of deals.
type importsData struct {
	List   []store.DealImport
	Stages []pipeline.Stage
	Wrong  string
}

// shownRows is how many rows of a file a page shows, and problems.
const shownRows = 50

func (s *Place) imports(c *echo.Context) error { return s.showImports(c, http.StatusOK, "") }

func (s *Place) showImports(c *echo.Context, code int, wrong string) (err error) {
	ctx := c.Request().Context()
	d := importsData{Wrong: wrong}
	if d.List, err = s.Store.DealImports(ctx, 100); err != nil {
		return err
	}
	if d.Stages, err = s.Store.Stages(ctx); err != nil {
		return err
	}
	return s.PageCode(c, code, "dealimports.html", "", "Pipeline", "Import deals", d)
}

// importsStart is a file of deals with a head and no rows.
func (s *Place) importsStart(c *echo.Context) error {
	stages, err := s.Store.Stages(c.Request().Context())
	if err != nil {
		return err
	}
	head := []string{"person", "name", "pipeline", "stage", "amount", "currency", "rep", "opened", "closed", "expected",
		"next", "next on", "reason", "campaign"}
	for _, st := range stages {
		if !st.Closed() {
			head = append(head, st.Name)
		}
	}
	if err := s.Attach(c, roster.CSV, "deals-to-fill-in"); err != nil {
		return err
	}
	out := roster.NewCSV(c.Response())
	return errors.Join(out.Head(head), out.Close())
}

// uploadDeals checks a file of deals.
func (s *Place) uploadDeals(c *echo.Context) error {
	wrong := func(words string) error {
		return s.showImports(c, http.StatusUnprocessableEntity, words+" Nothing was kept.")
	}
	data, name, err := shell.Uploaded(c, "file", sales.MaxDealFile)
	if _, plain := plainly.Says(err); plain {
		return wrong(shell.Sentence(err))
	}
	if err != nil {
		return err
	}
	if data == nil {
		return wrong("Choose a file first.")
	}
	id, err := s.Engine.CheckDeals(c.Request().Context(), person.Name(name), data, shell.UserOf(c).ID)
	if says, plain := plainly.Says(err); plain {
		return wrong("“" + name + "” cannot be taken: " + says + ".")
	}
	if err != nil {
		return err
	}
	return c.Redirect(http.StatusSeeOther, fmt.Sprintf("/pipeline/imports/%d", id))
}

// importData is a file of deals: what would become of its rows, or did.
type importData struct {
	pipes
	I     store.DealImport
	Rows  []importRow
	Wrong []store.DealProblem
	More  int // rows that are not shown
	Left  int // problems that are not shown
	Does  int // rows that would do something
}

type importRow struct {
	store.DealRow
	Stage string
	Pipe  string
	Was   *dealWas // of a deal that it changes, as it stands now; nil: it opens one, or all is done
}

// dealWas is what would be another, as it is now; what stays is empty.
type dealWas struct{ Name, Stage, Money, Rep, Expected, Next, NextOn string }

// wasOf says what a row would change of a deal.
func wasOf(r *store.DealRow, f *store.DealFacts, stages, reps map[int64]string) *dealWas {
	w := &dealWas{}
	other := func(into *string, changes bool, was string) {
		if *into = was; !changes {
			*into = ""
		} else if was == "" {
			*into = "nothing"
		}
	}
	day := func(d pipeline.Day) string {
		if d.IsZero() {
			return ""
		}
		return d.String()
	}
	other(&w.Name, r.Name != "" && r.Name != f.Name, f.Name)
	other(&w.Stage, r.Stage != 0 && r.Stage != f.Stage, stages[f.Stage])
	other(&w.Money, r.Amount != nil && (*r.Amount != f.Amount || r.Currency != f.Currency),
		pipeline.Money(f.Amount, f.Currency))
	other(&w.Rep, r.Owner != 0 && max(r.Owner, 0) != f.Rep, reps[f.Rep])
	other(&w.Expected, !r.Expected.IsZero() && r.Expected != f.Expected, day(f.Expected))
	other(&w.Next, r.Next != "" && r.Next != f.Next, f.Next)
	other(&w.NextOn, !r.NextOn.IsZero() && r.NextOn != f.NextOn, day(f.NextOn))
	return w
}

// Money is the amount of the row; empty: it has none.
func (r importRow) Money() string {
	if r.Amount == nil {
		return ""
	}
	return pipeline.Money(*r.Amount, r.Currency)
}

func (s *Place) importDeals(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	ctx := c.Request().Context()
	var d importData
	if d.I, err = s.Store.DealImport(ctx, id); err != nil {
		return err
	}
	if d.pipes.List, err = s.Store.Pipelines(ctx); err != nil {
		return err
	}
	stages, err := s.Store.Stages(ctx)
	if err != nil {
		return err
	}
	name, of := map[int64]string{}, map[int64]int64{}
	for _, st := range stages {
		name[st.ID], of[st.ID] = st.Name, st.Pipeline
	}
	pipe := map[int64]string{}
	for _, p := range d.pipes.List {
		pipe[p.ID] = p.Name
	}
	rows, wrong := d.I.Rows.V, d.I.Problems.V
	d.Does = len(rows)
	d.More, d.Left = max(len(rows)-shownRows, 0), max(len(wrong)-shownRows, 0)
	rows = rows[:len(rows)-d.More]
	was, err := s.wereSo(ctx, &d.I, rows, name)
	if err != nil {
		return err
	}
	for _, r := range rows {
		d.Rows = append(d.Rows, importRow{DealRow: r, Stage: name[r.Stage], Pipe: pipe[of[r.Stage]], Was: was[r.Deal]})
	}
	d.Wrong = wrong[:len(wrong)-d.Left]
	return s.Page(c, "dealimport.html", "", "Pipeline", "Import: "+d.I.File, d)
}

// wereSo says what rows of a file that was not imported yet would change of their deals.
func (s *Place) wereSo(
	ctx context.Context, i *store.DealImport, rows []store.DealRow, stages map[int64]string,
) (map[int64]*dealWas, error) {
	if i.State != "checked" {
		return nil, nil
	}
	by, ids := map[int64]*store.DealRow{}, []int64(nil)
	for n := range rows {
		if r := &rows[n]; r.Deal != 0 {
			by[r.Deal], ids = r, append(ids, r.Deal)
		}
	}
	facts, err := s.Store.DealsAsFacts(ctx, ids)
	if err != nil {
		return nil, err
	}
	users, err := s.Store.Users(ctx)
	if err != nil {
		return nil, err
	}
	reps := map[int64]string{}
	for _, u := range users {
		reps[u.ID] = u.Name
	}
	out := map[int64]*dealWas{}
	for n := range facts {
		out[facts[n].ID] = wasOf(by[facts[n].ID], &facts[n], stages, reps)
	}
	return out, nil
}

// takeDeals imports what a checked file says.
func (s *Place) takeDeals(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	at := fmt.Sprintf("/pipeline/imports/%d", id)
	n, err := s.Engine.ImportDeals(c.Request().Context(), id, shell.UserOf(c).ID)
	if err != nil {
		return s.refused(c, at, err)
	}
	words := fmt.Sprintf("%s opened, %s changed.", shell.Thousands(n.Opened), shell.Thousands(n.Changed))
	if n.Since > 0 {
		words += fmt.Sprintf(" %s had changed since the file was checked, and stay.", shell.Thousands(n.Since))
	}
	return s.DoneUndo(c, at, words, at+"/undo")
}

// undoDeals takes a file of deals back.
func (s *Place) undoDeals(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	at := fmt.Sprintf("/pipeline/imports/%d", id)
	back, since, err := s.Engine.UndoDealImport(c.Request().Context(), id, shell.UserOf(c).ID)
	if err != nil {
		return s.refused(c, at, err)
	}
	words := fmt.Sprintf("%s taken back.", shell.Thousands(back))
	if since > 0 {
		words += fmt.Sprintf(" %s have changed since, and stay.", shell.Thousands(since))
	}
	return s.Done(c, at, words)
}

// dropDeals drops a file of which nothing was taken.
func (s *Place) dropDeals(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	if err := s.Engine.DropDealImport(c.Request().Context(), id, shell.UserOf(c).ID); err != nil {
		return err
	}
	return s.Done(c, "/pipeline/imports", "The file is gone; nothing was imported.")
}

// dealsToMend is a file of the rows that were not taken.
func (s *Place) dealsToMend(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	if _, err := s.Store.DealImport(c.Request().Context(), id); err != nil {
		return err
	}
	if err := s.Attach(c, roster.CSV, s.FileName("deals-to-mend")); err != nil {
		return err
	}
	return s.Engine.DealsToMend(c.Request().Context(), id, c.Response())
}
