package sequences

import (
	"encoding/csv"
	"fmt"
	"net/http"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/sequence"
	"ombak/internal/engine/post"
	"ombak/internal/roster"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// cardStep is a step whose cards wait for the printer.
type cardStep struct {
	store.CardStep
	Title string
}

// printer lists the steps whose cards wait to be printed and sent.
func (s *Place) printer(c *echo.Context) error {
	ctx := c.Request().Context()
	list, err := s.Store.CardSteps(ctx)
	if err != nil {
		return err
	}
	var versions []int64
	for _, x := range list {
		versions = append(versions, x.Version)
	}
	plans, err := s.Store.Versions(ctx, versions)
	if err != nil {
		return err
	}
	out := make([]cardStep, len(list))
	for i, x := range list {
		out[i] = cardStep{x, "a step"}
		for _, v := range plans {
			if step := v.Plan.V.Step(sequence.StepID(x.Step)); v.ID == x.Version && step != nil {
				out[i].Title = step.About().Title
			}
		}
	}
	return s.Page(c, "printer.html", "", "Sequences", "Printer’s list", out)
}

// cards is a list of cards that wait, and of which step.
type cards struct {
	Q     store.Sequence
	Step  sequence.StepID
	Ready []post.Card
	Not   []post.Card // with why
}

func (s *Place) readCards(c *echo.Context) (d cards, err error) {
	ctx := c.Request().Context()
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return d, err
	}
	if d.Q, err = s.Store.Sequence(ctx, id); err != nil {
		return d, err
	}
	d.Step = sequence.StepID(shell.Number(c.Param("step")))
	list, err := s.Engine.Cards(ctx, id, d.Step)
	for _, x := range list {
		if x.Trouble != "" {
			d.Not = append(d.Not, x)
		} else {
			d.Ready = append(d.Ready, x)
		}
	}
	return d, err
}

// cardsOf shows the cards of a step that wait.
func (s *Place) cardsOf(c *echo.Context) error {
	d, err := s.readCards(c)
	if err != nil {
		return err
	}
	return s.Page(c, "cards.html", "", "Sequences", "Cards of "+d.Q.Name, d)
}

// cardsFile hands the cards out as CSV (RFC 4180), for the printer.
func (s *Place) cardsFile(c *echo.Context) error {
	d, err := s.readCards(c)
	if err != nil {
		return err
	}
	var b strings.Builder
	w := csv.NewWriter(&b)
	w.UseCRLF = true
	rows := [][]string{{"card", "first name", "last name", "company", "street", "postcode", "city", "region", "country",
		"words"}}
	for _, x := range d.Ready {
		rows = append(rows, []string{fmt.Sprint(x.Touch), x.First, x.Last, x.Company, x.Street, x.Postcode, x.City,
			x.Region, x.Country, x.Words})
	}
	for _, r := range rows {
		for i := range r {
			r[i] = roster.Guard(r[i])
		}
	}
	if err := w.WriteAll(rows); err != nil {
		return err
	}
	c.Response().Header().Set("Content-Disposition", `attachment; filename="cards.csv"`)
	return c.Blob(http.StatusOK, "text/csv; charset=utf-8", []byte(b.String()))
}

// cardsSent notes of the cards that were ticked that they are sent, or cannot be.
func (s *Place) cardsSent(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	form, err := c.FormValues()
	if err != nil {
		return err
	}
	to := fmt.Sprintf("/sequences/printer/%d/%s", id, c.Param("step"))
	var touches []int64
	for _, t := range form["card"] {
		if n := shell.Number(t); n > 0 && len(touches) < post.MostCards {
			touches = append(touches, n)
		}
	}
	if len(touches) == 0 {
		return s.NotDone(c, to, "Tick the cards first.")
	}
	outcome := sequence.DidIt
	if form.Get("do") == "not" {
		outcome = sequence.CouldNot
	}
	n, err := s.Engine.CardsSent(c.Request().Context(), id, sequence.StepID(shell.Number(c.Param("step"))), touches,
		outcome, shell.UserOf(c).ID)
	if err != nil {
		return err
	}
	what := "sent"
	if outcome == sequence.CouldNot {
		what = "not possible"
	}
	return s.Done(c, to, fmt.Sprintf("Noted as %s: %d.", what, n))
}
