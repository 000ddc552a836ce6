package public

import (
	"fmt"
	"html/template"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/message"
	"ombak/internal/core/page"
	"ombak/internal/core/person"
	"ombak/internal/engine/forms"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// formData is a page, or its form alone, as a visitor sees it.
type formData struct {
	Page     store.Page
	Doc      *page.Document
	Blocks   []template.HTML
	Asks     []ask
	Boxes    []box
	Keep     [][2]string // campaign tags and hidden fields that came with the address
	Wrong    page.Wrong
	View     string // the token of this view
	Seen     bool   // that a known reader looks is kept
	From     string // the browser, where it came from a site of our own
	Site     string // that shows the form
	Done     bool
	To       string // where the visitor goes then
	Back     bool   // somebody who is known already: it asks less
	Stranger bool   // the address is another's: it asks more
	Embedded bool
	Draft    []stage // the draft, seen from inside; nil: it is published
	Stage    int
}

// stage is how much a visitor has answered already, to try the ladder.
type stage struct {
	N     int
	Words string
}

// ask is a question as a visitor meets it.
type ask struct {
	page.Question
	Name    string
	Words   string
	Type    person.Type
	Input   string // of a one-line input
	Auto    string // what a browser may fill in
	Options []shell.Choice
	Value   string
	Wrong   string
}

// box is a box for consent.
type box struct {
	page.Consent
	Name   string
	Ticked bool
	Wrong  string
}

// askedOf makes the questions of a form for whom they are asked of.
func (d *formData) askedOf(
	known page.Known, define func(person.Field) (person.Definition, bool), typed func(string) string,
) {
	form := &d.Doc.Form
	for _, q := range form.Asked(known) {
		x, ok := define(q.Field)
		if !ok {
			continue
		}
		a := ask{Question: q, Name: page.Name(q.Field), Words: q.Label, Type: x.Type, Input: "text",
			Value: typed(page.Name(q.Field))}
		a.Wrong = d.Wrong[a.Name]
		if a.Words == "" {
			a.Words = strings.ToUpper(x.Name[:1]) + x.Name[1:]
		}
		switch x.Type {
		case person.EmailType:
			a.Input = "email"
		case person.PhoneType:
			a.Input = "tel"
		case person.Date:
			a.Input = "date"
		case person.LinkType:
			a.Input = "url"
		case person.OneOf, person.SeveralOf, person.YesNo:
			a.Options = optionsFor(&x, a.Value)
		}
		a.Auto = map[person.Field]string{person.FirstName: "given-name", person.LastName: "family-name",
			person.Company: "organization", person.EmailField: "email",
			person.PhoneField: "tel", person.Title: "organization-title", person.Country: "country-name",
			person.City: "address-level2"}[q.Field]
		d.Asks = append(d.Asks, a)
	}
	for _, c := range form.Consents {
		name := page.ConsentName(c.Purpose)
		d.Boxes = append(d.Boxes, box{c, name, typed(name) != "", d.Wrong[name]})
	}
	for _, h := range append(page.Tags(), form.Hidden...) {
		if v := typed(h.Param); h.Param != "" && v != "" && len(v) <= person.MaxText {
			d.Keep = append(d.Keep, [2]string{h.Param, v})
		}
	}
}

// blocks are what stands beside the form. Their HTML is cleaned by the core.
func (s *Place) blocks(doc *page.Document) []template.HTML {
	var out []template.HTML
	for _, b := range doc.Blocks {
		out = append(out, template.HTML(s.Engine.OnPage(message.Sketch(b.Kind, b.Content))))
	}
	return out
}

func (s *Place) publicPage(c *echo.Context) error { return s.openForm(c, false) }

// embeddedForm is the form alone, within a page of a site of our own.
func (s *Place) embeddedForm(c *echo.Context) error {
	sites, err := s.Store.Sites(c.Request().Context())
	if err != nil {
		return err
	}
	// from before names were checked
	sites = slices.DeleteFunc(sites, func(x string) bool { return forms.Origin(x) != x })
	h := c.Response().Header()
	h.Set("Content-Security-Policy", strings.Replace(h.Get("Content-Security-Policy"),
		"frame-ancestors 'self'", "frame-ancestors 'self' "+strings.Join(sites, " "), 1))
	h.Del("X-Frame-Options")
	if c.Request().Method == http.MethodPost {
		return s.fillForm(c, true)
	}
	return s.openForm(c, true)
}

func (s *Place) openForm(c *echo.Context, embedded bool) error {
	ctx := c.Request().Context()
	p, err := s.published(c)
	if err != nil {
		return err
	}
	d := formData{Page: p, Doc: &p.Doc.V, From: c.QueryParam(forms.VisitorParam), Embedded: embedded}
	if d.Site, err = s.siteOf(c, c.QueryParam("on")); err != nil {
		return err
	}
	b, err := s.browser(c, d.From)
	if err != nil {
		return err
	}
	if machine(c.Request()) == "" && s.Limits.Allow("shown", shell.Network(c.RealIP()), time.Second, 60) {
		if d.View, err = s.Engine.Show(ctx, p, c.QueryParam("utm_source"), d.Site); err != nil {
			return err
		}
	}
	if s.looks(c, b.Person) {
		if err := s.Engine.View(ctx, b.Person, p); err != nil {
			return err
		}
		d.Seen = true // a form filled in must not count it again
	}
	cat, err := s.Store.Catalogue(ctx)
	if err != nil {
		return err
	}
	d.Back = b.Known != nil
	d.askedOf(b.Known, cat.Define, func(name string) string {
		if strings.HasPrefix(name, "f-") || strings.HasPrefix(name, "agree-") {
			return "" // an address fills nothing in and ticks nothing
		}
		return c.QueryParam(name)
	})
	return s.showForm(c, http.StatusOK, d)
}

// siteOf is the site of our own that shows a form; empty for any other.
func (s *Place) siteOf(c *echo.Context, origin string) (string, error) {
	if origin = forms.Origin(origin); origin == "" {
		return "", nil
	}
	ours, err := s.Store.IsSite(c.Request().Context(), origin)
	if err != nil || !ours {
		return "", err
	}
	return origin, nil
}

func (s *Place) showForm(c *echo.Context, code int, d formData) error {
	c.Response().Header().Set("Cache-Control", "no-store")
	// Browsers hold also what follows a form against where it may lead.
	if origin := forms.Origin(d.Doc.Form.To); origin != "" {
		if ours, err := s.Engine.OurPage(c.Request().Context(), d.Doc.Form.To); err != nil {
			return err
		} else if ours {
			h := c.Response().Header()
			h.Set("Content-Security-Policy",
				strings.Replace(h.Get("Content-Security-Policy"), "form-action 'self'", "form-action 'self' "+origin,
					1))
		}
	}
	d.Blocks = s.blocks(d.Doc)
	v := shell.View{Title: d.Doc.Title, Data: d, Zone: s.Engine.Zone(), Now: s.Engine.Now()}
	if d.Embedded {
		v.Scheme = "light" // it stands on another site's ground
	}
	return c.Render(code, "public.html", v)
}

func (s *Place) publicForm(c *echo.Context) error { return s.fillForm(c, false) }

func (s *Place) fillForm(c *echo.Context, embedded bool) error {
	ctx := c.Request().Context()
	p, err := s.published(c)
	if err != nil {
		return err
	}
	v, err := c.FormValues()
	if err != nil {
		return err
	}
	typed := func(name string) string { return strings.Join(v[name], "; ") } // several boxes of one question
	d := formData{Page: p, Doc: &p.Doc.V, View: v.Get("view"), Seen: v.Get("seen") != "", From: v.Get("visitor"),
		Embedded: embedded}
	if d.Site, err = s.siteOf(c, v.Get("on")); err != nil {
		return err
	}
	cat, err := s.Store.Catalogue(ctx)
	if err != nil {
		return err
	}
	b, err := s.browser(c, d.From)
	if err != nil {
		return err
	}
	d.Back = b.Known != nil
	b = b.For(typed(page.Name(person.EmailField)))
	d.Stranger = d.Back && b.Known == nil && strings.TrimSpace(typed(page.Name(person.EmailField))) != ""
	answers, wrong := p.Doc.V.Form.Read(typed, b.Known, cat.Define)
	d.Wrong = wrong
	again := func(code int) error {
		known := b.Known
		if !d.Stranger && known == nil && d.Back { // no address yet: ask as before
			who, err := s.browser(c, d.From)
			if err != nil {
				return err
			}
			known = who.Known
		}
		d.askedOf(known, cat.Define, typed)
		return s.showForm(c, code, d)
	}
	if !s.Limits.Allow("form", shell.Network(c.RealIP()), 5*time.Second, 30) {
		d.Wrong["form"] = "Too many forms came from your network. Please wait a minute and press the button again; " +
			"nothing you typed is lost."
		return again(http.StatusTooManyRequests)
	}
	if len(wrong) > 0 {
		return again(http.StatusUnprocessableEntity)
	}
	d.Done = true
	if v.Get("website") != "" { // a field that no person sees
		return s.showForm(c, http.StatusOK, d)
	}
	id, token, err := s.Engine.FormFilled(ctx, p,
		forms.Filled{Answers: answers, Visit: d.View, Seen: d.Seen, Browser: b, Visitor: d.From, Site: d.Site})
	if err != nil {
		return err
	}
	if err := s.Engine.KnowVisitor(ctx, d.From, id); err != nil {
		return err
	}
	if token != "" {
		s.know(c, token)
	}
	if d.To = p.Doc.V.Form.To; d.To == "" {
		return s.showForm(c, http.StatusOK, d)
	}
	if ours, err := s.Engine.OurPage(ctx, d.To); err != nil || !ours { // a site that went since
		d.To = ""
		return s.showForm(c, http.StatusOK, d)
	}
	if embedded {
		return s.showForm(c, http.StatusOK, d)
	}
	return c.Redirect(http.StatusSeeOther, d.To)
}

// formStarted takes that somebody began to fill a form in.
func (s *Place) formStarted(c *echo.Context) error {
	if machine(c.Request()) != "" || !s.Limits.Allow("started", shell.Network(c.RealIP()), time.Second, 60) {
		return c.NoContent(http.StatusNoContent)
	}
	p, err := s.published(c)
	if err != nil {
		return err
	}
	if err := s.Engine.StartForm(c.Request().Context(), p, c.FormValue("view")); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// formScript is the snippet by which another site shows a form.
func (s *Place) formScript(c *echo.Context) error { return s.snippet(c, "embed.js") }

// pageShown is the draft as a visitor would see it, who has answered so much
// already. Nothing that is typed there goes anywhere.
func (s *Place) pageShown(c *echo.Context) error {
	ctx := c.Request().Context()
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	p, err := s.Store.Page(ctx, id)
	if err != nil {
		return err
	}
	draft, err := s.Store.PageDraft(ctx, id)
	if err != nil {
		return err
	}
	cat, err := s.Store.Catalogue(ctx)
	if err != nil {
		return err
	}
	d := formData{Page: p, Doc: &draft.Doc.V, Stage: int(min(max(shell.Number(c.QueryParam("after")), 0), 99))}
	d.Draft = []stage{{0, "for the first time"}}
	rest := d.ladder()
	for n := 1; n <= rest; n++ {
		d.Draft = append(d.Draft, stage{n, fmt.Sprintf("after %d", n)})
	}
	d.Stage = min(d.Stage, rest)
	var known page.Known
	for range d.Stage {
		if known == nil {
			known = page.Known{}
		}
		for _, q := range d.Doc.Form.Asked(known) {
			known[q.Field] = "answered"
		}
	}
	d.Back = known != nil
	d.askedOf(known, cat.Define, func(string) string { return "" })
	return s.showForm(c, http.StatusOK, d)
}

// ladder is after how many visits nothing more is asked.
func (d *formData) ladder() int {
	further := 0
	for _, q := range d.Doc.Form.Questions {
		if q.Further {
			further++
		}
	}
	n := max(d.Doc.Form.AtOnce, 0)
	if n == 0 || further == 0 {
		return 1
	}
	visits := (further + n - 1) / n
	if d.Doc.Form.Later {
		visits++
	}
	return visits
}

// optionsFor are what a question offers to choose from.
func optionsFor(d *person.Definition, value string) []shell.Choice {
	list := d.Options
	if d.Type == person.YesNo {
		list = []string{"yes", "no"}
	}
	chosen := strings.Split(value, "; ")
	var out []shell.Choice
	for _, o := range list {
		out = append(out, shell.Choice{Value: o, Words: o, Chosen: slices.Contains(chosen, o)})
	}
	return out
}
