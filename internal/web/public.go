package web

import (
	"fmt"
	"net/http"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/person"
	"ombak/internal/engine"
	"ombak/internal/store"
)

// What readers and visitors reach without signing in.
func (s *Server) publicRoutes(e *echo.Echo) {
	e.GET("/p/:slug", s.publicPage)
	e.POST("/p/:slug", s.publicForm)
	e.GET("/g/:slug", s.publicFile)
	e.GET("/v.js", s.visitScript)
	e.POST("/v", s.visited)
	e.GET("/s/:id", s.shelfPage)
	e.GET("/s/:id/file", s.shelfFile)
	e.GET("/l/:touch/:n/:signature", s.click)
	e.HEAD("/l/:touch/:n/:signature", s.click)
	e.GET("/o/:touch/:picture", s.pixel)
	e.GET("/u/:touch/:signature", s.optOutPage)
	e.POST("/u/:touch/:signature", s.optOut)
}

const readerCookie = "ombak_reader"

// know gives the reader's own browser their name, so that what they look at
// next is theirs.
func (s *Server) know(c *echo.Context, person int64) {
	c.SetCookie(&http.Cookie{Name: readerCookie, Value: s.Engine.ReaderToken(person), Path: "/", MaxAge: 180 * 24 * 3600,
		HttpOnly: true, Secure: s.Secure, SameSite: http.SameSiteLaxMode})
}

func (s *Server) reader(c *echo.Context) int64 {
	k, err := c.Cookie(readerCookie)
	if err != nil {
		return 0
	}
	return s.Engine.Reader(k.Value)
}

// machine tells why a request is no person's, empty where it may be one's.
func machine(r *http.Request) string {
	ua := strings.ToLower(r.UserAgent())
	switch {
	case r.Method == http.MethodHead:
		return "only asked whether the address answers"
	case ua == "":
		return "names no browser"
	}
	for _, word := range []string{"bot", "crawler", "spider", "scanner", "preview", "prefetch", "monitor", "curl/", "wget/", "python-requests", "go-http-client"} {
		if strings.Contains(ua, word) {
			return "names itself a machine: " + strings.Trim(word, "/")
		}
	}
	if p := strings.ToLower(r.Header.Get("Purpose") + r.Header.Get("Sec-Purpose")); strings.Contains(p, "prefetch") {
		return "fetched before anybody pressed it"
	}
	return ""
}

// machineOrHaste is machine, and sees too when the same email's links and
// picture are fetched from one place more often than a person does.
func (s *Server) machineOrHaste(c *echo.Context, touch int64) string {
	if why := machine(c.Request()); why != "" {
		return why
	}
	if !s.limits.allow("email", fmt.Sprintf("%d %s", touch, c.RealIP()), 20*time.Second, 20) {
		return "fetched more often than a person does"
	}
	return ""
}

// looks tells whose look at a page counts: a known reader's, not a machine's,
// and no more often than a person looks. 0 is nobody's.
func (s *Server) looks(c *echo.Context) (int64, error) {
	id := s.reader(c)
	if id == 0 || machine(c.Request()) != "" || !s.limits.allow("page", fmt.Sprintf("%d %s", id, c.RealIP()), 20*time.Second, 20) {
		return 0, nil
	}
	_, err := s.Store.Person(c.Request().Context(), id)
	if store.IsNotFound(err) {
		return 0, nil
	}
	return id, err
}

type formData struct {
	Page   store.Page
	Values map[string]string
	Wrong  map[string]string
	View   string
	From   string // the browser, where it came from a site of our own
	Done   bool
}

func (s *Server) publicPage(c *echo.Context) error {
	p, err := s.published(c)
	if err != nil {
		return err
	}
	d := formData{Page: p, View: s.Engine.ViewToken(p.ID), From: c.QueryParam(engine.VisitorParam)}
	id, err := s.looks(c)
	if err != nil {
		return err
	}
	if id != 0 {
		if err := s.Engine.View(c.Request().Context(), id, p); err != nil {
			return err
		}
		d.View = "" // counted already: a form filled in must not count it again
	}
	return s.showForm(c, http.StatusOK, d)
}

func (s *Server) published(c *echo.Context) (store.Page, error) {
	p, err := s.Store.PageBySlug(c.Request().Context(), c.Param("slug"))
	if err == nil && !p.Published {
		err = store.ErrNotFound
	}
	return p, err
}

func (s *Server) showForm(c *echo.Context, code int, d formData) error {
	return c.Render(code, "public.html", View{Title: d.Page.Title, Data: d, Zone: s.Engine.Zone, Now: s.Engine.Now()})
}

// formFields are what the form asks, with what a visitor is told where one is
// missing.
var formFields = []struct{ name, ask string }{
	{"first", "Please give your first name."}, {"last", "Please give your last name."}, {"company", "Please give your company."},
}

func (s *Server) publicForm(c *echo.Context) error {
	p, err := s.published(c)
	if err != nil {
		return err
	}
	d := formData{Page: p, Values: map[string]string{}, Wrong: map[string]string{}, View: c.FormValue("view"), From: c.FormValue("visitor")}
	for _, f := range append(formFields, struct{ name, ask string }{name: "email"}) {
		d.Values[f.name] = c.FormValue(f.name)
		if len(d.Values[f.name]) > 300 {
			d.Values[f.name] = person.Name(d.Values[f.name])
			d.Wrong[f.name] = fmt.Sprintf("This is too long: at most %d letters.", person.MaxName)
		}
	}
	if !s.limits.allow("form", c.RealIP(), 5*time.Second, 30) {
		d.Wrong["form"] = "Too many forms came from your network. Please wait a minute and press the button again; nothing you typed is lost."
		return s.showForm(c, http.StatusTooManyRequests, d)
	}
	for _, f := range formFields {
		if d.Wrong[f.name] == "" && person.Name(d.Values[f.name]) == "" {
			d.Wrong[f.name] = f.ask
		}
	}
	email, err := person.Email(d.Values["email"])
	switch {
	case strings.TrimSpace(d.Values["email"]) == "":
		d.Wrong["email"] = "Please give your work email: the guide comes there."
	case err != nil:
		d.Wrong["email"] = "This does not look like an email address. It should read like name@company.example."
	}
	if len(d.Wrong) > 0 {
		return s.showForm(c, http.StatusUnprocessableEntity, d)
	}
	if c.FormValue("website") != "" { // a field that no person sees
		d.Done = true
		return s.showForm(c, http.StatusOK, d)
	}
	id, err := s.Engine.FormFilled(c.Request().Context(), p, d.View, store.NewPerson{
		First: person.Name(d.Values["first"]), Last: person.Name(d.Values["last"]), Email: email,
		Company: person.Name(d.Values["company"]), Domain: person.CompanyDomain(email), Source: "page " + p.Slug,
	})
	if err != nil {
		return err
	}
	if err := s.Engine.KnowVisitor(c.Request().Context(), d.From, id); err != nil {
		return err
	}
	s.know(c, id)
	d.Done = true
	return s.showForm(c, http.StatusOK, d)
}

// safeTypes are the kinds of file that a browser may show in place; all others
// are only saved.
var safeTypes = regexp.MustCompile(`^(application/pdf|text/plain; charset=utf-8|image/(png|jpeg|webp))$`)

func (s *Server) publicFile(c *echo.Context) error {
	p, err := s.published(c)
	if err != nil {
		return err
	}
	ctx := c.Request().Context()
	file, err := s.Store.PageFile(ctx, p.ID)
	if err != nil {
		return err
	}
	id, err := s.looks(c)
	if err != nil {
		return err
	}
	if id != 0 {
		if err := s.Engine.Download(ctx, id, p); err != nil {
			return err
		}
	}
	how := "attachment"
	if safeTypes.MatchString(p.FileType) {
		how = "inline"
	}
	h := c.Response().Header()
	h.Set("Content-Disposition", how+`; filename="`+strings.Map(func(r rune) rune {
		if r < ' ' || r == '"' || r == '\\' || r > '~' {
			return '-'
		}
		return r
	}, p.FileName)+`"`)
	h.Set("Content-Security-Policy", "sandbox; default-src 'none'")
	return c.Blob(http.StatusOK, p.FileType, file)
}

func (s *Server) click(c *echo.Context) error {
	touch, err := idOf(c, "touch")
	if err != nil {
		return err
	}
	n, err := strconv.Atoi(c.Param("n"))
	if err != nil {
		return store.ErrNotFound
	}
	why := s.machineOrHaste(c, touch)
	target, who, err := s.Engine.Click(c.Request().Context(), touch, n, c.Param("signature"), why)
	if err != nil {
		return err
	}
	if why == "" {
		s.know(c, who)
	}
	c.Response().Header().Set("Cache-Control", "no-store")
	return c.Redirect(http.StatusFound, target)
}

// pixel is the smallest transparent GIF.
var pixel = []byte("GIF89a\x01\x00\x01\x00\x80\x00\x00\x00\x00\x00\xff\xff\xff!\xf9\x04\x01\x00\x00\x00\x00,\x00\x00\x00\x00\x01\x00\x01\x00\x00\x02\x02D\x01\x00;")

func (s *Server) pixel(c *echo.Context) error {
	touch, err := idOf(c, "touch")
	if err != nil {
		return err
	}
	signature, ok := strings.CutSuffix(c.Param("picture"), ".gif")
	if !ok {
		return store.ErrNotFound
	}
	if err := s.Engine.Open(c.Request().Context(), touch, signature, s.machineOrHaste(c, touch)); err != nil {
		return err
	}
	c.Response().Header().Set("Cache-Control", "no-store")
	c.Response().Header().Set("Cross-Origin-Resource-Policy", "cross-origin") // mail readers on the web show it
	return c.Blob(http.StatusOK, "image/gif", pixel)
}

type optOutData struct {
	Email    string
	Done     bool
	Kept     bool
	Purposes []choice // what they can be written to for, and what they agreed to
}

func (s *Server) optOutPage(c *echo.Context) error { return s.showOptOut(c, false, false) }

// optOut takes a press on the page and the one-click POST of RFC 8058 alike:
// whoever does not say that they only choose wants no more mail at all.
func (s *Server) optOut(c *echo.Context) error {
	touch, err := idOf(c, "touch")
	if err != nil {
		return err
	}
	ctx := c.Request().Context()
	if c.FormValue("do") == "choose" {
		v, err := c.FormValues()
		if err != nil {
			return err
		}
		var agreed []int64
		for _, p := range v["purpose"] {
			agreed = append(agreed, number(p))
		}
		if err := s.Engine.Choose(ctx, touch, c.Param("signature"), agreed); err != nil {
			return err
		}
		return s.showOptOut(c, false, true)
	}
	if err := s.Engine.OptOut(ctx, touch, c.Param("signature")); err != nil {
		return err
	}
	return s.showOptOut(c, true, false)
}

func (s *Server) showOptOut(c *echo.Context, done, kept bool) error {
	ctx := c.Request().Context()
	touch, err := idOf(c, "touch")
	if err != nil {
		return err
	}
	l, err := s.Engine.CanOptOut(ctx, touch, c.Param("signature"))
	if err != nil {
		return err
	}
	p, err := s.Store.Person(ctx, l.Person)
	if err != nil {
		return err
	}
	d := optOutData{Email: p.Email, Done: done || p.OptedOut != nil, Kept: kept}
	purposes, err := s.Store.Purposes(ctx)
	if err != nil {
		return err
	}
	said, err := s.Store.PersonConsents(ctx, l.Person)
	if err != nil {
		return err
	}
	for _, x := range purposes {
		c := choice{Value: strconv.FormatInt(x.ID, 10), Words: x.Name}
		for _, y := range said {
			c.Chosen = c.Chosen || y.PurposeID == x.ID && y.Current && y.Given
		}
		d.Purposes = append(d.Purposes, c)
	}
	return c.Render(http.StatusOK, "optout.html", View{Title: "What you get from us", Data: d})
}
