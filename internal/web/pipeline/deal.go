package pipeline

import (
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/pipeline"
	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

var (
	sellers = []right.Role{right.Rep, right.Lead, right.Admin}
	leads   = []right.Role{right.Lead, right.Admin}
)

// dealData is a deal with its history, and all that was sent and said.
type dealData struct {
	D       store.Deal
	Stage   pipeline.Figures
	Stages  []pipeline.Stage
	Slow    bool
	May     bool
	Users   []store.User
	Moves   []store.DealMove
	Changes []store.DealChange
	Touches []store.Touch
	Notes   []store.Note
	Wrong   string
	Typed   map[string]string // as it was typed, where it could not be kept
}

func (s *Place) deal(c *echo.Context) error {
	return s.showDeal(c, http.StatusOK, "", nil)
}

func (s *Place) showDeal(c *echo.Context, code int, wrong string, typed map[string]string) error {
	ctx := c.Request().Context()
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	d := dealData{Wrong: wrong, Typed: typed}
	if d.D, err = s.Store.Deal(ctx, id); err != nil {
		return err
	}
	figures, err := s.Engine.StageFigures(ctx)
	if err != nil {
		return err
	}
	for _, f := range figures {
		d.Stages = append(d.Stages, f.Stage)
		if f.ID == d.D.Stage {
			d.Stage = f
		}
	}
	d.Slow = d.D.Closed == nil && d.Stage.Slow > 0 && s.Engine.Now().Sub(d.D.Moved) > d.Stage.Slow
	u := shell.UserOf(c)
	d.May = (shell.View{User: u}).May(leads...) ||
		u.Role == right.Rep && (d.D.Rep == nil || *d.D.Rep == u.ID)
	if d.Users, err = s.Store.Users(ctx); err != nil {
		return err
	}
	if d.Moves, err = s.Store.DealMoves(ctx, id); err != nil {
		return err
	}
	if d.Changes, err = s.Store.DealChanges(ctx, id); err != nil {
		return err
	}
	if d.Touches, err = s.Store.LastTouchesOf(ctx, d.D.Person, 20); err != nil {
		return err
	}
	if d.Notes, err = s.Store.Notes(ctx, d.D.Person); err != nil {
		return err
	}
	return s.PageCode(c, code, "deal.html", "", "Pipeline", d.D.Name, d)
}

// Percent is a share in words.
func (dealData) Percent(share float64) string { return fmt.Sprintf("%.0f %%", share*100) }

// Was is what stands in a field: as it was typed, or as it is kept.
func (d dealData) Was(field string) string {
	if d.Typed != nil {
		return d.Typed[field]
	}
	day := func(t *time.Time) string {
		if t == nil {
			return ""
		}
		return t.Format(time.DateOnly)
	}
	return map[string]string{"name": d.D.Name, "expected": day(d.D.Expected), "next": d.D.Next,
		"next_on": day(d.D.NextOn), "reason": d.D.Reason}[field]
}

// Became is a change in words, amounts as money.
func (d dealData) Became(c store.DealChange, v shell.View, was bool) string {
	text := c.Became
	if was {
		text = c.Was
	}
	if c.What == "amount" {
		return v.Money(shell.Number(text))
	}
	if text == "" {
		return "nothing"
	}
	return text
}

// planDeal keeps what is planned for a deal.
func (s *Place) planDeal(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	p := store.DealPlan{Name: c.FormValue("name"), Next: c.FormValue("next"), Reason: c.FormValue("reason")}
	typed := map[string]string{}
	for _, f := range []string{"name", "next", "expected", "next_on", "reason"} {
		typed[f] = c.FormValue(f)
	}
	for field, to := range map[string]**time.Time{"expected": &p.Expected, "next_on": &p.NextOn} {
		text := strings.TrimSpace(c.FormValue(field))
		if text == "" {
			continue
		}
		t, err := time.Parse(time.DateOnly, text)
		if err != nil {
			return s.showDeal(c, http.StatusUnprocessableEntity, fmt.Sprintf("“%s” is no day.", text), typed)
		}
		*to = &t
	}
	err = s.Engine.PlanDeal(c.Request().Context(), id, p, shell.UserOf(c).ID)
	if _, plain := plainly.Says(err); err != nil && plain {
		return s.showDeal(c, http.StatusUnprocessableEntity, shell.Sentence(err), typed)
	}
	if err != nil {
		return shell.NotYours(err)
	}
	return s.Done(c, fmt.Sprintf("/pipeline/%d", id), "Saved.")
}

// giveDeal gives a deal to somebody.
func (s *Place) giveDeal(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	to := fmt.Sprintf("/pipeline/%d", id)
	err = s.Engine.GiveDeal(c.Request().Context(), id, shell.Number(c.FormValue("to")), shell.UserOf(c).ID)
	if store.IsNotFound(err) {
		return err
	}
	if _, plain := plainly.Says(err); err != nil && plain {
		return s.NotDone(c, to, shell.Sentence(err))
	}
	if err != nil {
		return shell.NotYours(err)
	}
	return s.Done(c, to, "Saved.")
}

// afterwards is where a change of a deal leads: to its page, where it was made there.
func afterwards(c *echo.Context, id int64) string {
	if c.FormValue("back") == "deal" {
		return fmt.Sprintf("/pipeline/%d", id)
	}
	return "/pipeline"
}
