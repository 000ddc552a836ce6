package web

import (
	"fmt"
	"net/http"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/person"
	"ombak/internal/store"
)

// found is something the finder offers: a place to go, or something to do.
type found struct {
	Icon, Text, More string
	Href             string // to go there
	Post             string // to do it
}

// find answers what is typed after "/": people, companies, sequences,
// messages, places, and things to do.
func (s *Server) find(c *echo.Context) error {
	ctx := c.Request().Context()
	v := s.view(c, "", "", nil)
	text := strings.ToLower(person.Name(c.QueryParam("q")))
	var out []found
	add := func(f found) {
		if text == "" || strings.Contains(strings.ToLower(f.Text+" "+f.More), text) {
			out = append(out, f)
		}
	}
	if v.Writes() {
		add(found{"note-pencil", "New message", "content", "/content?new=message", ""})
		add(found{"globe", "New page", "content", "/content/pages?new=1", ""})
		add(found{"waves", "New sequence", "sequences", "/sequences?new=1", ""})
		add(found{"pause", "Hold all", "every running sequence", "", "/sequences/hold-all"})
	}
	for _, p := range places {
		add(found{"arrow-right", p.Name, "", p.Path, ""})
	}
	if text != "" {
		list, _, err := s.Store.People(ctx, store.PeopleQuery{Text: text, Order: store.ByScore, Limit: 8, Now: s.Engine.Now()})
		if err != nil {
			return err
		}
		for _, p := range list {
			out = append(out, found{"user", person.Full(p.First, p.Last, p.Email), p.Company, fmt.Sprintf("/people/%d", p.ID), ""})
		}
		sequences, err := s.Store.Sequences(ctx)
		if err != nil {
			return err
		}
		for _, q := range sequences {
			add(found{"waves", q.Name, "sequence", fmt.Sprintf("/sequences/%d", q.ID), ""})
		}
		messages, err := s.Store.Messages(ctx)
		if err != nil {
			return err
		}
		for _, m := range messages {
			add(found{"envelope-simple", m.Name, "message", fmt.Sprintf("/content/messages/%d", m.ID), ""})
		}
	}
	v.Data = out
	return c.Render(http.StatusOK, "find.html#found", v)
}

var places = []struct{ Name, Path string }{
	{"Today", "/today"}, {"People", "/people"}, {"Content", "/content"}, {"Sequences", "/sequences"}, {"Scoring", "/scoring"}, {"Desk", "/desk"}, {"Pipeline", "/pipeline"},
}

// Places are the places of the bar, in the order in which the user works.
func (v View) Places() []struct{ Name, Path string } {
	if v.User.Role != "rep" {
		return places
	}
	out := append([]struct{ Name, Path string }{}, places[5:]...)
	return append(out, places[:5]...)
}

// scheme turns the dark scheme on or off for this browser.
func (s *Server) scheme(c *echo.Context) error {
	want := c.FormValue("scheme")
	k := &http.Cookie{Name: "ombak_scheme", Value: want, Path: "/", MaxAge: 365 * 24 * 3600, HttpOnly: true, Secure: s.Secure, SameSite: http.SameSiteLaxMode}
	if want != "dark" && want != "light" {
		k.MaxAge = -1
	}
	c.SetCookie(k)
	return c.Redirect(http.StatusSeeOther, back(c))
}

// back is the page a small form stood on.
func back(c *echo.Context) string {
	if p := localPath(c.FormValue("back")); p != "" {
		return p
	}
	return "/"
}

func (s *Server) moveClock(c *echo.Context) error {
	if s.Demo == nil {
		return echo.ErrNotFound
	}
	if err := s.Demo.Move(c.FormValue("how")); err != nil {
		return s.notDone(c, back(c), sentence(err))
	}
	return c.Redirect(http.StatusSeeOther, back(c))
}

func (s *Server) stopClock(c *echo.Context) error {
	if s.Demo == nil {
		return echo.ErrNotFound
	}
	s.Demo.Stop()
	return c.Redirect(http.StatusSeeOther, back(c))
}

func (s *Server) clockChip(c *echo.Context) error {
	v := s.view(c, "", "", nil)
	if p := localPath(c.QueryParam("back")); p != "" {
		v.Path = p
	}
	return c.Render(http.StatusOK, "layout.html#clock", v)
}
