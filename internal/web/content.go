package web

import (
	"github.com/labstack/echo/v5"

	"ombak/internal/store"
)

type contentData struct {
	Messages []store.Message
	Starters []starter
	Removed  []store.Message
}

func (s *Server) content(c *echo.Context) error {
	var d contentData
	var err error
	if d.Messages, err = s.Store.Messages(c.Request().Context()); err != nil {
		return err
	}
	d.Starters = starters
	if d.Removed, err = s.Store.RemovedMessages(c.Request().Context(), s.Engine.Now().AddDate(0, 0, -30)); err != nil {
		return err
	}
	return s.page(c, "content.html", "", "Content", "Messages", d)
}
