package web

import (
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/message"
	"ombak/internal/core/person"
	"ombak/internal/engine"
	"ombak/internal/store"
)

type contentData struct {
	Messages []store.Message
	Pages    []store.Page
}

func (s *Server) content(c *echo.Context) error {
	var d contentData
	var err error
	if d.Messages, err = s.Store.Messages(c.Request().Context()); err != nil {
		return err
	}
	if d.Pages, err = s.Store.Pages(c.Request().Context()); err != nil {
		return err
	}
	return s.page(c, "content.html", "", "Content", "Content", d)
}

type messageData struct {
	M       store.Message
	Wrong   string
	Fields  []message.Field
	Users   []store.User
	Pages   []store.Page
	Readers []store.Person
	Reader  int64
}

func (s *Server) messageEditor(c *echo.Context) error {
	d := messageData{M: store.Message{FromOwner: true}}
	if c.Param("id") != "" {
		id, err := idOf(c, "id")
		if err != nil {
			return err
		}
		if d.M, err = s.Store.Message(c.Request().Context(), id); err != nil {
			return err
		}
	} else {
		me := userOf(c).ID
		d.M.SenderID = &me
	}
	return s.showMessage(c, http.StatusOK, d)
}

func (s *Server) showMessage(c *echo.Context, code int, d messageData) error {
	ctx := c.Request().Context()
	var err error
	if d.Users, err = s.Store.Users(ctx); err != nil {
		return err
	}
	if d.Pages, err = s.Store.Pages(ctx); err != nil {
		return err
	}
	if d.Readers, _, err = s.Store.People(ctx, store.PeopleQuery{Order: store.ByScore, Limit: 30, Now: s.Engine.Now()}); err != nil {
		return err
	}
	d.Fields = message.Fields()
	d.Reader, _ = strconv.ParseInt(c.QueryParam("reader"), 10, 64)
	if d.Reader == 0 && len(d.Readers) > 0 {
		d.Reader = d.Readers[0].ID
	}
	name := d.M.Name
	if name == "" {
		name = "New message"
	}
	return s.pageCode(c, code, "message.html", "", "Content", name, d)
}

func (s *Server) saveMessage(c *echo.Context) error {
	ctx := c.Request().Context()
	var id int64
	if c.Param("id") != "" {
		var err error
		if id, err = idOf(c, "id"); err != nil {
			return err
		}
		if _, err = s.Store.Message(ctx, id); err != nil {
			return err
		}
	}
	m := store.Message{ID: id, Name: person.Name(c.FormValue("name")), Subject: strings.TrimSpace(c.FormValue("subject")), Body: message.Clean(c.FormValue("body")), FromOwner: c.FormValue("from") == "owner"}
	sender, _ := strconv.ParseInt(c.FormValue("sender"), 10, 64)
	if sender > 0 {
		m.SenderID = &sender
	}
	wrong := ""
	if m.Name == "" {
		wrong = "Give the message a name, so that you find it again."
	} else if err := (&message.Message{Subject: m.Subject, Body: m.Body}).Check(); err != nil {
		wrong = sentence(err)
	} else if m.SenderID == nil {
		wrong = "Choose who sends it to readers without an owner."
	} else if _, err := s.Store.User(ctx, sender); err != nil {
		wrong = "Choose who sends it to readers without an owner."
	}
	if wrong != "" {
		return s.showMessage(c, http.StatusUnprocessableEntity, messageData{M: m, Wrong: wrong})
	}
	err := s.Store.InTx(ctx, func(tx store.Tx) error {
		var err error
		id, err = store.SaveMessage(ctx, tx, m, userOf(c).ID, s.Engine.Now())
		return err
	})
	if err != nil {
		return err
	}
	return s.done(c, fmt.Sprintf("/content/messages/%d", id), "Saved. Sequences that are running keep the version they were launched with.")
}

// previewMessage shows a message as one person would get it, links and
// pictures dead.
func (s *Server) previewMessage(c *echo.Context) error {
	ctx := c.Request().Context()
	id, err := idOf(c, "id")
	if err != nil {
		return err
	}
	m, err := s.Store.Message(ctx, id)
	if err != nil {
		return err
	}
	reader, _ := strconv.ParseInt(c.QueryParam("reader"), 10, 64)
	p, err := s.Store.Person(ctx, reader)
	if err != nil {
		return err
	}
	o := store.Outgoing{First: p.First, Last: p.Last, Email: p.Email, Title: p.Title, Country: p.Country, City: p.City, Company: p.Company, Industry: p.Industry}
	from := m.SenderID
	if m.FromOwner && p.OwnerID != nil {
		from = p.OwnerID
	}
	who := "nobody: the reader has no owner and no other sender is chosen"
	if from != nil {
		u, err := s.Store.User(ctx, *from)
		if err != nil {
			return err
		}
		o.SenderName, o.SenderEmail, o.SenderPhone = &u.Name, &u.Email, &u.Phone
		who = fmt.Sprintf("%s <%s>", u.Name, u.Email)
	}
	r, err := (&message.Message{Subject: m.Subject, Body: m.Body}).Render(engine.Values(&o), nil)
	d := map[string]any{"From": who, "To": p.Email, "Subject": r.Subject, "Body": r.HTML}
	if err != nil {
		d["Wrong"] = sentence(err) + " This reader would not get the email."
	}
	return c.Render(http.StatusOK, "preview.html#letter", View{Data: d})
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
