package settings

import (
	"fmt"
	"net/http"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/right"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// saved says that something is saved, with a button that takes it back; where nothing was
// different there is nothing to take back.
func (s *Place) saved(c *echo.Context, to string, change int64) error {
	if change == 0 {
		return s.Done(c, to, "Nothing was different.")
	}
	if shell.UserOf(c).Role != right.Admin { // who alone takes back what was changed
		return s.Done(c, to, "Saved.")
	}
	return s.DoneUndo(c, to, "Saved.", fmt.Sprintf("/settings/changes/%d/undo", change))
}

// TeamOf is the name of the team that a user works in; empty: none.
func (d settingsData) TeamOf(u store.User) string {
	for _, t := range d.Teams {
		if u.Team != nil && t.ID == *u.Team {
			return t.Name
		}
	}
	return ""
}

// In reports whether a user works in a team.
func (d settingsData) In(t store.Team, u store.User) bool { return u.Team != nil && *u.Team == t.ID }

func (s *Place) teams(c *echo.Context) error { return s.showTeams(c, http.StatusOK, settingsData{}) }

func (s *Place) showTeams(c *echo.Context, code int, d settingsData) error {
	ctx := c.Request().Context()
	d.Room = "teams"
	var err error
	if d.Teams, err = s.Store.Teams(ctx); err != nil {
		return err
	}
	if d.Users, err = s.Store.Users(ctx); err != nil {
		return err
	}
	return s.settings(c, code, d)
}

// keepTeam changes a team, or keeps a new one.
func (s *Place) keepTeam(c *echo.Context) error {
	t := store.Team{Name: c.FormValue("name")}
	if c.Param("id") != "" {
		id, err := shell.IDOf(c, "id")
		if err != nil {
			return err
		}
		t.ID = id
	}
	form, err := c.FormValues()
	if err != nil {
		return err
	}
	for _, x := range form["member"] {
		if id := shell.Number(x); id > 0 && len(t.Members) < 500 {
			t.Members = append(t.Members, id)
		}
	}
	change, err := s.Engine.KeepTeam(c.Request().Context(), t, shell.UserOf(c).ID)
	if store.IsNotFound(err) {
		return err
	}
	if err != nil {
		return s.showTeams(c, http.StatusUnprocessableEntity,
			settingsData{Wrong: shell.Sentence(err), Open: t.ID, Typed: t.Name})
	}
	return s.saved(c, "/settings/teams", change)
}

func (s *Place) removeTeam(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	change, err := s.Engine.RemoveTeam(c.Request().Context(), id, shell.UserOf(c).ID)
	if err != nil {
		return err
	}
	return s.DoneUndo(c, "/settings/teams", "The team is gone. What waits for it is for anybody to take.",
		fmt.Sprintf("/settings/changes/%d/undo", change))
}

// changes lists what was changed in the settings, by whom.
func (s *Place) changes(c *echo.Context) error {
	d := settingsData{Room: "changes"}
	var err error
	if d.Changes, err = s.Store.SettingChanges(c.Request().Context(), 200); err != nil {
		return err
	}
	return s.settings(c, http.StatusOK, d)
}

func (s *Place) undoChange(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	err = s.Engine.UndoSetting(c.Request().Context(), id, shell.UserOf(c).ID)
	if store.IsNotFound(err) {
		return err
	}
	if err != nil {
		return s.NotDone(c, "/settings/changes", shell.Sentence(err))
	}
	return s.Done(c, "/settings/changes", "It is as it was before.")
}
