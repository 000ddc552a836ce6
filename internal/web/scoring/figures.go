package scoring

import (
	"net/http"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/score"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// mostBelow is how many people are named who are just below the line.
const mostBelow = 20

// figuresData is how the points come about.
type figuresData struct {
	Model store.Model
	Is    about
	Work  *store.Batch // that counts it; nil: it was not asked for, or another version counts since
	T     *score.Tally
	Rules []ruleFigure
	Below []store.Lifted
}

type ruleFigure struct {
	score.RuleTally
	Words string
	Group string
}

// All reports whether a rule gives points to everybody who has any, and so tells nobody apart.
func (d figuresData) All(r ruleFigure) bool { return r.People > 0 && r.People == d.T.With }

func (s *Place) figures(c *echo.Context) error {
	ctx := c.Request().Context()
	m, cat, is, err := s.modelAndCatalogue(c)
	if err != nil {
		return err
	}
	d := figuresData{Model: m, Is: is}
	b, err := s.Store.Tallied(ctx, m.ID)
	if err != nil && !store.IsNotFound(err) {
		return err
	}
	if err == nil && b.Detail.V.Version == m.Version && b.Detail.V.Tally != nil {
		d.Work, d.T = &b, b.Detail.V.Tally
		for _, r := range d.T.Rules {
			if i := m.RuleOf(r.ID); i >= 0 {
				d.Rules = append(d.Rules, ruleFigure{r, m.Rules[i].Words(cat), m.Rules[i].Group})
			}
		}
	}
	if m.Line > 0 && m.ID != 0 {
		if d.Below, err = s.Store.JustBelow(ctx, m.ID, m.Line, mostBelow); err != nil {
			return err
		}
	}
	return s.PageCode(c, http.StatusOK, "scorefigures.html", "figures", "Scoring", "How the points come about", d)
}

func (s *Place) countFigures(c *echo.Context) error {
	if _, err := s.Engine.Tally(c.Request().Context(), modelOf(c), shell.UserOf(c).ID); err != nil {
		return s.orSaid(c, to(c, "/scoring/figures"), err)
	}
	return s.Done(c, to(c, "/scoring/figures"), "It is being counted. You can leave this page meanwhile.")
}
