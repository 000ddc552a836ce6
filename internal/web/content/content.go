package content

import (
	"github.com/labstack/echo/v5"

	"ombak/internal/core/folder"
	"ombak/internal/core/right"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

type contentData struct {
	Messages []store.Message
	Starters []starter
	Removed  []store.Message
	F        *shell.Folders
}

func (s *Place) content(c *echo.Context) error {
	var d contentData
	var err error
	if d.Messages, err = s.Store.Messages(c.Request().Context()); err != nil {
		return err
	}
	if d.F, err = s.Folders(c, folder.Message, "/content"); err != nil {
		return err
	}
	d.Messages = shell.InFolder(d.F, d.Messages, func(m *store.Message) int64 { return m.ID })
	d.Messages = shell.Firsts(d.F, d.Messages)
	d.Starters = starters
	if d.Removed, err = s.Store.RemovedMessages(c.Request().Context(), s.Engine.Now().AddDate(0, 0, -30)); err != nil {
		return err
	}
	return s.Page(c, "content.html", "", "Content", "Messages", d)
}

// Routes are those of the place Content.
func (s *Place) Routes(in *echo.Group) {
	writes, leads := shell.Allow(right.Marketer, right.Lead, right.Admin), shell.Allow(right.Lead, right.Admin)
	in.GET("/content", s.content)
	s.messageRoutes(in)
	s.mailingRoutes(in)
	s.shelfRoutes(in)
	s.eventRoutes(in)
	s.pageRoutes(in)
	s.folderRoutes(in)
	in.GET("/people/:id/letter", s.byHand)
	in.POST("/people/:id/letter", s.sendByHand)
	in.GET("/content/sites", s.sites)
	in.POST("/content/sites", s.changeSite, writes)
	in.GET("/content/mailboxes", s.mailboxes)
	in.POST("/content/mailboxes/open", s.openOutbox, leads)
	in.POST("/content/mailboxes/:id", s.setMailbox, leads)
	in.POST("/content/mailboxes/:id/server", s.setMailAccount, leads)
}
