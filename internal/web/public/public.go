package public

import (
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/engine/base"
	"ombak/internal/engine/forms"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// What readers and visitors reach without signing in.
func (s *Place) Routes(e *echo.Echo, in *echo.Group) {
	in.GET("/content/pages/:id/shown", s.pageShown)
	soon := s.Patiently()
	e.GET("/p/:slug", s.publicPage, soon)
	e.POST("/p/:slug", s.publicForm)
	e.GET("/p/:slug/form", s.embeddedForm, soon)
	e.POST("/p/:slug/form", s.embeddedForm)
	e.POST("/p/:slug/started", s.formStarted)
	e.GET("/f.js", s.formScript)
	e.GET("/g/:slug", s.publicFile, echo.WrapMiddleware(s.Sessions.LoadAndSave), s.withPass)
	e.GET("/v.js", s.visitScript)
	e.POST("/v", s.visited)
	session := echo.WrapMiddleware(s.Sessions.LoadAndSave)
	e.GET("/s/:id", s.shelfPage, soon, session, s.withPass)
	e.GET("/s/:id/file", s.shelfFile, session, s.withPass)
	e.GET("/e/:id", s.eventPage, soon)
	e.POST("/e/:id", s.answerEvent)
	e.GET("/e/:id/join", s.joinEvent)
	e.GET("/e/:id/event.ics", s.eventFile)
	e.GET("/b/:slug", s.bookPage, soon)
	e.POST("/b/:slug", s.book)
	e.GET("/b/m/:id/:signature", s.bookingPage, soon)
	e.POST("/b/m/:id/:signature", s.changeBooking)
	e.GET("/b/feed/:file", s.bookingFeed)
	e.GET("/l/:touch/:n/:signature", s.click)
	e.HEAD("/l/:touch/:n/:signature", s.click)
	e.GET("/o/:touch/:picture", s.pixel)
	e.GET("/h/:touch/:signature", s.trap)
	e.HEAD("/h/:touch/:signature", s.trap)
	e.GET("/u/:touch/:signature", s.optOutPage, soon)
	e.POST("/u/:touch/:signature", s.optOut)
}

// withPass lets whoever we gave an address with a pass come to it, and whoever
// works here. A page's file without one leads to the form before it.
func (s *Place) withPass(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		if s.Engine.Passes(c.Request().URL.Path, c.QueryParam(base.PassParam)) {
			return next(c)
		}
		ctx := c.Request().Context()
		if id := s.Sessions.GetInt64(ctx, "user"); id != 0 {
			if _, err := s.Store.User(ctx, id); err == nil {
				return next(c)
			} else if !store.IsNotFound(err) {
				return err
			}
		}
		if slug := c.Param("slug"); slug != "" {
			if _, err := s.published(c); err != nil {
				return err
			}
			return c.Redirect(http.StatusSeeOther, "/p/"+url.PathEscape(slug))
		}
		return store.ErrNotFound
	}
}

const ReaderCookie = "ombak_reader"

// know gives the reader's own browser a token, so that what they look at next
// is theirs.
func (s *Place) know(c *echo.Context, token string) {
	c.SetCookie(&http.Cookie{Name: ReaderCookie, Value: token, Path: "/", MaxAge: 180 * 24 * 3600,
		HttpOnly: true, Secure: s.Secure, SameSite: http.SameSiteLaxMode})
}

// browser is who sits there, by the name the browser has here or, where it
// comes from a site of our own, there.
func (s *Place) browser(c *echo.Context, visitor string) (forms.Browser, error) {
	token := ""
	if k, err := c.Cookie(ReaderCookie); err == nil {
		token = k.Value
	}
	return s.Engine.Browser(c.Request().Context(), token, visitor)
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
	for _, word := range []string{"bot", "crawler", "spider", "scanner", "preview", "prefetch", "monitor", "curl/",
		"wget/", "python-requests", "go-http-client"} {
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
func (s *Place) machineOrHaste(c *echo.Context, touch int64) string {
	if why := machine(c.Request()); why != "" {
		return why
	}
	if !s.Limits.Allow("email", fmt.Sprintf("%d %s", touch, shell.Network(c.RealIP())), 20*time.Second, 20) {
		return "fetched more often than a person does"
	}
	return ""
}

// looks reports whether a known reader's look at a page counts: not a machine's,
// and no more often than a person looks.
func (s *Place) looks(c *echo.Context, reader int64) bool {
	return reader != 0 && machine(c.Request()) == "" &&
		s.Limits.Allow("page", fmt.Sprintf("%d %s", reader, shell.Network(c.RealIP())), 20*time.Second, 20)
}

// published is the page at an address that visitors reach.
func (s *Place) published(c *echo.Context) (store.Page, error) {
	p, err := s.Store.PageBySlug(c.Request().Context(), c.Param("slug"))
	if err == nil && !p.Published {
		err = store.ErrNotFound
	}
	return p, err
}

// safeTypes are the kinds of file that a browser may show in place; all others
// are only saved.
var safeTypes = regexp.MustCompile(`^(application/pdf|text/plain; charset=utf-8|image/(png|jpeg|webp))$`)

func (s *Place) publicFile(c *echo.Context) error {
	p, err := s.published(c)
	if err != nil {
		return err
	}
	ctx := c.Request().Context()
	file, err := s.Store.PageFile(ctx, p.ID)
	if err != nil {
		return err
	}
	b, err := s.browser(c, "")
	if err != nil {
		return err
	}
	if s.looks(c, b.Person) {
		if err := s.Engine.Download(ctx, b.Person, p); err != nil {
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

func (s *Place) click(c *echo.Context) error {
	touch, err := shell.IDOf(c, "touch")
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
		s.know(c, s.Engine.ReaderToken(who))
	}
	c.Response().Header().Set("Cache-Control", "no-store")
	return c.Redirect(http.StatusFound, target)
}

// pixel is the smallest transparent GIF.
var pixel = []byte("GIF89a\x01\x00\x01\x00\x80\x00\x00\x00\x00\x00\xff\xff\xff!\xf9\x04\x01\x00\x00\x00\x00," +
	"\x00\x00\x00\x00\x01\x00\x01\x00\x00\x02\x02D\x01\x00;")

func (s *Place) pixel(c *echo.Context) error {
	touch, err := shell.IDOf(c, "touch")
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

// trap answers the link that no reader sees.
func (s *Place) trap(c *echo.Context) error {
	touch, err := shell.IDOf(c, "touch")
	if err != nil {
		return err
	}
	if !s.Limits.Allow("email", fmt.Sprintf("trap %d %s", touch, shell.Network(c.RealIP())), 20*time.Second, 5) {
		return c.NoContent(http.StatusNoContent)
	}
	if err := s.Engine.Trapped(c.Request().Context(), touch, c.Param("signature")); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

type optOutData struct {
	Email    string
	Done     bool
	Kept     bool
	Purposes []shell.Choice // what they can be written to for, and what they agreed to
}

func (s *Place) optOutPage(c *echo.Context) error { return s.showOptOut(c, false, false) }

// optOut takes a press on the page and the one-click POST of RFC 8058 alike:
// whoever does not say that they only choose wants no more mail at all.
func (s *Place) optOut(c *echo.Context) error {
	touch, err := shell.IDOf(c, "touch")
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
			agreed = append(agreed, shell.Number(p))
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

func (s *Place) showOptOut(c *echo.Context, done, kept bool) error {
	ctx := c.Request().Context()
	touch, err := shell.IDOf(c, "touch")
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
		c := shell.Choice{Value: strconv.FormatInt(x.ID, 10), Words: x.Name}
		for _, y := range said {
			c.Chosen = c.Chosen || y.PurposeID == x.ID && y.Current && y.Given
		}
		d.Purposes = append(d.Purposes, c)
	}
	return c.Render(http.StatusOK, "optout.html", shell.View{Title: "What you get from us", Data: d})
}
