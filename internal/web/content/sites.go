package content

import (
	"fmt"

	"github.com/labstack/echo/v5"

	"ombak/internal/web/shell"
)

type sitesData struct {
	Sites   []string
	Snippet string
}

func (s *Place) sites(c *echo.Context) error {
	list, err := s.Store.Sites(c.Request().Context())
	if err != nil {
		return err
	}
	return s.Page(c, "sites.html", "", "Content", "Our sites",
		sitesData{list, fmt.Sprintf(`<script src="%s/v.js" defer></script>`, s.Engine.URL)})
}

func (s *Place) changeSite(c *echo.Context) error {
	ctx := c.Request().Context()
	if c.FormValue("do") == "remove" {
		if err := s.Engine.RemoveSite(ctx, c.FormValue("origin")); err != nil {
			return err
		}
		return s.Done(c, "/content/sites", "Nothing more is recorded there.")
	}
	if err := s.Engine.AddSite(ctx, c.FormValue("origin")); err != nil {
		return s.NotDone(c, "/content/sites", shell.Sentence(err))
	}
	return s.Done(c, "/content/sites", "Added. Put the line below into its pages.")
}
