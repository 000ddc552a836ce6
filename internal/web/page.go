package web

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/act"
	"ombak/internal/core/message"
	"ombak/internal/core/page"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/shelf"
	"ombak/internal/core/signal"
	"ombak/internal/store"
)

// The writer of pages is one form, like that of messages: whatever is pressed
// sends all of it, what was typed is kept in the draft first, and then what the
// button named do says is done.
//
//	at   the block that is open
//	do   "open 3", "add button 3" (behind block 3), "remove 3", "move 3 -1", "copy 3", "order 3,1,2",
//	     "ask first name" (a further question), "unask 2", "raise 2" (a question up), "agree" and "disagree 2" (a box
//	     for consent), "hide" and "unhide 2" (a hidden field), "act" (one more), "undo", "redo", "publish"

func (s *Server) pageRoutes(in *echo.Group) {
	writes := allow("marketer", "lead", "admin")
	p := in.Group("/content/pages")
	p.GET("", s.pages)
	p.POST("/new", s.newPage, writes)
	p.GET("/:id", s.pageEditor)
	p.POST("/:id", s.changePage, writes)
	p.POST("/:id/place", s.placePage, writes)
	p.POST("/:id/remove", s.removePage, writes)
	p.POST("/:id/back", s.removePage, writes)
	p.GET("/:id/shown", s.pageShown)
}

type pagesData struct {
	Pages   []store.Page
	Removed []store.Page
	New     bool
}

func (s *Server) pages(c *echo.Context) error {
	d := pagesData{New: c.QueryParam("new") != ""}
	var err error
	if d.Pages, err = s.Store.Pages(c.Request().Context()); err != nil {
		return err
	}
	if d.Removed, err = s.Store.RemovedPages(c.Request().Context(), s.Engine.Now().AddDate(0, 0, -30)); err != nil {
		return err
	}
	return s.page(c, "pages.html", "", "Content", "Pages", d)
}

func (s *Server) newPage(c *echo.Context) error {
	id, err := s.Engine.NewPage(c.Request().Context(), c.FormValue("title"), userOf(c).ID)
	if err != nil {
		return s.notDone(c, "/content/pages?new=1", sentence(err))
	}
	return s.done(c, fmt.Sprintf("/content/pages/%d", id), "")
}

type pageData struct {
	P        store.Page
	D        store.PageDraft
	Doc      *page.Document
	Blocks   []blockView
	At       int
	Kinds    []message.Kind
	Asks     []askRow
	Askable  []person.Definition // what is not asked yet
	Keepable []person.Definition
	Purposes []store.Purpose
	Messages []store.Message
	Acts     []actRow
	Choices  *actChoices
	Ladder   int // how many further questions there are
	Tide     tide
	Sources  []store.PageSource
	Answers  []answerLine
	Use      []store.Use
	Sites    []string
	Faults   []error
	Place    map[string]string // what is wrong with where it is
	Snippet  string
	Frame    string
	Finished string // address of the list of those who filled it in
	URL      string
	Wrong    string
	Said     string
	Open     bool // the draft is not what visitors see
}

// blockView is a block in the writer.
type blockView struct {
	page.Block
	C           message.Content
	HTML        string
	Lacks       string
	Lines       string
	Open        bool
	First, Last bool
}

// askRow is a question in the writer.
type askRow struct {
	page.Question
	Name string
	I    int
}

// answerLine is a form that somebody filled in.
type answerLine struct {
	store.Answer
	Given string
}

func (s *Server) pageEditor(c *echo.Context) error {
	id, err := idOf(c, "id")
	if err != nil {
		return err
	}
	at, _ := strconv.Atoi(c.QueryParam("at")) // none: no block is open
	return s.showPage(c, http.StatusOK, pageData{P: store.Page{ID: id}, At: at})
}

func (s *Server) showPage(c *echo.Context, code int, d pageData) error {
	ctx := c.Request().Context()
	id := d.P.ID
	typed := d.P
	var err error
	if d.P, err = s.Store.Page(ctx, id); err != nil {
		return err
	}
	if d.Place != nil { // what was typed stays
		d.P.Slug, d.P.Offer, d.P.Published = typed.Slug, typed.Offer, typed.Published
	}
	if d.D, err = s.Store.PageDraft(ctx, id); err != nil {
		return err
	}
	d.Doc, d.URL, d.Kinds, d.Open = &d.D.Doc.V, s.Engine.URL, page.Kinds(), d.P.Open
	for i, b := range d.Doc.Blocks {
		d.Blocks = append(d.Blocks, blockView{Block: b, C: b.Content, HTML: message.Sketch(b.Kind, b.Content), Lacks: b.Kind.Lacks(b.Content),
			Lines: strings.Join(b.Content.Items, "\n"), Open: b.ID == d.At, First: i == 0, Last: i == len(d.Doc.Blocks)-1})
	}
	cat, err := s.Store.Catalogue(ctx)
	if err != nil {
		return err
	}
	form := &d.Doc.Form
	for i, q := range form.Questions {
		x, _ := cat.Define(q.Field)
		d.Asks = append(d.Asks, askRow{q, x.Name, i})
		if q.Further {
			d.Ladder++
		}
	}
	for _, x := range cat.Fields() {
		if page.Askable(&x) && !slices.ContainsFunc(form.Questions, func(q page.Question) bool { return q.Field == x.Field }) {
			d.Askable = append(d.Askable, x)
		}
		if page.Keepable(&x) {
			d.Keepable = append(d.Keepable, x)
		}
	}
	if d.Purposes, err = s.Store.Purposes(ctx); err != nil {
		return err
	}
	if d.Messages, err = s.Store.Messages(ctx); err != nil {
		return err
	}
	if d.Choices, err = s.actChoices(ctx); err != nil {
		return err
	}
	for _, a := range form.Acts {
		d.Acts = append(d.Acts, actRow{a, act.OfForm(), d.Choices})
	}
	d.Acts = append(d.Acts, actRow{act.Act{}, act.OfForm(), d.Choices})
	if d.Faults, err = s.Engine.PageFaults(ctx, d.Doc); err != nil {
		return err
	}
	if d.Use, err = s.Store.PageUse(ctx, id); err != nil {
		return err
	}
	if d.Sites, err = s.Store.Sites(ctx); err != nil {
		return err
	}
	if err := s.pageFigures(c, &d, cat); err != nil {
		return err
	}
	d.Snippet = fmt.Sprintf("<div data-ombak-form=%q></div>\n<script src=%q defer></script>", d.P.Slug, s.Engine.URL+"/f.js")
	address := fmt.Sprintf("/content/pages/%d", id)
	if d.At != 0 {
		address += fmt.Sprintf("?at=%d", d.At)
	}
	if isHTMX(c) {
		c.Response().Header().Set("HX-Push-Url", address)
	}
	return s.pageCode(c, code, "page.html", "pagewriter", "Content", d.Doc.Title, d)
}

// pageFigures reads how far visitors came, and who the last were.
func (s *Server) pageFigures(c *echo.Context, d *pageData, cat *rule.Catalogue) error {
	ctx := c.Request().Context()
	d.Finished = "/people?" + listQuery{Rule: rule.Rule{If: &rule.Condition{Signal: &signal.Pattern{Kind: signal.Form, Place: signal.Place{Page: d.P.ID}}, Op: rule.AtLeast, N: 1}}, Order: store.Newest, Columns: usualColumns}.values().Encode()
	if d.P.Visits == 0 {
		return nil
	}
	const days = 30
	from := s.Engine.Now().In(s.Engine.Zone).AddDate(0, 0, 1-days)
	list, err := s.Store.PageDays(ctx, d.P.ID, time.Date(from.Year(), from.Month(), from.Day(), 0, 0, 0, 0, s.Engine.Zone), s.Engine.Zone.String())
	if err != nil {
		return err
	}
	by := map[string]store.PageDay{}
	for _, x := range list {
		by[x.Day.Format(time.DateOnly)] = x
	}
	d.Tide = tide{W: 460, H: 130, Left: 30, Bottom: 22}
	for i := range days {
		day := from.AddDate(0, 0, i)
		x := by[day.Format(time.DateOnly)]
		p := tidePoint{Value: float64(x.Finished), Second: float64(x.Visits), Title: fmt.Sprintf("%s: %d visits, %d began, %d filled it in", day.Format("Mon 2 Jan"), x.Visits, x.Started, x.Finished)}
		if day.Weekday() == time.Monday {
			p.Tick = day.Format("2 Jan")
		}
		d.Tide.Points = append(d.Tide.Points, p)
	}
	d.Tide.layout()
	if d.Sources, err = s.Store.PageSources(ctx, d.P.ID, 12); err != nil {
		return err
	}
	answers, err := s.Store.PageAnswers(ctx, d.P.ID, 8)
	if err != nil {
		return err
	}
	for _, a := range answers {
		x := answerLine{Answer: a}
		for _, q := range d.P.Doc.V.Form.Questions {
			if v := a.Answers.V[q.Field]; q.Further && v != "" {
				def, _ := cat.Define(q.Field)
				x.Given += def.Name + ": " + person.Shown(v) + " "
			}
		}
		d.Answers = append(d.Answers, x)
	}
	return nil
}

// typedPage is the draft as its form has it now.
func typedPage(was page.Document, at int, v url.Values) page.Document {
	d := was
	line := func(k string, i int, n int) string {
		if i >= len(v[k]) {
			return ""
		}
		s := strings.Join(strings.Fields(strings.ToValidUTF8(strings.ReplaceAll(v[k][i], "\x00", ""), "")), " ")
		if len(s) > n {
			s = strings.ToValidUTF8(s[:n], "")
		}
		return s
	}
	d.Title = line("title", 0, person.MaxName)
	if i := d.Block(at); i >= 0 && v.Get("kind") == string(d.Blocks[i].Kind) {
		d.Blocks = slices.Clone(d.Blocks)
		d.Blocks[i].Content = typedSection(v, d.Blocks[i].Kind)
	}
	f := &d.Form
	f.Title, f.Button = line("form_title", 0, 200), line("button", 0, 120)
	f.Thanks, f.To, f.Message, f.Proved = message.Clean(v.Get("thanks")), line("to", 0, 500), number(v.Get("message")), v.Get("proved") != ""
	f.AtOnce, _ = strconv.Atoi(v.Get("at_once")) // nothing typed: none
	chosen := func(k string, i int) bool { return slices.Contains(v[k], strconv.Itoa(i)) }
	f.Questions = nil
	for i := range v["q_field"] {
		if i < page.MaxQuestions {
			field := person.Field(line("q_field", i, 60))
			f.Questions = append(f.Questions, page.Question{Field: field, Label: line("q_label", i, 200), Help: line("q_help", i, 300),
				Must: chosen("q_must", i) || field == person.EmailField, Further: line("q_when", i, 10) == "further" && field != person.EmailField})
		}
	}
	f.Consents = nil
	for i := range v["c_purpose"] {
		if i < page.MaxHidden {
			f.Consents = append(f.Consents, page.Consent{Purpose: number(v["c_purpose"][i]), Words: line("c_words", i, 500), Must: chosen("c_must", i)})
		}
	}
	f.Hidden = nil
	for i := range v["h_field"] {
		if i < page.MaxHidden {
			f.Hidden = append(f.Hidden, page.Hidden{Field: person.Field(line("h_field", i, 60)), Param: paramName(line("h_param", i, 60)), Value: line("h_value", i, 200)})
		}
	}
	f.Acts = nil
	for i := range v["act_do"] {
		if a := typedAct(v, i); a.Do != "" && i < act.Max {
			f.Acts = append(f.Acts, a)
		}
	}
	return d
}

// paramName keeps of a typed name what the parameter of an address can be.
func paramName(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '_' || r == '-' {
			return r
		}
		return -1
	}, s)
}

func samePage(a, b page.Document) bool {
	x, err := json.Marshal(a)
	y, err2 := json.Marshal(b)
	return err == nil && err2 == nil && string(x) == string(y)
}

// changePage keeps what was typed and does what was pressed.
func (s *Server) changePage(c *echo.Context) error {
	ctx := c.Request().Context()
	id, err := idOf(c, "id")
	if err != nil {
		return err
	}
	v, err := c.FormValues()
	if err != nil {
		return err
	}
	at, _ := strconv.Atoi(v.Get("at")) // none is open
	user := userOf(c).ID
	if v.Has("title") {
		before, err := s.Store.PageDraft(ctx, id)
		if err != nil {
			return err
		}
		if !samePage(before.Doc.V, typedPage(before.Doc.V, at, v)) {
			if err := s.Engine.EditPage(ctx, id, user, fmt.Sprintf("words of block %d", at), func(d *page.Document) error {
				*d = typedPage(*d, at, v)
				return nil
			}); err != nil {
				return err
			}
		}
	}
	said := ""
	do, rest, _ := strings.Cut(v.Get("do"), " ")
	at, said, err = s.doPage(c, id, at, do, rest)
	if errors.Is(err, echo.ErrBadRequest) || store.IsNotFound(err) {
		return err
	}
	if err != nil {
		return s.showPage(c, http.StatusUnprocessableEntity, pageData{P: store.Page{ID: id}, At: at, Wrong: sentence(err)})
	}
	if isHTMX(c) {
		return s.showPage(c, http.StatusOK, pageData{P: store.Page{ID: id}, At: at, Said: said})
	}
	return s.done(c, fmt.Sprintf("/content/pages/%d?at=%d", id, at), said)
}

// doPage does what was pressed. It answers the block that is open then.
func (s *Server) doPage(c *echo.Context, id int64, at int, do, rest string) (open int, said string, err error) {
	ctx, user := c.Request().Context(), userOf(c).ID
	words := append(strings.Fields(rest), "", "")
	n, _ := strconv.Atoi(words[0]) // what is no number is no block
	edit := func(what string, f func(d *page.Document) error) error {
		return s.Engine.EditPage(ctx, id, user, what, f)
	}
	form := func(what string, f func(x *page.Form) error) error {
		return edit(what, func(d *page.Document) error { return f(&d.Form) })
	}
	switch do {
	case "":
	case "open":
		return n, "", nil
	case "add":
		behind, _ := strconv.Atoi(words[1])
		err = edit("put in: "+words[0], func(d *page.Document) error {
			if behind == 0 && len(d.Blocks) > 0 {
				behind = d.Blocks[len(d.Blocks)-1].ID
			}
			at, err = d.Insert(message.Kind(words[0]), behind)
			return err
		})
	case "remove":
		err = edit("took out a block", func(d *page.Document) error { return d.Remove(n) })
		at = 0
	case "move":
		by, _ := strconv.Atoi(words[1])
		err = edit("moved a block", func(d *page.Document) error { return d.Move(n, by) })
	case "copy":
		err = edit("copied a block", func(d *page.Document) error { at, err = d.Copy(n); return err })
	case "order":
		var ids []int
		for _, x := range strings.Split(words[0], ",") {
			k, err := strconv.Atoi(x)
			if err != nil {
				return at, "", echo.ErrBadRequest
			}
			ids = append(ids, k)
		}
		err = edit("moved a block", func(d *page.Document) error { d.Order(ids); return nil })
	case "ask":
		err = form("a question", func(f *page.Form) error {
			f.Questions = append(f.Questions, page.Question{Field: person.Field(rest), Further: true})
			return nil
		})
	case "unask":
		err = form("a question", func(f *page.Form) error { f.Questions = without(f.Questions, n); return nil })
	case "raise":
		err = form("order of questions", func(f *page.Form) error {
			if n > 0 && n < len(f.Questions) {
				f.Questions[n-1], f.Questions[n] = f.Questions[n], f.Questions[n-1]
			}
			return nil
		})
	case "agree":
		purposes, err := s.Store.Purposes(ctx)
		if err != nil {
			return at, "", err
		}
		if len(purposes) == 0 {
			return at, "", errors.New("there is no purpose yet that people could agree to: add one under People, Tags and fields")
		}
		err = form("a box for consent", func(f *page.Form) error {
			f.Consents = append(f.Consents, page.Consent{Purpose: purposes[0].ID, Words: "Yes, write to me about: " + purposes[0].Name})
			return nil
		})
		return at, "", err
	case "disagree":
		err = form("a box for consent", func(f *page.Form) error { f.Consents = without(f.Consents, n); return nil })
	case "hide":
		err = form("a hidden field", func(f *page.Form) error {
			f.Hidden = append(f.Hidden, page.Hidden{Field: person.Department})
			return nil
		})
	case "unhide":
		err = form("a hidden field", func(f *page.Form) error { f.Hidden = without(f.Hidden, n); return nil })
	case "undo", "redo":
		_, err = s.Engine.MovePageDraft(ctx, id, map[string]int{"undo": -1, "redo": 1}[do])
	case "publish":
		if err = s.Engine.PublishPage(ctx, id); err == nil {
			said = "Published. Visitors see it from now on."
		}
	default:
		err = echo.ErrBadRequest
	}
	return at, said, err
}

func without[T any](list []T, i int) []T {
	if i < 0 || i >= len(list) {
		return list
	}
	return slices.Delete(list, i, i+1)
}

var slugForm = regexp.MustCompile(`^[a-z0-9]+(-[a-z0-9]+)*$`)

// maxFile is how large the file that a page offers can be.
const maxFile = 10 << 20

// placePage keeps where a page is, what file it offers, and whether visitors
// reach it.
func (s *Server) placePage(c *echo.Context) error {
	ctx := c.Request().Context()
	id, err := idOf(c, "id")
	if err != nil {
		return err
	}
	p, err := s.Store.Page(ctx, id)
	if err != nil {
		return err
	}
	wrong := map[string]string{}
	p.Slug = strings.ToLower(strings.TrimSpace(c.FormValue("slug")))
	p.Offer = person.Name(c.FormValue("offer"))
	if published := c.FormValue("published") != ""; !published {
		p.Published = false
	} else if !p.Published {
		faults, err := s.Engine.PageFaults(ctx, &p.Doc.V)
		if err != nil {
			return err
		}
		if p.Published = len(faults) == 0; !p.Published {
			wrong["published"] = "Press “Publish” above, once nothing is missing."
		}
	}
	if len(p.Slug) > 80 || !slugForm.MatchString(p.Slug) {
		wrong["slug"] = "The address is made of small letters, figures and hyphens, such as oxygen-alarms."
	}
	file, name, err := uploaded(c, "file", maxFile)
	if err != nil {
		wrong["file"] = sentence(err)
	}
	if file != nil {
		p.FileName = name
	}
	if len(wrong) == 0 {
		err := s.Engine.SavePage(ctx, p, file, http.DetectContentType(file))
		switch {
		case errors.Is(err, store.ErrTaken):
			wrong["slug"] = "Another page has this address."
		case err != nil && file != nil:
			wrong["file"] = sentence(err)
		case err != nil:
			return err
		default:
			return s.done(c, fmt.Sprintf("/content/pages/%d", id), "Kept.")
		}
	}
	return s.showPage(c, http.StatusUnprocessableEntity, pageData{P: p, Place: wrong, Wrong: "Not kept yet: see the address and the file."})
}

// uploaded reads a file that was sent with a form; nil where none was.
func uploaded(c *echo.Context, field string, limit int64) (data []byte, name string, err error) {
	f, err := c.FormFile(field)
	if errors.Is(err, http.ErrMissingFile) || err == nil && f.Filename == "" {
		return nil, "", nil
	}
	if err != nil {
		return nil, "", err
	}
	if f.Size > limit {
		return nil, "", fmt.Errorf("the file is larger than %d MB", limit>>20)
	}
	r, err := f.Open()
	if err != nil {
		return nil, "", err
	}
	defer r.Close()
	data, err = io.ReadAll(io.LimitReader(r, limit))
	if err == nil && len(data) == 0 {
		err = shelf.ErrEmpty
	}
	return data, f.Filename, err
}

func (s *Server) removePage(c *echo.Context) error {
	id, err := idOf(c, "id")
	if err != nil {
		return err
	}
	back := strings.HasSuffix(c.Request().URL.Path, "/back")
	if err := s.Engine.RemovePage(c.Request().Context(), id, back); store.IsNotFound(err) {
		return err
	} else if err != nil {
		return s.notDone(c, fmt.Sprintf("/content/pages/%d", id), sentence(err))
	}
	if back {
		return s.done(c, fmt.Sprintf("/content/pages/%d", id), "It is back.")
	}
	return s.done(c, "/content/pages", "Visitors do not reach the page any more. Below the list it can be put back.")
}
