package pipeline

import (
	"cmp"
	"context"
	"net/http"
	"net/url"
	"strconv"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/handoff"
	"ombak/internal/engine/sales"
	"ombak/internal/web/shell"
)

// handoffsData is what became of handoffs.
type handoffsData struct {
	By    sales.By
	Bys   []sales.By
	Days  int
	F     sales.HandoffFigures
	Of    string // the group whose people are shown
	Is    handoff.State
	Shown []sales.HandoffLine
	Rest  int // of those that are meant, how many are not shown
	All   bool
}

// mostShown is how many people behind a figure are listed.
const mostShown = 200

// To is the address of the people behind a figure; of the state of one group.
func (d handoffsData) To(of string, is string) string {
	v := url.Values{"by": {string(d.By)}, "days": {strconv.Itoa(d.Days)}, "is": {is}, "of": {of}}
	return "/pipeline/handoffs?" + v.Encode() + "#people"
}

// ToAll is the address of the people behind a figure of all.
func (d handoffsData) ToAll(is string) string {
	v := url.Values{"by": {string(d.By)}, "days": {strconv.Itoa(d.Days)}, "is": {is}, "all": {"1"}}
	return "/pipeline/handoffs?" + v.Encode() + "#people"
}

// Name is what a group is called; some have no name.
func (d handoffsData) Name(of string) string {
	return cmp.Or(of, map[sales.By]string{sales.ByRep: "the pool", sales.BySource: "no source is known",
		sales.BySequence: "no sequence"}[d.By])
}

// handoffDays is over how many days handoffs are counted where nobody says.
const handoffDays = 90

// Warm counts what is counted over all handoffs and deals before anybody asks.
func (s *Place) Warm(ctx context.Context) error {
	for _, by := range sales.Bys() {
		if _, err := s.Engine.HandoffFigures(ctx, by, handoffDays); err != nil {
			return err
		}
	}
	_, err := s.Engine.StageFigures(ctx)
	return err
}

func (s *Place) handoffs(c *echo.Context) error {
	d := handoffsData{By: sales.By(cmp.Or(c.QueryParam("by"), string(sales.ByRep))), Bys: sales.Bys(),
		Days: handoffDays, Of: c.QueryParam("of"),
		Is: handoff.State(c.QueryParam("is")), All: c.QueryParam("all") != ""}
	if n := shell.Number(c.QueryParam("days")); n > 0 {
		d.Days = int(n)
	}
	var err error
	if d.F, err = s.Engine.HandoffFigures(c.Request().Context(), d.By, d.Days); err != nil {
		return echo.NewHTTPError(http.StatusBadRequest, shell.Sentence(err))
	}
	if d.Is != "" {
		var meant []sales.CountedLine
		for _, l := range d.F.List {
			if l.State != d.Is || !d.All && l.Of != d.Of {
				continue
			}
			if len(meant) == mostShown {
				d.Rest++
				continue
			}
			meant = append(meant, l)
		}
		if d.Shown, err = s.Engine.HandoffLines(c.Request().Context(), meant); err != nil {
			return err
		}
	}
	return s.Page(c, "handoffs.html", "", "Pipeline", "Handoffs", d)
}
