package sequences

import (
	"encoding/json"
	"fmt"
	"hash/fnv"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/sequence"
	"ombak/internal/engine/post"
	"ombak/internal/web/shell"
)

// What is counted over everybody, and comes after the map.

// daysAhead is how far the forecast under a running map looks.
const daysAhead = 10

// aheadData is who comes due on the next days if they do nothing before.
type aheadData struct {
	Due  int64
	Days shell.Tide
}

func (s *Place) ahead(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	now := s.Engine.Now().In(s.Engine.Zone())
	due, err := s.Store.DueByDay(c.Request().Context(), id, now.AddDate(0, 0, daysAhead), s.Engine.Zone().String())
	if err != nil {
		return err
	}
	d := aheadData{Days: shell.Tide{Name: "People who come due, by day", Each: "Day", Names: [2]string{"People"},
		W: 420, H: 170, Left: 36, Bottom: 22}}
	for i := range daysAhead {
		day := now.AddDate(0, 0, i)
		p := shell.TidePoint{Row: day.Format(shell.DayForm), Tick: day.Format("Mon 2")[:1] + day.Format(" 2"),
			Title: day.Format("Mon 2 Jan") + ": nobody"}
		for _, x := range due {
			if x.Day.Format("2006-01-02") == day.Format("2006-01-02") ||
				(i == 0 && x.Day.Format("2006-01-02") < day.Format("2006-01-02")) {
				p.Value += float64(x.N)
				p.Title = fmt.Sprintf("%s: %d people", day.Format("Mon 2 Jan"), int(p.Value))
				d.Due += x.N
			}
		}
		d.Days.Points = append(d.Days.Points, p)
	}
	d.Days.Layout()
	return s.Page(c, "ahead.html", "content", "Sequences", "Next days", d)
}

// weighedData is what the draft would meet with.
type weighedData struct {
	post.Weighed
	Q      int64
	Plan   *sequence.Plan
	Launch bool // before the launch: that says itself how many fit
}

func (s *Place) weighed(c *echo.Context) error {
	ctx := c.Request().Context()
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	q, err := s.Store.Sequence(ctx, id)
	if err != nil {
		return err
	}
	draft, err := s.Store.Draft(ctx, id)
	if err != nil {
		return err
	}
	d := weighedData{Q: id, Plan: draft.Plan.V, Launch: c.QueryParam("launch") != ""}
	if d.Weighed, err = s.Engine.Weigh(ctx, q, d.Plan); err != nil {
		return err
	}
	return s.Page(c, "weighed.html", "content", "Sequences", "Checks", d)
}

// weighing names a state of a draft and of who enters: what is weighed of it stays until either
// changes.
func weighing(n int, e *sequence.Entry) (string, error) {
	text, err := json.Marshal(e)
	if err != nil {
		return "", err
	}
	h := fnv.New32a()
	if _, err := h.Write(text); err != nil {
		return "", err
	}
	return fmt.Sprintf("%d-%x", n, h.Sum32()), nil
}
