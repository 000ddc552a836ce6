package sequences

import (
	"context"
	"encoding/json"
	"fmt"
	"hash/fnv"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/sequence"
	"ombak/internal/engine/post"
	"ombak/internal/store"
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
	count := func(ctx context.Context) ([]store.DueDay, error) {
		return s.Store.DueByDay(ctx, id, now.AddDate(0, 0, daysAhead), s.Engine.Zone().String())
	}
	due, err := shell.Lately(c.Request().Context(), s.Shell, &s.due, id, count)
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

// afterData is what became of those who took each exit of a step.
type afterData struct {
	Q     int64
	Step  int64
	Span  span
	Exits []afterExit
	Later string // where they are counted, until they are: what is shown meanwhile is of a sample
}

// countedAtOnce is of how many at most it is counted what became of them while somebody waits.
const countedAtOnce = 2000

// afterKey is of what it is counted what became of people.
type afterKey struct {
	sequence int64
	step     int32
	in       store.Between
}

type afterExit struct {
	Exit, Words string
	N           int64 // who took it
	Some        int64 // how many of them are in a sample, where it is one
	Figures     []afterFigure
}

// afterFigure is how many of those of an exit did something after it.
type afterFigure struct {
	Which, Words string
	N, Of        int64
}

// tookExits is how many took each exit of a step, where they are so many that what became of them is counted while a
// sample is shown; else nil.
func (s *Place) tookExits(c *echo.Context, key afterKey) (map[string]int64, error) {
	if _, _, known := s.ends.Of(key).Peek(); known || c.QueryParam("count") != "" {
		return nil, nil
	}
	f, err := s.Store.StepFigures(c.Request().Context(), key.sequence)
	if err != nil {
		return nil, err
	}
	all, took := int64(0), map[string]int64{}
	for _, p := range f.Passed {
		if p.Step == key.step && p.Exit != "" {
			took[p.Exit] += p.N
			all += p.N
		}
	}
	if all <= countedAtOnce {
		return nil, nil
	}
	return took, nil
}

// afterExits is what became of those who took each exit of a step, or of some of them; of some it is known of no while.
func (s *Place) afterExits(c *echo.Context, key afterKey, some bool) ([]store.AfterExit, error) {
	ctx := c.Request().Context()
	if some && key.in != (store.Between{}) {
		return nil, nil
	}
	if some {
		return s.Store.AfterSomeExits(ctx, key.sequence, key.step)
	}
	return shell.Lately(ctx, s.Shell, &s.ends, key, func(ctx context.Context) ([]store.AfterExit, error) {
		return s.Store.AfterExits(ctx, key.sequence, key.step, key.in)
	})
}

// after counts what became of those who took each exit of a step of the version that runs.
func (s *Place) after(c *echo.Context) error {
	ctx := c.Request().Context()
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	q, err := s.Store.Sequence(ctx, id)
	if err != nil {
		return err
	}
	if q.Version == nil {
		return store.ErrNotFound
	}
	p, err := s.Engine.PlanOf(ctx, s.Store.Queries, *q.Version)
	if err != nil {
		return err
	}
	step := p.Step(sequence.StepID(shell.Number(c.QueryParam("step"))))
	if step == nil {
		return store.ErrNotFound
	}
	d := afterData{Q: id, Step: int64(step.About().ID), Span: spanOf(c, s.Engine.Now().In(s.Engine.Zone()))}
	key := afterKey{id, int32(step.About().ID), d.Span.In}
	took, err := s.tookExits(c, key)
	if err != nil {
		return err
	}
	if took != nil {
		d.Later = fmt.Sprintf("/sequences/%d/after?%sstep=%d&count=all", id, d.Span.Query(), d.Step)
	}
	list, err := s.afterExits(c, key, took != nil)
	if err != nil {
		return err
	}
	for _, e := range step.Exits() {
		x := afterExit{Exit: string(e), Words: step.Answer(e), N: took[string(e)]}
		for _, f := range list {
			if f.Exit == string(e) {
				if x.Some = f.N; took == nil {
					x.N, x.Some = f.N, 0
				}
				x.Figures = []afterFigure{{"sent", "got an email", f.Sent, f.N}, {"opened", "opened", f.Opened, f.Sent},
					{"clicked", "clicked", f.Clicked, f.Sent}, {"answered", "answered", f.Answered, f.Sent},
					{"handed", "were handed over", f.Handed, f.N}}
			}
		}
		d.Exits = append(d.Exits, x)
	}
	return s.Page(c, "after.html", "content", "Sequences", q.Name, d)
}
