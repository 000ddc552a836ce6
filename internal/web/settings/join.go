package settings

import (
	"errors"
	"net/http"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/engine/setup"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

type joinData struct {
	First  bool
	Name   string
	Email  string
	Wrong  string
	Action string
	By     string
}

func (s *Place) joinPage(c *echo.Context) error { return s.showJoin(c, http.StatusOK, joinData{}) }

// showJoin shows where somebody sets their password, as long as the address lets in.
func (s *Place) showJoin(c *echo.Context, code int, d joinData) error {
	ctx := c.Request().Context()
	if !s.Limits.Allow("join", shell.Network(c.RealIP()), 2*time.Second, 60) {
		return echo.ErrTooManyRequests
	}
	token := c.Param("token")
	d.First, d.Action = strings.HasPrefix(c.Request().URL.Path, "/first/"), c.Request().URL.Path
	if d.First {
		ok, err := s.Engine.IsFirstKey(ctx, token)
		if err != nil || !ok {
			return errors.Join(err, store.ErrNotFound)
		}
	} else {
		i, err := s.Engine.InvitationBy(ctx, token)
		if err != nil {
			return err
		}
		d.Email, d.By = i.Email, i.By
		if d.Name == "" {
			d.Name = i.Name
		}
	}
	return s.PageCode(c, code, "join.html", "", "", "Join", d)
}

func (s *Place) join(c *echo.Context) error {
	ctx := c.Request().Context()
	if !s.Limits.Allow("join", shell.Network(c.RealIP()), 2*time.Second, 60) {
		return echo.ErrTooManyRequests
	}
	j := setup.Joining{Name: c.FormValue("name"), Email: c.FormValue("email"), Password: c.FormValue("password")}
	first := strings.HasPrefix(c.Request().URL.Path, "/first/")
	join := s.Engine.Join
	if first {
		join = s.Engine.BeginAs
	}
	id, err := join(ctx, c.Param("token"), j)
	if errors.Is(err, setup.ErrBadKey) {
		return store.ErrNotFound
	}
	if err != nil {
		return s.showJoin(c, http.StatusUnprocessableEntity,
			joinData{Name: j.Name, Email: j.Email, Wrong: shell.Sentence(err)})
	}
	u, err := s.Store.User(ctx, id)
	if err != nil {
		return err
	}
	if first {
		s.Sessions.Put(ctx, "note", "You are the admin. Begin here; Today says what is still to do.")
	}
	return s.Enter(c, u)
}

// JoinRoutes are those by which somebody comes to work here.
func (s *Place) JoinRoutes(open *echo.Group) {
	for _, path := range []string{"/first/:token", "/join/:token"} {
		open.GET(path, s.joinPage)
		open.POST(path, s.join)
	}
}
