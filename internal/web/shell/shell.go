package shell

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/alexedwards/scs/postgresstore"
	"github.com/alexedwards/scs/v2"
	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"ombak/internal/core/rule"
	"ombak/internal/core/shelf"
	"ombak/internal/engine"
	"ombak/internal/engine/base"
	"ombak/internal/roster"
	"ombak/internal/store"
	"ombak/internal/web/assets"
)

// Demo is what the demo adds to the interface; nil elsewhere.
type Demo interface {
	// Faces are the people one press signs in as.
	Faces(ctx context.Context) ([]store.User, error)
	// Move moves the clock forward: by "hour", "day" or "week", or to the "next"
	// thing due. It returns at once; Moving tells how far it is.
	Move(how string) error
	Moving() (target time.Time, ok bool)
	Stop()
	// Mailbox is the address of the stand-in's mailbox.
	Mailbox() string
	// Website is the address of the company's own site.
	Website() string
}

// Config is what the interface works with.
type Config struct {
	Store  *store.Store
	Engine *engine.Engine
	Demo   Demo
	Secure bool // reached over HTTPS: cookies say so, and browsers are told to stay there

	// Proxies are the networks of proxies before us: what they say of who asks is believed, and nobody else.
	Proxies []netip.Prefix

	// Patience is how long a page may take; 0: half a minute.
	Patience time.Duration
}

// Shell is what all places stand on.
type Shell struct {
	Config
	Sessions *scs.SessionManager
	Limits   *limits
	events   *events
	metrics  *prometheus.Registry
	values   base.KeptBy[rule.Field, []string] // that a field has
}

// New makes the server; ctx ends its background work.
func New(ctx context.Context, c Config) *Shell {
	s := &Shell{Config: c, Limits: newLimits(), events: newEvents(), metrics: prometheus.NewRegistry()}
	s.Sessions = scs.New()
	s.Sessions.Store = postgresstore.NewWithCleanupInterval(c.Store.DB(), 30*time.Minute)
	s.Sessions.Lifetime = 12 * time.Hour
	s.Sessions.Cookie.Name = "ombak"
	s.Sessions.Cookie.HttpOnly = true
	s.Sessions.Cookie.SameSite = http.SameSiteLaxMode
	s.Sessions.Cookie.Secure = c.Secure
	go c.Store.Listen(ctx, s.events.tell)
	s.measure()
	return s
}

// Metrics answers the figures of this process, for a listener of their own.
func (s *Shell) Metrics() http.Handler {
	return promhttp.HandlerFor(s.metrics, promhttp.HandlerOpts{DisableCompression: true})
}

// whoAsks tells from where a request comes: from whoever reaches us, or from
// whom the nearest proxy that is not ours has seen (X-Forwarded-For, read from
// its end).
func whoAsks(proxies []netip.Prefix) echo.IPExtractor {
	if len(proxies) == 0 {
		return echo.ExtractIPDirect()
	}
	trust := []echo.TrustOption{echo.TrustLoopback(false), echo.TrustLinkLocal(false), echo.TrustPrivateNet(false)}
	for _, p := range proxies {
		p = p.Masked()
		trust = append(trust, echo.TrustIPRange(&net.IPNet{
			IP: p.Addr().AsSlice(), Mask: net.CIDRMask(p.Bits(), p.Addr().BitLen()),
		}))
	}
	return echo.ExtractIPFromXFFHeader(trust...)
}

// bodyLimit bounds what a request can send: a list that is brought in can be
// large and is never in memory as a whole.
func bodyLimit(next echo.HandlerFunc) echo.HandlerFunc {
	public, small, large, file := middleware.BodyLimit(maxPublic)(next), middleware.BodyLimit(MaxBody)(next),
		middleware.BodyLimit(MaxUpload)(next), middleware.BodyLimit(maxShelf)(next)
	return func(c *echo.Context) error {
		switch path := c.Request().URL.Path; {
		case path == "/v" || strings.HasPrefix(path, "/p/") || strings.HasPrefix(path, "/u/") ||
			strings.HasPrefix(path, "/b/"):
			return public(c)
		case path == "/people/imports":
			return large(c)
		case path == "/content/upload" || strings.HasPrefix(path, "/content/shelf/"):
			return file(c)
		}
		return small(c)
	}
}

// secure sets the headers that keep a page to itself. Scripts come from our
// own files alone; nothing inline runs.
func (s *Shell) secure(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		h := c.Response().Header()
		if s.Secure { // RFC 6797
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		h.Set("Content-Security-Policy",
			"default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src "+
				"'self'; connect-src 'self'; frame-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors "+
				"'self'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("X-Frame-Options", "SAMEORIGIN")
		h.Set("Referrer-Policy", "same-origin")
		h.Set("Permissions-Policy", "camera=(), microphone=(), geolocation=()")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		return next(c)
	}
}

func (s *Shell) csrf() echo.MiddlewareFunc {
	return middleware.CSRFWithConfig(middleware.CSRFConfig{
		TokenLookup: "header:X-CSRF-Token,form:_csrf", CookieName: "ombak_csrf", CookiePath: "/", CookieHTTPOnly: true,
		CookieSecure: s.Secure, CookieSameSite: http.SameSiteLaxMode,
	})
}

func (s *Shell) ready(c *echo.Context) error {
	ctx, cancel := context.WithTimeout(c.Request().Context(), 2*time.Second)
	defer cancel()
	if err := s.Store.Ping(ctx); err != nil {
		slog.Error("not ready", "error", err)
		return c.String(http.StatusServiceUnavailable, "the database does not answer\n")
	}
	return c.String(http.StatusOK, "ready\n")
}

// Patiently ends what a page asks of the database where that takes too long:
// nobody waits for it any more, and it keeps others waiting. What is written as a
// file, or told as it happens, takes its time.
func (s *Shell) Patiently() echo.MiddlewareFunc {
	return middleware.ContextTimeoutWithConfig(middleware.ContextTimeoutConfig{
		Timeout: cmp.Or(s.Patience, pagePatience),
		Skipper: func(c *echo.Context) bool {
			path := c.Request().URL.Path
			return c.Request().Method != http.MethodGet || path == "/events" || strings.HasSuffix(path, "/export") ||
				strings.HasSuffix(path, "/everything") || strings.HasSuffix(path, ".csv") ||
				strings.HasSuffix(path, "/file")
		},
	})
}

// pagePatience is how long a page may take.
const pagePatience = 30 * time.Second

// failed answers an error: a page that says what happened, what was kept and
// what to do, and no more of the inside than that.
func (s *Shell) failed(c *echo.Context, err error) {
	if r, ok := c.Response().(*echo.Response); ok && r.Committed {
		return
	}
	code := http.StatusInternalServerError
	switch {
	case errors.Is(err, store.ErrNotFound):
		code = http.StatusNotFound
	case errors.Is(err, context.Canceled):
		return // nobody is there any more
	case store.IsBadValue(err):
		code = http.StatusBadRequest
	default:
		if x := echo.StatusCode(err); x != 0 {
			code = x
		}
	}
	number := ""
	if code >= 500 {
		number = base.Noted(fmt.Errorf("%s %s: %w", c.Request().Method, c.Request().URL.Path, err))
	}
	text := map[int][2]string{
		http.StatusNotFound: {"There is nothing here",
			"The address may be old or mistyped. Nothing was changed."},
		http.StatusForbidden: {"This is not yours to do",
			"Your role does not allow it, or the page was open for too long. Nothing was changed; go back and try " +
				"again, or ask an admin."},
		http.StatusTooManyRequests: {"Too many tries", "Wait a minute, then try again."},
		http.StatusRequestEntityTooLarge: {"That is too large",
			"A page’s file can have up to 10 MB. Nothing was changed."},
		http.StatusMethodNotAllowed: {"There is nothing here",
			"The address may be old or mistyped. Nothing was changed."},
		http.StatusServiceUnavailable: {"This takes too long",
			"There is so much that it could not be read in time. Nothing was changed. Ask for less of it, or try " +
				"again in a while."},
		http.StatusBadRequest: {"That could not be read",
			"Something in the form was not as it should be. Nothing was changed."},
	}[code]
	if text[0] == "" {
		text = [2]string{"Something went wrong",
			"Nothing was changed. Try again; if it happens again, tell whoever looks after Ombak" +
				Either(number != "", ": it is noted as "+number, "") + "."}
	}
	if rerr := c.Render(code, "error.html", View{Title: text[0], Data: text, Scheme: schemeOf(c)}); rerr != nil {
		slog.Error("showing an error", "error", rerr)
	}
}

// MaxUpload bounds a list that is brought in.
const MaxUpload = roster.MaxFile + 1<<20

// maxShelf bounds a request that puts a file on the shelf.
const maxShelf = shelf.MaxFile + 1<<20

// maxBody bounds a request's body: a file of the shelf or of a page is the largest.
// maxPublic bounds what anybody can send.
const (
	MaxBody   = 12 << 20
	maxPublic = 256 << 10
)

// Frame readies a router with what all pages share, and the groups of routes that are
// open to whoever comes and to those signed in.
func (s *Shell) Frame() (e *echo.Echo, open, in *echo.Group) {
	e = echo.New()
	e.Logger = slog.Default()
	e.HTTPErrorHandler = s.failed
	e.Renderer = renderer{}
	e.IPExtractor = whoAsks(s.Proxies)
	e.Use(s.counted, middleware.Recover(), s.secure, bodyLimit, readable, middleware.Gzip())

	e.GET("/healthz", func(c *echo.Context) error { return c.String(http.StatusOK, "ok\n") })
	e.GET("/readyz", s.ready)
	dist, err := fs.Sub(assets.Files, "dist")
	if err != nil {
		panic(err) // the folder is embedded above
	}
	files := http.StripPrefix("/assets/", http.FileServerFS(dist))
	e.GET("/assets/*", func(c *echo.Context) error {
		if c.QueryParam("v") != "" || strings.HasSuffix(c.Request().URL.Path, ".woff2") {
			c.Response().Header().Set("Cache-Control", "public, max-age=31536000, immutable")
		} else {
			c.Response().Header().Set("Cache-Control", "no-cache")
		}
		files.ServeHTTP(c.Response(), c.Request())
		return nil
	})

	open = e.Group("", echo.WrapMiddleware(s.Sessions.LoadAndSave), s.csrf(), s.Patiently())
	open.GET("/sign-in", s.signInPage)
	open.POST("/sign-in", s.signIn)
	open.POST("/sign-in/:id", s.signInAs)
	open.POST("/sign-out", s.signOut)

	in = open.Group("", s.signedIn)
	in.GET("/find", s.find)
	in.GET("/events", s.eventStream)
	in.POST("/scheme", s.scheme)
	in.POST("/clock", s.moveClock)
	in.POST("/clock/stop", s.stopClock)
	in.GET("/clock", s.clockChip)
	in.GET("/people/values", s.ruleValues)
	return e, open, in
}

// Lately answers what is counted over everybody: where there are many people, as it was at most a minute before
// somebody last asked. The page says so, under its foot.
func Lately[K comparable, T any](
	ctx context.Context, s *Shell, kept *base.KeptBy[K, T], key K, count func(context.Context) (T, error),
) (T, error) {
	return base.Lately(ctx, s.Engine.Base, kept, key, count)
}
