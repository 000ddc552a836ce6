package web

import (
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"regexp"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/message"
	"ombak/internal/core/person"
	"ombak/internal/store"
)

type contentData struct {
	Messages []store.Message
	Starters []starter
	Removed  []store.Message
	Pages    []store.Page
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
	if d.Pages, err = s.Store.Pages(c.Request().Context()); err != nil {
		return err
	}
	return s.page(c, "content.html", "", "Content", "Content", d)
}

type pageData struct {
	P     store.Page
	Wrong map[string]string
	URL   string
}

func (s *Server) pageEditor(c *echo.Context) error {
	d := pageData{P: store.Page{Button: "Send me the guide", Published: true}}
	if c.Param("id") != "" {
		id, err := idOf(c, "id")
		if err != nil {
			return err
		}
		if d.P, err = s.Store.Page(c.Request().Context(), id); err != nil {
			return err
		}
	}
	return s.showPage(c, http.StatusOK, d)
}

func (s *Server) showPage(c *echo.Context, code int, d pageData) error {
	d.URL = s.Engine.URL
	title := d.P.Title
	if title == "" {
		title = "New page"
	}
	return s.pageCode(c, code, "page.html", "", "Content", title, d)
}

var slugForm = regexp.MustCompile(`^[a-z0-9]+(-[a-z0-9]+)*$`)

// maxFile is how large the file that a page offers can be.
const maxFile = 10 << 20

func (s *Server) savePage(c *echo.Context) error {
	ctx := c.Request().Context()
	var p store.Page
	if c.Param("id") != "" {
		id, err := idOf(c, "id")
		if err != nil {
			return err
		}
		if p, err = s.Store.Page(ctx, id); err != nil {
			return err
		}
	}
	wrong := map[string]string{}
	p.Slug = strings.ToLower(strings.TrimSpace(c.FormValue("slug")))
	p.Title, p.Button, p.Offer = person.Name(c.FormValue("title")), person.Name(c.FormValue("button")), person.Name(c.FormValue("offer"))
	p.Intro, p.Thanks = message.Clean(c.FormValue("intro")), person.Name(c.FormValue("thanks"))
	p.Published = c.FormValue("published") != ""
	if p.Title == "" {
		wrong["title"] = "Give the page a title."
	}
	if len(p.Slug) > 80 || !slugForm.MatchString(p.Slug) {
		wrong["slug"] = "The address is made of small letters, figures and hyphens, such as oxygen-alarms."
	}
	if p.Button == "" {
		wrong["button"] = "Say what the button does."
	}
	if len(p.Intro) > message.MaxBody {
		wrong["intro"] = "The text is too long."
	}
	var file []byte
	if f, err := c.FormFile("file"); err == nil && f.Size > 0 {
		if f.Size > maxFile {
			wrong["file"] = "The file is larger than 10 MB."
		} else {
			r, err := f.Open()
			if err != nil {
				return err
			}
			defer r.Close()
			if file, err = io.ReadAll(io.LimitReader(r, maxFile)); err != nil {
				return err
			}
			p.FileName = person.Name(filepath.Base(f.Filename))
			p.FileType = http.DetectContentType(file) // by what is in it, not by its name
		}
	}
	if len(wrong) == 0 {
		id, err := s.Store.SavePage(ctx, p, file, s.Engine.Now())
		switch {
		case err == store.ErrTaken:
			wrong["slug"] = "Another page has this address."
		case err != nil:
			return err
		default:
			return s.done(c, fmt.Sprintf("/content/pages/%d", id), "Saved.")
		}
	}
	return s.showPage(c, http.StatusUnprocessableEntity, pageData{P: p, Wrong: wrong})
}
