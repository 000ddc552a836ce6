package web

import (
	"fmt"

	"github.com/labstack/echo/v5"
)

type sitesData struct {
	Sites   []string
	Snippet string
}

func (s *Server) sites(c *echo.Context) error {
	list, err := s.Store.Sites(c.Request().Context())
	if err != nil {
		return err
	}
	return s.page(c, "sites.html", "", "Content", "Our sites", sitesData{list, fmt.Sprintf(`<script src="%s/v.js" defer></script>`, s.Engine.URL)})
}

func (s *Server) changeSite(c *echo.Context) error {
	ctx := c.Request().Context()
	if c.FormValue("do") == "remove" {
		if err := s.Engine.RemoveSite(ctx, c.FormValue("origin")); err != nil {
			return err
		}
		return s.done(c, "/content/sites", "Nothing more is recorded there.")
	}
	if err := s.Engine.AddSite(ctx, c.FormValue("origin")); err != nil {
		return s.notDone(c, "/content/sites", sentence(err))
	}
	return s.done(c, "/content/sites", "Added. Put the line below into its pages.")
}
