package public

import (
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/shelf"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// shelfPage is what a reader sees of an item. One whose last day is over is
// offered no more.
func (s *Place) shelfPage(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	i, err := s.Store.ShelfItem(c.Request().Context(), id)
	if err != nil {
		return err
	}
	if s.ShelfOver(i) {
		return store.ErrNotFound
	}
	d := struct {
		store.ShelfItem
		File string // its address
	}{i, s.Engine.WithPass(fmt.Sprintf("/s/%d/file", id), time.Hour)}
	return c.Render(http.StatusOK, "shelfpage.html", shell.View{Title: i.Title, Data: d})
}

// shelfFile hands an item out and notes who took it, where that is known.
func (s *Place) shelfFile(c *echo.Context) error {
	ctx := c.Request().Context()
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	i, err := s.Store.ShelfItem(ctx, id)
	if err != nil {
		return err
	}
	if s.ShelfOver(i) {
		return store.ErrNotFound
	}
	b, err := s.browser(c, "")
	if err != nil {
		return err
	}
	if !strings.HasPrefix(i.Type, "image/") && s.looks(c, b.Person) { // pictures within letters are no downloads
		if err := s.Engine.TakeShelf(ctx, i, b.Person); err != nil {
			return err
		}
	}
	if i.Kind == "link" {
		return c.Redirect(http.StatusFound, i.URL)
	}
	data, err := s.Store.ShelfFile(ctx, id)
	if err != nil {
		return err
	}
	h := c.Response().Header()
	how := "attachment"
	if shelf.Inline(i.Type) {
		how = "inline"
	}
	h.Set("Content-Disposition", how+`; filename="`+i.File+`"`)
	h.Set("Content-Security-Policy", "sandbox; default-src 'none'")
	h.Set("Cross-Origin-Resource-Policy", "cross-origin") // pictures stand in letters that are read on the web
	return c.Blob(http.StatusOK, i.Type, data)
}
