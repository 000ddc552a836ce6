package content

import (
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/folder"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/core/shelf"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

func (s *Place) shelfRoutes(in *echo.Group) {
	writes := shell.Allow(right.Marketer, right.Lead, right.Admin)
	in.POST("/content/upload", s.uploadFile, writes)
	g := in.Group("/content/shelf")
	g.GET("", s.shelf)
	g.GET("/new", s.shelfEditor, writes)
	g.POST("/new", s.saveShelf, writes)
	g.GET("/:id", s.shelfEditor)
	g.POST("/:id", s.saveShelf, writes)
	g.GET("/:id/send", s.sendFromShelf)
	g.POST("/:id/remove", s.removeShelf, writes)
}

type shelfData struct {
	List []store.ShelfItem
	Text string
	Over bool
	Now  time.Time
	F    *shell.Folders
}

func (s *Place) shelf(c *echo.Context) error {
	d := shelfData{Text: person.Name(c.QueryParam("text")), Over: c.QueryParam("over") != "", Now: s.Engine.Now()}
	var err error
	if d.List, err = s.Store.Shelf(c.Request().Context(), d.Text, d.Now, d.Over); err != nil {
		return err
	}
	if d.F, err = s.Folders(c, folder.Shelf, "/content/shelf"); err != nil {
		return err
	}
	d.List = shell.Firsts(d.F, shell.InFolder(d.F, d.List, func(i *store.ShelfItem) int64 { return i.ID }))
	return s.Page(c, "shelf.html", "list", "Content", "Shelf", d)
}

type shelfForm struct {
	I        store.ShelfItem
	Ends     string
	Wrong    string
	URL      string
	Versions []store.ShelfVersion
	Takers   []taker
	Over     bool
}

type taker struct {
	store.Person
	At time.Time
}

func (s *Place) shelfEditor(c *echo.Context) error {
	d := shelfForm{I: store.ShelfItem{Kind: "file"}}
	if c.QueryParam("kind") == "link" {
		d.I.Kind = "link"
	}
	if c.Param("id") != "" {
		id, err := shell.IDOf(c, "id")
		if err != nil {
			return err
		}
		if d.I, err = s.Store.ShelfItem(c.Request().Context(), id); err != nil {
			return err
		}
	}
	return s.showShelf(c, http.StatusOK, d)
}

func (s *Place) showShelf(c *echo.Context, code int, d shelfForm) error {
	ctx := c.Request().Context()
	title := "New on the shelf"
	if d.I.ID != 0 {
		title = d.I.Title
		d.URL = fmt.Sprintf("%s/s/%d", s.Engine.URL, d.I.ID)
		var err error
		if d.Versions, err = s.Store.ShelfVersions(ctx, d.I.ID); err != nil {
			return err
		}
		takers, err := s.Store.ShelfTakers(ctx, d.I.ID, 60)
		if err != nil {
			return err
		}
		var ids []int64
		for _, t := range takers {
			ids = append(ids, t.Person)
		}
		people, err := s.Store.PeopleByID(ctx, ids)
		if err != nil {
			return err
		}
		for _, t := range takers {
			if p := people[t.Person]; p != nil {
				d.Takers = append(d.Takers, taker{*p, t.At})
			}
		}
	}
	if d.I.Ends != nil {
		d.Ends = d.I.Ends.Format(time.DateOnly)
		d.Over = s.ShelfOver(d.I)
	}
	return s.PageCode(c, code, "shelfitem.html", "", "Content", title, d)
}

func (s *Place) saveShelf(c *echo.Context) error {
	ctx := c.Request().Context()
	i := store.ShelfItem{Kind: c.FormValue("kind")}
	if c.Param("id") != "" {
		id, err := shell.IDOf(c, "id")
		if err != nil {
			return err
		}
		if i, err = s.Store.ShelfItem(ctx, id); err != nil {
			return err
		}
	}
	i.Title, i.Stage, i.Note, i.About = person.Name(c.FormValue("title")), person.Name(c.FormValue("stage")),
		person.Name(c.FormValue("note")), person.Name(c.FormValue("about"))
	wrong := ""
	lang, err := person.LanguageTag(c.FormValue("language"))
	if err != nil {
		wrong = shell.Sentence(err)
	}
	i.Language, i.Ends = lang, nil
	if text := strings.TrimSpace(c.FormValue("ends")); text != "" {
		t, err := time.Parse(time.DateOnly, text)
		if err != nil {
			wrong = "The last day is a date such as 2026-12-31."
		}
		i.Ends = &t
	}
	if i.Kind == "link" {
		i.URL = strings.TrimSpace(c.FormValue("url"))
	}
	data, name, err := shell.Uploaded(c, "file", shelf.MaxFile)
	if err != nil && wrong == "" {
		wrong = shell.Sentence(err)
	}
	if data != nil {
		i.File = name
	}
	if wrong == "" {
		id, err := s.Engine.SaveShelfItem(ctx, i, data, shell.UserOf(c).ID)
		if err == nil {
			return s.Done(c, fmt.Sprintf("/content/shelf/%d", id), "Saved.")
		}
		if store.IsNotFound(err) {
			return err
		}
		wrong = shell.Sentence(err)
	}
	return s.showShelf(c, http.StatusUnprocessableEntity, shelfForm{I: i, Wrong: wrong})
}

// uploadFile puts a file on the shelf for whoever writes a message or a page, and
// answers where it is.
func (s *Place) uploadFile(c *echo.Context) error {
	data, name, err := shell.Uploaded(c, "file", shelf.MaxFile)
	var i store.ShelfItem
	if err == nil {
		if c.QueryParam("picture") != "" && !strings.HasPrefix(http.DetectContentType(data), "image/") {
			err = plainly.New("this is no picture that browsers show: a PNG, a JPEG, a WebP or a GIF is")
		} else {
			i, err = s.Engine.Upload(c.Request().Context(), name, data, shell.UserOf(c).ID)
		}
	}
	if err != nil {
		return c.JSON(http.StatusUnprocessableEntity, map[string]string{"wrong": shell.Sentence(err)})
	}
	return c.JSON(http.StatusOK, map[string]any{"id": i.ID, "address": fmt.Sprintf("/s/%d/file", i.ID)})
}

func (s *Place) removeShelf(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	back := c.FormValue("back") != ""
	if err := s.Engine.RemoveShelfItem(c.Request().Context(), id, back); err != nil {
		return err
	}
	if back {
		return s.Done(c, fmt.Sprintf("/content/shelf/%d", id), "It is back on the shelf.")
	}
	return s.Done(c, "/content/shelf", "It is off the shelf; links to it lead nowhere now.")
}
