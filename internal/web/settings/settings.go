package settings

import (
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/calendar"
	"ombak/internal/core/pipeline"
	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/engine/base"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// Routes are those of the workspace's settings. Everybody sees them;
// admins change them, and leads the stages and grounds.
func (s *Place) Routes(in *echo.Group) {
	admin, leads := shell.Allow(right.Admin), shell.Allow(right.Lead, right.Admin)
	x := in.Group("/settings")
	x.GET("", s.workspace)
	x.POST("", s.saveWorkspace, admin)
	x.POST("/mail", s.saveMailServer, admin)
	x.POST("/mail/test", s.testLetter, admin)
	x.GET("/people", s.colleagues)
	x.POST("/people", s.invite, admin)
	x.POST("/people/:id", s.saveUser, admin)
	x.POST("/people/:id/leave", s.userLeaves, admin)
	x.GET("/people/:id/hours", s.work)
	x.POST("/people/:id/hours", s.saveWork)
	x.POST("/people/invitations/:id/remove", s.uninvite, admin)
	x.GET("/teams", s.teams)
	x.POST("/teams", s.keepTeam, admin)
	x.POST("/teams/:id", s.keepTeam, admin)
	x.POST("/teams/:id/remove", s.removeTeam, admin)
	x.GET("/holidays", s.holidays)
	x.POST("/holidays", s.addHolidays, admin)
	x.POST("/holidays/remove", s.removeHoliday, admin)
	x.GET("/hours", s.hours)
	x.POST("/hours", s.saveHours, admin)
	x.GET("/changes", s.changes)
	x.POST("/changes/:id/undo", s.undoChange, admin)
	x.GET("/work", s.runs, admin)
	x.POST("/work/figures", s.mendFigures, admin)
	x.POST("/work/keep", s.saveKeeping, admin)
	x.GET("/stages", s.stages)
	x.POST("/stages", s.saveStage, leads)
	x.POST("/stages/usual", s.usualStages, leads)
	x.POST("/stages/:id", s.saveStage, leads)
	x.POST("/stages/:id/move", s.moveStage, leads)
	x.POST("/stages/:id/remove", s.removeStage, leads)
	x.POST("/pipelines", s.savePipeline, leads)
	x.POST("/pipelines/:id", s.savePipeline, leads)
	x.POST("/pipelines/:id/remove", s.removePipeline, leads)
	x.GET("/rates", s.rates)
	x.POST("/rates", s.saveRate, leads)
	x.POST("/rates/file", s.rateFile, leads)
	x.POST("/rates/remove", s.removeRate, leads)
	x.GET("/handing", s.handing)
	x.POST("/handing", s.saveClock, admin)
	x.POST("/handing/turns", s.saveTurns, leads)
	x.POST("/handing/reasons", s.saveReason, leads)
	x.POST("/handing/reasons/:id", s.saveReason, leads)
	x.POST("/handing/reasons/:id/remove", s.removeReason, leads)
	x.GET("/handing/territories/new", s.territory, leads)
	x.POST("/handing/territories/new", s.saveTerritory, leads)
	x.GET("/handing/territories/:id", s.territory, leads)
	x.POST("/handing/territories/:id", s.saveTerritory, leads)
	x.POST("/handing/territories/:id/move", s.moveTerritory, leads)
	x.POST("/handing/territories/:id/remove", s.removeTerritory, leads)
	x.GET("/grounds", s.grounds)
	x.POST("/grounds", s.addGround, leads)
	x.POST("/grounds/remove", s.removeGround, leads)
	in.GET("/guide", s.guide)
}

type settingsData struct {
	Room  string
	Wrong string

	W       base.Workspace
	Hours   [2]string
	Zones   []string
	Server  store.MailAccount
	Records []shell.DnsRecord

	Users       []store.User
	Invitations []store.Invitation
	Join        string // the address of an invitation whose letter did not go out
	Roles       []right.Role
	Open        int64 // whose form is open

	Stages  []pipeline.Stage
	Pipes   []pipeline.Pipeline
	Running []store.SequenceName // into which whoever is lost can come back

	Purposes []store.Purpose
	Grounds  []string

	Teams     []store.Team
	Countries []store.CountryHolidays
	Country   string // whose holidays are shown
	Holidays  []calendar.Holiday
	Typed     string // as it was typed, where it cannot be read

	Calling calendar.SendingHours
	Sending calendar.SendingHours

	Changes []store.SettingChange

	Rates  []pipeline.Rate
	Money  []store.DealCurrency // that deals have
	Today  string
	Values [3]string // of a rate that could not be kept: currency, day, value
}

func (s *Place) settings(c *echo.Context, code int, d settingsData) error {
	title := map[string]string{"workspace": "Workspace", "people": "People who work here", "stages": "Pipelines",
		"grounds": "Purposes and grounds", "teams": "Teams", "holidays": "Holidays", "hours": "Hours and rests",
		"changes": "What was changed", "rates": "Currencies"}[d.Room]
	return s.PageCode(c, code, "settings.html", "", "Settings", title, d)
}

func (s *Place) workspace(c *echo.Context) error {
	w := s.Engine.Workspace()
	return s.showWorkspace(c, http.StatusOK,
		settingsData{W: w, Hours: [2]string{shell.ClockWords(w.From), shell.ClockWords(w.To)}})
}

func (s *Place) showWorkspace(c *echo.Context, code int, d settingsData) error {
	d.Room, d.Zones = "workspace", calendar.ZoneNames()
	if d.W.Zone == "" {
		d.W.Zone = s.Engine.Zone().String()
	}
	if d.Server.Server == "" {
		list, err := s.Store.MailAccounts(c.Request().Context(), []int64{0})
		if err != nil {
			return err
		}
		if len(list) > 0 {
			d.Server = list[0]
		}
	}
	if _, domain, ok := strings.Cut(shell.UserOf(c).Email, "@"); ok && s.Engine.Signer != nil {
		name, text, err := s.Engine.Signer.Record(domain)
		if err != nil {
			return err
		}
		d.Records = []shell.DnsRecord{{Name: name, Text: text}}
	}
	return s.settings(c, code, d)
}

func (s *Place) saveWorkspace(c *echo.Context) error {
	w := s.Engine.Workspace()
	w.Name, w.Zone, w.Address = c.FormValue("name"), strings.TrimSpace(c.FormValue("zone")), c.FormValue("address")
	if v := c.FormValue("currency"); v != "" {
		w.Currency = v
	}
	d := settingsData{Hours: [2]string{c.FormValue("from"), c.FormValue("to")}}
	from, err1 := shell.ClockTime(d.Hours[0])
	to, err2 := shell.ClockTime(d.Hours[1])
	err := errors.Join(err1, err2)
	change := int64(0)
	if err == nil {
		w.From, w.To = from, to
		w.Country = strings.TrimSpace(c.FormValue("country"))
		change, err = s.Engine.ChangeWorkspace(c.Request().Context(), w, shell.UserOf(c).ID)
	}
	if err != nil {
		d.W, d.Wrong = w, shell.Sentence(err)
		return s.showWorkspace(c, http.StatusUnprocessableEntity, d)
	}
	return s.saved(c, "/settings", change)
}

// saveMailServer names the mail server of everybody who has none of their own.
func (s *Place) saveMailServer(c *echo.Context) error {
	if !s.Limits.Allow("account", fmt.Sprint(shell.UserOf(c).ID), 5*time.Second, 12) {
		return s.NotDone(c, "/settings", "Too many tries. Wait a minute.")
	}
	server, login := c.FormValue("server"), c.FormValue("login")
	if err := s.Engine.SetMailAccount(c.Request().Context(), 0, server, login, c.FormValue("password")); err != nil {
		w := s.Engine.Workspace()
		return s.showWorkspace(c, http.StatusUnprocessableEntity,
			settingsData{W: w, Hours: [2]string{shell.ClockWords(w.From), shell.ClockWords(w.To)},
				Server: store.MailAccount{Server: server, Login: login},
				Wrong:  shell.Sentence(err) + " Nothing was changed."})
	}
	if strings.TrimSpace(server) == "" {
		return s.Done(c, "/settings", "Emails go out by the mail server that the machine’s settings name.")
	}
	return s.Done(c, "/settings", "It let us in. Everybody’s emails go out by it from now on.")
}

func (s *Place) testLetter(c *echo.Context) error {
	u := shell.UserOf(c)
	if !s.Limits.Allow("account", fmt.Sprint(u.ID), 5*time.Second, 12) {
		return s.NotDone(c, "/settings", "Too many tries. Wait a minute.")
	}
	if err := s.Engine.TestLetter(c.Request().Context(), u); err != nil {
		return s.NotDone(c, "/settings", "The test letter did not go out: "+base.Told(err)+".")
	}
	return s.Done(c, "/settings", "The mail server took a letter to "+u.Email+". See whether it arrives, and where.")
}

func (s *Place) colleagues(c *echo.Context) error {
	return s.showColleagues(c, http.StatusOK, settingsData{})
}

func (s *Place) showColleagues(c *echo.Context, code int, d settingsData) error {
	ctx := c.Request().Context()
	d.Room, d.Roles = "people", right.Roles()
	var err error
	if d.Users, err = s.Store.Users(ctx); err != nil {
		return err
	}
	if d.Invitations, err = s.Store.Invitations(ctx); err != nil {
		return err
	}
	if d.Teams, err = s.Store.Teams(ctx); err != nil {
		return err
	}
	return s.settings(c, code, d)
}

func (s *Place) invite(c *echo.Context) error {
	if !s.Limits.Allow("account", fmt.Sprint(shell.UserOf(c).ID), 5*time.Second, 12) {
		return s.NotDone(c, "/settings/people", "Too many invitations at once. Wait a minute.")
	}
	i := store.Invitation{Name: c.FormValue("name"), Email: c.FormValue("email"), Role: right.Role(c.FormValue("role"))}
	address, letter, err := s.Engine.Invite(c.Request().Context(), i, shell.UserOf(c))
	if err != nil {
		return s.showColleagues(c, http.StatusUnprocessableEntity, settingsData{Wrong: shell.Sentence(err)})
	}
	if letter != nil {
		return s.showColleagues(c, http.StatusOK,
			settingsData{Join: address,
				Wrong: "The letter did not go out: " + letter.Error() +
					". Pass this address on yourself; it is shown this once."})
	}
	return s.Done(c, "/settings/people", "A letter is on its way to "+i.Email+".")
}

func (s *Place) uninvite(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	if err := s.Engine.Uninvite(c.Request().Context(), id); err != nil {
		return err
	}
	return s.Done(c, "/settings/people", "The invitation is taken back.")
}

func (s *Place) saveUser(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	u := store.User{ID: id, Name: c.FormValue("name"), Role: right.Role(c.FormValue("role")),
		Phone: c.FormValue("phone"),
		Away:  c.FormValue("away") != ""}
	u.Capacity, err = strconv.Atoi(strings.TrimSpace(c.FormValue("capacity")))
	change := int64(0)
	if err != nil {
		err = plainly.New("room is a whole number")
	} else {
		change, err = s.Engine.SetUser(c.Request().Context(), u, shell.UserOf(c).ID)
	}
	if store.IsNotFound(err) {
		return err
	}
	if err != nil {
		return s.showColleagues(c, http.StatusUnprocessableEntity, settingsData{Wrong: shell.Sentence(err), Open: id})
	}
	return s.saved(c, "/settings/people", change)
}

func (s *Place) userLeaves(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	err = s.Engine.UserLeaves(c.Request().Context(), id, shell.Number(c.FormValue("to")))
	if store.IsNotFound(err) {
		return err
	}
	if err != nil {
		return s.showColleagues(c, http.StatusUnprocessableEntity, settingsData{Wrong: shell.Sentence(err), Open: id})
	}
	return s.Done(c, "/settings/people", "They no longer sign in, and what was theirs is given on.")
}

func (s *Place) stages(c *echo.Context) error { return s.showStages(c, http.StatusOK, "") }

func (s *Place) showStages(c *echo.Context, code int, wrong string) error {
	d := settingsData{Room: "stages", Wrong: wrong}
	var err error
	if d.Stages, err = s.Store.Stages(c.Request().Context()); err != nil {
		return err
	}
	if d.Pipes, err = s.Store.Pipelines(c.Request().Context()); err != nil {
		return err
	}
	if d.Teams, err = s.Store.Teams(c.Request().Context()); err != nil {
		return err
	}
	if d.Running, err = s.Store.RunningNames(c.Request().Context()); err != nil {
		return err
	}
	return s.settings(c, code, d)
}

func (s *Place) saveStage(c *echo.Context) error {
	st := pipeline.Stage{Name: strings.Join(strings.Fields(c.FormValue("name")), " "), Won: c.FormValue("is") == "won",
		Lost: c.FormValue("is") == "lost", Pipeline: shell.Number(c.FormValue("pipe"))}
	if c.Param("id") != "" {
		id, err := shell.IDOf(c, "id")
		if err != nil {
			return err
		}
		st.ID = id
	}
	if st.After = 90; st.Lost {
		st.Nurture = max(shell.Number(c.FormValue("nurture")), 0)
		if days, err := strconv.Atoi(strings.TrimSpace(c.FormValue("after"))); err == nil {
			st.After = days
		}
	}
	share := strings.TrimSuffix(strings.TrimSpace(c.FormValue("share")), "%")
	change := int64(0)
	n, err := strconv.Atoi(strings.TrimSpace(share))
	switch {
	case st.Won:
		n, err = 100, nil
	case st.Lost:
		n, err = 0, nil
	}
	if st.Share = n; err != nil {
		err = plainly.New("a stage’s chance is a whole number from 0 to 100 %")
	} else {
		change, _, err = s.Engine.SetStage(c.Request().Context(), st, shell.UserOf(c).ID)
	}
	if store.IsNotFound(err) {
		return err
	}
	if err != nil {
		return s.showStages(c, http.StatusUnprocessableEntity, shell.Sentence(err))
	}
	return s.saved(c, "/settings/stages", change)
}

func (s *Place) moveStage(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	by := map[string]int{"up": -1, "down": 1}[c.FormValue("to")]
	if by == 0 {
		return echo.ErrBadRequest
	}
	change, err := s.Engine.MoveStage(c.Request().Context(), id, by, shell.UserOf(c).ID)
	if err != nil {
		return err
	}
	return s.saved(c, "/settings/stages", change)
}

func (s *Place) removeStage(c *echo.Context) error { return s.removeOf(c, s.Engine.RemoveStage) }

func (s *Place) usualStages(c *echo.Context) error {
	if err := s.Engine.UsualStages(c.Request().Context()); err != nil {
		return err
	}
	return s.Done(c, "/settings/stages", "These are stages to begin with. Change them as you work.")
}

func (s *Place) grounds(c *echo.Context) error {
	ctx := c.Request().Context()
	d := settingsData{Room: "grounds"}
	var err error
	if d.Purposes, err = s.Store.Purposes(ctx); err != nil {
		return err
	}
	if d.Grounds, err = s.Store.Grounds(ctx); err != nil {
		return err
	}
	return s.settings(c, http.StatusOK, d)
}

func (s *Place) addGround(c *echo.Context) error {
	change, err := s.Engine.AddGround(c.Request().Context(), c.FormValue("name"), shell.UserOf(c).ID)
	if err != nil {
		if errors.Is(err, store.ErrTaken) {
			err = plainly.New("this ground is there already")
		}
		return s.NotDone(c, "/settings/grounds", shell.Sentence(err))
	}
	return s.saved(c, "/settings/grounds", change)
}

func (s *Place) removeGround(c *echo.Context) error {
	change, err := s.Engine.RemoveGround(c.Request().Context(), c.FormValue("name"), shell.UserOf(c).ID)
	if err != nil {
		return err
	}
	return s.saved(c, "/settings/grounds", change)
}

// Joining: the first person, and colleagues who were invited.
