package content

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/act"
	"ombak/internal/core/calendar"
	"ombak/internal/core/folder"
	"ombak/internal/core/message"
	"ombak/internal/core/page"
	"ombak/internal/core/person"
	"ombak/internal/core/right"
	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

func (s *Place) pageRoutes(in *echo.Group) {
	writes := shell.Allow(right.Marketer, right.Lead, right.Admin)
	p := in.Group("/content/pages")
	p.GET("", s.pages)
	p.POST("/new", s.newPage, writes)
	p.GET("/:id", s.pageEditor)
	p.POST("/:id", s.changePage, writes)
	p.POST("/:id/place", s.placePage, writes)
	p.POST("/:id/remove", s.removePage, writes)
	p.POST("/:id/back", s.removePage, writes)
}

type pagesData struct {
	Pages   []store.Page
	Removed []store.Page
	New     bool
	F       *shell.Folders
}

func (s *Place) pages(c *echo.Context) error {
	d := pagesData{New: c.QueryParam("new") != ""}
	var err error
	if d.Pages, err = s.Store.Pages(c.Request().Context()); err != nil {
		return err
	}
	if d.F, err = s.Folders(c, folder.Page, "/content/pages"); err != nil {
		return err
	}
	d.Pages = shell.Firsts(d.F, shell.InFolder(d.F, d.Pages, func(p *store.Page) int64 { return p.ID }))
	if d.Removed, err = s.Store.RemovedPages(c.Request().Context(), s.Engine.Now().AddDate(0, 0, -30)); err != nil {
		return err
	}
	return s.Page(c, "pages.html", "", "Content", "Pages", d)
}

func (s *Place) newPage(c *echo.Context) error {
	id, err := s.Engine.NewPage(c.Request().Context(), c.FormValue("title"), shell.UserOf(c).ID)
	if err != nil {
		return s.NotDone(c, "/content/pages?new=1", shell.Sentence(err))
	}
	return s.Done(c, fmt.Sprintf("/content/pages/%d", id), "")
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
	Messages []store.MessageName
	Acts     []shell.ActRow
	Choices  *shell.ActChoices
	Ladder   int // how many further questions there are
	Tide     shell.Tide
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
	State    string // of the draft, that the form was drawn from
	Open     bool   // the draft is not what visitors see
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

func (s *Place) pageEditor(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	at, _ := strconv.Atoi(c.QueryParam("at")) // none: no block is open
	return s.showPage(c, http.StatusOK, pageData{P: store.Page{ID: id}, At: at})
}

func (s *Place) showPage(c *echo.Context, code int, d pageData) error {
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
	d.State = shell.StateOf(d.D.Doc.V)
	for i, b := range d.Doc.Blocks {
		d.Blocks = append(d.Blocks,
			blockView{Block: b, C: b.Content, HTML: message.Sketch(b.Kind, b.Content), Lacks: b.Kind.Lacks(b.Content),
				Lines: strings.Join(b.Content.Items, "\n"), Open: b.ID == d.At, First: i == 0,
				Last: i == len(d.Doc.Blocks)-1})
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
		if page.Askable(&x) && !slices.ContainsFunc(form.Questions, func(q page.Question) bool {
			return q.Field == x.Field
		}) {
			d.Askable = append(d.Askable, x)
		}
		if page.Keepable(&x) {
			d.Keepable = append(d.Keepable, x)
		}
	}
	if d.Purposes, err = s.Store.Purposes(ctx); err != nil {
		return err
	}
	if d.Messages, err = s.Store.MessageNames(ctx); err != nil {
		return err
	}
	if d.Choices, err = s.ActChoices(ctx); err != nil {
		return err
	}
	var acts []act.Act
	for _, a := range form.Acts {
		acts = append(acts, a.Act)
	}
	d.Acts = shell.ActRows(acts, act.OfForm(), d.Choices)
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
	d.Snippet = fmt.Sprintf("<div data-ombak-form=%q></div>\n<script src=%q defer></script>", d.P.Slug,
		s.Engine.URL+"/f.js")
	address := fmt.Sprintf("/content/pages/%d", id)
	if d.At != 0 {
		address += fmt.Sprintf("?at=%d", d.At)
	}
	if shell.IsHTMX(c) {
		c.Response().Header().Set("HX-Push-Url", address)
	}
	return s.PageCode(c, code, "page.html", "pagewriter", "Content", d.Doc.Title, d)
}

// pageDays is of how many days, the last of them today, a page shows its visits.
const pageDays = 30

// daysOf counts a page's visits by day, from a day on.
func (s *Place) daysOf(ctx context.Context, page int64) (from time.Time, list []store.PageDay, err error) {
	zone := s.Engine.Zone()
	from = s.Engine.Now().In(zone).AddDate(0, 0, 1-pageDays)
	list, err = shell.Lately(ctx, s.Shell, &s.days, page, func(ctx context.Context) ([]store.PageDay, error) {
		return s.Store.PageDays(ctx, page, calendar.At(calendar.DateOf(from, zone), 0, zone), zone.String())
	})
	return from, list, err
}

// sourcesOf counts a page's visits by where they came from.
func (s *Place) sourcesOf(ctx context.Context, page int64) ([]store.PageSource, error) {
	return shell.Lately(ctx, s.Shell, &s.sources, page, func(ctx context.Context) ([]store.PageSource, error) {
		return s.Store.PageSources(ctx, page, 12)
	})
}

// Warm counts the visits of the pages that most people see before anybody asks.
func (s *Place) Warm(ctx context.Context) error {
	busy, err := s.Store.BusiestPages(ctx, 20)
	for _, id := range busy {
		if _, _, err := s.daysOf(ctx, id); err != nil {
			return err
		}
		if _, err := s.sourcesOf(ctx, id); err != nil {
			return err
		}
	}
	return err
}

// pageFigures reads how far visitors came, and who the last were.
func (s *Place) pageFigures(c *echo.Context, d *pageData, cat *rule.Catalogue) error {
	ctx := c.Request().Context()
	d.Finished = "/people?" +
		shell.ListQuery{Rule: rule.Rule{If: &rule.Condition{Signal: &signal.Pattern{Kind: signal.Form,
			Place: signal.Place{Page: d.P.ID}}, Op: rule.AtLeast, N: 1}}, Order: store.Newest,
			Columns: shell.UsualColumns}.Values().Encode()
	if d.P.Visits == 0 {
		return nil
	}
	from, list, err := s.daysOf(ctx, d.P.ID)
	if err != nil {
		return err
	}
	by := map[string]store.PageDay{}
	for _, x := range list {
		by[x.Day.Format(time.DateOnly)] = x
	}
	d.Tide = shell.Tide{Name: "Visits and filled-in forms, by day", Each: "Day",
		Names: [2]string{"Filled in", "Visits"}, Unfinished: true,
		W: 460, H: 130, Left: 36, Bottom: 22}
	for i := range pageDays {
		day := from.AddDate(0, 0, i)
		x := by[day.Format(time.DateOnly)]
		p := shell.TidePoint{Row: day.Format(shell.DayForm), Value: float64(x.Finished), Second: float64(x.Visits),
			Title: fmt.Sprintf("%s: %d visits, %d began, %d filled it in", day.Format("Mon 2 Jan"), x.Visits, x.Started,
				x.Finished)}
		if day.Weekday() == time.Monday {
			p.Tick = day.Format("2 Jan")
		}
		d.Tide.Points = append(d.Tide.Points, p)
	}
	d.Tide.Layout()
	if d.Sources, err = s.sourcesOf(ctx, d.P.ID); err != nil {
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

var slugForm = regexp.MustCompile(`^[a-z0-9]+(-[a-z0-9]+)*$`)

// MaxFile is how large the file that a page offers can be.
const MaxFile = 10 << 20

// placePage keeps where a page is, what file it offers, and whether visitors
// reach it.
func (s *Place) placePage(c *echo.Context) error {
	ctx := c.Request().Context()
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	p, err := s.Store.Page(ctx, id)
	if err != nil {
		return err
	}
	was, wrong := p, map[string]string{}
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
	file, name, err := shell.Uploaded(c, "file", MaxFile)
	if err != nil {
		wrong["file"] = shell.Sentence(err)
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
			wrong["file"] = shell.Sentence(err)
		case err != nil:
			return err
		default:
			return s.Done(c, fmt.Sprintf("/content/pages/%d", id), "Saved.")
		}
	}
	what := "Not kept yet: see what is marked."
	if file != nil && wrong["file"] == "" { // a browser would not send it again by itself
		was.FileName = name
		if err := s.Engine.SavePage(ctx, was, file, http.DetectContentType(file)); err != nil {
			wrong["file"] = shell.Sentence(err)
		} else {
			what = "The file is kept; the rest is not yet: see what is marked."
		}
	}
	return s.showPage(c, http.StatusUnprocessableEntity, pageData{P: p, Place: wrong, Wrong: what})
}

func (s *Place) removePage(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	back := strings.HasSuffix(c.Request().URL.Path, "/back")
	if err := s.Engine.RemovePage(c.Request().Context(), id, back); store.IsNotFound(err) {
		return err
	} else if err != nil {
		return s.NotDone(c, fmt.Sprintf("/content/pages/%d", id), shell.Sentence(err))
	}
	if back {
		return s.Done(c, fmt.Sprintf("/content/pages/%d", id), "It is back.")
	}
	return s.Done(c, "/content/pages", "Visitors do not reach the page any more. Below the list it can be put back.")
}
