package desk

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/desk"
	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/engine/base"
	"ombak/internal/engine/sales"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// loadData is what waits on every desk.
type loadData struct {
	Room  string
	Load  *sales.Load
	Wrong string
	Moves sales.MoveWork // as it was asked for
}

// Kinds lists the kinds of work.
func (loadData) Kinds() []desk.Kind { return desk.Kinds() }

// Moved lists those that can be moved.
func (loadData) Moved() []desk.Kind {
	return []desk.Kind{desk.Handoff, desk.Answer, desk.Call, desk.Social, desk.Task}
}

// Words says a kind, of several, within a sentence.
func (loadData) Words(k desk.Kind) string { return strings.ToLower(plural[k]) }

// Whiches lists what of a desk can be moved.
func (loadData) Whiches() []sales.Which { return sales.Whiches() }

// To is the address of somebody's desk, of one kind or (empty) of all.
func (loadData) To(d sales.DeskLoad, k desk.Kind) string {
	to := fmt.Sprintf("/desk?rep=%d", d.User.ID)
	if d.User.ID == 0 {
		to = "/desk?pool=1"
	}
	if k != "" {
		to += "&kind=" + string(k)
	}
	return to
}

func (s *Place) load(c *echo.Context) error { return s.showLoad(c, http.StatusOK, loadData{}) }

// loadLately is what waits on all desks.
func (s *Place) loadLately(ctx context.Context) (*sales.Load, error) {
	return shell.Lately(ctx, s.Shell, &s.loads, "", s.Engine.LoadOf)
}

// Warm counts it before anybody asks.
func (s *Place) Warm(ctx context.Context) error {
	_, err := s.loadLately(ctx)
	return err
}

// Rehearse reads the desks of a rep and of everybody, with what comes first there, as those do who come.
func (s *Place) Rehearse(ctx context.Context) error {
	users, err := s.Store.Users(ctx)
	if err != nil || len(users) == 0 {
		return err
	}
	u := users[max(slices.IndexFunc(users, func(u store.User) bool { return u.Role == right.Rep }), 0)]
	for _, whose := range []int64{u.ID, 0} {
		d := deskData{Ask: sales.Ask{User: whose}}
		if err := s.read(ctx, u, &d); err != nil {
			return err
		}
		if err := s.atHand(ctx, u, &d, 0); err != nil {
			return err
		}
	}
	return nil
}

func (s *Place) showLoad(c *echo.Context, code int, d loadData) error {
	d.Room = "load"
	var err error
	d.Load, err = s.loadLately(c.Request().Context())
	if err != nil {
		return err
	}
	if d.Moves == (sales.MoveWork{}) { // from where most cannot be done, to where least waits
		most, least := 0, 0
		for i, x := range d.Load.Desks {
			if x.Late > d.Load.Desks[most].Late {
				most = i
			}
			if x.User.ID != 0 && x.Takes < d.Load.Desks[least].Takes {
				least = i
			}
		}
		d.Moves.From, d.Moves.To = d.Load.Desks[most].User.ID, d.Load.Desks[least].User.ID
	}
	return s.PageCode(c, code, "load.html", "load", "Desk", "Load", d)
}

// moveWork moves work from one desk to another.
func (s *Place) moveWork(c *echo.Context) error {
	m := sales.MoveWork{From: shell.Number(c.FormValue("from")), To: shell.Number(c.FormValue("to")),
		Kind: desk.Kind(c.FormValue("kind")), Which: sales.Which(c.FormValue("which")),
		N: int(min(shell.Number(c.FormValue("n")), sales.MaxDesk)), User: shell.UserOf(c).ID}
	n, id, err := s.Engine.MoveBetween(c.Request().Context(), m)
	s.loads.Forget()
	if errors.Is(err, base.ErrNotYours) {
		return shell.NotYours(err)
	}
	if _, plain := plainly.Says(err); plain {
		return s.showLoad(c, http.StatusUnprocessableEntity, loadData{Moves: m, Wrong: shell.Sentence(err)})
	}
	if err != nil {
		return err
	}
	if n == 0 {
		return s.Done(c, "/desk/load", "There was nothing of that to move.")
	}
	return s.DoneUndo(c, "/desk/load", fmt.Sprintf("Moved: %d.", n), fmt.Sprintf("/desk/load/%d/back", id))
}

func (s *Place) moveBack(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	n, err := s.Engine.MoveBack(c.Request().Context(), id, shell.UserOf(c).ID)
	s.loads.Forget()
	if errors.Is(err, sales.ErrMovedOn) {
		return s.NotDone(c, "/desk/load", shell.Sentence(err))
	}
	if errors.Is(err, base.ErrNotYours) {
		return shell.NotYours(err)
	}
	if err != nil {
		return err
	}
	return s.Done(c, "/desk/load", fmt.Sprintf("%d are back where they were.", n))
}

// loadRoutes are those of the load, for those who lead.
func (s *Place) loadRoutes(in *echo.Group) {
	leads := shell.Allow(right.Lead, right.Admin)
	in.GET("/desk/load", s.load, leads)
	in.POST("/desk/load", s.moveWork, leads)
	in.POST("/desk/load/:id/back", s.moveBack, leads)
}
