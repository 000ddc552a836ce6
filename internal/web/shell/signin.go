package shell

import (
	"crypto/rand"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/right"
	"ombak/internal/password"
	"ombak/internal/store"
)

// nobody is hashed against where an address is unknown, so that the answer
// takes as long.
var nobody = sync.OnceValue(func() string { return password.Hash(rand.Text()) })

type signInData struct {
	Email string
	Wrong string
	Faces []store.User
	Next  string
}

func (s *Shell) signInPage(c *echo.Context) error {
	return s.showSignIn(c, http.StatusOK, signInData{})
}

func (s *Shell) showSignIn(c *echo.Context, code int, d signInData) error {
	if s.Demo != nil {
		var err error
		if d.Faces, err = s.Demo.Faces(c.Request().Context()); err != nil {
			return err
		}
	}
	d.Next = LocalPath(c.FormValue("next"))
	return s.PageCode(c, code, "signin.html", "", "", "Sign in", d)
}

func (s *Shell) signIn(c *echo.Context) error {
	email, typed := strings.ToLower(strings.TrimSpace(c.FormValue("email"))), c.FormValue("password")
	from := Network(c.RealIP())
	// A stranger who guesses must not lock out whom the account belongs to: a browser from which they have signed in
	// before is counted by itself. All others together have a limit that a few of them do not reach.
	known := s.knownBrowser(c, email)
	limited := !s.Limits.Allow("sign-in", from, 10*time.Second, 10)
	if !known {
		limited = limited || !s.Limits.left("account", email, 10*time.Second, 60)
	}
	if limited {
		return s.showSignIn(c, http.StatusTooManyRequests,
			signInData{Email: email, Wrong: "Too many tries. Wait a minute, then try again."})
	}
	if len(typed) > 1000 {
		typed = ""
	}
	u, err := s.Store.UserByEmail(c.Request().Context(), email)
	if err != nil && !store.IsNotFound(err) {
		return err
	}
	hash := u.PasswordHash
	if err != nil {
		hash = nobody()
	}
	ok, herr := password.Matches(typed, hash)
	ok = ok && u.Left == nil
	if herr != nil {
		return herr
	}
	if err != nil || !ok {
		if !known {
			s.Limits.Allow("account", email, 10*time.Second, 60)
		}
		return s.showSignIn(c, http.StatusUnprocessableEntity,
			signInData{Email: email, Wrong: "The address or the password is not right."})
	}
	return s.Enter(c, u)
}

// signInAs signs in as one of the demo's people.
func (s *Shell) signInAs(c *echo.Context) error {
	if s.Demo == nil {
		return echo.ErrNotFound
	}
	faces, err := s.Demo.Faces(c.Request().Context())
	if err != nil {
		return err
	}
	for _, u := range faces {
		if strconv.FormatInt(u.ID, 10) == c.Param("id") {
			return s.Enter(c, u)
		}
	}
	return echo.ErrNotFound
}

// Enter signs somebody in.
func (s *Shell) Enter(c *echo.Context, u store.User) error {
	ctx := c.Request().Context()
	if err := s.Sessions.RenewToken(ctx); err != nil {
		return err
	}
	s.Sessions.Put(ctx, "user", u.ID)
	s.rememberBrowser(c, u)
	next := LocalPath(c.FormValue("next"))
	if next == "" {
		next = "/"
	}
	return c.Redirect(http.StatusSeeOther, next)
}

const knownCookie = "ombak_known"

// rememberBrowser notes in a browser that a user has signed in from it. It lets
// nobody in: it only tells their tries from a stranger's.
func (s *Shell) rememberBrowser(c *echo.Context, u store.User) {
	c.SetCookie(&http.Cookie{Name: knownCookie, Value: s.Engine.BrowserToken(u.Email), Path: "/sign-in",
		MaxAge: 180 * 24 * 3600, HttpOnly: true, Secure: s.Secure, SameSite: http.SameSiteLaxMode})
}

// knownBrowser reports whether the user with that address has signed in from
// this browser before. A token tries so often and no more, wherever it is.
func (s *Shell) knownBrowser(c *echo.Context, email string) bool {
	k, err := c.Cookie(knownCookie)
	return err == nil && s.Engine.IsBrowserToken(email, k.Value) && s.Limits.Allow("known", k.Value, 10*time.Second, 10)
}

// LocalPath lets a path of our own through and nothing else. Browsers drop
// tabs and line ends from an address, so none may stand in it.
func LocalPath(p string) string {
	if !strings.HasPrefix(p, "/") || strings.HasPrefix(p, "//") || len(p) > 2000 {
		return ""
	}
	for _, r := range p {
		if r == '\\' || r == utf8.RuneError || unicode.IsControl(r) {
			return ""
		}
	}
	if u, err := url.Parse(p); err != nil || u.Host != "" || u.Scheme != "" {
		return ""
	}
	return p
}

func (s *Shell) signOut(c *echo.Context) error {
	if err := s.Sessions.Destroy(c.Request().Context()); err != nil {
		return err
	}
	return c.Redirect(http.StatusSeeOther, "/sign-in")
}

// signedIn lets nobody through who is not, and knows who is.
func (s *Shell) signedIn(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		ctx := c.Request().Context()
		c.Response().Header().Set("Cache-Control", "no-store")
		c.Set("seen", s.events.mark()) // before anything is read: what changes from now on the page has to be told
		id := s.Sessions.GetInt64(ctx, "user")
		u, err := s.Store.User(ctx, id)
		if id == 0 || store.IsNotFound(err) || err == nil && u.Left != nil {
			if IsHTMX(c) || c.Request().Method != http.MethodGet {
				return echo.ErrUnauthorized
			}
			return c.Redirect(http.StatusSeeOther, "/sign-in?next="+c.Request().URL.EscapedPath())
		}
		if err != nil {
			return err
		}
		c.Set("user", u)
		if c.Request().Method == http.MethodGet {
			c.SetRequest(c.Request().WithContext(store.OneLook(ctx)))
		}
		return next(c)
	}
}

// Allow lets only some roles through.
func Allow(roles ...right.Role) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			if u := UserOf(c); !(View{User: u}).May(roles...) {
				return echo.ErrForbidden
			}
			return next(c)
		}
	}
}

// UserOf is who asks.
func UserOf(c *echo.Context) store.User {
	u, _ := c.Get("user").(store.User)
	return u
}

// IDOf reads a number of the address; what is none is nothing that is there.
func IDOf(c *echo.Context, name string) (int64, error) {
	id, err := strconv.ParseInt(c.Param(name), 10, 64)
	if err != nil || id < 1 {
		return 0, store.ErrNotFound
	}
	return id, nil
}
